//! Series, their editions and segments, as the catalog has them.

use std::collections::{HashMap, HashSet};

use rusqlite::{Connection, OptionalExtension, Row, params};

use super::days::RowsByDay;
use super::home::folder_of;
use super::sql::maybe;
use crate::model::columns::shape_of;
use crate::model::{Clock, Field, Micros, Provenance, Scale, SeriesName, Shape};
use crate::{Advice, Error, Result};

/// A series and its current edition.
#[derive(Debug, Clone)]
pub struct SeriesInfo {
    /// Its number in the catalog.
    pub id: i64,
    /// Its name.
    pub name: SeriesName,
    /// Its current edition.
    pub edition: EditionInfo,
}

impl SeriesInfo {
    /// True while nobody has said what its clock is.
    pub fn is_afloat(&self) -> bool {
        self.edition.clock.is_none()
    }

    /// # Errors
    /// Where its bars were counted, of which a stage (`act` says what it does) can make nothing: they know no time of
    /// their own.
    pub fn refuse_counted(&self, act: &str) -> Result<()> {
        if !self.name.frame.is_counted() {
            return Ok(());
        }
        Err(Error::input(format!(
            "{} has bars of ticks, volume or range, which know no time of their own and cannot be {act}; take the ticks they are made of, or bars of minutes.",
            self.name
        )))
    }

    /// # Errors
    /// Where it has layers, of which a stage (`act` says what it does) can make nothing.
    pub fn refuse_layers(&self, act: &str) -> Result<()> {
        match shape_of(&self.edition.fields) {
            Shape::Layered => Err(Error::input(format!(
                "{} has layers of ticks and minutes, which cannot be {act}; build frames of it (stavel frames) and take those.",
                self.name
            ))),
            _ => Ok(()),
        }
    }
}

/// One state of a series.
#[derive(Debug, Clone)]
pub struct EditionInfo {
    /// Of all editions of the shelf; never given twice.
    pub id: i64,
    /// Counted within the series from 1.
    pub number: i64,
    /// The edition it was made from.
    pub before: Option<i64>,
    /// What made it, and what that read.
    pub provenance: Provenance,
    /// When it was made, UTC.
    pub made: Micros,
    /// The clock the times were written in; none while afloat.
    pub clock: Option<Clock>,
    /// Decimals of prices and volumes.
    pub scale: Scale,
    /// The columns beside the time.
    pub fields: Vec<Field>,
    /// Rows in it.
    pub rows: u64,
    /// The time of its first row; as written while it is afloat.
    pub first: Micros,
    /// The time of its last row; as written while it is afloat.
    pub last: Micros,
    /// Bytes of its files.
    pub bytes: u64,
}

/// How values stand in a segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SegmentFormat {
    /// Of catalog versions 1 and 2: no nulls, and a spread that is not known is 0.
    Zeros,
    /// An absent value is null.
    Nulls,
}

impl SegmentFormat {
    fn number(self) -> i64 {
        if self == SegmentFormat::Zeros { 2 } else { 3 }
    }
}

/// A segment as the catalog knows it.
#[derive(Debug, Clone)]
pub struct SegmentInfo {
    /// Its number in the catalog.
    pub id: i64,
    /// Relative to one of the folders of the shelf; see [`super::home::Home`].
    pub path: String,
    /// Rows in it.
    pub rows: u64,
    /// The time of its first row.
    pub first: Micros,
    /// The time of its last row.
    pub last: Micros,
    /// Its length.
    pub bytes: u64,
    /// Of the file, as [`super::segment::WrittenFile`] has it; none for files of a first catalog.
    pub hash: Option<String>,
    /// Rows by day.
    pub days: RowsByDay,
    /// How absent values are written in it.
    pub format: SegmentFormat,
}

const EDITION_COLUMNS: &str = "e.id, e.number, e.before, e.provenance, e.made, e.clock, e.price_decimals,
    e.volume_decimals, e.fields, e.rows, e.first, e.last, e.bytes";

