//! The catalog: what is on the shelf, in SQLite.

use std::path::Path;

use rusqlite::{Connection, OptionalExtension, params};

use super::bring_up;
use crate::model::Micros;
use crate::{Error, Result};

/// Version of the tables below; a catalog with a higher one was written by a newer Stavel.
pub const VERSION: i64 = 3;

/// The tables. A series keeps its row, and its instrument may be missing, while it can be brought back.
pub const TABLES: &str = "
CREATE TABLE shelf (id TEXT NOT NULL) STRICT;
CREATE TABLE counter (name TEXT PRIMARY KEY, value INTEGER NOT NULL) STRICT;
INSERT INTO counter VALUES ('edition', 0);
CREATE TABLE instrument (name TEXT PRIMARY KEY, parent TEXT, said TEXT NOT NULL, found TEXT NOT NULL) STRICT;
CREATE TABLE series (
    id INTEGER PRIMARY KEY AUTOINCREMENT, instrument TEXT NOT NULL, source TEXT NOT NULL, frame TEXT NOT NULL,
    built INTEGER NOT NULL, current INTEGER REFERENCES edition(id), numbered INTEGER NOT NULL DEFAULT 0,
    UNIQUE (instrument, source, frame, built)) STRICT;
CREATE TABLE edition (
    id INTEGER PRIMARY KEY, series INTEGER NOT NULL REFERENCES series(id), number INTEGER NOT NULL,
    before INTEGER REFERENCES edition(id), provenance TEXT NOT NULL, fingerprint TEXT NOT NULL, made INTEGER NOT NULL,
    clock TEXT, price_decimals INTEGER NOT NULL, volume_decimals INTEGER NOT NULL, fields TEXT NOT NULL,
    rows INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, bytes INTEGER NOT NULL,
    UNIQUE (series, number)) STRICT;
CREATE TABLE segment (
    id INTEGER PRIMARY KEY AUTOINCREMENT, path TEXT NOT NULL UNIQUE, rows INTEGER NOT NULL, first INTEGER NOT NULL,
    last INTEGER NOT NULL, bytes INTEGER NOT NULL, hash TEXT, days BLOB, format INTEGER NOT NULL) STRICT;
CREATE TABLE holding (
    edition INTEGER NOT NULL REFERENCES edition(id), place INTEGER NOT NULL,
    segment INTEGER NOT NULL REFERENCES segment(id), PRIMARY KEY (edition, place)) STRICT, WITHOUT ROWID;
CREATE TABLE doomed (path TEXT PRIMARY KEY) STRICT;
CREATE TABLE renaming (old TEXT PRIMARY KEY, new TEXT NOT NULL) STRICT;
CREATE TABLE journal (id INTEGER PRIMARY KEY AUTOINCREMENT, made INTEGER NOT NULL, series TEXT NOT NULL,
    step TEXT NOT NULL, text TEXT NOT NULL) STRICT;
CREATE TABLE change (
    id INTEGER PRIMARY KEY AUTOINCREMENT, act INTEGER NOT NULL REFERENCES journal(id), subject TEXT NOT NULL,
    before TEXT, after TEXT, undone INTEGER NOT NULL DEFAULT 0) STRICT;
CREATE INDEX change_of_subject ON change (subject);
CREATE TABLE done (key TEXT PRIMARY KEY, report TEXT NOT NULL) STRICT;
CREATE TABLE layout (name TEXT PRIMARY KEY, text TEXT NOT NULL) STRICT;
CREATE TABLE fact (
    id INTEGER PRIMARY KEY, instrument TEXT NOT NULL, source TEXT NOT NULL,
    time INTEGER NOT NULL, kind TEXT NOT NULL, value TEXT NOT NULL,
    UNIQUE (instrument, source, time, kind, value)) STRICT;
";

/// The name of the catalog in a shelf.
pub const NAME: &str = "catalog.db";

/// Opens a catalog without a look at its tables; gives its version, 0 for one that is empty.
pub fn connect(path: &Path) -> Result<(Connection, i64)> {
    let unusable = |e: rusqlite::Error| {
        Error::storage(format!(
            "{} is not a catalog Stavel can read ({e}); name another folder with --shelf, or have the catalog made anew from the data files (stavel shelf --rebuild).",
            path.display()
        ))
    };
    let db = Connection::open(path).map_err(unusable)?;
    db.busy_timeout(std::time::Duration::from_secs(10))?;
    let version = version_of(&db).map_err(unusable)?;
    if version > VERSION {
        return Err(Error::storage(format!(
            "The shelf {} was written by a newer Stavel (catalog version {version}, this one knows {VERSION}); update Stavel to open it.",
            path.parent().unwrap_or(path).display()
        )));
    }
    db.execute_batch("PRAGMA journal_mode = WAL; PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL;")
        .map_err(unusable)?;
    Ok((db, version))
}

