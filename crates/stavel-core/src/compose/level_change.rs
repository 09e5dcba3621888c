//! Prices brought to another level.

use crate::model::price::LIMIT;
use crate::model::{ABSENT, Columns, Field, Shape, present};

/// What is done to the prices of some rows.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LevelChange {
    /// They are multiplied.
    Times(f64),
    /// Points are added.
    Plus(i64),
}

impl LevelChange {
    /// Both, one after the other.
    pub fn and(self, other: LevelChange) -> LevelChange {
        match (self, other) {
            (LevelChange::Plus(a), LevelChange::Plus(b)) => LevelChange::Plus(a.saturating_add(b)),
            (LevelChange::Times(a), LevelChange::Times(b)) => LevelChange::Times(a * b),
            (level, _) => level,
        }
    }

    /// What undoes it.
    pub fn back(self) -> LevelChange {
        match self {
            LevelChange::Plus(points) => LevelChange::Plus(-points),
            LevelChange::Times(factor) => LevelChange::Times(1.0 / factor),
        }
    }

    fn changes(self) -> bool {
        !matches!(self, LevelChange::Plus(0)) && self != LevelChange::Times(1.0)
    }

    /// A price, to the nearest point, halves away from 0; none where no column holds it.
    pub fn price(self, price: i64) -> Option<i64> {
        let moved = match self {
            LevelChange::Plus(points) => price.checked_add(points)?,
            LevelChange::Times(factor) => {
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
        if rows.shape() == Shape::Bars && matches!(self, LevelChange::Times(_)) {
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
