//! What the rows say of a clock, beyond whole weeks: the moment at which it was changed for another, and the
//! days on which it is wrong.

use std::ops::Range;

use rayon::prelude::*;

use super::correlate::{WeekFit, weeks_of};
use crate::model::time::{DAY, HOUR, Micros, WEEK, day_of};
use crate::model::{Clock, Columns, Field, Span, Walls};
use crate::stats::Correlation;

/// A return counts at most this many times the mean return, as where weeks are compared.
const CLIP: f64 = 8.0;
/// Moments that explain the rows as well as the best but for this part of what a row usually says are as good: no
/// whole row may go to the wrong clock unseen.
const AS_GOOD: f64 = 0.5;
/// Days are put together until they have so many returns; what is left at the end of a week needs fewer.
const ENOUGH: usize = 60;
const FEWEST: usize = 8;
/// Days whose correlation is below this share of the usual one are not alike; and by as many standard errors.
const UNLIKE: f64 = 0.5;
const ERRORS: f64 = 4.0;
/// The rows beside a change must be alike by this share of what is usual, where there are more than a few.
const ALIKE: f64 = 0.6;
const FEW: usize = 4;
/// Markets that close for this long do so for a weekend or a holiday.
const CLOSED: Micros = 12 * HOUR;

/// The rows of both sides: high, low and close, in order of time; `subject` as written in bars of `step`, `reference`
/// in UTC in bars of `step` or shorter.
pub struct Sides<'a> {
    /// Rows of the series whose clock is sought, at times as written.
    pub subject: &'a Columns,
    /// Rows of the anchored series, at UTC.
    pub reference: &'a Columns,
    /// The frame at which both are compared, in microseconds.
    pub step: Micros,
    /// True where the second is quoted the other way round.
    pub inverse: bool,
}

/// The midnight in the middle of the weekend before a week (they begin on Saturday afternoon of the wall).
pub(super) fn weekend_before(week: &WeekFit, after: &Clock) -> Micros {
    (week.start + 20 * HOUR - after.offset_at(week.start)).div_euclid(DAY) * DAY
}

