//! Views of columns whose fields are looked up once, not for every row.

use super::cell::{ABSENT, Cells, present};
use super::columns::{Columns, Field, Shape};
use super::time::Micros;

/// Prices of one bar.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Bar {
    /// The first price, in points.
    pub open: i64,
    /// The highest price, in points.
    pub high: i64,
    /// The lowest price, in points.
    pub low: i64,
    /// The last price, in points.
    pub close: i64,
}

impl Bar {
    /// A bar of one price.
    pub fn flat(price: i64) -> Bar {
        Bar { open: price, high: price, low: price, close: price }
    }

    /// Every price in so many times finer points.
    pub fn times(self, factor: i64) -> Bar {
        let Bar { open, high, low, close } = self;
        Bar { open: open * factor, high: high * factor, low: low * factor, close: close * factor }
    }

    /// Every price moved by `by`.
    pub fn moved(self, by: i64) -> Bar {
        Bar { open: self.open + by, high: self.high + by, low: self.low + by, close: self.close + by }
    }
}

/// Bars of columns.
#[derive(Debug, Clone, Copy)]
pub struct BarView<'a> {
    /// When each bar begins.
    pub time: &'a [Micros],
    prices: [&'a [i64]; 4],
    /// Volume, in units of its scale.
    pub volume: Cells<'a>,
    /// Spread in points.
    pub spread: Cells<'a>,
}

impl<'a> BarView<'a> {
    /// A view of bars; a field that the columns lack is absent in every row.
    pub fn new(rows: &'a Columns) -> BarView<'a> {
        BarView {
            time: &rows.time,
            prices: [Field::Open, Field::High, Field::Low, Field::Close].map(|f| rows.column(f)),
            volume: rows.cells(Field::Volume),
            spread: rows.cells(Field::Spread),
        }
    }

    /// Rows in view.
    pub fn len(&self) -> usize {
        self.time.len()
    }

    /// True where there are no rows.
    pub fn is_empty(&self) -> bool {
        self.time.is_empty()
    }

    /// The prices of a row to compute with; none where it has no price at all.
    ///
    /// Of a partial bar, what is absent is the least that is sure: an open is the close and a close the
    /// open, a high the highest and a low the lowest price that is there.
    #[inline]
    pub fn bar(&self, row: usize) -> Option<Bar> {
        let [open, high, low, close] = self.prices.map(|p| p.get(row).copied().and_then(present));
        match (open, high, low, close) {
            (Some(open), Some(high), Some(low), Some(close)) => Some(Bar { open, high, low, close }),
            partial => whole(partial),
        }
    }

    /// True where a price of the row is absent.
    pub fn is_partial(&self, row: usize) -> bool {
        self.prices.iter().any(|p| p.get(row).copied().and_then(present).is_none())
    }
}

#[cold]
fn whole((open, high, low, close): (Option<i64>, Option<i64>, Option<i64>, Option<i64>)) -> Option<Bar> {
    let there = || [open, high, low, close].into_iter().flatten();
    let (most, least) = (there().max()?, there().min()?);
    let first = open.or(close).or(low).unwrap_or(most);
    let last = close.or(open).or(low).unwrap_or(most);
    Some(Bar { open: first, high: high.unwrap_or(most), low: low.unwrap_or(least), close: last })
}

impl Columns {
    /// Bars with all four prices, to compute with: those absent are the least that is sure (see
    /// [`BarView::bar`]), and a row without any price is left out. Rows of another shape stay as they are.
    pub fn with_whole_bars(mut self) -> Columns {
        const PRICES: [Field; 4] = [Field::Open, Field::High, Field::Low, Field::Close];
        if self.shape() != Shape::Bars {
            return self;
        }
        if !PRICES.iter().all(|f| self.has(*f)) {
            let fields: Vec<Field> =
                Field::ALL.into_iter().filter(|f| PRICES.contains(f) || self.has(*f)).collect();
            self = self.with_fields(&fields);
        }
        if PRICES.iter().all(|f| !self.column(*f).contains(&ABSENT)) {
            return self;
        }
        let bars: Vec<Option<Bar>> = {
            let view = BarView::new(&self);
            (0..view.len()).map(|i| view.bar(i)).collect()
        };
        let of: [fn(&Bar) -> i64; 4] = [|b| b.open, |b| b.high, |b| b.low, |b| b.close];
        for (field, price) in PRICES.into_iter().zip(of) {
            for (value, bar) in self.column_mut(field).into_iter().flatten().zip(&bars) {
                *value = bar.as_ref().map_or(*value, price);
            }
        }
        self.retain(|i| bars[i].is_some());
        self
    }
}

/// Quotes of columns. Either side of a quote may be absent.
#[derive(Debug, Clone, Copy)]
pub struct QuoteView<'a> {
    /// When each quote came.
    pub time: &'a [Micros],
    /// Bid in points.
    pub bid: Cells<'a>,
    /// Ask in points.
    pub ask: Cells<'a>,
    /// Volume at the bid, in units of its scale.
    pub bid_volume: Cells<'a>,
    /// Volume at the ask, in units of its scale.
    pub ask_volume: Cells<'a>,
}

