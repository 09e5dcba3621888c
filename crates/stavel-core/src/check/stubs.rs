//! Stub days: a Saturday or Sunday of a few hours, which a day that begins at the right hour does not have.

use super::{DayCoverage, Finding, FindingDetail, FindingKind};
use crate::model::time::{DAY, weekday};
use crate::model::{Clock, Frame, Micros, Span};
use crate::stats::median;

/// A day with less than this share of a usual day is a stub.
const SHARE: f64 = 0.3;

/// Bars of a day or more: opening time, high less low.
pub type DailyBar = (Micros, i64);

/// Stub days among daily bars.
pub fn of_daily_bars(bars: &[DailyBar], clock: &Clock, frame: Frame, out: &mut Vec<Finding>) {
    let weekend = |t: Micros| weekday(clock.day_of(t)) >= 5;
    let mut ranges: Vec<i64> = bars.iter().filter(|(t, _)| !weekend(*t)).map(|b| b.1).collect();
    if ranges.len() < 5 {
        return;
    }
    let usual = median(&mut ranges).unwrap_or_default();
    let stubs: Vec<Micros> =
        bars.iter().filter(|(t, r)| weekend(*t) && (*r as f64) < usual as f64 * SHARE).map(|b| b.0).collect();
    let (Some(first), Some(last)) = (stubs.first(), stubs.last()) else { return };
    let detail = FindingDetail::TinyDays { days: stubs.len() };
    let span = Span::new(*first, *last + frame.length());
    out.push(Finding { kind: FindingKind::StubDay, span, rows: stubs.len() as u64, detail, remedy: None });
}

/// Stub days that daily bars built on the clock of these days would have.
pub fn of_days(days: &[DayCoverage], clock: &Clock, out: &mut Vec<Finding>) {
    let weekend = |d: &&DayCoverage| weekday(d.day) >= 5 && d.present > 0;
    let mut full: Vec<Micros> = days.iter().filter(|d| weekday(d.day) < 5).map(|d| d.present).collect();
    if full.len() < 5 {
        return;
    }
    let usual = median(&mut full).unwrap_or_default();
    let short = |d: &&DayCoverage| (d.present as f64) < usual as f64 * SHARE;
    let stubs: Vec<&DayCoverage> = days.iter().filter(weekend).filter(short).collect();
    let (Some(first), Some(last)) = (stubs.first(), stubs.last()) else { return };
    // A market that trades on weekends now and then has no stub days.
    if stubs.len() * 7 * 2 < days.len() && days.len() > 14 {
        return;
    }
    let mean = stubs.iter().map(|d| d.present).sum::<Micros>() / stubs.len() as Micros;
    let detail = FindingDetail::ShortDays { days: stubs.len(), mean, clock: clock.clone() };
    let span = Span::new(clock.day_start(first.day), clock.day_start(last.day) + DAY);
    out.push(Finding { kind: FindingKind::StubDay, span, rows: 0, detail, remedy: None });
}
