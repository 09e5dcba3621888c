//! Bringing a catalog of an earlier version to this one.
//!
//! Versions 1 and 2 kept what made an edition as loose JSON, the months of ticks as folders, bars that
//! were built under the same name as a source's own, and nothing to step forth over. The files stay as
//! they are, under the paths of today; see [`super::editions::SegmentFormat::Zeros`] for what is in them.

use std::collections::BTreeMap;

use rusqlite::{Connection, params};
use serde_json::Value;

use super::act::{ChangedThing, SubjectState, record};
use super::editions;
use super::home::path_of_today;
use super::sql::journal_line;
use super::tables::{TABLES, VERSION};
use crate::model::provenance::{Anchoring, EmptyBars, Framing, Joining, Mending, TakenIn};
use crate::model::{Input, Made, Provenance, SeriesName, Side};
use crate::{Error, Result};

/// What brings a catalog of version 1 to version 2.
const FROM_1: &str = "
ALTER TABLE segment ADD COLUMN hash TEXT;
ALTER TABLE segment ADD COLUMN days BLOB;
ALTER TABLE series ADD COLUMN removed INTEGER REFERENCES edition(id);
CREATE TABLE layout (name TEXT PRIMARY KEY, text TEXT NOT NULL) STRICT;
CREATE TABLE fact (
    id INTEGER PRIMARY KEY, instrument TEXT NOT NULL REFERENCES instrument(name), source TEXT NOT NULL,
    time INTEGER NOT NULL, kind TEXT NOT NULL, value TEXT NOT NULL,
    UNIQUE (instrument, source, time, kind, value)) STRICT;
";

/// The tables of version 2, put aside while their rows are taken over.
const OLD: [&str; 9] =
    ["instrument", "series", "edition", "segment", "holding", "journal", "done", "layout", "fact"];

/// Brings the tables from `version` to this version, within a transaction of the caller's.
pub fn tables(db: &Connection, version: i64, shelf: &str) -> Result<()> {
    if version == 1 {
        db.execute_batch(FROM_1)?;
    }
    for table in OLD {
        db.execute_batch(&format!("ALTER TABLE {table} RENAME TO old_{table}"))?;
    }
    db.execute_batch(TABLES)?;
    db.execute("INSERT INTO shelf (id) VALUES (?1)", [shelf])?;
    db.execute_batch(
        "INSERT INTO instrument (name, parent, said, found) SELECT name, parent, own, '{}' FROM old_instrument;
         INSERT INTO series (id, instrument, source, frame, built, current, numbered)
             SELECT s.id, s.instrument, s.source, s.frame, 0, s.current,
             coalesce((SELECT max(number) FROM old_edition e WHERE e.series = s.id), 0) FROM old_series s;
         INSERT INTO segment (id, path, rows, first, last, bytes, hash, days, format)
             SELECT id, path, rows, first, last, bytes, hash, days, 2 FROM old_segment;
         INSERT INTO journal (id, made, series, step, text) SELECT id, made, series, step, text FROM old_journal;
         INSERT INTO layout (name, text) SELECT name, text FROM old_layout;
         INSERT INTO fact (id, instrument, source, time, kind, value)
             SELECT id, instrument, source, time, kind, value FROM old_fact;
         UPDATE counter SET value = (SELECT max(coalesce(max(id), 0), coalesce(max(number), 0)) FROM old_edition);",
    )?;
    let acts = take_editions(db)?;
    db.execute_batch(
        "INSERT INTO holding (edition, place, segment) SELECT edition, place, segment FROM old_holding",
    )?;
    let series: Vec<(i64, Option<i64>)> = {
        let mut query = db.prepare("SELECT id, removed FROM old_series ORDER BY id")?;
        let rows = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?;
        rows.collect::<rusqlite::Result<_>>()?
    };
    for (id, removed) in series {
        let split = keep_built_apart(db, id, &acts)?;
        for id in std::iter::once(id).chain(split) {
            keep_changes(db, id, removed)?;
            move_paths(db, id)?;
        }
    }
    for table in OLD.iter().rev() {
        db.execute_batch(&format!("DROP TABLE old_{table}"))?;
    }
    db.pragma_update(None, "user_version", VERSION)?;
    Ok(())
}

/// Takes the editions over, with their provenance typed; gives the act of each.
fn take_editions(db: &Connection) -> Result<BTreeMap<i64, String>> {
    let mut query = db.prepare("SELECT id, act, detail FROM old_edition ORDER BY id")?;
    let mut rows = query.query([])?;
    let mut acts = BTreeMap::new();
    while let Some(row) = rows.next()? {
        let (id, act, detail): (i64, String, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
        let detail: Value = serde_json::from_str(&detail).map_err(|e| {
            Error::storage(format!("Edition {id} in the catalog cannot be read ({e}); nothing was changed."))
        })?;
        let provenance = provenance_of(db, id, &act, &detail)?;
        db.execute(
            "INSERT INTO edition (id, series, number, before, provenance, fingerprint, made, clock, price_decimals,
             volume_decimals, fields, rows, first, last, bytes)
             SELECT id, series, number, before, ?2, ?3, made, clock, price_decimals, volume_decimals, fields, rows,
             first, last, bytes FROM old_edition WHERE id = ?1",
            params![id, serde_json::to_string(&provenance).unwrap_or_default(), provenance.fingerprint()],
        )?;
        acts.insert(id, act);
    }
    Ok(acts)
}

