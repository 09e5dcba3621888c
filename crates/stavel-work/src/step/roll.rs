//! When a chain rolls, as it is said in a step.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use stavel_core::model::chain::RollAt;
use stavel_core::{Error, Result};

use super::wanted::as_text;

/// When a chain rolls; written `volume`, `oi`, `days=5` or `dates=FILE`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RollSetting {
    /// Once a later contract has more volume.
    Volume,
    /// Once more of a later contract are open.
    OpenInterest,
    /// So many trading days before expiry.
    Days(u32),
    /// On the dates of a file.
    Dates(PathBuf),
}

impl RollSetting {
    /// The file with its dates.
    pub fn file(&self) -> Option<&PathBuf> {
        match self {
            RollSetting::Dates(file) => Some(file),
            _ => None,
        }
    }

    /// The file with its dates, to be placed elsewhere.
    pub fn file_mut(&mut self) -> Option<&mut PathBuf> {
        match self {
            RollSetting::Dates(file) => Some(file),
            _ => None,
        }
    }
}

impl FromStr for RollSetting {
    type Err = Error;
    fn from_str(text: &str) -> Result<RollSetting> {
        let bad = || {
            Error::arguments(format!(
                "'{text}' is not a rule for rolls; write volume, oi, days=5 (trading days before expiry) or dates=FILE."
            ))
        };
        match text.split_once('=') {
            None if text == "volume" => Ok(RollSetting::Volume),
            None if text == "oi" => Ok(RollSetting::OpenInterest),
            Some(("days", days)) => {
                days.parse().ok().filter(|days| *days <= 250).map(RollSetting::Days).ok_or_else(bad)
            }
            Some(("dates", file)) if !file.is_empty() => Ok(RollSetting::Dates(file.into())),
            _ => Err(bad()),
        }
    }
}

impl fmt::Display for RollSetting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RollSetting::Volume => f.write_str("volume"),
            RollSetting::OpenInterest => f.write_str("oi"),
            RollSetting::Days(days) => write!(f, "days={days}"),
            RollSetting::Dates(file) => write!(f, "dates={}", file.display()),
        }
    }
}

/// The roll out of a contract put elsewhere; written `BLY-2024-03=2024-02-19`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RollMove {
    /// The instrument that is left.
    pub contract: String,
    /// When.
    pub at: RollAt,
}

impl FromStr for RollMove {
    type Err = Error;
    fn from_str(text: &str) -> Result<RollMove> {
        let (contract, at) = text.split_once('=').ok_or_else(|| {
            Error::arguments(format!(
                "'{text}' moves no roll; write CONTRACT=DATE as in BLY-2024-03=2024-02-19."
            ))
        })?;
        Ok(RollMove { contract: contract.trim().to_owned(), at: at.parse()? })
    }
}

impl fmt::Display for RollMove {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}={}", self.contract, self.at)
    }
}

as_text!(RollMove, RollSetting);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_are_read_as_written() {
        for text in ["volume", "oi", "days=5", "dates=rolls/bly.csv"] {
            assert_eq!(text.parse::<RollSetting>().unwrap().to_string(), text);
        }
        for bad in ["", "days", "days=x", "days=-1", "days=999", "dates=", "soon", "volume=3"] {
            assert!(bad.parse::<RollSetting>().is_err(), "{bad}");
        }
        let moved: RollMove = "BLY-2024-03=2024-02-19".parse().unwrap();
        assert_eq!(
            (moved.contract.as_str(), moved.to_string().as_str()),
            ("BLY-2024-03", "BLY-2024-03=2024-02-19")
        );
        assert!("BLY-2024-03".parse::<RollMove>().is_err() && "BLY=soon".parse::<RollMove>().is_err());
    }
}
