//! Rows of a formula's instrument out of the prices of its legs.

use std::ops::Range;

use rayon::prelude::*;

use super::join::{Joined, LeftByMonth, LegPrices};
use crate::formula::{Formula, FormulaBlock, Interval, LegColumns, LegPrice, RowEvaluator, Undefined};
use crate::model::price::{LIMIT, unit};
use crate::model::{Columns, Field, Micros, Scale};

/// Rows that are worked out together.
const AT_ONCE: usize = 8 * 1024;

/// A value this near to a whole point is that point: the arithmetic of the machine is no finer.
const HAIR: f64 = 1e-6;

/// Works out rows.
pub(super) struct FormulaRows {
    evaluator: RowEvaluator,
    has_windows: bool,
    /// True where the rows have a bid and an ask.
    is_two_sided: bool,
    is_bars: bool,
    /// True where one leg alone moves the value, so that its own highs and lows tell those of the bar.
    is_one_leg: bool,
    scale: Scale,
    /// Points in one.
    unit: f64,
}

/// Rows of a part, and moments that made none.
struct RowPart {
    rows: Columns,
    wrong: Vec<(Micros, Undefined)>,
}

impl FormulaRows {
    pub fn of(formula: &Formula, is_two_sided: bool, is_bars: bool, scale: Scale) -> FormulaRows {
        let has_windows = formula.has_windows();
        FormulaRows {
            evaluator: RowEvaluator::new(formula),
            has_windows,
            is_two_sided,
            is_bars,
            is_one_leg: formula.legs().len() == 1 && !has_windows,
            scale,
            unit: unit(scale.price) as f64,
        }
    }

    /// The fields of its rows.
    pub fn fields(&self) -> Vec<Field> {
        use Field::{Ask, Bid, Close, High, Last, Low, Open, Spread};
        match (self.is_bars, self.is_two_sided) {
            (false, true) => vec![Bid, Ask],
            (false, false) => vec![Last],
            (true, true) => vec![Open, High, Low, Close, Spread],
            (true, false) => vec![Open, High, Low, Close],
        }
    }

    /// The rows of joined moments; those before `from` are only looked back on.
    pub fn rows(&mut self, joined: &Joined, from: Micros, left: &mut LeftByMonth) -> Columns {
        let parts: Vec<RowPart> = if self.has_windows {
            vec![self.looking_back(joined, from)]
        } else {
            let begins: Vec<usize> = (0..joined.time.len()).step_by(AT_ONCE).collect();
            let part = |at: usize| self.part(joined, at..(at + AT_ONCE).min(joined.time.len()));
            begins.into_par_iter().map(part).collect()
        };
        let mut rows = Columns::empty(&self.fields(), self.scale);
        for part in parts {
            rows.append(&part.rows);
            for (time, why) in part.wrong {
                let left = left.at(time);
                match why {
                    Undefined::DividedByZero => left.by_zero += 1,
                    Undefined::NoNumber => left.no_number += 1,
                    Undefined::WindowNotFull => left.waiting += 1,
                }
            }
        }
        rows
    }

