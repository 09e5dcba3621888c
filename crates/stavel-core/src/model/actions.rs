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
