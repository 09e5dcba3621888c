//! How far rebuilt ticks are from real ones.

use serde::{Deserialize, Serialize};

/// Measured on bars of odd days, rebuilt by what those of even days say, against their real ticks.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct PathError {
    /// Bars with a range that were compared.
    pub bars: u64,
    /// Points from low to high, on average.
    pub range: f64,
    /// Points between the real and the rebuilt price at nine moments of each bar, on average.
    pub off: f64,
    /// The same for a straight line from open to close.
    pub straight: f64,
    /// Bars in which it is a question whether the high or the low came first.
    pub asked: u64,
    /// Those of them in which the rebuilt ticks had the right one first.
    pub right: u64,
}

impl PathError {
    pub(super) fn add(&mut self, range: i64, off: [f64; 2], guessed: Option<bool>) {
        let before = self.bars as f64;
        self.bars += 1;
        let bars = self.bars as f64;
        let mean = |was: f64, new: f64| (was * before + new) / bars;
        self.range = mean(self.range, range as f64);
        self.off = mean(self.off, off[0]);
        self.straight = mean(self.straight, off[1]);
        self.asked += u64::from(guessed.is_some());
        self.right += u64::from(guessed == Some(true));
    }

    /// The share of bars in which the right end came first; half is no better than a coin.
    pub fn order_right(&self) -> Option<f64> {
        (self.asked > 0).then(|| self.right as f64 / self.asked as f64)
    }
}
