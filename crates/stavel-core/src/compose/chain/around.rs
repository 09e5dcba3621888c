//! The days around a roll, for whoever wants to move it.

use super::days::{DayCount, count_days};
use super::gaps::prices;
use crate::job::Job;
use crate::model::provenance::ChainMade;
use crate::model::time::DAY;
use crate::model::{Micros, Scale, Span};
use crate::store::Shelf;
use crate::{Error, Result};

/// Days of the world's calendar that are looked at on either side of a roll.
const REACH: i64 = 40;

/// A trading day near a roll, with what both contracts did on it: the nearer first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RollDay {
    /// In days since 1970-01-01.
    pub day: i64,
    /// Where it begins, in UTC.
    pub from: Micros,
    /// The volumes of the day that are known.
    pub volumes: [Option<i64>; 2],
    /// The last prices of the day, in points of the chain; of quotes the bids.
    pub closes: [Option<i64>; 2],
}

/// The trading days around a roll of a chain.
///
/// # Errors
/// Where the contracts are off the shelf or cannot be read.
pub fn days_around_roll(shelf: &Shelf, chain: &str, made: &ChainMade, roll: usize) -> Result<Vec<RollDay>> {
    let Some(roll) = made.rolls.get(roll) else { return Ok(Vec::new()) };
    let session = shelf.instrument(chain)?.sheet.session;
    let find = |name: &str| {
        let contract = made.contracts.iter().find(|c| c.series.instrument == name);
        let gone =
            || Error::input(format!("{name} is not among the contracts of {chain}; make the chain again."));
        shelf.find(&contract.ok_or_else(gone)?.series)
    };
    let both = [find(&roll.from)?, find(&roll.to)?];
    let span = Span::new(roll.at.saturating_sub(REACH * DAY), roll.at.saturating_add(REACH * DAY));
    let count = DayCount { session: &session, span };
    let table = count_days(shelf, &both, &count, &Job::unwatched())?;
    let scale = Scale { price: made.decimals, volume: 0 };
    let mut days: Vec<RollDay> = Vec::new();
    for (place, day) in table.days.iter().enumerate() {
        let volume = |contract: usize| table.totals[contract][place].and_then(|total| total.volume);
        days.push(RollDay {
            day: day.day,
            from: day.from,
            volumes: [volume(0), volume(1)],
            closes: [None, None],
        });
    }
    for (contract, info) in both.iter().enumerate() {
        for (time, price) in prices(shelf, info, span, scale)? {
            if table.days.first().is_some_and(|first| time >= first.from) {
                days[table.place_of(time)].closes[contract] = Some(price);
            }
        }
    }
    Ok(days)
}
