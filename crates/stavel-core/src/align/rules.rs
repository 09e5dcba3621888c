//! The clocks that are tried: fixed offsets, the common families of rules, and every zone of the database.

use std::collections::{BTreeMap, BTreeSet};

use super::correlate::WeekFit;
use crate::model::Clock;
use crate::model::time::{DAY, HOUR, MINUTE, Micros, WEEK};

/// Clocks stand a whole number of these from UTC; one that does not has been set wrongly, or drifts.
pub(super) const QUARTER: Micros = 15 * MINUTE;
/// What a rule must explain more than a fixed offset to be preferred, as a share of what the weeks give: a
/// clock that does not change is the simpler one.
pub(super) const PENALTY_RULE: f64 = 0.01;
/// What a zone that no broker is known to keep must explain more on top, in whole weeks; and one with a shift as
/// much as a change of clock, which is likelier.
const PENALTY_RARE: f64 = 0.5;
const PENALTY_RARE_SHIFTED: f64 = 1.75;
/// The same, on top, for a clock off whole quarters of an hour.
const PENALTY_OFF_QUARTER: f64 = 0.02;

/// Families of daylight-saving rules, by a zone that has them, with the names of their neighbours.
const FAMILIES: [(&str, &[(&str, i64)]); 3] = [
    ("America/New_York", &[("America/New_York", 0), ("America/Chicago", -1)]),
    ("Europe/London", &[("Europe/London", 0), ("Europe/Oslo", 1), ("Europe/Athens", 2)]),
    ("Australia/Sydney", &[("Australia/Sydney", 0)]),
];

/// A clock with what it gets of each week.
pub(super) struct ClockRule {
    pub clock: Clock,
    /// Share of what the weeks give by which it must be better than a simpler one.
    pub penalty: f64,
    /// The same once for a stretch of weeks, in whole weeks.
    pub once: f64,
    /// Correlation in each speaking week.
    pub got: Vec<f64>,
}

impl ClockRule {
    fn rated(clock: Clock, (penalty, once): (f64, f64), weeks: &[&WeekFit], extra: Micros) -> ClockRule {
        let off = clock.parts().1.rem_euclid(QUARTER) != 0;
        let got = weeks.iter().map(|w| got_of(&clock, w, extra)).collect();
        ClockRule { clock, penalty: penalty + if off { PENALTY_OFF_QUARTER } else { 0.0 }, once, got }
    }
}

/// Rules that were tried, without two that are never apart around the weeks: the first name is kept.
pub(super) struct Rules<'w> {
    weeks: &'w [&'w WeekFit],
    /// What bars stamped at their close add to the offsets of the weeks.
    extra: Micros,
    seen: BTreeSet<Vec<Micros>>,
    pub all: Vec<ClockRule>,
}

