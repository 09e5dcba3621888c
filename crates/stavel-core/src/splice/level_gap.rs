//! How far one source lies above another, and bringing it to the level of the first.

use super::Level;
use crate::model::{Columns, present};

/// How far the second source lies above the first where both have rows.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct LevelGap {
    /// Median difference of closes, in points.
    pub median: i64,
    /// First less second as a factor for the second: median of first over second.
    pub ratio: f64,
    /// Median difference by year and month.
    pub months: Vec<((i64, i64), i64)>,
    /// What the difference looks like beside the spread.
    pub side: Option<SideGuess>,
}

/// Which sides of the market two sources follow, by the level between them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SideGuess {
    /// The second lies half a spread above the first.
    MidAboveBid,
    /// The second lies half a spread below the first.
    BidBelowMid,
    /// The second lies a whole spread above the first.
    AskAboveBid,
    /// The second lies a whole spread below the first.
    BidBelowAsk,
}

impl SideGuess {
    /// The two sources by their names in words.
    pub fn in_words(self, first: &str, second: &str) -> String {
        match self {
            SideGuess::MidAboveBid => format!("{second} lies half a spread above {first}: mid against bid"),
            SideGuess::BidBelowMid => format!("{second} lies half a spread below {first}: bid against mid"),
            SideGuess::AskAboveBid => format!("{second} lies a spread above {first}: ask against bid"),
            SideGuess::BidBelowAsk => format!("{second} lies a spread below {first}: bid against ask"),
        }
    }
}

/// Brings rows of a later source to the level of the first.
pub fn set_level(rows: &mut Columns, gap: &LevelGap, level: Level) {
    for (field, column) in rows.fields.iter().zip(&mut rows.data) {
        if !field.is_price() {
            continue;
        }
        for v in column.iter_mut().filter(|v| present(**v).is_some()) {
            match level {
                Level::None => {}
                Level::Shift => *v -= gap.median,
                Level::Ratio => *v = (*v as f64 * gap.ratio).round() as i64,
            }
        }
    }
}
