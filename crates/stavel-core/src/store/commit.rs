//! Naming a new edition in the catalog.

use rusqlite::{Connection, params};

use super::act::{ChangedThing, SubjectState, record};
use super::editions::{SegmentInfo, add_segment, set_holding};
use super::records;
use super::sql::now;
use crate::Result;
use crate::model::{Clock, Columns, OwnValues, Provenance, SeriesName};

/// What a new edition says of itself.
pub struct NewEdition<'a> {
    pub id: i64,
    /// As it is stored: bars that were built are marked so.
    pub name: &'a SeriesName,
    pub provenance: &'a Provenance,
    pub clock: Option<&'a Clock>,
    pub like: &'a Columns,
    pub kept: &'a [SegmentInfo],
    pub written: &'a [SegmentInfo],
}

/// Names an edition and its segments in one transaction and makes it current; gives the series' id.
pub fn commit_edition(db: &mut Connection, act: i64, new: &NewEdition<'_>) -> Result<i64> {
    let tx = db.transaction()?;
    let name = new.name;
    add_instrument(&tx, act, new)?;
    let key = params![name.instrument, name.source, name.frame_and_side(), name.built];
    tx.execute(
        "INSERT OR IGNORE INTO series (instrument, source, frame, built) VALUES (?1, ?2, ?3, ?4)",
        key,
    )?;
    let (series, before, number): (i64, Option<i64>, i64) = tx.query_row(
        "SELECT id, current, numbered + 1 FROM series WHERE instrument = ?1 AND source = ?2 AND frame = ?3 AND built = ?4",
        key,
        |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)),
    )?;
    let mut held: Vec<SegmentInfo> = new.kept.to_vec();
    for segment in new.written {
        held.push(SegmentInfo { id: add_segment(&tx, segment)?, ..segment.clone() });
    }
    held.sort_by_key(|s| (s.first, s.last, s.id));
    let fields: Vec<&str> = new.like.fields.iter().map(|f| f.name()).collect();
    tx.execute(
        "INSERT INTO edition (id, series, number, before, provenance, fingerprint, made, clock, price_decimals,
         volume_decimals, fields, rows, first, last, bytes)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15)",
        params![
            new.id,
            series,
            number,
            before,
            serde_json::to_string(new.provenance).unwrap_or_default(),
            new.provenance.fingerprint(),
            now(),
            new.clock.map(ToString::to_string),
            new.like.scale.price,
            new.like.scale.volume,
            fields.join(","),
            held.iter().map(|s| s.rows as i64).sum::<i64>(),
            held.first().map_or(0, |s| s.first),
            held.iter().map(|s| s.last).max().unwrap_or(0),
            held.iter().map(|s| s.bytes as i64).sum::<i64>(),
        ],
    )?;
    set_holding(&tx, new.id, &held.iter().map(|s| s.id).collect::<Vec<_>>())?;
    let sql = "UPDATE series SET current = ?1, numbered = ?2 WHERE id = ?3";
    tx.execute(sql, params![new.id, number, series])?;
    let state = |current| SubjectState::Series { name: name.clone(), current };
    record(&tx, act, &ChangedThing::Series(series), Some(&state(before)), Some(&state(Some(new.id))))?;
    tx.commit()?;
    Ok(series)
}

/// A new instrument comes with its first rows and has their decimals.
fn add_instrument(db: &Connection, act: i64, new: &NewEdition<'_>) -> Result<()> {
    let name = &new.name.instrument;
    if records::has_instrument(db, name)? {
        return Ok(());
    }
    let found = [("decimals".to_owned(), new.like.scale.price.to_string())].into();
    let own = OwnValues { found, ..OwnValues::default() };
    records::write_instrument(db, name, &own)?;
    record(db, act, &ChangedThing::Instrument(name.clone()), None, Some(&SubjectState::Instrument(own)))
}
