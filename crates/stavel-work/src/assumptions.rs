//! What a step's result rests on that nobody said and nothing shows.

use crate::patterns::reads_on;
use crate::step::Step;
use stavel_core::Result;
use stavel_core::model::instrument::InstrumentKind;
use stavel_core::model::provenance::Rebuilding;
use stavel_core::model::stress::Stress;
use stavel_core::model::{Decision, Instrument, Made, Provenance, SeriesName, Standing};
use stavel_core::store::Shelf;

/// The assumptions behind what a step did: those of the rows it read, and values of spec sheets that it used
/// and that are only defaults.
pub fn assumptions(shelf: &Shelf, step: &Step) -> Result<Vec<Decision>> {
    let mut out: Vec<Decision> = Vec::new();
    let series = match step {
        // What a formula or a chain reads is known once it was worked out.
        Step::Compose(s) if s.formula.is_some() || s.again || !s.chain.is_empty() || s.changes_chain() => {
            shelf.series_of(&s.name)?.into_iter().map(|info| info.name).collect()
        }
        _ => reads_on(shelf, step)?,
    };
    for series in &series {
        add(&mut out, of_rows(shelf, series)?);
    }
    for (instrument, keys) in sheet_values(step, &series) {
        if shelf.has_instrument(&instrument)? {
            add(&mut out, of_sheet(&shelf.instrument(&instrument)?, keys));
        }
    }
    Ok(out)
}

fn add(out: &mut Vec<Decision>, more: Vec<Decision>) {
    for decision in more {
        if !out.iter().any(|d| d.what == decision.what && d.value == decision.value) {
            out.push(decision);
        }
    }
}

/// What was assumed when the rows of a series were taken in, as far back as its editions and those of its
/// sources go.
pub fn of_rows(shelf: &Shelf, series: &SeriesName) -> Result<Vec<Decision>> {
    let Some(info) = shelf.current(series)? else { return Ok(Vec::new()) };
    let (mut out, mut seen, mut todo) = (Vec::new(), Vec::new(), vec![info.edition]);
    while let Some(edition) = todo.pop() {
        if seen.contains(&edition.id) {
            continue;
        }
        seen.push(edition.id);
        match &edition.provenance.made {
            Made::Intake(taken) => {
                add(&mut out, taken.decisions.iter().filter(|d| d.is_assumed()).cloned().collect());
            }
            Made::Compose(composed) => {
                let made_up =
                    composed.variation.stress.as_deref().map(|s| made_up_rows(&edition.provenance, s));
                add(&mut out, made_up.into_iter().collect());
            }
            Made::Rebuild(rebuilt) => add(&mut out, vec![rebuilt_ticks(&edition.provenance, rebuilt)]),
            _ => {}
        }
        let parents = edition.provenance.parents().map(|p| p.0);
        let before = edition.before.filter(|_| !edition.provenance.made.is_derived());
        for id in parents.chain(before) {
            todo.extend(shelf.edition(id)?);
        }
    }
    Ok(out)
}

/// That ticks were made of bars.
fn rebuilt_ticks(provenance: &Provenance, rebuilt: &Rebuilding) -> Decision {
    let bars = provenance.parents().next().map_or(String::new(), |(_, series)| format!(" from {series}"));
    let way = match &rebuilt.like {
        Some(like) => format!("the way within each bar is made up, by what {like} shows"),
        None => "the way within each bar is made up, as a random walk".to_owned(),
    };
    Decision::new("ticks", format!("rebuilt{bars}, seed {}", rebuilt.seed), Standing::Assumed, way)
}

/// That rows were made up for a stress test.
fn made_up_rows(provenance: &Provenance, stress: &Stress) -> Decision {
    let base = provenance.parents().next().map_or(String::new(), |(_, series)| format!(" of {series}"));
    let why = "a stress variant is no record of trading".to_owned();
    Decision::new("rows", format!("made up{base}: {}", stress.in_words().join(", ")), Standing::Assumed, why)
}

/// True where nobody has said or shown when a session day begins and the trade has no usage: pairs of currencies
/// turn the day at 17:00 in New York, other goods when their exchange does.
pub fn day_is_anyones_guess(instrument: &Instrument) -> bool {
    let is_pair = instrument.values.get("kind").is_some_and(|k| k == "forex");
    let is_assumed = |key| instrument.standing(key) == Standing::Assumed;
    !is_pair && is_assumed("hours") && is_assumed("clock")
}

/// The values of a sheet that a step uses, by instrument.
fn sheet_values(step: &Step, read: &[SeriesName]) -> Vec<(String, &'static [&'static str])> {
    const SESSION: &[&str] = &Instrument::SESSION;
    const MONEY: &[&str] = &["contract_size", "tick_size", "tick_value", "commission", "hours", "clock"];
    let of = |series: &SeriesName, keys| vec![(series.instrument.clone(), keys)];
    match step {
        Step::Check(s) => of(&s.series, SESSION),
        Step::Frames(_) => read.iter().flat_map(|s| of(s, &Instrument::DAYS)).collect(),
        Step::Splice(s) => s.series.first().map_or(Vec::new(), |name| of(name, SESSION)),
        Step::Rehearse(s) => s.series.iter().flat_map(|series| of(series, MONEY)).collect(),
        _ => Vec::new(),
    }
}

/// The values of a sheet that are only defaults. Holidays count only where there are some: that none are known
/// is told by the session week. What becomes of a Sunday counts only where the market opens while the clock shows one, a
/// settlement only where the trade has one.
pub fn of_sheet(instrument: &Instrument, keys: &[&str]) -> Vec<Decision> {
    let is_assumed = |key: &&&str| instrument.standing(key) == Standing::Assumed;
    let value = |key: &str| instrument.values.get(key).cloned().unwrap_or_default();
    keys.iter()
        .filter(is_assumed)
        .filter(|key| !value(key).is_empty())
        .filter(|key| match **key {
            "sunday" => instrument.sheet.session.has_sunday_part(),
            "settlement" => instrument.sheet.kind == InstrumentKind::Futures,
            _ => true,
        })
        .map(|key| {
            let why = format!(
                "the spec sheet of {} has only a default; compose {} --set says it",
                instrument.name, instrument.name
            );
            Decision::new(key, value(key), Standing::Assumed, why)
        })
        .collect()
}
