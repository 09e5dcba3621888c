//! Fills against a slow plain desk that looks at every order at every quote.

use proptest::prelude::*;
use stavel_core::model::time::{MINUTE, SECOND, parse};
use stavel_core::model::{ABSENT, Columns, Field, Micros, Scale};
use stavel_core::rehearse::{
    BookTape, BookUnits, DeskAct, DeskRules, Direction, Entry, Exit, HeldRows, LOT, OrderKind, Queue, Replay,
    ReplayAct, Size, Ticket, TradeQuote, Until,
};

use crate::desks::{desk_with, tape, traded};

/// A fill: when, which way, how much, at what price, and of which order.
type Fill = (Micros, i64, i64, i64, u32);

#[derive(Clone, Copy)]
struct Waiting {
    id: u32,
    from: Micros,
    sign: i64,
    lots: i64,
    kind: OrderKind,
    stop: Option<Exit>,
    target: Option<Exit>,
    until: Micros,
    /// The position that it closes; they are counted.
    closes: Option<u32>,
    other: Option<u32>,
    best: i64,
}

/// What is offered at a moment: price and size of levels for buyers, and for sellers.
#[derive(Debug, Clone)]
struct Offered {
    told: Micros,
    sides: [Vec<(i64, i64)>; 2],
}

/// What is left of an order.
enum Rest {
    Nothing,
    Some(i64),
    /// Nothing was dealt: it waits on as it is.
    AsItWas,
}

/// The plain desk: one net position.
struct Plain {
    rules: DeskRules,
    waiting: Vec<Waiting>,
    position: i64,
    /// Counts positions: another one begins where the last is closed.
    count: u32,
    fills: Vec<Fill>,
    next: u32,
    offered: Option<Offered>,
}

impl Plain {
    fn quote(&mut self, now: TradeQuote) {
        self.waiting.retain(|w| w.until > now.time);
        for w in self.waiting.iter_mut().filter(|w| w.from <= now.time) {
            w.best = if w.sign > 0 { w.best.min(now.ask) } else { w.best.max(now.bid) };
        }
        // What waits and finds nothing in the book, until something else is dealt.
        let mut stuck = Vec::new();
        loop {
            let due = |w: &Waiting| w.from <= now.time && !stuck.contains(&w.id) && self.is_due(w, &now);
            let Some(i) = self.waiting.iter().position(due) else { return };
            if let OrderKind::StopLimit { limit, .. } = self.waiting[i].kind {
                self.waiting[i].kind = OrderKind::Limit(limit);
                stuck.clear();
                continue;
            }
            let w = self.waiting.remove(i);
            let rest = self.fill(w, now);
            match rest {
                Rest::Nothing => stuck.clear(),
                Rest::Some(lots) => {
                    self.waiting.insert(i.min(self.waiting.len()), Waiting { lots, ..w });
                    stuck.clear();
                }
                Rest::AsItWas => {
                    self.waiting.insert(i.min(self.waiting.len()), w);
                    stuck.push(w.id);
                }
            }
        }
    }

    fn is_due(&self, w: &Waiting, now: &TradeQuote) -> bool {
        let price = if w.sign > 0 { now.ask } else { now.bid };
        let through = if self.rules.queue == Queue::Through { 1 } else { 0 };
        match w.kind {
            OrderKind::Market => true,
            OrderKind::Limit(limit) => (limit - price) * w.sign >= through,
            OrderKind::Stop(stop) | OrderKind::StopLimit { stop, .. } => (price - stop) * w.sign >= 0,
            OrderKind::Trailing(behind) => (price - w.best) * w.sign >= behind,
        }
    }

    /// Sizes and prices at which an order is dealt: level by level where the book is known.
    fn dealt(&mut self, w: &Waiting, lots: i64, now: &TradeQuote) -> Vec<(i64, i64)> {
        let limit = if let OrderKind::Limit(limit) = w.kind { Some(limit) } else { None };
        let slip = if limit.is_some() { 0 } else { self.rules.slippage * w.sign };
        let price = if w.sign > 0 { now.ask } else { now.bid };
        let offered = self.offered.as_mut().filter(|o| now.time - o.told <= MINUTE);
        let Some(side) = offered.map(|o| &mut o.sides[usize::from(w.sign < 0)]) else {
            return vec![(lots, price + slip)];
        };
        let (best, mut left, mut last, mut dealt) = (side[0].0, lots, price, Vec::new());
        for (level, size) in side {
            let at = price + *level - best;
            if limit.is_some_and(|limit| (at - limit) * w.sign > 0) || left == 0 {
                break;
            }
            last = at;
            let part = left.min(*size);
            (*size, left) = (*size - part, left - part);
            if part > 0 {
                dealt.push((part, at + slip));
            }
        }
        if left > 0 && limit.is_none() {
            dealt.push((left, last + slip));
        }
        dealt
    }

