//! What a careful person would look at before a clock that was found is taken.

use super::partition::LEAST_WEEKS;
use super::rules::QUARTER;
use super::{BEYOND_DOUBT, ClockStudy, LEAST_CONFIDENCE};
use crate::model::time::{DAY, Micros, WEEK, day_of};

/// Besides one week, one in so many may speak against a clock which is taken without asking.
const ONE_IN: usize = 10;
/// A clock that was changed must have run for so many weeks to be taken without asking.
const FEW_WEEKS: usize = 2 * LEAST_WEEKS;
/// Rows this far from the next week that was compared may be under another clock.
const FAR: Micros = 26 * WEEK;

/// Why a person should look. Days are counted from 1970-01-01; spans give the first and the last.
#[derive(Debug, Clone, PartialEq)]
pub enum Doubt {
    /// Weeks that follow each other, or the first or last, ask for another offset.
    Against(Vec<(i64, i64)>),
    /// Days within weeks that agree are not alike by the clock.
    Days(Vec<(i64, i64)>),
    /// The clock gets less of what the weeks give than [`BEYOND_DOUBT`], or single weeks against it are many.
    Faint,
    /// The clock stands minutes off whole quarters of an hour from this day on.
    OffQuarter {
        /// When it begins: the start of its week, as written.
        from: i64,
        /// The offset from UTC, in microseconds.
        offset: Micros,
    },
    /// The offsets are one bar short of whole quarters: the other series may be stamped at its close.
    OtherAtClose,
    /// Parts of a clock that was changed, by the day each begins, are known by so few weeks at most.
    FewWeeks {
        /// When each of them begins, as written.
        parts: Vec<i64>,
        /// Weeks in all of them.
        weeks: usize,
    },
    /// The clock was changed at this moment (UTC), while the market was open.
    MidWeek(Micros),
    /// Rows of these days were compared with nothing, and another clock that fits as well would differ there.
    Undecided(i64, i64),
    /// Rows of these days lie half a year and more from anything they were compared with.
    Unseen(i64, i64),
}

impl ClockStudy {
    /// True where a clock was found that can be trusted: it gets most of what the weeks give, and most of the
    /// weeks that say anything agree with it.
    pub fn is_sure(&self) -> bool {
        let clear = self.fit.weeks.iter().filter(|w| w.is_clear).count();
        let agree = self.fit.weeks.iter().filter(|w| w.agrees).count();
        self.fit.confidence >= LEAST_CONFIDENCE
            && agree > 0
            && agree * 2 > clear
            && clear * 4 > self.fit.weeks.len()
    }

    /// What a careful person would look at before taking the clock found; empty where there is nothing.
    pub fn doubts(&self) -> Vec<Doubt> {
        let mut out = Vec::new();
        let against = self.disagreeing();
        if !against.is_empty() {
            out.push(Doubt::Against(against));
        } else if !self.gets_nearly_all() {
            out.push(Doubt::Faint);
        }
        if !self.unlike.is_empty() {
            out.push(Doubt::Days(self.unlike.clone()));
        }
        match self.fit.is_bar_behind {
            true => out.push(Doubt::OtherAtClose),
            false => out.extend(self.off_quarter()),
        }
        out.extend(self.little_known());
        out.extend(self.fit.mid_week.iter().map(|at| Doubt::MidWeek(*at)));
        out.extend(self.of_rows_not_compared());
        out
    }

    /// Spans (first and last day, as written) of weeks that speak against the clock and follow each other, or begin
    /// or end the series: those may be under another clock. A single week between others has slipped.
    pub fn disagreeing(&self) -> Vec<(i64, i64)> {
        let clear_weeks: Vec<_> = self.fit.weeks.iter().filter(|w| w.is_clear).collect();
        let is_edge = |start: Micros| {
            [clear_weeks.first(), clear_weeks.last()].into_iter().flatten().any(|w| w.start == start)
        };
        let runs = clear_weeks.chunk_by(|a, b| a.agrees == b.agrees);
        runs.filter(|run| !run[0].agrees && (run.len() > 1 || is_edge(run[0].start)))
            .map(|run| (day_of(run[0].start) + 1, day_of(run[run.len() - 1].start) + 7))
            .collect()
    }

