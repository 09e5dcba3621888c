//! The evidence people look for by eye: the longest bars of one series in the other.

use crate::model::time::HOUR;
use crate::model::{Clock, Columns, Field, Micros};

/// A long bar here and the bar at the same moment there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Evidence {
    pub utc: Micros,
    pub written: Micros,
    /// High minus low in points, here and there (0 where there is no bar).
    pub range_here: i64,
    pub range_there: i64,
}

/// The longest bars of a series whose times are as written (at most one an hour), with the bars of
/// an anchored series at the moments a clock gives them. Bars outside the other series are passed over.
pub fn longest_bars(here: &Columns, there: &Columns, clock: &Clock, count: usize) -> Vec<Evidence> {
    let range = |rows: &Columns, i: usize| rows.column(Field::High)[i] - rows.column(Field::Low)[i];
    let Some((first, last)) = there.ends() else { return Vec::new() };
    let mut order: Vec<usize> = (0..here.len()).collect();
    order.sort_by_key(|&i| std::cmp::Reverse(range(here, i)));
    let mut out: Vec<Evidence> = Vec::new();
    for i in order {
        let written = here.time[i];
        let utc = clock.from_wall(written).settle();
        let near = out.iter().any(|e| (e.written - written).abs() < HOUR);
        if near || utc < first || utc > last {
            continue;
        }
        let range_there = there.time.binary_search(&utc).map_or(0, |j| range(there, j));
        out.push(Evidence { utc, written, range_here: range(here, i), range_there });
        if out.len() == count {
            break;
        }
    }
    out
}
