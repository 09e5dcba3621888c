//! Align: the clock of a series that does not say it.
//!
//! [`correlate`] compares, week by week, the returns and ranges of the afloat series with those of an
//! anchored one at every offset from -14 h to +14 h. [`fit`] finds the simplest clock that explains the
//! weeks, or the clocks one after the other. [`Doubt`] says why a person should look before it is taken. A
//! [`Mover`] moves the rows to UTC.

mod alternatives;
mod anchoring;
mod by_weeks;
mod changes;
mod coarse;
mod correlate;
mod doubt;
mod evidence;
mod fit;
mod on_shelf;
mod partition;
mod rules;

pub use alternatives::Alternative;
pub use anchoring::Mover;
pub use by_weeks::{WeekGuess, WeekGuesses, guess_by_weeks};
pub use changes::Sides;
pub(crate) use coarse::gather;
pub use coarse::{correlate_finely, fine_step};
pub use correlate::{Offsets, WeekFit, correlate};
pub use doubt::Doubt;
pub use evidence::{Dailies, Evidence, WeekEdges, clock_in_words, longest_bars, week_edges};
pub use fit::{Fit, WeekVerdict, fit, fit_to};
pub use on_shelf::{AlignWishes, ClockStudy, WeekEnds, agreement, anchor_series, bars, study};

/// Below this confidence no clock is given.
pub const LEAST_CONFIDENCE: f64 = 0.6;

/// From this share on a clock is taken without asking.
pub const BEYOND_DOUBT: f64 = 0.97;
