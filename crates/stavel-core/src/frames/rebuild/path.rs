//! The ticks of one bar.

use super::shape::PathShape;
use crate::chance::Chance;
use crate::model::{Bar, Micros, Span};

/// Ticks of a bar of which nothing says how many it had.
pub(super) const USUAL_TICKS: u64 = 12;

/// More ticks than this are not made of one bar.
const MOST_TICKS: u64 = 3600;

/// A bar as ticks are made of it.
pub(super) struct PathBar {
    pub bar: Bar,
    /// How many ticks it had, where it says so.
    pub ticks: Option<u64>,
    pub volumes: [Option<i64>; 2],
    pub spread: Option<BarSpreads>,
}

/// The spreads of a bar: their mean, and where known the first, the widest and the narrowest.
#[derive(Clone, Copy)]
pub(super) struct BarSpreads {
    pub mean: i64,
    pub open: i64,
    pub high: i64,
    pub low: i64,
}

/// The prices of a bar's ticks, in order: from its open over its high and low to its close. All prices are whole steps
/// apart where the bar's own are.
pub(super) fn prices(of: &PathBar, shape: &PathShape, step: i64, chance: &mut Chance) -> Vec<i64> {
    let bar = &of.bar;
    let wanted = of.ticks.or(shape.ticks_of_a_bar()).unwrap_or(USUAL_TICKS);
    let turns = turns(bar, chance.share() < shape.high_first(bar), wanted);
    let count = wanted.clamp(turns.len() as u64, MOST_TICKS) as usize;
    let is_whole = [bar.open, bar.high, bar.low, bar.close].iter().all(|p| (p - bar.low) % step == 0);
    let grid = PriceGrid { low: bar.low, step: if is_whole { step } else { 1 } };
    let mut out = vec![bar.open];
    let mut left = count - turns.len();
    let mut way: i64 = turns.windows(2).map(|leg| (leg[1] - leg[0]).abs()).sum();
    for (i, leg) in turns.windows(2).enumerate() {
        let length = (leg[1] - leg[0]).abs();
        let more =
            if i + 2 == turns.len() { left } else { (left as f64 * length as f64 / way as f64) as usize };
        left -= more;
        way -= length;
        // Before the second end has its turn no tick may reach it.
        let second =
            turns.get(2).filter(|_| i == 0 && turns.len() == 4).filter(|_| bar.high - bar.low > grid.step);
        let within = match (second.is_some(), second == Some(&bar.high)) {
            (true, true) => (bar.low, bar.high - grid.step),
            (true, false) => (bar.low + grid.step, bar.high),
            (false, _) => (bar.low, bar.high),
        };
        let leg = Leg { from: leg[0], to: leg[1], count: more, within };
        leg.walk(&grid, chance, &mut out);
        out.push(leg.to);
    }
    // A bar of one price has no legs.
    out.resize(count, bar.close);
    out
}

/// The prices at which a bar turns: its open, both its ends, its close. An end that it opens with came first; with so few
/// ticks that one order leaves no room for all turns, it was the other.
fn turns(bar: &Bar, high_first: bool, ticks: u64) -> Vec<i64> {
    let (high, low) = (bar.high, bar.low);
    let by = |high_first: bool| {
        let (first, second) = if high_first { (high, low) } else { (low, high) };
        let mut turns = vec![bar.open, first, second, bar.close];
        turns.dedup();
        turns
    };
    if bar.open == high || bar.open == low {
        return by(bar.open == high);
    }
    let (chosen, other) = (by(high_first), by(!high_first));
    if (chosen.len() as u64) > ticks && other.len() < chosen.len() { other } else { chosen }
}

/// Prices that a tick may have.
struct PriceGrid {
    low: i64,
    step: i64,
}

impl PriceGrid {
    fn nearest(&self, price: f64) -> i64 {
        self.low + ((price - self.low as f64) / self.step as f64).round() as i64 * self.step
    }
}

