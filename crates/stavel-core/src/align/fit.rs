//! The simplest clock that explains the weeks.

use std::collections::{BTreeMap, BTreeSet};

use super::correlate::WeekFit;
use crate::intake::Stamp;
use crate::model::Clock;
use crate::model::time::{DAY, HOUR, MINUTE, Micros, WEEK};

/// Shifts and fixed offsets come in these steps.
const SHIFT_STEP: Micros = 15 * MINUTE;
/// How much better a zone must explain the weeks than a fixed offset to be preferred: a rule that
/// needs no changes is the simpler one.
const PENALTY: f64 = 0.01;
/// The same for a zone that no broker is known to keep, and for each change of clock.
const PENALTY_RARE: f64 = 0.015;
const PENALTY_CHANGE: f64 = 0.04;
/// Below this score of the best common clock the whole zone database is tried.
const LAST_RESORT: f64 = 0.985;
/// Scores this close are the same.
const SAME: f64 = 1e-6;
/// Clocks this close to the best are told as alternatives.
const NEARLY: f64 = 0.12;
/// Fewest weeks on each side of a change of clock.
const LEAST_WEEKS: usize = 4;

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
    /// The offset of the clock found, with the bar that stamps at the close add.
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
    /// Weeks (begin, as written) in which it says another offset than the clock found and which the data
    /// cover.
    pub differs: Vec<Micros>,
    /// Weeks in which it says another offset within a year of the data, covered or not: first and last day.
    pub would_differ: Vec<(i64, i64)>,
}

/// The clock found.
#[derive(Debug, Clone)]
pub struct Fit {
    pub clock: Clock,
    /// Whether bars are stamped where they open or where they close.
    pub stamp: Stamp,
    /// Share of the correlation within reach that the clock gets, 0 to 1; 0 where no week speaks.
    pub confidence: f64,
    pub weeks: Vec<WeekVerdict>,
    pub alternatives: Vec<Alternative>,
    /// The score of every rule that was tried, best first.
    pub scan: Vec<(Clock, f64)>,
}

/// A rule with what it gets of each week.
struct Candidate {
    clock: Clock,
    penalty: f64,
    /// Correlation in each speaking week.
    got: Vec<f64>,
}

/// Fits one clock to all weeks, or several with the dates of change. `bar` is the length of a bar as written.
pub fn fit(weeks: &[WeekFit], bar: Micros) -> Fit {
    let speaking: Vec<&WeekFit> = weeks.iter().filter(|w| w.speaks).collect();
    let stamp = stamp_of(&speaking, bar);
    let extra = if stamp == Stamp::Close { bar } else { 0 };
    let peaks: f64 = speaking.iter().map(|w| w.peak() as f64).sum();
    if speaking.is_empty() || peaks <= 0.0 {
        let clock = Clock::utc();
        let weeks = verdicts(&clock, weeks, 0);
        return Fit { clock, stamp: Stamp::Open, confidence: 0.0, weeks, alternatives: vec![], scan: vec![] };
    }
    let share = |got: &[f64]| got.iter().sum::<f64>() / peaks;
    let rated = |clock: Clock, penalty: f64| {
        let got = speaking.iter().map(|w| got_of(&clock, w, extra)).collect();
        Candidate { clock, penalty, got }
    };
    // Clocks that are never apart around these weeks are one clock; the first name is kept.
    let mut known: BTreeSet<Vec<Micros>> = BTreeSet::new();
    let mut is_new = |clock: &Clock| known.insert(signature(clock, &speaking));
    let mut candidates: Vec<Candidate> = Vec::new();
    let all_common = common(&speaking, extra).into_iter();
    candidates.extend(all_common.filter(|(c, _)| is_new(c)).map(|(clock, penalty)| rated(clock, penalty)));
    let best_of = |all: &[Candidate]| all.iter().map(|c| share(&c.got) - c.penalty).fold(f64::MIN, f64::max);
    let common_best = best_of(&candidates);
    if common_best < LAST_RESORT {
        let others = rare(&speaking, extra).into_iter().filter(|c| is_new(c));
        candidates.extend(others.map(|clock| rated(clock, PENALTY_RARE)));
    }
    candidates.sort_by(|a, b| (share(&b.got) - b.penalty).total_cmp(&(share(&a.got) - a.penalty)));
    let single = share(&candidates[0].got) - candidates[0].penalty;
    let (clock, confidence) = match piecewise(&candidates, &speaking, peaks) {
        Some((clock, score, penalty)) if score - penalty > single => (clock, score),
        _ => {
            let likely = likely(&candidates, &share);
            (likely.clock.clone(), share(&likely.got))
        }
    };
    let scan: Vec<(Clock, f64)> = candidates.iter().map(|c| (c.clock.clone(), share(&c.got))).collect();
    let alternatives = alternatives(&clock, confidence, &scan, &speaking);
    Fit { confidence, stamp, weeks: verdicts(&clock, weeks, extra), clock, alternatives, scan }
}

