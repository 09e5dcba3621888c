//! Align: the clock of a series that does not say it.
//!
//! [`correlate`] compares, week by week, the returns of the afloat series with those of an anchored
//! one at every offset from -14 h to +14 h. [`fit`] finds the simplest clock that explains the weeks.
//! [`anchor`] moves the rows to UTC.

mod correlate;
mod evidence;
mod fit;
mod on_shelf;

pub use correlate::{Offsets, WeekFit, correlate};
pub use evidence::{Evidence, longest_bars};
pub use fit::{Alternative, Fit, WeekVerdict, fit};
pub use on_shelf::{Study, anchor_series, bars, study};

use crate::model::{Clock, Columns};

/// Below this confidence no clock is given.
pub const LEAST_CONFIDENCE: f64 = 0.6;

/// Moves written times to UTC by a clock. Gives the number of wall times that were doubtful; each of
/// those is settled as the first of two, or as the moment of the jump.
pub fn anchor(rows: &mut Columns, clock: &Clock) -> u64 {
    let mut doubtful = 0;
    for t in &mut rows.time {
        let wall = clock.from_wall(*t);
        doubtful += u64::from(wall.is_doubtful());
        *t = wall.settle();
    }
    rows.sort();
    doubtful
}

#[cfg(test)]
mod tests;
