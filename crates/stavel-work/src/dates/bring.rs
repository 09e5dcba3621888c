//! Dated facts out of calendars onto the shelf, and holidays into the spec sheets.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use stavel_core::Result;
use stavel_core::model::session::Holiday;
use stavel_core::store::{FactFilter, FactsBrought, InstrumentFact, Shelf, fact_kind};

use super::ReadDates;
use super::entries::{CLOSED, DatedEntry};
use crate::report::{StepReport, counted};

/// What became of calendars.
#[derive(Debug, Default)]
pub struct DatesTaken {
    /// By what they are about and by kind.
    by: BTreeMap<(String, String), (FactsBrought, u64)>,
    /// Entries that could not be understood: which, and why.
    pub rejected: Vec<String>,
    /// Sheets whose holidays changed, with the number of days.
    sheets: BTreeMap<String, usize>,
    /// What a person should look at.
    doubts: BTreeSet<String>,
}

/// Rejected entries that are told one by one.
const SHOWN: usize = 5;

/// Brings what calendars of a source say onto the shelf.
///
/// # Errors
/// Where the catalog cannot be written.
pub fn bring_dates(shelf: &mut Shelf, read: ReadDates, taken: &mut DatesTaken) -> Result<()> {
    let mut by_about: BTreeMap<String, (Vec<InstrumentFact>, Vec<InstrumentFact>)> = BTreeMap::new();
    for DatedEntry { about, fact, is_cancelled } in read.entries {
        let (stand, fall) = by_about.entry(about).or_default();
        if is_cancelled { fall.push(fact) } else { stand.push(fact) }
    }
    taken.rejected.extend(read.rejected);
    let mut have_holidays = BTreeSet::new();
    for (about, (stand, fall)) in by_about {
        stavel_core::model::series::check_name("instrument", &about)?;
        let kinds: BTreeSet<&String> = stand.iter().chain(&fall).map(|fact| &fact.kind).collect();
        for kind in kinds {
            let of_kind = |facts: &[InstrumentFact]| -> Vec<InstrumentFact> {
                facts.iter().filter(|fact| fact.kind == *kind).cloned().collect()
            };
            let (stand, fall) = (of_kind(&stand), of_kind(&fall));
            let brought = shelf.bring_facts(&about, &stand, &fall)?;
            if kind == fact_kind::HOLIDAY {
                have_holidays.insert(about.clone());
            }
            let (sum, read) = taken.by.entry((about.clone(), kind.clone())).or_default();
            sum.added += brought.added;
            sum.changed += brought.changed;
            sum.gone += brought.gone;
            *read += (stand.len() + fall.len()) as u64;
        }
    }
    let instruments: Vec<String> = shelf.instruments()?.into_iter().map(|i| i.name).collect();
    for name in instruments {
        if shelf.names_of(&name)?.iter().any(|known| have_holidays.contains(known)) {
            holidays_into_sheet(shelf, &name, taken)?;
        }
    }
    Ok(())
}

/// Writes the holidays that calendars told before an instrument was there into its sheet; what there is to say of it.
///
/// # Errors
/// Where the catalog cannot be written.
pub fn holidays_known_of(shelf: &mut Shelf, instrument: &str) -> Result<Vec<String>> {
    let mut taken = DatesTaken::default();
    holidays_into_sheet(shelf, instrument, &mut taken)?;
    Ok(taken.sheet_lines())
}