/// An edition as its row says it; a row that cannot be understood is an error, never a default.
fn edition_of(row: &Row<'_>) -> Result<EditionInfo> {
    let id: i64 = row.get(0)?;
    let damaged = |what: &str, text: &str| {
        Error::storage(format!(
            "Edition {id} in the catalog has a {what} that cannot be read ('{text}'); have the catalog made anew from the data files."
        )).advise(Advice::RebuildCatalog)
    };
    let (provenance, clock): (String, Option<String>) = (row.get(3)?, row.get(5)?);
    let fields: String = row.get(8)?;
    let named = |f: &str| Field::named(f).ok_or_else(|| damaged("column", f));
    Ok(EditionInfo {
        id,
        number: row.get(1)?,
        before: row.get(2)?,
        provenance: serde_json::from_str(&provenance).map_err(|_| damaged("provenance", &provenance))?,
        made: row.get(4)?,
        clock: clock.map(|c| c.parse().map_err(|_| damaged("clock", &c))).transpose()?,
        scale: Scale { price: row.get(6)?, volume: row.get(7)? },
        fields: fields.split(',').filter(|f| !f.is_empty()).map(named).collect::<Result<_>>()?,
        rows: row.get::<_, i64>(9)? as u64,
        first: row.get(10)?,
        last: row.get(11)?,
        bytes: row.get::<_, i64>(12)? as u64,
    })
}

/// A series' row: its id and its name as stored, where bars that were built are always marked so.
fn name_of(row: &Row<'_>, at: usize) -> Result<SeriesName> {
    let text = |i: usize| row.get::<_, String>(at + i);
    let name: SeriesName = format!("{}@{}:{}", text(0)?, text(1)?, text(2)?)
        .parse()
        .map_err(|e| Error::storage(format!("The catalog has a series whose name cannot be read: {e}")))?;
    Ok(name.with_built(row.get(at + 3)?))
}

