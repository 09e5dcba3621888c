//! What `mean`, `stdev` and `lag` look back on.

use std::collections::VecDeque;

use super::interval::Interval;

/// The values of the bars before the one at hand, the last one last; no more than the window takes.
#[derive(Debug, Clone, Default)]
pub(super) struct Window {
    values: VecDeque<Interval>,
    most: usize,
}

impl Window {
    pub fn of(most: usize) -> Window {
        Window { values: VecDeque::new(), most }
    }

    pub fn push(&mut self, value: Interval) {
        if self.values.len() == self.most {
            self.values.pop_front();
        }
        if self.most > 0 {
            self.values.push_back(value);
        }
    }

    /// True once enough bars have passed.
    pub fn is_full(&self) -> bool {
        self.values.len() == self.most
    }

    /// The first of the values, which is as far back as the window goes.
    pub fn first(&self) -> Option<Interval> {
        self.values.front().copied()
    }

    /// The mean with the value at hand; it is added up anew each time, so that it does not depend on where the rows began.
    pub fn mean(&self, now: Interval) -> Interval {
        let count = (self.values.len() + 1) as f64;
        let sum = |of: fn(&Interval) -> f64| self.values.iter().map(of).sum::<f64>() + of(&now);
        Interval::new(sum(|v| v.low) / count, sum(|v| v.high) / count)
    }

    /// The standard deviation of a sample, with the value at hand. Of values that are spans it is that of their middles, more
    /// or less the root of the mean square of half their widths: by the triangle inequality it is no further away.
    pub fn stdev(&self, now: Interval) -> Interval {
        let all = || self.values.iter().chain(std::iter::once(&now));
        let count = (self.values.len() + 1) as f64;
        let mean = all().map(|v| v.middle()).sum::<f64>() / count;
        let square = all().map(|v| (v.middle() - mean).powi(2)).sum::<f64>();
        let around = all().map(|v| (v.width() / 2.0).powi(2)).sum::<f64>();
        let (middle, off) = ((square / (count - 1.0)).sqrt(), (around / (count - 1.0)).sqrt());
        Interval::new((middle - off).max(0.0), middle + off)
    }
}
