//! When an order fills and at which price: the rules, without an account.
//!
//! A recorded quote is a jump: what waits for a price that was passed over fills at the quote, so a stop gets the next price
//! and a limit its own or a better one. Within a bar the price is taken to move without jumps, so both fill at their own.

use super::order::{Direction, Order, OrderKind};
use super::quote::TradeQuote;

/// What a limit needs to be filled: where it stands in the queue is not known.
#[derive(
    Debug,
    Clone,
    Copy,
    Default,
    PartialEq,
    Eq,
    serde::Serialize,
    serde::Deserialize,
    strum::EnumString,
    strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Queue {
    /// It is filled when the price touches it.
    #[default]
    Touch,
    /// It is last in the queue: the price has to go a point through it.
    Through,
}

impl Queue {
    fn points(self) -> i64 {
        match self {
            Queue::Touch => 0,
            Queue::Through => 1,
        }
    }
}

/// The price that an order of a direction deals at.
pub fn side_of(direction: Direction, quote: &TradeQuote) -> i64 {
    match direction {
        Direction::Buy => quote.ask,
        Direction::Sell => quote.bid,
    }
}

/// What an order waits for, on the side it deals at: it acts at once where the price is at or beyond one of these.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Triggers {
    /// At this price or below.
    pub below: Option<i64>,
    /// At this price or above.
    pub above: Option<i64>,
}

/// What an order waits for, beside a first quote.
pub fn triggers(order: &Order, queue: Queue) -> Triggers {
    let none = Triggers { below: None, above: None };
    let low = |price| Triggers { below: Some(price), ..none };
    let high = |price| Triggers { above: Some(price), ..none };
    let buys = order.direction == Direction::Buy;
    match order.kind {
        OrderKind::Market => none,
        OrderKind::Limit(price) if buys => low(price - queue.points()),
        OrderKind::Limit(price) => high(price + queue.points()),
        OrderKind::Stop(price) | OrderKind::StopLimit { stop: price, .. } if buys => high(price),
        OrderKind::Stop(price) | OrderKind::StopLimit { stop: price, .. } => low(price),
        OrderKind::Trailing(_) => match order.price() {
            Some(price) if buys => high(price),
            Some(price) => low(price),
            None => none,
        },
    }
}

/// True where an order acts at a price of its side.
pub fn acts_at(order: &Order, price: i64, queue: Queue) -> bool {
    let triggers = triggers(order, queue);
    order.kind == OrderKind::Market
        || triggers.below.is_some_and(|below| price <= below)
        || triggers.above.is_some_and(|above| price >= above)
}

/// True for an order that is filled at the market and so may slip.
pub fn slips(kind: OrderKind) -> bool {
    matches!(kind, OrderKind::Market | OrderKind::Stop(_) | OrderKind::Trailing(_))
}

/// The first price of an order's side at which it acts, where that moves without a jump from one price to another. None
/// where it does not act on the way.
pub fn acts_between(order: &Order, from: i64, to: i64, queue: Queue) -> Option<i64> {
    if acts_at(order, from, queue) {
        return Some(from);
    }
    let triggers = triggers(order, queue);
    if to > from {
        triggers.above.filter(|above| *above <= to)
    } else {
        triggers.below.filter(|below| *below >= to)
    }
}

/// The price at which an order fills that acts at a price of its side, where that moves without jumps: a limit that had to
/// be passed by a point fills at its own price still.
pub fn price_on_the_way(order: &Order, at: i64, queue: Queue) -> i64 {
    match order.kind {
        OrderKind::Limit(price) if (price - at).abs() == queue.points() => price,
        _ => at,
    }
}
