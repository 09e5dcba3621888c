//! What a careful person would look at in a chain.

use super::contracts::Contract;
use super::days::DayTable;
use super::rolls::{PlannedChain, RollPlanner};
use crate::Error;
use crate::model::chain::{RollAdjust, RollReason, RollRule};
use crate::model::contract_month::ContractMonth;
use crate::model::provenance::ChainMade;
use crate::model::time::date;
use crate::model::{Micros, Standing};

/// Values of the sheets that money and days depend on.
const ALIKE: [&str; 6] = ["quote", "tick_size", "tick_value", "contract_size", "clock", "hours"];

/// What does not fit together in the sheets of contracts.
pub(super) fn doubts_of_sheets(contracts: &[Contract]) -> Vec<String> {
    let Some((first, rest)) = contracts.split_first() else { return Vec::new() };
    let mut doubts = Vec::new();
    for key in ALIKE {
        let value = |contract: &Contract| contract.instrument.values.get(key).cloned().unwrap_or_default();
        let is_known = |contract: &Contract| contract.instrument.standing(key) != Standing::Assumed;
        let other = rest.iter().find(|c| value(c) != value(first) && (is_known(c) || is_known(first)));
        doubts.extend(other.map(|other| {
            format!(
                "{key} is {} for {} and {} for {}: the chain has one",
                value(first),
                first.instrument.name,
                value(other),
                other.instrument.name
            )
        }));
        let product = rest.iter().find(|c| key == "quote" && c.product != first.product);
        doubts.extend(product.map(|other| {
            format!(
                "{} and {} are not of one product by their names",
                first.instrument.name, other.instrument.name
            )
        }));
    }
    doubts
}

/// What is odd in the rolls.
pub(super) fn doubts_of_rolls(
    contracts: &[Contract],
    table: &DayTable,
    planner: &RollPlanner<'_>,
    planned: &PlannedChain,
    made: &ChainMade,
) -> Vec<String> {
    let name = |place: usize| contracts[place].instrument.name.as_str();
    let mut doubts = Vec::new();
    for (roll, told) in planned.rolls.iter().zip(&made.rolls) {
        let day = |moment: Micros| table.place_of(moment);
        let on = date(told.day);
        if roll.why == RollReason::Ended {
            doubts.push(format!(
                "{} ended before anything said that it rolls; {} follows from {on} on",
                name(roll.from),
                name(roll.to)
            ));
        }
        doubts.extend(planner.fell_back(roll));
        match told.measured {
            None => doubts.push(format!(
                "{} and {} have no price at one moment before their roll on {on}: its gap is not known",
                name(roll.from),
                name(roll.to)
            )),
            Some(at) => {
                let before = day(roll.at).saturating_sub(day(at));
                if before > 1 {
                    doubts.push(format!(
                        "the gap of the roll into {} on {on} is that of {}, {before} trading days before: nearer to it they have no price at one moment",
                        name(roll.to),
                        date(table.days[day(at)].day)
                    ));
                }
            }
        }
    }
    for name in made.moved.keys().filter(|name| !made.rolls.iter().any(|roll| roll.from == **name)) {
        doubts.push(format!(
            "the chain does not roll out of {name}, whose roll was moved: that was passed over"
        ));
    }
    doubts.extend(missing_days(contracts, table, planned));
    if let RollRule::Days(_) = made.rule {
        for (contract, told) in contracts.iter().zip(&made.contracts).filter(|(_, told)| !told.is_expiry_said)
        {
            let odd = told.expiry.filter(|day| {
                !(-1..=0).contains(&(ContractMonth::of_day(*day).count() - contract.month.count()))
            });
            doubts.extend(odd.map(|day| {
                format!(
                    "{} has its last day on {}, which is not near its month {}: is that its expiry, or do its rows end early? Say it: --set expiry=…",
                    contract.instrument.name,
                    date(day),
                    contract.month
                )
            }));
        }
    }
    doubts
}

/// Trading days on which the contract at hand has no row.
fn missing_days(contracts: &[Contract], table: &DayTable, planned: &PlannedChain) -> Vec<String> {
    let begin = contracts[planned.first].info.edition.first;
    let mut doubts = Vec::new();
    for (contract, span) in planned.parts() {
        let from = span.from.max(begin);
        let used = (table.place_of(from)..table.days.len()).filter(|day| table.days[*day].from < span.to);
        let missing: Vec<usize> = used.filter(|day| !table.has(contract, *day)).collect();
        let Some(first) = missing.first() else { continue };
        doubts.push(format!(
            "{} has no rows on {} of the trading days for which it stands in the chain, first on {}: a hole",
            contracts[contract].instrument.name,
            missing.len(),
            date(table.days[*first].day)
        ));
    }
    doubts
}

/// Why prices cannot be adjusted.
pub(super) fn no_gap(made: &ChainMade) -> Error {
    let unknown = made.rolls.iter().find(|roll| roll.gap().is_none());
    match unknown.or_else(|| made.rolls.iter().find(|roll| roll.ratio().is_none())) {
        Some(roll) if roll.prices.is_none() => Error::input(format!(
            "The roll from {} into {} on {} cannot be adjusted: they have no price at one moment before it; move it, or leave prices as they are (--adjust none).",
            roll.from,
            roll.to,
            date(roll.day)
        )),
        Some(roll) => Error::input(format!(
            "The roll from {} into {} on {} has a price of 0 or less, of which there is no ratio; adjust by difference.",
            roll.from,
            roll.to,
            date(roll.day)
        )),
        None => Error::input(format!("These rolls cannot be adjusted by {}.", RollAdjust::Ratio)),
    }
}
