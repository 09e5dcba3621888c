//! Mends: what is to be set right, as it is typed, saved and applied to other series.

use std::path::Path;
use std::str::FromStr;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::FindingKind;
use crate::model::time::{self, rfc3339};
use crate::model::{Micros, Span};
use crate::{Error, Result};

/// Which of several rows at one time is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Keep {
    /// The row that stands first.
    First,
    /// The row that stands last.
    Last,
    /// The row whose close is the median of theirs (the lower of two).
    Median,
}

/// One mend. Written as its kind (`spike`), `conflicting_time=last`, `filler`,
/// `move=2023-11-12/2023-11-18=-1h` or `rescale=2023-11-12/2023-11-18=0.1`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub enum Mend {
    /// The findings of a kind, each in its way.
    Kind(FindingKind),
    /// Of rows at one time keep this one.
    Conflicts(Keep),
    /// Drop flat rows without volume in closed hours; rows with trade stay.
    Filler,
    /// All that cannot lose trade: filler in closed hours, where those are known, and bars equal in every
    /// value.
    Safe,
    /// Move the rows of a span later by a duration, or earlier.
    Move {
        /// The rows, by time.
        span: Span,
        /// How far, in microseconds; below 0 for earlier.
        by: Micros,
    },
    /// Multiply the prices and spreads of a span.
    Rescale {
        /// The rows, by time.
        span: Span,
        /// What prices and spreads are multiplied by.
        factor: Decimal,
    },
}

impl std::fmt::Display for Mend {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let span = |s: &Span| format!("{}/{}", rfc3339(s.from), rfc3339(s.to));
        match self {
            Mend::Kind(kind) => f.write_str(kind.word()),
            Mend::Conflicts(Keep::First) => f.write_str("conflicting_time=first"),
            Mend::Conflicts(Keep::Last) => f.write_str("conflicting_time=last"),
            Mend::Conflicts(Keep::Median) => f.write_str("conflicting_time=median"),
            Mend::Filler => f.write_str("filler"),
            Mend::Safe => f.write_str("safe"),
            Mend::Move { span: s, by } => write!(f, "move={}={}", span(s), time::length_as_typed(*by)),
            Mend::Rescale { span: s, factor } => write!(f, "rescale={}={factor}", span(s)),
        }
    }
}

impl FromStr for Mend {
    type Err = Error;

    fn from_str(text: &str) -> Result<Mend> {
        let bad = |what: &str| Error::arguments(format!("'{text}' is not a mend: {what}."));
        let Some((name, rest)) = text.split_once('=') else {
            if text == "filler" {
                return Ok(Mend::Filler);
            }
            if text == "safe" {
                return Ok(Mend::Safe);
            }
            let kind: FindingKind = text.parse()?;
            return kind
                .is_mendable()
                .then_some(Mend::Kind(kind))
                .ok_or_else(|| bad(&format!("there is no mend for {}", kind.word())));
        };
        match name {
            "conflicting_time" => match rest {
                "first" => Ok(Mend::Conflicts(Keep::First)),
                "last" => Ok(Mend::Conflicts(Keep::Last)),
                "median" => Ok(Mend::Conflicts(Keep::Median)),
                _ => Err(bad("of rows at one time keep first, last or median")),
            },
            "move" | "rescale" => {
                let spelled = || bad("write it as move=FROM/TO=-1h or rescale=FROM/TO=0.1");
                let (ends, by) = rest.split_once('=').ok_or_else(spelled)?;
                let (from, to) = ends.split_once('/').ok_or_else(spelled)?;
                let span = Span::new(time::parse(from)?, time::parse(to)?);
                if span.from >= span.to {
                    return Err(bad("its span is empty; the first end must be the earlier"));
                }
                if name == "move" {
                    let by = time::parse_length(by)?;
                    let allowed = by != 0 && by.abs() <= 7 * time::DAY;
                    return if allowed {
                        Ok(Mend::Move { span, by })
                    } else {
                        Err(bad("move by up to 7 days"))
                    };
                }
                let factor: Decimal = by.parse().map_err(|_| spelled())?;
                let allowed = factor > Decimal::ZERO && factor <= Decimal::from(1_000_000);
                if allowed {
                    Ok(Mend::Rescale { span, factor })
                } else {
                    Err(bad("the factor must be above 0 and at most 1000000"))
                }
            }
            _ => Err(bad("only conflicting_time, move and rescale take a value")),
        }
    }
}

impl From<Mend> for String {
    fn from(mend: Mend) -> String {
        mend.to_string()
    }
}

impl TryFrom<String> for Mend {
    type Error = Error;
    fn try_from(text: String) -> Result<Mend> {
        text.parse()
    }
}

/// A saved list of mends: a TOML file with `mend = ["spike", "conflicting_time=last"]`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MendList {
    /// The mends, in the order they are done.
    pub mend: Vec<Mend>,
}

impl MendList {
    /// Reads a list from a file.
    ///
    /// # Errors
    /// One sentence that names the file.
    pub fn read(path: &Path) -> Result<MendList> {
        let text = std::fs::read_to_string(path).map_err(|e| Error::io("Cannot read", path, &e))?;
        toml::from_str(&text).map_err(|e| {
            Error::input(format!(
                "{} is not a list of mends: {}.",
                path.display(),
                e.message().trim_end_matches('.')
            ))
        })
    }

    /// Writes the list to a file.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn write(&self, path: &Path) -> Result<()> {
        let text =
            toml::to_string(self).map_err(|e| Error::storage(format!("The list cannot be written: {e}.")))?;
        std::fs::write(path, text).map_err(|e| Error::io("Cannot write", path, &e))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mends_read_as_written_and_nonsense_is_told() {
        for text in [
            "spike",
            "filler",
            "safe",
            "conflicting_time=median",
            "move=2023-11-12T00:00:00Z/2023-11-18T00:00:00Z=-1h",
            "rescale=2023-11-12T00:00:00Z/2023-11-18T00:00:00Z=0.1",
        ] {
            assert_eq!(text.parse::<Mend>().unwrap().to_string(), text);
        }
        for bad in [
            "stub_day",
            "nothing",
            "spike=2",
            "conflicting_time=all",
            "move=2023-11-18/2023-11-12=1h",
            "move=2023-11-12=1h",
            "rescale=2023-11-12/2023-11-18=0",
        ] {
            let err = bad.parse::<Mend>().unwrap_err().to_string();
            assert!(err.contains("mend") && err.ends_with('.'), "{err}");
        }
    }
}
