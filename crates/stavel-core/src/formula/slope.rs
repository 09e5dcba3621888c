//! How the value of a formula rises and falls with the prices it is made of.
//!
//! Derivatives are followed through the tree in spans (forward automatic differentiation over intervals; A. Griewank and A.
//! Walther, Evaluating Derivatives, 2008): where the span of a slope does not cross 0, the value rises, or falls, over the
//! whole span of that price.

use super::bounds::Analysis;
use super::interval::Interval;
use super::tree::{Node, NodeId};

const NONE: Interval = Interval { low: 0.0, high: 0.0 };

impl Analysis {
    /// The slope of each node below one, by a price, given the values of all of them.
    pub(super) fn slopes(
        &self,
        id: NodeId,
        slot: usize,
        values: &[Interval],
        slopes: &mut Vec<Interval>,
    ) -> Interval {
        slopes.clear();
        slopes.resize(id + 1, NONE);
        for at in self.first_below(id)..=id {
            let slope = self.slope(at, slot, values, slopes);
            slopes[at] = if slope.low.is_nan() || slope.high.is_nan() { Interval::ALL } else { slope };
        }
        slopes[id]
    }

    fn slope(&self, at: NodeId, slot: usize, values: &[Interval], slopes: &[Interval]) -> Interval {
        let (v, d) = (|id: NodeId| values[id], |id: NodeId| slopes[id]);
        let is_flat = |id: NodeId| d(id) == NONE;
        match &self.formula.nodes[at] {
            Node::Number(_) | Node::Measured(_) | Node::Lag(..) => NONE,
            Node::Leg(..) => Interval::of(if self.slot_of(at) == Some(slot) { 1.0 } else { 0.0 }),
            node if node.parts().iter().all(|part| is_flat(*part)) => NONE,
            Node::Negative(a) => d(*a).negative(),
            Node::Sum(a, b) => d(*a).plus(d(*b)),
            Node::Difference(a, b) => d(*a).minus(d(*b)),
            Node::Product(a, b) => d(*a).times(v(*b)).plus(v(*a).times(d(*b))),
            Node::Quotient(a, b) => d(*a).minus(v(at).times(d(*b))).over(v(*b)).unwrap_or(Interval::ALL),
            Node::Power(a, b) => slope_of_power(at, *a, *b, values, slopes),
            Node::Abs(a) if v(*a).low >= 0.0 => d(*a),
            Node::Abs(a) if v(*a).high <= 0.0 => d(*a).negative(),
            Node::Abs(a) => d(*a).times(Interval::new(-1.0, 1.0)),
            Node::Sqrt(a) => {
                let half = v(at).rising(|root| 2.0 * root);
                d(*a).over(half).unwrap_or_else(|| with_sign_of(d(*a)))
            }
            Node::Ln(a) => d(*a).over(v(*a)).unwrap_or_else(|| with_sign_of(d(*a))),
            Node::Exp(a) => v(at).times(d(*a)),
            Node::Round(a, _) => with_sign_of(d(*a)),
            Node::Min(all) => slope_of_extreme(all, values, slopes, |a, b| a.low > b.high),
            Node::Max(all) => slope_of_extreme(all, values, slopes, |a, b| a.high < b.low),
            Node::Mean(a, n) => d(*a).times(Interval::of(1.0 / *n as f64)),
            // No value of a sample is further from the mean than its deviation times (n - 1) / sqrt(n).
            Node::Stdev(a, n) => {
                let most = 1.0 / (*n as f64).sqrt();
                d(*a).times(Interval::new(-most, most))
            }
        }
    }
}

fn slope_of_power(
    at: NodeId,
    base: NodeId,
    exponent: NodeId,
    values: &[Interval],
    slopes: &[Interval],
) -> Interval {
    let (x, p) = (values[base], values[exponent]);
    let of_base = match p.width() == 0.0 {
        true => x.power(Interval::of(p.low - 1.0)).map(|less| less.times(p)),
        false => values[at].over(x).map(|less| less.times(p)),
    };
    let of_base = of_base.map_or(Interval::ALL, |of| of.times(slopes[base]));
    if slopes[exponent] == NONE {
        return of_base;
    }
    let of_exponent = match x.low > 0.0 {
        true => values[at].times(x.rising(f64::ln)).times(slopes[exponent]),
        false => Interval::ALL,
    };
    of_base.plus(of_exponent)
}

/// Of those that can be the lowest, or the highest.
fn slope_of_extreme(
    all: &[NodeId],
    values: &[Interval],
    slopes: &[Interval],
    never: impl Fn(Interval, Interval) -> bool,
) -> Interval {
    let can_be = |id: &&NodeId| !all.iter().any(|other| never(values[**id], values[*other]));
    all.iter().filter(can_be).map(|id| slopes[*id]).reduce(Interval::and).unwrap_or(Interval::ALL)
}

/// A slope of which only the direction is known.
fn with_sign_of(slope: Interval) -> Interval {
    let low = if slope.low < 0.0 { f64::NEG_INFINITY } else { 0.0 };
    let high = if slope.high > 0.0 { f64::INFINITY } else { 0.0 };
    Interval::new(low, high)
}
