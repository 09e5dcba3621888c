//! What spreads were, as rows that know theirs tell: over all, by hour of the week, by month, where the session day
//! changes and around events.

use std::collections::BTreeMap;

use crate::counts::Frequencies;
use crate::model::columns::{is_filled, is_made_up, is_rebuilt, spread_mark};
use crate::model::moment_text::MomentWriter;
use crate::model::time::{DAY, HOUR, MINUTE, civil_from_days, day_of, monday_of};
use crate::model::{Clock, Columns, Field, Micros, QuoteView};

/// Hours in a week.
const WEEK_HOURS: usize = 168;

/// So far from midnight of the session clock reaches what is called the roll: the change of the session day, at
/// which nights are paid and spreads are wide.
pub const ROLL: Micros = 30 * MINUTE;

/// So far from an event its rows reach.
pub const AROUND_EVENT: Micros = 5 * MINUTE;

/// Spreads of some rows, in points of the last decimal of the series.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SpreadQuantiles {
    /// Rows that were counted.
    pub rows: u64,
    /// The middle one, the upper of two.
    pub median: i64,
    /// What nine of ten do not exceed.
    pub p90: i64,
    /// What 99 of a hundred do not exceed.
    pub p99: i64,
}

impl SpreadQuantiles {
    fn of(counts: &Frequencies) -> Option<SpreadQuantiles> {
        (counts.total() > 0).then(|| SpreadQuantiles {
            rows: counts.total(),
            median: counts.median(),
            p90: counts.quantile(0.9),
            p99: counts.quantile(0.99),
        })
    }
}

/// What spreads were. Hours and months are those of the session clock's wall.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpreadProfile {
    /// Of all rows; none where no row knows its spread.
    pub all: Option<SpreadQuantiles>,
    /// The widest of all.
    pub widest: Option<i64>,
    /// Of each hour of the week, from Monday 00:00 on: 168 of them.
    pub by_hour: Vec<Option<SpreadQuantiles>>,
    /// Of each hour of the day, over all days.
    pub by_day_hour: Vec<Option<SpreadQuantiles>>,
    /// Of each month that has rows, by year and month.
    pub by_month: Vec<((i64, i64), SpreadQuantiles)>,
    /// Of rows within half an hour of the change of the session day.
    pub at_roll: Option<SpreadQuantiles>,
    /// Of rows within five minutes of an event; none where no event is known.
    pub around_events: Option<SpreadQuantiles>,
    /// The times of the first and the last row that was counted.
    pub ends: Option<(Micros, Micros)>,
    /// Rows that do not know their spread.
    pub unknown: u64,
    /// Rows whose spread is an estimate, or that no market made: they are not counted.
    pub estimated: u64,
    /// Rows whose ask is below their bid: they are not counted.
    pub crossed: u64,
}

/// Measures spreads, piece by piece.
pub struct SpreadMeasurer<'c> {
    wall: MomentWriter<'c>,
    /// In order of time.
    events: Vec<Micros>,
    week: Vec<Frequencies>,
    months: BTreeMap<(i64, i64), Frequencies>,
    /// The month counted last, by its first and its last day.
    month: Option<(std::ops::Range<i64>, (i64, i64))>,
    roll: Frequencies,
    around: Frequencies,
    profile: SpreadProfile,
}

impl<'c> SpreadMeasurer<'c> {
    /// The fields it looks at.
    pub const FIELDS: [Field; 4] = [Field::Spread, Field::Bid, Field::Ask, Field::Origin];

