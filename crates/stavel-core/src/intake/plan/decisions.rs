//! What was decided about files, told with how it is known.

use super::seen::Seen;
use crate::intake::Hints;
use crate::model::Stamp;
use crate::model::columns::shape_of;
use crate::model::layout::Use;
use crate::model::{Clock, Decision, Field, SeriesName, Shape, Standing};

/// The decision which clock the times are written in; no clock means afloat. `from` says who decided it.
pub fn of_clock(clock: Option<&Clock>, from: ClockFrom) -> Decision {
    let value = clock.map_or("afloat".to_owned(), Clock::to_string);
    Decision::new("clock", value, from.standing(), from.in_words())
}

/// Where the clock of a file comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ClockFrom {
    /// A person says it.
    Said,
    /// The file says it, in a name or in its times.
    File,
    /// The layout says it.
    Layout,
    /// The file is silent; the rows that are there have a clock, or are afloat.
    Series,
    /// The file is silent and nothing is there: the times are kept as written.
    Nothing,
}

impl ClockFrom {
    /// How the clock is known. That a clock is not known is no assumption.
    fn standing(self) -> Standing {
        match self {
            ClockFrom::Said | ClockFrom::File | ClockFrom::Layout => Standing::Said,
            ClockFrom::Series => Standing::Assumed,
            ClockFrom::Nothing => Standing::Found,
        }
    }

    /// The reason in words.
    pub fn in_words(self) -> &'static str {
        match self {
            ClockFrom::Said => "as said",
            ClockFrom::File => "the file says so",
            ClockFrom::Layout => "the layout says so",
            ClockFrom::Series => "as the series has it",
            ClockFrom::Nothing => "the file names no zone",
        }
    }
}

/// The frame of the rows.
pub fn of_frame(series: &SeriesName, seen: &Seen, hints: &Hints) -> Decision {
    let (standing, why) = if hints.frame.is_some() {
        (Standing::Said, "as said")
    } else if seen.named.frame.is_some() {
        (Standing::Said, "the file's name says so")
    } else if series.frame.is_bars() {
        (Standing::Found, "the grid that the times stand on")
    } else {
        (Standing::Found, "the columns are those of single ticks")
    };
    Decision::new("frame", series.frame.to_string(), standing, why)
}

/// The decimals of the prices.
pub fn of_decimals(decimals: u8, hints: &Hints) -> Decision {
    let (standing, why) = match hints.decimals {
        Some(_) => (Standing::Said, "as said"),
        None => (Standing::Found, "the most that prices are written with"),
    };
    Decision::new("decimals", decimals.to_string(), standing, why)
}

/// What the spreads of a file are written in; nothing to decide where it has none.
pub fn of_spreads(seen: &Seen) -> Option<Decision> {
    seen.layout.place_of(&Use::Field(Field::Spread))?;
    let (standing, why) = match seen.layout.name {
        Some(_) => (Standing::Said, "the layout says so"),
        None => (Standing::Found, "by how the numbers are written"),
    };
    Some(Decision::new("spreads", seen.layout.spreads.word(), standing, why))
}

/// The side of the market that bars follow; nothing to decide where the rows are ticks.
pub fn of_side(series: &SeriesName, seen: &Seen, hints: &Hints) -> Option<Decision> {
    if shape_of(&seen.layout.fields()) != Shape::Bars {
        return None;
    }
    let (standing, why) = match (hints.side, seen.side) {
        (Some(_), _) => (Standing::Said, "as said"),
        (None, Some(_)) => (Standing::Said, "the file names it"),
        (None, None) => (Standing::Assumed, "nothing says which side the bars follow"),
    };
    let side = hints.side.or(seen.side).unwrap_or(series.side);
    Some(Decision::new("side", side.word(), standing, why))
}

/// Which end of a bar its time names; nothing to decide where the rows are ticks.
pub fn of_stamp(series: &SeriesName, found: Option<&(Stamp, String)>, hints: &Hints) -> Option<Decision> {
    if !series.frame.is_bars() {
        return None;
    }
    let (standing, why) = match (hints.stamp, found) {
        (Some(_), _) => (Standing::Said, "as said"),
        (None, None) => (Standing::Assumed, "nothing tells which end of a bar its time names"),
        (None, Some((_, why))) => (Standing::Found, why.as_str()),
    };
    let stamp = found.map_or(Stamp::default(), |f| f.0);
    Some(Decision::new("stamp", stamp.word(), standing, why))
}
