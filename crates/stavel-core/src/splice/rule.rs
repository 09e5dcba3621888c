//! Who owns which time, and what is done about levels.

use crate::model::{Micros, SessionWeek};
use crate::{Error, Result};

/// Who owns which time. Sources are given in order of precedence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SpliceRule {
    /// The first owns all from its first to its last row; the next only what lies outside.
    Span,
    /// The same, and the next also fills open time in which those before it have no row.
    Holes,
    /// The first owns what is at or after the moment, the others what is before.
    Cut(Micros),
    /// The first owns these hours of the week, the next all others; each fills what the other lacks outside
    /// its span.
    Hours(SessionWeek),
    /// Each month belongs to the source that is the cleaner in it.
    Grade,
}

crate::model::as_text!(SpliceRule, Level);

impl std::fmt::Display for SpliceRule {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            SpliceRule::Span => f.write_str("span"),
            SpliceRule::Holes => f.write_str("holes"),
            SpliceRule::Cut(at) => write!(f, "cut={}", crate::model::time::rfc3339(*at)),
            SpliceRule::Hours(week) => write!(f, "hours={week}"),
            SpliceRule::Grade => f.write_str("grade"),
        }
    }
}

impl std::str::FromStr for SpliceRule {
    type Err = Error;
    fn from_str(text: &str) -> Result<SpliceRule> {
        match text.split_once('=') {
            None if text == "span" => Ok(SpliceRule::Span),
            None if text == "holes" => Ok(SpliceRule::Holes),
            None if text == "grade" => Ok(SpliceRule::Grade),
            Some(("cut", at)) => crate::model::time::parse(at).map(SpliceRule::Cut),
            Some(("hours", week)) => week.parse().map(SpliceRule::Hours),
            _ => Err(Error::arguments(format!(
                "'{text}' is not a rule; write span, holes, grade, cut=2023-06-01 or 'hours=mon-fri 08:00-17:00 Europe/Oslo'."
            ))),
        }
    }
}

/// What is done where sources lie at different levels.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Level {
    /// Prices stay as they are.
    #[default]
    None,
    /// The median difference on the overlap is added to every later source.
    Shift,
    /// Every later source is multiplied by the median ratio on the overlap.
    Ratio,
}

impl std::fmt::Display for Level {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Level::None => "none",
            Level::Shift => "shift",
            Level::Ratio => "ratio",
        })
    }
}

impl std::str::FromStr for Level {
    type Err = Error;
    fn from_str(text: &str) -> Result<Level> {
        match text {
            "none" => Ok(Level::None),
            "shift" => Ok(Level::Shift),
            "ratio" => Ok(Level::Ratio),
            _ => Err(Error::arguments(format!("'{text}' is not a level; write none, shift or ratio."))),
        }
    }
}
