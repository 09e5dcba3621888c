//! What a person does at a desk: orders are looked at before they are taken, and refused in words.

use rust_decimal::Decimal;

use super::account::Account;
use super::desk::{Desk, Entry, Gone, Refusal};
use super::fill::{acts_at, side_of};
use super::money::{Rates, points_money as money};
use super::order::{
    DeskAct, Direction, Exit, LOT, LOT_DECIMALS, Order, OrderKind, OrderRole, Size, Ticket, Until, lots_text,
};
use super::quote::TradeQuote;
use crate::model::Micros;
use crate::model::Span;
use crate::model::instrument::InstrumentKind;
use crate::model::price::scaled;
use crate::model::time::{DAY, length_in_words, wall};

/// The finest size where the sheet names no step, but of contracts: a hundredth of a lot.
const USUAL_STEP: i64 = LOT / 100;
/// The largest size of an order: 100,000 lots.
const MOST: i64 = 100_000 * LOT;

/// What is refused, in words.
type Checked<T> = Result<T, String>;

impl Desk {
    /// Does an act of a person that is given at a moment, by somebody who sees the last quotes: what can be filled at them is.
    pub fn give(&mut self, now: Micros, act: DeskAct) {
        if let Err(why) = self.refuse_when_closed(now, &act) {
            return self.refuse(now, ticket_of(&act), why);
        }
        self.submit(now, act);
        if self.rules.latency == 0 {
            for of in 0..self.traded.len() {
                self.fill_standing(of, now);
            }
        }
    }

    /// Fills what can be filled at the last quote of an instrument, which stands still at a later moment. A quote from before a
    /// weekend, or before a hole in the rows, does not stand any more: what is given after it waits for the next.
    fn fill_standing(&mut self, of: usize, now: Micros) {
        let stands = |last: &TradeQuote| now - last.time <= self.traded[of].patience;
        let Some(last) = self.state.quotes[of].filter(stands) else { return };
        let quote = TradeQuote { time: now.max(last.time), ..last };
        // A night that is over by now is not one of what is opened now.
        let rates = Rates { quotes: &self.state.quotes, traded: &self.traded };
        let swap = self.state.account.pass(of, quote.time, &self.traded[of], &rates);
        self.journal.extend(swap.map(Entry::Swap));
        self.fill_at(of, &quote);
        self.call_margin(of);
    }

    /// Does an act that is given at a moment between quotes: it waits for the next.
    pub fn submit(&mut self, now: Micros, act: DeskAct) {
        self.state.now = self.state.now.max(now);
        match act {
            DeskAct::Note { text, tag } => self.journal.push(Entry::Note { time: now, text, tag }),
            act if self.rules.latency > 0 => self.state.on_the_way.push((now + self.rules.latency, act)),
            act => self.apply(now, act),
        }
    }

    /// Takes what has reached the market by a moment.
    pub(super) fn arrive(&mut self, now: Micros) {
        while self.state.on_the_way.first().is_some_and(|(due, _)| *due <= now) {
            let (due, act) = self.state.on_the_way.remove(0);
            self.apply(due - self.rules.latency, act);
        }
    }

    fn apply(&mut self, now: Micros, act: DeskAct) {
        self.expire(now);
        let ticket = ticket_of(&act);
        if let Err(why) = self.try_apply(now, act) {
            self.refuse(now, ticket, why);
        }
    }

    fn refuse(&mut self, time: Micros, ticket: Option<Ticket>, why: String) {
        self.journal.push(Entry::Refused(Refusal { time, ticket, why }));
    }

