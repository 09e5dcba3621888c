//! Spikes and jumps: prices that leave their neighbours by far more than they move.
//!
//! A spike leaves abruptly and is back abruptly within [`LONGEST`] rows; a jump stays. How far rows move is
//! the median of range and step over the [`MEMORY`] rows before, so that neither news nor the spike itself
//! blinds it.

use super::piece::RowPrices;
use super::{Finding, FindingDetail, FindingKind, Remedy};
use crate::model::{Micros, Span};

/// How many times the local move a departure must be.
const FACTOR: i64 = 15;
/// Rows that make up the local move.
const MEMORY: usize = 63;
/// The longest spike, in rows.
const LONGEST: usize = 5;
/// A jump that stays is a change of scale or contract from this ratio of prices on, in per cent.
const PERCENT: i64 = 105;
/// The share of [`MEMORY`] new moves in the mean over thousands of rows.
const SLOWLY: f64 = 1.0 / 64.0;
/// Rows that a new level must last to be one.
const STAYS: u64 = 20;

/// A change of level that has lasted.
#[derive(Debug, Clone, Copy)]
struct Jump {
    at: Micros,
    /// Price after over price before.
    ratio: f64,
}

/// The last [`MEMORY`] moves, oldest given up first.
#[derive(Debug)]
struct RecentMoves {
    ring: [i64; MEMORY],
    next: usize,
    full: bool,
}

impl Default for RecentMoves {
    fn default() -> RecentMoves {
        RecentMoves { ring: [0; MEMORY], next: 0, full: false }
    }
}

impl RecentMoves {
    /// Takes a move in; gives the one it takes the place of.
    #[inline]
    fn take(&mut self, moved: i64) -> i64 {
        let old = std::mem::replace(&mut self.ring[self.next], moved);
        self.next += 1;
        if self.next == MEMORY {
            self.next = 0;
            self.full = true;
        }
        old
    }
}

/// Finds spikes and jumps of the level, row by row.
#[derive(Debug)]
pub struct Spikes {
    before: Option<RowPrices>,
    moves: RecentMoves,
    /// Mean move times [`MEMORY`]: the quick test before the median is looked at.
    mean: i64,
    /// The most that one row counts.
    cap: i64,
    /// Mean move over thousands of rows.
    slow: f64,
    /// Rows that left the level and have not come back.
    away: Vec<RowPrices>,
    /// A level left for a ratio beyond [`PERCENT`]: the last price before, and rows since.
    leaving: Option<(Jump, i64, u64)>,
    jumps: Vec<Jump>,
    spikes: Vec<(Span, u64, i64)>,
    /// The smallest local move: a part of the spread, for quotes.
    least: i64,
    last: Micros,
}

impl Spikes {
    /// `least`: what every market moves, in points; for quotes a part of the usual spread.
    pub fn new(least: i64) -> Spikes {
        Spikes {
            before: None,
            moves: RecentMoves::default(),
            mean: 0,
            cap: i64::MAX / 128,
            slow: 0.0,
            away: Vec::new(),
            leaving: None,
            jumps: Vec::new(),
            spikes: Vec::new(),
            least: least.max(1),
            last: 0,
        }
    }

    /// The smallest local move from here on.
    pub fn set_least(&mut self, least: i64) {
        self.least = least.max(1);
    }

    /// Takes the next row of open hours.
    #[inline]
    pub fn next(&mut self, row: RowPrices) {
        self.last = row.time;
        let Some(before) = self.before else {
            self.learn(row, row.high - row.low);
            return;
        };
        if !self.away.is_empty() {
            return self.while_away(before, row);
        }
        let up = row.high - before.high;
        let down = before.low - row.low;
        let quick = (self.mean / MEMORY as i64).max(self.least) * (FACTOR / 3);
        if up.max(down) > quick && self.moves.full && up.max(down) > FACTOR * self.usual() {
            self.away.push(row);
            return;
        }
        let step = (row.close - before.close).abs();
        self.learn(row, (row.high - row.low).max(step));
    }

