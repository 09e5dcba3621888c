//! What every part of the catalog is written and read with.

use rusqlite::{Connection, OptionalExtension, params};

use crate::Result;
use crate::model::Micros;

/// A new line of the journal; gives its id.
pub fn journal_line(db: &Connection, series: &str, step: &str, text: &str) -> Result<i64> {
    let line = params![now(), series, step, text];
    db.execute("INSERT INTO journal (made, series, step, text) VALUES (?1, ?2, ?3, ?4)", line)?;
    Ok(db.last_insert_rowid())
}

/// The time at which something is made.
pub fn now() -> Micros {
    jiff::Timestamp::now().as_microsecond()
}

/// True where a table is there that is made only when it is needed.
pub fn has_table(db: &Connection, name: &str) -> Result<bool> {
    let query = "SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = ?1";
    Ok(maybe::<i64>(db, query, [name])?.is_some())
}

/// One value or none, where a row may be missing.
pub fn maybe<T: rusqlite::types::FromSql>(
    db: &Connection,
    query: &str,
    values: impl rusqlite::Params,
) -> Result<Option<T>> {
    Ok(db.query_row(query, values, |r| r.get(0)).optional()?)
}
