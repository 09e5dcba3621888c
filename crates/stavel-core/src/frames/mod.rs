//! Frames: bars of a longer frame out of the bars or ticks of a shelf. How bars are built is in [`crate::bars`].

mod compare;
mod on_shelf;
pub mod rebuild;
mod tail;

pub use compare::{Difference, DifferenceKind, FrameComparison, compare_frame, own_long_frames};
pub use on_shelf::{BuiltSeries, FrameSettings, build_bars, build_rows, build_series};