    /// The first day after the data on which another clock that explains them as well would differ; none where
    /// no such clock is left.
    pub fn decided_until(&self) -> Option<i64> {
        let last = self.fit.weeks.last().map_or(0, |w| day_of(w.start));
        let open = self.fit.alternatives.iter().filter(|a| a.differs.is_empty());
        open.flat_map(|a| a.would_differ.iter().map(|d| d.0)).filter(|day| *day > last).min()
    }

    /// True where only single weeks keep the clock from all there is to get.
    fn gets_nearly_all(&self) -> bool {
        let clear_weeks = self.fit.weeks.iter().filter(|w| w.is_clear).count();
        let against = self.fit.weeks.iter().filter(|w| w.is_clear && !w.agrees).count();
        // What single weeks take from the score is theirs; but where they are many, they are not single.
        let are_few = against <= 1 + clear_weeks / ONE_IN && against * 4 <= clear_weeks - against;
        let taken = against as f64 / clear_weeks.max(1) as f64;
        are_few && self.fit.confidence + taken >= BEYOND_DOUBT
    }

    fn off_quarter(&self) -> Option<Doubt> {
        let is_off = |offset: Micros| offset.rem_euclid(QUARTER) != 0;
        let of = |t: Micros| self.fit.clock.offset_at(t);
        let week = self.fit.weeks.iter().map(|w| w.start + WEEK / 2).find(|t| is_off(of(*t)))?;
        Some(Doubt::OffQuarter { from: day_of(week), offset: of(week) })
    }

    fn little_known(&self) -> Option<Doubt> {
        let mut starts: Vec<Micros> = self.fit.clock.changes().iter().map(|c| c.0).collect();
        if starts.is_empty() {
            return None;
        }
        starts.insert(0, self.subject.edition.first.min(starts[0]) - DAY);
        starts.push(Micros::MAX);
        let clear_weeks = || self.fit.weeks.iter().filter(|w| w.is_clear).map(|w| w.start + WEEK / 2);
        let known_by = |part: &[Micros]| clear_weeks().filter(|t| (part[0]..part[1]).contains(t)).count();
        let few: Vec<(i64, usize)> = starts
            .windows(2)
            .map(|part| (day_of(part[0]), known_by(part)))
            .filter(|(_, weeks)| *weeks < FEW_WEEKS)
            .collect();
        let weeks = few.iter().map(|f| f.1).max()?;
        Some(Doubt::FewWeeks { parts: few.into_iter().map(|f| f.0).collect(), weeks })
    }

    fn of_rows_not_compared(&self) -> Option<Doubt> {
        let (first, last) = (self.subject.edition.first, self.subject.edition.last);
        let mut seen: Vec<(Micros, Micros)> = vec![(Micros::MIN, first)];
        seen.extend(self.fit.weeks.iter().filter(|w| w.is_clear).map(|w| (w.start, w.start + WEEK)));
        seen.push((last, Micros::MAX));
        let gaps: Vec<(i64, i64)> = seen
            .windows(2)
            .filter(|w| w[1].0 - w[0].1 > DAY / 24)
            .map(|w| (day_of(w[0].1), day_of(w[1].0)))
            .collect();
        let open: Vec<_> = self.fit.alternatives.iter().filter(|a| a.differs.is_empty()).collect();
        let other = |day: i64| {
            open.iter().any(|a| {
                a.clock.offset_at(day * DAY + DAY / 2) != self.fit.clock.offset_at(day * DAY + DAY / 2)
            })
        };
        let undecided = gaps.iter().find_map(|(a, b)| {
            let from = (*a..=*b).find(|day| other(*day))?;
            Some(Doubt::Undecided(from, (from..=*b).rev().find(|day| other(*day))?))
        });
        let far = || gaps.iter().find(|(a, b)| (b - a) * DAY > FAR).map(|(a, b)| Doubt::Unseen(*a, *b));
        undecided.or_else(far)
    }
}
