//! The simplest clock that explains the weeks.

use super::alternatives::{Alternative, alternatives};
use super::changes::{Sides, weekend_before};
use super::correlate::WeekFit;
use super::partition::{RuleWeeks, partition};
use super::rules::{ClockRule, PENALTY_RULE, QUARTER, Rules, got_of, offset_in, offsets_in};
use crate::model::Clock;
use crate::model::Stamp;
use crate::model::time::{HOUR, Micros};

/// Below this score of the best common clock the whole zone database is tried.
const LAST_RESORT: f64 = 0.985;
/// Scores this close are the same.
const SAME: f64 = 1e-6;

/// What one week says about the clock found.
#[derive(Debug, Clone, PartialEq)]
pub struct WeekVerdict {
    /// When the week begins, as written.
    pub start: Micros,
    /// Its own best offset, written minus UTC.
    pub offset: Micros,
    /// The correlation at that offset, -1 to 1.
    pub correlation: f64,
    /// The offset of the clock found, with the bar that stamps at the close add.
    pub expected: Micros,
    /// False where the week's own best is another offset.
    pub agrees: bool,
    /// False where the week is too faint to say anything.
    pub is_clear: bool,
}

/// The clock found.
#[derive(Debug, Clone)]
pub struct Fit {
    /// The clock that fits best.
    pub clock: Clock,
    /// Whether bars are stamped where they open or where they close.
    pub stamp: Stamp,
    /// Share of the correlation within reach that the clock gets, 0 to 1; 0 where no week is clear.
    pub confidence: f64,
    /// What each week says of it.
    pub weeks: Vec<WeekVerdict>,
    /// Other clocks that were tried, best first.
    pub alternatives: Vec<Alternative>,
    /// The score of every rule that was tried, best first.
    pub scan: Vec<(Clock, f64)>,
    /// True where most weeks lie one bar before whole quarters of an hour, as they do where the bars of the
    /// other series, not these, are stamped at their close.
    pub is_bar_behind: bool,
    /// Changes of the clock found (UTC) that were made while the market was open.
    pub mid_week: Vec<Micros>,
}

/// Fits one clock to all weeks, or several with the moments of change. `bar` is the length of a bar as written.
/// By the rows of both sides a change is found within its week; without them it is put on a weekend.
pub fn fit(weeks: &[WeekFit], bar: Micros, sides: Option<&Sides<'_>>) -> Fit {
    let clear_weeks: Vec<&WeekFit> = weeks.iter().filter(|w| w.is_clear).collect();
    let (stamp, is_bar_behind) = stamp_of(&clear_weeks, bar);
    let extra = if stamp == Stamp::Close { bar } else { 0 };
    let peaks: f64 = clear_weeks.iter().map(|w| w.peak() as f64).sum();
    if clear_weeks.is_empty() || peaks <= 0.0 {
        let clock = Clock::utc();
        let weeks = verdicts(&clock, weeks, 0);
        let (alternatives, scan) = (Vec::new(), Vec::new());
        let (stamp, mid_week) = (Stamp::Open, Vec::new());
        return Fit { clock, stamp, confidence: 0.0, weeks, alternatives, scan, is_bar_behind, mid_week };
    }
    let rules = tried(&clear_weeks, extra, peaks);
    let mean = peaks / clear_weeks.len() as f64;
    let (_, stretches) = partition(&rules, mean);
    let (clock, got, mid_week) = match stretches.as_slice() {
        [] | [_] => {
            let likely = likely(&rules, 0..clear_weeks.len());
            (likely.clock.clone(), likely.got.clone(), Vec::new())
        }
        many => changed(&rules, many, &clear_weeks, extra, sides),
    };
    let confidence = got.iter().sum::<f64>() / peaks;
    let mut scan: Vec<(Clock, f64)> =
        rules.iter().map(|r| (r.clock.clone(), r.got.iter().sum::<f64>() / peaks)).collect();
    let mut others = other_ends(&rules, &stretches, &clock, confidence);
    others.append(&mut scan);
    let alternatives = alternatives(&clock, confidence, &others, &clear_weeks);
    let (scan, weeks) = (others, verdicts(&clock, weeks, extra));
    Fit { clock, stamp, confidence, weeks, alternatives, scan, is_bar_behind, mid_week }
}

