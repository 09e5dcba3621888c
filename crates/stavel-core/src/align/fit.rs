//! The simplest clock that explains the weeks.

use std::collections::BTreeSet;

use super::correlate::WeekFit;
use crate::model::Clock;
use crate::model::time::{DAY, HOUR, MINUTE, Micros};

/// Shifts and fixed offsets come in these steps.
const SHIFT_STEP: Micros = 15 * MINUTE;
/// How much better a zone must explain the weeks than a fixed offset to be preferred: a rule that
/// needs no changes is the simpler one.
const PENALTY: f64 = 0.01;
/// Clocks this close to the best are told as alternatives.
const NEARLY: f64 = 0.12;

/// Families of daylight-saving rules, by a zone that has them, with the names of their neighbours.
const FAMILIES: [(&str, &[(&str, i64)]); 3] = [
    ("America/New_York", &[("America/New_York", 0), ("America/Chicago", -1)]),
    ("Europe/London", &[("Europe/London", 0), ("Europe/Oslo", 1), ("Europe/Athens", 2)]),
    ("Australia/Sydney", &[("Australia/Sydney", 0)]),
];

/// What one week says about the clock found.
#[derive(Debug, Clone, PartialEq)]
pub struct WeekVerdict {
    /// When the week begins, as written.
    pub start: Micros,
    /// Its own best offset, written minus UTC.
    pub offset: Micros,
    pub correlation: f64,
    /// The offset of the clock found.
    pub expected: Micros,
    /// False where the week's own best is another offset.
    pub agrees: bool,
    /// False where the week is too faint to say anything.
    pub speaks: bool,
}

/// Another clock that explains the weeks nearly as well.
#[derive(Debug, Clone, PartialEq)]
pub struct Alternative {
    pub clock: Clock,
    pub score: f64,
    /// Weeks (begin, as written) in which it says another offset than the clock found.
    pub differs: Vec<Micros>,
}

/// The clock found.
#[derive(Debug, Clone)]
pub struct Fit {
    pub clock: Clock,
    /// Share of the correlation within reach that the clock gets, 0 to 1; 0 where no week speaks.
    pub confidence: f64,
    pub weeks: Vec<WeekVerdict>,
    pub alternatives: Vec<Alternative>,
}

/// Fits one clock to all weeks.
pub fn fit(weeks: &[WeekFit]) -> Fit {
    let speaking: Vec<&WeekFit> = weeks.iter().filter(|w| w.speaks).collect();
    let mut scored: Vec<(f64, f64, Clock)> = candidates(&speaking)
        .into_iter()
        .map(|clock| {
            let score = score(&clock, &speaking);
            (score - if clock.parts().0.is_some() { PENALTY } else { 0.0 }, score, clock)
        })
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0));
    let Some((_, confidence, clock)) = scored.first().cloned() else {
        return Fit {
            clock: Clock::utc(),
            confidence: 0.0,
            weeks: verdicts(&Clock::utc(), weeks),
            alternatives: vec![],
        };
    };
    let mut alternatives: Vec<Alternative> = Vec::new();
    for (_, score, other) in scored.iter().skip(1).filter(|(_, s, _)| confidence - s < NEARLY) {
        let differs: Vec<Micros> = speaking
            .iter()
            .filter(|w| offset_in(other, w) != offset_in(&clock, w))
            .map(|w| w.start)
            .collect();
        // A clock that never differs here but has the same rule elsewhere is still another clock.
        if alternatives.len() < 5 {
            alternatives.push(Alternative { clock: other.clone(), score: *score, differs });
        }
    }
    Fit { confidence, weeks: verdicts(&clock, weeks), clock, alternatives }
}

/// Wall minus UTC in the middle of a week. Clocks change on weekends, where weeks begin.
fn offset_in(clock: &Clock, week: &WeekFit) -> Micros {
    clock.offset_at(week.start + 7 * DAY / 2)
}

/// Share of the attainable correlation that a clock gets.
fn score(clock: &Clock, weeks: &[&WeekFit]) -> f64 {
    let got: f64 = weeks.iter().map(|w| w.at(offset_in(clock, w)).max(0.0) as f64).sum();
    let best: f64 = weeks.iter().map(|w| w.peak() as f64).sum();
    if best > 0.0 { got / best } else { 0.0 }
}

/// Every clock that explains at least one week: a fixed offset, or a family plus a shift.
fn candidates(weeks: &[&WeekFit]) -> Vec<Clock> {
    let mut out = Vec::new();
    let rounded = |offset: Micros| (offset + SHIFT_STEP / 2).div_euclid(SHIFT_STEP) * SHIFT_STEP;
    let fixed: BTreeSet<Micros> = weeks.iter().map(|w| rounded(w.best_offset())).collect();
    out.extend(fixed.into_iter().map(Clock::fixed));
    for (zone, names) in FAMILIES {
        let Ok(base) = Clock::zone(zone, 0) else { continue };
        let shifts: BTreeSet<Micros> =
            weeks.iter().map(|w| rounded(w.best_offset() - offset_in(&base, w))).collect();
        for shift in shifts {
            // A zone of its own says more than another zone with a shift.
            let named = names.iter().find(|(_, hours)| hours * HOUR == shift);
            let clock = named.map_or_else(|| Clock::zone(zone, shift), |(name, _)| Clock::zone(name, 0));
            out.extend(clock.ok());
        }
    }
    out
}

fn verdicts(clock: &Clock, weeks: &[WeekFit]) -> Vec<WeekVerdict> {
    weeks
        .iter()
        .map(|w| {
            let expected = offset_in(clock, w);
            WeekVerdict {
                start: w.start,
                offset: w.best_offset(),
                correlation: w.peak() as f64,
                expected,
                agrees: w.speaks && (w.best_offset() - expected).abs() < w.offsets.step,
                speaks: w.speaks,
            }
        })
        .collect()
}
