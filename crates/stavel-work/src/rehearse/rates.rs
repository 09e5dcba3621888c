//! What money of each instrument is worth in the money of the account.

use std::sync::Arc;

use rust_decimal::Decimal;
use stavel_core::crosses::{CrossLeg, cross_rate};
use stavel_core::model::price::unit;
use stavel_core::model::time::{DAY, MINUTE, wall};
use stavel_core::model::{Columns, Field, Micros, Span, present};
use stavel_core::rehearse::{BarEnds, RateRule};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// A price that is older than this is not that of the day: more than a weekend lies between.
const FRESH: Micros = 4 * DAY;

/// An instrument that is played, as far as its money matters.
pub struct PricedIn {
    /// Its name.
    pub name: String,
    /// What it buys.
    pub base: String,
    /// What it is priced in.
    pub quote: String,
    /// Decimals of its prices.
    pub decimals: u8,
    /// True for a pair of currencies.
    pub is_pair: bool,
}

/// The currency of an account: the one that was said, else the one that all instruments are priced in.
///
/// # Errors
/// A question, where they are priced in several.
pub fn currency_of(said: Option<&str>, all: &[PricedIn]) -> Result<String> {
    let mut quotes: Vec<&str> = all.iter().map(|one| one.quote.as_str()).collect();
    quotes.sort_unstable();
    quotes.dedup();
    match (said, quotes.as_slice()) {
        (Some(said), _) => Ok(said.to_owned()),
        (None, [one]) => Ok((*one).to_owned()),
        (None, several) => Err(Error::undecided(format!(
            "What is played is priced in {}, so nobody knows the money of the account; say it with --account {}.",
            several.join(" and "),
            several.first().unwrap_or(&"SEK")
        ))),
    }
}

/// The rule for the money of an instrument, with what a careful person would look at.
///
/// # Errors
/// Where no pair leads from its money to that of the account.
pub fn rule_for(
    shelf: &Shelf,
    of: usize,
    all: &[PricedIn],
    currency: &str,
    span: Span,
    doubts: &mut Vec<String>,
) -> Result<RateRule> {
    let from = &all[of].quote;
    if from == currency {
        return Ok(RateRule::Same);
    }
    // A pair that is played has the rate of the very moment.
    for (place, other) in all.iter().enumerate().filter(|(_, other)| other.is_pair) {
        let decimals = other.decimals;
        if other.base == *from && other.quote == currency {
            return Ok(RateRule::Played { of: place, decimals, is_turned: false });
        }
        if other.quote == *from && other.base == currency {
            return Ok(RateRule::Played { of: place, decimals, is_turned: true });
        }
    }
    let way = cross_rate(shelf, from, currency, None)?.ok_or_else(|| {
        Error::input(format!(
            "No pair on the shelf leads from {from}, which {} is priced in, to {currency}; take one in, or say another --account.",
            all[of].name
        ))
    })?;
    let mut steps: Vec<(Micros, Decimal)> = vec![(Micros::MIN, Decimal::ONE)];
    for leg in &way.legs {
        steps = product(&steps, &leg_steps(shelf, leg, span)?);
    }
    let first = steps.first().map(|(time, _)| *time);
    let last = steps.last().map(|(time, _)| *time);
    let legs: Vec<String> = way.legs.iter().map(|leg| leg.series.to_string()).collect();
    let legs = legs.join(" and ");
    match (first, last) {
        (Some(first), _) if first > span.from => {
            doubts.push(format!("rates from {from} to {currency} by {legs} begin at {} only", wall(first)));
        }
        (_, Some(last)) if span.to - last > FRESH => {
            doubts.push(format!("rates from {from} to {currency} by {legs} end at {}", wall(last)));
        }
        (None, _) => doubts.push(format!("{legs} has no rate from {from} to {currency} in that time")),
        _ => {}
    }
    Ok(RateRule::Read(Arc::new(steps)))
}

