//! What the catalog holds beside the series: instruments, dated facts, layouts, the journal, steps done.

use std::collections::BTreeMap;

use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};

use crate::model::{Instrument, Micros, OwnValues};
use crate::{Error, Result};

/// What is known of an instrument on a date: a dividend, a statement, an event.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct InstrumentFact {
    /// The vendor or broker that says it.
    pub source: String,
    /// The day or moment it holds for, UTC.
    pub time: Micros,
    /// What it is: `dividend`, `split`, …
    pub kind: String,
    /// Names and values, as the file has them.
    pub values: BTreeMap<String, String>,
}

/// One act as the journal keeps it.
#[derive(Debug, Clone)]
pub struct JournalLine {
    /// When it was done, UTC.
    pub made: Micros,
    /// The series it changed; empty where it was none.
    pub series: String,
    /// The act with all its settings, as TOML.
    pub step: String,
    /// What was done, in a few words.
    pub text: String,
}

/// An instrument's own values.
pub fn own_values(db: &Connection, name: &str) -> Result<Option<OwnValues>> {
    let row: Option<(Option<String>, String, String)> = db
        .query_row("SELECT parent, said, found FROM instrument WHERE name = ?1", [name], |r| {
            Ok((r.get(0)?, r.get(1)?, r.get(2)?))
        })
        .optional()?;
    let Some((like, said, found)) = row else { return Ok(None) };
    let read = |text: &str| -> Result<BTreeMap<String, String>> {
        serde_json::from_str(text)
            .map_err(|e| Error::storage(format!("The spec sheet of {name} in the catalog is damaged: {e}.")))
    };
    Ok(Some(OwnValues { like, said: read(&said)?, found: read(&found)? }))
}

pub fn instrument(db: &Connection, name: &str) -> Result<Option<Instrument>> {
    let Some(own) = own_values(db, name)? else { return Ok(None) };
    let like = match &own.like {
        Some(p) => instrument(db, p)?,
        None => None,
    };
    Instrument::resolve(name, like.as_ref(), own).map(Some)
}

pub fn instruments(db: &Connection) -> Result<Vec<Instrument>> {
    let mut query = db.prepare("SELECT name FROM instrument ORDER BY name")?;
    let names = query.query_map([], |r| r.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
    names.iter().filter_map(|n| instrument(db, n).transpose()).collect()
}

/// Writes an instrument after a look at what it would be.
pub fn put_instrument(db: &Connection, name: &str, own: &OwnValues) -> Result<Instrument> {
    let mut above = own.like.clone();
    while let Some(parent) = above {
        if parent == name {
            return Err(Error::arguments(format!("{name} cannot be like itself.")));
        }
        let found = instrument(db, &parent)?.ok_or_else(|| {
            Error::input(format!("The shelf has no instrument {parent} for {name} to be like."))
        })?;
        above = found.own.like;
    }
    let parent = own.like.as_ref().map(|p| instrument(db, p)).transpose()?.flatten();
    let made = Instrument::resolve(name, parent.as_ref(), own.clone())?;
    write_instrument(db, name, own)?;
    Ok(made)
}

pub fn write_instrument(db: &Connection, name: &str, own: &OwnValues) -> Result<()> {
    let text = |map: &BTreeMap<String, String>| serde_json::to_string(map).unwrap_or_default();
    db.execute(
        "INSERT INTO instrument (name, parent, said, found) VALUES (?1, ?2, ?3, ?4)
         ON CONFLICT (name) DO UPDATE SET parent = ?2, said = ?3, found = ?4",
        params![name, own.like, text(&own.said), text(&own.found)],
    )?;
    Ok(())
}

pub fn remove_instrument(db: &Connection, name: &str) -> Result<()> {
    db.execute("DELETE FROM instrument WHERE name = ?1", [name])?;
    Ok(())
}

pub fn has_instrument(db: &Connection, name: &str) -> Result<bool> {
    Ok(db.query_row("SELECT EXISTS (SELECT 1 FROM instrument WHERE name = ?1)", [name], |r| r.get(0))?)
}

/// The latest acts that have something to say, newest first.
pub fn journal(db: &Connection, lines: usize) -> Result<Vec<JournalLine>> {
    let mut query = db
        .prepare("SELECT made, series, step, text FROM journal WHERE text <> '' ORDER BY id DESC LIMIT ?1")?;
    let rows = query.query_map([lines as i64], |r| {
        Ok(JournalLine { made: r.get(0)?, series: r.get(1)?, step: r.get(2)?, text: r.get(3)? })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub fn done_before(db: &Connection, key: &str) -> Result<Option<String>> {
    Ok(db.query_row("SELECT report FROM done WHERE key = ?1", [key], |r| r.get(0)).optional()?)
}

pub fn remember_done(db: &Connection, key: &str, report: &str) -> Result<()> {
    db.execute("INSERT OR REPLACE INTO done (key, report) VALUES (?1, ?2)", params![key, report])?;
    Ok(())
}

/// Adds the facts that are not there yet; gives those.
pub fn add_facts(db: &Connection, instrument: &str, facts: &[InstrumentFact]) -> Result<Vec<InstrumentFact>> {
    let mut added = Vec::new();
    for f in facts {
        let value = serde_json::to_string(&f.values).unwrap_or_default();
        let new = db.execute(
            "INSERT OR IGNORE INTO fact (instrument, source, time, kind, value) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![instrument, f.source, f.time, f.kind, value],
        )?;
        added.extend((new > 0).then(|| f.clone()));
    }
    Ok(added)
}

pub fn remove_facts(db: &Connection, instrument: &str, facts: &[InstrumentFact]) -> Result<()> {
    for f in facts {
        let value = serde_json::to_string(&f.values).unwrap_or_default();
        db.execute(
            "DELETE FROM fact WHERE instrument = ?1 AND source = ?2 AND time = ?3 AND kind = ?4 AND value = ?5",
            params![instrument, f.source, f.time, f.kind, value],
        )?;
    }
    Ok(())
}

pub fn facts(db: &Connection, instrument: &str) -> Result<Vec<InstrumentFact>> {
    let mut query = db.prepare(
        "SELECT source, time, kind, value FROM fact WHERE instrument = ?1 ORDER BY time, source, kind, value",
    )?;
    let mut rows = query.query([instrument])?;
    let mut out = Vec::new();
    while let Some(r) = rows.next()? {
        let values = serde_json::from_str(&r.get::<_, String>(3)?).map_err(|e| {
            Error::storage(format!("A dated fact of {instrument} in the catalog is damaged: {e}."))
        })?;
        out.push(InstrumentFact { source: r.get(0)?, time: r.get(1)?, kind: r.get(2)?, values });
    }
    Ok(out)
}

pub fn fact_names(db: &Connection) -> Result<Vec<String>> {
    let mut query = db.prepare("SELECT DISTINCT instrument FROM fact ORDER BY instrument")?;
    let rows = query.query_map([], |r| r.get(0))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub fn layouts(db: &Connection) -> Result<Vec<(String, String)>> {
    let mut query = db.prepare("SELECT name, text FROM layout ORDER BY name")?;
    let rows = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub fn put_layout(db: &Connection, name: &str, text: &str) -> Result<()> {
    db.execute("INSERT OR REPLACE INTO layout (name, text) VALUES (?1, ?2)", params![name, text])?;
    Ok(())
}

pub fn remove_layout(db: &Connection, name: &str) -> Result<()> {
    db.execute("DELETE FROM layout WHERE name = ?1", [name])?;
    Ok(())
}