/// Every rule worth trying, best first.
fn tried(clear_weeks: &[&WeekFit], extra: Micros, peaks: f64) -> Vec<ClockRule> {
    let mut rules = Rules::new(clear_weeks, extra);
    rules.add_common();
    let once = 1.0 / clear_weeks.len() as f64;
    let value = |r: &ClockRule| r.got.iter().sum::<f64>() / peaks - r.penalty - r.once * once;
    if rules.all.iter().map(value).fold(f64::MIN, f64::max) < LAST_RESORT {
        rules.add_rare();
    }
    let mut rules = rules.all;
    rules.sort_by(|a, b| value(b).total_cmp(&value(a)));
    rules
}

/// The rules of the stretches one after the other, with what they get of each week and the changes that were
/// made while the market was open.
fn changed(
    rules: &[ClockRule],
    stretches: &[RuleWeeks],
    weeks: &[&WeekFit],
    extra: Micros,
    sides: Option<&Sides<'_>>,
) -> (Clock, Vec<f64>, Vec<Micros>) {
    let rule = |s: &RuleWeeks, is_last: bool| match is_last {
        // What comes after the data is under the last rule, so the likely one is taken.
        true => likely(rules, s.from..s.to),
        false => &rules[s.rule],
    };
    let last = stretches.len() - 1;
    let first = rule(&stretches[0], false).clock.clone();
    let (mut changes, mut before, mut mid_week) = (Vec::new(), first.clone(), Vec::new());
    for (i, stretch) in stretches.iter().enumerate().skip(1) {
        let after = rule(stretch, i == last).clock.clone();
        let around = (weeks[stretch.from - 1], weeks[stretch.from]);
        let (moment, is_closed) = match sides {
            Some(sides) => sides.moment(around, (&before, &after), extra),
            None => (weekend_before(around.1, &after), true),
        };
        if !is_closed {
            mid_week.push(moment);
        }
        changes.push((moment, after.clone()));
        before = after;
    }
    let clock = Clock::piecewise(&first, &changes);
    let got = weeks.iter().map(|w| got_of(&clock, w, extra)).collect();
    (clock, got, mid_week)
}

/// Of the weeks in `range`, the best rule; but where that is a fixed clock other than UTC, and a rule with summer
/// time explains them as well because they lie on one side of its changes, the rule: a clock that is off UTC
/// is nearly always one that changes. That of New York and seven hours comes first, then zones as they are,
/// then New York and other hours.
fn likely(rules: &[ClockRule], range: std::ops::Range<usize>) -> &ClockRule {
    let got = |r: &ClockRule| r.got[range.clone()].iter().sum::<f64>();
    let most: f64 = rules.iter().map(got).fold(0.0, f64::max);
    let value = |r: &ClockRule| got(r) - r.penalty * most - r.once * most / range.len().max(1) as f64;
    // Rules are sorted; of equal ones the first is kept.
    let best = rules.iter().rev().max_by(|a, b| value(a).total_cmp(&value(b))).unwrap_or(&rules[0]);
    let (None, shift) = best.clock.parts() else { return best };
    if shift == 0 || shift.rem_euclid(QUARTER) != 0 {
        return best;
    }
    let as_good = |r: &&ClockRule| {
        r.clock.parts().0.is_some()
            && r.penalty <= PENALTY_RULE
            && r.once == 0.0
            && got(r) > got(best) * (1.0 - SAME)
    };
    let rank = |r: &ClockRule| match r.clock.parts() {
        (Some("America/New_York"), shift) if shift == 7 * HOUR => Some(0),
        (Some(_), 0) => Some(1),
        (Some("America/New_York"), shift) if shift.rem_euclid(HOUR) == 0 => Some(2),
        _ => None,
    };
    let ranked = rules.iter().filter(as_good).filter_map(|r| Some((rank(r)?, r)));
    ranked.min_by_key(|(rank, _)| *rank).map_or(best, |(_, rule)| rule)
}

