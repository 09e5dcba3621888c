//! The catalog: what is on the shelf, in SQLite.

use std::collections::{BTreeMap, HashSet};
use std::path::Path;
use std::str::FromStr;

use rusqlite::{Connection, OptionalExtension, Row, params};

use crate::model::{Clock, Columns, Field, Instrument, Micros, Scale, SeriesName, Side};
use crate::{Error, Result};

/// Version of the tables below; a catalog with a higher one was written by a newer Stavel.
const VERSION: i64 = 1;

const TABLES: &str = "
CREATE TABLE instrument (name TEXT PRIMARY KEY, parent TEXT REFERENCES instrument(name), own TEXT NOT NULL) STRICT;
CREATE TABLE series (
    id INTEGER PRIMARY KEY, instrument TEXT NOT NULL REFERENCES instrument(name), source TEXT NOT NULL,
    frame TEXT NOT NULL, current INTEGER REFERENCES edition(id), UNIQUE (instrument, source, frame)) STRICT;
CREATE TABLE edition (
    id INTEGER PRIMARY KEY, series INTEGER NOT NULL REFERENCES series(id), number INTEGER NOT NULL,
    before INTEGER REFERENCES edition(id), act TEXT NOT NULL, detail TEXT NOT NULL, made INTEGER NOT NULL,
    clock TEXT, price_decimals INTEGER NOT NULL, volume_decimals INTEGER NOT NULL, fields TEXT NOT NULL,
    rows INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, bytes INTEGER NOT NULL,
    UNIQUE (series, number)) STRICT;
CREATE TABLE segment (
    id INTEGER PRIMARY KEY, path TEXT NOT NULL UNIQUE, rows INTEGER NOT NULL, first INTEGER NOT NULL,
    last INTEGER NOT NULL, bytes INTEGER NOT NULL) STRICT;
CREATE TABLE holding (
    edition INTEGER NOT NULL REFERENCES edition(id), place INTEGER NOT NULL,
    segment INTEGER NOT NULL REFERENCES segment(id), PRIMARY KEY (edition, place)) STRICT, WITHOUT ROWID;
CREATE TABLE journal (id INTEGER PRIMARY KEY, made INTEGER NOT NULL, series TEXT NOT NULL, step TEXT NOT NULL,
    text TEXT NOT NULL) STRICT;
CREATE TABLE done (key TEXT PRIMARY KEY, report TEXT NOT NULL) STRICT;
";

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
}

