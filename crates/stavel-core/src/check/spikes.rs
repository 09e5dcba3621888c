//! Spikes: a price that leaves its neighbours by far more than they move, and returns at once.

use crate::model::Micros;

/// How many times the local move a departure must be.
const FACTOR: i64 = 15;
/// Rows that make up the local move.
const MEMORY: i64 = 32;

/// What the detector looks at: one row's extremes, its first and its last price.
#[derive(Debug, Clone, Copy)]
pub struct Look {
    pub time: Micros,
    pub high: i64,
    pub low: i64,
    pub open: i64,
    pub close: i64,
}

/// Finds spikes with one row of hindsight.
///
/// The local move is a running mean of ranges and steps from row to row, in which a single row
/// counts at most [`FACTOR`] times the mean, so that news does not blind it. A jump that stays is
/// no spike: the row after it must be back.
#[derive(Debug, Default)]
pub struct Spikes {
    before: Option<Look>,
    here: Option<Look>,
    /// Mean move in points, times [`MEMORY`].
    moves: i64,
    seen: i64,
}

impl Spikes {
    /// Takes the next row; gives time and size of the row before it, if that was a spike.
    pub fn next(&mut self, row: Look) -> Option<(Micros, i64)> {
        let here = self.here.replace(row)?;
        let departure = self.before.map_or(0, |before| departure(&before, &here, &row));
        let local = (self.moves / MEMORY).max(1);
        if self.seen >= MEMORY && departure > FACTOR * local {
            // The spike itself teaches nothing about how far rows move.
            return Some((here.time, departure));
        }
        let step = self.before.map_or(0, |b| (here.close - b.close).abs());
        let moved = (here.high - here.low).max(step).clamp(0, FACTOR * local);
        self.moves += if self.seen < MEMORY { moved } else { moved - self.moves / MEMORY };
        self.seen += 1;
        self.before = Some(here);
        None
    }
}

/// How far a row reaches beyond both its neighbours, if the price is back where it was.
fn departure(before: &Look, here: &Look, after: &Look) -> i64 {
    let up = here.high - before.high.max(after.high);
    let down = before.low.min(after.low) - here.low;
    let out = up.max(down);
    let stayed = (after.open - before.close).abs();
    if stayed * 3 < out { out } else { 0 }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(closes: impl Iterator<Item = i64>) -> Vec<(Micros, i64)> {
        let mut spikes = Spikes::default();
        let mut last = 1000;
        let rows = closes.enumerate().map(|(i, close)| {
            let (open, from) = (last, last);
            last = close;
            Look { time: i as Micros, open, close, high: from.max(close), low: from.min(close) }
        });
        rows.collect::<Vec<_>>().into_iter().filter_map(|r| spikes.next(r)).collect()
    }

    #[test]
    fn news_that_stays_is_no_spike() {
        let calm = |i: i64| 1000 + (i * 7919 % 11);
        let jump = (0..200).map(|i| if i < 100 { calm(i) } else { calm(i) + 900 });
        assert_eq!(run(jump), []);
    }

    #[test]
    fn a_single_bad_print_is_found_with_its_size() {
        let mut spikes = Spikes::default();
        let look = |time, high| Look { time, open: 1000, high, low: 995, close: 1001 };
        let found: Vec<_> =
            (0..100).filter_map(|i| spikes.next(look(i, if i == 60 { 1900 } else { 1005 }))).collect();
        assert_eq!(found, [(60, 895)]);
    }
}