    /// Hours are those of a wall; `events` are moments, in any order.
    pub fn new(wall: &'c Clock, mut events: Vec<Micros>) -> SpreadMeasurer<'c> {
        events.sort_unstable();
        SpreadMeasurer {
            wall: MomentWriter::new(wall),
            events,
            week: vec![Frequencies::default(); WEEK_HOURS],
            months: BTreeMap::new(),
            month: None,
            roll: Frequencies::default(),
            around: Frequencies::default(),
            profile: SpreadProfile {
                all: None,
                widest: None,
                by_hour: Vec::new(),
                by_day_hour: Vec::new(),
                by_month: Vec::new(),
                at_roll: None,
                around_events: None,
                ends: None,
                unknown: 0,
                estimated: 0,
                crossed: 0,
            },
        }
    }

    /// Counts the spreads of the next rows.
    pub fn push(&mut self, rows: &Columns) {
        let (spreads, origins) = (rows.cells(Field::Spread), rows.cells(Field::Origin));
        let quotes = QuoteView::new(rows);
        for (i, t) in rows.time.iter().enumerate() {
            let Some(spread) = spreads.get(i).or_else(|| quotes.spread(i)) else {
                self.profile.unknown += 1;
                continue;
            };
            let is_measured =
                |o: i64| spread_mark(o) == 0 && !is_rebuilt(o) && !is_made_up(o) && !is_filled(o);
            if !origins.get(i).is_none_or(is_measured) {
                self.profile.estimated += 1;
            } else if spread < 0 {
                self.profile.crossed += 1;
            } else {
                self.count(*t, spread);
            }
        }
    }

    fn count(&mut self, t: Micros, spread: i64) {
        let wall = self.wall.wall(t);
        let day = day_of(wall);
        let hour = ((wall - monday_of(day) * DAY) / HOUR) as usize % WEEK_HOURS;
        self.week[hour].add(spread, 1);
        let month = self.month_of(day);
        self.months.entry(month).or_default().add(spread, 1);
        let within = wall.rem_euclid(DAY);
        if !(ROLL..DAY - ROLL).contains(&within) {
            self.roll.add(spread, 1);
        }
        let next = self.events.partition_point(|e| *e < t - AROUND_EVENT);
        if self.events.get(next).is_some_and(|e| *e <= t + AROUND_EVENT) {
            self.around.add(spread, 1);
        }
        let profile = &mut self.profile;
        profile.widest = Some(profile.widest.map_or(spread, |w| w.max(spread)));
        profile.ends = Some(profile.ends.map_or((t, t), |(first, _)| (first, t)));
    }

    fn month_of(&mut self, day: i64) -> (i64, i64) {
        if let Some((days, month)) = &self.month
            && days.contains(&day)
        {
            return *month;
        }
        let (year, month, date) = civil_from_days(day);
        // The days of this month up to the next that is asked for are found again without reckoning.
        let from = day - (date - 1);
        self.month = Some((from..from + 28, (year, month)));
        (year, month)
    }

    /// What was measured.
    pub fn finish(self) -> SpreadProfile {
        let joined = |hours: &mut dyn Iterator<Item = &Frequencies>| {
            let mut sum = Frequencies::default();
            hours.for_each(|counts| counts.each().for_each(|(value, n)| sum.add(value, n)));
            SpreadQuantiles::of(&sum)
        };
        SpreadProfile {
            all: joined(&mut self.week.iter()),
            by_hour: self.week.iter().map(SpreadQuantiles::of).collect(),
            by_day_hour: (0..24).map(|h| joined(&mut self.week.iter().skip(h).step_by(24))).collect(),
            by_month: self.months.iter().filter_map(|(m, c)| Some((*m, SpreadQuantiles::of(c)?))).collect(),
            at_roll: SpreadQuantiles::of(&self.roll),
            around_events: SpreadQuantiles::of(&self.around),
            ..self.profile
        }
    }
}

impl SpreadProfile {
    /// A cautious spread for tests that know only one: what nine of ten rows do not exceed, and no less than what is
    /// usual in any hour of the week in which a hundredth of the rows lie.
    pub fn proposed(&self) -> Option<i64> {
        let all = self.all?;
        let busy = self.by_hour.iter().flatten().filter(|hour| hour.rows * 100 >= all.rows);
        busy.map(|hour| hour.median).chain([all.p90]).max()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::columns::{CARRIED_SPREAD, MADE_UP};
    use crate::model::time::parse;
    use crate::model::{ABSENT, Scale};

    /// Spreads of bars at moments, with their origins.
    fn bars(rows: &[(&str, i64, i64)]) -> Columns {
        let mut out =
            Columns::empty(&[Field::Close, Field::Spread, Field::Origin], Scale { price: 5, volume: 0 });
        for (at, spread, origin) in rows {
            out.time.push(parse(at).unwrap());
            [1, *spread, *origin].into_iter().zip(&mut out.data).for_each(|(v, c)| c.push(v));
        }
        out
    }

    fn measured(clock: &str, events: &[&str], rows: &Columns) -> SpreadProfile {
        let clock: Clock = clock.parse().unwrap();
        let mut measurer = SpreadMeasurer::new(&clock, events.iter().map(|e| parse(e).unwrap()).collect());
        measurer.push(rows);
        measurer.finish()
    }

    #[test]
    fn only_spreads_that_were_measured_are_counted() {
        let rows = bars(&[
            ("2024-03-04 10:00", 10, 0),
            ("2024-03-04 10:01", 12, 1),
            ("2024-03-04 10:02", ABSENT, 0),
            ("2024-03-04 10:03", 90, CARRIED_SPREAD),
            ("2024-03-04 10:04", 90, MADE_UP),
            ("2024-03-04 10:05", -3, 0),
            ("2024-03-04 10:06", 0, 0),
        ]);
        let profile = measured("UTC", &[], &rows);
        let all = profile.all.unwrap();
        assert_eq!((all.rows, all.median, all.p90, profile.widest), (3, 10, 12, Some(12)));
        assert_eq!((profile.unknown, profile.estimated, profile.crossed), (1, 2, 1));
        assert_eq!(profile.around_events, None, "no event is known");
        assert_eq!(profile.ends.map(|e| e.1), parse("2024-03-04 10:06").ok());
        let none = measured("UTC", &[], &bars(&[("2024-03-04", ABSENT, 0)]));
        assert_eq!((none.all, none.proposed(), none.widest), (None, None, None));
    }

    #[test]
    fn hours_and_months_are_those_of_the_session_clock() {
        let rows = bars(&[
            ("2024-02-29 23:30", 5, 0),
            ("2024-03-04 10:00", 10, 0),
            ("2024-03-31 21:45", 40, 0),
            ("2024-03-31 22:15", 60, 0),
        ]);
        let profile = measured("Europe/Oslo", &["2024-03-04 10:04"], &rows);
        let hours: Vec<(usize, i64)> =
            profile.by_hour.iter().enumerate().filter_map(|(h, s)| Some((h, (*s)?.median))).collect();
        // Monday 11:00, Friday 00:30, Sunday 23:45 and Monday 00:15, summer time since that morning.
        assert_eq!(hours, [(0, 60), (11, 10), (96, 5), (167, 40)]);
        assert_eq!(profile.by_day_hour[0].unwrap().rows, 2);
        assert_eq!(profile.at_roll.unwrap().rows, 2, "half past midnight is no longer the roll");
        assert_eq!(profile.around_events.unwrap().median, 10);
        let months: Vec<_> = profile.by_month.iter().map(|(m, s)| (*m, s.rows)).collect();
        assert_eq!(months, [((2024, 3), 3), ((2024, 4), 1)]);
    }

    #[test]
    fn the_proposal_is_not_below_what_a_busy_hour_usually_has() {
        let mut rows: Vec<(String, i64)> =
            (0..95).map(|i| (format!("2024-03-04 10:{:02}", i % 60), 10)).collect();
        rows.extend((0..5).map(|i| (format!("2024-03-04 22:{i:02}"), 80)));
        let rows: Vec<(&str, i64, i64)> = rows.iter().map(|(t, s)| (t.as_str(), *s, 0)).collect();
        let profile = measured("UTC", &[], &bars(&rows));
        assert_eq!(profile.all.unwrap().p90, 10);
        assert_eq!(profile.proposed(), Some(80));
    }
}
