//! The values of single rows: bars that contradict themselves, prices that cannot be, the largest moves.

use super::piece::CheckRows;
use super::runs::RowRuns;
use super::{Extreme, FindingKind};
use crate::model::{Micros, Shape, present};

/// Looks at each row by itself and at its step from the row before.
#[derive(Default)]
pub struct ValueWatch {
    pub runs: RowRuns,
    before: Option<i64>,
    /// True where a price of zero or below cannot be.
    is_positive: bool,
    pub max_range: Extreme,
    pub max_body: Extreme,
    pub max_jump: Extreme,
}

impl ValueWatch {
    /// `is_positive`: a price of zero or below cannot be.
    pub fn new(is_positive: bool) -> ValueWatch {
        ValueWatch { is_positive, ..ValueWatch::default() }
    }

    pub fn piece(&mut self, piece: &CheckRows<'_>, join: Micros) {
        if piece.shape != Shape::Bars {
            return self.ticks(piece, join);
        }
        let [opens, highs, lows, closes] = piece.prices;
        for i in 0..piece.time.len() {
            if piece.is(i, super::piece::REPEATED) {
                continue;
            }
            let (open, high, low, close, time) = (opens[i], highs[i], lows[i], closes[i], piece.time[i]);
            if self.is_positive && open.min(low).min(close) <= 0 {
                self.runs.add(FindingKind::NonPositive, time, join);
            }
            if high < open.max(close).max(low) || low > open.min(close) {
                self.runs.add(FindingKind::BadOhlc, time, join);
            }
            self.max_range.larger(high - low, time);
            self.max_body.larger((close - open).abs(), time);
            // A row of closed hours is dropped or explained as one; its price is compared with no other.
            if piece.counts(i) {
                if let Some(before) = self.before {
                    self.max_jump.larger((open - before).abs(), time);
                }
                self.before = Some(close);
            }
        }
    }
    fn ticks(&mut self, piece: &CheckRows<'_>, join: Micros) {
        let quotes = piece.shape == Shape::Quotes;
        for (i, (&price, &time)) in piece.prices[0].iter().zip(piece.time).enumerate() {
            if piece.is(i, super::piece::REPEATED) {
                continue;
            }
            if self.is_positive && price <= 0 {
                self.runs.add(FindingKind::NonPositive, time, join);
            }
            if quotes && present(piece.spread[i]).is_some_and(|s| s < 0) {
                self.runs.add(FindingKind::Crossed, time, join);
            }
            if piece.counts(i) {
                let before = self.before.unwrap_or(price);
                self.max_jump.larger((price - before).abs(), time);
                self.before = Some(price);
            }
        }
    }
}