/// One act as the journal keeps it.
#[derive(Debug, Clone)]
pub struct JournalLine {
    pub made: Micros,
    pub series: String,
    /// The act with all its settings, as TOML.
    pub step: String,
    pub text: String,
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
    if version == 0 {
        // Two processes may find a new shelf at the same time: the second sees the first one's tables.
        db.execute_batch("BEGIN IMMEDIATE")?;
        let made: i64 = db.query_row("PRAGMA user_version", [], |r| r.get(0))?;
        if made == 0 {
            db.execute_batch(TABLES)?;
            db.pragma_update(None, "user_version", VERSION)?;
        }
        db.execute_batch("COMMIT")?;
    }
    Ok(db)
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

pub fn segments(db: &Connection, edition: i64) -> Result<Vec<SegmentInfo>> {
    let mut query = db.prepare(
        "SELECT g.id, g.path, g.rows, g.first, g.last, g.bytes FROM holding h JOIN segment g ON g.id = h.segment
         WHERE h.edition = ?1 ORDER BY h.place",
    )?;
    let rows = query.query_map([edition], |r| {
        Ok(SegmentInfo {
            id: r.get(0)?,
            path: r.get(1)?,
            rows: r.get::<_, i64>(2)? as u64,
            first: r.get(3)?,
            last: r.get(4)?,
            bytes: r.get::<_, i64>(5)? as u64,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub fn all_segment_paths(db: &Connection) -> Result<HashSet<String>> {
    let mut query = db.prepare("SELECT path FROM segment")?;
    let rows = query.query_map([], |r| r.get(0))?;
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
            "INSERT INTO segment (path, rows, first, last, bytes) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![segment.path, segment.rows as i64, segment.first, segment.last, segment.bytes as i64],
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
    tx.execute("UPDATE series SET current = ?1 WHERE id = ?2", params![edition, series])?;
    tx.commit()?;
    Ok(series)
}

pub fn set_current(db: &mut Connection, series: i64, edition: Option<i64>) -> Result<()> {
    db.execute("UPDATE series SET current = ?1 WHERE id = ?2", params![edition, series])?;
    Ok(())
}

pub fn instrument(db: &Connection, name: &str) -> Result<Option<Instrument>> {
    let row: Option<(Option<String>, String)> = db
        .query_row("SELECT parent, own FROM instrument WHERE name = ?1", [name], |r| {
            Ok((r.get(0)?, r.get(1)?))
        })
        .optional()?;
    let Some((parent, own)) = row else { return Ok(None) };
    let own: BTreeMap<String, String> = serde_json::from_str(&own)
        .map_err(|e| Error::storage(format!("The spec sheet of {name} in the catalog is damaged: {e}.")))?;
    let like = match &parent {
        Some(p) => instrument(db, p)?,
        None => None,
    };
    let like = like.as_ref().map(|i| (i.name.as_str(), &i.values));
    Instrument::resolve(name, like, own).map(Some)
}

pub fn instruments(db: &Connection) -> Result<Vec<Instrument>> {
    let mut query = db.prepare("SELECT name FROM instrument ORDER BY name")?;
    let names = query.query_map([], |r| r.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
    names.iter().filter_map(|n| instrument(db, n).transpose()).collect()
}

pub fn put_instrument(
    db: &Connection,
    name: &str,
    like: Option<&str>,
    own: &BTreeMap<String, String>,
) -> Result<Instrument> {
    let mut above = like.map(str::to_owned);
    while let Some(parent) = above {
        if parent == name {
            return Err(Error::arguments(format!("{name} cannot be like itself.")));
        }
        let found = instrument(db, &parent)?.ok_or_else(|| {
            Error::input(format!("The shelf has no instrument {parent} for {name} to be like."))
        })?;
        above = found.like;
    }
    let parent = like.map(|p| instrument(db, p)).transpose()?.flatten();
    let made = Instrument::resolve(name, parent.as_ref().map(|i| (i.name.as_str(), &i.values)), own.clone())?;
    db.execute(
        "INSERT INTO instrument (name, parent, own) VALUES (?1, ?2, ?3)
         ON CONFLICT (name) DO UPDATE SET parent = ?2, own = ?3",
        params![name, like, serde_json::to_string(own).unwrap_or_default()],
    )?;
    Ok(made)
}

pub fn journal(db: &Connection, lines: usize) -> Result<Vec<JournalLine>> {
    let mut query = db.prepare("SELECT made, series, step, text FROM journal ORDER BY id DESC LIMIT ?1")?;
    let rows = query.query_map([lines as i64], |r| {
        Ok(JournalLine { made: r.get(0)?, series: r.get(1)?, step: r.get(2)?, text: r.get(3)? })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub fn note(db: &Connection, series: &str, step: &str, text: &str) -> Result<()> {
    let line = params![now(), series, step, text];
    db.execute("INSERT INTO journal (made, series, step, text) VALUES (?1, ?2, ?3, ?4)", line)?;
    Ok(())
}

pub fn done_before(db: &Connection, key: &str) -> Result<Option<String>> {
    Ok(db.query_row("SELECT report FROM done WHERE key = ?1", [key], |r| r.get(0)).optional()?)
}

pub fn remember_done(db: &Connection, key: &str, report: &str) -> Result<()> {
    db.execute("INSERT OR REPLACE INTO done (key, report) VALUES (?1, ?2)", params![key, report])?;
    Ok(())
}

fn now() -> Micros {
    jiff::Timestamp::now().as_microsecond()
}

/// The frame's name of a folder, for a side and frame.
pub fn folder_of(name: &SeriesName) -> String {
    debug_assert!(name.side != Side::Last);
    format!("instrument={}/source={}/frame={}", name.instrument, name.source, name.frame_text())
}
