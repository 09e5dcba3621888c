//! The spec sheet of an instrument: each value, how it is known, from where and since when.

use serde_json::{Value, json};
use stavel_core::model::instrument::{KEYS, applies};
use stavel_core::model::time::{Micros, rfc3339, wall};
use stavel_core::model::{Instrument, Standing};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

use crate::account_money::{AccountWish, in_account};
use crate::dates::{ToldValue, told_values};
use crate::report::StepReport;

/// A value of a spec sheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SheetValue {
    /// Its key.
    pub key: &'static str,
    /// As written.
    pub value: String,
    /// How it is known.
    pub standing: Standing,
    /// The instrument that owns it; none for what follows from kind and name.
    pub from: Option<String>,
    /// When it was said or found, UTC; none where the shelf does not know.
    pub since: Option<Micros>,
    /// The broker who says it, of a value that came from a feed.
    pub by: Option<String>,
    /// What was said of it before and by others, in order of time.
    pub earlier: Vec<ToldValue>,
    /// False for what instruments of its kind do not have.
    pub applies: bool,
}

impl SheetValue {
    /// False where there is no value and nobody has said so: nothing is assumed there.
    pub fn is_known(&self) -> bool {
        !self.value.is_empty() || self.standing != Standing::Assumed
    }
}

/// The values of an instrument in the order of the keys.
///
/// # Errors
/// Where there is no such instrument, or the catalog cannot be read.
pub fn sheet_values(shelf: &Shelf, name: &str) -> Result<Vec<SheetValue>> {
    let instrument = shelf.instrument(name)?;
    let line = line_of(shelf, &instrument)?;
    KEYS.iter()
        .map(|key| {
            let owner = line.iter().find(|i| owns(i, key.name));
            let (mut since, mut by, mut earlier) = (None, None, Vec::new());
            if let Some(owner) = owner {
                since = shelf.value_dates(&owner.name)?.get(key.name).copied();
                earlier = told_values(shelf, &owner.name)?.remove(key.name).unwrap_or_default();
                let found = owner.own.found.get(key.name).filter(|_| !owner.own.said.contains_key(key.name));
                if let Some(at) = earlier.iter().rposition(|told| Some(&told.value) == found) {
                    let standing = earlier.remove(at);
                    (since, by) = (Some(standing.since), Some(standing.source));
                }
            }
            Ok(SheetValue {
                by,
                earlier,
                key: key.name,
                value: instrument.values.get(key.name).cloned().unwrap_or_default(),
                standing: instrument.standing(key.name),
                from: owner.map(|i| i.name.clone()),
                since,
                applies: applies(key.name, instrument.sheet.kind),
            })
        })
        .collect()
}

fn owns(instrument: &Instrument, key: &str) -> bool {
    instrument.own.said.contains_key(key) || instrument.own.found.contains_key(key)
}

/// The instrument, the one it is like, and so on.
fn line_of(shelf: &Shelf, instrument: &Instrument) -> Result<Vec<Instrument>> {
    let mut line = vec![instrument.clone()];
    while let Some(like) = line.last().and_then(|i| i.own.like.clone()) {
        line.push(shelf.instrument(&like)?);
    }
    Ok(line)
}

/// The spec sheet as lines for people and as a document.
///
/// # Errors
/// As [`sheet_values`].
pub fn sheet_report(shelf: &Shelf, name: &str, account: Option<&AccountWish>) -> Result<StepReport> {
    let values = sheet_values(shelf, name)?;
    let instrument = shelf.instrument(name)?;
    let like = instrument.own.like.as_deref().map(|l| format!(", like {l}")).unwrap_or_default();
    let mut lines = vec![format!("{name}: {}{like}", instrument.values["kind"])];
    let is_shown = |v: &&SheetValue| v.applies || v.from.as_deref() == Some(name);
    lines.extend(values.iter().filter(is_shown).map(|v| {
        let from = v.from.as_deref().filter(|from| *from != name).map(|from| format!(" from {from}"));
        let since = v.since.map(|t| format!(" since {}", &wall(t)[..10]));
        let is_known = v.is_known();
        let standing = if is_known { v.standing.to_string() } else { "not known".to_owned() };
        let by = v.by.as_ref().map(|by| format!(", as {by} says")).unwrap_or_default();
        let told = format!("{standing} {}{by}{}", from.unwrap_or_default(), since.unwrap_or_default());
        format!(
            "  {} {:<14} {:<42} {}",
            if is_known { v.standing.mark() } else { " " },
            v.key,
            if v.value.is_empty() { "–" } else { &v.value },
            told.replace("  ", " ").replace(" ,", ",").trim_end()
        )
    }));
    let mut doubts = instrument.doubts();
    let money = account.map(|wish| in_account(shelf, &instrument, wish)).transpose()?;
    if let Some(money) = &money {
        lines.extend(money.lines.iter().cloned());
        doubts.extend(money.doubts.iter().cloned());
    }
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    let mut json = json!({
        "instrument": name, "like": instrument.own.like, "doubts": doubts,
        "values": values.iter().map(value_json).collect::<Vec<_>>(),
    });
    if let Some(money) = money {
        json["account"] = money.json;
    }
    Ok(StepReport { wants_person: !doubts.is_empty(), ..StepReport::new(json, lines) })
}

fn value_json(v: &SheetValue) -> Value {
    json!({
        "key": v.key, "value": Some(&v.value).filter(|v| !v.is_empty()), "applies": v.applies, "from": v.from,
        "standing": Some(v.standing.to_string()).filter(|_| v.is_known()),
        "since": v.since.map(rfc3339), "by": v.by,
        "earlier": v.earlier.iter().map(|t| json!({"source": t.source, "since": rfc3339(t.since), "value": t.value})).collect::<Vec<_>>(),
    })
}

/// The spec sheet as CSV (RFC 4180): `key,value,standing,from,since`.
///
/// # Errors
/// As [`sheet_values`].
pub fn sheet_csv(shelf: &Shelf, name: &str) -> Result<String> {
    let failed =
        |e: csv::Error| Error::storage(format!("The sheet of {name} cannot be written as CSV: {e}."));
    let mut out = csv::Writer::from_writer(Vec::new());
    out.write_record(["key", "value", "standing", "from", "since"]).map_err(failed)?;
    for v in sheet_values(shelf, name)? {
        let standing = if v.is_known() { v.standing.to_string() } else { String::new() };
        let since = v.since.map(rfc3339).unwrap_or_default();
        let cells = [v.key, &v.value, &standing, v.from.as_deref().unwrap_or_default(), &since];
        out.write_record(cells).map_err(failed)?;
    }
    let bytes = out.into_inner().map_err(|e| failed(e.into_error().into()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}
