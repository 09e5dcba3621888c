//! Orders that are filled: the deal, its bracket, and what goes with it.

use rust_decimal::Decimal;

use super::account::{Booking, DealReason, Holding, reason_of};
use super::desk::{Desk, Entry, Gone, Refusal};
use super::desk_depth::DealPart;
use super::fill::{acts_at, side_of};
use super::order::{Exit, Order, OrderKind, OrderRole};
use super::quote::TradeQuote;
use crate::model::Micros;

impl Desk {
    /// Fills whatever acts at a quote, oldest order first.
    pub(super) fn fill_at(&mut self, of: usize, quote: &TradeQuote) {
        let mut place = 0;
        while let Some(order) = self.state.orders.get(place) {
            if order.of != of || !acts_at(order, side_of(order.direction, quote), self.rules.queue) {
                place += 1;
                continue;
            }
            let waited = quote.time - order.given - self.rules.latency;
            if order.kind == OrderKind::Market
                && waited > self.traded[of].patience
                && order.role == OrderRole::Entry
            {
                let order = self.state.orders.remove(place);
                self.journal.push(Entry::Gone { time: quote.time, order, why: Gone::NoQuote(waited) });
                continue;
            }
            let price = side_of(order.direction, quote);
            // A bracket that was just put up may act at once, and others may be gone.
            place = if self.act(place, price, quote) { 0 } else { place + 1 };
        }
    }

    /// An order does at a price what it waited for; false where the book has nothing for it.
    pub(super) fn act(&mut self, place: usize, price: i64, quote: &TradeQuote) -> bool {
        let order = &mut self.state.orders[place];
        if let OrderKind::StopLimit { limit, .. } = order.kind {
            order.kind = OrderKind::Limit(limit);
            order.seen = Some((quote.bid, quote.ask));
            let order = order.clone();
            self.journal.push(Entry::Changed { time: quote.time, order });
            return true;
        }
        let order = self.state.orders.remove(place);
        let reason = reason_of(order.kind, order.role);
        let (dealt, rest) = self.deal(&order, price, reason, quote);
        if rest == 0 {
            return true;
        }
        let back = place.min(self.state.orders.len());
        if dealt == 0 {
            self.state.orders.insert(back, order);
            return false;
        }
        let (pair, seen) = (order.pair, Some((quote.bid, quote.ask)));
        let order = Order { lots: rest, seen, ..order };
        self.journal.push(Entry::Changed { time: quote.time, order: order.clone() });
        self.state.orders.insert(back, order);
        // The other end of a bracket is for what is left.
        let is_pair = |other: &&mut Order| pair.is_some_and(|id| id == other.id);
        if let Some(other) = self.state.orders.iter_mut().find(is_pair) {
            (other.lots, other.seen) = (rest, seen);
            let order = other.clone();
            self.journal.push(Entry::Changed { time: quote.time, order });
        }
        true
    }

    /// Fills an order as far as it goes, puts its bracket up and takes back what it was paired with: what was dealt, and what
    /// is left of it, for which a limit waits on.
    pub(super) fn deal(
        &mut self,
        order: &Order,
        price: i64,
        reason: DealReason,
        quote: &TradeQuote,
    ) -> (i64, i64) {
        let of = order.of;
        let refused = |why: String| Entry::Refused(Refusal { time: quote.time, ticket: None, why });
        let Some(rate) = self.rates().of(of, quote.time) else {
            self.journal.push(refused("no rate to the money of the account is known yet".to_owned()));
            return (0, 0);
        };
        let held = order.closes.map(|id| self.state.account.holding(id).map_or(0, |h| h.lots));
        let lots = held.map_or(order.lots, |held| order.lots.min(held));
        let against = |h: &&Holding| h.of == of && h.direction != order.direction;
        let closes: i64 = match self.rules.hedged {
            true => 0,
            false => self.state.account.holdings().iter().filter(against).map(|h| h.lots).sum(),
        };
        let opens = if order.closes.is_some() { 0 } else { (lots - closes).max(0) };
        if let Some((needs, free)) = (opens > 0).then(|| self.lacks_margin(of, opens, price)).flatten() {
            self.journal.push(refused(format!(
                "order {} needs {} of margin and {} is free",
                order.id,
                super::money(needs),
                super::money(free)
            )));
            return (0, 0);
        }
        let mut dealt = 0;
        if lots > 0 {
            let parts = self.parts_of(order, lots, price, quote);
            dealt = parts.iter().map(|part| part.lots).sum();
            self.book_parts(order, &parts, reason, quote, rate);
        }
        let rest = lots - dealt;
        if rest == 0 {
            self.take_back(quote.time, |other| Some(other.id) == order.pair);
        }
        // What closes something that is no longer there waits for nothing.
        let gone: Vec<u32> = self.state.orders.iter().filter_map(|o| o.closes).collect();
        let is_held = |id: &u32| self.state.account.holding(*id).is_some();
        let gone: Vec<u32> = gone.into_iter().filter(|id| !is_held(id)).collect();
        self.take_back(quote.time, |other| other.closes.is_some_and(|id| gone.contains(&id)));
        (dealt, rest)
    }

