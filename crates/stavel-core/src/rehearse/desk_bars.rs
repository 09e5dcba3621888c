//! A bar between its open and its close: both ways through it are played, and the worse is kept.

use std::cmp::Ordering;

use rust_decimal::Decimal;

use super::desk::{Desk, Entry};
use super::fill::{acts_at, acts_between, price_on_the_way};
use super::order::{Direction, Order, OrderKind};
use super::quote::{BarReach, TradeQuote};
use crate::model::Micros;

impl Desk {
    /// Takes the close of a bar and all that was between it and the open. What happened first is not known: both ways are
    /// played, the lowest price first and the highest first, and the one that is worse for the account is kept; where they
    /// differ, its deals are in doubt.
    pub fn take_bar(&mut self, of: usize, bar: BarReach, close: TradeQuote) {
        let low = (bar.low.min(close.bid), bar.ask_low.min(close.ask));
        let high = (bar.high.max(close.bid), bar.ask_high.max(close.ask));
        let Some(before) = self.state.quotes[of] else { return self.take(of, close) };
        self.arrive(close.time);
        self.expire(close.time);
        let may_act = |order: &Order| {
            let side = |(bid, ask): (i64, i64)| if order.direction == Direction::Buy { ask } else { bid };
            order.of == of
                && order.since <= bar.from
                && (matches!(order.kind, OrderKind::Market | OrderKind::Trailing(_))
                    || acts_at(order, side(low), self.rules.queue)
                    || acts_at(order, side(high), self.rules.queue))
        };
        let is_held = self.state.account.holdings().iter().any(|h| h.of == of);
        let may_be_called = is_held && self.rules.balance.is_some();
        if !may_be_called && !self.state.orders.iter().any(may_act) {
            self.state.account.sees(of, (low.0, high.0), (low.1, high.1));
            return self.take(of, close);
        }
        let start = (before.bid, before.ask);
        // However many prices are walked over, it is one quote of the tape: the log counts by them.
        self.state.played += 1;
        self.state.walking = Some(bar.from);
        let (state, from) = (self.state.clone(), self.journal.len());
        self.walk(of, start, [low, high], close);
        let (first, deals) = (self.worth(of), self.deals_since(from));
        let low_first = (std::mem::replace(&mut self.state, state), self.journal.split_off(from));
        self.walk(of, start, [high, low], close);
        let is_sure = self.deals_since(from) == deals;
        if first <= self.worth(of) {
            self.state = low_first.0;
            self.journal.truncate(from);
            self.journal.extend(low_first.1);
        }
        self.state.walking = None;
        if !is_sure {
            self.doubt(from);
        }
    }

    /// What the account would be worth, to tell which of two ways is the worse.
    fn worth(&self, of: usize) -> (Decimal, i64) {
        let sum = self.state.account.realised() + self.open_profit().unwrap_or(Decimal::ZERO);
        (sum, self.state.account.position(of))
    }

    fn deals_since(&self, from: usize) -> Vec<(u32, i64, i64)> {
        let deal = |entry: &Entry| match entry {
            Entry::Deal(deal) => Some((deal.order, deal.price, deal.lots)),
            _ => None,
        };
        let mut deals: Vec<(u32, i64, i64)> = self.journal[from..].iter().filter_map(deal).collect();
        deals.sort_unstable();
        deals
    }

    /// Marks what was dealt since a place of the journal as in doubt.
    fn doubt(&mut self, from: usize) {
        for entry in &mut self.journal[from..] {
            if let Entry::Deal(deal) = entry {
                deal.doubtful = true;
                deal.closed.iter_mut().for_each(|trade| trade.doubtful = true);
            }
        }
        let opened = self.journal[from..].iter().filter_map(|entry| match entry {
            Entry::Deal(deal) => Some((deal.of, deal.time)),
            _ => None,
        });
        for (of, time) in opened.collect::<Vec<_>>() {
            self.state.account.doubt(of, time);
        }
    }

    /// Lets bid and ask move without jumps from where they are over two extremes to a close.
    fn walk(&mut self, of: usize, start: (i64, i64), over: [(i64, i64); 2], close: TradeQuote) {
        let mut from = start;
        for to in over.into_iter().chain([(close.bid, close.ask)]) {
            self.move_to(of, from, to, close.time);
            self.see(of, TradeQuote { time: close.time, bid: to.0, ask: to.1 });
            self.call_margin(of);
            from = to;
        }
        self.fill_at(of, &close);
        self.call_margin(of);
    }

    /// One move of both sides, each at its own pace: orders act in the order in which it comes to them.
    fn move_to(&mut self, of: usize, mut from: (i64, i64), to: (i64, i64), time: Micros) {
        loop {
            let begun = self.state.walking.unwrap_or(Micros::MAX);
            let mine = self.state.orders.iter().enumerate().filter(|(_, o)| o.of == of && o.since <= begun);
            let reached = mine.filter_map(|(place, order)| {
                let own = |(bid, ask): (i64, i64)| if order.direction == Direction::Buy { ask } else { bid };
                let (start, end) = (own(from), own(to));
                let price = acts_between(order, start, end, self.rules.queue)?;
                Some((part_of_way(start, price, end), place, order.direction, price))
            });
            let next = reached.min_by(|a, b| sooner(a.0, b.0).then(a.1.cmp(&b.1)));
            let Some((part, place, direction, price)) = next else { return };
            from = match direction {
                Direction::Buy => (on_the_way(from.0, to.0, part), price),
                Direction::Sell => (price, on_the_way(from.1, to.1, part)),
            };
            let quote = TradeQuote { time, bid: from.0, ask: from.1 };
            let price = price_on_the_way(&self.state.orders[place], price, self.rules.queue);
            self.see(of, quote);
            self.act(place, price, &quote);
        }
    }
}

/// The part of its way that a side has behind it at a price: so many points of so many.
fn part_of_way(from: i64, at: i64, to: i64) -> (i128, i128) {
    let (done, whole) = (i128::from(at) - i128::from(from), i128::from(to) - i128::from(from));
    (done.abs(), whole.abs().max(1))
}

/// Which of two parts of a way is the smaller.
fn sooner(a: (i128, i128), b: (i128, i128)) -> Ordering {
    (a.0 * b.1).cmp(&(b.0 * a.1))
}

/// The price of a side that has such a part of its way behind it, no further than it has come.
fn on_the_way(from: i64, to: i64, part: (i128, i128)) -> i64 {
    let way = (i128::from(to) - i128::from(from)) * part.0 / part.1;
    from.saturating_add(i64::try_from(way).unwrap_or(0))
}
