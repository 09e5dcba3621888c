//! How far rebuilt ticks are from real ones.

use crate::model::provenance::PathError;

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