    fn try_apply(&mut self, now: Micros, act: DeskAct) -> Checked<()> {
        match act {
            DeskAct::Order(ticket) => {
                let order = self.order_of(now, &ticket)?;
                self.state.next_order += 1;
                self.journal.push(Entry::Given(order.clone()));
                self.state.orders.push(order);
            }
            DeskAct::Move { order, price } => self.move_order(now, order, price)?,
            DeskAct::Resize { order, lots } => self.resize(now, order, lots)?,
            DeskAct::Cancel { order } => {
                let place = self.place_of(order)?;
                let order = self.state.orders.remove(place);
                self.journal.push(Entry::Gone { time: now, order, why: Gone::Cancelled });
            }
            DeskAct::CancelAll { of } => self.cancel_all(now, of),
            DeskAct::Close { holding, lots } => {
                let held = self.state.account.holding(holding).cloned();
                let held = held.ok_or_else(|| format!("nothing is held under number {holding}"))?;
                let part = lots.unwrap_or(held.lots);
                if !(1..=held.lots).contains(&part) {
                    return Err(format!(
                        "{} of {} lots cannot be closed",
                        lots_text(part),
                        lots_text(held.lots)
                    ));
                }
                self.give_closing(&held, part, now);
            }
            DeskAct::Flat { of } => {
                self.cancel_all(now, of);
                let held = self.state.account.holdings().iter();
                let held: Vec<_> = held.filter(|h| of.is_none_or(|of| h.of == of)).cloned().collect();
                if held.is_empty() {
                    return Err("there is no position to close".to_owned());
                }
                for holding in held {
                    let lots = holding.lots;
                    self.give_closing(&holding, lots, now);
                }
            }
            DeskAct::Reverse { of } => self.reverse(now, of)?,
            DeskAct::Note { text, tag } => self.journal.push(Entry::Note { time: now, text, tag }),
        }
        Ok(())
    }

    fn give_closing(&mut self, holding: &super::account::Holding, lots: i64, now: Micros) {
        let order = self.closing(holding, lots, now);
        self.journal.push(Entry::Given(order.clone()));
        self.state.orders.push(order);
    }

    fn reverse(&mut self, now: Micros, of: usize) -> Checked<()> {
        self.is_there(of)?;
        let position = self.state.account.position(of);
        if position == 0 {
            return Err("there is no position to turn round".to_owned());
        }
        let back = if position > 0 { Direction::Sell } else { Direction::Buy };
        self.try_apply(now, DeskAct::Flat { of: Some(of) })?;
        self.try_apply(now, DeskAct::Order(Ticket::market(of, back, position.abs())))
    }

    fn cancel_all(&mut self, now: Micros, of: Option<usize>) {
        let is_one = |order: &Order| of.is_none_or(|of| order.of == of);
        let (gone, stay) = std::mem::take(&mut self.state.orders).into_iter().partition(is_one);
        self.state.orders = stay;
        let gone: Vec<Order> = gone;
        let entry = |order: Order| Entry::Gone { time: now, order, why: Gone::Cancelled };
        self.journal.extend(gone.into_iter().map(entry));
    }

    fn place_of(&self, id: u32) -> Checked<usize> {
        let place = self.state.orders.iter().position(|o| o.id == id);
        place.ok_or_else(|| format!("no order {id} waits"))
    }

    fn move_order(&mut self, now: Micros, id: u32, price: i64) -> Checked<()> {
        let place = self.place_of(id)?;
        let mut order = self.state.orders[place].clone();
        self.refuse_off_step(order.of, price)?;
        order.kind = match order.kind {
            OrderKind::Limit(_) => OrderKind::Limit(price),
            OrderKind::Stop(_) => OrderKind::Stop(price),
            OrderKind::StopLimit { stop, limit } => {
                OrderKind::StopLimit { stop: price, limit: limit + price - stop }
            }
            OrderKind::Trailing(_) => return Err(format!("order {id} follows the price by itself")),
            OrderKind::Market => return Err(format!("order {id} has no price")),
        };
        self.refuse_wrong_side(&order)?;
        order.since = now + self.rules.latency;
        order.seen = self.seen(order.of);
        self.state.orders[place] = order.clone();
        self.journal.push(Entry::Changed { time: now, order });
        Ok(())
    }

    fn resize(&mut self, now: Micros, id: u32, lots: i64) -> Checked<()> {
        let place = self.place_of(id)?;
        self.refuse_size(self.state.orders[place].of, lots)?;
        let seen = self.seen(self.state.orders[place].of);
        let order = &mut self.state.orders[place];
        (order.lots, order.seen) = (lots, seen);
        let order = order.clone();
        self.journal.push(Entry::Changed { time: now, order });
        Ok(())
    }

