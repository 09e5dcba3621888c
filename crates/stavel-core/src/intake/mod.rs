//! Intake: files of vendors and brokers become series.
//!
//! [`plan`] looks at files and says what it understood; [`take`] reads them. A plan is a value that
//! can be shown, corrected and thrown away; nothing is written before [`take`].

mod blocks;
mod bring;
mod cells;
mod facts;
mod grid;
mod later;
mod ledger;
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
mod sides;
mod sniff;
mod stamp;
mod take;
mod taker;
#[cfg(any(test, fuzzing))]
pub mod trials;
mod weave;

pub use bring::{Member, is_table_name, members_of};
pub use facts::{FactsPlan, FactsTaken, take_facts};
pub use later::known_stamp;
pub(crate) use parse::Parser;
pub use plan::{ClockFrom, IntakePlan, IntakePreview, Planned, plan};
pub use preview::{PreviewLine, Understood, preview};
pub use rejects::{Rejected, read as read_rejects};
pub use scan::Scanned;
pub use take::take;

use serde::{Deserialize, Serialize};

use crate::model::{Clock, DateOrder, Frame, Layout, Side, Stamp};

/// What was said about files beforehand; whatever is not said is found in them.
#[derive(Debug, Clone, Default)]
pub struct Hints {
    /// The vendor or broker the files came from.
    pub source: String,
    /// The instrument, instead of what names and columns say.
    pub instrument: Option<String>,
    /// None: found in the file, else the series' own, else afloat.
    pub clock: Option<ClockHint>,
    /// The frame, instead of what the times say.
    pub frame: Option<Frame>,
    /// The price of single prices and of bars.
    pub side: Option<Side>,
    /// Decimals of the prices, instead of those written.
    pub decimals: Option<u8>,
    /// The order of day, month and year.
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
    /// The times are written in this clock.
    Known(Clock),
}

/// What one intake did to one series. Counts: read = kept + rejected + already there.
#[derive(Debug, Clone, Serialize, Deserialize, PartialEq)]
pub struct Taken {
    /// The series, as it is written.
    pub series: String,
    /// The number of the new edition.
    pub edition: i64,
    /// Rows in the files.
    pub rows_read: u64,
    /// Rows that are new in the series.
    pub rows_kept: u64,
    /// Rows that could not be understood.
    pub rows_rejected: u64,
    /// Rows that were there already, equal in every value.
    pub rows_already_there: u64,
    /// Of the rejected: those whose time an older bar with other values has.
    pub rows_conflicting: u64,
    /// Old rows that gave way to new ones.
    pub rows_replaced: u64,
    /// RFC 3339; as written (but marked UTC) while afloat.
    pub first: String,
    /// The time of the last row, in RFC 3339.
    pub last: String,
    /// A clock, or `afloat`.
    pub clock: String,
    /// The layout in words.
    pub layout: String,
    /// Quotes left out at the beginning, before both sides of the market were known.
    #[serde(default)]
    pub rows_waited: u64,
    /// Prices whose last digits are the tail of a binary fraction, rounded to what they mean.
    #[serde(default)]
    pub tails: u64,
    /// Prices rounded to the decimals that were said.
    #[serde(default)]
    pub rounded: u64,
    /// Cells beside the prices that are no numbers that fit: their rows were taken without.
    #[serde(default)]
    pub cells_lost: u64,
    /// Rejected rows by reason.
    pub reasons: std::collections::BTreeMap<String, u64>,
    /// The file of rejected rows, where there are any.
    pub rejects: Option<String>,
    /// Files that were read.
    pub files: usize,
    /// How long it took.
    pub seconds: f64,
}

impl Taken {
    /// Adds what later files of the same series gave.
    fn add(&mut self, later: Taken) {
        self.rows_read += later.rows_read;
        self.rows_kept += later.rows_kept;
        self.rows_rejected += later.rows_rejected;
        self.rows_already_there += later.rows_already_there;
        self.rows_conflicting += later.rows_conflicting;
        self.rows_replaced += later.rows_replaced;
        self.rows_waited += later.rows_waited;
        self.tails += later.tails;
        self.rounded += later.rounded;
        self.cells_lost += later.cells_lost;
        for (reason, rows) in later.reasons {
            *self.reasons.entry(reason).or_default() += rows;
        }
        self.edition = later.edition;
        self.first = self.first.clone().min(later.first);
        self.last = self.last.clone().max(later.last);
        self.rejects = self.rejects.take().or(later.rejects);
        self.files += later.files;
        self.seconds += later.seconds;
    }
}
