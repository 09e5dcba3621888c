//! Runs of quotes: what changes nothing but the last price is passed in one go.

use super::desk::Desk;
use super::fill::triggers;
use super::money::{RateRule, points_money};
use super::order::{Direction, LOT, OrderKind};
use super::quote::TradeQuote;
use crate::model::Micros;

impl Desk {
    /// Plays a run of quotes of one instrument, of which none may come before the last of any other. Where nothing waits for
    /// their prices they are passed in one go.
    pub fn run(&mut self, of: usize, times: &[Micros], bids: &[i64], asks: &[i64]) {
        let mut at = 0;
        while at < times.len() {
            let quiet = self.quiet(of, &times[at..], &bids[at..], &asks[at..]);
            if quiet > 0 {
                self.pass_over(of, &times[at..at + quiet], &bids[at..at + quiet], &asks[at..at + quiet]);
                at += quiet;
            }
            if at < times.len() {
                self.take(of, TradeQuote { time: times[at], bid: bids[at], ask: asks[at] });
                at += 1;
            }
        }
    }

    /// How many quotes from the first on change nothing but the last price.
    fn quiet(&self, of: usize, times: &[Micros], bids: &[i64], asks: &[i64]) -> usize {
        let Some(bounds) = self.bounds(of, times[0]) else { return 0 };
        let until = if *times.last().unwrap_or(&0) < bounds.until {
            times.len()
        } else {
            times.partition_point(|t| *t < bounds.until)
        };
        let acts = |bid: i64, ask: i64| {
            (ask <= bounds.ask.0) | (ask >= bounds.ask.1) | (bid <= bounds.bid.0) | (bid >= bounds.bid.1)
        };
        // Whole groups are judged without a branch for each quote.
        let mut quiet = 0;
        for (bids, asks) in bids[..until].chunks(64).zip(asks[..until].chunks(64)) {
            let any = bids.iter().zip(asks).fold(false, |any, (bid, ask)| any | acts(*bid, *ask));
            if any {
                let first = bids.iter().zip(asks).position(|(bid, ask)| acts(*bid, *ask));
                return quiet + first.unwrap_or(0);
            }
            quiet += bids.len();
        }
        until
    }

    /// The prices and the time at which something happens; none where that has to be looked at quote by quote.
    fn bounds(&self, of: usize, now: Micros) -> Option<Bounds> {
        let mut bounds = Bounds { ask: (i64::MIN, i64::MAX), bid: (i64::MIN, i64::MAX), until: Micros::MAX };
        if let Some((due, _)) = self.state.on_the_way.first() {
            bounds.until = *due;
        }
        let holds = !self.state.account.holdings().is_empty();
        if holds {
            let session = &self.traded[of].sheet.session;
            let day = self.state.quotes[of].map_or(now, |q| q.time);
            bounds.until = bounds.until.min(session.clock.day_start(session.clock.day_of(day) + 1));
            if self.rules.balance.is_some() {
                let (bid, ask) = self.margin_bounds(of)?;
                bounds.bid.0 = bid;
                bounds.ask.1 = ask;
            }
        }
        let ends = self.state.orders.iter().filter_map(|order| order.until);
        bounds.until = ends.fold(bounds.until, Micros::min);
        for order in self.state.orders.iter().filter(|o| o.of == of) {
            if order.kind == OrderKind::Market {
                return None;
            }
            let side = if order.direction == Direction::Buy { &mut bounds.ask } else { &mut bounds.bid };
            let triggers = triggers(order, self.rules.queue);
            side.0 = side.0.max(triggers.below.unwrap_or(i64::MIN));
            side.1 = side.1.min(triggers.above.unwrap_or(i64::MAX));
            match (order.kind, order.best, order.direction) {
                (OrderKind::Trailing(_), None, _) => return None,
                // Where the best price goes on, the stop follows.
                (OrderKind::Trailing(_), Some(best), Direction::Buy) => side.0 = side.0.max(best - 1),
                (OrderKind::Trailing(_), Some(best), Direction::Sell) => side.1 = side.1.min(best + 1),
                _ => {}
            }
        }
        Some(bounds)
    }

    /// The bid at or below which, and the ask at or above which, the margin may no longer be covered.
    fn margin_bounds(&self, of: usize) -> Option<(i64, i64)> {
        // Rates that move may change what the account is worth while this price stands.
        let is_same = |h: &super::account::Holding| matches!(self.traded[h.of].rate, RateRule::Same);
        if !self.state.account.holdings().iter().all(is_same) {
            return None;
        }
        let (equity, margin) = (self.equity()?, self.margin()?);
        let quote = self.state.quotes[of]?;
        let room = f64::try_from(equity - margin * self.rules.call).ok()?;
        let held = |direction: Direction| {
            let mine =
                self.state.account.holdings().iter().filter(|h| h.of == of && h.direction == direction);
            mine.map(|h| h.lots).sum::<i64>()
        };
        let point = points_money(&self.traded[of], i128::from(LOT));
        let point = f64::try_from(point).ok()?;
        let lots = (held(Direction::Buy).max(held(Direction::Sell))) as f64 / LOT as f64;
        if lots == 0.0 {
            return Some((i64::MIN, i64::MAX));
        }
        // Half of the room, so that both sides of a hedge may move.
        let points = (room / (point * lots) * 0.5).floor();
        if points < 1.0 {
            return None;
        }
        Some((quote.bid - points as i64, quote.ask + points as i64))
    }

    /// Passes quotes that change nothing but the last price.
    fn pass_over(&mut self, of: usize, times: &[Micros], bids: &[i64], asks: &[i64]) {
        let last = times.len() - 1;
        if self.state.account.holdings().iter().any(|h| h.of == of) {
            let ends = |values: &[i64]| {
                values.iter().fold((i64::MAX, i64::MIN), |(low, high), v| (low.min(*v), high.max(*v)))
            };
            self.state.account.sees(of, ends(bids), ends(asks));
        } else {
            self.state.account.skip_to(of, times[last], &self.traded[of]);
        }
        self.state.quotes[of] = Some(TradeQuote { time: times[last], bid: bids[last], ask: asks[last] });
        self.state.now = self.state.now.max(times[last]);
        self.state.played += times.len() as u64;
    }
}

/// Where something happens.
struct Bounds {
    /// At or below the first and at or above the second.
    ask: (i64, i64),
    bid: (i64, i64),
    /// From this time on.
    until: Micros,
}
