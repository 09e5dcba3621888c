//! Prices times a factor: for practice in which nobody is to know a history by its prices.

use serde::{Deserialize, Serialize};

use super::row_source::{Pieces, RowSource};
use crate::Result;
use crate::model::{ABSENT, Columns, Micros};

/// A factor as a fraction, so that it is exact.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct PriceFactor {
    /// Times this.
    pub times: i64,
    /// Divided by this; above zero.
    pub per: i64,
}

impl PriceFactor {
    /// A price or a distance of prices, rounded to a point.
    pub fn of(self, points: i64) -> i64 {
        let exact = i128::from(points) * i128::from(self.times) * 2 + i128::from(self.per);
        i64::try_from(exact.div_euclid(i128::from(self.per) * 2)).unwrap_or(points)
    }

    /// Rows with all prices and spreads times the factor; what is absent stays so, and what is above zero stays above it.
    pub fn rows(self, mut rows: Columns) -> Columns {
        for (field, column) in rows.fields.iter().zip(&mut rows.data) {
            if field.is_price() || field.is_spread() {
                for value in column.iter_mut().filter(|value| **value != ABSENT) {
                    let scaled = self.of(*value);
                    *value = if *value > 0 { scaled.max(1) } else { scaled };
                }
            }
        }
        rows
    }
}

/// Rows whose prices are rescaled.
pub struct Rescaled<S> {
    rows: S,
    factor: PriceFactor,
}

impl<S: RowSource> Rescaled<S> {
    /// The rows of another source with their prices times a factor.
    pub fn new(rows: S, factor: PriceFactor) -> Rescaled<S> {
        Rescaled { rows, factor }
    }
}

impl<S: RowSource> RowSource for Rescaled<S> {
    fn rows_from(&self, from: Micros) -> Result<Pieces> {
        let factor = self.factor;
        let pieces = self.rows.rows_from(from)?;
        Ok(Box::new(pieces.map(move |piece| piece.map(|rows| factor.rows(rows)))))
    }

    fn last_before(&self, before: Micros) -> Result<Option<Micros>> {
        self.rows.last_before(before)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Field, Scale};
    use crate::rehearse::HeldRows;

    #[test]
    fn prices_and_spreads_are_rescaled_and_nothing_else() {
        let rows = Columns {
            time: vec![10, 20],
            fields: vec![Field::Close, Field::Volume, Field::Spread],
            data: vec![vec![100, ABSENT], vec![7, 8], vec![1, 0]],
            scale: Scale { price: 5, volume: 0 },
        };
        let source = Rescaled::new(HeldRows(rows), PriceFactor { times: 1, per: 3 });
        let piece = source.rows_from(0).unwrap().next().unwrap().unwrap();
        assert_eq!(piece.data, [vec![33, ABSENT], vec![7, 8], vec![1, 0]], "a spread stays one");
        assert_eq!(source.last_before(20), Ok(Some(10)));
        let factor = PriceFactor { times: 3, per: 2 };
        assert_eq!([1, -1, 5].map(|points| factor.of(points)), [2, -1, 8]);
    }
}
