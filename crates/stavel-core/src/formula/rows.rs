//! Values of a formula, row by row.

use super::bounds::Analysis;
use super::interval::Interval;
use super::tree::{Formula, LegPrice, Node};
use super::undefined::Undefined;
use super::windows::Window;

/// Puts prices into a formula, one row after another.
pub struct RowEvaluator {
    pub(super) analysis: Analysis,
    windows: Vec<Window>,
}

impl RowEvaluator {
    /// Before the first row.
    pub fn new(formula: &Formula) -> RowEvaluator {
        let windows = formula.nodes.iter().map(|node| Window::of(node.reach().saturating_sub(1))).collect();
        RowEvaluator { analysis: Analysis::of(formula.clone()), windows }
    }

    /// The prices that [`RowEvaluator::value`] takes, in order: the leg and which price of it.
    pub fn slots(&self) -> &[(usize, LegPrice)] {
        &self.analysis.slots
    }

    /// The lowest and the highest value while each price lies in its span.
    ///
    /// # Errors
    /// Where there is none for some of the prices.
    pub fn value(&self, prices: &[Interval]) -> Result<Interval, Undefined> {
        self.analysis.bounds(self.analysis.root(), prices, &self.windows)
    }

    /// Ends a row with its last prices: means and lags look back on it from now on. A row without a value for what they are
    /// of is none for them.
    pub fn pass(&mut self, prices: &[Interval]) {
        let mut passed = Vec::new();
        for (id, node) in self.analysis.formula.nodes.iter().enumerate() {
            if let Node::Mean(of, _) | Node::Stdev(of, _) | Node::Lag(of, _) = node
                && let Ok(value) = self.analysis.bounds(*of, prices, &self.windows)
            {
                passed.push((id, value));
            }
        }
        passed.into_iter().for_each(|(id, value)| self.windows[id].push(value));
    }

    /// By how much its value moves while one price moves by a little, at most, there; none where that is not known.
    pub fn slope(&self, slot: usize, prices: &[Interval]) -> Option<f64> {
        let (root, mut values) = (self.analysis.root(), Vec::new());
        self.analysis.part_by_part(root, prices, &self.windows, &mut values).ok()?;
        let slope = self.analysis.slopes(root, slot, &values, &mut Vec::new());
        let most = slope.low.abs().max(slope.high.abs());
        most.is_finite().then_some(most)
    }
}
