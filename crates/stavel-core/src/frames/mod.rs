//! Frames: bars of a longer frame out of bars or ticks.
//!
//! A [`Builder`] reads rows piece by piece in order of time and gives bars. Where bars begin is told
//! by [`Grid`], from the session day and its clock.

mod builder;
mod compare;
mod cut;
mod fill;
mod grid;
mod on_shelf;
mod open_bar;
mod part;
pub mod rebuild;
mod rows;
mod runs;
mod settle;
mod stretch;
mod tail;

pub use builder::{Builder, Built};
pub use compare::{Difference, DifferenceKind, FrameComparison, compare_frame, own_long_frames};
pub use grid::{Grid, GridBar, can_build};
pub use on_shelf::{BuiltSeries, FrameSettings, build_bars, build_rows, build_series};

#[cfg(test)]
mod details_tests;
#[cfg(test)]
mod oracle;
#[cfg(test)]
mod runs_tests;
#[cfg(test)]
mod tests;
