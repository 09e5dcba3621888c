//! What is measured on rows, for charts, checks and costs alike: averages, ranges, spreads, and the shape of the week.

mod averages;
mod ranges;
mod spreads;
mod week;

pub use averages::simple_average;
pub use ranges::{RangeStats, SessionRanges, average_true_range, true_ranges};
pub use spreads::{AROUND_EVENT, ROLL, SpreadMeasurer, SpreadProfile, SpreadQuantiles};
pub use week::{HourProfile, WeekProfiler, count_quarters};
