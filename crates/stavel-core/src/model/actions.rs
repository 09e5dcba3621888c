//! Splits and dividends, and what they do to the prices before them.

use serde::{Deserialize, Serialize};

/// Which facts prices are adjusted for.
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
pub enum Actions {
    /// Splits alone.
    Splits,
    /// Splits and dividends.
    All,
}

/// True for the name of a column that tells splits: not for a ratio of something else, such as `pe_ratio`.
pub fn names_splits(column: &str) -> bool {
    let name = column.to_lowercase();
    let is_beside = ["date", "day", "type", "currency"].iter().any(|word| name.contains(word));
    name.contains("split") && !is_beside || name == "ratio" || name == "factor"
}

/// True for the name of a column that tells dividends as money for a share: not for a yield, a cover or a date of one.
pub fn names_dividends(column: &str) -> bool {
    const BESIDE: [&str; 10] =
        ["yield", "ratio", "cover", "growth", "date", "day", "type", "currency", "frequency", "rate"];
    let name = column.to_lowercase();
    name.contains("dividend") && !BESIDE.iter().any(|word| name.contains(word))
}

/// What a share did on a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::Display)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum ActionKind {
    /// One share became several, or several one.
    Split,
    /// Money was paid.
    Dividend,
}

/// A split or dividend with its factors.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Action {
    /// The first session day without it, in days since 1970-01-01.
    pub day: i64,
    /// What it was.
    pub kind: ActionKind,
    /// As the fact has it: `2:1`, `1.50`.
    pub said: String,
    /// Prices before that day are multiplied by it.
    pub price: f64,
    /// Volumes before that day are multiplied by it.
    pub volume: f64,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_splits_and_dividends_are_taken_for_them() {
        for name in ["split", "Split Ratio", "stock_splits", "ratio", "factor"] {
            assert!(names_splits(name), "{name}");
        }
        for name in ["dividend", "Dividends", "cash_dividend"] {
            assert!(names_dividends(name), "{name}");
        }
        for name in
            ["pe_ratio", "payout_ratio", "dividend_yield", "dividend_date", "dividend cover", "split_date"]
        {
            assert!(!names_splits(name) && !names_dividends(name), "{name}");
        }
    }
}