    /// Books the parts of an order; the bracket of what they open together is measured from their mean price.
    fn book_parts(
        &mut self,
        order: &Order,
        parts: &[DealPart],
        reason: DealReason,
        quote: &TradeQuote,
        rate: Decimal,
    ) {
        let (mut before, mut opened, mut holding) = ((0, 0), 0, None);
        for part in parts {
            let booking = Booking {
                time: quote.time,
                of: order.of,
                direction: order.direction,
                lots: part.lots,
                price: part.price,
                order: order.id,
                reason,
                seen: (quote.bid, quote.ask),
                closes: order.closes,
                tag: &order.tag,
                depth: part.depth,
                before,
            };
            let deal = self.state.account.book(&booking, &self.traded[order.of], rate);
            before = (before.0 + part.lots, before.1 + i128::from(part.price) * i128::from(part.lots));
            let opens = part.lots - deal.closed.iter().map(|t| t.lots).sum::<i64>();
            opened += opens;
            holding = self.state.account.opened_by(&deal).filter(|_| opens > 0).or(holding);
            self.journal.push(Entry::Deal(deal));
        }
        if let Some(holding) = holding {
            let mean = self.mean_of(order.of, parts);
            self.put_up(order, holding, opened, mean, quote.time);
        }
    }

    /// The mean price of parts, on a step of the price.
    fn mean_of(&self, of: usize, parts: &[DealPart]) -> i64 {
        let first = parts.first().map_or(0, |part| part.price);
        if parts.iter().all(|part| part.price == first) {
            return first;
        }
        let cost: i128 = parts.iter().map(|part| i128::from(part.price) * i128::from(part.lots)).sum();
        let lots: i128 = parts.iter().map(|part| i128::from(part.lots)).sum();
        let traded = &self.traded[of];
        let step = i128::from(traded.sheet.tick_points(traded.decimals).unwrap_or(1).max(1));
        let steps = (cost * 2 + lots * step).div_euclid(lots * step * 2);
        i64::try_from(steps * step).unwrap_or(first)
    }

    /// Puts the stop and the target of an order up that was filled.
    fn put_up(&mut self, order: &Order, holding: u32, lots: i64, price: i64, now: Micros) {
        let sign = order.direction.sign();
        let kind = |exit: Exit, side: i64, is_stop: bool| match exit {
            Exit::At(price) if is_stop => OrderKind::Stop(price),
            Exit::At(price) => OrderKind::Limit(price),
            Exit::Away(points) if is_stop => OrderKind::Stop(price + side * points),
            Exit::Away(points) => OrderKind::Limit(price + side * points),
            Exit::Trail(points) => OrderKind::Trailing(points),
        };
        let stop = order.stop.map(|exit| (OrderRole::Stop, kind(exit, -sign, true)));
        let target = order.target.map(|exit| (OrderRole::Target, kind(exit, sign, false)));
        let ids = [stop, target].map(|part| {
            part.map(|_| {
                self.state.next_order += 1;
                self.state.next_order - 1
            })
        });
        for (i, (role, kind)) in [stop, target].into_iter().enumerate().filter_map(|(i, p)| Some((i, p?))) {
            let quote = self.state.quotes[order.of];
            let exit = Order {
                id: ids[i].unwrap_or_default(),
                of: order.of,
                given: now,
                since: self.state.walking.unwrap_or(now),
                direction: order.direction.turned(),
                lots,
                kind,
                stop: None,
                target: None,
                until: None,
                tag: order.tag.clone(),
                closes: Some(holding),
                role,
                pair: ids[1 - i],
                best: quote.map(|q| side_of(order.direction.turned(), &q)),
                seen: quote.map(|q| (q.bid, q.ask)),
            };
            self.journal.push(Entry::Given(exit.clone()));
            self.state.orders.push(exit);
        }
    }

    /// Takes orders back because of another.
    fn take_back(&mut self, time: Micros, is_one: impl Fn(&Order) -> bool) {
        let (gone, stay) = std::mem::take(&mut self.state.orders).into_iter().partition(is_one);
        self.state.orders = stay;
        let gone: Vec<Order> = gone;
        self.journal.extend(gone.into_iter().map(|order| Entry::Gone { time, order, why: Gone::Paired }));
    }
}
