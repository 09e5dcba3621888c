//! The catalog: what is on the shelf, in SQLite.

use std::collections::HashMap;
use std::path::Path;
use std::str::FromStr;

use rusqlite::{Connection, OptionalExtension, Row, params};

use super::days::Days;
use crate::model::columns::shape_of;
use crate::model::{Clock, Columns, Field, Micros, Scale, SeriesName, Shape, Side};
use crate::{Error, Result};

/// Version of the tables below; a catalog with a higher one was written by a newer Stavel.
const VERSION: i64 = 2;

const TABLES: &str = "
CREATE TABLE instrument (name TEXT PRIMARY KEY, parent TEXT REFERENCES instrument(name), own TEXT NOT NULL) STRICT;
CREATE TABLE series (
    id INTEGER PRIMARY KEY, instrument TEXT NOT NULL REFERENCES instrument(name), source TEXT NOT NULL,
    frame TEXT NOT NULL, current INTEGER REFERENCES edition(id), removed INTEGER REFERENCES edition(id), UNIQUE (instrument, source, frame)) STRICT;
CREATE TABLE edition (
    id INTEGER PRIMARY KEY, series INTEGER NOT NULL REFERENCES series(id), number INTEGER NOT NULL,
    before INTEGER REFERENCES edition(id), act TEXT NOT NULL, detail TEXT NOT NULL, made INTEGER NOT NULL,
    clock TEXT, price_decimals INTEGER NOT NULL, volume_decimals INTEGER NOT NULL, fields TEXT NOT NULL,
    rows INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, bytes INTEGER NOT NULL,
    UNIQUE (series, number)) STRICT;
CREATE TABLE segment (
    id INTEGER PRIMARY KEY, path TEXT NOT NULL UNIQUE, rows INTEGER NOT NULL, first INTEGER NOT NULL,
    last INTEGER NOT NULL, bytes INTEGER NOT NULL, hash TEXT, days BLOB) STRICT;
CREATE TABLE holding (
    edition INTEGER NOT NULL REFERENCES edition(id), place INTEGER NOT NULL,
    segment INTEGER NOT NULL REFERENCES segment(id), PRIMARY KEY (edition, place)) STRICT, WITHOUT ROWID;
CREATE TABLE journal (id INTEGER PRIMARY KEY, made INTEGER NOT NULL, series TEXT NOT NULL, step TEXT NOT NULL,
    text TEXT NOT NULL) STRICT;
CREATE TABLE done (key TEXT PRIMARY KEY, report TEXT NOT NULL) STRICT;
CREATE TABLE layout (name TEXT PRIMARY KEY, text TEXT NOT NULL) STRICT;
CREATE TABLE fact (
    id INTEGER PRIMARY KEY, instrument TEXT NOT NULL REFERENCES instrument(name), source TEXT NOT NULL,
    time INTEGER NOT NULL, kind TEXT NOT NULL, value TEXT NOT NULL,
    UNIQUE (instrument, source, time, kind, value)) STRICT;
";