/// The way from one turn to the next.
struct Leg {
    from: i64,
    to: i64,
    /// Ticks between both.
    count: usize,
    /// The lowest and the highest price a tick of it may have.
    within: (i64, i64),
}

impl Leg {
    /// Ticks between two turns: a bridge that strays by a sixth of its length, and by a step at least.
    fn walk(&self, grid: &PriceGrid, chance: &mut Chance, out: &mut Vec<i64>) {
        let (from, way, parts) = (self.from as f64, (self.to - self.from) as f64, (self.count + 1) as f64);
        let stray = (way.abs() / 6.0).max(grid.step as f64);
        let mut off = 0.0;
        for i in 1..=self.count {
            let left = parts - i as f64;
            // A step of the bridge: drawn back to nothing by the end.
            off += chance.normal() * stray / parts.sqrt() - off / left;
            let straight = from + way * i as f64 / parts;
            out.push(grid.nearest(straight + off).clamp(self.within.0, self.within.1));
        }
    }
}

/// A volume shared out over ticks, whole and to the last unit; each has some where there is enough.
pub(super) fn shares(volume: i64, count: usize, chance: &mut Chance) -> Vec<i64> {
    let n = count as i64;
    let each = if volume >= n { 1 } else { 0 };
    let mut left = volume - each * n;
    let mut out = vec![each; count];
    if volume < n {
        // Fewer units than ticks: they fall on ticks apart.
        (0..volume).for_each(|i| out[(i * n / volume) as usize] = 1);
        return out;
    }
    for (i, share) in out.iter_mut().enumerate() {
        let others = (count - i) as f64;
        let part = if others > 1.0 { (left as f64 / others * 2.0 * chance.share()) as i64 } else { left };
        let part = part.clamp(0, left);
        *share += part;
        left -= part;
    }
    out
}

/// Spreads of ticks with the mean, the first, the widest and the narrowest of the bar, as far as so many ticks can have
/// them.
pub(super) fn spreads(of: &BarSpreads, count: usize) -> Vec<i64> {
    let mut out = vec![of.mean; count];
    let Some(first) = out.first_mut() else { return out };
    *first = of.open;
    let mut at = 1;
    for end in [of.high, of.low] {
        if end != of.open && at < count {
            out[at] = end;
            at += 1;
        }
    }
    // What is left over or lacks is spread over the others, within the widest and narrowest.
    let mut over = out.iter().sum::<i64>() - of.mean.saturating_mul(count as i64);
    for spread in out.iter_mut().skip(at) {
        let moved = (*spread - over).clamp(of.low, of.high);
        over -= *spread - moved;
        *spread = moved;
    }
    out
}

/// When the ticks of a bar come: at times of their own within its open time, in order.
pub(super) fn times(open: &[Span], count: usize, chance: &mut Chance) -> Vec<Micros> {
    let length: Micros = open.iter().map(Span::length).sum();
    // Milliseconds where there is room for all ticks, as most feeds have them.
    let grain = if length / 1000 > 4 * count as Micros { 1000 } else { 1 };
    let slots = (length / grain).max(1) as u64;
    let mut at: Vec<u64> = (0..count).map(|_| chance.below(slots)).collect();
    at.sort_unstable();
    // Each has a time of its own: those that fall together move on, and back from the end.
    for i in 1..at.len() {
        at[i] = at[i].max(at[i - 1] + 1);
    }
    let mut most = slots.saturating_sub(1);
    for slot in at.iter_mut().rev() {
        *slot = (*slot).min(most);
        most = most.saturating_sub(1);
    }
    at.into_iter().map(|slot| moment(open, slot as Micros * grain)).collect()
}

/// The moment that lies so far into open time.
fn moment(open: &[Span], mut into: Micros) -> Micros {
    for span in open {
        if into < span.length() {
            return span.from + into;
        }
        into -= span.length();
    }
    open.last().map_or(0, |span| span.to - 1)
}