fn select(db: &Connection, filter: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<SeriesInfo>> {
    let mut query = db.prepare(&format!(
        "SELECT {EDITION_COLUMNS}, s.id, s.instrument, s.source, s.frame, s.built
         FROM series s JOIN edition e ON e.id = s.current {filter} ORDER BY s.instrument, s.source, s.frame, s.built"
    ))?;
    let mut rows = query.query(values)?;
    let mut all = Vec::new();
    while let Some(row) = rows.next()? {
        all.push(SeriesInfo { id: row.get(13)?, name: name_of(row, 14)?, edition: edition_of(row)? });
    }
    Ok(all)
}

/// Bars that were built go without the mark where the source has none of its own at that frame.
fn shorten(mut all: Vec<SeriesInfo>) -> Vec<SeriesInfo> {
    let own: HashSet<SeriesName> = all.iter().filter(|s| !s.name.built).map(|s| s.name.clone()).collect();
    for s in &mut all {
        s.name.built = s.name.built && own.contains(&s.name.with_built(false));
    }
    all
}

pub fn all_series(db: &Connection) -> Result<Vec<SeriesInfo>> {
    let mut all = shorten(select(db, "", &[])?);
    all.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(all)
}

pub fn series_of_instrument(db: &Connection, instrument: &str) -> Result<Vec<SeriesInfo>> {
    Ok(shorten(select(db, "WHERE s.instrument = ?1", &[&instrument])?))
}

/// The series a name means: one marked as built is that one; else the source's own, and where there is none
/// the one that was built.
pub fn one_series(db: &Connection, name: &SeriesName) -> Result<Option<SeriesInfo>> {
    let filter = "WHERE s.instrument = ?1 AND s.source = ?2 AND s.frame = ?3";
    let mut both = shorten(select(db, filter, &[&name.instrument, &name.source, &name.frame_and_side()])?);
    match both.as_slice() {
        [one] if name.built && !is_built(db, one.id)? => Ok(None),
        [_] => Ok(both.pop()),
        _ => Ok(both.into_iter().find(|s| s.name.built == name.built)),
    }
}

/// The source's own series of a name, or the one that was built, and not the other.
pub fn exactly(db: &Connection, name: &SeriesName, built: bool) -> Result<Option<SeriesInfo>> {
    let filter = "WHERE s.instrument = ?1 AND s.source = ?2 AND s.frame = ?3 AND s.built = ?4";
    let frame = name.frame_and_side();
    Ok(select(db, filter, &[&name.instrument, &name.source, &frame, &built])?.pop())
}

fn is_built(db: &Connection, series: i64) -> Result<bool> {
    Ok(db.query_row("SELECT built FROM series WHERE id = ?1", [series], |r| r.get(0))?)
}

/// The id of the series of a name, on the shelf or not.
pub fn series_id(db: &Connection, name: &SeriesName, built: bool) -> Result<Option<i64>> {
    let key = params![name.instrument, name.source, name.frame_and_side(), built];
    maybe(
        db,
        "SELECT id FROM series WHERE instrument = ?1 AND source = ?2 AND frame = ?3 AND built = ?4",
        key,
    )
}

/// The name a series is stored under, with the mark of bars that were built.
pub fn stored_name(db: &Connection, series: i64) -> Result<SeriesName> {
    let mut query = db.prepare("SELECT instrument, source, frame, built FROM series WHERE id = ?1")?;
    let mut rows = query.query([series])?;
    match rows.next()? {
        Some(row) => name_of(row, 0),
        None => Err(Error::storage(format!("The catalog has no series {series}."))),
    }
}

pub fn series_ids(db: &Connection) -> Result<Vec<i64>> {
    let mut query = db.prepare("SELECT id FROM series")?;
    let ids = query.query_map([], |r| r.get(0))?;
    Ok(ids.collect::<rusqlite::Result<_>>()?)
}

/// All editions of a series, newest first.
pub fn editions(db: &Connection, series: i64) -> Result<Vec<EditionInfo>> {
    let mut query = db.prepare(&format!(
        "SELECT {EDITION_COLUMNS} FROM edition e WHERE e.series = ?1 ORDER BY e.number DESC"
    ))?;
    let mut rows = query.query([series])?;
    let mut all = Vec::new();
    while let Some(row) = rows.next()? {
        all.push(edition_of(row)?);
    }
    Ok(all)
}

/// One edition and the id of its series.
pub fn edition(db: &Connection, id: i64) -> Result<Option<(i64, EditionInfo)>> {
    let mut query =
        db.prepare(&format!("SELECT {EDITION_COLUMNS}, e.series FROM edition e WHERE e.id = ?1"))?;
    let mut rows = query.query([id])?;
    rows.next()?.map(|row| Ok((row.get(13)?, edition_of(row)?))).transpose()
}

/// The number the next edition of a series gets.
pub fn next_number(db: &Connection, name: &SeriesName, built: bool) -> Result<i64> {
    let key = params![name.instrument, name.source, name.frame_and_side(), built];
    let query =
        "SELECT numbered + 1 FROM series WHERE instrument = ?1 AND source = ?2 AND frame = ?3 AND built = ?4";
    Ok(maybe(db, query, key)?.unwrap_or(1))
}

const SEGMENT_COLUMNS: &str = "g.id, g.path, g.rows, g.first, g.last, g.bytes, g.hash, g.days, g.format";

fn segment_of(r: &Row<'_>) -> rusqlite::Result<SegmentInfo> {
    Ok(SegmentInfo {
        id: r.get(0)?,
        path: r.get(1)?,
        rows: r.get::<_, i64>(2)? as u64,
        first: r.get(3)?,
        last: r.get(4)?,
        bytes: r.get::<_, i64>(5)? as u64,
        hash: r.get(6)?,
        days: r.get::<_, Option<Vec<u8>>>(7)?.map(|b| RowsByDay::from_bytes(&b)).unwrap_or_default(),
        format: if r.get::<_, i64>(8)? == SegmentFormat::Zeros.number() {
            SegmentFormat::Zeros
        } else {
            SegmentFormat::Nulls
        },
    })
}

/// The segments of an edition, in order of time.
pub fn segments(db: &Connection, edition: i64) -> Result<Vec<SegmentInfo>> {
    let mut query = db.prepare(&format!(
        "SELECT {SEGMENT_COLUMNS} FROM holding h JOIN segment g ON g.id = h.segment WHERE h.edition = ?1 ORDER BY h.place"
    ))?;
    let rows = query.query_map([edition], segment_of)?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Every segment, of one series or of all, whatever edition holds it.
pub fn all_segments(db: &Connection, only: Option<&SeriesName>) -> Result<Vec<SegmentInfo>> {
    let folder = only.map_or(String::new(), |name| folder_of(name) + "/");
    let mut query = db.prepare(&format!(
        "SELECT {SEGMENT_COLUMNS} FROM segment g WHERE substr(g.path, 1, length(?1)) = ?1 ORDER BY g.path"
    ))?;
    let rows = query.query_map([folder], segment_of)?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Segments that no edition holds any more.
pub fn unheld(db: &Connection) -> Result<Vec<SegmentInfo>> {
    let mut query = db.prepare(&format!(
        "SELECT {SEGMENT_COLUMNS} FROM segment g WHERE g.id NOT IN (SELECT segment FROM holding)"
    ))?;
    let rows = query.query_map([], segment_of)?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Whether a segment belongs to a current edition: none where not, else whether its clock is known.
pub type SeriesStanding = Option<bool>;

const STANDING: &str =
    "SELECT g.path, max(h.edition IS s.current), max(h.edition IS s.current AND e.clock IS NOT NULL)
     FROM segment g LEFT JOIN holding h ON h.segment = g.id
     LEFT JOIN edition e ON e.id = h.edition LEFT JOIN series s ON s.id = e.series";

fn standing_of(r: &Row<'_>) -> rusqlite::Result<(String, SeriesStanding)> {
    let (current, anchored): (Option<bool>, Option<bool>) = (r.get(1)?, r.get(2)?);
    Ok((r.get(0)?, current.filter(|c| *c).map(|_| anchored == Some(true))))
}

/// The path of every segment with its standing.
pub fn all_standings(db: &Connection) -> Result<HashMap<String, SeriesStanding>> {
    let mut query = db.prepare(&format!("{STANDING} GROUP BY g.id"))?;
    let rows = query.query_map([], standing_of)?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The path of every segment of a series with its standing.
pub fn standings(db: &Connection, series: i64) -> Result<Vec<(String, SeriesStanding)>> {
    let mut query = db.prepare(&format!("{STANDING} WHERE s.id = ?1 GROUP BY g.id ORDER BY g.path"))?;
    let rows = query.query_map([series], standing_of)?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Names a new segment; gives its id.
pub fn add_segment(db: &Connection, segment: &SegmentInfo) -> Result<i64> {
    db.execute(
        "INSERT INTO segment (path, rows, first, last, bytes, hash, days, format) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
        params![
            segment.path,
            segment.rows as i64,
            segment.first,
            segment.last,
            segment.bytes as i64,
            segment.hash,
            segment.days.to_bytes(),
            segment.format.number(),
        ],
    )?;
    Ok(db.last_insert_rowid())
}

/// Says anew which segments an edition holds, in order.
pub fn set_holding(db: &Connection, edition: i64, segments: &[i64]) -> Result<()> {
    db.execute("DELETE FROM holding WHERE edition = ?1", [edition])?;
    for (place, segment) in segments.iter().enumerate() {
        db.execute(
            "INSERT INTO holding (edition, place, segment) VALUES (?1, ?2, ?3)",
            params![edition, place as i64, segment],
        )?;
    }
    Ok(())
}

/// True where an instrument has a series on the shelf.
pub fn has_rows(db: &Connection, instrument: &str) -> Result<bool> {
    let query = "SELECT 1 FROM series WHERE instrument = ?1 AND current IS NOT NULL LIMIT 1";
    Ok(db.query_row(query, [instrument], |_| Ok(())).optional()?.is_some())
}