/// What brings a catalog of the version before to the next one.
const CHANGES: [&str; 1] = ["
ALTER TABLE segment ADD COLUMN hash TEXT;
ALTER TABLE segment ADD COLUMN days BLOB;
ALTER TABLE series ADD COLUMN removed INTEGER REFERENCES edition(id);
CREATE TABLE layout (name TEXT PRIMARY KEY, text TEXT NOT NULL) STRICT;
CREATE TABLE fact (
    id INTEGER PRIMARY KEY, instrument TEXT NOT NULL REFERENCES instrument(name), source TEXT NOT NULL,
    time INTEGER NOT NULL, kind TEXT NOT NULL, value TEXT NOT NULL,
    UNIQUE (instrument, source, time, kind, value)) STRICT;
"];

/// A series and its current edition.
#[derive(Debug, Clone)]
pub struct SeriesInfo {
    pub id: i64,
    pub name: SeriesName,
    pub edition: EditionInfo,
}

impl SeriesInfo {
    /// True while nobody has said what its clock is.
    pub fn is_afloat(&self) -> bool {
        self.edition.clock.is_none()
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
    pub id: i64,
    pub number: i64,
    /// The edition it was made from.
    pub before: Option<i64>,
    /// The stage that made it.
    pub act: String,
    /// What that stage said about it.
    pub detail: serde_json::Value,
    /// When it was made, UTC.
    pub made: Micros,
    /// The clock the times were written in; none while afloat.
    pub clock: Option<Clock>,
    pub scale: Scale,
    pub fields: Vec<Field>,
    pub rows: u64,
    pub first: Micros,
    pub last: Micros,
    pub bytes: u64,
}

/// A segment as the catalog knows it.
#[derive(Debug, Clone)]
pub struct SegmentInfo {
    pub id: i64,
    /// Relative to `data/` or `past/`.
    pub path: String,
    pub rows: u64,
    pub first: Micros,
    pub last: Micros,
    pub bytes: u64,
    /// Of the file, as [`super::segment::Written`] has it; none for files of a first catalog.
    pub hash: Option<String>,
    pub days: Days,
}

pub fn open(path: &Path) -> Result<Connection> {
    let unusable = |e: rusqlite::Error| {
        Error::storage(format!(
            "{} is not a catalog Stavel can read ({e}); name another folder with --shelf or move the file away.",
            path.display()
        ))
    };
    let db = Connection::open(path).map_err(unusable)?;
    db.busy_timeout(std::time::Duration::from_secs(10))?;
    let version: i64 = db.query_row("PRAGMA user_version", [], |r| r.get(0)).map_err(unusable)?;
    if version > VERSION {
        return Err(Error::storage(format!(
            "The shelf {} was written by a newer Stavel (catalog version {version}, this one knows {VERSION}); update Stavel to open it.",
            path.parent().unwrap_or(path).display()
        )));
    }
    db.execute_batch("PRAGMA journal_mode = WAL; PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL;")
        .map_err(unusable)?;
    if version < VERSION {
        make_or_change(&db)?;
    }
    Ok(db)
}

fn make_or_change(db: &Connection) -> Result<()> {
    // Two processes may find a new or an old shelf at the same time: the second sees what the first one made.
    db.execute_batch("BEGIN IMMEDIATE")?;
    let version: i64 = db.query_row("PRAGMA user_version", [], |r| r.get(0))?;
    match version {
        0 => db.execute_batch(TABLES)?,
        v => CHANGES.iter().skip(v as usize - 1).try_for_each(|c| db.execute_batch(c))?,
    }
    db.pragma_update(None, "user_version", VERSION)?;
    Ok(db.execute_batch("COMMIT")?)
}

pub fn version(db: &Connection) -> Result<i64> {
    let edition: i64 = db.query_row("SELECT coalesce(max(id), 0) FROM edition", [], |r| r.get(0))?;
    let state: i64 = db.query_row("PRAGMA data_version", [], |r| r.get(0))?;
    Ok(edition * 1_000_003 + state)
}

const EDITION_COLUMNS: &str = "e.id, e.number, e.before, e.act, e.detail, e.made, e.clock, e.price_decimals,
    e.volume_decimals, e.fields, e.rows, e.first, e.last, e.bytes";

fn edition_of(row: &Row<'_>) -> rusqlite::Result<EditionInfo> {
    let clock: Option<String> = row.get(6)?;
    let fields: String = row.get(9)?;
    Ok(EditionInfo {
        id: row.get(0)?,
        number: row.get(1)?,
        before: row.get(2)?,
        act: row.get(3)?,
        detail: serde_json::from_str(&row.get::<_, String>(4)?).unwrap_or_default(),
        made: row.get(5)?,
        clock: clock.and_then(|c| c.parse().ok()),
        scale: Scale { price: row.get(7)?, volume: row.get(8)? },
        fields: fields.split(',').filter_map(Field::named).collect(),
        rows: row.get::<_, i64>(10)? as u64,
        first: row.get(11)?,
        last: row.get(12)?,
        bytes: row.get::<_, i64>(13)? as u64,
    })
}

fn series_of(row: &Row<'_>) -> rusqlite::Result<Option<SeriesInfo>> {
    let text: String =
        format!("{}@{}:{}", row.get::<_, String>(15)?, row.get::<_, String>(16)?, row.get::<_, String>(17)?);
    let (id, edition) = (row.get(14)?, edition_of(row)?);
    Ok(SeriesName::from_str(&text).ok().map(|name| SeriesInfo { id, name, edition }))
}

fn select_series(db: &Connection, filter: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<SeriesInfo>> {
    let mut query = db.prepare(&format!(
        "SELECT {EDITION_COLUMNS}, s.id, s.instrument, s.source, s.frame
         FROM series s JOIN edition e ON e.id = s.current {filter} ORDER BY s.instrument, s.source, s.frame"
    ))?;
    let rows = query.query_map(values, series_of)?;
    Ok(rows.collect::<rusqlite::Result<Vec<_>>>()?.into_iter().flatten().collect())
}

pub fn all_series(db: &Connection) -> Result<Vec<SeriesInfo>> {
    let mut all = select_series(db, "", &[])?;
    all.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(all)
}

pub fn series_of_instrument(db: &Connection, instrument: &str) -> Result<Vec<SeriesInfo>> {
    select_series(db, "WHERE s.instrument = ?1", &[&instrument])
}

pub fn one_series(db: &Connection, name: &SeriesName) -> Result<Option<SeriesInfo>> {
    let filter = "WHERE s.instrument = ?1 AND s.source = ?2 AND s.frame = ?3";
    Ok(select_series(db, filter, &[&name.instrument, &name.source, &name.frame_text()])?.pop())
}

pub fn series_ids(db: &Connection) -> Result<Vec<i64>> {
    let mut query = db.prepare("SELECT id FROM series")?;
    let ids = query.query_map([], |r| r.get(0))?;
    Ok(ids.collect::<rusqlite::Result<_>>()?)
}

pub fn editions(db: &Connection, name: &SeriesName) -> Result<Vec<EditionInfo>> {
    let mut query = db.prepare(&format!(
        "SELECT {EDITION_COLUMNS} FROM edition e JOIN series s ON s.id = e.series
         WHERE s.instrument = ?1 AND s.source = ?2 AND s.frame = ?3 ORDER BY e.number DESC"
    ))?;
    let rows = query.query_map(params![name.instrument, name.source, name.frame_text()], edition_of)?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub fn add_fingerprint(
    db: &Connection,
    name: &SeriesName,
    edition: i64,
    path: &str,
    sha256: &str,
) -> Result<()> {
    let Some(found) = editions(db, name)?.into_iter().find(|e| e.number == edition) else { return Ok(()) };
    let mut detail = found.detail;
    for file in detail["files"].as_array_mut().into_iter().flatten().filter(|f| f["path"] == path) {
        file["sha256"] = sha256.into();
    }
    db.execute("UPDATE edition SET detail = ?1 WHERE id = ?2", params![detail.to_string(), found.id])?;
    Ok(())
}

pub fn next_edition(db: &Connection, name: &SeriesName) -> Result<i64> {
    let key = params![name.instrument, name.source, name.frame_text()];
    Ok(db.query_row(
        "SELECT coalesce(max(e.number), 0) + 1 FROM edition e JOIN series s ON s.id = e.series
         WHERE s.instrument = ?1 AND s.source = ?2 AND s.frame = ?3",
        key,
        |r| r.get(0),
    )?)
}

pub fn segments(db: &Connection, edition: i64) -> Result<Vec<SegmentInfo>> {
    let mut query = db.prepare(
        "SELECT g.id, g.path, g.rows, g.first, g.last, g.bytes, g.hash, g.days FROM holding h JOIN segment g ON g.id = h.segment
         WHERE h.edition = ?1 ORDER BY h.place",
    )?;
    let rows = query.query_map([edition], segment_of)?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

fn segment_of(r: &Row<'_>) -> rusqlite::Result<SegmentInfo> {
    Ok(SegmentInfo {
        id: r.get(0)?,
        path: r.get(1)?,
        rows: r.get::<_, i64>(2)? as u64,
        first: r.get(3)?,
        last: r.get(4)?,
        bytes: r.get::<_, i64>(5)? as u64,
        hash: r.get(6)?,
        days: r.get::<_, Option<Vec<u8>>>(7)?.map(|b| Days::from_bytes(&b)).unwrap_or_default(),
    })
}

/// Every segment, of one series or of all, whatever edition holds it.
pub fn all_segments(db: &Connection, only: Option<&SeriesName>) -> Result<Vec<SegmentInfo>> {
    let folder = only.map_or(String::new(), |name| folder_of(name) + "/");
    let mut query = db.prepare(
        "SELECT id, path, rows, first, last, bytes, hash, days FROM segment WHERE substr(path, 1, length(?1)) = ?1 ORDER BY path",
    )?;
    let rows = query.query_map([folder], segment_of)?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The path of every segment with whether a current edition holds it.
pub fn all_homes(db: &Connection) -> Result<HashMap<String, bool>> {
    let mut query = db.prepare(
        "SELECT g.path, max(h.edition IS s.current) FROM segment g LEFT JOIN holding h ON h.segment = g.id
         LEFT JOIN edition e ON e.id = h.edition LEFT JOIN series s ON s.id = e.series GROUP BY g.id",
    )?;
    let rows = query.query_map([], |r| Ok((r.get(0)?, r.get::<_, Option<i64>>(1)? == Some(1))))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Every segment of a series with whether its current edition holds it.
pub fn homes(db: &Connection, series: i64) -> Result<Vec<(String, bool)>> {
    let mut query = db.prepare(
        "SELECT g.path, max(h.edition = coalesce(s.current, -1)) FROM series s JOIN edition e ON e.series = s.id
         JOIN holding h ON h.edition = e.id JOIN segment g ON g.id = h.segment WHERE s.id = ?1 GROUP BY g.id",
    )?;
    let rows = query.query_map([series], |r| Ok((r.get(0)?, r.get::<_, i64>(1)? == 1)))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// What a new edition says of itself.
pub struct NewEdition<'a> {
    pub name: &'a SeriesName,
    pub act: &'a str,
    pub detail: &'a serde_json::Value,
    pub clock: Option<&'a Clock>,
    pub like: &'a Columns,
    pub kept: &'a [SegmentInfo],
    pub written: &'a [SegmentInfo],
}

/// Names an edition and its segments in one transaction and makes it current; gives the series' id.
pub fn commit_edition(db: &mut Connection, new: &NewEdition<'_>) -> Result<i64> {
    let tx = db.transaction()?;
    let key = params![new.name.instrument, new.name.source, new.name.frame_text()];
    // A new instrument comes with its first rows and has their decimals.
    let own = serde_json::json!({ "decimals": new.like.scale.price.to_string() }).to_string();
    tx.execute(
        "INSERT OR IGNORE INTO instrument (name, own) VALUES (?1, ?2)",
        params![new.name.instrument, own],
    )?;
    tx.execute("INSERT OR IGNORE INTO series (instrument, source, frame) VALUES (?1, ?2, ?3)", key)?;
    let (series, before): (i64, Option<i64>) = tx.query_row(
        "SELECT id, current FROM series WHERE instrument = ?1 AND source = ?2 AND frame = ?3",
        key,
        |r| Ok((r.get(0)?, r.get(1)?)),
    )?;
    let number: i64 =
        tx.query_row("SELECT coalesce(max(number), 0) + 1 FROM edition WHERE series = ?1", [series], |r| {
            r.get(0)
        })?;
    let mut held: Vec<SegmentInfo> = new.kept.to_vec();
    for segment in new.written {
        tx.execute(
            "INSERT INTO segment (path, rows, first, last, bytes, hash, days) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![
                segment.path,
                segment.rows as i64,
                segment.first,
                segment.last,
                segment.bytes as i64,
                segment.hash,
                segment.days.to_bytes(),
            ],
        )?;
        held.push(SegmentInfo { id: tx.last_insert_rowid(), ..segment.clone() });
    }
    held.sort_by_key(|s| (s.first, s.last, s.id));
    let fields: Vec<&str> = new.like.fields.iter().map(|f| f.name()).collect();
    tx.execute(
        "INSERT INTO edition (series, number, before, act, detail, made, clock, price_decimals, volume_decimals, fields,
         rows, first, last, bytes) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)",
        params![
            series,
            number,
            before,
            new.act,
            new.detail.to_string(),
            now(),
            new.clock.map(|c| c.to_string()),
            new.like.scale.price,
            new.like.scale.volume,
            fields.join(","),
            held.iter().map(|s| s.rows as i64).sum::<i64>(),
            held.first().map_or(0, |s| s.first),
            held.iter().map(|s| s.last).max().unwrap_or(0),
            held.iter().map(|s| s.bytes as i64).sum::<i64>(),
        ],
    )?;
    let edition = tx.last_insert_rowid();
    for (place, segment) in held.iter().enumerate() {
        tx.execute(
            "INSERT INTO holding (edition, place, segment) VALUES (?1, ?2, ?3)",
            params![edition, place as i64, segment.id],
        )?;
    }
    tx.execute("UPDATE series SET current = ?1, removed = NULL WHERE id = ?2", params![edition, series])?;
    tx.commit()?;
    Ok(series)
}

/// The id of a series, removed or not.
pub fn series_id(db: &Connection, name: &SeriesName) -> Result<Option<i64>> {
    let key = params![name.instrument, name.source, name.frame_text()];
    let query = "SELECT id FROM series WHERE instrument = ?1 AND source = ?2 AND frame = ?3";
    Ok(db.query_row(query, key, |r| r.get(0)).optional()?)
}

/// The id of a series that was removed and can be brought back.
pub fn removed_series(db: &Connection, name: &SeriesName) -> Result<Option<i64>> {
    let key = params![name.instrument, name.source, name.frame_text()];
    let query =
        "SELECT id FROM series WHERE instrument = ?1 AND source = ?2 AND frame = ?3 AND removed IS NOT NULL";
    Ok(db.query_row(query, key, |r| r.get(0)).optional()?)
}

/// Takes a series off the shelf or brings it back.
pub fn set_removed(db: &Connection, series: i64, removed: bool) -> Result<()> {
    db.execute(
        match removed {
            true => "UPDATE series SET removed = current, current = NULL WHERE id = ?1",
            false => "UPDATE series SET current = removed, removed = NULL WHERE id = ?1",
        },
        [series],
    )?;
    Ok(())
}

/// Renames a series and the files of its segments (old path, new path).
pub fn rename_series<T>(
    db: &mut Connection,
    series: i64,
    to: &SeriesName,
    paths: &[(String, String, T)],
) -> Result<()> {
    let tx = db.transaction()?;
    tx.execute(
        "UPDATE series SET instrument = ?1, source = ?2, frame = ?3 WHERE id = ?4",
        params![to.instrument, to.source, to.frame_text(), series],
    )?;
    for (old, new, _) in paths {
        tx.execute("UPDATE segment SET path = ?1 WHERE path = ?2", [new, old])?;
    }
    Ok(tx.commit()?)
}

/// Forgets all editions of some series but their current ones; gives their number and the segments that
/// no edition holds any more.
pub fn forget_past(db: &mut Connection, series: &[i64]) -> Result<(u64, Vec<SegmentInfo>)> {
    let tx = db.transaction()?;
    let mut editions = 0;
    for id in series {
        tx.execute("UPDATE series SET removed = NULL WHERE id = ?1", [id])?;
        tx.execute("UPDATE edition SET before = NULL WHERE series = ?1", [id])?;
        let past = "SELECT e.id FROM edition e JOIN series s ON s.id = e.series WHERE s.id = ?1 AND e.id IS NOT s.current";
        tx.execute(&format!("DELETE FROM holding WHERE edition IN ({past})"), [id])?;
        editions += tx.execute(&format!("DELETE FROM edition WHERE id IN ({past})"), [id])? as u64;
        tx.execute("DELETE FROM series WHERE id = ?1 AND current IS NULL", [id])?;
    }
    let gone = {
        let mut query = tx.prepare(
            "SELECT id, path, rows, first, last, bytes, hash, days FROM segment
             WHERE id NOT IN (SELECT segment FROM holding)",
        )?;
        let rows = query.query_map([], segment_of)?;
        rows.collect::<rusqlite::Result<Vec<_>>>()?
    };
    tx.execute("DELETE FROM segment WHERE id NOT IN (SELECT segment FROM holding)", [])?;
    tx.commit()?;
    Ok((editions, gone))
}

pub fn set_current(db: &mut Connection, series: i64, edition: Option<i64>) -> Result<()> {
    db.execute("UPDATE series SET current = ?1 WHERE id = ?2", params![edition, series])?;
    Ok(())
}

pub fn now() -> Micros {
    jiff::Timestamp::now().as_microsecond()
}

/// The frame's name of a folder, for a side and frame.
pub fn folder_of(name: &SeriesName) -> String {
    debug_assert!(name.side != Side::Last);
    format!("instrument={}/source={}/frame={}", name.instrument, name.source, name.frame_text())
}