    /// The median move of the rows before.
    fn usual(&self) -> i64 {
        let mut moves = self.moves.ring;
        let (_, median, _) = moves.select_nth_unstable(MEMORY / 2);
        // A feed that stood still for an hour has not made its market calmer.
        (*median).max(self.least).max(self.slow as i64 / 2)
    }

    /// A row after one that left the level: it is back, or further rows stay away.
    fn while_away(&mut self, before: RowPrices, row: RowPrices) {
        let departure = |look: &RowPrices| (look.high - before.high).max(before.low - look.low);
        let size = self.away.iter().map(departure).max().unwrap_or(0);
        let last = self.away[self.away.len() - 1];
        let near = |price: i64| (price - before.close).abs() * 3 < size;
        // Back at once: the row begins near the level, or jumps to it. A walk back is no return.
        let back = near(row.open) && near(row.close) && departure(&row) * 3 < size;
        let abrupt = self.away.iter().all(|a| near(a.close)) || self.returns_at_once(&row, size);
        // Several rows away are told from a turn of the market by being far away.
        let far = self.away.len() == 1 || size > 2 * FACTOR * self.usual();
        if back && abrupt && far {
            let span = Span::new(self.away[0].time, last.time + 1);
            self.spikes.push((span, self.away.len() as u64, size));
            // The spike itself teaches nothing about how far rows move.
            self.away.clear();
            let step = (row.close - before.close).abs();
            return self.learn(row, (row.high - row.low).max(step));
        }
        self.away.push(row);
        if self.away.len() > LONGEST {
            // It stays: news, or another level.
            for look in std::mem::take(&mut self.away) {
                let step = self.before.map_or(0, |b| (look.close - b.close).abs());
                self.learn(look, (look.high - look.low).max(step));
            }
        }
    }

    /// True where two thirds of the way back were gone in one step, between rows or within one.
    fn returns_at_once(&self, row: &RowPrices, size: i64) -> bool {
        let far = |a: i64, b: i64| (a - b).abs() * 3 > size * 2;
        let followers = self.away.iter().skip(1).chain([row]);
        self.away.iter().zip(followers).any(|(a, b)| far(a.close, b.open) || far(b.open, b.close))
    }

    /// Takes a row into what is usual, and watches the level.
    fn learn(&mut self, row: RowPrices, moved: i64) {
        if let Some(before) = self.before {
            self.watch_level(before, row);
        }
        let moved = moved.clamp(0, self.cap);
        self.mean += moved - self.moves.take(moved);
        if self.moves.next == 0 {
            self.look_back();
        }
        self.before = Some(row);
    }

    /// Every [`MEMORY`] rows: how far a single row may count, and what is usual over thousands of rows.
    fn look_back(&mut self) {
        let mean = self.mean / MEMORY as i64;
        self.cap = FACTOR * (mean + 1);
        self.slow =
            if self.slow == 0.0 { mean as f64 } else { self.slow + (mean as f64 - self.slow) * SLOWLY };
    }

    fn watch_level(&mut self, before: RowPrices, row: RowPrices) {
        let beyond = |a: i64, b: i64| a > 0 && b > 0 && (a * 100 > b * PERCENT || b * 100 > a * PERCENT);
        if let Some((jump, level, rows)) = &mut self.leaving {
            if !beyond(row.close, *level) {
                self.leaving = None;
            } else {
                *rows += 1;
                if *rows == STAYS {
                    self.jumps.push(*jump);
                    self.leaving = None;
                }
            }
            return;
        }
        let opens = if row.is_flat() { row.close } else { row.open };
        // Nearly every row is far from any such ratio.
        let apart = (row.close - before.close).abs().max((opens - before.close).abs());
        if apart * (100 / (PERCENT - 100)) < row.close.min(before.close).min(opens) {
            return;
        }
        // Near zero every move is a large part of the price.
        let so_far = self.mean / self.moves.next.max(1) as i64;
        let usual = if self.moves.full { self.usual() } else { so_far.max(self.least) };
        if apart < FACTOR * usual {
            return;
        }
        if beyond(opens, before.close) || beyond(row.close, before.close) {
            let ratio = row.close as f64 / before.close as f64;
            self.leaving = Some((Jump { at: row.time, ratio }, before.close, 1));
        }
    }

