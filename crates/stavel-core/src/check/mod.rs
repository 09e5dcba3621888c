//! Check: what is wrong or doubtful in a series, and mending it.
//!
//! A [`Checker`] reads a series once, piece by piece, against the instrument's session, and gives a
//! [`CheckReport`]. A [`Mender`] takes the rows and a list of mends and gives new rows and counts. [`compare`]
//! holds two series against each other, [`learn`] reads the session week off the rows.

mod blocks;
mod checker;
mod cross;
mod cross_on_shelf;
mod days;
mod finding;
mod frozen;
mod grade;
mod hours;
mod kind;
mod learn;
mod learn_on_shelf;
mod mend;
mod mender;
mod on_shelf;
mod order;
mod piece;
mod place;
mod ready;
mod rhythm;
mod runs;
mod slip;
mod spikes;
mod spreads;
mod stubs;
mod subject;
mod tally;
mod values;

pub use checker::Checker;
pub use cross::{Agreement, Cross, SeriesComparer};
pub use cross_on_shelf::{Against, Crossed, cross_check};
pub use finding::{Finding, FindingDetail, Remedy};
pub use grade::{Grade, GradeCause, GradeLoss};
pub use hours::{HourStats, WEEK_HOURS};
pub use kind::{FindingKind, Severity};
pub use learn::{Learned, Learner};
pub use learn_on_shelf::{learn_hours, learn_week};
pub use mend::{Keep, Mend, MendList};
pub use mender::{MendSubject, Mended, Mender};
pub use on_shelf::{check_series, known_checks, mend_found, mend_series, preview_mends};
use runs::RowRun;
pub use subject::CheckSubject;

use serde::Serialize;

use crate::measures::RangeStats;
use crate::model::time::{MINUTE, civil_from_days};
use crate::model::{Micros, Span};
use crate::store::CheckMark;

/// Open time without rows, longer than a quiet market explains.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MissingSpan {
    /// From the end of the last row before to the first row after.
    pub span: Span,
    /// Open time in it.
    pub open: Micros,
}

/// A value with when it was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Extreme {
    /// How large, in points.
    pub points: i64,
    /// When.
    pub at: Micros,
}

impl Extreme {
    fn larger(&mut self, points: i64, at: Micros) {
        if points > self.points {
            *self = Extreme { points, at };
        }
    }
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
    /// The middle spread, in points.
    pub median: i64,
    /// The spread that 90 % of the rows do not exceed, in points.
    pub p90: i64,
    /// The spread that 99 % of the rows do not exceed, in points.
    pub p99: i64,
    /// The widest spread, in points.
    pub max: i64,
}

/// Everything a check has to say.
#[derive(Debug, Clone)]
pub struct CheckReport {
    /// Rows that were read.
    pub rows: u64,
    /// The time of the first row.
    pub first: Micros,
    /// The time of the last row.
    pub last: Micros,
    /// Share of open time that has rows, 0 to 1; none where it is not known when the market is open.
    pub coverage: Option<f64>,
    /// How full each session day is.
    pub days: Vec<DayCoverage>,
    /// Open time without rows.
    pub gaps: Vec<MissingSpan>,
    /// By kind, then by time.
    pub findings: Vec<Finding>,
    /// The longest bar, high minus low.
    pub max_range: Extreme,
    /// The longest way from open to close.
    pub max_body: Extreme,
    /// The longest step from a close to the next open.
    pub max_gap: Extreme,
    /// How far prices go in a session day; none without a row.
    pub session_range: Option<RangeStats>,
    /// Spreads, where the rows know them.
    pub spread: Option<SpreadStats>,
    /// Each hour of the week on the wall of the session's clock, from Monday 00:00 on.
    pub hours: Vec<HourStats>,
    /// Flat rows without volume in closed hours.
    pub filler_closed: u64,
    /// The same in open hours.
    pub filler_open: u64,
    /// How fit the series is for a test.
    pub grade: Grade,
}

/// How full a month is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MonthCoverage {
    /// The year, as 2024.
    pub year: i64,
    /// The month, 1 to 12.
    pub month: i64,
    /// Open time of the month within the series, microseconds.
    pub expected: Micros,
    /// Open time with rows.
    pub present: Micros,
}

impl CheckReport {
    /// Session days that have less than a fifth of their open time.
    pub fn missing_days(&self) -> impl Iterator<Item = i64> + '_ {
        self.days.iter().filter(|d| d.share() < 0.2).map(|d| d.day)
    }

    /// How full each month is; nothing where it is not known when the market is open.
    pub fn months(&self) -> Vec<MonthCoverage> {
        let mut out: Vec<MonthCoverage> = Vec::new();
        if self.coverage.is_none() {
            return out;
        }
        for d in &self.days {
            let (year, month, _) = civil_from_days(d.day);
            if out.last().is_none_or(|m| (m.year, m.month) != (year, month)) {
                out.push(MonthCoverage { year, month, expected: 0, present: 0 });
            }
            if let Some(m) = out.last_mut() {
                m.expected += d.expected;
                m.present += d.present.min(d.expected);
            }
        }
        out
    }

    /// The largest hole, by open time.
    pub fn largest_gap(&self) -> Option<&MissingSpan> {
        self.gaps.iter().max_by_key(|g| g.open)
    }

    /// Open time without rows, in minutes.
    pub fn minutes_missing(&self) -> Option<u64> {
        self.coverage?;
        let missing: Micros = self.days.iter().map(|d| d.expected - d.present.min(d.expected)).sum();
        Some((missing / MINUTE) as u64)
    }

    /// Rows in a minute that has rows: of ticks what a minute of open market holds.
    pub fn rows_a_minute(&self) -> f64 {
        let present: Micros = self.days.iter().map(|d| d.present.min(d.expected)).sum();
        if present == 0 { 0.0 } else { self.rows as f64 / (present as f64 / MINUTE as f64) }
    }

    /// Whether there is something to mend that is safe without looking: bars equal in every value, or filler in
    /// closed hours that are known.
    pub fn has_safe_mends(&self) -> bool {
        self.count(FindingKind::DuplicateTime).0 > 0 || self.filler_closed > 0
    }

    /// What is kept of it, where it is of a whole edition.
    pub fn mark(&self) -> CheckMark {
        CheckMark { points: self.grade.points, has_safe_mends: self.has_safe_mends() }
    }

    /// Puts findings in order and grades anew, after some were added or taken away.
    pub fn sort(&mut self) {
        self.findings.sort_by_key(|f| (FindingKind::ALL.iter().position(|k| *k == f.kind), f.span.from));
        self.grade = grade::grade(self);
    }

    /// True where the rows themselves prove a finding, or a spike is a bar that a second series disagrees with.
    pub fn is_certain(&self, finding: &Finding) -> bool {
        let disagrees =
            |f: &Finding| f.kind == FindingKind::Disagrees && f.span.overlap(&finding.span).is_some();
        finding.kind.is_certain() || finding.kind == FindingKind::Spike && self.findings.iter().any(disagrees)
    }

    /// Number of findings and of rows concerned, by kind.
    pub fn count(&self, kind: FindingKind) -> (usize, u64) {
        let of_kind = self.findings.iter().filter(|f| f.kind == kind);
        of_kind.fold((0, 0), |(n, rows), f| (n + 1, rows + f.rows))
    }
}