    fn is_there(&self, of: usize) -> Checked<()> {
        if of < self.traded.len() { Ok(()) } else { Err(format!("no instrument {of} is played")) }
    }

    /// An order as a person asks for it, looked at.
    fn order_of(&self, now: Micros, ticket: &Ticket) -> Checked<Order> {
        self.is_there(ticket.of)?;
        let of = ticket.of;
        let prices = match ticket.kind {
            OrderKind::Limit(price) | OrderKind::Stop(price) => vec![price],
            OrderKind::StopLimit { stop, limit } => vec![stop, limit],
            OrderKind::Market | OrderKind::Trailing(_) => Vec::new(),
        };
        let exits = [ticket.stop, ticket.target].into_iter().flatten();
        let at = exits.filter_map(|exit| if let Exit::At(price) = exit { Some(price) } else { None });
        prices.into_iter().chain(at).try_for_each(|price| self.refuse_off_step(of, price))?;
        let is_far = |exit: &Exit| matches!(exit, Exit::Away(points) | Exit::Trail(points) if *points <= 0);
        let trails = matches!(ticket.kind, OrderKind::Trailing(points) if points <= 0);
        if trails || [ticket.stop, ticket.target].iter().flatten().any(is_far) {
            return Err("a distance must be above zero".to_owned());
        }
        let away = [ticket.stop, ticket.target].into_iter().flatten().filter_map(|exit| match exit {
            Exit::Away(points) | Exit::Trail(points) => Some(points),
            Exit::At(_) => None,
        });
        let behind = if let OrderKind::Trailing(points) = ticket.kind { Some(points) } else { None };
        away.chain(behind).try_for_each(|points| self.refuse_uneven(of, points))?;
        if matches!(ticket.target, Some(Exit::Trail(_))) {
            return Err("a target cannot follow the price; only a stop can".to_owned());
        }
        let session = &self.traded[of].sheet.session;
        let until = match ticket.until {
            Until::Cancelled => None,
            Until::Day => Some(session.clock.day_start(session.clock.day_of(now) + 1)),
            Until::Time(until) => Some(until),
        };
        if until.is_some_and(|until| until <= now) {
            return Err("it is to wait until a moment that is over".to_owned());
        }
        let quote = self.state.quotes[of];
        let order = Order {
            id: self.state.next_order,
            of,
            given: now,
            since: now + self.rules.latency,
            direction: ticket.direction,
            lots: self.size_of(ticket)?,
            kind: ticket.kind,
            stop: ticket.stop,
            target: ticket.target,
            until,
            tag: ticket.tag.clone(),
            closes: None,
            role: OrderRole::Entry,
            pair: None,
            best: quote.map(|q| side_of(ticket.direction, &q)),
            seen: quote.map(|q| (q.bid, q.ask)),
        };
        self.refuse_wrong_side(&order)?;
        self.refuse_bracket(&order)?;
        Ok(order)
    }

    fn size_of(&self, ticket: &Ticket) -> Checked<i64> {
        let lots = match ticket.size {
            Size::Lots(lots) => lots,
            Size::Risk(share) => self.size_by_risk(ticket, share)?,
        };
        self.refuse_size(ticket.of, lots)?;
        Ok(lots)
    }

