//! Levels: how far apart sources lie, and which side of the market that is.

use super::level_gap::{LevelGap, SideGuess};
use super::row_adapter::RowAdapter;
use super::{Overlap, Source};
use crate::Result;
use crate::counts::Frequencies;
use crate::model::time::{civil_from_days, day_of};
use crate::model::{Columns, Field, present};
use crate::stats::Correlation;
use crate::store::{Cursor, ahead};

/// Holds two sources, each in its adapter, against each other at the times both have a bar (ticks count as
/// minutes): how they agree, and how far the second lies above the first. None where they share no time.
///
/// # Errors
/// Where one of them cannot be read.
pub fn measure(
    first: (&Source, &RowAdapter),
    second: (&Source, &RowAdapter),
) -> Result<Option<(Overlap, LevelGap)>> {
    let Some(span) = first.0.span.overlap(&second.0.span) else { return Ok(None) };
    let mut meeting = LevelsAtMeeting::default();
    let read = |(source, adapter): (&Source, &RowAdapter)| -> Result<_> {
        let (pieces, adapter) = (source.bars(&[Field::Close, Field::Spread], span)?, adapter.clone());
        Ok(Cursor::new(ahead(pieces.map(move |rows| Ok(adapter.adapt(rows?))))))
    };
    let (mut a, mut b) = (read(first)?, read(second)?);
    while let (Some(x), Some(y)) = (next_bar(&mut a)?, next_bar(&mut b)?) {
        if x.time == y.time {
            meeting.add(&x, &y);
        }
        a.pass(usize::from(x.time <= y.time));
        b.pass(usize::from(y.time <= x.time));
    }
    Ok(meeting.finish())
}

/// One bar of a source that has a close.
struct CloseAndSpread {
    time: i64,
    close: i64,
    spread: Option<i64>,
}

/// The next bar that has a close, out of closes and spreads.
#[inline]
fn next_bar<I: Iterator<Item = Result<Columns>>>(rows: &mut Cursor<I>) -> Result<Option<CloseAndSpread>> {
    while let Some(time) = rows.time()? {
        let at = rows.at();
        let [close, spread] = [0, 1].map(|column: usize| present(rows.rows().data[column][at]));
        match close {
            Some(close) => return Ok(Some(CloseAndSpread { time, close, spread })),
            None => rows.pass(1),
        }
    }
    Ok(None)
}

/// Differences kept for the ratio: beyond so many, every other one is left away.
const RATIOS: usize = 1 << 20;

/// What is gathered where two sources meet.
#[derive(Default)]
struct LevelsAtMeeting {
    differences: Frequencies,
    month: Option<((i64, i64), Frequencies)>,
    months: Vec<((i64, i64), i64)>,
    /// The day looked at, and its month.
    day: Option<(i64, (i64, i64))>,
    ratios: Vec<f64>,
    /// After how many the next ratio is kept, and how many are left till then.
    every: usize,
    left: usize,
    before: Option<(i64, i64)>,
    changes: Correlation,
    spreads: [Frequencies; 2],
}

impl LevelsAtMeeting {
    #[inline]
    fn add(&mut self, x: &CloseAndSpread, y: &CloseAndSpread) {
        let apart = y.close - x.close;
        let day = day_of(x.time);
        let month = match self.day {
            Some((d, month)) if d == day => month,
            _ => {
                let (year, month, _) = civil_from_days(day);
                self.day = Some((day, (year, month)));
                (year, month)
            }
        };
        match &mut self.month {
            Some((m, counts)) if *m == month => counts.add(apart, 1),
            _ => {
                self.end_month();
                let mut counts = Frequencies::default();
                counts.add(apart, 1);
                self.month = Some((month, counts));
            }
        }
        self.ratio(x.close, y.close);
        if let Some((px, py)) = self.before.replace((x.close, y.close)) {
            self.changes.add((x.close - px) as f64, (y.close - py) as f64);
        }
        for (counts, spread) in self.spreads.iter_mut().zip([x.spread, y.spread]) {
            spread.into_iter().for_each(|s| counts.add(s, 1));
        }
    }

    fn ratio(&mut self, x: i64, y: i64) {
        if y == 0 {
            return;
        }
        if self.left > 0 {
            self.left -= 1;
            return;
        }
        self.left = self.every;
        self.ratios.push(x as f64 / y as f64);
        if self.ratios.len() == RATIOS {
            self.every = self.every * 2 + 1;
            let mut kept = false;
            self.ratios.retain(|_| {
                kept = !kept;
                kept
            });
        }
    }

    fn end_month(&mut self) {
        if let Some((month, counts)) = self.month.take() {
            self.months.push((month, counts.median()));
            counts.each().for_each(|(apart, n)| self.differences.add(apart, n));
        }
    }

    fn finish(mut self) -> Option<(Overlap, LevelGap)> {
        self.end_month();
        if self.differences.total() == 0 || self.ratios.is_empty() {
            return None;
        }
        let all = &self.differences;
        let mut overlap = Overlap { rows: all.total(), equal: all.of(0), ..Overlap::default() };
        overlap.median_diff = all.median();
        overlap.p95_diff = all.sizes().quantile(0.95);
        all.each().for_each(|(v, n)| overlap.histogram[(v.clamp(-3, 3) + 3) as usize] += n);
        overlap.correlation = self.changes.about_zero();
        let middle = self.ratios.len() / 2;
        let ratio = *self.ratios.select_nth_unstable_by(middle, f64::total_cmp).1;
        let median = overlap.median_diff;
        let spread = self.spreads.iter().find(|s| s.total() > 0).map(Frequencies::median);
        let side = spread.filter(|s| *s >= 3).and_then(|s| side_of(median, s));
        Some((overlap, LevelGap { median, ratio, months: self.months, side }))
    }
}

/// A difference within a quarter of the spread of half a spread or of a whole one.
fn side_of(difference: i64, spread: i64) -> Option<SideGuess> {
    let near = |quarters: i64| (4 * difference - quarters * spread).abs() <= spread;
    match difference {
        0 => None,
        d if d > 0 && near(4) => Some(SideGuess::AskAboveBid),
        d if d > 0 && near(2) => Some(SideGuess::MidAboveBid),
        d if d < 0 && near(-4) => Some(SideGuess::BidBelowAsk),
        d if d < 0 && near(-2) => Some(SideGuess::BidBelowMid),
        _ => None,
    }
}
