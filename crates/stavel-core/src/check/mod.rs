//! Check: what is wrong or doubtful in a series, and mending it.
//!
//! A [`Checker`] reads a series once, piece by piece, against the instrument's session, and gives a
//! [`Report`]. [`mend`] takes the rows and the kinds to mend and gives new rows and counts.

mod checker;
mod days;
mod mending;
mod on_shelf;
mod runs;
mod slip;
mod spikes;

pub use checker::{Checker, Subject};
pub use mending::{Mended, mend};
pub use on_shelf::{check_series, mend_rows, mend_series};

use serde::{Deserialize, Serialize};

use crate::model::{Micros, Span};
use crate::{Error, Result};

/// What can be wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// Rows stood in the file before rows they follow.
    OutOfOrder,
    /// The same row again.
    DuplicateTime,
    /// Another row at the same time.
    ConflictingTime,
    /// A high or low that does not hold open and close.
    BadOhlc,
    /// A price of zero or below.
    NonPositive,
    /// A price that leaves its neighbours and returns at once.
    Spike,
    /// Rows while the market is closed.
    ClosedMarket,
    /// Open time without rows.
    Missing,
    /// Bid above ask.
    Crossed,
    /// A session written hours early or late.
    ClockSlip,
}

impl Kind {
    /// Every kind, in the order of reports.
    pub const ALL: [Kind; 10] = [
        Kind::ClockSlip,
        Kind::Missing,
        Kind::Spike,
        Kind::BadOhlc,
        Kind::NonPositive,
        Kind::Crossed,
        // Repeats come before conflicts: mended in this order, a repeat is never told as a conflict.
        Kind::DuplicateTime,
        Kind::ConflictingTime,
        Kind::OutOfOrder,
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
        }
    }

    /// How bad it is.
    pub fn severity(self) -> Severity {
        match self {
            Kind::ClockSlip | Kind::BadOhlc | Kind::NonPositive | Kind::Spike => Severity::Fault,
            Kind::Missing | Kind::ConflictingTime | Kind::Crossed => Severity::Doubt,
            Kind::DuplicateTime | Kind::OutOfOrder | Kind::ClosedMarket => Severity::Note,
        }
    }

    /// What mending it does; none where there is no mend.
    pub fn mend_in_words(self) -> Option<&'static str> {
        match self {
            Kind::OutOfOrder => Some("keep the rows in order of time, as the shelf has them"),
            Kind::DuplicateTime => Some("keep the first of equal rows"),
            Kind::ConflictingTime => Some("keep the first of rows at one time"),
            Kind::BadOhlc => Some("widen high and low to hold open and close"),
            Kind::NonPositive | Kind::Spike | Kind::Crossed => Some("drop the rows"),
            Kind::ClosedMarket => Some("drop the rows of closed hours"),
            Kind::Missing | Kind::ClockSlip => None,
        }
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

/// One thing found. Times are those of the series: UTC, or as written while afloat.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    pub kind: Kind,
    /// From the first row concerned to after the last.
    pub span: Span,
    pub rows: u64,
    pub detail: String,
}

/// Open time without rows, longer than a quiet market explains.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Gap {
    pub span: Span,
    /// Open time in it.
    pub open: Micros,
}

/// A value with when it was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Extreme {
    pub points: i64,
    pub at: Micros,
}

/// How full a session day is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DayCoverage {
    /// Days since 1970-01-01, on the session's clock.
    pub day: i64,
    /// Open time of the day, microseconds.
    pub expected: Micros,
    /// Open time with rows.
    pub present: Micros,
}

impl DayCoverage {
    /// From 0 (empty) to 1 (full).
    pub fn share(&self) -> f64 {
        if self.expected == 0 { 0.0 } else { (self.present as f64 / self.expected as f64).min(1.0) }
    }
}

/// Spread quantiles in points.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
pub struct SpreadStats {
    pub median: i64,
    pub p90: i64,
    pub p99: i64,
    pub max: i64,
}

/// Everything a check has to say.
#[derive(Debug, Clone)]
pub struct Report {
    pub rows: u64,
    pub first: Micros,
    pub last: Micros,
    /// Share of open time that has rows, 0 to 1.
    pub coverage: f64,
    pub days: Vec<DayCoverage>,
    pub gaps: Vec<Gap>,
    /// By kind, then by time.
    pub findings: Vec<Finding>,
    pub max_range: Extreme,
    pub max_body: Extreme,
    pub max_gap: Extreme,
    pub spread: Option<SpreadStats>,
    /// Flat rows without volume in closed and in open hours.
    pub filler_closed: u64,
    pub filler_open: u64,
}

impl Report {
    /// Session days that have less than a fifth of their open time.
    pub fn missing_days(&self) -> impl Iterator<Item = i64> + '_ {
        self.days.iter().filter(|d| d.share() < 0.2).map(|d| d.day)
    }

    /// Number of findings and of rows concerned, by kind.
    pub fn count(&self, kind: Kind) -> (usize, u64) {
        let of_kind = self.findings.iter().filter(|f| f.kind == kind);
        of_kind.fold((0, 0), |(n, rows), f| (n + 1, rows + f.rows))
    }
}

#[cfg(test)]
mod tests;