/// Writes the holidays that are known of an instrument into its sheet: its own, or those of the product of a contract. Who
/// has said others keeps them, and is told.
///
/// # Errors
/// Where the catalog cannot be written.
fn holidays_into_sheet(shelf: &mut Shelf, name: &str, taken: &mut DatesTaken) -> Result<()> {
    let instrument = shelf.instrument(name)?;
    let filter = FactFilter::of_kind(fact_kind::HOLIDAY);
    // What is like another one has its holidays from there, unless a calendar names it itself.
    let known = match instrument.own.like.is_some() {
        true => shelf.facts(name)?.into_iter().filter(|fact| filter.holds(fact)).collect(),
        false => shelf.facts_about(name, &filter)?,
    };
    if known.is_empty() && !instrument.own.found.contains_key("holidays") {
        return Ok(());
    }
    let closed = known.iter().filter_map(|fact| fact.values.get(CLOSED));
    let mut by_day: BTreeMap<i64, BTreeSet<&String>> = BTreeMap::new();
    for closed in closed {
        if let Ok(holiday) = closed.parse::<Holiday>() {
            by_day.entry(holiday.day).or_default().insert(closed);
        }
    }
    for told in by_day.values().filter(|told| told.len() > 1) {
        let told: Vec<&str> = told.iter().map(|closed| closed.as_str()).collect();
        taken.doubts.insert(format!(
            "{name}: calendars tell one day otherwise each: {}; the first counts, and stavel compose {name} --set holidays=… says them all",
            told.join(", ")
        ));
    }
    let written: Vec<&String> = by_day.values().filter_map(|told| told.first().copied()).collect();
    let days: BTreeSet<Holiday> = written.iter().filter_map(|closed| closed.parse().ok()).collect();
    if let Some(said) = instrument.own.said.get("holidays") {
        let said: BTreeSet<Holiday> = said.split(',').filter_map(|day| day.parse().ok()).collect();
        if said != days {
            taken.doubts.insert(format!(
                "{name}: its sheet says other holidays, and keeps them; stavel compose {name} --reset holidays takes those of the calendar"
            ));
        }
    }
    let text = written.iter().map(|closed| closed.as_str()).collect::<Vec<_>>().join(", ");
    let mut own = instrument.own.clone();
    if own.found.get("holidays").map(String::as_str).unwrap_or_default() != text {
        own.found.insert("holidays".into(), text);
        shelf.put_instrument(name, &own)?;
        taken.sheets.insert(name.to_owned(), written.len());
    }
    Ok(())
}

impl DatesTaken {
    /// True where nothing was new.
    pub fn is_nothing_new(&self) -> bool {
        self.by.values().all(|(b, _)| b.added + b.changed + b.gone == 0) && self.sheets.is_empty()
    }

    /// What became of them, in lines and as a document; exit 3 where something was not understood or is in doubt.
    pub fn tell(&self, report: &mut StepReport) {
        for ((about, kind), (brought, read)) in &self.by {
            let there = read - (brought.added + brought.changed).min(*read);
            let mut line = format!("{about}: {} read = {} new", counted(*read, kind), brought.added);
            for (count, what) in
                [(brought.changed, "changed"), (brought.gone, "gone"), (there, "already there")]
            {
                if count > 0 {
                    line += &format!(" + {count} {what}");
                }
            }
            report.lines.push(line);
        }
        report.lines.extend(self.sheet_lines());
        report.lines.extend(self.rejected.iter().take(SHOWN).map(|why| format!("  ▲ not understood: {why}")));
        if self.rejected.len() > SHOWN {
            report.lines.push(format!("  ▲ and {} more", self.rejected.len() - SHOWN));
        }
        report.lines.extend(self.doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
        report.wants_person |= !self.rejected.is_empty() || !self.doubts.is_empty();
    }

    fn sheet_lines(&self) -> Vec<String> {
        let line = |(name, days): (&String, &usize)| {
            format!("  the sheet of {name} has {} of the calendar", counted(*days as u64, "holiday"))
        };
        self.sheets.iter().map(line).collect()
    }

    /// The same as a list of documents, and the number of entries that were not understood.
    pub fn json(&self) -> Vec<Value> {
        let one = |((about, kind), (brought, read)): (&(String, String), &(FactsBrought, u64))| {
            json!({
                "about": about, "kind": kind, "read": read, "added": brought.added, "changed": brought.changed,
                "gone": brought.gone,
            })
        };
        self.by.iter().map(one).collect()
    }
}