    /// The size that loses so many per cent of the account where the stop is hit, rounded down to a step.
    fn size_by_risk(&self, ticket: &Ticket, share: Decimal) -> Checked<i64> {
        let equity =
            self.equity().ok_or("size by risk needs to know what is in the account: say its balance")?;
        let of = ticket.of;
        let quote = self.state.quotes[of].ok_or("no price is known yet to count the risk from")?;
        let entry = reference(ticket.kind, ticket.direction, &quote);
        let distance = match ticket.stop.ok_or("size by risk needs a stop")? {
            Exit::At(price) => (entry - price).abs(),
            Exit::Away(points) | Exit::Trail(points) => points,
        };
        let a_lot = money(&self.traded[of], i128::from(distance) * i128::from(LOT));
        let rate =
            self.rates().of(of, quote.time).ok_or("no rate to the money of the account is known yet")?;
        let loss = a_lot * rate;
        if loss <= Decimal::ZERO || share <= Decimal::ZERO || share > Decimal::ONE_HUNDRED {
            return Err(
                "the risk must be above 0 and at most 100 per cent, and the stop away from the price"
                    .to_owned(),
            );
        }
        let lots = equity * share / Decimal::ONE_HUNDRED / loss * Decimal::from(LOT);
        let step = self.step_of(of);
        let whole = i64::try_from(lots.floor()).unwrap_or(i64::MAX) / step * step;
        if whole == 0 {
            return Err(format!(
                "{}% of the account is less than what {} lots lose at that stop",
                share.normalize(),
                lots_text(step)
            ));
        }
        Ok(whole)
    }

    /// The step of sizes; nobody deals in parts of a contract of an exchange.
    pub fn step_of(&self, of: usize) -> i64 {
        let is_contract = self.traded[of].sheet.kind == InstrumentKind::Futures;
        let usual = if is_contract { LOT } else { USUAL_STEP };
        self.lots_said(of, 1).or_else(|| self.lots_said(of, 0)).unwrap_or(usual).max(1)
    }

    /// Least, step or most lots of the sheet, in ten-thousandths; none where nobody has said it.
    fn lots_said(&self, of: usize, which: usize) -> Option<i64> {
        let lots = self.traded[of].sheet.lots[which]? * Decimal::from(LOT);
        i64::try_from(lots.trunc()).ok()
    }

    fn refuse_size(&self, of: usize, lots: i64) -> Checked<()> {
        let name = &self.traded[of].name;
        let least = self.lots_said(of, 0).unwrap_or(1);
        let most = self.lots_said(of, 2).unwrap_or(MOST).min(MOST);
        let step = self.step_of(of);
        if lots <= 0 {
            Err("a size must be above zero".to_owned())
        } else if lots < least {
            Err(format!("{} lots are less than the least of {name}, {}", lots_text(lots), lots_text(least)))
        } else if lots > most {
            Err(format!("{} lots are more than the most of {name}, {}", lots_text(lots), lots_text(most)))
        } else if lots % step != 0 {
            Err(format!("{} lots are no whole number of steps of {}", lots_text(lots), lots_text(step)))
        } else {
            Ok(())
        }
    }

    fn refuse_off_step(&self, of: usize, price: i64) -> Checked<()> {
        let traded = &self.traded[of];
        match traded.sheet.tick_points(traded.decimals) {
            Ok(step) if price % step != 0 => Err(format!(
                "{} is no whole number of steps of {}",
                scaled(price, traded.decimals),
                traded.sheet.tick_size.normalize()
            )),
            _ => Ok(()),
        }
    }

    /// A distance from a price that is on a step must be of whole steps.
    fn refuse_uneven(&self, of: usize, points: i64) -> Checked<()> {
        let traded = &self.traded[of];
        match traded.sheet.tick_points(traded.decimals) {
            Ok(step) if points % step != 0 => Err(format!(
                "a distance of {points} points is no whole number of steps of {}, which is {step} points",
                traded.sheet.tick_size.normalize()
            )),
            _ => Ok(()),
        }
    }

    /// A stop that the price is already through stands on the wrong side of the market.
    fn refuse_wrong_side(&self, order: &Order) -> Checked<()> {
        let Some(quote) = self.state.quotes[order.of] else { return Ok(()) };
        let is_stop = matches!(order.kind, OrderKind::Stop(_) | OrderKind::StopLimit { .. });
        let price = side_of(order.direction, &quote);
        // At the price itself it acts at once, as it says.
        if !is_stop || !acts_at(order, price, self.rules.queue) || order.price() == Some(price) {
            return Ok(());
        }
        let decimals = self.traded[order.of].decimals;
        let (verb, side, name) = match order.direction {
            Direction::Buy => ("buys", "above", "ask"),
            Direction::Sell => ("sells", "below", "bid"),
        };
        Err(format!(
            "a stop that {verb} at {} must lie {side} the {name}, which is {}",
            scaled(order.price().unwrap_or_default(), decimals),
            scaled(price, decimals)
        ))
    }

