//! Frozen feeds: rows that go on while the price does not move, for far longer than this market rests.

use super::piece::Piece;
use super::tally::Tally;
use super::{Finding, Kind};
use crate::model::time::{MINUTE, length_in_words};
use crate::model::{Micros, Shape, Span};

/// The shortest rest that may be a fault.
const LEAST: Micros = 30 * MINUTE;
/// How many times the rest that 99 of 100 rests do not exceed.
const FACTOR: i64 = 8;
/// A pause of rows this long ends a rest: what is not there is missing, not frozen.
const PAUSE: Micros = 10 * MINUTE;

#[derive(Debug, Clone, Copy)]
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
    rest: Option<Rest>,
    lengths: Tally,
    long: Vec<Rest>,
}

impl Frozen {
    /// For rows that stand for `step` of time each; 0 for ticks.
    pub fn new(step: Micros) -> Frozen {
        Frozen { step, rest: None, lengths: Tally::default(), long: Vec::new() }
    }

    pub fn piece(&mut self, piece: &Piece<'_>) {
        let second = if piece.shape == Shape::Quotes { piece.spread } else { piece.prices[0] };
        for i in 0..piece.time.len() {
            if !piece.counts(i) {
                continue;
            }
            let [open, high, low, close] = piece.prices.map(|p| p[i]);
            let still = high == low && open == close;
            let (price, time) = ((close, second[i]), piece.time[i]);
            match &mut self.rest {
                Some(rest) if still && rest.price == price && time - rest.to <= PAUSE + self.step => {
                    rest.to = time;
                    rest.rows += 1;
                    rest.with_trade += u64::from(piece.is(i, super::piece::TRADE));
                }
                _ => {
                    self.end();
                    let with_trade = u64::from(piece.is(i, super::piece::TRADE));
                    self.rest = Some(Rest { from: time, to: time, rows: 1, with_trade, price });
                }
            }
        }
    }

    fn end(&mut self) {
        let Some(rest) = self.rest.take() else { return };
        let length = rest.to - rest.from + self.step;
        self.lengths.add(length);
        if rest.rows >= 10 && length >= LEAST.max(10 * self.step) {
            self.long.push(rest);
        }
    }

    pub fn finish(mut self, out: &mut Vec<Finding>) {
        self.end();
        let usual = self.lengths.quantile(0.99);
        for rest in self.long {
            let length = rest.to - rest.from + self.step;
            if length < FACTOR * usual {
                continue;
            }
            let how = if rest.with_trade == 0 { "flat and without volume, a holiday?" } else { "one price" };
            let detail =
                format!("{how} for {}; usual is up to {}", length_in_words(length), length_in_words(usual));
            let span = Span::new(rest.from, rest.to + self.step.max(1));
            out.push(Finding { kind: Kind::Frozen, span, rows: rest.rows, detail, remedy: None });
        }
    }
}
