//! Instruments whose rows are those of others in a formula.

use serde_json::{Value, json};
use stavel_core::compose::{ComposeRequest, FormulaDone, FormulaRequest, compose_formula};
use stavel_core::job::Job;
use stavel_core::model::SeriesName;
use stavel_core::model::provenance::FormulaMade;
use stavel_core::model::time;
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use crate::report::{StepReport, series_made};
use crate::step::ComposeStep;

/// Makes the rows of an instrument by the formula of a step.
pub fn by_formula(
    shelf: &mut Shelf,
    step: &ComposeStep,
    text: &str,
    instrument: ComposeRequest,
    job: &Job,
) -> Result<StepReport> {
    let stale = step.stale.as_deref().map(time::parse_length).transpose()?;
    if stale.is_some_and(|stale| stale < 0) {
        return Err(Error::arguments(
            "A price cannot hold for less than no time; give --stale a length as 10s.",
        ));
    }
    let request = FormulaRequest {
        instrument,
        text: text.to_owned(),
        source: step.source.clone(),
        frame: step.frame,
        stale,
        legs: Vec::new(),
    };
    Ok(told(compose_formula(shelf, &request, job)?))
}

/// Makes a series again by the formula it was made by, of what its legs are now.
pub fn by_formula_again(
    shelf: &mut Shelf,
    instrument: ComposeRequest,
    info: &SeriesInfo,
    made: &FormulaMade,
    job: &Job,
) -> Result<StepReport> {
    let request = FormulaRequest {
        instrument,
        text: made.text.clone(),
        source: Some(info.name.source.clone()),
        frame: Some(info.name.frame),
        stale: Some(made.stale),
        legs: info.edition.provenance.parents().map(|(_, series)| series.clone()).collect(),
    };
    Ok(told(compose_formula(shelf, &request, job)?))
}

fn told(done: FormulaDone) -> StepReport {
    let edition = &done.series.edition;
    let mut doubts = done.instrument.doubts();
    doubts.extend(done.doubts.clone());
    let unit = done.unit.unit.as_ref().map(ToString::to_string);
    let mut note = format!(
        "{}: {} rows, {}, {} decimals",
        done.told,
        edition.rows,
        if done.is_two_sided { "bid and ask" } else { "one price" },
        edition.scale.price
    );
    if let Some(unit) = &unit {
        note.push_str(&format!("; {unit}"));
    }
    let leg = |(at, series): (usize, &SeriesName)| {
        let of = |all: &[u64]| all.get(at).copied().unwrap_or(0);
        let left = &done.left;
        (
            series.clone(),
            [of(&left.outside), of(&left.missing), of(&left.stale), of(&left.one_sided), of(&left.carried)],
        )
    };
    let legs: Vec<(SeriesName, [u64; 5])> = done.legs.iter().enumerate().map(leg).collect();
    let json = json!({
        "instrument": done.instrument.name,
        "series": [series_made(&done.series)],
        "formula": {
            "told": done.told,
            "unit": unit,
            "two_sided": done.is_two_sided,
            "decimals": edition.scale.price,
            "legs": legs.iter().map(|(series, [outside, missing, stale, one_sided, carried])| {
                json!({"series": series, "outside": outside, "missing": missing, "stale": stale, "one_sided": one_sided, "carried": carried})
            }).collect::<Vec<Value>>(),
            "divided_by_zero": done.left.by_zero,
            "no_number": done.left.no_number,
            "before_window": done.left.waiting,
        },
        "notes": [note],
        "doubts": doubts,
    });
    let mut lines = vec![format!("{}: {note}", done.series.name)];
    lines.push(format!("  of {}", done.legs.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")));
    for (series, counts) in &legs {
        let missing = if series.frame.is_bars() { "without its bar" } else { "before it has both sides" };
        let whats =
            ["before it begins or after it ends", missing, "with a price too old", "without its spread"];
        for (count, what) in counts.iter().zip(whats).filter(|(count, _)| **count > 0) {
            lines.push(format!("  left away: {count} moments {what} ({series})"));
        }
        if counts[4] > 0 {
            lines.push(format!(
                "  {} rows with a close before in place of a bar that is missing ({series})",
                counts[4]
            ));
        }
    }
    let rest = [
        (done.left.by_zero, "divided by 0"),
        (done.left.no_number, "without such a number"),
        (done.left.waiting, "before a window was full"),
    ];
    for (count, what) in rest.iter().filter(|(count, _)| *count > 0) {
        lines.push(format!("  left away: {count} moments {what}"));
    }
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    StepReport {
        wants_person: !doubts.is_empty(),
        changed: vec![done.series.name],
        assumed: done.assumed,
        ..StepReport::new(json, lines)
    }
}
