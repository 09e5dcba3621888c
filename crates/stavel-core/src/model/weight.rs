//! How much an event moves a market.

use std::str::FromStr;

use crate::{Error, Result};

/// How much an event moves a market, as whoever announces it says.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    strum::Display,
    strum::IntoStaticStr,
    strum::VariantNames,
)]
#[strum(serialize_all = "lowercase")]
pub enum Weight {
    /// Hardly.
    Low = 1,
    /// Somewhat.
    Medium,
    /// Much.
    High,
}

impl Weight {
    /// Reads what calendars write: words, numbers from 1 to 3, or so many stars. None for anything else.
    pub fn read(text: &str) -> Option<Weight> {
        let text = text.trim().to_lowercase();
        let is_stars = !text.is_empty() && text.chars().all(|c| "*!★".contains(c));
        let number = if is_stars { text.chars().count() } else { text.parse().unwrap_or(0) };
        match (number, text.split_whitespace().next().unwrap_or_default()) {
            (1, _) | (0, "low" | "minor") => Some(Weight::Low),
            (2, _) | (0, "medium" | "moderate" | "mid") => Some(Weight::Medium),
            (3, _) | (0, "high" | "major") => Some(Weight::High),
            _ => None,
        }
    }

    /// Reads the priority of an iCalendar (RFC 5545, 3.8.1.9): 1 to 4 is high, 5 medium, 6 to 9 low, 0 says nothing.
    pub fn of_priority(priority: u32) -> Option<Weight> {
        match priority {
            1..=4 => Some(Weight::High),
            5 => Some(Weight::Medium),
            6..=9 => Some(Weight::Low),
            _ => None,
        }
    }
}

impl FromStr for Weight {
    type Err = Error;

    fn from_str(text: &str) -> Result<Weight> {
        Weight::read(text).ok_or_else(|| {
            Error::arguments(format!("'{text}' is not the weight of an event; write low, medium or high."))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weights_are_read_as_calendars_write_them() {
        for (text, weight) in [
            ("high", Some(Weight::High)),
            (" High impact ", Some(Weight::High)),
            ("**", Some(Weight::Medium)),
            ("1", Some(Weight::Low)),
            ("4", None),
            ("highest", None),
            ("", None),
        ] {
            assert_eq!(Weight::read(text), weight, "{text:?}");
        }
        assert_eq!(
            [0, 1, 5, 9, 10].map(Weight::of_priority),
            [None, Some(Weight::High), Some(Weight::Medium), Some(Weight::Low), None]
        );
        assert!(Weight::Low < Weight::High);
    }
}
