//! The prices of contracts brought to one level.

use crate::compose::level_change::LevelChange;
use crate::model::chain::{Roll, RollAdjust};

/// The level of each part of a chain, one more than there are rolls: the last part keeps its prices, or the first where the
/// chain goes forward. None where a roll has no gap, or no ratio, to be measured.
pub(super) fn levels(rolls: &[Roll], adjust: RollAdjust, forward: bool) -> Option<Vec<LevelChange>> {
    let parts = rolls.len() + 1;
    // What the part before each roll is moved by to lie at the level of the part after it.
    let steps: Vec<LevelChange> = match adjust {
        RollAdjust::None => return Some(vec![LevelChange::Plus(0); parts]),
        RollAdjust::Difference => {
            rolls.iter().map(|r| r.gap().map(LevelChange::Plus)).collect::<Option<_>>()?
        }
        RollAdjust::Ratio => {
            rolls.iter().map(|r| r.ratio().map(LevelChange::Times)).collect::<Option<_>>()?
        }
    };
    let unchanged = if adjust == RollAdjust::Ratio { LevelChange::Times(1.0) } else { LevelChange::Plus(0) };
    let of_part = |part: usize| match forward {
        false => steps[part..].iter().fold(unchanged, |level, step| level.and(*step)),
        true => steps[..part].iter().fold(unchanged, |level, step| level.and(step.back())),
    };
    Some((0..parts).map(of_part).collect())
}
