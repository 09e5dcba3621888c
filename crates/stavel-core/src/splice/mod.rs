//! Splice: several sources of one instrument merged into one history.
//!
//! A [`SpliceRule`] gives each [`Source`] the spans of time it may serve (its *claims*). A [`SplicePlan`] reads the sources
//! side by side and lets their rows through in order, block by block; nothing is held but the blocks at hand.

mod ask;
mod claims;
mod join;
mod level;
mod level_gap;
mod on_shelf;
mod plan;
mod refresh;
mod row_adapter;
mod rule;
mod seams;
mod source;
mod survey;

pub use ask::{SpliceWishes, ask_of};
pub use claims::{MonthGrades, claims};
pub use join::{Join, JoinedRows};
pub use level::measure;
pub use level_gap::{LevelGap, SideGuess, set_level};
pub use on_shelf::{Prepared, SplicedSeries, prepare, splice_series};
pub use plan::{CutTrial, JoinSettings, SplicePlan};
pub use row_adapter::RowAdapter;
pub use rule::{Level, SpliceRule};
pub use seams::JudgedSeam;
pub use source::Source;
pub use survey::Survey;

use crate::model::Micros;

/// A run of rows from one source.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OwnedSpan {
    /// From its first row to its last.
    pub from: Micros,
    /// The time of its last row.
    pub to: Micros,
    /// Place in the list of sources.
    pub source: usize,
    /// How many rows.
    pub rows: u64,
}

/// Where one source follows another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seam {
    /// Time of the first row after it.
    pub at: Micros,
    /// The source of the row before, by its place from 0.
    pub before: usize,
    /// The source of the row after, by its place from 0.
    pub after: usize,
    /// First price after less last price before, in points.
    pub step: i64,
}

/// How two sources agree where both have rows.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Overlap {
    /// Times that both have.
    pub rows: u64,
    /// Of those, with the same close.
    pub equal: u64,
    /// Close of the second less close of the first, in points.
    pub median_diff: i64,
    /// 95 of 100 differ by no more than this, in points.
    pub p95_diff: i64,
    /// Of the changes of the closes; 0 where it cannot be told.
    pub correlation: f64,
    /// Differences from -3 or less to 3 or more points.
    pub histogram: [u64; 7],
}

/// What is told of a joined history.
#[derive(Debug, Clone)]
pub struct Spliced {
    /// Rows of the joined history.
    pub rows: u64,
    /// Who serves which time, in order.
    pub pieces: Vec<OwnedSpan>,
    /// Where the source changes, in order.
    pub seams: Vec<Seam>,
    /// What is to be said of the first seams.
    pub judged: Vec<JudgedSeam>,
    /// The usual step from a close to the next open, in points (median of sizes).
    pub usual_step: i64,
    /// Points an hour of rows moves from close to close, in the mean.
    pub usual_hour: f64,
    /// Rows that were given a spread.
    pub carried: u64,
}
