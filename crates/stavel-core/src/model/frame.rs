//! Frames: how rows of a series divide time.

use std::fmt;
use std::str::FromStr;

use super::columns::Field;
use super::time::{DAY, HOUR, MINUTE, Micros, WEEK};
use crate::{Error, Result};

/// Unit of a time frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Unit {
    /// Minutes.
    Minute,
    /// Hours.
    Hour,
    /// Session days.
    Day,
    /// Weeks of session days.
    Week,
    /// Calendar months of session days.
    Month,
}

/// What is counted until a bar that knows no time is whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum CountedBy {
    /// Ticks: a bar has so many.
    Ticks,
    /// Volume: a bar ends with the tick that brings it to so much or more.
    Volume,
    /// Tick sizes between high and low: a bar ends before the tick that would make it wider.
    Range,
}

impl CountedBy {
    fn letter(self) -> char {
        match self {
            CountedBy::Ticks => 't',
            CountedBy::Volume => 'v',
            CountedBy::Range => 'r',
        }
    }

    /// Whether ticks with these fields can be counted so.
    ///
    /// # Errors
    /// What they lack, in words.
    pub fn is_known_of(self, fields: &[Field]) -> std::result::Result<(), &'static str> {
        let has = |field: &Field| fields.contains(field);
        if has(&Field::Covers) {
            return Err("where bars stand in for ticks nothing can be counted");
        }
        if self == CountedBy::Volume && ![Field::Volume, Field::BidVolume, Field::AskVolume].iter().any(has) {
            return Err("its ticks have no volume");
        }
        Ok(())
    }
}

/// Ticks, rows of the order book, bars of a number of minutes, hours, days, weeks or months, or bars of a number of
/// ticks, of volume or of range.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Frame {
    /// Single quotes or trades.
    Ticks,
    /// Changes of the order book (level 2).
    Depth,
    // The unit stands first so that frames sort by their length.
    /// Bars of equal length.
    Bars {
        /// What is counted.
        unit: Unit,
        /// How many make one bar.
        count: u16,
    },
    /// Bars that end when something has been counted, whatever time it took; each session day begins a new one.
    Counted {
        /// What is counted.
        by: CountedBy,
        /// How much makes one bar: ticks, whole units of volume, or tick sizes.
        count: u32,
    },
}

impl Frame {
    /// One-minute bars.
    pub const M1: Frame = Frame::Bars { count: 1, unit: Unit::Minute };
    /// Daily bars.
    pub const D1: Frame = Frame::Bars { count: 1, unit: Unit::Day };
    /// The frames most people build, in order.
    pub const USUAL: [&'static str; 9] = ["1m", "5m", "15m", "30m", "1h", "4h", "1d", "1w", "1mo"];

    /// Frames a chart may use, from short to long.
    pub const CHARTED: [&'static str; 22] = [
        "1m", "2m", "3m", "5m", "10m", "15m", "30m", "1h", "2h", "3h", "4h", "6h", "8h", "12h", "1d", "2d",
        "3d", "1w", "2w", "3w", "1mo", "3mo",
    ];

    /// The usual length of a bar in microseconds (30 days for a month); 0 for ticks, depth and bars that are counted.
    pub fn length(&self) -> Micros {
        match *self {
            Frame::Ticks | Frame::Depth | Frame::Counted { .. } => 0,
            Frame::Bars { count, unit } => {
                count as Micros
                    * match unit {
                        Unit::Minute => MINUTE,
                        Unit::Hour => HOUR,
                        Unit::Day => DAY,
                        Unit::Week => WEEK,
                        Unit::Month => 30 * DAY,
                    }
            }
        }
    }

    /// The frame whose bars are `step` long, where there is one in minutes, hours, days or weeks.
    pub fn of_length(step: Micros) -> Option<Frame> {
        [(WEEK, Unit::Week), (DAY, Unit::Day), (HOUR, Unit::Hour), (MINUTE, Unit::Minute)]
            .into_iter()
            .find(|(len, _)| step > 0 && step % len == 0)
            .and_then(|(len, unit)| u16::try_from(step / len).ok().map(|count| Frame::Bars { count, unit }))
    }

    /// True for ticks.
    pub fn is_ticks(&self) -> bool {
        matches!(self, Frame::Ticks)
    }

    /// True for bars: one row for each time.
    pub fn is_bars(&self) -> bool {
        matches!(self, Frame::Bars { .. } | Frame::Counted { .. })
    }

    /// True for bars of ticks, volume or range.
    pub fn is_counted(&self) -> bool {
        matches!(self, Frame::Counted { .. })
    }

    /// True for bars of whole session days.
    pub fn is_of_days(&self) -> bool {
        matches!(self, Frame::Bars { unit: Unit::Day | Unit::Week | Unit::Month, .. })
    }
}

impl fmt::Display for Frame {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Frame::Ticks => f.write_str("ticks"),
            Frame::Depth => f.write_str("depth"),
            Frame::Bars { count, unit } => {
                let unit = match unit {
                    Unit::Minute => "m",
                    Unit::Hour => "h",
                    Unit::Day => "d",
                    Unit::Week => "w",
                    Unit::Month => "mo",
                };
                write!(f, "{count}{unit}")
            }
            Frame::Counted { by, count } => write!(f, "{count}{}", by.letter()),
        }
    }
}

impl FromStr for Frame {
    type Err = Error;

    fn from_str(text: &str) -> Result<Frame> {
        let bad = || {
            Error::arguments(format!(
                "'{text}' is not a frame; write ticks, depth, a number with m, h, d, w or mo as in 4h, or with t, v or r for bars of ticks, volume or range as in 500t."
            ))
        };
        if text == "ticks" {
            return Ok(Frame::Ticks);
        }
        if text == "depth" {
            return Ok(Frame::Depth);
        }
        let digits = text.find(|c: char| !c.is_ascii_digit()).ok_or_else(bad)?;
        let counted = [CountedBy::Ticks, CountedBy::Volume, CountedBy::Range];
        if let Some(by) = counted.into_iter().find(|by| text[digits..].chars().eq([by.letter()])) {
            let count: u32 = text[..digits].parse().ok().filter(|count| *count > 0).ok_or_else(bad)?;
            return Ok(Frame::Counted { by, count });
        }
        let count: u16 = text[..digits].parse().map_err(|_| bad())?;
        let unit = match &text[digits..] {
            "m" => Unit::Minute,
            "h" => Unit::Hour,
            "d" => Unit::Day,
            "w" => Unit::Week,
            "mo" => Unit::Month,
            _ => return Err(bad()),
        };
        if count == 0 { Err(bad()) } else { Ok(Frame::Bars { count, unit }) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_read_as_written() {
        for text in ["ticks", "1m", "90m", "9h", "1d", "2w", "3mo", "500t", "250000v", "25r"] {
            assert_eq!(text.parse::<Frame>().unwrap().to_string(), text);
        }
        for bad in ["", "m", "0m", "1x", "m1", "70000m", "-1h", "1M", "1 h", "0t", "r", "5rr", "1.5v"] {
            assert!(bad.parse::<Frame>().is_err(), "{bad}");
        }
        assert_eq!(Frame::of_length(90 * MINUTE).unwrap().to_string(), "90m");
        assert_eq!(Frame::of_length(4 * HOUR).unwrap().to_string(), "4h");
        assert_eq!(Frame::of_length(61_000_000), None);
    }
}
