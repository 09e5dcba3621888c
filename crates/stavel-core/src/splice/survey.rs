//! What is told of a joined history: pieces, seams, and how far prices usually move.

use super::join::JoinedRows;
use super::{OwnedSpan, Seam};
use crate::counts::Frequencies;
use crate::model::time::{HOUR, MINUTE};
use crate::model::{Cells, Columns, Field, Micros};

/// Gathers what is told of a joined history while its rows go by.
#[derive(Default)]
pub struct Survey {
    /// Who serves which time, in order.
    pub pieces: Vec<OwnedSpan>,
    /// Where the source changes, in order.
    pub seams: Vec<Seam>,
    /// Rows of the joined history.
    pub rows: u64,
    /// Rows that were given a spread.
    pub carried: u64,
    /// Sizes of the steps from a close to the next open, in points.
    steps: Frequencies,
    /// Points from close to close, all added up.
    moved: i64,
    last_close: Option<i64>,
}

impl Survey {
    /// The fields it looks at.
    pub const FIELDS: [Field; 6] =
        [Field::Open, Field::Close, Field::Bid, Field::Last, Field::Covers, Field::Origin];

    /// Takes the next rows.
    pub fn push(&mut self, block: &JoinedRows) {
        self.carried += block.carried;
        let prices = Prices::of(&block.rows);
        let mut from = 0;
        for (source, rows) in &block.runs {
            let range = from..from + rows;
            from = range.end;
            self.piece(*source, &block.rows.time[range.clone()]);
            for i in range.clone() {
                let Some((open, close)) = prices.at(i) else { continue };
                if let Some(before) = self.last_close.replace(close) {
                    self.steps.add((open - before).abs(), 1);
                    self.moved += (close - before).abs();
                    if i == range.start
                        && let Some(seam) = self.seams.last_mut().filter(|s| s.at == block.rows.time[i])
                    {
                        seam.step = open - before;
                    }
                }
            }
            self.rows += *rows as u64;
        }
    }

    fn piece(&mut self, source: usize, times: &[Micros]) {
        let (Some(&first), Some(&last)) = (times.first(), times.last()) else { return };
        match self.pieces.last_mut() {
            Some(piece) if piece.source == source => {
                piece.to = last;
                piece.rows += times.len() as u64;
            }
            before => {
                if let Some(before) = before {
                    self.seams.push(Seam { at: first, before: before.source, after: source, step: 0 });
                }
                self.pieces.push(OwnedSpan { from: first, to: last, source, rows: times.len() as u64 });
            }
        }
    }

    /// The usual step from a close to the next open, in points: the median of sizes.
    pub fn usual_step(&self) -> i64 {
        self.steps.median()
    }

    /// Points an hour of rows moves from close to close, in the mean; `bar` is the length of a row.
    pub fn usual_hour(&self, bar: Micros) -> f64 {
        let mean = self.moved as f64 / self.steps.total().max(1) as f64;
        mean * (HOUR / bar.max(MINUTE)).max(1) as f64
    }
}

/// Opens and closes of any rows.
struct Prices<'a> {
    open: Cells<'a>,
    close: Cells<'a>,
    tick: Cells<'a>,
    covers: Option<&'a [i64]>,
    has_bars: bool,
}

impl<'a> Prices<'a> {
    fn of(rows: &'a Columns) -> Prices<'a> {
        let tick = [Field::Bid, Field::Last].into_iter().find(|f| rows.has(*f));
        Prices {
            open: rows.cells(Field::Open),
            close: rows.cells(Field::Close),
            tick: tick.map_or_else(Cells::default, |f| rows.cells(f)),
            covers: rows.has(Field::Covers).then(|| rows.column(Field::Covers)),
            has_bars: rows.has(Field::Open) || rows.has(Field::Close),
        }
    }

    /// First and last price of a row; none where it has neither.
    #[inline]
    fn at(&self, i: usize) -> Option<(i64, i64)> {
        let is_tick = self.covers.map_or(!self.has_bars, |c| c[i] == 0);
        if is_tick {
            return self.tick.get(i).map(|price| (price, price));
        }
        let (open, close) = (self.open.get(i), self.close.get(i));
        Some((open.or(close)?, close.or(open)?))
    }
}
