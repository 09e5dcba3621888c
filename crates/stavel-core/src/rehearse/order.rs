//! Orders: what a person asks for, and what then waits in the market.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use crate::model::Micros;

/// One lot, in the units that sizes are counted in: ten-thousandths of a lot.
pub const LOT: i64 = 10_000;
/// Decimals of a size.
pub const LOT_DECIMALS: u8 = 4;

/// A size as text: two decimals at least, more where it has more.
pub fn lots_text(lots: i64) -> String {
    let text = crate::model::price::scaled(lots, LOT_DECIMALS);
    match text.strip_suffix("00") {
        Some(short) => short.to_owned(),
        None => text.strip_suffix('0').map_or(text.clone(), str::to_owned),
    }
}

/// Which way a deal goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Direction {
    /// Bought, at the ask.
    Buy,
    /// Sold, at the bid.
    Sell,
}

impl Direction {
    /// The way back.
    pub fn turned(self) -> Direction {
        match self {
            Direction::Buy => Direction::Sell,
            Direction::Sell => Direction::Buy,
        }
    }

    /// 1 for a buy, -1 for a sale.
    pub fn sign(self) -> i64 {
        match self {
            Direction::Buy => 1,
            Direction::Sell => -1,
        }
    }
}

/// How an order waits for its price. Prices and distances are in points of the instrument's rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OrderKind {
    /// At the first quote.
    Market,
    /// At its price or better.
    Limit(i64),
    /// At the market, once the price is at or through its own.
    Stop(i64),
    /// Once the price is at or through `stop`, at `limit` or better.
    StopLimit {
        /// The price that wakes it.
        stop: i64,
        /// The worst price it fills at.
        limit: i64,
    },
    /// A stop that follows the best price at so many points behind it.
    Trailing(i64),
}

/// Where a position is closed, as a part of the order that opens it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Exit {
    /// At a price.
    At(i64),
    /// So many points from the price at which it was opened.
    Away(i64),
    /// So many points behind the best price since.
    Trail(i64),
}

/// How long an order waits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Until {
    /// Until it is cancelled.
    Cancelled,
    /// Until the session day ends in which it was given.
    Day,
    /// Until a moment, UTC.
    Time(Micros),
}

/// How much is dealt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Size {
    /// Ten-thousandths of a lot.
    Lots(i64),
    /// What loses so many per cent of the account where the stop is hit.
    Risk(Decimal),
}

/// An order as a person asks for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ticket {
    /// The place of its instrument among those that are played.
    pub of: usize,
    /// Buy or sell.
    pub direction: Direction,
    /// How much.
    pub size: Size,
    /// How it waits.
    pub kind: OrderKind,
    /// Where the position is given up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop: Option<Exit>,
    /// Where its profit is taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<Exit>,
    /// How long it waits.
    pub until: Until,
    /// A word to count it by.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub tag: String,
}

impl Ticket {
    /// A market order.
    pub fn market(of: usize, direction: Direction, lots: i64) -> Ticket {
        Ticket {
            of,
            direction,
            size: Size::Lots(lots),
            kind: OrderKind::Market,
            stop: None,
            target: None,
            until: Until::Cancelled,
            tag: String::new(),
        }
    }
}

/// What a person does at a desk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DeskAct {
    /// Gives an order.
    Order(Ticket),
    /// Moves an order that waits to another price: its limit, its stop, or the stop of a stop-limit with its limit as far
    /// from it as before.
    Move {
        /// The order's number.
        order: u32,
        /// In points.
        price: i64,
    },
    /// Changes the size of an order that waits.
    Resize {
        /// The order's number.
        order: u32,
        /// Ten-thousandths of a lot.
        lots: i64,
    },
    /// Takes an order back.
    Cancel {
        /// The order's number.
        order: u32,
    },
    /// Takes back every order that waits, of one instrument or of all.
    CancelAll {
        /// The instrument's place.
        of: Option<usize>,
    },
    /// Closes a holding, or a part of it, at the market.
    Close {
        /// The holding's number.
        holding: u32,
        /// Ten-thousandths of a lot; none closes all of it.
        lots: Option<i64>,
    },
    /// Closes all that is held at the market and takes its orders back, of one instrument or of all.
    Flat {
        /// The instrument's place.
        of: Option<usize>,
    },
    /// Closes what is held of an instrument and opens as much the other way.
    Reverse {
        /// The instrument's place.
        of: usize,
    },
    /// Writes a line into the journal.
    Note {
        /// The line.
        text: String,
        /// A word to find it by.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        tag: String,
    },
}

/// An order that waits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Order {
    /// Its number; counted from 1.
    pub id: u32,
    /// The place of its instrument.
    pub of: usize,
    /// When it was given.
    pub given: Micros,
    /// Since when it waits for the price that it has now: within a bar that began before, it is not filled.
    pub since: Micros,
    /// Buy or sell.
    pub direction: Direction,
    /// Ten-thousandths of a lot.
    pub lots: i64,
    /// How it waits; a stop-limit that woke up is a limit.
    pub kind: OrderKind,
    /// The bracket of the position it opens.
    pub stop: Option<Exit>,
    /// The bracket of the position it opens.
    pub target: Option<Exit>,
    /// When it expires.
    pub until: Option<Micros>,
    /// A word to count it by.
    pub tag: String,
    /// The holding that it closes; it never opens one.
    pub closes: Option<u32>,
    /// What it is, where it is part of a bracket.
    pub role: OrderRole,
    /// The order that is taken back when this one fills.
    pub pair: Option<u32>,
    /// Of a trailing stop, the best price since it was given.
    pub best: Option<i64>,
    /// Bid and ask, in points, when it was given or changed last; none before the first quote.
    pub seen: Option<(i64, i64)>,
}

/// What an order is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum OrderRole {
    /// Its own.
    Entry,
    /// The stop of a bracket.
    Stop,
    /// The target of a bracket.
    Target,
    /// Closes a holding at the market.
    Close,
}

impl Order {
    /// The price that it waits for, in points; none for a market order, or a trailing stop that has seen no price.
    pub fn price(&self) -> Option<i64> {
        match self.kind {
            OrderKind::Market => None,
            OrderKind::Limit(price) | OrderKind::Stop(price) => Some(price),
            OrderKind::StopLimit { stop, .. } => Some(stop),
            OrderKind::Trailing(distance) => {
                self.best.map(|best| best - self.direction.turned().sign() * distance)
            }
        }
    }
}
