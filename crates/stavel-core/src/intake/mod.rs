//! Intake: files of vendors and brokers become series.
//!
//! [`plan`] looks at files and says what it understood; [`take`] reads them. A plan is a value that
//! can be shown, corrected and thrown away; nothing is written before [`take`].

mod anchor;
mod blocks;
mod bring;
mod cells;
mod decisions;
mod facts;
mod layout;
mod moment;
mod naming;
mod parse;
mod plan;
mod preview;
mod quick;
mod read;
mod rejects;
mod row_pattern;
mod runs;
mod scan;
mod sniff;
mod stamp;
mod take;
mod weave;
mod writing;

pub use bring::{Member, is_table_name, members_of};
pub use decisions::ClockFrom;
pub use facts::{FactsPlan, FactsTaken, take_facts};
pub use layout::{DateOrder, Delimiter, Layout, Since1970, Use};
pub use plan::{Plan, Planned, Preview, plan};
pub use preview::{PreviewLine, Understood, preview};
pub use read::read_back;
pub use rejects::{Rejected, read as read_rejects};
pub use scan::Scanned;
pub use take::take;
pub use writing::{Marks, Precision};

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

impl Stamp {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Stamp::Open => "open",
            Stamp::Close => "close",
        }
    }

    /// How far a bar's time is moved back to be that of its open; 0 for what is no bar.
    pub fn back(self, frame: crate::model::Frame) -> crate::model::Micros {
        match self {
            Stamp::Close if frame.is_bars() => frame.length(),
            _ => 0,
        }
    }
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
    /// None: found in the file, else at the open.
    pub stamp: Option<Stamp>,
    /// How to read the files; none: found in each file.
    pub layout: Option<Layout>,
    /// A layout as it is found and as it was corrected: files that are found to have the first are read by
    /// the second.
    pub corrected: Option<(Layout, Layout)>,
    /// A pattern of file names with `{instrument}`, and perhaps `{frame}` and `{side}`, in it.
    pub names: Option<String>,
    /// Replace the span the new rows cover instead of adding to it.
    pub replace: bool,
    /// Of two bars at one time keep the new one.
    pub prefer_new: bool,
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
    /// Of the rejected: those whose time an older bar with other values has.
    pub rows_conflicting: u64,
    /// Old rows that gave way to new ones.
    pub rows_replaced: u64,
    /// RFC 3339; as written (but marked UTC) while afloat.
    pub first: String,
    pub last: String,
    /// A clock, or `afloat`.
    pub clock: String,
    /// The layout in words.
    pub layout: String,
    /// Rejected rows by reason.
    pub reasons: std::collections::BTreeMap<String, u64>,
    /// The file of rejected rows, where there are any.
    pub rejects: Option<String>,
    pub files: usize,
    pub seconds: f64,
}
