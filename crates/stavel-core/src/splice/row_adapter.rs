//! Rows of one source brought into the form of the result.

use super::Level;
use super::level_gap::{LevelGap, set_level};
use crate::model::columns::FILLED;
use crate::model::{Columns, Field, Micros, Scale};

/// What is done to each row of a source on its way into a splice.
#[derive(Clone)]
pub struct RowAdapter {
    /// Decimals of the result.
    pub scale: Scale,
    /// Its place among the sources, from 1 on: the origin of its rows.
    pub origin: i64,
    /// What its rows cover, where the result has layers.
    pub covers: Micros,
    /// How prices are moved, and by what; none where they stay.
    pub level: Option<(Level, LevelGap)>,
}

impl RowAdapter {
    /// Only its origin, at one scale.
    pub fn plain(place: usize, scale: Scale) -> RowAdapter {
        RowAdapter { scale, origin: place as i64 + 1, covers: 0, level: None }
    }

    /// Gives rows their form; they have the fields of the result already.
    pub fn adapt(&self, rows: Columns) -> Columns {
        let mut rows = rows.rescaled(self.scale);
        // First, since the level of a row depends on whether it is a bar or a tick.
        rows.column_mut(Field::Covers).into_iter().flatten().for_each(|c| *c = self.covers);
        if let Some((level, gap)) = &self.level {
            set_level(&mut rows, gap, *level);
        }
        // What was made up or estimated stays known as that.
        for origin in rows.column_mut(Field::Origin).into_iter().flatten() {
            *origin = *origin - *origin % FILLED + self.origin;
        }
        rows
    }
}
