//! A shelf of a test's own, and rows put on it.

use crate::model::{Clock, Columns, Field, Made, Micros, Provenance, Scale};
use crate::store::{Origin, Shelf};

/// An empty shelf; its folder lasts as long as the first of both.
pub fn empty_shelf() -> (tempfile::TempDir, Shelf) {
    let dir = tempfile::tempdir().unwrap();
    let shelf = Shelf::open_to_write(dir.path()).unwrap();
    (dir, shelf)
}

/// Puts rows on a shelf, in UTC, as the whole of a series.
pub fn put_rows(shelf: &mut Shelf, name: &str, rows: Columns) {
    let provenance = Provenance::of(Made::Unknown);
    let (fields, scale) = (rows.fields.clone(), rows.scale);
    let origin = Origin { provenance, clock: Some(Clock::utc()), fields, scale };
    let mut draft = shelf.draft(&name.parse().unwrap(), origin).unwrap();
    draft.push(rows).unwrap();
    draft.commit().unwrap();
}

/// Columns of rows that are written one by one.
pub fn columns(fields: &[Field], decimals: u8, rows: &[(Micros, Vec<i64>)]) -> Columns {
    let mut columns = Columns::empty(fields, Scale { price: decimals, volume: 0 });
    for (time, values) in rows {
        columns.time.push(*time);
        columns.data.iter_mut().zip(values).for_each(|(column, value)| column.push(*value));
    }
    columns
}
