//! Two series of one market held against each other.

use crate::model::time::{MINUTE, civil_from_days, day_of};
use crate::model::{Columns, Field, Micros, Span};
use crate::store::Cursor;

use crate::stats::Correlation;

use super::tally::OctaveCounts;
use super::{Finding, FindingDetail, FindingKind};

/// How two series agree in a part of time. Prices in points; of the four prices of a bar the worst counts.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Agreement {
    /// Bars that both have.
    pub both: u64,
    /// Of those, with the same four prices.
    pub equal: u64,
    /// Of those, farther apart than the tolerance.
    pub apart: u64,
    /// Bars only the first has, and only the second.
    pub only_here: u64,
    /// Bars that only the other series has.
    pub only_there: u64,
    changes: Correlation,
}

impl Agreement {
    /// Of the changes of the closes; 0 where it cannot be told.
    pub fn correlation(&self) -> f64 {
        self.changes.about_zero()
    }
}

/// Two series held against each other.
#[derive(Debug, Clone, Default)]
pub struct Cross {
    /// By year and month.
    pub months: Vec<((i64, i64), Agreement)>,
    /// The ten days with most bars apart or on one side only, worst first.
    pub worst_days: Vec<(i64, Agreement)>,
    /// The whole time both have.
    pub all: Agreement,
    /// Usual level of the second less the first, in points.
    pub level: i64,
    /// Bars farther apart than this, the level taken off, disagree.
    pub tolerance: i64,
    /// Bars that disagree, those that follow each other as one.
    pub findings: Vec<Finding>,
}

/// A pair of bars that may be too far apart.
struct FarPair {
    time: Micros,
    off: i64,
}

/// Compares bars of two series as they come, in order of time.
pub struct SeriesComparer {
    step: Micros,
    /// True where both come from the same rows, so that nothing may differ.
    same: bool,
    days: Vec<(i64, Agreement)>,
    before: Option<(i64, i64)>,
    level: f64,
    seen: u64,
    offs: OctaveCounts,
    mean_off: f64,
    far: Vec<FarPair>,
}

/// How fast the level is followed: a share of each new difference.
const FOLLOW: f64 = 1.0 / 256.0;
/// A bar is apart beyond this many times what 95 of 100 bars are off.
const FACTOR: i64 = 6;
/// Bars kept to be judged at the end.
const KEPT: usize = 1_000_000;

impl SeriesComparer {
    /// For bars of a length in microseconds; `same` where both are made of the same rows.
    pub fn new(step: Micros, same: bool) -> SeriesComparer {
        SeriesComparer {
            step,
            same,
            days: Vec::new(),
            before: None,
            level: 0.0,
            seen: 0,
            offs: OctaveCounts::default(),
            mean_off: 0.0,
            far: Vec::new(),
        }
    }

    fn day(&mut self, time: Micros) -> &mut Agreement {
        let day = day_of(time);
        if self.days.last().is_none_or(|(d, _)| *d != day) {
            self.days.push((day, Agreement::default()));
        }
        let last = self.days.len() - 1;
        &mut self.days[last].1
    }

    /// A bar that only one of the two has.
    pub fn alone(&mut self, time: Micros, here: bool) {
        let day = self.day(time);
        if here { day.only_here += 1 } else { day.only_there += 1 }
    }

    /// A bar that both have: open, high, low and close of each.
    pub fn both(&mut self, time: Micros, a: [i64; 4], b: [i64; 4]) {
        let difference = (b[3] - a[3]) as f64;
        self.seen += 1;
        // The first rows find the level, the others follow it.
        let follow = (1.0 / self.seen as f64).max(FOLLOW);
        self.level +=
            (difference - self.level).clamp(-50.0 - self.mean_off * 8.0, 50.0 + self.mean_off * 8.0) * follow;
        let level = if self.same { 0 } else { self.level.round() as i64 };
        let off = a.iter().zip(&b).map(|(x, y)| (y - x - level).abs()).max().unwrap_or(0);
        self.mean_off += (off as f64 - self.mean_off).min(self.mean_off * 8.0 + 8.0) * follow;
        if off > 0 {
            self.offs.add(off);
        }
        let far = if self.same { 0.0 } else { 3.0 * self.mean_off };
        if off as f64 > far && self.far.len() < KEPT {
            self.far.push(FarPair { time, off });
        }
        let before = self.before.replace((a[3], b[3]));
        let day = self.day(time);
        day.both += 1;
        day.equal += u64::from(a == b);
        if let Some((x, y)) = before {
            day.changes.add((a[3] - x) as f64, (b[3] - y) as f64);
        }
    }

