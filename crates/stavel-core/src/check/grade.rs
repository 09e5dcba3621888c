//! A grade from 0 to 100, with what took points off.

use super::{CheckReport, FindingKind};

/// A reason for points taken off.
#[derive(Debug, Clone, PartialEq)]
pub struct GradeLoss {
    /// Points of 100 that are taken off.
    pub points: f64,
    /// What for.
    pub cause: GradeCause,
}

/// What points are taken off for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum GradeCause {
    /// Open time without rows, in per cent.
    Missing(f64),
    /// Findings of a kind, and how many.
    Findings(FindingKind, usize),
}

/// How good a series is for a test, and why not better.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Grade {
    /// 0 to 100.
    pub points: u8,
    /// What was taken off, the most first.
    pub losses: Vec<GradeLoss>,
}

/// What findings of a kind cost: for the first, and at most.
fn cost(kind: FindingKind) -> (f64, f64) {
    match kind {
        FindingKind::ClockSlip => (5.0, 25.0),
        FindingKind::ScaleJump => (15.0, 30.0),
        FindingKind::Spike => (2.0, 15.0),
        FindingKind::BadOhlc | FindingKind::NonPositive => (2.0, 15.0),
        FindingKind::Frozen | FindingKind::RepeatedBlock => (2.0, 12.0),
        FindingKind::Crossed | FindingKind::WideSpread => (1.0, 8.0),
        FindingKind::ConflictingTime | FindingKind::Disagrees => (1.0, 10.0),
        FindingKind::StubDay => (5.0, 5.0),
        FindingKind::DuplicateTime | FindingKind::OutOfOrder => (0.5, 3.0),
        // What is missing is told by the coverage; filler by what a mend drops.
        FindingKind::Missing => (0.0, 0.0),
        FindingKind::ClosedMarket => (1.0, 2.0),
    }
}

/// Grades a report. Coverage costs two points a percent missing, up to 40; each kind of finding its price
/// for the first and half of it for every doubling of their number, up to its most.
pub fn grade(report: &CheckReport) -> Grade {
    let mut losses = Vec::new();
    // Of what is not known nothing is taken off.
    let missing = (1.0 - report.coverage.unwrap_or(1.0)).max(0.0) * 100.0;
    if missing >= 0.05 {
        losses.push(GradeLoss { points: (missing * 2.0).min(40.0), cause: GradeCause::Missing(missing) });
    }
    for &kind in FindingKind::ALL {
        let (n, _) = report.count(kind);
        let (first, most) = cost(kind);
        if n > 0 && first > 0.0 {
            let points = (first + first / 2.0 * (n as f64).log2()).min(most);
            losses.push(GradeLoss { points, cause: GradeCause::Findings(kind, n) });
        }
    }
    losses.sort_by(|a, b| b.points.total_cmp(&a.points));
    let lost: f64 = losses.iter().map(|l| l.points).sum();
    Grade { points: (100.0 - lost).clamp(0.0, 100.0).floor() as u8, losses }
}
