//! The session week read off the rows: when does this market trade, and on whose wall is that steady?

use std::collections::BTreeMap;

use crate::model::session::week_in_words;
use crate::model::time::{DAY, MINUTE, day_of, monday_of};
use crate::model::{Clock, Micros, SessionWeek};

/// The week is looked at in slots of this many minutes.
const SLOT: u32 = 5;
const SLOTS: usize = (7 * 24 * 60 / SLOT) as usize;
/// One wall for each family of summer-time rules; they are tried after the one the sheet has.
const WALLS: [&str; 4] = ["UTC", "America/New_York", "Europe/London", "Australia/Sydney"];
/// Another wall must be steadier by this share to be preferred to one before it.
const CLEARLY: f64 = 0.002;

/// A session week as the rows have it.
#[derive(Debug, Clone, PartialEq)]
pub struct Learned {
    /// The session week, in the clock it fits best.
    pub week: SessionWeek,
    /// How steady the weeks are on that wall, 0 to 1: 1 where every week has rows in the same slots.
    pub steadiness: f64,
    /// Weeks it was read from.
    pub weeks: usize,
}

/// Gathers in which slots of each week there is trade.
#[derive(Default)]
pub struct Learner {
    /// By slot since 1970-01-01 UTC, in blocks of 64.
    seen: BTreeMap<i64, u64>,
    last: i64,
}

impl Learner {
    /// Takes the time (UTC) of a row with trade in it.
    #[inline]
    pub fn trade(&mut self, t: Micros) {
        let slot = t.div_euclid(SLOT as Micros * MINUTE);
        if slot != self.last {
            self.last = slot;
            *self.seen.entry(slot.div_euclid(64)).or_default() |= 1 << slot.rem_euclid(64);
        }
    }

    /// The same of many rows in order of time: those of a slot are passed over together.
    pub fn trades(&mut self, times: &[Micros]) {
        let mut at = 0;
        while let Some(&t) = times.get(at) {
            self.trade(t);
            let end = (self.last + 1) * SLOT as Micros * MINUTE;
            // Quiet slots have few rows, busy ones thousands.
            let mut step = 16;
            while times.get(at + step).is_some_and(|t| *t < end) {
                at += step;
                step *= 2;
            }
            let until = (at + step).min(times.len());
            at += times[at..until].partition_point(|t| *t < end);
        }
    }

    /// The week that fits the rows best; none where fewer than three whole weeks were seen.
    pub fn week(&self, present: &SessionWeek) -> Option<Learned> {
        let walls = std::iter::once(present.zone.clone()).chain(WALLS.iter().filter_map(|w| w.parse().ok()));
        let mut best: Option<(f64, Clock, Vec<f64>, usize)> = None;
        for wall in walls {
            let Some((shares, weeks)) = self.shares(&wall) else { continue };
            let steadiness = shares.iter().map(|p| (2.0 * p - 1.0).abs()).sum::<f64>() / SLOTS as f64;
            if best.as_ref().is_none_or(|(s, ..)| steadiness > s + CLEARLY) {
                best = Some((steadiness, wall, shares, weeks));
            }
        }
        let (steadiness, wall, shares, weeks) = best?;
        let week = week_in_words(&open_runs(&shares), &wall).parse().ok()?;
        Some(Learned { week, steadiness, weeks })
    }

    /// The share of weeks that have trade in each slot of the wall's week. Weeks with half of the usual trade
    /// or less are no example.
    fn shares(&self, wall: &Clock) -> Option<(Vec<f64>, usize)> {
        let mut weeks: BTreeMap<i64, Vec<bool>> = BTreeMap::new();
        for (block, bits) in &self.seen {
            for bit in (0..64).filter(|b| bits >> b & 1 == 1) {
                let shown = wall.to_wall((block * 64 + bit) * SLOT as Micros * MINUTE);
                let monday = monday_of(day_of(shown));
                let slot = ((shown - monday * DAY) / (SLOT as Micros * MINUTE)) as usize;
                weeks.entry(monday).or_insert_with(|| vec![false; SLOTS])[slot] = true;
            }
        }
        let full = |week: &Vec<bool>| week.iter().filter(|s| **s).count();
        let mut sizes: Vec<usize> = weeks.values().map(full).collect();
        sizes.sort_unstable();
        let usual = *sizes.get(sizes.len() / 2)?;
        let (first, last) = (*weeks.keys().next()?, *weeks.keys().next_back()?);
        // The first and last week may be cut.
        let is_edge = |monday: i64| monday == first || monday == last;
        weeks.retain(|monday, week| full(week) * 20 > usual * if is_edge(*monday) { 19 } else { 10 });
        if weeks.len() < 3 {
            return None;
        }
        let n = weeks.len() as f64;
        let share = |slot: usize| weeks.values().filter(|w| w[slot]).count() as f64 / n;
        Some(((0..SLOTS).map(share).collect(), weeks.len()))
    }
}

/// Runs of slots in which most weeks trade, in minutes of the week; a run over the week's end ends after it.
fn open_runs(shares: &[f64]) -> Vec<(u32, u32)> {
    let open = |slot: usize| shares[slot % SLOTS] > 0.5;
    let Some(start) = (0..SLOTS).find(|s| !open(*s) && open(s + 1)) else {
        return if open(0) { vec![(0, SLOTS as u32 * SLOT)] } else { Vec::new() };
    };
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for slot in start + 1..start + 1 + SLOTS {
        let minute = slot as u32 * SLOT;
        match runs.last_mut() {
            // A slot or two of silence is a quiet market, no break.
            Some(run) if open(slot) && minute - run.1 <= 2 * SLOT => run.1 = minute + SLOT,
            _ if open(slot) => runs.push((minute, minute + SLOT)),
            _ => {}
        }
    }
    runs.retain(|(a, b)| b - a >= 3 * SLOT);
    let week = SLOTS as u32 * SLOT;
    runs.iter_mut().filter(|r| r.0 >= week).for_each(|r| *r = (r.0 - week, r.1 - week));
    runs.sort_unstable();
    runs
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use crate::model::{Session, Span};

    fn learned(hours: &str, present: &str) -> String {
        let session = Session {
            week: hours.parse().unwrap(),
            clock: Clock::utc(),
            holidays: vec!["2023-12-25".parse().unwrap()],
            ..Session::always()
        };
        let mut learner = Learner::default();
        let mut rng = fastrand::Rng::with_seed(4);
        for open in session.open_spans(Span::new(parse("2023-08-01").unwrap(), parse("2024-05-01").unwrap()))
        {
            let mut t = open.from;
            while t < open.to {
                // A third of all minutes is quiet.
                if rng.f64() > 0.33 {
                    learner.trade(t);
                }
                t += MINUTE;
            }
        }
        learner.week(&present.parse().unwrap()).unwrap().week.to_string()
    }

    #[test]
    fn hours_and_wall_are_read_off_the_rows() {
        let always = "mon-sun 00:00-24:00 UTC";
        for hours in [
            "sun 17:00 - fri 17:00 America/New_York",
            "sun-thu 18:00-17:00 America/New_York",
            "mon-fri 09:00-12:00, mon-fri 13:00-17:30 Europe/London",
            "mon-fri 01:00-07:00 UTC",
        ] {
            assert_eq!(learned(hours, always), hours);
        }
        let oslo = "mon-fri 09:00-16:30 Europe/Oslo";
        assert_eq!(learned(oslo, oslo), oslo, "the sheet's own wall is kept where it fits as well");
    }
}
