//! The catalog: what is on the shelf, in SQLite.

use std::path::Path;

use rusqlite::{Connection, TransactionBehavior};

use super::bring_up;
use super::tables::{TABLES, VERSION};
use crate::{Advice, Error, Result};

/// The name of the catalog in a shelf.
pub const NAME: &str = "catalog.db";

/// Opens a catalog without a look at its tables; gives its version, 0 for one that is empty.
pub fn connect(path: &Path) -> Result<(Connection, i64)> {
    let unusable = |e: rusqlite::Error| {
        Error::storage(format!(
            "{} is not a catalog Stavel can read ({e}); name another folder, or have the catalog made anew from the data files.",
            path.display()
        )).advise(Advice::RebuildCatalog)
    };
    let mut db = Connection::open(path).map_err(unusable)?;
    db.busy_timeout(std::time::Duration::from_secs(10))?;
    // A transaction that begins by reading is not waited for when it comes to write.
    db.set_transaction_behavior(TransactionBehavior::Immediate);
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
    // Whoever only opens the shelf must not keep a writer waiting.
    if version_of(db)? > 0 {
        return Ok(());
    }
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
    let (counted, change, undone): (i64, i64, i64) = db.query_row(
        "SELECT (SELECT sum(value) FROM counter), (SELECT coalesce(max(id), 0) FROM journal),
         (SELECT coalesce(sum(undone), 0) FROM change)",
        [],
        |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)),
    )?;
    Ok((counted * 1_000_003 + change).wrapping_mul(1_000_003).wrapping_add(undone))
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
