//! What is played: a quote, and what lies between the open and the close of a bar.

use crate::model::Micros;

/// What could be traded at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TradeQuote {
    /// When it stands.
    pub time: Micros,
    /// In points.
    pub bid: i64,
    /// In points.
    pub ask: i64,
}

/// A bar's way between its open and its close.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BarReach {
    /// When the bar began.
    pub from: Micros,
    /// Lowest bid in points.
    pub low: i64,
    /// Highest bid in points.
    pub high: i64,
    /// Lowest ask in points.
    pub ask_low: i64,
    /// Highest ask in points.
    pub ask_high: i64,
}