impl Sides<'_> {
    /// The moment (UTC) of the change between two weeks, `before` and `after` being the clocks, and whether the
    /// market was closed then. `extra` is what bars stamped at their close add to written times.
    pub(super) fn moment(
        &self,
        (week, next): (&WeekFit, &WeekFit),
        (before, after): (&Clock, &Clock),
        extra: Micros,
    ) -> (Micros, bool) {
        let range = self.subject.range_of(Span::new(week.start, next.start + next.length));
        let times = &self.subject.time[range.clone()];
        let weekend = weekend_before(next, after);
        if times.is_empty() {
            return (weekend, true);
        }
        let around = self.returns_around(range.clone(), [before, after], extra);
        let sums = around.for_the_first();
        let Some(most) = sums.iter().copied().reduce(f64::max) else { return (weekend, true) };
        // Between rows k - 1 and k: when the last one ended by the clock before, when the next one opens by
        // the clock after.
        let ended = |k: usize| times[k - 1] - extra + self.step - before.offset_at(times[k - 1]);
        let opened = |k: usize| times[k] - extra - after.offset_at(times[k]);
        let jump = after.offset_at(times[0]) - before.offset_at(times[0]);
        let usual = sums.windows(2).map(|w| (w[1] - w[0]).abs()).sum::<f64>() / times.len() as f64;
        let as_good = (1..times.len()).filter(|k| sums[*k] >= most - AS_GOOD * usual);
        // In closed hours if it can be; then where the wall jumped by just that; then at a midnight.
        let rank = |k: &usize| {
            let silent = times[*k] - times[*k - 1] - self.step;
            let midnight = times[*k].rem_euclid(DAY) == 0 || opened(*k).rem_euclid(DAY) == 0;
            let place = match () {
                () if silent >= CLOSED => 0,
                () if jump > 0 && silent == jump => 1,
                () if midnight => 2,
                () => 3,
            };
            (place, (most - sums[*k]).max(0.0))
        };
        let best =
            as_good.map(|k| (rank(&k), k)).min_by(|(a, _), (b, _)| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)));
        let Some((_, k)) = best else { return (weekend, true) };
        let (from, to) = (ended(k), opened(k));
        // Set back while the market was open, hours came twice as written, and their rows are mixed here.
        let reach = jump.abs() + HOUR;
        let first = times.partition_point(|t| *t < times[k - 1] - reach);
        let end = times.partition_point(|t| *t <= times[k] + reach);
        let is_closed = times[k] - times[k - 1] - self.step >= CLOSED
            && around.is_alike(first..k, 0..k, 0)
            && around.is_alike(k..end, k..times.len(), 1);
        // The middle of the weekend, if the silence holds it; else a midnight; else where rows go on.
        let midnight = to.div_euclid(DAY) * DAY;
        let moment = match () {
            () if (from..=to).contains(&weekend) => weekend,
            () if (from..=to).contains(&midnight) => midnight,
            () => to,
        };
        (moment, is_closed)
    }

    /// The returns of rows and those of the other side by two clocks, in mean returns of their side.
    fn returns_around(&self, range: Range<usize>, clocks: [&Clock; 2], extra: Micros) -> ChangeReturns {
        let written = Span::new(self.subject.time[range.start], self.subject.time[range.end - 1] + 1);
        let near = self.near(written);
        let mut own: Vec<f64> = range.clone().map(|i| self.own_return(i)).collect();
        let mut theirs = clocks.map(|clock| -> Vec<f64> {
            let utc = |i: usize| clock.from_wall(self.subject.time[i] - extra).settle();
            range.clone().map(|i| self.their_return(utc(i), &near)).collect()
        });
        let (mean, their_mean) = (mean_of(&own), mean_of(&theirs[0]).max(mean_of(&theirs[1])));
        let scale = |values: &mut [f64], mean: f64| {
            // Without any return all are 0 already.
            values.iter_mut().filter(|v| **v != 0.0).for_each(|v| *v = (*v / mean).clamp(-CLIP, CLIP));
        };
        scale(&mut own, mean);
        theirs.iter_mut().for_each(|side| scale(side, their_mean));
        ChangeReturns { own, theirs }
    }

    /// Days (first and last, as written) on which the two sides are not alike by a clock, though they are on most
    /// others; weeks that begin at `odd` are passed over.
    pub(super) fn unlike_days(&self, odd: &[Micros], clock: &Clock, extra: Micros) -> Vec<(i64, i64)> {
        let mut starts = weeks_of(self.subject, WEEK).unwrap_or_default();
        starts.retain(|start| !odd.contains(start));
        let parts: Vec<DayGroup> = starts
            .par_iter()
            .flat_map_iter(|&start| self.parts(Span::new(start, start + WEEK), clock, extra))
            .collect();
        let mut usual: Vec<f64> = parts.iter().map(|p| p.correlation).collect();
        usual.sort_by(f64::total_cmp);
        let Some(usual) = usual.get(usual.len() / 2).copied() else { return Vec::new() };
        let mut out: Vec<(i64, i64)> = Vec::new();
        for part in parts {
            // The standard error of a correlation that is truly the usual one.
            let error = (1.0 - usual * usual) / (part.returns as f64).sqrt();
            if part.correlation >= usual * UNLIKE || part.correlation > usual - ERRORS * error {
                continue;
            }
            match out.last_mut() {
                Some(run) if run.1 + 3 >= part.days.0 => run.1 = part.days.1,
                _ => out.push(part.days),
            }
        }
        out
    }

    /// The correlation of returns in the parts of a span, each of whole days as written.
    fn parts(&self, span: Span, clock: &Clock, extra: Micros) -> Vec<DayGroup> {
        let mut out = Vec::new();
        let (range, near) = (self.subject.range_of(span), self.near(span));
        let times = &self.subject.time[range.clone()];
        let (mut pairs, mut first) = (Vec::<(f64, f64)>::new(), None);
        let mut from = range.start;
        let mut walls = Walls::new(clock.clone());
        for day in times.chunk_by(|a, b| day_of(*a) == day_of(*b)) {
            first = first.or(Some(day_of(day[0])));
            let returns = (from..from + day.len()).map(|i| {
                let utc = walls.read(self.subject.time[i] - extra).settle();
                (self.own_return(i), self.their_return(utc, &near))
            });
            pairs.extend(returns.filter(|(a, b)| *a != 0.0 && *b != 0.0));
            from += day.len();
            let enough = if from == range.end { FEWEST } else { ENOUGH };
            if let (true, Some(first_day)) = (pairs.len() >= enough, first) {
                let days = (first_day, day_of(day[0]));
                out.push(DayGroup { days, returns: pairs.len(), correlation: correlation(&pairs) });
                (pairs, first) = (Vec::new(), None);
            }
        }
        out
    }

    /// The change of the close of a row from the one just before it; 0 after a gap.
    fn own_return(&self, i: usize) -> f64 {
        let close = self.subject.column(Field::Close);
        match i.checked_sub(1) {
            Some(before) if self.subject.time[i] - self.subject.time[before] == self.step => {
                (close[i] - close[before]) as f64
            }
            _ => 0.0,
        }
    }

    /// The rows of the other side that rows written within a span may stand beside, in whatever clock.
    fn near(&self, written: Span) -> Range<usize> {
        self.reference.range_of(Span::new(written.from - 2 * DAY, written.to + 2 * DAY))
    }

    /// The change of the other side's close over a bar that opens at `from`, looked up among the rows `near`; 0
    /// where either end is missing.
    fn their_return(&self, from: Micros, near: &Range<usize>) -> f64 {
        let (close, time) =
            (&self.reference.column(Field::Close)[near.clone()], &self.reference.time[near.clone()]);
        let last_before = |t: Micros| {
            let at = time.partition_point(|other| *other < t).checked_sub(1)?;
            (t - time[at] <= self.step).then(|| close[at])
        };
        match (last_before(from), last_before(from + self.step)) {
            (Some(a), Some(b)) => ((b - a) * if self.inverse { -1 } else { 1 }) as f64,
            _ => 0.0,
        }
    }
}