pub fn version_of(db: &Connection) -> rusqlite::Result<i64> {
    db.query_row("PRAGMA user_version", [], |r| r.get(0))
}

/// Makes the tables of an empty catalog; where another process made them meanwhile, those stand.
pub fn make(db: &Connection, shelf: &str) -> Result<()> {
    db.execute_batch("BEGIN IMMEDIATE")?;
    if version_of(db)? == 0 {
        db.execute_batch(TABLES)?;
        db.execute("INSERT INTO shelf (id) VALUES (?1)", [shelf])?;
        db.pragma_update(None, "user_version", VERSION)?;
    }
    Ok(db.execute_batch("COMMIT")?)
}

/// Brings a catalog of an earlier version to this one, in one transaction.
pub fn bring_up(db: &Connection, shelf: &str) -> Result<()> {
    db.execute_batch("PRAGMA foreign_keys = OFF; BEGIN IMMEDIATE")?;
    let brought = version_of(db).map_err(Error::from).and_then(|version| match version {
        VERSION => Ok(()),
        version => bring_up::tables(db, version, shelf),
    });
    db.execute_batch(if brought.is_ok() { "COMMIT" } else { "ROLLBACK" })?;
    db.execute_batch("PRAGMA foreign_keys = ON")?;
    brought
}

/// The id of the shelf the catalog belongs to.
pub fn shelf_id(db: &Connection) -> Result<String> {
    Ok(db.query_row("SELECT id FROM shelf", [], |r| r.get(0))?)
}

/// A number that changes with every change of the catalog.
pub fn version(db: &Connection) -> Result<i64> {
    let (edition, change, undone): (i64, i64, i64) = db.query_row(
        "SELECT (SELECT value FROM counter WHERE name = 'edition'), (SELECT coalesce(max(id), 0) FROM journal),
         (SELECT coalesce(sum(undone), 0) FROM change)",
        [],
        |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)),
    )?;
    let state: i64 = db.query_row("PRAGMA data_version", [], |r| r.get(0))?;
    Ok(((edition * 1_000_003 + change) * 1_000_003 + undone).wrapping_mul(1_000_003).wrapping_add(state))
}

/// Takes the next edition's id; it is never given again, whatever becomes of the edition.
pub fn take_edition_id(db: &Connection) -> Result<i64> {
    let query = "UPDATE counter SET value = value + 1 WHERE name = 'edition' RETURNING value";
    Ok(db.query_row(query, [], |r| r.get(0))?)
}

/// The highest edition id that was given.
pub fn last_edition_id(db: &Connection) -> Result<i64> {
    Ok(db.query_row("SELECT value FROM counter WHERE name = 'edition'", [], |r| r.get(0))?)
}

/// Renames of files that were decided and perhaps not done yet: old and new path.
pub fn renamings(db: &Connection) -> Result<Vec<(String, String)>> {
    let mut query = db.prepare("SELECT old, new FROM renaming ORDER BY old")?;
    let rows = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub fn renamed(db: &Connection, old: &str) -> Result<()> {
    db.execute("DELETE FROM renaming WHERE old = ?1", [old])?;
    Ok(())
}

/// Files that were tidied away and perhaps not removed yet.
pub fn doomed(db: &Connection) -> Result<Vec<String>> {
    let mut query = db.prepare("SELECT path FROM doomed ORDER BY path")?;
    let rows = query.query_map([], |r| r.get(0))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub fn gone(db: &Connection, path: &str) -> Result<()> {
    db.execute("DELETE FROM doomed WHERE path = ?1", [path])?;
    Ok(())
}

/// A new line of the journal; gives its id.
pub fn journal_line(db: &Connection, series: &str, step: &str, text: &str) -> Result<i64> {
    let line = params![now(), series, step, text];
    db.execute("INSERT INTO journal (made, series, step, text) VALUES (?1, ?2, ?3, ?4)", line)?;
    Ok(db.last_insert_rowid())
}

pub fn now() -> Micros {
    jiff::Timestamp::now().as_microsecond()
}

/// One value or none, where a row may be missing.
pub fn maybe<T: rusqlite::types::FromSql>(
    db: &Connection,
    query: &str,
    values: impl rusqlite::Params,
) -> Result<Option<T>> {
    Ok(db.query_row(query, values, |r| r.get(0)).optional()?)
}