    /// Fills an order: what is left of it.
    fn fill(&mut self, w: Waiting, now: TradeQuote) -> Rest {
        let lots = match w.closes {
            Some(of) if of != self.count || self.position == 0 => 0,
            Some(_) => w.lots.min(self.position.abs()),
            None => w.lots,
        };
        let before = self.position;
        let dealt = if lots > 0 { self.dealt(&w, lots, &now) } else { Vec::new() };
        let sum: i64 = dealt.iter().map(|(part, _)| part).sum();
        self.fills.extend(dealt.iter().map(|(part, price)| (now.time, w.sign, *part, *price, w.id)));
        self.position += sum * w.sign;
        if before != 0 && (self.position == 0 || self.position.signum() != before.signum()) {
            self.count += 1;
        }
        let opened = if before * w.sign < 0 { (sum - before.abs()).max(0) } else { sum };
        if opened > 0 {
            let cost: i64 = dealt.iter().map(|(part, price)| part * price).sum();
            self.bracket(&w, opened, (cost * 2 + sum).div_euclid(sum * 2), now);
        }
        let (count, rest) = (self.count, lots - sum);
        let holds = self.position != 0;
        if let Some(other) = self.waiting.iter_mut().find(|o| Some(o.id) == w.other && sum > 0) {
            other.lots = rest;
        }
        let is_paired = |o: &Waiting| rest == 0 && Some(o.id) == w.other;
        self.waiting.retain(|o| !is_paired(o) && o.closes.is_none_or(|of| holds && of == count));
        match (sum, rest) {
            (_, 0) => Rest::Nothing,
            (0, _) => Rest::AsItWas,
            (_, rest) => Rest::Some(rest),
        }
    }

    fn bracket(&mut self, w: &Waiting, lots: i64, price: i64, now: TradeQuote) {
        let mut ids = [None, None];
        for (id, exit) in ids.iter_mut().zip([w.stop, w.target]) {
            if exit.is_some() {
                *id = Some(self.next);
                self.next += 1;
            }
        }
        for (i, exit) in [w.stop, w.target].into_iter().enumerate() {
            let Some(exit) = exit else { continue };
            let away = |points: i64| price + if i == 0 { -points } else { points } * w.sign;
            let at = match exit {
                Exit::At(at) => at,
                Exit::Away(points) | Exit::Trail(points) => away(points),
            };
            let kind = match (i, exit) {
                (_, Exit::Trail(points)) => OrderKind::Trailing(points),
                (0, _) => OrderKind::Stop(at),
                _ => OrderKind::Limit(at),
            };
            self.waiting.push(Waiting {
                id: ids[i].unwrap(),
                from: now.time,
                sign: -w.sign,
                lots,
                kind,
                stop: None,
                target: None,
                until: Micros::MAX,
                closes: Some(self.count),
                other: ids[1 - i],
                best: if w.sign > 0 { now.bid } else { now.ask },
            });
        }
    }
}

/// An order among random ones: at which quote it is given, and how it differs from the price there.
#[derive(Debug, Clone)]
struct Drawn {
    at: usize,
    buys: bool,
    lots: i64,
    kind: u8,
    away: i64,
    stop: u8,
    stop_away: i64,
    target: bool,
    target_away: i64,
    lasts: Option<i64>,
}

prop_compose! {
    fn drawn()(
        at in 0usize..60, buys: bool, lots in 1i64..5, kind in 0u8..5, away in -12i64..13,
        stop in 0u8..4, stop_away in 1i64..15, target: bool, target_away in 1i64..15,
        lasts in proptest::option::of(1i64..30),
    ) -> Drawn {
        Drawn { at, buys, lots, kind, away, stop, stop_away, target, target_away, lasts }
    }
}

