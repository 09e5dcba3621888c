//! Instruments whose rows are those of futures contracts one behind the other.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::{Value, json};
use stavel_core::compose::{ChainDone, ChainRequest, ComposeRequest, compose_chain};
use stavel_core::job::Job;
use stavel_core::model::chain::{ChainedContract, Roll, RollAdjust, RollAt, RollDate, RollReason, RollRule};
use stavel_core::model::price::scaled;
use stavel_core::model::provenance::ChainMade;
use stavel_core::model::time::{date, rfc3339, wall};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

use crate::report::{StepReport, counted, series_made};
use crate::step::{ComposeStep, RollSetting};

/// Makes the rows of an instrument of the contracts of a step.
pub fn by_chain(
    shelf: &mut Shelf,
    step: &ComposeStep,
    instrument: ComposeRequest,
    job: &Job,
) -> Result<StepReport> {
    let Some(roll) = &step.roll else {
        return Err(Error::undecided(
            "Nobody said when the chain rolls; say --roll volume, oi, days=5 or dates=FILE.",
        ));
    };
    let request = ChainRequest {
        instrument,
        of: step.chain.clone(),
        source: step.source.clone(),
        frame: step.frame,
        rule: rule_of(roll)?,
        adjust: step.adjust,
        forward: step.forward,
        moved: moved_in(step).collect(),
    };
    if step.forward && matches!(step.adjust, None | Some(RollAdjust::None)) {
        return Err(Error::arguments(
            "Prices that are not adjusted go neither forward nor back; say --adjust difference or ratio.",
        ));
    }
    Ok(told(compose_chain(shelf, &request, job)?))
}

/// Makes a chain again of what its contracts are now; what the step says of rolls and prices counts instead of what was said
/// before.
pub fn by_chain_again(
    shelf: &mut Shelf,
    step: &ComposeStep,
    instrument: ComposeRequest,
    made: &ChainMade,
    job: &Job,
) -> Result<StepReport> {
    let mut moved = made.moved.clone();
    moved.extend(moved_in(step));
    let request = ChainRequest {
        instrument,
        of: made.of.iter().map(ToString::to_string).collect(),
        source: None,
        frame: None,
        rule: step.roll.as_ref().map_or_else(|| Ok(made.rule.clone()), rule_of)?,
        adjust: Some(step.adjust.unwrap_or(made.adjust)),
        forward: step.forward || made.forward && step.adjust.is_none(),
        moved,
    };
    Ok(told(compose_chain(shelf, &request, job)?))
}

fn moved_in(step: &ComposeStep) -> impl Iterator<Item = (String, RollAt)> {
    step.move_roll.iter().map(|moved| (moved.contract.clone(), moved.at))
}

fn rule_of(roll: &RollSetting) -> Result<RollRule> {
    Ok(match roll {
        RollSetting::Volume => RollRule::Volume,
        RollSetting::OpenInterest => RollRule::OpenInterest,
        RollSetting::Days(days) => RollRule::Days(*days),
        RollSetting::Dates(file) => RollRule::Dates(dates_in(file)?),
    })
}

/// The dates of a file: lines of `date`, `date,to` or `date,from,to`, or columns with these names in any order.
fn dates_in(file: &Path) -> Result<Vec<RollDate>> {
    let text = std::fs::read_to_string(file)
        .map_err(|e| Error::input(format!("{} cannot be read: {e}; check the path.", file.display())))?;
    let mut names: Option<Vec<String>> = None;
    let mut dates = Vec::new();
    for (number, line) in text.trim_start_matches('\u{feff}').lines().enumerate() {
        let line = line.split('#').next().unwrap_or_default().trim();
        if line.is_empty() {
            continue;
        }
        let cells: Vec<&str> =
            line.split([',', ';', '\t']).map(|cell| cell.trim().trim_matches('"')).collect();
        let is_header =
            names.is_none() && dates.is_empty() && cells.iter().any(|c| c.eq_ignore_ascii_case("date"));
        if is_header {
            names = Some(cells.iter().map(|cell| cell.to_ascii_lowercase()).collect());
            continue;
        }
        let place = |name: &str| match (&names, cells.len(), name) {
            (Some(names), ..) => names.iter().position(|n| n == name),
            (None, _, "date") => Some(0),
            (None, 2, "to") => Some(1),
            (None, 3, "from") => Some(1),
            (None, 3, "to") => Some(2),
            _ => None,
        };
        let cell = |name: &str| place(name).and_then(|at| cells.get(at)).filter(|cell| !cell.is_empty());
        let at = cell("date").map(|text| text.parse::<RollAt>());
        let (Some(Ok(at)), true) = (at, cells.len() <= 3 || names.is_some()) else {
            return Err(Error::input(format!(
                "Line {} of {} is no roll; write its date, or date,to or date,from,to as 2024-02-20,BLY-2024-05.",
                number + 1,
                file.display()
            )));
        };
        let name = |column: &str| cell(column).map(ToString::to_string);
        dates.push(RollDate { at, from: name("from"), to: name("to"), line: number + 1 });
    }
    if dates.is_empty() {
        return Err(Error::input(format!("{} has no dates of rolls.", file.display())));
    }
    Ok(dates)
}

/// A chain in the words of its settings: `days=5, by difference, back`.
pub fn chain_in_words(made: &ChainMade) -> String {
    let rule = match &made.rule {
        RollRule::Volume => "rolls by volume".to_owned(),
        RollRule::OpenInterest => "rolls by open interest".to_owned(),
        RollRule::Days(days) => format!("rolls {} before expiry", counted(u64::from(*days), "trading day")),
        RollRule::Dates(dates) => format!("rolls on {}", counted(dates.len() as u64, "date")),
    };
    let adjust = match made.adjust {
        RollAdjust::None => "prices as they are".to_owned(),
        adjust => format!(
            "adjusted by {adjust}, the {} contract keeps its prices",
            if made.forward { "first" } else { "last" }
        ),
    };
    format!("{rule}; {adjust}")
}

