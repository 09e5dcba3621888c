//! A finding: what is wrong, where, and what is particular about it.

use super::FindingKind;
use crate::model::{Clock, Micros, SeriesName, Span};

/// One thing found. Times are those of the series: UTC, or as written while afloat.
#[derive(Debug, Clone, PartialEq)]
pub struct Finding {
    /// What is wrong.
    pub kind: FindingKind,
    /// From the first row concerned to after the last.
    pub span: Span,
    /// Rows it concerns.
    pub rows: u64,
    /// What is particular about this one.
    pub detail: FindingDetail,
    /// What its mend needs to know, where it cannot be seen from the rows.
    pub remedy: Option<Remedy>,
}

/// What is particular about a finding. Prices and spreads are in points.
#[derive(Debug, Clone, PartialEq)]
pub enum FindingDetail {
    /// Nothing but how many rows it concerns.
    Rows,
    /// Of the rows of closed hours, so many with trade; the others are flat and without volume.
    ClosedRows {
        /// Rows with trade.
        with_trade: u64,
    },
    /// Rows that stood out of order in their file.
    CameLate {
        /// The file.
        file: String,
        /// A line near them.
        line: u64,
    },
    /// Open time without rows.
    Open(Micros),
    /// A session that begins and ends later than the sheet says; earlier where below 0.
    SessionLate(Micros),
    /// Rows written later than those of another series; earlier where below 0.
    LaterThan {
        /// How much later.
        by: Micros,
        /// The other series.
        other: SeriesName,
    },
    /// The same rows as this much earlier.
    SameAsBefore(Micros),
    /// A price far from its neighbours, and back.
    Away {
        /// How far.
        points: i64,
        /// Decimals of the price.
        decimals: u8,
    },
    /// Prices are this many times those before, a power of ten.
    Scaled(i32),
    /// Prices are this many times those before, as at a change of contract.
    Level(f64),
    /// One price for longer than is usual.
    Still {
        /// How long.
        length: Micros,
        /// The longest that is usual here.
        usual: Micros,
        /// True where a row of it has volume or a range.
        with_trade: bool,
    },
    /// A spread far wider than usual.
    Wide {
        /// The widest.
        spread: i64,
        /// The median of all rows.
        usual: i64,
    },
    /// Bars of two series farther apart than the tolerance, at most this far.
    Apart(i64),
    /// Daily bars of a Saturday or Sunday that are hardly any.
    TinyDays {
        /// How many.
        days: usize,
    },
    /// Saturdays and Sundays of a few hours, which would be daily bars of their own.
    ShortDays {
        /// How many.
        days: usize,
        /// The mean open time with rows.
        mean: Micros,
        /// The clock that the days are counted on.
        clock: Clock,
    },
}

/// How a finding is set right.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Remedy {
    /// The rows belong this much later.
    Move(Micros),
    /// Prices are to be multiplied by this power of ten.
    Rescale(i32),
    /// The rows are those of this much earlier.
    Again(Micros),
}
