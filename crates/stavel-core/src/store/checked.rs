//! What checks of whole editions found, so that it is known when the shelf is opened again.
//!
//! The table is made when the first check is kept and may be missing: each of its rows can be had again by a check. For
//! the same reason whoever only reads the shelf writes it too, and nothing is lost where that fails.

use std::collections::HashMap;

use rusqlite::{Connection, params};

use super::sql::has_table;
use crate::Result;

/// What is kept of a check of a whole edition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CheckMark {
    /// The grade, 0 to 100.
    pub points: u8,
    /// True where it has faults whose mend is safe without looking.
    pub has_safe_mends: bool,
}

const TABLE: &str = "CREATE TABLE IF NOT EXISTS checked (
    edition INTEGER PRIMARY KEY, basis TEXT NOT NULL, points INTEGER NOT NULL, safe INTEGER NOT NULL) STRICT";

/// Keeps what a check of an edition found; marks of editions that are gone go too.
pub fn keep(db: &Connection, edition: i64, basis: &str, mark: CheckMark) -> Result<()> {
    let known = kept(db)?;
    if known.get(&edition).is_some_and(|(b, m)| b == basis && *m == mark) {
        return Ok(());
    }
    db.execute_batch(TABLE)?;
    db.execute("DELETE FROM checked WHERE edition NOT IN (SELECT id FROM edition)", [])?;
    db.execute(
        "INSERT OR REPLACE INTO checked (edition, basis, points, safe) VALUES (?1, ?2, ?3, ?4)",
        params![edition, basis, mark.points, mark.has_safe_mends],
    )?;
    // So that others see that the catalog has changed.
    db.execute(
        "INSERT INTO counter (name, value) VALUES ('check', 1) ON CONFLICT (name) DO UPDATE SET value = value + 1",
        [],
    )?;
    Ok(())
}

/// What is kept, by edition, with what it rests on.
pub fn kept(db: &Connection) -> Result<HashMap<i64, (String, CheckMark)>> {
    if !has_table(db, "checked")? {
        return Ok(HashMap::new());
    }
    let mut query = db.prepare("SELECT edition, basis, points, safe FROM checked")?;
    let rows = query.query_map([], |r| {
        let mark = CheckMark { points: r.get(2)?, has_safe_mends: r.get(3)? };
        Ok((r.get(0)?, (r.get(1)?, mark)))
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}
