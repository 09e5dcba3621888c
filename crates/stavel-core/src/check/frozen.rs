//! Frozen feeds: rows that go on while the price does not move, for far longer than this market rests.

use super::piece::{CheckRows, TRADE};
use super::tally::OctaveCounts;
use super::{Finding, FindingDetail, FindingKind};
use crate::model::time::MINUTE;
use crate::model::{Micros, Shape, Span};

/// The shortest rest that may be a fault.
const LEAST: Micros = 30 * MINUTE;
/// How many times the rest that 99 of 100 rests do not exceed.
const FACTOR: i64 = 8;
/// A pause of rows this long ends a rest: what is not there is missing, not frozen.
const PAUSE: Micros = 10 * MINUTE;

#[derive(Debug, Clone, Copy, Default)]
struct Rest {
    from: Micros,
    to: Micros,
    rows: u64,
    with_trade: u64,
    price: (i64, i64),
}

/// Watches how long the price rests.
#[derive(Debug)]
pub struct Frozen {
    step: Micros,
    rest: Rest,
    lengths: OctaveCounts,
    /// Rests of one row.
    single: u64,
    long: Vec<Rest>,
}

impl Frozen {
    /// For rows that stand for `step` of time each; 0 for ticks.
    pub fn new(step: Micros) -> Frozen {
        Frozen { step, rest: Rest::default(), lengths: OctaveCounts::default(), single: 0, long: Vec::new() }
    }

    pub fn piece(&mut self, piece: &CheckRows<'_>) {
        let second = if piece.shape == Shape::Quotes { piece.spread } else { piece.prices[0] };
        let [open, high, low, close] = piece.prices;
        let bars = piece.shape == Shape::Bars;
        let mut rest = self.rest;
        for (i, &time) in piece.time.iter().enumerate() {
            if !piece.counts(i) {
                continue;
            }
            let still = !bars || high[i] == low[i] && open[i] == close[i];
            let price = (close[i], second[i]);
            let trade = u64::from(piece.is(i, TRADE));
            if still && rest.price == price && rest.rows > 0 && time - rest.to <= PAUSE + self.step {
                rest.to = time;
                rest.rows += 1;
                rest.with_trade += trade;
                continue;
            }
            // Most rows move; their rests of one row are counted at the end.
            match rest.rows {
                0 => {}
                1 => self.single += 1,
                _ => self.end_of_many(rest),
            }
            rest = Rest { from: time, to: time, rows: 1, with_trade: trade, price };
        }
        self.rest = rest;
    }

    fn end_of_many(&mut self, rest: Rest) {
        let length = rest.to - rest.from + self.step;
        self.lengths.add(length);
        if rest.rows >= 10 && length >= LEAST.max(10 * self.step) {
            self.long.push(rest);
        }
    }

    pub fn finish(mut self, out: &mut Vec<Finding>) {
        self.end_of_many(self.rest);
        self.lengths.add_many(self.step, self.single);
        let usual = self.lengths.quantile(0.99);
        for rest in self.long {
            let length = rest.to - rest.from + self.step;
            if length < FACTOR * usual {
                continue;
            }
            let detail = FindingDetail::Still { length, usual, with_trade: rest.with_trade > 0 };
            let span = Span::new(rest.from, rest.to + self.step.max(1));
            out.push(Finding { kind: FindingKind::Frozen, span, rows: rest.rows, detail, remedy: None });
        }
    }
}
