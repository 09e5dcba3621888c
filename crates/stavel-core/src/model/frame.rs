//! Frames: how rows of a series divide time.

use std::fmt;
use std::str::FromStr;

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

/// Ticks, rows of the order book, or bars of a number of minutes, hours, days, weeks or months.
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

    /// The usual length of a bar in microseconds (30 days for a month); 0 for ticks and depth.
    pub fn length(&self) -> Micros {
        match *self {
            Frame::Ticks | Frame::Depth => 0,
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
        matches!(self, Frame::Bars { .. })
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
        }
    }
}

impl FromStr for Frame {
    type Err = Error;

    fn from_str(text: &str) -> Result<Frame> {
        let bad = || {
            Error::arguments(format!(
                "'{text}' is not a frame; write ticks, depth, or a number with m, h, d, w or mo as in 4h."
            ))
        };
        if text == "ticks" {
            return Ok(Frame::Ticks);
        }
        if text == "depth" {
            return Ok(Frame::Depth);
        }
        let digits = text.find(|c: char| !c.is_ascii_digit()).ok_or_else(bad)?;
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
        for text in ["ticks", "1m", "90m", "9h", "1d", "2w", "3mo"] {
            assert_eq!(text.parse::<Frame>().unwrap().to_string(), text);
        }
        for bad in ["", "m", "0m", "1x", "m1", "70000m", "-1h", "1M", "1 h"] {
            assert!(bad.parse::<Frame>().is_err(), "{bad}");
        }
        assert_eq!(Frame::of_length(90 * MINUTE).unwrap().to_string(), "90m");
        assert_eq!(Frame::of_length(4 * HOUR).unwrap().to_string(), "4h");
        assert_eq!(Frame::of_length(61_000_000), None);
    }
}
