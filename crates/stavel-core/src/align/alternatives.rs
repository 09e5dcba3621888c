//! Other clocks that explain the weeks nearly as well as the one found, and when they part from it.

use super::correlate::WeekFit;
use super::rules::offset_in;
use crate::model::Clock;
use crate::model::time::{DAY, HOUR, Micros, WEEK};

/// Clocks this close to the best are told.
const NEARLY: f64 = 0.12;
/// Most clocks that are told.
const MOST: usize = 6;

/// Another clock that explains the weeks nearly as well.
#[derive(Debug, Clone, PartialEq)]
pub struct Alternative {
    /// The other clock.
    pub clock: Clock,
    /// Share of the correlation within reach that it gets, 0 to 1.
    pub score: f64,
    /// Weeks (begin, as written) in which it says another offset than the clock found and which the data
    /// cover.
    pub differs: Vec<Micros>,
    /// Weeks in which it says another offset within a year of the data, covered or not: first and last day.
    pub would_differ: Vec<(i64, i64)>,
}

/// Of the clocks tried, best first, those whose score is near that of the clock found.
pub(super) fn alternatives(
    clock: &Clock,
    confidence: f64,
    scan: &[(Clock, f64)],
    weeks: &[&WeekFit],
) -> Vec<Alternative> {
    let mut out: Vec<Alternative> = Vec::new();
    for (other, score) in scan.iter().filter(|(c, s)| c != clock && confidence - s < NEARLY) {
        let differs: Vec<Micros> =
            weeks.iter().filter(|w| offset_in(other, w) != offset_in(clock, w)).map(|w| w.start).collect();
        let would_differ = days_apart(clock, other, weeks);
        // A clock that is apart for a few days in years is the same clock for this purpose.
        let days: i64 = would_differ.iter().map(|(a, b)| b - a + 1).sum();
        if out.len() < MOST && days >= 6 {
            out.push(Alternative { clock: other.clone(), score: *score, differs, would_differ });
        }
    }
    out
}

/// Stretches of days, within a year of the weeks, in which two clocks are apart.
fn days_apart(a: &Clock, b: &Clock, weeks: &[&WeekFit]) -> Vec<(i64, i64)> {
    let (Some(first), Some(last)) = (weeks.first(), weeks.last()) else { return Vec::new() };
    let mut out: Vec<(i64, i64)> = Vec::new();
    let mut day = (first.start - 26 * WEEK).div_euclid(DAY);
    while day * DAY < last.start + 53 * WEEK {
        let noon = day * DAY + 12 * HOUR;
        if a.offset_at(noon) != b.offset_at(noon) {
            match out.last_mut() {
                Some(run) if run.1 + 1 == day => run.1 = day,
                _ => out.push((day, day)),
            }
        }
        day += 1;
    }
    out
}
