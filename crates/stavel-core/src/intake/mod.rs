//! Intake: files of vendors and brokers become series.
//!
//! [`plan`] looks at files and says what it understood; [`take`] reads them. A plan is a value that
//! can be shown, corrected and thrown away; nothing is written before [`take`].

mod bring;
mod layout;
mod merge;
mod moment;
mod parse;
mod plan;
mod rejects;
mod sniff;
mod take;

pub use bring::{Member, members_of};
pub use layout::{DateOrder, Layout, Use};
pub use plan::{Plan, Preview, plan};
pub use sniff::sniff;
pub use take::take;

use serde::{Deserialize, Serialize};

use crate::model::{Clock, Frame, Side};

/// Which end of a bar its time names in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Stamp {
    #[default]
    Open,
    Close,
}

/// What was said about files beforehand; whatever is not said is found in them.
#[derive(Debug, Clone, Default)]
pub struct Hints {
    pub source: String,
    pub instrument: Option<String>,
    /// None: found in the file, else the series' own, else afloat.
    pub clock: Option<ClockHint>,
    pub frame: Option<Frame>,
    pub side: Option<Side>,
    pub decimals: Option<u8>,
    pub dates: Option<DateOrder>,
    pub stamp: Stamp,
    /// Replace the span the new rows cover instead of adding to it.
    pub replace: bool,
}

/// A clock as asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ClockHint {
    /// Keep times as written; align finds the clock.
    Afloat,
    Known(Clock),
}

/// What one intake did to one series. Counts: read = kept + rejected + already there.
#[derive(Debug, Clone, Serialize, Deserialize, PartialEq)]
pub struct Taken {
    pub series: String,
    pub edition: i64,
    pub rows_read: u64,
    pub rows_kept: u64,
    pub rows_rejected: u64,
    pub rows_already_there: u64,
    /// RFC 3339; as written (but marked UTC) while afloat.
    pub first: String,
    pub last: String,
    /// A clock, or `afloat`.
    pub clock: String,
    /// The layout in words.
    pub layout: String,
    /// The file of rejected rows, where there are any.
    pub rejects: Option<String>,
}

#[cfg(test)]
mod tests;
