//! A stretch of rows as the detectors see it.

use crate::model::{Columns, Field, Micros, Shape};

/// The market is open at the row's time.
pub const OPEN: u8 = 1;
/// Another row stood at the same time before.
pub const REPEATED: u8 = 2;
/// A bar with trade in it: not flat, or with volume. Ticks always are.
pub const TRADE: u8 = 4;

/// Rows in order of time with what several detectors need to know of each. Prices in points.
pub struct CheckRows<'a> {
    pub shape: Shape,
    pub time: &'a [Micros],
    /// Of quotes the bid, of trades the last price, four times.
    pub prices: [&'a [i64]; 4],
    /// Absent where nothing is known of it; empty where no row knows its own.
    pub spread: &'a [i64],
    /// Marks of each row: [`OPEN`], [`REPEATED`], [`TRADE`].
    pub marks: &'a [u8],
    pub rows: &'a Columns,
}

/// One row's extremes, its first and its last price.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RowPrices {
    pub time: Micros,
    pub open: i64,
    pub high: i64,
    pub low: i64,
    pub close: i64,
}

impl RowPrices {
    /// A row that went nowhere.
    pub fn is_flat(&self) -> bool {
        self.high == self.low
    }
}

impl<'a> CheckRows<'a> {
    /// The columns of rows that hold open, high, low and close.
    pub fn prices_of(rows: &'a Columns) -> [&'a [i64]; 4] {
        match rows.shape() {
            Shape::Bars => [Field::Open, Field::High, Field::Low, Field::Close].map(|f| rows.column(f)),
            // Layers are refused before they come here.
            Shape::Quotes | Shape::Layered => [rows.column(Field::Bid); 4],
            Shape::Trades => [rows.column(Field::Last); 4],
            Shape::Depth => [rows.column(Field::Price); 4],
        }
    }

    /// The column that says how much was traded or offered; empty where none does.
    pub fn volume_of(rows: &'a Columns) -> &'a [i64] {
        if rows.has(Field::BidVolume) { rows.column(Field::BidVolume) } else { rows.column(Field::Volume) }
    }

    #[inline]
    pub fn look(&self, i: usize) -> RowPrices {
        if self.shape != Shape::Bars {
            let price = self.prices[0][i];
            return RowPrices { time: self.time[i], open: price, high: price, low: price, close: price };
        }
        let [open, high, low, close] = self.prices.map(|p| p[i]);
        RowPrices { time: self.time[i], open, high, low, close }
    }

    pub fn is(&self, i: usize, mark: u8) -> bool {
        self.marks[i] & mark != 0
    }

    /// True for a row of open hours that is the first at its time.
    pub fn counts(&self, i: usize) -> bool {
        self.marks[i] & (OPEN | REPEATED) == OPEN
    }
}