/// The best rule; but where that is a fixed clock other than UTC, and a rule with summer time explains the
/// weeks as well because they lie on one side of its changes, the rule: a clock that is off UTC is nearly
/// always one that changes. That of New York and seven hours comes first, then those of zones as they are.
fn likely<'c>(candidates: &'c [Candidate], share: &dyn Fn(&[f64]) -> f64) -> &'c Candidate {
    let best = &candidates[0];
    let (None, shift) = best.clock.parts() else { return best };
    if shift == 0 || !best.clock.changes().is_empty() {
        return best;
    }
    let as_good = |c: &&Candidate| {
        c.clock.parts().0.is_some() && c.penalty <= PENALTY && share(&c.got) > share(&best.got) - SAME
    };
    let rank = |c: &&Candidate| match c.clock.parts() {
        (Some("America/New_York"), shift) if shift == 7 * HOUR => 0,
        (_, 0) => 1,
        _ => 2,
    };
    candidates.iter().filter(as_good).min_by_key(rank).unwrap_or(best)
}

/// What a clock a person chose gets: the same report for that clock.
pub fn fit_to(weeks: &[WeekFit], bar: Micros, clock: &Clock, stamp: Stamp) -> Fit {
    let extra = if stamp == Stamp::Close { bar } else { 0 };
    let speaking: Vec<&WeekFit> = weeks.iter().filter(|w| w.speaks).collect();
    let peaks: f64 = speaking.iter().map(|w| w.peak() as f64).sum();
    let got: f64 = speaking.iter().map(|w| got_of(clock, w, extra)).sum();
    let confidence = if peaks > 0.0 { got / peaks } else { 0.0 };
    let found = fit(weeks, bar);
    let alternatives = alternatives(clock, confidence, &found.scan, &speaking);
    let weeks = verdicts(clock, weeks, extra);
    Fit { clock: clock.clone(), stamp, confidence, weeks, alternatives, scan: found.scan }
}

fn got_of(clock: &Clock, week: &WeekFit, extra: Micros) -> f64 {
    week.at(offset_in(clock, week) + extra).max(0.0) as f64
}

/// Bars shorter than a quarter of an hour whose best offsets lie one bar beyond a quarter are stamped at
/// their close. (Longer bars give the same picture either way; then the clock alone is given.)
fn stamp_of(weeks: &[&WeekFit], bar: Micros) -> Stamp {
    if bar >= SHIFT_STEP || bar == 0 || weeks.is_empty() {
        return Stamp::Open;
    }
    let beyond = |w: &&&WeekFit| (w.best_offset() - bar).rem_euclid(SHIFT_STEP) == 0;
    if weeks.iter().filter(beyond).count() * 2 > weeks.len() { Stamp::Close } else { Stamp::Open }
}

/// Wall minus UTC in the middle of a week. Clocks change on weekends, where weeks begin.
fn offset_in(clock: &Clock, week: &WeekFit) -> Micros {
    clock.offset_at(week.start + week.length / 2)
}

