//! What can be wrong with a series, and how bad that is.

use serde::{Deserialize, Serialize};

use crate::{Error, Result};

/// What can be wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// A session, or a day's quiet hour, written hours early or late.
    ClockSlip,
    /// From here on prices stand at another level: decimals or contract changed.
    ScaleJump,
    /// Open time without rows.
    Missing,
    /// One price again and again for far longer than this market rests.
    Frozen,
    /// Rows that were here before, at another time.
    RepeatedBlock,
    /// A price that leaves its neighbours and returns at once.
    Spike,
    /// A high or low that does not hold open and close.
    BadOhlc,
    /// A price of zero or below.
    NonPositive,
    /// Bid above ask.
    Crossed,
    /// A spread many times that of its hour of the week.
    WideSpread,
    /// A bar that another series of the same market does not agree with.
    Disagrees,
    /// The same row again.
    DuplicateTime,
    /// Another row at the same time.
    ConflictingTime,
    /// Rows stood in the file before rows they follow.
    OutOfOrder,
    /// A day of few hours: the day begins at the wrong hour.
    StubDay,
    /// Rows while the market is closed.
    ClosedMarket,
}

impl Kind {
    /// Every kind, in the order of reports. Repeats come before conflicts: mended in this order, a repeat is
    /// never told as a conflict.
    pub const ALL: [Kind; 16] = [
        Kind::ClockSlip,
        Kind::ScaleJump,
        Kind::Missing,
        Kind::Frozen,
        Kind::RepeatedBlock,
        Kind::Spike,
        Kind::BadOhlc,
        Kind::NonPositive,
        Kind::Crossed,
        Kind::WideSpread,
        Kind::Disagrees,
        Kind::DuplicateTime,
        Kind::ConflictingTime,
        Kind::OutOfOrder,
        Kind::StubDay,
        Kind::ClosedMarket,
    ];

    /// Its word in reports, options and JSON.
    pub fn word(self) -> &'static str {
        match self {
            Kind::OutOfOrder => "out_of_order",
            Kind::DuplicateTime => "duplicate_time",
            Kind::ConflictingTime => "conflicting_time",
            Kind::BadOhlc => "bad_ohlc",
            Kind::NonPositive => "non_positive",
            Kind::Spike => "spike",
            Kind::ClosedMarket => "closed_market",
            Kind::Missing => "missing",
            Kind::Crossed => "crossed",
            Kind::ClockSlip => "clock_slip",
            Kind::Frozen => "frozen",
            Kind::WideSpread => "wide_spread",
            Kind::ScaleJump => "scale_jump",
            Kind::StubDay => "stub_day",
            Kind::RepeatedBlock => "repeated_block",
            Kind::Disagrees => "disagrees",
        }
    }

    /// How bad it is.
    pub fn severity(self) -> Severity {
        match self {
            Kind::ClockSlip | Kind::ScaleJump | Kind::BadOhlc | Kind::NonPositive | Kind::Spike => {
                Severity::Fault
            }
            Kind::Missing
            | Kind::ConflictingTime
            | Kind::Crossed
            | Kind::Frozen
            | Kind::WideSpread
            | Kind::RepeatedBlock
            | Kind::StubDay
            | Kind::Disagrees => Severity::Doubt,
            Kind::DuplicateTime | Kind::OutOfOrder | Kind::ClosedMarket => Severity::Note,
        }
    }

    /// What mending it does; none where there is no mend.
    pub fn mend_in_words(self) -> Option<&'static str> {
        match self {
            Kind::OutOfOrder => Some("keep the rows in order of time, as the shelf has them"),
            Kind::DuplicateTime => Some("keep the first of equal rows"),
            Kind::ConflictingTime => Some("keep the first of rows at one time (=last, =median keep another)"),
            Kind::BadOhlc => Some("widen high and low to hold open and close"),
            Kind::NonPositive
            | Kind::Spike
            | Kind::Crossed
            | Kind::Frozen
            | Kind::WideSpread
            | Kind::RepeatedBlock => Some("drop the rows"),
            Kind::ClosedMarket => Some("drop the rows of closed hours"),
            Kind::Missing => Some("fill open minutes without rows with flat bars, marked as filled"),
            Kind::ClockSlip => Some("move the rows back by the hours they slipped"),
            Kind::ScaleJump => Some("rescale the rows, where the jump is a power of ten"),
            Kind::StubDay | Kind::Disagrees => None,
        }
    }

    /// True where the rows themselves prove it. A spike may be a true wick, a wide spread news, a pause a quiet
    /// hour: those are told as doubtful.
    pub fn is_certain(self) -> bool {
        use Kind::*;
        matches!(self, OutOfOrder | DuplicateTime | ConflictingTime | BadOhlc | NonPositive | Crossed)
    }
}

impl std::str::FromStr for Kind {
    type Err = Error;
    fn from_str(text: &str) -> Result<Kind> {
        Kind::ALL.into_iter().find(|k| k.word() == text).ok_or_else(|| {
            let words: Vec<&str> =
                Kind::ALL.iter().filter(|k| k.mend_in_words().is_some()).map(|k| k.word()).collect();
            Error::arguments(format!(
                "'{text}' is not a kind of finding; those that can be mended are {}.",
                words.join(", ")
            ))
        })
    }
}

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Nothing is lost or false.
    Note,
    /// Something may be lost or false.
    Doubt,
    /// Something is false.
    Fault,
}