impl<'a> QuoteView<'a> {
    /// A view of quotes; a field that the columns lack is absent in every row.
    pub fn new(rows: &'a Columns) -> QuoteView<'a> {
        QuoteView {
            time: &rows.time,
            bid: rows.cells(Field::Bid),
            ask: rows.cells(Field::Ask),
            bid_volume: rows.cells(Field::BidVolume),
            ask_volume: rows.cells(Field::AskVolume),
        }
    }

    /// Ask less bid, where both are there.
    #[inline]
    pub fn spread(&self, row: usize) -> Option<i64> {
        Some(self.ask.get(row)? - self.bid.get(row)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{ABSENT, Scale};

    fn view_of(data: [i64; 4]) -> Option<Bar> {
        let rows = Columns {
            time: vec![0],
            fields: vec![Field::Open, Field::High, Field::Low, Field::Close],
            data: data.map(|v| vec![v]).to_vec(),
            scale: Scale::default(),
        };
        BarView::new(&rows).bar(0)
    }

    #[test]
    fn a_partial_bar_is_only_what_is_sure() {
        let bar = |open, high, low, close| Some(Bar { open, high, low, close });
        assert_eq!(view_of([4, 9, 1, 5]), bar(4, 9, 1, 5));
        assert_eq!(view_of([ABSENT, ABSENT, ABSENT, 5]), bar(5, 5, 5, 5));
        assert_eq!(view_of([4, ABSENT, ABSENT, 5]), bar(4, 5, 4, 5));
        assert_eq!(view_of([ABSENT, 9, 1, ABSENT]), bar(1, 9, 1, 1));
        assert_eq!(view_of([ABSENT; 4]), None);
        let closes = Columns {
            time: vec![0],
            fields: vec![Field::Close],
            data: vec![vec![0]],
            scale: Scale::default(),
        };
        let view = BarView::new(&closes);
        assert_eq!((view.bar(0), view.is_partial(0)), (bar(0, 0, 0, 0), true));
        assert_eq!((view.volume.get(0), view.spread.get(0)), (None, None));
        assert_eq!(closes.with_whole_bars().data, [vec![0], vec![0], vec![0], vec![0]]);
    }

    #[test]
    fn rows_without_any_price_are_no_bars_to_compute_with() {
        let rows = Columns {
            time: vec![0, 1, 2],
            fields: vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Spread],
            data: vec![
                vec![4, ABSENT, ABSENT],
                vec![9, ABSENT, ABSENT],
                vec![1, ABSENT, ABSENT],
                vec![5, ABSENT, 7],
                vec![0, 2, ABSENT],
            ],
            scale: Scale::default(),
        };
        let whole = rows.with_whole_bars();
        assert_eq!(whole.time, [0, 2]);
        assert_eq!(whole.data, [vec![4, 7], vec![9, 7], vec![1, 7], vec![5, 7], vec![0, ABSENT]]);
    }

    #[test]
    fn a_quote_of_one_side_has_no_spread() {
        let rows = Columns {
            time: vec![0, 1],
            fields: vec![Field::Bid, Field::Ask],
            data: vec![vec![10, ABSENT], vec![10, 12]],
            scale: Scale::default(),
        };
        let view = QuoteView::new(&rows);
        assert_eq!((view.spread(0), view.spread(1), view.ask_volume.get(0)), (Some(0), None, None));
    }
}