fn rounded(offset: Micros) -> Micros {
    (offset + SHIFT_STEP / 2).div_euclid(SHIFT_STEP) * SHIFT_STEP
}

/// Every common clock that explains at least one week, with its penalty: a fixed offset, or a family plus a
/// shift.
fn common(weeks: &[&WeekFit], extra: Micros) -> Vec<(Clock, f64)> {
    let mut out = Vec::new();
    let fixed: BTreeSet<Micros> = weeks.iter().map(|w| rounded(w.best_offset() - extra)).collect();
    out.extend(fixed.into_iter().map(|offset| (Clock::fixed(offset), 0.0)));
    for (zone, names) in FAMILIES {
        let Ok(base) = Clock::zone(zone, 0) else { continue };
        for shift in shifts(&base, weeks, extra) {
            // A zone of its own says more than another zone with a shift.
            let named = names.iter().find(|(_, hours)| hours * HOUR == shift);
            let clock = named.map_or_else(|| Clock::zone(zone, shift), |(name, _)| Clock::zone(name, 0));
            out.extend(clock.ok().map(|clock| (clock, PENALTY)));
        }
    }
    out
}

/// The shifts of a zone with which it explains one of the weeks.
fn shifts(zone: &Clock, weeks: &[&WeekFit], extra: Micros) -> BTreeSet<Micros> {
    weeks.iter().map(|w| rounded(w.best_offset() - extra - offset_in(zone, w))).collect()
}

/// Zones of the whole database, each with the shift that explains most weeks.
fn rare(weeks: &[&WeekFit], extra: Micros) -> Vec<Clock> {
    let mut out = Vec::new();
    for name in jiff::tz::db().available() {
        let Ok(zone) = Clock::zone(name.as_str(), 0) else { continue };
        let offsets: Vec<Micros> = weeks.iter().map(|w| offset_in(&zone, w)).collect();
        if offsets.iter().all(|o| *o == offsets[0]) {
            continue;
        }
        let mut votes: BTreeMap<Micros, usize> = BTreeMap::new();
        for (w, o) in weeks.iter().zip(&offsets) {
            *votes.entry(rounded(w.best_offset() - extra - o)).or_default() += 1;
        }
        let Some((&shift, _)) = votes.iter().max_by_key(|(shift, n)| (**n, -shift.abs())) else { continue };
        out.extend(Clock::zone(name.as_str(), shift).ok());
    }
    // A zone that needs no shift goes before another with the same changes.
    out.sort_by_key(|c| c.parts().1.abs());
    out
}

/// The offsets of a clock in every week from half a year before the first to a year after the last.
fn signature(clock: &Clock, weeks: &[&WeekFit]) -> Vec<Micros> {
    let (Some(first), Some(last)) = (weeks.first(), weeks.last()) else { return Vec::new() };
    let mut t = first.start - 26 * WEEK + WEEK / 2;
    let mut out = Vec::new();
    while t < last.start + 53 * WEEK {
        out.push(clock.offset_at(t));
        t += WEEK;
    }
    out
}

