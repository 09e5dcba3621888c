//! What is known on dates, in deliveries: events as a column beside bars, all of it as a table beside the files.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use stavel_core::deliver::WeighedEvents;
use stavel_core::model::time::{DAY, date, rfc3339};
use stavel_core::model::{Clock, Micros, Weight};
use stavel_core::store::{FactFilter, InstrumentFact, Shelf, fact_kind};
use stavel_core::{Error, Result};

use super::table::write_table;

/// The moments of the events that concern an instrument, with their weights. One that does not say its weight has none to
/// write, and one of which only the day is known falls into no bar.
///
/// # Errors
/// Where none is known, or the catalog cannot be read.
pub fn events_of(shelf: &Shelf, instrument: &str, least: Weight) -> Result<WeighedEvents> {
    let moments = known(shelf, instrument, least)?.into_iter().filter(InstrumentFact::has_moment);
    let events: Vec<(Micros, i64)> =
        moments.filter_map(|fact| Some((fact.time, fact.weight()? as i64))).collect();
    if events.is_empty() {
        return Err(Error::input(format!(
            "The shelf knows no event of {instrument} of that weight with its time; take a calendar in by stavel intake, or fetch one by stavel fetch --facts."
        )));
    }
    Ok(events.into())
}

/// The number of the events that concern an instrument and of which only the day is known.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn whole_days_of(shelf: &Shelf, instrument: &str, least: Weight) -> Result<usize> {
    Ok(known(shelf, instrument, least)?.iter().filter(|fact| !fact.has_moment()).count())
}

fn known(shelf: &Shelf, instrument: &str, least: Weight) -> Result<Vec<InstrumentFact>> {
    let filter = FactFilter { weight: Some(least), ..FactFilter::of_kind(fact_kind::EVENT) };
    shelf.facts_about(instrument, &filter)
}

/// Writes what is known on dates of each instrument beside the files.
///
/// # Errors
/// Where a file cannot be written.
pub fn write_facts(shelf: &Shelf, to: &Path, names: &BTreeSet<&str>, clock: &Clock) -> Result<Vec<PathBuf>> {
    let mut out = Vec::new();
    for name in names {
        let mut facts = shelf.facts_about(name, &FactFilter::default())?;
        // What a broker says of the sheet stands in the sheet.
        facts.retain(|fact| fact.kind != fact_kind::SHEET);
        let text = as_csv(&facts, clock)?;
        out.push(write_table(to, name, "dates", &text)?);
    }
    Ok(out)
}

/// Facts as CSV (RFC 4180): `time,kind,source,name,weight` and a column for each other value there is. Moments are on the
/// clock of the delivery; a day without a time is only that day.
fn as_csv(facts: &[InstrumentFact], clock: &Clock) -> Result<String> {
    const OWN: [&str; 9] =
        ["name", "title", "event", "events", "announcement", "description", "weight", "impact", "importance"];
    let failed = |e: csv::Error| Error::storage(format!("The dates cannot be written as CSV: {e}."));
    let keys = facts.iter().flat_map(|fact| fact.values.keys());
    let more: BTreeSet<&String> = keys.filter(|key| !OWN.contains(&key.as_str())).collect();
    let mut out = csv::Writer::from_writer(Vec::new());
    let head =
        ["time", "kind", "source", "name", "weight"].into_iter().chain(more.iter().map(|key| key.as_str()));
    out.write_record(head).map_err(failed)?;
    for fact in facts {
        let time = match fact.has_moment() {
            false => date(fact.time.div_euclid(DAY)),
            _ if *clock == Clock::utc() => rfc3339(fact.time),
            _ => rfc3339(clock.to_wall(fact.time)).trim_end_matches('Z').to_owned(),
        };
        let weight = fact.weight().map_or(String::new(), |weight| weight.to_string());
        let plain = |text: &str| stavel_core::deliver::without_formula(text).into_owned();
        let own =
            [time, fact.kind.clone(), fact.source.clone(), plain(fact.name().unwrap_or_default()), weight];
        let more = more.iter().map(|key| plain(fact.values.get(*key).map_or("", String::as_str)));
        out.write_record(own.into_iter().chain(more)).map_err(failed)?;
    }
    let bytes = out.into_inner().map_err(|e| failed(e.into_error().into()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::time::parse;

    #[test]
    fn each_value_has_a_column_and_no_cell_is_a_formula() {
        let fact = |kind: &str, time: &str, values: &[(&str, &str)]| InstrumentFact {
            source: "skerry".into(),
            time: parse(time).unwrap(),
            kind: kind.into(),
            values: values.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect(),
        };
        let facts = [
            fact("event", "2024-03-27 08:30", &[("name", "=rate"), ("weight", "high"), ("actual", "4.00 %")]),
            fact("event", "2024-03-28", &[("name", "call"), ("actual", "1")]),
            fact("split", "2024-03-28", &[("split", "2:1")]),
        ];
        let text = as_csv(&facts, &"Europe/Oslo".parse().unwrap()).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines[0], "time,kind,source,name,weight,actual,split");
        assert!(
            lines[1].starts_with("2024-03-27T09:30:00,event,skerry,") && !lines[1].contains(",=rate"),
            "{text}"
        );
        assert_eq!(lines[2], "2024-03-28T01:00:00,event,skerry,call,,1,", "midnight in UTC is a moment");
        assert_eq!(lines[3], "2024-03-28,split,skerry,,,,2:1");
    }
}
