//! A bar between its open and its close: both ways through it are played, and the worse is kept.

use rust_decimal::Decimal;

use super::desk::{Desk, Entry};
use super::fill::{acts_at, acts_between, price_on_the_way, side_of};
use super::order::{Direction, Order, OrderKind};
use super::quote::{BarReach, TradeQuote};
use crate::model::Micros;

impl Desk {
    /// Takes the close of a bar and all that was between it and the open. What happened first is not known: both ways are
    /// played, the lowest price first and the highest first, and the one that is worse for the account is kept; where they
    /// differ, its deals are in doubt.
    pub fn take_bar(&mut self, of: usize, bar: BarReach, close: TradeQuote) {
        let spread = close.ask - close.bid;
        let (low, high) = (bar.low.min(close.bid), bar.high.max(close.bid));
        let Some(before) = self.state.quotes[of] else { return self.take(of, close) };
        self.arrive(close.time);
        self.expire(close.time);
        let may_act = |order: &Order| {
            let side = |bid: i64| if order.direction == Direction::Buy { bid + spread } else { bid };
            order.of == of
                && order.since <= bar.from
                && (matches!(order.kind, OrderKind::Market | OrderKind::Trailing(_))
                    || acts_at(order, side(low), self.rules.queue)
                    || acts_at(order, side(high), self.rules.queue))
        };
        let is_held = self.state.account.holdings().iter().any(|h| h.of == of);
        let may_be_called = is_held && self.rules.balance.is_some();
        if !may_be_called && !self.state.orders.iter().any(may_act) {
            self.state.account.sees(of, (low, high), (low + spread, high + spread));
            return self.take(of, close);
        }
        let start = TradeQuote { time: close.time, bid: before.bid, ask: before.bid + spread };
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

    /// Lets the bid move without jumps from where it is over two prices to a close.
    fn walk(&mut self, of: usize, start: TradeQuote, over: [i64; 2], close: TradeQuote) {
        let spread = close.ask - close.bid;
        let at = |bid: i64| TradeQuote { time: close.time, bid, ask: bid + spread };
        let mut from = start.bid;
        for to in over.into_iter().chain([close.bid]) {
            self.move_to(of, from, to, &at);
            self.see(of, at(to));
            self.call_margin(of);
            from = to;
        }
        self.fill_at(of, &close);
        self.call_margin(of);
    }

    /// One move of the bid in one direction: orders act in the order in which it comes to them.
    fn move_to(&mut self, of: usize, mut from: i64, to: i64, at: &impl Fn(i64) -> TradeQuote) {
        let spread = at(0).ask;
        loop {
            let reached = |order: &Order| {
                let beside = if order.direction == Direction::Buy { spread } else { 0 };
                acts_between(order, from + beside, to + beside, self.rules.queue).map(|price| price - beside)
            };
            let begun = self.state.walking.unwrap_or(Micros::MAX);
            let mine = self.state.orders.iter().enumerate().filter(|(_, o)| o.of == of && o.since <= begun);
            let next = mine.filter_map(|(place, order)| Some(((reached(order)? - from).abs(), place))).min();
            let Some((distance, place)) = next else { return };
            from += distance * (to - from).signum();
            let order = &self.state.orders[place];
            let price = price_on_the_way(order, side_of(order.direction, &at(from)), self.rules.queue);
            self.see(of, at(from));
            self.act(place, price, &at(from));
        }
    }
}
