//! Intake: files of vendors and brokers become series.
//!
//! [`plan`] looks at files and says what it understood; [`take`] reads them. A plan is a value that
//! can be shown, corrected and thrown away; nothing is written before [`take`].

mod blocks;
mod bring;
mod cells;
mod decisions;
mod facts;
mod grid;
mod later;
mod layout;
mod ledger;
mod moment;
mod naming;
mod numbers;
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
#[cfg(any(test, fuzzing))]
pub mod trials;
mod weave;
mod writing;

pub use bring::{Member, is_table_name, members_of};
pub use decisions::ClockFrom;
pub use facts::{FactsPlan, FactsTaken, take_facts};
pub use later::known_stamp;
pub use layout::{DateOrder, Delimiter, Layout, Since1970, Use};
pub use plan::{Plan, Planned, Preview, plan};
pub use preview::{PreviewLine, Understood, preview};
pub use read::read_back;
pub use rejects::{Rejected, read as read_rejects};
pub use scan::Scanned;
pub use take::take;
pub use writing::{Marks, Precision};

use serde::{Deserialize, Serialize};

use crate::model::{Clock, Frame, Side, Unit};

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
            Stamp::Close if frame.is_bars() && !is_of_calendar(frame) => frame.length(),
            _ => 0,
        }
    }

    /// A written time as that of the bar's open where the calendar says where that is: the first of the month,
    /// the Monday of the week, in which the bar's last moment lies. Other times are left as they are.
    pub fn calendar_open(self, frame: Frame, written: crate::model::Micros) -> crate::model::Micros {
        use crate::model::time::{DAY, civil_from_days, day_of, days_from_civil, monday_of};
        let Frame::Bars { unit, .. } = frame else { return written };
        let last = day_of(written - 1);
        match (self, unit) {
            (Stamp::Close, Unit::Month) => {
                let (year, month, _) = civil_from_days(last);
                days_from_civil(year, month, 1) * DAY
            }
            (Stamp::Close, Unit::Week) => monday_of(last) * DAY,
            _ => written,
        }
    }
}

/// True for bars whose length is told by the calendar.
fn is_of_calendar(frame: Frame) -> bool {
    matches!(frame, Frame::Bars { unit: Unit::Week | Unit::Month, .. })
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
    pub files: usize,
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