fn provenance_of(db: &Connection, id: i64, act: &str, detail: &Value) -> Result<Provenance> {
    let text = |key: &str| detail[key].as_str().unwrap_or_default().to_owned();
    let parent = |name: &Value, edition: &Value| -> Option<Input> {
        Some(Input::Edition { id: edition.as_i64()?, series: name.as_str()?.parse().ok()? })
    };
    let (made, inputs) = match act {
        "intake" => {
            let taken: TakenIn = serde_json::from_value(detail.clone()).unwrap_or_default();
            (Made::Intake(Box::new(taken)), Vec::new())
        }
        "check" => {
            let mends: Vec<String> = serde_json::from_value(detail["mended"].clone()).unwrap_or_default();
            let settles_order = mends.iter().any(|m| m == "out_of_order");
            let counts = serde_json::from_value(detail["counts"].clone()).unwrap_or_default();
            (Made::Check(Mending { mends, counts, settles_order }), Vec::new())
        }
        "align" => {
            let anchoring = Anchoring {
                to: text("to"),
                chosen: detail["chosen"].as_bool().unwrap_or_default(),
                confidence: detail["confidence"].as_f64(),
                stamp: text("stamp"),
                doubtful_times: detail["doubtful_times"].as_u64().unwrap_or_default(),
                disorder: serde_json::from_value(detail["disorder"].clone()).unwrap_or_default(),
            };
            (Made::Align(anchoring), Vec::new())
        }
        "splice" => {
            let spreads: Option<Vec<i64>> =
                serde_json::from_value(detail["spreads"].clone()).unwrap_or_default();
            let joining = Joining {
                rule: text("rule"),
                level: text("level"),
                carry_spread: detail["carry_spread"].as_bool().unwrap_or_default(),
                layered: detail["layer"].is_string(),
                gaps: serde_json::from_value(detail["gaps"].clone()).unwrap_or_default(),
                // A spread that was not known in an hour was written as 0.
                spreads: spreads.map(|s| s.into_iter().map(|v| (v > 0).then_some(v)).collect()),
                seams: serde_json::from_value(detail["seams"].clone()).unwrap_or_default(),
                carried: detail["carried"].as_u64().unwrap_or_default(),
                kept_rows: detail["kept_rows"].as_u64().unwrap_or_default(),
            };
            let from = detail["from"].as_array().into_iter().flatten();
            (Made::Splice(joining), from.filter_map(|p| parent(&p["series"], &p["edition"])).collect())
        }
        "frames" => {
            let name: Option<SeriesName> = db
                .query_row(
                    "SELECT s.instrument || '@' || s.source || ':' || s.frame FROM old_series s JOIN old_edition e
                     ON e.series = s.id WHERE e.id = ?1",
                    [id],
                    |r| r.get::<_, String>(0),
                )?
                .parse()
                .ok();
            let framing = Framing {
                frame: name.as_ref().map_or(crate::model::Frame::M1, |n| n.frame),
                side: name.map_or(Side::Bid, |n| n.side),
                clock: detail["clock"].as_str().map(str::to_owned),
                partial_first: detail["partial_first"].as_bool().unwrap_or_default(),
                partial_last: detail["partial_last"].as_bool().unwrap_or_default(),
                empty: EmptyBars::Skip,
                too_large: 0,
            };
            (Made::Frames(framing), parent(&detail["from"], &detail["edition"]).into_iter().collect())
        }
        "compose" => {
            // A number within its series, unlike elsewhere.
            let (name, number) = (text("from"), detail["edition"].as_i64().unwrap_or_default());
            let of = "SELECT e.id FROM old_edition e JOIN old_series s ON s.id = e.series
                 WHERE s.instrument || '@' || s.source || ':' || s.frame = ?1 AND e.number = ?2";
            let source = super::sql::maybe::<i64>(db, of, params![name, number])?;
            let input = source.and_then(|id| Some(Input::Edition { id, series: name.parse().ok()? }));
            (Made::Compose(Box::default()), input.into_iter().collect())
        }
        _ => (Made::Unknown, Vec::new()),
    };
    Ok(Provenance::of(made).reading(inputs))
}

