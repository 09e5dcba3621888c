//! Stress variants: rows of a history made worse, or made up, by chance.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::time::{Micros, length_in_words};
use crate::{Error, Result};

/// What is done to the rows of a stress variant, in this order: stretches of it are drawn anew, it is mirrored, prices are
/// disturbed, minutes go missing, and it comes later. The same seed and rows give the same rows.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Stress {
    /// Where its chances begin.
    pub seed: u64,
    /// Stretches of it stand in each other's places.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shuffle: Option<Stretches>,
    /// Prices are turned over about the first one: what rose falls.
    #[serde(skip_serializing_if = "is_false")]
    pub mirror: bool,
    /// Points of standard deviation that are added to prices.
    #[serde(skip_serializing_if = "is_zero")]
    pub noise: i64,
    /// Up to so many points that the bid is lower and the ask higher; where only one price is known, it is moved either way.
    #[serde(skip_serializing_if = "is_zero")]
    pub slippage: i64,
    /// The share of minutes whose rows go missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub missing: Option<Share>,
    /// Added to every time: prices are seen later.
    #[serde(skip_serializing_if = "is_zero")]
    pub delay: Micros,
}

fn is_zero(value: &i64) -> bool {
    *value == 0
}

fn is_false(value: &bool) -> bool {
    !*value
}

impl Stress {
    /// What is done, in a few words each.
    pub fn in_words(&self) -> Vec<String> {
        let mut out = Vec::new();
        out.extend(self.shuffle.map(|of| format!("{of} in each other's places")));
        if self.mirror {
            out.push("prices mirrored".into());
        }
        if self.noise > 0 {
            out.push(format!("noise of {} points", self.noise));
        }
        if self.slippage > 0 {
            out.push(format!("up to {} points of slippage", self.slippage));
        }
        out.extend(self.missing.map(|share| format!("{share} of minutes missing")));
        if self.delay != 0 {
            out.push(format!("{} later", length_in_words(self.delay)));
        }
        out.push(format!("seed {}", self.seed));
        out
    }
}

/// Stretches of a history that stand in each other's places.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Stretches {
    /// Session days, each in the place of one of the same weekday.
    Days,
    /// Weeks from Monday's session day on.
    Weeks,
}

/// A share from 0 to 1, to a millionth; written `1%` or `0.01`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Share {
    millionths: u32,
}

impl Share {
    /// Millionths of the whole.
    pub fn millionths(self) -> u32 {
        self.millionths
    }
}

impl FromStr for Share {
    type Err = Error;
    fn from_str(text: &str) -> Result<Share> {
        let (number, parts) = match text.trim().strip_suffix('%') {
            Some(number) => (number, 100.0),
            None => (text.trim(), 1.0),
        };
        let share = number.trim().parse::<f64>().ok().map(|n| n / parts);
        match share {
            Some(share) if share > 0.0 && share < 1.0 => {
                Ok(Share { millionths: (share * 1e6).round() as u32 })
            }
            _ => Err(Error::arguments(format!(
                "'{text}' is not a share between 0 and 1; write it as 1% or 0.01."
            ))),
        }
    }
}

impl fmt::Display for Share {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}%", f64::from(self.millionths) / 1e4)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_share_is_read_as_it_is_written() {
        for (text, millionths) in [("1%", 10_000), ("0.01", 10_000), ("0.25 %", 2_500), ("99.9%", 999_000)] {
            assert_eq!(text.parse::<Share>().unwrap().millionths(), millionths, "{text}");
        }
        assert_eq!("0.015".parse::<Share>().unwrap().to_string(), "1.5%");
        for bad in ["0", "100%", "1", "-1%", "x", "nan", ""] {
            assert!(bad.parse::<Share>().is_err(), "{bad}");
        }
    }

    #[test]
    fn what_is_done_is_told() {
        let stress = Stress { noise: 3, mirror: true, shuffle: Some(Stretches::Days), ..Stress::default() };
        assert_eq!(
            stress.in_words().join("; "),
            "days in each other's places; prices mirrored; noise of 3 points; seed 0"
        );
    }
}
