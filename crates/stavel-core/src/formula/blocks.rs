//! Values of a formula, many rows at once.

use std::borrow::Cow;

use super::interval::{Interval, rounded};
use super::rows::RowEvaluator;
use super::tree::{LegPrice, Node, NodeId};
use super::undefined::Undefined;

/// The spans of one price, a row each.
#[derive(Debug, Clone, Default)]
pub struct LegColumns {
    /// The lowest it can be.
    pub low: Vec<f64>,
    /// The highest; empty where it is one number.
    pub high: Vec<f64>,
}

/// Values of a formula for some rows.
#[derive(Debug, Clone, Default)]
pub struct FormulaBlock {
    /// The lowest value of each row.
    pub low: Vec<f64>,
    /// The highest.
    pub high: Vec<f64>,
    /// Rows without a value, in order, and why; their numbers mean nothing.
    pub undefined: Vec<(usize, Undefined)>,
}

/// Numbers of many rows, or one for all of them.
#[derive(Clone)]
struct Numbers<'a> {
    low: Cow<'a, [f64]>,
    /// As `low` where they are single numbers.
    high: Option<Cow<'a, [f64]>>,
    /// 0 where one stands for all rows.
    step: usize,
}

impl Numbers<'_> {
    fn one(value: f64) -> Numbers<'static> {
        Numbers { low: Cow::Owned(vec![value]), high: None, step: 0 }
    }

    #[inline(always)]
    fn at(&self, row: usize) -> Interval {
        let low = self.low[row * self.step];
        Interval::new(low, self.high.as_ref().map_or(low, |high| high[row * self.step]))
    }
}

/// Work on some rows.
struct Columnwise<'a> {
    of: &'a RowEvaluator,
    rows: usize,
    /// Why each row has no value; none where it has one.
    wrong: Vec<Option<Undefined>>,
}

impl FormulaBlock {
    /// The values of rows; a price each of [`RowEvaluator::slots`].
    pub fn of(evaluator: &RowEvaluator, prices: &[LegColumns], rows: usize) -> FormulaBlock {
        let analysis = &evaluator.analysis;
        let root = analysis.root();
        if analysis.formula.has_windows() {
            return FormulaBlock::row_by_row(evaluator, prices, rows);
        }
        if !analysis.repeats(root) {
            let prices: Vec<Numbers<'_>> = prices.iter().map(borrowed).collect();
            return Columnwise::new(evaluator, rows).block(root, &prices, &prices);
        }
        match ends(evaluator, prices) {
            Some(ends) => Columnwise::new(evaluator, rows).block(
                root,
                &corner(prices, &ends, true),
                &corner(prices, &ends, false),
            ),
            None => FormulaBlock::row_by_row(evaluator, prices, rows),
        }
    }

    fn row_by_row(evaluator: &RowEvaluator, prices: &[LegColumns], rows: usize) -> FormulaBlock {
        let mut block = FormulaBlock::default();
        let mut cells = vec![Interval::of(0.0); prices.len()];
        for row in 0..rows {
            for (cell, prices) in cells.iter_mut().zip(prices) {
                let low = prices.low[row];
                *cell = Interval::new(low, prices.high.get(row).copied().unwrap_or(low));
            }
            let value = evaluator.value(&cells).unwrap_or_else(|why| {
                block.undefined.push((row, why));
                Interval::of(0.0)
            });
            block.low.push(value.low);
            block.high.push(value.high);
        }
        block
    }
}

fn borrowed(prices: &LegColumns) -> Numbers<'_> {
    let high = (!prices.high.is_empty()).then_some(Cow::Borrowed(prices.high.as_slice()));
    Numbers { low: Cow::Borrowed(&prices.low), high, step: 1 }
}

/// The end of each price's span at which the value is lowest, or highest.
fn corner<'a>(prices: &'a [LegColumns], rises: &[bool], is_lowest: bool) -> Vec<Numbers<'a>> {
    let mut out = Vec::new();
    for (prices, rises) in prices.iter().zip(rises) {
        let is_at_low = prices.high.is_empty() || *rises == is_lowest;
        let of = if is_at_low { &prices.low } else { &prices.high };
        out.push(Numbers { low: Cow::Borrowed(of.as_slice()), high: None, step: 1 });
    }
    out
}

