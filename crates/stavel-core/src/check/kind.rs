//! What can be wrong with a series, and how bad that is.

use serde::{Deserialize, Serialize};

use crate::Error;

/// What can be wrong, in the order of reports. Repeats come before conflicts: mended in this order, a repeat
/// is never told as a conflict.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantArray)]
#[strum(serialize_all = "snake_case", parse_err_ty = Error, parse_err_fn = not_a_kind)]
pub enum FindingKind {
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

impl FindingKind {
    /// Every kind, in the order of reports.
    pub const ALL: &'static [FindingKind] = <FindingKind as strum::VariantArray>::VARIANTS;

    /// Its word in reports, options and JSON.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// How bad it is.
    pub fn severity(self) -> Severity {
        match self {
            FindingKind::ClockSlip
            | FindingKind::ScaleJump
            | FindingKind::BadOhlc
            | FindingKind::NonPositive
            | FindingKind::Spike => Severity::Fault,
            FindingKind::Missing
            | FindingKind::ConflictingTime
            | FindingKind::Crossed
            | FindingKind::Frozen
            | FindingKind::WideSpread
            | FindingKind::RepeatedBlock
            | FindingKind::StubDay
            | FindingKind::Disagrees => Severity::Doubt,
            FindingKind::DuplicateTime | FindingKind::OutOfOrder | FindingKind::ClosedMarket => {
                Severity::Note
            }
        }
    }

    /// Whether there is a mend for it.
    pub fn is_mendable(self) -> bool {
        !matches!(self, FindingKind::StubDay | FindingKind::Disagrees)
    }

    /// True where the rows themselves prove it. A spike may be a true wick, a wide spread news, a pause a quiet
    /// hour: those are told as doubtful.
    pub fn is_certain(self) -> bool {
        use FindingKind::*;
        matches!(self, OutOfOrder | DuplicateTime | ConflictingTime | BadOhlc | NonPositive | Crossed)
    }
}

fn not_a_kind(text: &str) -> Error {
    let words: Vec<&str> = FindingKind::ALL.iter().filter(|k| k.is_mendable()).map(|k| k.word()).collect();
    Error::arguments(format!(
        "'{text}' is not a kind of finding; those that can be mended are {}.",
        words.join(", ")
    ))
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