    /// What was found, once all bars were compared.
    pub fn finish(mut self) -> Cross {
        let equal = self.seen - self.offs.total();
        // Of all bars, the equal ones too.
        let share =
            ((0.95 * self.seen as f64 - equal as f64) / self.offs.total().max(1) as f64).clamp(0.0, 1.0);
        let p95 = if share > 0.0 { self.offs.quantile(share) } else { 0 };
        let tolerance = if self.same { 0 } else { (FACTOR * p95).max(3) };
        let mut findings: Vec<Finding> = Vec::new();
        let mut worst = 0;
        for far in self.far.iter().filter(|f| f.off > tolerance) {
            if let Ok(at) = self.days.binary_search_by_key(&day_of(far.time), |d| d.0) {
                self.days[at].1.apart += 1;
            }
            match findings.last_mut() {
                Some(f) if far.time - f.span.to <= 3 * self.step.max(MINUTE) => {
                    f.span.to = far.time + self.step;
                    f.rows += 1;
                    worst = worst.max(far.off);
                    f.detail = FindingDetail::Apart(worst);
                }
                _ => {
                    worst = far.off;
                    let span = Span::new(far.time, far.time + self.step);
                    let detail = FindingDetail::Apart(worst);
                    findings.push(Finding {
                        kind: FindingKind::Disagrees,
                        span,
                        rows: 1,
                        detail,
                        remedy: None,
                    });
                }
            }
        }
        let mut cross = Cross { tolerance, level: self.level.round() as i64, findings, ..Cross::default() };
        for (day, agreement) in &self.days {
            let (year, month, _) = civil_from_days(*day);
            if cross.months.last().is_none_or(|m| m.0 != (year, month)) {
                cross.months.push(((year, month), Agreement::default()));
            }
            if let Some((_, m)) = cross.months.last_mut() {
                add(m, agreement);
            }
            add(&mut cross.all, agreement);
        }
        let bad = |a: &Agreement| a.apart + a.only_here + a.only_there;
        let mut days = self.days;
        days.retain(|(_, a)| bad(a) > 0);
        days.sort_by_key(|(day, a)| (std::cmp::Reverse(bad(a)), *day));
        days.truncate(10);
        cross.worst_days = days;
        cross
    }
}

fn add(sum: &mut Agreement, part: &Agreement) {
    sum.both += part.both;
    sum.equal += part.equal;
    sum.apart += part.apart;
    sum.only_here += part.only_here;
    sum.only_there += part.only_there;
    sum.changes.merge(&part.changes);
}

/// The next bar of a series: its time, open, high, low and close.
fn next_bar<I: Iterator<Item = crate::Result<Columns>>>(
    rows: &mut Cursor<I>,
) -> crate::Result<Option<(Micros, [i64; 4])>> {
    let Some(time) = rows.time()? else { return Ok(None) };
    let column = |f| rows.rows().column(f)[rows.at()];
    Ok(Some((time, [Field::Open, Field::High, Field::Low, Field::Close].map(column))))
}

/// Compares two series of bars; `factors` bring their prices to one scale. `counts` says of each time whether
/// it is looked at.
///
/// # Errors
/// Where a piece cannot be read, or `counts` fails.
pub fn walk<I, J>(
    comparer: &mut SeriesComparer,
    mut here: Cursor<I>,
    mut there: Cursor<J>,
    factors: (i64, i64),
    mut counts: impl FnMut(Micros) -> crate::Result<bool>,
) -> crate::Result<()>
where
    I: Iterator<Item = crate::Result<Columns>>,
    J: Iterator<Item = crate::Result<Columns>>,
{
    loop {
        let (a, b) = (next_bar(&mut here)?, next_bar(&mut there)?);
        let Some(now) = a.iter().chain(&b).map(|bar| bar.0).min() else { return Ok(()) };
        let (a, b) = (a.filter(|bar| bar.0 == now), b.filter(|bar| bar.0 == now));
        here.pass(usize::from(a.is_some()));
        there.pass(usize::from(b.is_some()));
        if !counts(now)? {
            continue;
        }
        match (a, b) {
            (Some((_, x)), Some((_, y))) => {
                comparer.both(now, x.map(|v| v * factors.0), y.map(|v| v * factors.1));
            }
            (here, _) => comparer.alone(now, here.is_some()),
        }
    }
}
