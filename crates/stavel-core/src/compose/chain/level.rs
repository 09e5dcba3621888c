//! The prices of contracts brought to one level.

use crate::model::chain::{Roll, RollAdjust};
use crate::model::price::LIMIT;
use crate::model::{ABSENT, Columns, Field, Shape, present};

/// What is done to the prices of a contract.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum PriceLevel {
    /// They are multiplied.
    Times(f64),
    /// Points are added.
    Plus(i64),
}

/// The level of each part of a chain, one more than there are rolls: the last part keeps its prices, or the first where the
/// chain goes forward. None where a roll has no gap, or no ratio, to be measured.
pub(super) fn levels(rolls: &[Roll], adjust: RollAdjust, forward: bool) -> Option<Vec<PriceLevel>> {
    let parts = rolls.len() + 1;
    // What the part before each roll is moved by to lie at the level of the part after it.
    let steps: Vec<PriceLevel> = match adjust {
        RollAdjust::None => return Some(vec![PriceLevel::Plus(0); parts]),
        RollAdjust::Difference => {
            rolls.iter().map(|r| r.gap().map(PriceLevel::Plus)).collect::<Option<_>>()?
        }
        RollAdjust::Ratio => rolls.iter().map(|r| r.ratio().map(PriceLevel::Times)).collect::<Option<_>>()?,
    };
    let unchanged = if adjust == RollAdjust::Ratio { PriceLevel::Times(1.0) } else { PriceLevel::Plus(0) };
    let of_part = |part: usize| match forward {
        false => steps[part..].iter().fold(unchanged, |level, step| level.and(*step)),
        true => steps[..part].iter().fold(unchanged, |level, step| level.and(step.back())),
    };
    Some((0..parts).map(of_part).collect())
}

impl PriceLevel {
    fn and(self, other: PriceLevel) -> PriceLevel {
        match (self, other) {
            (PriceLevel::Plus(a), PriceLevel::Plus(b)) => PriceLevel::Plus(a.saturating_add(b)),
            (PriceLevel::Times(a), PriceLevel::Times(b)) => PriceLevel::Times(a * b),
            (level, _) => level,
        }
    }

    fn back(self) -> PriceLevel {
        match self {
            PriceLevel::Plus(points) => PriceLevel::Plus(-points),
            PriceLevel::Times(factor) => PriceLevel::Times(1.0 / factor),
        }
    }

    fn changes(self) -> bool {
        !matches!(self, PriceLevel::Plus(0)) && self != PriceLevel::Times(1.0)
    }

    /// A price, to the nearest point, halves away from 0; none where no column holds it.
    pub fn price(self, price: i64) -> Option<i64> {
        let moved = match self {
            PriceLevel::Plus(points) => price.checked_add(points)?,
            PriceLevel::Times(factor) => {
                let exact = price as f64 * factor;
                // What the product of ratios lacks of a half in its last digits is no reason to round it down.
                (exact + exact.signum() * 1e-7).round() as i64
            }
        };
        Some(moved).filter(|p| p.abs() < LIMIT)
    }

    /// Changes the prices of rows and, of bars, the spreads that go with them. Gives how many rows have a price of 0 or less
    /// that was above 0.
    pub fn apply(self, rows: &mut Columns) -> u64 {
        if !self.changes() {
            return 0;
        }
        if rows.shape() == Shape::Bars && matches!(self, PriceLevel::Times(_)) {
            self.spreads(rows);
        }
        let mut is_below = vec![false; rows.len()];
        for (_, column) in rows.fields.iter().zip(&mut rows.data).filter(|(f, _)| f.is_price()) {
            for (value, is_below) in column.iter_mut().zip(&mut is_below) {
                let Some(price) = present(*value) else { continue };
                *value = self.price(price).unwrap_or(ABSENT);
                *is_below |= price > 0 && *value <= 0;
            }
        }
        is_below.iter().filter(|below| **below).count() as u64
    }

    /// A spread is the ask less the bid at the new level.
    fn spreads(self, rows: &mut Columns) {
        let closes = rows.column(Field::Close).to_vec();
        for (spread, close) in rows.column_mut(Field::Spread).into_iter().flatten().zip(closes) {
            let ends = present(*spread).zip(present(close)).and_then(|(spread, close)| {
                Some((self.price(close)?, self.price(close.checked_add(spread)?)?))
            });
            *spread = ends.map_or(ABSENT, |(bid, ask)| ask - bid);
        }
    }
}
