//! Chains of futures contracts: when they roll, and how their prices are adjusted.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::time::{DAY, date, parse, rfc3339};
use super::{Micros, SeriesName};
use crate::{Error, Result};

/// When a chain goes from one contract to a later one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RollRule {
    /// On the session day after the first on which a later contract had more volume.
    Volume,
    /// On the session day after the first at whose end more of a later contract were open.
    OpenInterest,
    /// So many trading days before the day of expiry.
    Days(u32),
    /// On the dates that were said.
    Dates(Vec<RollDate>),
}

/// A roll on a date that was said.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RollDate {
    /// When.
    pub at: RollAt,
    /// The contract that it rolls out of; none for the one at hand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The contract that it rolls into; none for the next month.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// The line of the file it was said in.
    pub line: usize,
}

/// The moment of a roll.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RollAt {
    /// With the beginning of a session day, in days since 1970-01-01.
    Day(i64),
    /// At a moment in UTC.
    Time(Micros),
}

impl fmt::Display for RollAt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RollAt::Day(day) => f.write_str(&date(*day)),
            RollAt::Time(time) => f.write_str(&rfc3339(*time)),
        }
    }
}

impl FromStr for RollAt {
    type Err = Error;
    /// `2024-02-20` for a session day, `2024-02-20 13:00` for a moment in UTC.
    fn from_str(text: &str) -> Result<RollAt> {
        let time = parse(text)?;
        Ok(if text.trim().len() == 10 { RollAt::Day(time.div_euclid(DAY)) } else { RollAt::Time(time) })
    }
}

/// How prices of the contracts are brought to one level.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RollAdjust {
    /// Not at all: the price jumps at each roll.
    #[default]
    None,
    /// The gap of each roll is added.
    Difference,
    /// Prices are multiplied by the ratio of each roll.
    Ratio,
}

/// Why a chain rolled when it did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, strum::Display)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RollReason {
    /// By its rule.
    #[default]
    Rule,
    /// A person put it there.
    Moved,
    /// The contract had ended before its rule said anything.
    Ended,
}

/// A roll as it was done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Roll {
    /// The first moment of the later contract, in UTC.
    pub at: Micros,
    /// The session day of that moment, in days since 1970-01-01.
    pub day: i64,
    /// The instrument that is left.
    pub from: String,
    /// The instrument that follows.
    pub to: String,
    /// Why it is there.
    pub why: RollReason,
    /// The last moment before the roll at which both had a price, in UTC; none where there is none.
    pub measured: Option<Micros>,
    /// The prices of both at that moment, in points of the chain.
    pub prices: Option<(i64, i64)>,
}

impl Roll {
    /// How much higher the later contract was, in points.
    pub fn gap(&self) -> Option<i64> {
        self.prices.map(|(from, to)| to - from)
    }

    /// How many times as high the later contract was; none where a price is not above 0.
    pub fn ratio(&self) -> Option<f64> {
        self.prices.filter(|(from, to)| *from > 0 && *to > 0).map(|(from, to)| to as f64 / from as f64)
    }
}

/// A contract of a chain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChainedContract {
    /// Its rows.
    pub series: SeriesName,
    /// Its month, as `2024-03`.
    pub month: String,
    /// Its last session day, in days since 1970-01-01; none where nobody said it and it trades still.
    pub expiry: Option<i64>,
    /// True where the expiry was said; else it is the last day with rows.
    pub is_expiry_said: bool,
    /// First and last row.
    pub ends: (Micros, Micros),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_date_is_a_session_day_and_a_time_is_utc() {
        let at = |text: &str| text.parse::<RollAt>().unwrap();
        assert_eq!(at("2024-02-20"), RollAt::Day(19_773));
        assert_eq!(at("2024-02-20 13:00").to_string(), "2024-02-20T13:00:00Z");
        assert_eq!(at("2024-02-20").to_string(), "2024-02-20");
        assert!("20.02.2024".parse::<RollAt>().is_err());
        let roll = |prices| Roll {
            at: 0,
            day: 0,
            from: "A".into(),
            to: "B".into(),
            why: RollReason::Rule,
            measured: None,
            prices,
        };
        assert_eq!((roll(Some((-5, 10))).gap(), roll(Some((-5, 10))).ratio()), (Some(15), None));
        assert_eq!((roll(None).gap(), roll(Some((8, 10))).ratio()), (None, Some(1.25)));
    }
}