    /// The sets of prices that rows are made of: those of ticks, or of open and close, and of high and low where they tell
    /// those of the bar.
    fn sets<'a>(&self, joined: &'a Joined) -> Vec<&'a [LegPrices]> {
        let set = |at: usize| joined.sets[at].as_slice();
        match (self.is_bars, self.is_one_leg) {
            (false, _) => vec![set(0)],
            (true, false) => vec![set(0), set(3)],
            (true, true) => vec![set(0), set(3), set(1), set(2)],
        }
    }

    fn part(&self, joined: &Joined, range: Range<usize>) -> RowPart {
        let blocks: Vec<FormulaBlock> = self
            .sets(joined)
            .into_iter()
            .map(|legs| {
                let prices: Vec<LegColumns> = self
                    .evaluator
                    .slots()
                    .iter()
                    .map(|slot| columns_of(&legs[slot.0], slot.1, range.clone()))
                    .collect();
                FormulaBlock::of(&self.evaluator, &prices, range.len())
            })
            .collect();
        let mut wrong: Vec<(usize, Undefined)> =
            blocks.iter().flat_map(|block| block.undefined.iter().copied()).collect();
        wrong.sort_by_key(|w| w.0);
        wrong.dedup_by_key(|w| w.0);
        let mut part = RowPart { rows: Columns::empty(&self.fields(), self.scale), wrong: Vec::new() };
        if let ([block], true, false) = (blocks.as_slice(), wrong.is_empty(), self.is_bars) {
            let times = &joined.time[range.clone()];
            if self.push_all(&mut part, times, block) {
                return part;
            }
        }
        let mut bad = wrong.into_iter().peekable();
        let mut values = vec![Interval::of(0.0); blocks.len()];
        for row in 0..range.len() {
            let time = joined.time[range.start + row];
            if let Some((_, why)) = bad.next_if(|(at, _)| *at == row) {
                part.wrong.push((time, why));
                continue;
            }
            for (value, block) in values.iter_mut().zip(&blocks) {
                *value = Interval::new(block.low[row], block.high[row]);
            }
            self.push(&mut part, time, &values);
        }
        part
    }

    /// Adds ticks that all have a value; false where one of them does not fit.
    fn push_all(&self, part: &mut RowPart, times: &[Micros], block: &FormulaBlock) -> bool {
        let sides =
            block.low.iter().zip(&block.high).map(|(low, high)| self.sides(Interval::new(*low, *high)));
        let (bids, asks): (Vec<i64>, Vec<i64>) = sides.unzip();
        let fits = |side: &[i64]| side.iter().all(|p| -LIMIT < *p && *p < LIMIT);
        if !fits(&bids) || !fits(&asks) {
            return false;
        }
        part.rows.time.extend_from_slice(times);
        for (column, side) in part.rows.data.iter_mut().zip([bids, asks]) {
            *column = side;
        }
        true
    }

    /// Row by row, each passed to the windows that look back on it.
    fn looking_back(&mut self, joined: &Joined, from: Micros) -> RowPart {
        let mut part = RowPart { rows: Columns::empty(&self.fields(), self.scale), wrong: Vec::new() };
        for (row, time) in joined.time.iter().enumerate() {
            let sets = self.sets(joined);
            let cells: Vec<Vec<Interval>> = sets.iter().map(|legs| self.cells(legs, row)).collect();
            if *time >= from {
                match cells.iter().map(|cells| self.evaluator.value(cells)).collect::<Result<Vec<_>, _>>() {
                    Ok(values) => self.push(&mut part, *time, &values),
                    Err(why) => part.wrong.push((*time, why)),
                }
            }
            if let Some(close) = cells.last() {
                self.evaluator.pass(close);
            }
        }
        part
    }

    fn cells(&self, legs: &[LegPrices], row: usize) -> Vec<Interval> {
        self.evaluator.slots().iter().map(|(leg, price)| legs[*leg].span(row, *price)).collect()
    }

    /// Adds a row by its values: of ticks one; of bars those of open and close, then of others that it went through.
    #[inline]
    fn push(&self, part: &mut RowPart, time: Micros, values: &[Interval]) {
        let (bid, ask) = self.sides(values[0]);
        let RowPart { rows, wrong } = part;
        let fits = |value: &Interval| {
            let (bid, ask) = self.sides(*value);
            let fit = -LIMIT + 1..LIMIT;
            fit.contains(&bid) && fit.contains(&ask)
        };
        if !values.iter().all(fits) {
            wrong.push((time, Undefined::NoNumber));
            return;
        }
        rows.time.push(time);
        let mut put = |column: usize, value: i64| {
            if let Some(column) = rows.data.get_mut(column) {
                column.push(value);
            }
        };
        put(0, bid);
        if !self.is_bars {
            put(1, ask);
            return;
        }
        let (mut high, mut low) = (bid, bid);
        for value in &values[1..] {
            let (bid, _) = self.sides(*value);
            (high, low) = (high.max(bid), low.min(bid));
        }
        let (close, close_ask) = self.sides(values[1]);
        put(1, high);
        put(2, low);
        put(3, close);
        put(4, close_ask - close);
    }

    /// Bid and ask of a value, in points; what is too large for a number of points is no less than [`LIMIT`]. A bid is never
    /// above what can be, an ask never below.
    #[inline(always)]
    fn sides(&self, value: Interval) -> (i64, i64) {
        if self.is_two_sided {
            let up = -floor(HAIR - value.high * self.unit);
            return (floor(value.low * self.unit + HAIR), up);
        }
        let one = (value.middle() * self.unit).round() as i64;
        (one, one)
    }
}

/// The whole number below: quicker than to call for it, where the machine has no instruction of its own.
#[inline(always)]
fn floor(value: f64) -> i64 {
    let whole = value as i64;
    whole.saturating_sub(i64::from(whole as f64 > value))
}

/// A price of a leg for some rows: [`LegPrices::span`] of each, column by column.
fn columns_of(leg: &LegPrices, price: LegPrice, range: Range<usize>) -> LegColumns {
    let (bid, ask) = (&leg.bid[range.clone()], &leg.ask[range]);
    let both = |of: fn(f64, f64) -> f64| bid.iter().zip(ask).map(|(bid, ask)| of(*bid, *ask)).collect();
    match price {
        LegPrice::Both => LegColumns { low: both(f64::min), high: both(f64::max) },
        LegPrice::Bid | LegPrice::Last | LegPrice::Close => {
            LegColumns { low: bid.to_vec(), high: Vec::new() }
        }
        LegPrice::Ask => LegColumns { low: ask.to_vec(), high: Vec::new() },
        LegPrice::Mid => LegColumns { low: both(|bid, ask| (bid + ask) / 2.0), high: Vec::new() },
    }
}