    /// The stop of a bracket lies on the losing side of the price at which the position is opened, its target on the other.
    fn refuse_bracket(&self, order: &Order) -> Checked<()> {
        let Some(quote) = self.state.quotes[order.of] else { return Ok(()) };
        let entry = reference(order.kind, order.direction, &quote);
        let decimals = self.traded[order.of].decimals;
        let sign = order.direction.sign();
        let wrong = |name: &str, price: i64, side: &str| {
            Err(format!(
                "the {name} {} must lie {side} {}, where the position is opened",
                scaled(price, decimals),
                scaled(entry, decimals)
            ))
        };
        let (losing, winning) = if sign > 0 { ("below", "above") } else { ("above", "below") };
        match (order.stop, order.target) {
            (Some(Exit::At(stop)), _) if (entry - stop) * sign <= 0 => wrong("stop", stop, losing),
            (_, Some(Exit::At(target))) if (target - entry) * sign <= 0 => wrong("target", target, winning),
            _ => Ok(()),
        }
    }

    /// What is to be dealt at once needs a quote that stands.
    fn refuse_when_closed(&self, now: Micros, act: &DeskAct) -> Checked<()> {
        let of = match act {
            DeskAct::Order(Ticket { of, kind: OrderKind::Market, .. }) | DeskAct::Reverse { of } => Some(*of),
            DeskAct::Close { holding, .. } => self.state.account.holding(*holding).map(|h| h.of),
            DeskAct::Flat { of: Some(of) } => Some(*of),
            _ => None,
        };
        let Some(of) = of.filter(|of| *of < self.traded.len()) else { return Ok(()) };
        let traded = &self.traded[of];
        let Some(quote) = self.state.quotes[of] else {
            return Err(format!("{} has no price yet", traded.name));
        };
        let waited = now - quote.time;
        if waited <= traded.patience {
            return Ok(());
        }
        let next = traded.sheet.session.open_spans(Span::new(now, now + 15 * DAY));
        let opening = next.first().filter(|span| span.from > now).map(|span| span.from);
        Err(match opening {
            Some(opening) => format!("{} is closed; it opens at {}", traded.name, wall(opening)),
            None => format!("{} has had no price for {}", traded.name, length_in_words(waited)),
        })
    }

    /// What a size of an instrument binds at a price, and what is free; none where a margin or the balance is not known.
    pub(super) fn lacks_margin(&self, of: usize, lots: i64, price: i64) -> Option<(Decimal, Decimal)> {
        let equity = self.equity()?;
        let rate = self.rates().of(of, self.state.now)?;
        let needs =
            super::account::margin_of(&self.traded[of], lots, i128::from(price) * i128::from(lots))? * rate;
        let free = equity - self.margin()?;
        (needs > free).then_some((needs, free))
    }

    /// What closing at a price would earn for a holding, before costs.
    pub fn profit_at(&self, holding: &super::account::Holding, price: i64) -> Option<Decimal> {
        let quote = TradeQuote { time: self.state.now, bid: price, ask: price };
        Account::open_profit(holding, &self.traded[holding.of], &quote, &self.rates())
    }
}

/// The price at which a position would be opened.
fn reference(kind: OrderKind, direction: Direction, quote: &TradeQuote) -> i64 {
    match kind {
        OrderKind::Limit(price) | OrderKind::Stop(price) => price,
        OrderKind::StopLimit { limit, .. } => limit,
        OrderKind::Market | OrderKind::Trailing(_) => side_of(direction, quote),
    }
}

fn ticket_of(act: &DeskAct) -> Option<Ticket> {
    match act {
        DeskAct::Order(ticket) => Some(ticket.clone()),
        _ => None,
    }
}

/// Decimals of sizes as text is read: whatever has more is refused.
pub fn parse_lots(text: &str) -> Option<i64> {
    crate::model::price::parse_scaled(text.as_bytes(), LOT_DECIMALS).ok()
}