impl<'w> Rules<'w> {
    pub fn new(weeks: &'w [&'w WeekFit], extra: Micros) -> Rules<'w> {
        Rules { weeks, extra, seen: BTreeSet::new(), all: Vec::new() }
    }

    fn add(&mut self, clock: Clock, penalty: (f64, f64)) {
        if self.seen.insert(signature(&clock, self.weeks)) {
            self.all.push(ClockRule::rated(clock, penalty, self.weeks, self.extra));
        }
    }

    /// Adds every common clock that explains at least one week: a fixed offset, or a family plus a shift.
    pub fn add_common(&mut self) {
        let own = own_offsets(self.weeks, self.extra);
        for offset in own.iter().copied().collect::<BTreeSet<Micros>>() {
            self.add(Clock::fixed(offset), (0.0, 0.0));
        }
        for (zone, names) in FAMILIES {
            let Ok(base) = Clock::zone(zone, 0) else { continue };
            let shifts: BTreeSet<Micros> =
                self.weeks.iter().zip(&own).map(|(w, own)| own - offset_in(&base, w)).collect();
            for shift in shifts {
                // A zone of its own says more than another zone with a shift.
                let named = names.iter().find(|(_, hours)| hours * HOUR == shift);
                let clock = named.map_or_else(|| Clock::zone(zone, shift), |(name, _)| Clock::zone(name, 0));
                if let Ok(clock) = clock {
                    self.add(clock, (PENALTY_RULE, 0.0));
                }
            }
        }
    }

    /// Adds the zones of the whole database, each with the shift that explains most weeks.
    pub fn add_rare(&mut self) {
        let own = own_offsets(self.weeks, self.extra);
        let mut found = Vec::new();
        for name in jiff::tz::db().available() {
            let Ok(zone) = Clock::zone(name.as_str(), 0) else { continue };
            let offsets: Vec<Micros> = self.weeks.iter().map(|w| offset_in(&zone, w)).collect();
            if offsets.iter().all(|o| *o == offsets[0]) {
                continue;
            }
            let mut votes: BTreeMap<Micros, usize> = BTreeMap::new();
            for (own, o) in own.iter().zip(&offsets) {
                *votes.entry(own - o).or_default() += 1;
            }
            let Some((&shift, _)) = votes.iter().max_by_key(|(shift, n)| (**n, -shift.abs())) else {
                continue;
            };
            found.extend(Clock::zone(name.as_str(), shift).ok());
        }
        // A zone that needs no shift goes before another with the same changes.
        found.sort_by_key(|c: &Clock| c.parts().1.abs());
        for clock in found {
            let once = if clock.parts().1 == 0 { PENALTY_RARE } else { PENALTY_RARE_SHIFTED };
            self.add(clock, (PENALTY_RULE, once));
        }
    }
}

/// The offset of the clock that each week asks for: whole quarters of an hour, as clocks are; but where the
/// week before or after is off them by the same, as written, to the minute.
fn own_offsets(weeks: &[&WeekFit], extra: Micros) -> Vec<Micros> {
    let exact: Vec<Micros> = weeks.iter().map(|w| w.best_offset() - extra).collect();
    let off = |i: usize| exact.get(i).map(|o| o - rounded(*o, QUARTER));
    let whole = |o: Micros| o == 0;
    (0..exact.len())
        .map(|i| match off(i) {
            Some(o) if !whole(o) && [off(i + 1), i.checked_sub(1).and_then(off)].contains(&Some(o)) => {
                rounded(exact[i], MINUTE)
            }
            _ => rounded(exact[i], QUARTER),
        })
        .collect()
}

fn rounded(offset: Micros, to: Micros) -> Micros {
    (offset + to / 2).div_euclid(to) * to
}

/// Wall minus UTC in the middle of a week. Clocks change on weekends, where weeks begin.
pub(super) fn offset_in(clock: &Clock, week: &WeekFit) -> Micros {
    clock.offset_at(week.start + week.length / 2)
}

/// Wall minus UTC in the middle of a week, and near its begin and end: a clock may be changed in mid-week.
pub(super) fn offsets_in(clock: &Clock, week: &WeekFit) -> [Micros; 3] {
    let (from, to) = (week.start + 36 * HOUR, week.start + week.length - DAY);
    [offset_in(clock, week), clock.offset_at(from), clock.offset_at(to)]
}

/// What a clock gets of a week.
pub(super) fn got_of(clock: &Clock, week: &WeekFit, extra: Micros) -> f64 {
    offsets_in(clock, week).into_iter().map(|o| week.at(o + extra)).fold(0.0f32, f32::max) as f64
}

/// The offsets of a clock in every week from half a year before the first to a year after the last.
fn signature(clock: &Clock, weeks: &[&WeekFit]) -> Vec<Micros> {
    let (Some(first), Some(last)) = (weeks.first(), weeks.last()) else { return Vec::new() };
    let from = first.start - 26 * WEEK + WEEK / 2;
    let until = last.start + 53 * WEEK;
    (0..).map(|i| from + i * WEEK).take_while(|t| *t < until).map(|t| clock.offset_at(t)).collect()
}
