//! Tables of what is known of an instrument on a date: dividends and splits, statements, events.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader};

use serde::{Deserialize, Serialize};

use super::bring::Member;
use super::cells;
use super::moment;
use super::naming::cleaned;
use crate::job::Job;
use crate::model::actions::{names_dividends, names_splits};
use crate::model::layout::{Layout, Use};
use crate::model::time::{DAY, rfc3339};
use crate::model::{Micros, series};
use crate::store::{FACT_WHOLE_DAY, InstrumentFact, Shelf, fact_kind};
use crate::{Advice, Error, Result, Setting};

/// A table of facts to take in.
#[derive(Debug, Clone)]
pub struct FactsPlan {
    /// The file.
    pub member: Member,
    /// How its columns are understood.
    pub layout: Layout,
    /// The vendor or broker it came from.
    pub source: String,
    /// None where a column names the instrument.
    pub instrument: Option<String>,
    /// What kind of facts they are: `dividend`, `split`, `statement` or `event`.
    pub kind: &'static str,
}

/// What became of the facts of one instrument. Read = kept + rejected + already there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FactsTaken {
    /// The instrument the facts are of.
    pub instrument: String,
    /// What they are: dividends, splits, events.
    pub kind: String,
    /// Rows in the file.
    pub rows_read: u64,
    /// Facts that are new on the shelf.
    pub rows_kept: u64,
    /// Rows that could not be understood.
    pub rows_rejected: u64,
    /// Facts that were known.
    pub rows_already_there: u64,
    /// RFC 3339.
    pub first: String,
    /// The latest date, as written in RFC 3339.
    pub last: String,
}

impl FactsPlan {
    /// A plan for a table; `instrument` is what its name says.
    ///
    /// # Errors
    /// Where neither a column nor the name tells the instrument.
    pub fn of(member: Member, layout: Layout, source: &str, instrument: Option<String>) -> Result<FactsPlan> {
        let by_column = layout.columns.contains(&Use::Symbol);
        let instrument = match (by_column, instrument) {
            (true, _) => None,
            (false, Some(name)) => Some(name),
            (false, None) => {
                let place = member.place();
                return Err(Error::undecided(format!("The instrument of {place} cannot be told; say it."))
                    .advise(Advice::Say(Setting::Instrument)));
            }
        };
        let kind = kind_of(&layout);
        Ok(FactsPlan { member, layout, source: source.to_owned(), instrument, kind })
    }

    /// One line for people.
    pub fn in_words(&self) -> String {
        let of = self.instrument.as_deref().unwrap_or("the instruments of its symbol column");
        format!("{}: dated facts ({}) of {of}", self.member.place(), self.kind)
    }
}

fn kind_of(layout: &Layout) -> &'static str {
    let has = |words: &[&str]| {
        layout.columns.iter().any(|u| matches!(u, Use::Value(name) if words.iter().any(|w| name.contains(w))))
    };
    let any =
        |is_so: fn(&str) -> bool| layout.columns.iter().any(|u| matches!(u, Use::Value(name) if is_so(name)));
    if any(names_dividends) {
        "dividend"
    } else if any(names_splits) {
        "split"
    } else if has(&[
        "eps",
        "earnings",
        "revenue",
        "sales",
        "income",
        "assets",
        "equity",
        "cashflow",
        "statement",
        "fiscal",
    ]) {
        "statement"
    } else {
        "event"
    }
}

/// Takes a table of facts in. Facts that are there already are left as they are.
///
/// # Errors
/// Where the file cannot be read or hardly a row is understood; nothing is taken then.
pub fn take_facts(shelf: &mut Shelf, plan: &FactsPlan, job: &Job) -> Result<Vec<FactsTaken>> {
    job.begin(format!("intake {}", plan.member.name()), plan.member.bytes);
    let mut found: BTreeMap<String, Vec<InstrumentFact>> = BTreeMap::new();
    let (mut read, mut rejected) = (0u64, 0u64);
    let lead = plan.layout.skip + usize::from(plan.layout.header.is_some());
    for (n, line) in BufReader::new(plan.member.open()?).split(b'\n').enumerate() {
        let line = line.map_err(|e| Error::input(format!("{} cannot be read: {e}.", plan.member.place())))?;
        job.advance(line.len() as u64 + 1)?;
        if n < lead || line.trim_ascii().is_empty() {
            continue;
        }
        read += 1;
        match fact_of(line.trim_ascii_end(), plan) {
            Some((instrument, fact)) => found.entry(instrument).or_default().push(fact),
            None => rejected += 1,
        }
    }
    if rejected * 2 > read || read == 0 {
        let place = plan.member.place();
        return Err(Error::input(format!(
            "{rejected} of {read} rows of {place} cannot be understood; nothing was taken."
        )));
    }
    let mut taken = Vec::new();
    for (instrument, facts) in found {
        series::check_name("instrument", &instrument)?;
        let kept = shelf.put_facts(&instrument, &facts)?;
        let rejected = std::mem::take(&mut rejected);
        let ends = |pick: fn(Micros, Micros) -> Micros| {
            facts.iter().map(|f| f.time).reduce(pick).map_or(String::new(), rfc3339)
        };
        taken.push(FactsTaken {
            instrument,
            kind: plan.kind.into(),
            rows_read: facts.len() as u64 + rejected,
            rows_kept: kept,
            rows_rejected: rejected,
            rows_already_there: facts.len() as u64 - kept,
            first: ends(Micros::min),
            last: ends(Micros::max),
        });
    }
    Ok(taken)
}

/// The fact of a line, and whose it is.
fn fact_of(line: &[u8], plan: &FactsPlan) -> Option<(String, InstrumentFact)> {
    let (mut time, mut is_day) = (0, true);
    let mut instrument = plan.instrument.clone();
    let mut values = BTreeMap::new();
    let text = |c: &[u8]| String::from_utf8_lossy(c).into_owned();
    for (used, cell) in plan.layout.columns.iter().zip(cells::of(line, plan.layout.delimiter)) {
        match used {
            Use::Moment => {
                time += moment::moment(cell, plan.layout.dates)?;
                is_day &= cell.trim_ascii().len() <= 10;
            }
            Use::Date => time += moment::date(cell, plan.layout.dates).filter(|d| d.1.is_empty())?.0 * DAY,
            // A cell without a time of day says the day alone.
            Use::Time if cell.trim_ascii().is_empty() => {}
            Use::Time => (time, is_day) = (time + moment::time_of_day(cell)?, false),
            Use::Unix(unit) => (time, is_day) = (time + moment::since_1970(cell, *unit)?, false),
            Use::DayNumber => time += moment::day_number(cell)?,
            Use::Symbol => instrument = Some(cleaned(&text(cell))),
            Use::Value(name) if !cell.is_empty() => {
                values.insert(name.clone(), text(cell));
            }
            _ => {}
        }
    }
    if values.is_empty() {
        return None;
    }
    let is_whole_day = is_day && plan.kind == fact_kind::EVENT;
    let time = match &plan.layout.clock {
        Some(clock) if !is_whole_day => clock.from_wall(time).settle(),
        _ => time,
    };
    if is_whole_day {
        values.insert(FACT_WHOLE_DAY.into(), "true".into());
    }
    let fact = InstrumentFact { source: plan.source.clone(), time, kind: plan.kind.into(), values };
    Some((instrument?, fact))
}