/// Of a clock that was changed, the same with other rules at its end that explain the last weeks as well.
fn other_ends(
    rules: &[ClockRule],
    stretches: &[RuleWeeks],
    clock: &Clock,
    confidence: f64,
) -> Vec<(Clock, f64)> {
    let ([.., last], [.., (_, end)]) = (stretches, clock.changes()) else { return Vec::new() };
    let got = |r: &ClockRule| r.got[last.from..last.to].iter().sum::<f64>();
    let most: f64 = rules.iter().map(got).fold(0.0, f64::max);
    let is_as_good = |r: &&ClockRule| r.once == 0.0 && r.clock != *end && got(r) >= most * (1.0 - SAME);
    let others = rules.iter().filter(is_as_good);
    others
        .map(|r| {
            let mut changes = clock.changes().to_vec();
            if let Some(change) = changes.last_mut() {
                change.1 = r.clock.clone();
            }
            (Clock::piecewise(&rules[stretches[0].rule].clock, &changes), confidence)
        })
        .collect()
}

/// What a clock a person chose gets: the same report for that clock.
pub fn fit_to(weeks: &[WeekFit], bar: Micros, found: &Fit, clock: &Clock, stamp: Stamp) -> Fit {
    let extra = if stamp == Stamp::Close { bar } else { 0 };
    let clear_weeks: Vec<&WeekFit> = weeks.iter().filter(|w| w.is_clear).collect();
    let peaks: f64 = clear_weeks.iter().map(|w| w.peak() as f64).sum();
    let got: f64 = clear_weeks.iter().map(|w| got_of(clock, w, extra)).sum();
    let confidence = if peaks > 0.0 { got / peaks } else { 0.0 };
    let alternatives = alternatives(clock, confidence, &found.scan, &clear_weeks);
    let weeks = verdicts(clock, weeks, extra);
    let (clock, scan, is_bar_behind) = (clock.clone(), found.scan.clone(), found.is_bar_behind);
    let mid_week = Vec::new();
    Fit { clock, stamp, confidence, weeks, alternatives, scan, is_bar_behind, mid_week }
}

/// Tells from the best offsets of weeks whether bars are stamped at their close, and whether those of the
/// reference seem to be.
///
/// Clocks stand on whole quarters of an hour. So offsets one bar above a quarter mean that these bars are
/// stamped at their close, and one bar below it that those of the reference are. Bars of a quarter of an hour and
/// longer look the same either way: they count as stamped at their open.
fn stamp_of(weeks: &[&WeekFit], bar: Micros) -> (Stamp, bool) {
    if bar >= QUARTER || bar == 0 || weeks.is_empty() {
        return (Stamp::Open, false);
    }
    let most_are = |beyond: Micros| {
        let are = weeks.iter().filter(|w| (w.best_offset() - beyond).rem_euclid(QUARTER) == 0).count();
        are * 2 > weeks.len()
    };
    (if most_are(bar) { Stamp::Close } else { Stamp::Open }, most_are(-bar))
}

fn verdicts(clock: &Clock, weeks: &[WeekFit], extra: Micros) -> Vec<WeekVerdict> {
    weeks
        .iter()
        .map(|w| {
            let near = |o: Micros| (w.best_offset() - o - extra).abs() < w.offsets.step;
            WeekVerdict {
                start: w.start,
                offset: w.best_offset(),
                correlation: w.peak() as f64,
                expected: offset_in(clock, w) + extra,
                agrees: w.is_clear && offsets_in(clock, w).into_iter().any(near),
                is_clear: w.is_clear,
            }
        })
        .collect()
}
