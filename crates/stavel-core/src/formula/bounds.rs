//! The lowest and the highest value of a formula while each price lies in its span.
//!
//! Where no price stands twice, taking the parts one by one gives exactly that. A price that stands twice moves both places
//! at once: there the slopes tell at which end of its span the extreme lies, and where they do not, the spans are halved
//! until it is known (branch and bound with the mean value form; R. E. Moore, R. B. Kearfott and M. J. Cloud, Introduction
//! to Interval Analysis, 2009).

use super::interval::{Interval, rounded};
use super::tree::{Formula, LegPrice, Node, NodeId};
use super::undefined::Undefined;
use super::windows::Window;

/// Parts of the spans that are looked at before the search for an extreme ends with what is known.
const MOST_PARTS: usize = 300;

/// How near the extreme is found, as a share of how far the values were thought to spread.
const NEAR: f64 = 1e-5;

/// A formula and what is to be known of its tree before values are put in.
pub(super) struct Analysis {
    pub formula: Formula,
    /// Prices it reads, each once: the leg and which price of it.
    pub slots: Vec<(usize, LegPrice)>,
    slot_of: Vec<Option<usize>>,
    /// The first node of those that each is made of; they lie side by side.
    first: Vec<NodeId>,
    /// Whether a price stands twice below it.
    repeats: Vec<bool>,
    /// Whether a price stands in two of its parts.
    shares: Vec<bool>,
}

/// Which extreme is looked for.
#[derive(Clone, Copy, PartialEq)]
enum SoughtEnd {
    Lowest,
    Highest,
}

impl Analysis {
    pub fn of(formula: Formula) -> Analysis {
        let (mut slots, mut slot_of, mut first) = (Vec::new(), Vec::new(), Vec::new());
        for (id, node) in formula.nodes.iter().enumerate() {
            slot_of.push(match node {
                Node::Leg(leg, price) => {
                    let slot = slots.iter().position(|s| *s == (*leg, *price));
                    Some(slot.unwrap_or_else(|| {
                        slots.push((*leg, *price));
                        slots.len() - 1
                    }))
                }
                _ => None,
            });
            let begin = node.parts().iter().map(|part| first[*part]).min().unwrap_or(id);
            first.push(begin);
        }
        let below = |id: NodeId| -> Vec<usize> {
            let free = |slot: &usize| slots[*slot].1 == LegPrice::Both;
            let mut below: Vec<usize> =
                slot_of[first[id]..=id].iter().flatten().copied().filter(free).collect();
            below.sort_unstable();
            below
        };
        let has_twice = |mut all: Vec<usize>| {
            all.sort_unstable();
            all.windows(2).any(|pair| pair[0] == pair[1])
        };
        let repeats = (0..formula.nodes.len()).map(|id| has_twice(below(id))).collect();
        let each_once = |part: &NodeId| {
            let mut once = below(*part);
            once.dedup();
            once
        };
        let shares =
            formula.nodes.iter().map(|node| has_twice(node.parts().iter().flat_map(each_once).collect()));
        let shares = shares.collect();
        Analysis { formula, slots, slot_of, first, repeats, shares }
    }

    pub fn root(&self) -> NodeId {
        self.formula.root()
    }

    pub fn slot_of(&self, id: NodeId) -> Option<usize> {
        self.slot_of[id]
    }

    pub fn first_below(&self, id: NodeId) -> NodeId {
        self.first[id]
    }

    pub fn repeats(&self, id: NodeId) -> bool {
        self.repeats[id]
    }

    /// All values that a node can have.
    ///
    /// # Errors
    /// Where it has none for some of the prices.
    pub fn bounds(&self, id: NodeId, cells: &[Interval], windows: &[Window]) -> Result<Interval, Undefined> {
        if !self.repeats[id] {
            return self.part_by_part(id, cells, windows, &mut Vec::new());
        }
        if !self.shares[id] {
            // What the parts can be does not hang on one another.
            let mut values = vec![Interval::of(0.0); id + 1];
            for part in self.formula.nodes[id].parts() {
                values[part] = self.bounds(part, cells, windows)?;
            }
            return self.value(id, cells, windows, &values)?.finite().ok_or(Undefined::NoNumber);
        }
        let low = self.extreme(id, cells, windows, SoughtEnd::Lowest)?;
        Ok(Interval::new(low, self.extreme(id, cells, windows, SoughtEnd::Highest)?.max(low)))
    }