fn told(done: ChainDone) -> StepReport {
    let (edition, made) = (&done.series.edition, &done.made);
    let mut doubts = done.instrument.doubts();
    doubts.extend(done.doubts.clone());
    let used: Vec<&str> = match made.rolls.as_slice() {
        [] => made.contracts.first().map(|c| c.series.instrument.as_str()).into_iter().collect(),
        rolls => std::iter::once(rolls[0].from.as_str()).chain(rolls.iter().map(|r| r.to.as_str())).collect(),
    };
    let unused: Vec<&str> =
        made.contracts.iter().map(|c| c.series.instrument.as_str()).filter(|c| !used.contains(c)).collect();
    let mut notes = vec![format!(
        "{} contracts, {}, {} rows; {}",
        made.contracts.len(),
        counted(made.rolls.len() as u64, "roll"),
        edition.rows,
        chain_in_words(made)
    )];
    if !unused.is_empty() {
        notes.push(format!("no row is of {}", unused.join(", ")));
    }
    let json = json!({
        "instrument": done.instrument.name,
        "series": [series_made(&done.series)],
        "chain": {
            "adjust": made.adjust, "forward": made.forward, "decimals": made.decimals,
            "contracts": made.contracts.iter().map(|c| contract_json(c, &used)).collect::<Vec<Value>>(),
            "rolls": made.rolls.iter().map(|roll| roll_json(roll, made)).collect::<Vec<Value>>(),
        },
        "notes": notes,
        "doubts": doubts,
    });
    let mut lines = vec![format!("{}: {}", done.series.name, notes.join("; "))];
    if !made.rolls.is_empty() {
        lines.push("  session day  out of          into            last price    next price           gap   measured, UTC".into());
    }
    lines.extend(made.rolls.iter().map(|roll| roll_line(roll, made.decimals)));
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    StepReport {
        wants_person: !doubts.is_empty(),
        changed: vec![done.series.name],
        assumed: done.assumed,
        ..StepReport::new(json, lines)
    }
}

fn contract_json(contract: &ChainedContract, used: &[&str]) -> Value {
    json!({
        "series": contract.series,
        "month": contract.month,
        "expiry": contract.expiry.map(date),
        "expiry_is": match contract.expiry {
            Some(_) if contract.is_expiry_said => "said",
            Some(_) => "found",
            None => "not known",
        },
        "used": used.contains(&contract.series.instrument.as_str()),
    })
}

fn roll_json(roll: &Roll, made: &ChainMade) -> Value {
    let price =
        |pick: fn((i64, i64)) -> i64| roll.prices.map(pick).map(|points| scaled(points, made.decimals));
    json!({
        "day": date(roll.day), "at": rfc3339(roll.at), "from": roll.from, "to": roll.to, "why": roll.why,
        "measured": roll.measured.map(rfc3339),
        "from_price": price(|p| p.0), "to_price": price(|p| p.1),
        "gap": roll.gap().map(|points| scaled(points, made.decimals)), "ratio": roll.ratio(),
    })
}

fn roll_line(roll: &Roll, decimals: u8) -> String {
    let price =
        |points: Option<i64>| points.map_or_else(|| "–".to_owned(), |points| scaled(points, decimals));
    let measured = roll.measured.map_or_else(|| "never".to_owned(), wall);
    format!(
        "  {:<12} {:<15} {:<15} {:>10} {:>13} {:>13}   {measured}{}",
        date(roll.day),
        roll.from,
        roll.to,
        price(roll.prices.map(|p| p.0)),
        price(roll.prices.map(|p| p.1)),
        price(roll.gap()),
        match roll.why {
            RollReason::Rule => "",
            RollReason::Moved => "  moved by hand",
            RollReason::Ended => "  it had ended",
        }
    )
}

/// The request of a step's instrument, without rows of its own.
pub fn instrument_of(step: &ComposeStep, own: BTreeMap<String, String>) -> ComposeRequest {
    ComposeRequest {
        name: step.name.clone(),
        like: step.like.clone(),
        own,
        reset: step.reset.clone(),
        ..ComposeRequest::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<Vec<RollDate>> {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("rolls.csv");
        std::fs::write(&file, text).unwrap();
        dates_in(&file)
    }

    #[test]
    fn dates_are_read_in_every_plain_form() {
        let plain = read("# BLY\n2024-02-20\n\n2024-04-19 13:00\n").unwrap();
        assert_eq!(plain.iter().map(|d| d.line).collect::<Vec<_>>(), [2, 4]);
        let two = read("2024-02-20,BLY-2024-05\n").unwrap();
        assert_eq!((two[0].from.as_deref(), two[0].to.as_deref()), (None, Some("BLY-2024-05")));
        let named = read("\u{feff}to;date;from\nBLY-2024-05;2024-02-20;BLY-2024-03\n").unwrap();
        assert_eq!(
            (named[0].from.as_deref(), named[0].to.as_deref()),
            (Some("BLY-2024-03"), Some("BLY-2024-05"))
        );
        for bad in ["", "# none\n", "2024-02-20,a,b,c\n", "20/02/2024\n", "date,to\nsoon,B\n"] {
            assert!(read(bad).is_err(), "{bad:?}");
        }
    }
}