/// Two clocks, or three, one after the other, where one alone leaves many weeks unexplained: the clock, its
/// score and its penalty.
fn piecewise(candidates: &[Candidate], weeks: &[&WeekFit], peaks: f64) -> Option<(Clock, f64, f64)> {
    let n = weeks.len();
    if n < 2 * LEAST_WEEKS {
        return None;
    }
    // Sums over weeks up to each, for every candidate.
    let sums: Vec<Vec<f64>> = candidates
        .iter()
        .map(|c| {
            let mut sum = 0.0;
            std::iter::once(0.0)
                .chain(c.got.iter().map(|g| {
                    sum += g;
                    sum
                }))
                .collect()
        })
        .collect();
    // The best candidate for weeks from..to, by what it gets less its penalty there.
    let best = |from: usize, to: usize| {
        let value = |i: usize| {
            (sums[i][to] - sums[i][from]) / peaks - candidates[i].penalty * (to - from) as f64 / n as f64
        };
        (0..candidates.len()).map(|i| (value(i), i)).max_by(|a, b| a.0.total_cmp(&b.0)).unwrap_or((0.0, 0))
    };
    let until: Vec<(f64, usize)> = (0..=n).map(|k| best(0, k)).collect();
    let from: Vec<(f64, usize)> = (0..=n).map(|k| best(k, n)).collect();
    let cut = (LEAST_WEEKS..=n - LEAST_WEEKS)
        .max_by(|&a, &b| (until[a].0 + from[a].0).total_cmp(&(until[b].0 + from[b].0)))?;
    let mut parts = vec![(0, until[cut].1), (cut, from[cut].1)];
    let mut value = until[cut].0 + from[cut].0;
    // A third clock is looked for in the longer part, where it pays.
    for (start, end, first) in [(cut, n, true), (0, cut, false)] {
        let second = (start + LEAST_WEEKS..(end + 1).saturating_sub(LEAST_WEEKS))
            .map(|k| (best(start, k), k, best(k, end)))
            .max_by(|a, b| (a.0.0 + a.2.0).total_cmp(&(b.0.0 + b.2.0)));
        let Some((left, k, right)) = second else { continue };
        let gain = left.0 + right.0 - best(start, end).0;
        if gain > PENALTY_CHANGE && parts.len() == 2 {
            value += gain;
            parts = match first {
                true => vec![parts[0], (start, left.1), (k, right.1)],
                false => vec![(start, left.1), (k, right.1), parts[1]],
            };
        }
    }
    let changes: Vec<(Micros, Clock)> =
        parts[1..].iter().map(|(week, i)| (weeks[*week].start, candidates[*i].clock.clone())).collect();
    let first = candidates[parts[0].1].clock.clone();
    if changes.iter().any(|(_, c)| *c == first) && changes.len() == 1 {
        return None;
    }
    // Weeks begin on Saturday afternoon of the wall; the change itself is told for the middle of the weekend.
    let changes: Vec<(Micros, Clock)> = changes
        .into_iter()
        .map(|(wall, clock)| ((wall + 12 * HOUR - clock.offset_at(wall)).div_euclid(DAY) * DAY, clock))
        .collect();
    let ends: Vec<usize> = parts[1..].iter().map(|p| p.0).chain([n]).collect();
    let score: f64 =
        parts.iter().zip(&ends).map(|((from, i), to)| (sums[*i][*to] - sums[*i][*from]) / peaks).sum();
    let penalty = PENALTY_CHANGE * (parts.len() - 1) as f64 + (score - value).max(0.0);
    Some((Clock::piecewise(&first, &changes), score, penalty))
}

fn alternatives(
    clock: &Clock,
    confidence: f64,
    scan: &[(Clock, f64)],
    weeks: &[&WeekFit],
) -> Vec<Alternative> {
    let mut out: Vec<Alternative> = Vec::new();
    for (other, score) in scan.iter().filter(|(c, s)| c != clock && confidence - s < NEARLY) {
        let differs: Vec<Micros> =
            weeks.iter().filter(|w| offset_in(other, w) != offset_in(clock, w)).map(|w| w.start).collect();
        let would_differ = weeks_apart(clock, other, weeks);
        // A clock that is apart for a few days in years is the same clock for this purpose.
        let days_apart: i64 = would_differ.iter().map(|(a, b)| b - a + 1).sum();
        if out.len() < 6 && days_apart >= 6 {
            out.push(Alternative { clock: other.clone(), score: *score, differs, would_differ });
        }
    }
    out
}

/// Stretches of days, within a year of the weeks, in which two clocks are apart.
fn weeks_apart(a: &Clock, b: &Clock, weeks: &[&WeekFit]) -> Vec<(i64, i64)> {
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

fn verdicts(clock: &Clock, weeks: &[WeekFit], extra: Micros) -> Vec<WeekVerdict> {
    weeks
        .iter()
        .map(|w| {
            let expected = offset_in(clock, w) + extra;
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