    /// Values that a node has, and more where a price stands twice.
    pub fn part_by_part(
        &self,
        id: NodeId,
        cells: &[Interval],
        windows: &[Window],
        values: &mut Vec<Interval>,
    ) -> Result<Interval, Undefined> {
        values.clear();
        values.resize(id + 1, Interval::of(0.0));
        for at in self.first[id]..=id {
            values[at] = self.value(at, cells, windows, values)?.finite().ok_or(Undefined::NoNumber)?;
        }
        Ok(values[id])
    }

    fn value(
        &self,
        at: NodeId,
        cells: &[Interval],
        windows: &[Window],
        values: &[Interval],
    ) -> Result<Interval, Undefined> {
        let v = |id: NodeId| values[id];
        // A price that stands twice may make a part look wider than it is: it is looked at more closely before it is
        // refused.
        let closely = |id: NodeId, is_good: fn(Interval) -> bool, otherwise: Undefined| {
            let rough = v(id);
            if is_good(rough) {
                return Ok(rough);
            }
            let exact = if self.repeats[id] && rough.width() > 0.0 {
                self.bounds(id, cells, windows)?
            } else {
                rough
            };
            is_good(exact).then_some(exact).ok_or(otherwise)
        };
        let full = |window: &Window| if window.is_full() { Ok(()) } else { Err(Undefined::WindowNotFull) };
        Ok(match &self.formula.nodes[at] {
            Node::Number(n) => Interval::of(*n),
            Node::Measured(place) => Interval::of(self.formula.measured[*place].value),
            Node::Leg(..) => self.slot_of[at].map_or(Interval::ALL, |slot| cells[slot]),
            Node::Negative(a) => v(*a).negative(),
            Node::Sum(a, b) => v(*a).plus(v(*b)),
            Node::Difference(a, b) => v(*a).minus(v(*b)),
            Node::Product(a, b) => v(*a).times(v(*b)),
            Node::Quotient(a, b) => {
                let by = closely(*b, |by| !by.holds(0.0), Undefined::DividedByZero)?;
                v(*a).over(by).ok_or(Undefined::DividedByZero)?
            }
            Node::Power(a, b) => v(*a).power(v(*b)).ok_or(match v(*a).holds(0.0) && v(*b).high < 0.0 {
                true => Undefined::DividedByZero,
                false => Undefined::NoNumber,
            })?,
            Node::Abs(a) => v(*a).abs(),
            Node::Sqrt(a) => closely(*a, |of| of.low >= 0.0, Undefined::NoNumber)?.rising(f64::sqrt),
            Node::Ln(a) => closely(*a, |of| of.low > 0.0, Undefined::NoNumber)?.rising(f64::ln),
            Node::Exp(a) => v(*a).rising(f64::exp),
            Node::Round(a, n) => v(*a).rising(|x| rounded(x, *n)),
            Node::Min(all) => least(all.iter().map(|id| v(*id))),
            Node::Max(all) => least(all.iter().map(|id| v(*id).negative())).negative(),
            Node::Mean(a, _) => {
                full(&windows[at])?;
                windows[at].mean(v(*a))
            }
            Node::Stdev(a, _) => {
                full(&windows[at])?;
                windows[at].stdev(v(*a))
            }
            Node::Lag(..) => {
                full(&windows[at])?;
                windows[at].first().ok_or(Undefined::WindowNotFull)?
            }
        })
    }

    fn extreme(
        &self,
        id: NodeId,
        cells: &[Interval],
        windows: &[Window],
        extreme: SoughtEnd,
    ) -> Result<f64, Undefined> {
        let mut search = Search { of: self, id, windows, extreme, values: Vec::new(), slopes: Vec::new() };
        let whole = search.part(cells.to_vec())?;
        if whole.is_exact {
            return Ok(extreme.signed(whole.bound));
        }
        let near = NEAR * whole.spread + f64::EPSILON * whole.bound.abs();
        let (mut best, mut parts) = (whole.reached, vec![whole]);
        let mut looked_at = 1;
        while let Some(at) = (0..parts.len()).max_by(|a, b| parts[*a].bound.total_cmp(&parts[*b].bound)) {
            if parts[at].bound <= best + near || looked_at >= MOST_PARTS {
                return Ok(extreme.signed(parts[at].bound.max(best)));
            }
            let part = parts.swap_remove(at);
            for half in part.halves() {
                let half = search.part(half)?;
                looked_at += 1;
                best = best.max(half.reached);
                parts.push(half);
            }
        }
        Ok(extreme.signed(best))
    }
}