fn ticket_of(drawn: &Drawn, quote: &TradeQuote) -> Ticket {
    let direction = if drawn.buys { Direction::Buy } else { Direction::Sell };
    let price = if drawn.buys { quote.ask } else { quote.bid };
    let sign = direction.sign();
    // A stop on the wrong side is refused, which is another test's: here it lies on its own.
    let beyond = price + drawn.away.abs() * sign;
    let kind = match drawn.kind {
        0 => OrderKind::Market,
        1 => OrderKind::Limit(price + drawn.away),
        2 => OrderKind::Stop(beyond),
        3 => OrderKind::StopLimit { stop: beyond, limit: beyond + drawn.away },
        _ => OrderKind::Trailing(drawn.stop_away),
    };
    let stop = match drawn.stop {
        0 => None,
        1 => Some(Exit::Trail(drawn.stop_away)),
        _ => Some(Exit::Away(drawn.stop_away)),
    };
    let target = drawn.target.then_some(Exit::Away(drawn.target_away));
    let until = drawn.lasts.map_or(Until::Cancelled, |s| Until::Time(quote.time + s * SECOND));
    let size = Size::Lots(drawn.lots * LOT / 10);
    Ticket { of: 0, direction, size, kind, stop, target, until, tag: String::new() }
}

/// A walk of prices with jumps.
fn walk(steps: &[(i64, i64)]) -> Vec<TradeQuote> {
    let start = parse("2024-03-05 10:00").unwrap();
    let mut bid = 100_000;
    let quote = |(i, (step, spread)): (usize, &(i64, i64))| {
        bid += step;
        // Two quotes may come at one moment.
        TradeQuote { time: start + (i as i64 * 2 / 3) * SECOND, bid, ask: bid + spread }
    };
    steps.iter().enumerate().map(quote).collect()
}

/// A book among random ones: at which quote it is told, how far beside it, and the gaps and sizes of its levels.
type DrawnBook = (usize, i64, Vec<(i64, i64)>);

/// What is offered at some of the moments: sizes are in tenths of a lot.
fn books(quotes: &[TradeQuote], drawn: &[DrawnBook]) -> Vec<Offered> {
    let mut books: Vec<Offered> = Vec::new();
    for (at, beside, levels) in drawn {
        let quote = quotes[at % quotes.len()];
        // A book is told before the quotes of its moment, and may be told before its quote moved.
        let best = [(quote.ask + beside).max(quote.bid + beside + 1), quote.bid + beside];
        let side = |best: i64, sign: i64| {
            let mut price = best;
            let level = |(gap, size): &(i64, i64)| {
                let level = (price, *size * LOT / 10);
                price += sign * gap;
                level
            };
            levels.iter().map(level).collect()
        };
        books.push(Offered { told: quote.time, sides: [side(best[0], 1), side(best[1], -1)] });
    }
    books.sort_by_key(|book| book.told);
    books.dedup_by_key(|book| book.told);
    books
}

/// Books as rows.
fn rows_of(books: &[Offered]) -> Columns {
    use Field::*;
    let mut rows = Columns::empty(&[Taker, Level, Price, Size], Scale { price: 5, volume: 1 });
    for book in books {
        for (side, levels) in [(1, &book.sides[1]), (2, &book.sides[0])] {
            for (level, (price, size)) in levels.iter().enumerate() {
                rows.time.push(book.told);
                let row = [side, level as i64, *price, size * 10 / LOT];
                rows.data.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
            }
        }
    }
    assert!(!rows.data.iter().flatten().any(|value| *value == ABSENT));
    rows
}