/// Whether the value rises with each price, over all of some rows; none where one of them is not all the way.
fn ends(evaluator: &RowEvaluator, prices: &[LegColumns]) -> Option<Vec<bool>> {
    let analysis = &evaluator.analysis;
    let span = |prices: &LegColumns| {
        let low = prices.low.iter().copied().fold(f64::INFINITY, f64::min);
        let top = if prices.high.is_empty() { &prices.low } else { &prices.high };
        Interval::new(low, top.iter().copied().fold(f64::NEG_INFINITY, f64::max))
    };
    let cells: Vec<Interval> = prices.iter().map(span).collect();
    let (root, mut values, mut slopes) = (analysis.root(), Vec::new(), Vec::new());
    analysis.part_by_part(root, &cells, &[], &mut values).ok()?;
    let rises = |slot: usize| {
        if analysis.slots[slot].1 != LegPrice::Both {
            return Some(true);
        }
        let slope = analysis.slopes(root, slot, &values, &mut slopes);
        (slope.low >= 0.0 || slope.high <= 0.0).then_some(slope.low >= 0.0)
    };
    (0..cells.len()).map(rises).collect()
}

impl<'a> Columnwise<'a> {
    fn new(of: &'a RowEvaluator, rows: usize) -> Columnwise<'a> {
        Columnwise { of, rows, wrong: vec![None; rows] }
    }

    /// The lowest values by some prices and the highest by others, which may be the same.
    fn block(mut self, root: NodeId, lowest: &[Numbers<'_>], highest: &[Numbers<'_>]) -> FormulaBlock {
        let low = self.numbers(root, lowest);
        let is_one_go = std::ptr::eq(lowest, highest);
        let high = if is_one_go { None } else { Some(self.numbers(root, highest)) };
        let mut block = FormulaBlock::default();
        (block.low, block.high) = match (low, high) {
            // The numbers of a row each are taken as they are.
            (Numbers { low, high: Some(high), step: 1 }, None) => (low.into_owned(), high.into_owned()),
            (low, high) => {
                let high = high.as_ref().unwrap_or(&low);
                let ends = (0..self.rows).map(|row| (low.at(row).low, high.at(row).high));
                ends.map(|(low, high)| (low.min(high), high.max(low))).unzip()
            }
        };
        let is_wrong = |row: &usize| {
            let is_number = block.low[*row].is_finite() && block.high[*row].is_finite();
            self.wrong[*row].is_some() || !is_number
        };
        let undefined = (0..self.rows).filter(is_wrong);
        block.undefined =
            undefined.map(|row| (row, self.wrong[row].unwrap_or(Undefined::NoNumber))).collect();
        block
    }

    fn numbers<'p>(&mut self, id: NodeId, prices: &'p [Numbers<'p>]) -> Numbers<'p> {
        let node = &self.of.analysis.formula.nodes[id];
        match node {
            Node::Number(value) => Numbers::one(*value),
            Node::Measured(place) => Numbers::one(self.of.analysis.formula.measured[*place].value),
            Node::Leg(..) => match self.of.analysis.slot_of(id) {
                Some(slot) => {
                    let Numbers { low, high, step } = &prices[slot];
                    let high = high.as_ref().map(|high| Cow::Borrowed(high.as_ref()));
                    Numbers { low: Cow::Borrowed(low.as_ref()), high, step: *step }
                }
                None => Numbers::one(0.0),
            },
            Node::Negative(a) => self.each(*a, prices, |v| Ok(v.negative())),
            Node::Abs(a) => self.each(*a, prices, |v| Ok(v.abs())),
            Node::Exp(a) => self.each(*a, prices, |v| Ok(v.rising(f64::exp))),
            Node::Round(a, n) => self.each(*a, prices, |v| Ok(v.rising(|x| rounded(x, *n)))),
            Node::Sqrt(a) => self.each(*a, prices, |v| match v.low >= 0.0 {
                true => Ok(v.rising(f64::sqrt)),
                false => Err(Undefined::NoNumber),
            }),
            Node::Ln(a) => self.each(*a, prices, |v| match v.low > 0.0 {
                true => Ok(v.rising(f64::ln)),
                false => Err(Undefined::NoNumber),
            }),
            Node::Sum(a, b) => self.pair(*a, *b, prices, |a, b| Ok(a.plus(b))),
            Node::Difference(a, b) => self.pair(*a, *b, prices, |a, b| Ok(a.minus(b))),
            Node::Product(a, b) => self.pair(*a, *b, prices, |a, b| Ok(product(a, b))),
            Node::Quotient(a, b) => self.pair(*a, *b, prices, |a, b| {
                // Prices are above 0: then the ends are known without a look at all four.
                if a.low >= 0.0 && b.low > 0.0 {
                    return Ok(Interval::new(a.low / b.high, a.high / b.low));
                }
                a.over(b).ok_or(Undefined::DividedByZero)
            }),
            Node::Power(a, b) => self.pair(*a, *b, prices, |a, b| {
                let why =
                    if a.holds(0.0) && b.high < 0.0 { Undefined::DividedByZero } else { Undefined::NoNumber };
                a.power(b).ok_or(why)
            }),
            Node::Min(all) => {
                self.fold(all, prices, |a, b| Interval::new(a.low.min(b.low), a.high.min(b.high)))
            }
            Node::Max(all) => {
                self.fold(all, prices, |a, b| Interval::new(a.low.max(b.low), a.high.max(b.high)))
            }
            // Those with windows go row by row.
            Node::Mean(..) | Node::Stdev(..) | Node::Lag(..) => Numbers::one(f64::NAN),
        }
    }

    fn each<'p>(
        &mut self,
        of: NodeId,
        prices: &'p [Numbers<'p>],
        function: impl Fn(Interval) -> Result<Interval, Undefined>,
    ) -> Numbers<'p> {
        let of = self.numbers(of, prices);
        let is_single = of.high.is_none();
        self.made(of.step, is_single, |row| function(of.at(row)))
    }

    fn pair<'p>(
        &mut self,
        a: NodeId,
        b: NodeId,
        prices: &'p [Numbers<'p>],
        function: impl Fn(Interval, Interval) -> Result<Interval, Undefined>,
    ) -> Numbers<'p> {
        let (a, b) = (self.numbers(a, prices), self.numbers(b, prices));
        let is_single = a.high.is_none() && b.high.is_none();
        self.made(a.step | b.step, is_single, |row| function(a.at(row), b.at(row)))
    }

    fn fold<'p>(
        &mut self,
        all: &[NodeId],
        prices: &'p [Numbers<'p>],
        function: impl Fn(Interval, Interval) -> Interval,
    ) -> Numbers<'p> {
        let all: Vec<Numbers<'p>> = all.iter().map(|id| self.numbers(*id, prices)).collect();
        let is_single = all.iter().all(|n| n.high.is_none());
        let step = all.iter().map(|n| n.step).max().unwrap_or(0);
        self.made(step, is_single, |row| {
            Ok(all.iter().map(|n| n.at(row)).reduce(&function).unwrap_or(Interval::ALL))
        })
    }

    #[inline(always)]
    fn made(
        &mut self,
        step: usize,
        is_single: bool,
        value: impl Fn(usize) -> Result<Interval, Undefined>,
    ) -> Numbers<'static> {
        let rows = if step == 0 { 1 } else { self.rows };
        let (mut low, mut high) =
            (Vec::with_capacity(rows), Vec::with_capacity(rows * usize::from(!is_single)));
        for row in 0..rows {
            let of = value(row).unwrap_or_else(|why| {
                self.is_wrong(row, step, why);
                Interval::of(1.0)
            });
            low.push(of.low);
            if !is_single {
                high.push(of.high);
            }
        }
        Numbers { low: Cow::Owned(low), high: (!is_single).then_some(Cow::Owned(high)), step }
    }

    #[cold]
    fn is_wrong(&mut self, row: usize, step: usize, why: Undefined) {
        if step == 0 {
            self.wrong.iter_mut().for_each(|wrong| *wrong = wrong.or(Some(why)));
        } else {
            self.wrong[row] = self.wrong[row].or(Some(why));
        }
    }
}

#[inline(always)]
fn product(a: Interval, b: Interval) -> Interval {
    if a.low >= 0.0 && b.low >= 0.0 {
        return Interval::new(a.low * b.low, a.high * b.high);
    }
    a.times(b)
}