/// The prices of a pair on the way as steps, one a minute at most, from the last before the span on.
fn leg_steps(shelf: &Shelf, leg: &CrossLeg, span: Span) -> Result<Vec<(Micros, Decimal)>> {
    let info = shelf.find(&leg.series)?;
    let edition = &info.edition;
    let mut ends = BarEnds::new(leg.series.frame, &shelf.instrument(&leg.series.instrument)?.sheet.session);
    let before = if span.from == Micros::MIN { span.from } else { span.from - FRESH };
    let mut steps: Vec<(Micros, Decimal)> = Vec::new();
    for piece in shelf.scan(edition, Span::new(before, span.to), None)? {
        let piece = piece?;
        for row in 0..piece.len() {
            let Some(price) = middle(&piece, row).filter(|p| *p > Decimal::ZERO) else { continue };
            let rate = if leg.is_turned { Decimal::ONE / price } else { price };
            // A bar knows its last price only when it ends.
            let covers = piece.cells(Field::Covers).get(row);
            let time = ends.end(piece.time[row], covers, piece.time.get(row + 1).copied());
            match steps.last_mut() {
                Some(last) if time.div_euclid(MINUTE) == last.0.div_euclid(MINUTE) => last.1 = rate,
                _ => steps.push((time, rate)),
            }
        }
    }
    // Within its minute the last price was not known from the beginning.
    for step in &mut steps {
        step.0 = (step.0 + MINUTE - 1).div_euclid(MINUTE) * MINUTE;
    }
    Ok(steps)
}

/// The last price of a row: the middle of bid and ask where both are known.
fn middle(rows: &Columns, row: usize) -> Option<Decimal> {
    let cell = |field: Field| rows.column(field).get(row).copied().and_then(present);
    let bid = cell(Field::Bid).or(cell(Field::Close)).or(cell(Field::Last))?;
    let spread = cell(Field::Ask).map(|ask| ask - bid).or(cell(Field::Spread)).unwrap_or(0);
    Some((Decimal::from(bid) + Decimal::new(spread * 5, 1)) / Decimal::from(unit(rows.scale.price)))
}

/// Two rates one after another, from the moment on at which both are known.
fn product(a: &[(Micros, Decimal)], b: &[(Micros, Decimal)]) -> Vec<(Micros, Decimal)> {
    let mut times: Vec<Micros> = a.iter().chain(b).map(|(time, _)| *time).collect();
    times.sort_unstable();
    times.dedup();
    let at = |steps: &[(Micros, Decimal)], time: Micros| {
        let after = steps.partition_point(|(from, _)| *from <= time);
        after.checked_sub(1).map(|i| steps[i].1)
    };
    times.into_iter().filter_map(|time| Some((time, at(a, time)?.checked_mul(at(b, time)?)?))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_rates_are_known_from_the_later_on_and_change_with_either() {
        let d = Decimal::from;
        let steps = product(&[(0, d(2)), (10, d(3))], &[(5, d(7)), (12, d(11))]);
        assert_eq!(steps, [(5, d(14)), (10, d(21)), (12, d(33))]);
        assert_eq!(product(&[(0, d(2))], &[]), []);
    }

    #[test]
    fn money_of_several_currencies_is_asked_for() {
        let priced = |quote: &str| PricedIn {
            name: "X".into(),
            base: "X".into(),
            quote: quote.into(),
            decimals: 5,
            is_pair: true,
        };
        assert_eq!(currency_of(None, &[priced("SEK"), priced("SEK")]).unwrap(), "SEK");
        let err = currency_of(None, &[priced("SEK"), priced("NOK")]).unwrap_err();
        assert!(err.is_undecided() && err.to_string().contains("NOK and SEK"), "{err}");
        assert_eq!(currency_of(Some("NZD"), &[priced("SEK"), priced("NOK")]).unwrap(), "NZD");
    }
}