fn plainly(
    quotes: &[TradeQuote],
    orders: &[(usize, Ticket)],
    rules: &DeskRules,
    books: &[Offered],
) -> (Vec<Fill>, i64) {
    let mut plain = Plain {
        rules: rules.clone(),
        waiting: Vec::new(),
        position: 0,
        count: 1,
        fills: Vec::new(),
        next: 1,
        offered: None,
    };
    let mut books = books.iter().peekable();
    // Acts reach the market one after another, before the first quote at or after their time.
    let mut given: Vec<(Micros, &Ticket)> =
        orders.iter().map(|(at, ticket)| (quotes[*at].time + 1, ticket)).collect();
    given.reverse();
    let mut last: Option<TradeQuote> = None;
    for quote in quotes {
        while given.last().is_some_and(|(time, _)| time + rules.latency <= quote.time) {
            let (time, ticket) = given.pop().unwrap();
            let sign = ticket.direction.sign();
            let price = last.map(|q| if sign > 0 { q.ask } else { q.bid });
            let until = if let Until::Time(until) = ticket.until { until } else { Micros::MAX };
            let Size::Lots(lots) = ticket.size else { unreachable!() };
            // The price may have gone through a stop while the order was on its way.
            let is_wrong = match ticket.kind {
                OrderKind::Stop(stop) | OrderKind::StopLimit { stop, .. } => {
                    price.is_some_and(|price| (price - stop) * sign > 0)
                }
                _ => false,
            };
            if is_wrong || until <= time {
                continue;
            }
            plain.waiting.push(Waiting {
                id: plain.next,
                from: time + rules.latency,
                sign,
                lots,
                kind: ticket.kind,
                stop: ticket.stop,
                target: ticket.target,
                until,
                closes: None,
                other: None,
                best: price.unwrap(),
            });
            plain.next += 1;
        }
        while let Some(book) = books.next_if(|book| book.told <= quote.time) {
            plain.offered = Some(book.clone());
        }
        plain.quote(*quote);
        last = Some(*quote);
    }
    (plain.fills, plain.position)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(10_000))]

    #[test]
    fn fills_are_those_of_a_plain_desk(
        steps in proptest::collection::vec((-7i64..8, 0i64..5), 2..60),
        mut orders in proptest::collection::vec(drawn(), 1..9),
        through: bool, slippage in 0i64..3, latency in 0i64..3,
        offered in proptest::collection::vec(
            (0usize..60, -2i64..3, proptest::collection::vec((1i64..4, 1i64..5), 2..5)), 0..6),
    ) {
        let quotes = walk(&steps);
        orders.iter_mut().for_each(|o| o.at %= quotes.len());
        orders.sort_by_key(|o| o.at);
        let rules = DeskRules {
            queue: if through { Queue::Through } else { Queue::Touch },
            slippage,
            latency: latency * SECOND,
            ..DeskRules::default()
        };
        // Given between two moments: after all quotes of the moment it looks at.
        let last_of = |at: usize| quotes.iter().rposition(|q| q.time == quotes[at].time).unwrap();
        let orders: Vec<(usize, Ticket)> =
            orders.iter().map(|o| (last_of(o.at), ticket_of(o, &quotes[last_of(o.at)]))).collect();
        let books = books(&quotes, &offered);
        let units = BookUnits { price: (1, 1), size: (i128::from(LOT), 10), deals: true };
        let book = BookTape::new(Box::new(HeldRows(rows_of(&books))), units);
        let mut replay = Replay::new(vec![tape(&quotes)], vec![traded("NOKSEK", &[])], rules.clone())
            .and_then(|replay| replay.with_books(vec![Some(book)]))
            .unwrap();
        for (at, ticket) in &orders {
            let time = quotes[*at].time + 1;
            replay.play_to(time - 1, u64::MAX).unwrap();
            replay.act(time, ReplayAct::Submit(DeskAct::Order(ticket.clone()))).unwrap();
        }
        replay.play_to(Micros::MAX, u64::MAX).unwrap();
        let (fills, position) = plainly(&quotes, &orders, &rules, &books);
        let made: Vec<Fill> =
            replay.desk().deals().map(|d| (d.time, d.direction.sign(), d.lots, d.price, d.order)).collect();
        prop_assert_eq!(made, fills);
        prop_assert_eq!(replay.desk().account().position(0), position);
        // What is on its way is told with the moment at which it was given.
        prop_assert!(latency > 0 || replay.desk().journal().is_sorted_by_key(Entry::time));

        // Quote by quote it is the same as in runs; a desk alone has no book.
        if !books.is_empty() {
            return Ok(());
        }
        let mut desk = desk_with(&[], rules);
        let mut given = orders.iter().peekable();
        for (i, quote) in quotes.iter().enumerate() {
            desk.take(0, *quote);
            while let Some((_, ticket)) = given.next_if(|(at, _)| *at == i) {
                desk.submit(quote.time + 1, DeskAct::Order(ticket.clone()));
            }
        }
        prop_assert_eq!(desk.journal(), replay.desk().journal());
    }
}
