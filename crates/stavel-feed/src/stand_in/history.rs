//! The made-up market day by day: any day can be asked for, and is always the same.

use std::sync::Mutex;

use stavel_core::model::session::OpenHours;
use stavel_core::model::time::{DAY, MINUTE, Micros, civil_from_days, day_of};
use stavel_core::model::{Session, Span};

use super::holidays::holidays_of;
use crate::demo::{BLY, BROKER_CLOCK, FOREX_HOURS, NOKSEK, NZDSEK, SEED, SKERRY_HOURS, session};
use crate::market::{Character, Market, MarketQuote, MinuteBar};

/// A market that is handed out.
pub struct MadeUpMarket {
    name: &'static str,
    decimals: u8,
    character: Character,
    seed: u64,
    hours: (&'static str, &'static str),
}

const MARKETS: [MadeUpMarket; 3] = [
    MadeUpMarket {
        name: "NOKSEK",
        decimals: 5,
        character: NOKSEK,
        seed: SEED,
        hours: (FOREX_HOURS, BROKER_CLOCK),
    },
    MadeUpMarket {
        name: "NZDSEK",
        decimals: 5,
        character: NZDSEK,
        seed: SEED + 1,
        hours: (FOREX_HOURS, BROKER_CLOCK),
    },
    MadeUpMarket {
        name: "BLY-2024-05",
        decimals: 2,
        character: BLY,
        seed: SEED + 2,
        hours: (SKERRY_HOURS, "Europe/Oslo"),
    },
];

/// The session of a market, with the holidays that the calendar service tells of it.
fn own_session(of: &MadeUpMarket, span: Span) -> std::io::Result<Session> {
    let mut session = session(of.hours.0, of.hours.1, span)?;
    let product = of.name.split('-').next().unwrap_or_default();
    let years = civil_from_days(day_of(span.from)).0..=civil_from_days(day_of(span.to)).0;
    session.holidays =
        years.flat_map(|year| holidays_of(product, year)).map(|(holiday, _)| holiday).collect();
    Ok(session)
}

/// The history of one instrument from a day on.
pub struct MadeUpHistory {
    pub name: &'static str,
    /// Decimals of its prices.
    pub decimals: u8,
    /// Its session week and the clock of it.
    pub hours: (&'static str, &'static str),
    first_day: i64,
    session: Session,
    /// The market at the beginning of each day, as far as it was needed.
    days: Mutex<Vec<Market>>,
}

impl MadeUpHistory {
    /// A history that begins with a day. The pairs have the prices of the demo that begins with the same day.
    ///
    /// # Errors
    /// Never for the hours that ship.
    pub fn new(of: &MadeUpMarket, first_day: i64) -> std::io::Result<Self> {
        // A century of holidays is more than anybody asks for.
        let span = Span::new(first_day * DAY, (first_day + 36_525) * DAY);
        Ok(MadeUpHistory {
            name: of.name,
            decimals: of.decimals,
            hours: of.hours,
            first_day,
            session: own_session(of, span)?,
            days: Mutex::new(vec![Market::new(of.character.clone(), of.seed)]),
        })
    }

    /// All there are: two pairs and a contract of barley.
    ///
    /// # Errors
    /// As [`MadeUpHistory::new`].
    pub fn all(first_day: i64) -> std::io::Result<Vec<MadeUpHistory>> {
        MARKETS.iter().map(|of| MadeUpHistory::new(of, first_day)).collect()
    }

    /// The first day, counted from 1970-01-01.
    pub fn first_day(&self) -> i64 {
        self.first_day
    }

    /// The quotes of a day, UTC; none before the first.
    pub fn quotes(&self, day: i64) -> Vec<MarketQuote> {
        let Some(at) = day.checked_sub(self.first_day).and_then(|at| usize::try_from(at).ok()) else {
            return Vec::new();
        };
        let mut days = self.days.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        while days.len() <= at {
            let mut market = days[days.len() - 1].clone();
            self.walk(&mut market, self.first_day + days.len() as i64 - 1, &mut |_, _| {});
            days.push(market);
        }
        let mut market = days[at].clone();
        drop(days);
        let mut all = Vec::new();
        self.walk(&mut market, day, &mut |_, quotes| all.extend_from_slice(quotes));
        all
    }

    /// The bid bars of the minutes of a day that have quotes, as they are at a moment: the last may not be over.
    pub fn minutes(&self, day: i64, now: Micros) -> Vec<MinuteBar> {
        let mut quotes = self.quotes(day);
        quotes.retain(|quote| quote.time < now);
        quotes
            .chunk_by(|a, b| a.time / MINUTE == b.time / MINUTE)
            .filter_map(|minute| MinuteBar::of(minute[0].time / MINUTE * MINUTE, minute))
            .collect()
    }

    fn walk(&self, market: &mut Market, day: i64, each: &mut dyn FnMut(Micros, &[MarketQuote])) {
        let span = Span::new(day * DAY, (day + 1) * DAY);
        let mut open = OpenHours::new(&self.session, span);
        let mut quotes = Vec::new();
        let mut t = span.from;
        while t < span.to {
            if open.is_open(t) {
                market.minute(t, &mut quotes);
                each(t, &quotes);
            }
            t += MINUTE;
        }
    }

    /// The time of the last quote before a moment.
    pub fn last_before(&self, moment: Micros) -> Option<Micros> {
        let last_day = day_of(moment - 1);
        (self.first_day.max(last_day - 14)..=last_day)
            .rev()
            .find_map(|day| self.quotes(day).iter().rev().map(|q| q.time).find(|t| *t < moment))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::time::days_from_civil;

    #[test]
    fn a_day_is_the_same_whatever_was_asked_for_before() {
        let first = days_from_civil(2024, 3, 1);
        let make = || MadeUpHistory::new(&MARKETS[0], first).unwrap();
        let (a, b) = (make(), make());
        let fifth = a.quotes(first + 4);
        assert!(fifth.len() > 5000 && fifth.is_sorted_by_key(|q| q.time));
        b.quotes(first);
        assert_eq!(b.quotes(first + 4), fifth);
        assert_eq!(a.quotes(first + 1), [], "Saturday");
        assert_eq!(a.quotes(first - 1), []);
        assert_eq!(a.last_before((first + 5) * DAY), fifth.last().map(|q| q.time));
    }
}