impl SoughtEnd {
    /// The search goes for the highest; the lowest is the highest of what is turned round.
    fn signed(self, value: f64) -> f64 {
        if self == SoughtEnd::Highest { value } else { -value }
    }
}

fn least(all: impl Iterator<Item = Interval>) -> Interval {
    let both = |a: Interval, b: Interval| Interval::new(a.low.min(b.low), a.high.min(b.high));
    all.reduce(both).unwrap_or(Interval::ALL)
}

struct Search<'a> {
    of: &'a Analysis,
    id: NodeId,
    windows: &'a [Window],
    extreme: SoughtEnd,
    values: Vec<Interval>,
    slopes: Vec<Interval>,
}

/// A part of the spans, with what is known of the highest value there.
struct SpanPart {
    cells: Vec<Interval>,
    /// It is not above this.
    bound: f64,
    /// It is at least this.
    reached: f64,
    /// True where it is `bound`.
    is_exact: bool,
    spread: f64,
    /// The price whose span matters most.
    widest: usize,
}

impl SpanPart {
    fn halves(&self) -> [Vec<Interval>; 2] {
        let Interval { low, high } = self.cells[self.widest];
        let middle = self.cells[self.widest].middle();
        [Interval::new(low, middle), Interval::new(middle, high)].map(|half| {
            let mut cells = self.cells.clone();
            cells[self.widest] = half;
            cells
        })
    }
}

impl Search<'_> {
    /// Looks at a part of the spans. Prices with which the value rises or falls all the way go to the end that matters.
    fn part(&mut self, mut cells: Vec<Interval>) -> Result<SpanPart, Undefined> {
        let free: Vec<usize> = (0..cells.len()).filter(|s| cells[*s].width() > 0.0).collect();
        let mut value = self.signed(&cells)?;
        loop {
            let mut is_moved = false;
            for slot in &free {
                let slope = self.slope(*slot);
                let Interval { low, high } = cells[*slot];
                if low < high && (slope.low >= 0.0 || slope.high <= 0.0) {
                    cells[*slot] = Interval::of(if slope.low >= 0.0 { high } else { low });
                    is_moved = true;
                    value = self.signed(&cells)?;
                }
            }
            if !is_moved {
                break;
            }
        }
        let stands = |slot: &usize| {
            let below = &self.of.slot_of[self.of.first[self.id]..=self.id];
            below.iter().filter(|s| **s == Some(*slot)).count()
        };
        let open: Vec<usize> =
            free.into_iter().filter(|s| cells[*s].width() > 0.0 && stands(s) > 0).collect();
        let (mut bound, spread) = (value.high, value.width());
        if open.iter().all(|slot| stands(slot) == 1) {
            return Ok(SpanPart { cells, bound, reached: bound, is_exact: true, spread, widest: 0 });
        }
        let slopes: Vec<Interval> = open.iter().map(|slot| self.slope(*slot)).collect();
        let points: Vec<Interval> = cells.iter().map(|cell| Interval::of(cell.middle())).collect();
        let reached = self.signed(&points)?.low;
        let (mut by_slopes, mut widest, mut weight) = (reached, open[0], -1.0);
        for (slot, slope) in open.iter().zip(slopes) {
            let half = cells[*slot].width() / 2.0;
            let reach = slope.times(Interval::new(-half, half)).high;
            by_slopes += reach;
            if reach > weight {
                (widest, weight) = (*slot, reach);
            }
        }
        if by_slopes < bound {
            bound = by_slopes;
        }
        Ok(SpanPart { cells, bound, reached, is_exact: false, spread, widest })
    }

    fn signed(&mut self, cells: &[Interval]) -> Result<Interval, Undefined> {
        let value = self.of.part_by_part(self.id, cells, self.windows, &mut self.values)?;
        Ok(if self.extreme == SoughtEnd::Highest { value } else { value.negative() })
    }

    /// By the values that were looked at last.
    fn slope(&mut self, slot: usize) -> Interval {
        let slope = self.of.slopes(self.id, slot, &self.values, &mut self.slopes);
        if self.extreme == SoughtEnd::Highest { slope } else { slope.negative() }
    }
}
