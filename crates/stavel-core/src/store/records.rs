//! What the catalog holds beside the series: instruments, dated facts, layouts, the journal, steps done.

use std::collections::BTreeMap;

use rusqlite::{Connection, OptionalExtension, params};

use super::catalog::now;
use crate::model::{Instrument, Micros};
use crate::{Error, Result};

/// What is known of an instrument on a date: a dividend, a statement, an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fact {
    pub source: String,
    pub time: Micros,
    pub kind: String,
    /// Names and values, as the file has them.
    pub values: BTreeMap<String, String>,
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

pub fn has_instrument(db: &Connection, name: &str) -> Result<bool> {
    Ok(db.query_row("SELECT EXISTS (SELECT 1 FROM instrument WHERE name = ?1)", [name], |r| r.get(0))?)
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

/// Adds facts that are not there yet, in one transaction; gives their number.
pub fn put_facts(db: &mut Connection, instrument: &str, facts: &[Fact]) -> Result<u64> {
    let tx = db.transaction()?;
    let mut added = 0;
    for f in facts {
        let value = serde_json::to_string(&f.values).unwrap_or_default();
        added += tx.execute(
            "INSERT OR IGNORE INTO fact (instrument, source, time, kind, value) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![instrument, f.source, f.time, f.kind, value],
        )? as u64;
    }
    tx.commit()?;
    Ok(added)
}

pub fn facts(db: &Connection, instrument: &str) -> Result<Vec<Fact>> {
    let mut query =
        db.prepare("SELECT source, time, kind, value FROM fact WHERE instrument = ?1 ORDER BY time, id")?;
    let rows = query.query_map([instrument], |r| {
        let values = serde_json::from_str(&r.get::<_, String>(3)?).unwrap_or_default();
        Ok(Fact { source: r.get(0)?, time: r.get(1)?, kind: r.get(2)?, values })
    })?;
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
