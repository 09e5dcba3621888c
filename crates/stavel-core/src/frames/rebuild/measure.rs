//! Bars that have their ticks, looked at to learn how prices take within a bar and how well it can be told.

use super::path::{self, PathBar};
use super::shape::PathShape;
use crate::bars::Grid;
use crate::chance::Chance;
use crate::model::provenance::PathError;
use crate::model::time::DAY;
use crate::model::{Bar, Columns, Field, Frame, Micros, Session, Span};

/// Moments of a bar at which real and rebuilt prices are compared.
pub(super) const MOMENTS: usize = 9;

/// Bars that are kept to measure the error; where there are more, every second of them is left away again and again.
const MOST_TRIALS: usize = 20_000;

/// Looks at ticks, piece by piece.
pub struct PathMeasure {
    grid: Grid,
    now: Option<TickedBar>,
    all: PathShape,
    /// Of even days alone, by which the error on odd days is measured.
    even: PathShape,
    trials: Vec<TickedBar>,
    stride: u64,
    seen: u64,
}

/// A bar with what its ticks say of its way.
#[derive(Clone)]
struct TickedBar {
    span: Span,
    bar: Bar,
    ticks: u64,
    /// When the high and the low were first reached, by ticks.
    high_at: u64,
    low_at: u64,
    /// The price at each tenth of its time.
    prices: [i64; MOMENTS],
}

impl TickedBar {
    fn moment(&self, i: usize) -> Micros {
        self.span.from + self.span.length() * (i as Micros + 1) / (MOMENTS as Micros + 1)
    }

    /// A price stands at the moments before a time that have none yet.
    fn stands(&mut self, price: i64, until: Micros) {
        for i in 0..MOMENTS {
            if self.prices[i] == i64::MIN && self.moment(i) < until {
                self.prices[i] = price;
            }
        }
    }

    /// Whether the high came first; none where that is no question: without a range, or opened at one of its ends.
    fn high_first(&self) -> Option<bool> {
        let is_question = self.bar.open != self.bar.high && self.bar.open != self.bar.low;
        is_question.then_some(self.high_at < self.low_at)
    }
}

impl PathMeasure {
    /// For bars of a frame in a session.
    pub fn new(frame: Frame, session: &Session) -> PathMeasure {
        PathMeasure {
            grid: Grid::new(frame, session),
            now: None,
            all: PathShape::default(),
            even: PathShape::default(),
            trials: Vec::new(),
            stride: 1,
            seen: 0,
        }
    }

    /// Takes the next ticks: their bids, or the prices of trades.
    pub fn push(&mut self, ticks: &Columns) {
        let prices = if ticks.has(Field::Bid) { ticks.cells(Field::Bid) } else { ticks.cells(Field::Last) };
        for (i, &time) in ticks.time.iter().enumerate() {
            if let Some(price) = prices.get(i) {
                self.tick(time, price);
            }
        }
    }

    fn tick(&mut self, time: Micros, price: i64) {
        match &mut self.now {
            Some(now) if now.span.holds(time) => {
                // The price stands until this tick.
                now.stands(now.bar.close, time);
                if price > now.bar.high {
                    (now.bar.high, now.high_at) = (price, now.ticks);
                }
                if price < now.bar.low {
                    (now.bar.low, now.low_at) = (price, now.ticks);
                }
                now.bar.close = price;
                now.ticks += 1;
            }
            _ => {
                self.end_bar();
                let at = self.grid.bar_at(time);
                let span = Span::new(at.stamp, at.span.to);
                let mut now = TickedBar {
                    span,
                    bar: Bar::flat(price),
                    ticks: 1,
                    high_at: 0,
                    low_at: 0,
                    prices: [i64::MIN; MOMENTS],
                };
                // Before its first tick a bar has the price it opens with.
                now.stands(price, time);
                self.now = Some(now);
            }
        }
    }

    fn end_bar(&mut self) {
        let Some(mut now) = self.now.take() else { return };
        let last = now.bar.close;
        now.prices.iter_mut().filter(|p| **p == i64::MIN).for_each(|p| *p = last);
        let high_first = now.high_first();
        self.all.count(&now.bar, now.ticks, high_first);
        if now.span.from.div_euclid(DAY) % 2 == 0 {
            self.even.count(&now.bar, now.ticks, high_first);
            return;
        }
        if self.seen.is_multiple_of(self.stride) {
            self.trials.push(now);
        }
        self.seen += 1;
        if self.trials.len() > MOST_TRIALS {
            let mut at = 0;
            self.trials.retain(|_| {
                at += 1;
                at % 2 == 1
            });
            self.stride *= 2;
        }
    }

    /// Ends the ticks: what all of them say, and how far ticks that are rebuilt by those of even days are from those of
    /// odd days. No error is known where either has no bars.
    pub fn finish(mut self, step: i64, seed: u64) -> (PathShape, Option<PathError>) {
        self.end_bar();
        let mut error = PathError::default();
        for trial in self.trials.iter().filter(|t| t.bar.high > t.bar.low) {
            trial_of(trial, &self.even, step, seed, &mut error);
        }
        let is_known = self.even.bars() > 0 && error.bars > 0;
        (self.all, is_known.then_some(error))
    }
}

/// Rebuilds one bar and adds how far off it is.
fn trial_of(trial: &TickedBar, shape: &PathShape, step: i64, seed: u64, error: &mut PathError) {
    let mut chance = Chance::at(seed, trial.span.from);
    let of = PathBar { bar: trial.bar, ticks: Some(trial.ticks), volumes: [None; 2], spread: None };
    let prices = path::prices(&of, shape, step, &mut chance);
    let times = path::times(&[trial.span], prices.len(), &mut chance);
    let at = |t: Micros| prices[times.partition_point(|time| *time <= t).saturating_sub(1)];
    let Bar { open, close, .. } = trial.bar;
    let mut off = [0u64; 2];
    for i in 0..MOMENTS {
        let straight = open + (close - open) * (i as i64 + 1) / (MOMENTS as i64 + 1);
        off[0] += trial.prices[i].abs_diff(at(trial.moment(i)));
        off[1] += trial.prices[i].abs_diff(straight);
    }
    let first = |price: i64| prices.iter().position(|p| *p == price);
    let guessed = trial.high_first().map(|was| was == (first(trial.bar.high) < first(trial.bar.low)));
    error.add(trial.bar.high - trial.bar.low, off.map(|o| o as f64 / MOMENTS as f64), guessed);
}