/// Gives the editions of a series that were built a series of their own, where the series also has some that
/// were not; gives that series.
fn keep_built_apart(db: &Connection, series: i64, acts: &BTreeMap<i64, String>) -> Result<Option<i64>> {
    let all = editions::editions(db, series)?;
    let before = |id: i64| all.iter().find(|e| e.id == id).and_then(|e| e.before);
    let act = |id: i64| acts.get(&id).map_or("", String::as_str);
    // A mended edition is what the one before it was.
    let is_built = |mut id: i64| loop {
        match (act(id), before(id)) {
            ("check" | "align", Some(earlier)) => id = earlier,
            (act, _) => break act == "frames",
        }
    };
    let built: Vec<i64> = all.iter().map(|e| e.id).filter(|id| is_built(*id)).collect();
    if built.is_empty() {
        return Ok(None);
    }
    if built.len() == all.len() {
        db.execute("UPDATE series SET built = 1 WHERE id = ?1", [series])?;
        return Ok(None);
    }
    let current: Option<i64> =
        db.query_row("SELECT current FROM series WHERE id = ?1", [series], |r| r.get(0))?;
    db.execute(
        "INSERT INTO series (instrument, source, frame, built, current, numbered)
         SELECT instrument, source, frame, 1, NULL, numbered FROM series WHERE id = ?1",
        [series],
    )?;
    let other = db.last_insert_rowid();
    for id in &built {
        db.execute("UPDATE edition SET series = ?1 WHERE id = ?2", [other, *id])?;
    }
    // Each chain goes on with the nearest edition before that is of its own kind.
    let nearest = |mut id: Option<i64>, is_wanted: bool| {
        while let Some(at) = id.filter(|at| built.contains(at) != is_wanted) {
            id = before(at);
        }
        id
    };
    for e in &all {
        let kind = built.contains(&e.id);
        db.execute("UPDATE edition SET before = ?1 WHERE id = ?2", params![nearest(e.before, kind), e.id])?;
    }
    for (id, kind) in [(series, false), (other, true)] {
        db.execute("UPDATE series SET current = ?1 WHERE id = ?2", params![nearest(current, kind), id])?;
    }
    Ok(Some(other))
}

/// Makes the changes that lead from edition to edition, so that a series can be stepped back and forth.
fn keep_changes(db: &Connection, series: i64, removed: Option<i64>) -> Result<()> {
    let all = editions::editions(db, series)?;
    let name = editions::stored_name(db, series)?;
    let current: Option<i64> =
        db.query_row("SELECT current FROM series WHERE id = ?1", [series], |r| r.get(0))?;
    let removed = removed.filter(|id| current.is_none() && all.iter().any(|e| e.id == *id));
    let chain = |tip: Option<i64>| {
        let mut chain = Vec::new();
        let mut at = tip;
        while let Some(e) = at.and_then(|id| all.iter().find(|e| e.id == id)) {
            chain.push(e.id);
            at = e.before;
        }
        chain.reverse();
        chain
    };
    let here = current.or(removed);
    // What was stepped back over last leads on from where the series stands.
    let newest = chain(all.first().map(|e| e.id));
    let line = if here.is_none_or(|id| newest.contains(&id)) { newest } else { chain(here) };
    let state = |current| SubjectState::Series { name: name.clone(), current };
    let subject = ChangedThing::Series(series);
    let stands_at = here.and_then(|id| line.iter().position(|e| *e == id));
    let mut before = None;
    for (place, id) in line.iter().enumerate() {
        if removed.is_some() && stands_at.is_some_and(|at| place > at) {
            break;
        }
        let act = journal_line(db, "", "", "")?;
        record(db, act, &subject, Some(&state(before)), Some(&state(Some(*id))))?;
        let is_undone = stands_at.is_none_or(|at| place > at);
        // Set once all are kept: keeping one ends what could be redone before it.
        if is_undone {
            db.execute("UPDATE change SET undone = 2 WHERE id = ?1", [db.last_insert_rowid()])?;
        }
        before = Some(*id);
    }
    if let Some(id) = removed {
        let act = journal_line(db, "", "", "")?;
        record(db, act, &subject, Some(&state(Some(id))), Some(&state(None)))?;
    }
    db.execute("UPDATE change SET undone = 1 WHERE undone = 2", [])?;
    Ok(())
}

/// Gives the segments of a series the paths of today; the files are moved afterwards.
fn move_paths(db: &Connection, series: i64) -> Result<()> {
    let name = editions::stored_name(db, series)?;
    let paths: Vec<String> = editions::standings(db, series)?.into_iter().map(|s| s.0).collect();
    for path in paths {
        let new = path_of_today(&name, &path);
        if new != path {
            db.execute("UPDATE segment SET path = ?1 WHERE path = ?2", [&new, &path])?;
            db.execute("INSERT INTO renaming (old, new) VALUES (?1, ?2)", [&path, &new])?;
        }
    }
    Ok(())
}