/// Returns of rows around a change of clock, and of the other side by the clock before and by the one after.
struct ChangeReturns {
    own: Vec<f64>,
    theirs: [Vec<f64>; 2],
}

impl ChangeReturns {
    /// For every row, how much nearer all rows before it are to the other side by the first clock than by the
    /// second; one value more than rows. A row after a gap has no return, and says nothing.
    fn for_the_first(&self) -> Vec<f64> {
        let mut sums = vec![0.0];
        for (i, own) in self.own.iter().enumerate() {
            let [a, b] = [0, 1].map(|clock: usize| self.theirs[clock][i]);
            let nearer = if *own == 0.0 { 0.0 } else { (own - b).powi(2) - (own - a).powi(2) };
            sums.push(sums[i] + nearer);
        }
        sums
    }

    /// True where some rows are about as much like the other side, by one of the clocks, as all rows under it.
    fn is_alike(&self, rows: Range<usize>, all: Range<usize>, clock: usize) -> bool {
        let alike = |rows: Range<usize>| {
            let mut sum = Correlation::default();
            let pairs = rows.map(|i| (self.own[i], self.theirs[clock][i]));
            let reference = pairs.filter(|(own, theirs)| *own != 0.0 && *theirs != 0.0);
            let count = reference.inspect(|(own, theirs)| sum.add(*own, *theirs)).count();
            (sum.about_zero(), count)
        };
        let ((subject, count), (usual, _)) = (alike(rows), alike(all));
        count < FEW || subject >= usual * ALIKE
    }
}

/// Some days together.
struct DayGroup {
    days: (i64, i64),
    returns: usize,
    correlation: f64,
}

/// Of returns about zero, each clipped so that one jump does not speak for all.
fn correlation(pairs: &[(f64, f64)]) -> f64 {
    let (a, b): (Vec<f64>, Vec<f64>) = pairs.iter().copied().unzip();
    let (most_a, most_b) = (CLIP * mean_of(&a), CLIP * mean_of(&b));
    let mut sum = Correlation::default();
    for (a, b) in pairs {
        sum.add(a.clamp(-most_a, most_a), b.clamp(-most_b, most_b));
    }
    sum.about_zero()
}

fn mean_of(values: &[f64]) -> f64 {
    let reference: Vec<f64> = values.iter().map(|v| v.abs()).filter(|v| *v > 0.0).collect();
    reference.iter().sum::<f64>() / reference.len().max(1) as f64
}