    /// What was found; `until` ends the last row, `decimals` are those of the price.
    pub fn finish(mut self, row_length: Micros, decimals: u8, out: &mut Vec<Finding>) {
        let spikes = std::mem::take(&mut self.spikes);
        out.extend(spikes.into_iter().map(|(span, rows, size)| {
            let detail = FindingDetail::Away { points: size, decimals };
            let span = Span::new(span.from, span.to - 1 + row_length.max(1));
            Finding { kind: FindingKind::Spike, span, rows, detail, remedy: None }
        }));
        let mut jumps = self.jumps.iter().peekable();
        while let Some(jump) = jumps.next() {
            // A jump that is taken back ends there.
            let back = jumps.next_if(|j| (j.ratio * jump.ratio - 1.0).abs() < 0.1);
            let to = back.map_or(self.last + row_length.max(1), |j| j.at);
            let tens = jump.ratio.log10().round();
            let by_ten = tens != 0.0 && (jump.ratio.log10() - tens).abs() < 0.04;
            let (detail, remedy) = if by_ten {
                (FindingDetail::Scaled(tens as i32), Some(Remedy::Rescale(-(tens as i32))))
            } else {
                (FindingDetail::Level(jump.ratio), None)
            };
            out.push(Finding {
                kind: FindingKind::ScaleJump,
                span: Span::new(jump.at, to),
                rows: 0,
                detail,
                remedy,
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(closes: &[i64]) -> Vec<(FindingKind, i64, u64)> {
        let mut spikes = Spikes::new(1);
        let mut last = closes[0];
        for (i, &close) in closes.iter().enumerate() {
            spikes.next(RowPrices {
                time: i as Micros,
                open: last,
                close,
                high: last.max(close),
                low: last.min(close),
            });
            last = close;
        }
        let mut out = Vec::new();
        spikes.finish(1, 0, &mut out);
        out.into_iter().map(|f| (f.kind, f.span.from, f.rows)).collect()
    }

    fn calm(i: i64) -> i64 {
        10_000 + (i * 7919 % 11)
    }

    #[test]
    fn news_that_stays_is_no_spike_and_a_walk_back_is_none_either() {
        let jump: Vec<i64> = (0..200).map(|i| calm(i) + if i < 100 { 0 } else { 400 }).collect();
        assert_eq!(run(&jump), []);
        let walked: Vec<i64> = (0..200)
            .map(|i| {
                calm(i)
                    + [400, 320, 230, 140, 40, 0][(i.clamp(100, 105) - 100) as usize]
                        * i64::from((100..105).contains(&i))
            })
            .collect();
        assert_eq!(run(&walked), []);
    }

    #[test]
    fn near_zero_no_move_is_a_change_of_scale() {
        let closes: Vec<i64> = (0..600).map(|i| 4 + (i * 7919 % 11)).collect();
        assert_eq!(run(&closes), []);
    }

    #[test]
    fn one_bad_print_or_a_few_are_a_spike_and_a_new_level_is_a_scale_jump() {
        let mut spikes = Spikes::new(1);
        for i in 0..200 {
            let off = if (80..83).contains(&i) || i == 120 { 900 } else { 0 };
            let price = calm(i) + off;
            spikes.next(RowPrices { time: i, open: price, high: price + 5, low: price - 5, close: price });
        }
        let mut out = Vec::new();
        spikes.finish(1, 0, &mut out);
        assert_eq!(
            out.iter().map(|f| (f.span.from, f.span.to, f.rows)).collect::<Vec<_>>(),
            [(80, 83, 3), (120, 121, 1)]
        );
        let tenfold: Vec<i64> =
            (0..400).map(|i| calm(i) * if (150..300).contains(&i) { 10 } else { 1 }).collect();
        assert_eq!(run(&tenfold), [(FindingKind::ScaleJump, 150, 0)]);
    }
}
