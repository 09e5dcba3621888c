//! Bars of the bid with those of the ask beside them.

use super::row_source::{Pieces, RowSource};
use super::shelf_rows::ShelfRows;
use crate::model::{ABSENT, Columns, Field, Micros, Scale, Span, present};
use crate::store::{Cursor, SeriesInfo, Shelf};
use crate::{Error, Result};

/// The columns of the ask.
const ASKS: [Field; 4] = [Field::AskOpen, Field::AskHigh, Field::AskLow, Field::AskClose];

/// Rows of bars with the ask of the bars of the same times; where there is none it is absent.
pub struct WithAsk<S> {
    bid: S,
    ask: S,
    scale: Scale,
}

impl<S: RowSource> WithAsk<S> {
    /// The rows of the bid, whose prices have a scale, with those of the ask.
    ///
    /// # Errors
    /// Where the ask has more decimals than the bid: it cannot be told in the points of the bid.
    pub fn new((bid, scale): (S, Scale), (ask, of_ask): (S, Scale)) -> Result<WithAsk<S>> {
        if of_ask.price > scale.price {
            return Err(Error::input(format!(
                "The ask has {} decimals and the bid {}, so they are not played as one market.",
                of_ask.price, scale.price
            )));
        }
        Ok(WithAsk { bid, ask, scale })
    }
}

impl WithAsk<ShelfRows> {
    /// The prices of bars of the bid on a shelf, and of the ask, within a span.
    ///
    /// # Errors
    /// Where they cannot be read, or as [`WithAsk::new`].
    pub fn of(
        shelf: &Shelf,
        (bid, ask): (&SeriesInfo, &SeriesInfo),
        span: Span,
    ) -> Result<WithAsk<ShelfRows>> {
        let rows = |info: &SeriesInfo| -> Result<(ShelfRows, Scale)> {
            let reader = shelf.reader(&info.edition)?;
            Ok((ShelfRows::prices_only(reader, span), info.edition.scale))
        };
        WithAsk::new(rows(bid)?, rows(ask)?)
    }
}

impl<S: RowSource> RowSource for WithAsk<S> {
    fn rows_from(&self, from: Micros) -> Result<Pieces> {
        let price = self.scale.price;
        let asks = self.ask.rows_from(from)?.map(move |piece| {
            let piece = piece?;
            let finer = Scale { price, ..piece.scale };
            Ok(piece.rescaled(finer))
        });
        let mut asks: Cursor<Pieces> = Cursor::new(Box::new(asks));
        let bids = self.bid.rows_from(from)?;
        Ok(Box::new(bids.map(move |piece| beside(piece?, &mut asks))))
    }

    fn last_before(&self, before: Micros) -> Result<Option<Micros>> {
        self.bid.last_before(before)
    }
}

/// Rows with the ask of their times.
fn beside(rows: Columns, asks: &mut Cursor<Pieces>) -> Result<Columns> {
    let fields: Vec<Field> =
        Field::ALL.into_iter().filter(|field| rows.has(*field) || ASKS.contains(field)).collect();
    let mut rows = rows.with_fields(&fields);
    for row in 0..rows.len() {
        let time = rows.time[row];
        while asks.time()?.is_some_and(|ask| ask < time) {
            asks.pass(1);
        }
        if asks.time()? != Some(time) {
            continue;
        }
        for beside in ASKS {
            let ask = beside.in_rows_of_the_ask().and_then(|own| asks.rows().cells(own).get(asks.at()));
            if let (Some(ask), Some(column)) = (ask, rows.column_mut(beside)) {
                column[row] = ask;
            }
        }
    }
    Ok(rows)
}

/// The ask of a row at its open, its extremes and its close, where all of it is there.
pub(super) fn ask_of_bar(rows: &Columns, row: usize) -> Option<[i64; 4]> {
    let value = |field: Field| rows.column(field).get(row).copied().and_then(present);
    let [open, high, low, close] = ASKS.map(value);
    Some([open?, low?, high?, close?])
}

/// What lies between the closes of both sides, as the spread of the rows; of a row without an ask what it says itself.
pub(super) fn spreads_of(rows: &Columns) -> Columns {
    let own = rows.cells(Field::Spread);
    let spread = |row: usize| match (ask_of_bar(rows, row), rows.cells(Field::Close).get(row)) {
        (Some([.., ask]), Some(bid)) => ask - bid,
        _ => own.get(row).unwrap_or(ABSENT),
    };
    let data = vec![(0..rows.len()).map(spread).collect()];
    Columns { time: rows.time.clone(), fields: vec![Field::Spread], data, scale: rows.scale }
}

/// Rows without the ask beside them: what a chart shows.
pub(super) fn without_ask(rows: Columns) -> Columns {
    if !rows.has(Field::AskClose) {
        return rows;
    }
    let own: Vec<Field> = rows.fields.iter().copied().filter(|field| !field.is_beside_the_bid()).collect();
    rows.with_fields(&own)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rehearse::HeldRows;

    fn bars(rows: &[(Micros, [i64; 4])], price: u8) -> Columns {
        let fields = [Field::Open, Field::High, Field::Low, Field::Close];
        let mut out = Columns::empty(&fields, Scale { price, volume: 0 });
        for (time, prices) in rows {
            out.time.push(*time);
            out.data.iter_mut().zip(prices).for_each(|(column, value)| column.push(*value));
        }
        out
    }

    #[test]
    fn the_ask_of_the_same_time_stands_beside_and_what_is_missing_is_absent() {
        let bid = bars(&[(0, [10, 12, 9, 11]), (60, [11, 11, 11, 11]), (120, [11, 15, 11, 14])], 2);
        let ask = bars(&[(-60, [9; 4]), (0, [1, 3, 1, 2]), (90, [7; 4]), (120, [2, 2, 1, 1])], 1);
        let scales = (bid.scale, ask.scale);
        let both = WithAsk::new((HeldRows(bid), scales.0), (HeldRows(ask), scales.1)).unwrap();
        let rows = both.rows_from(0).unwrap().next().unwrap().unwrap();
        assert_eq!(ask_of_bar(&rows, 0), Some([10, 10, 30, 20]));
        assert_eq!((ask_of_bar(&rows, 1), rows.column(Field::AskOpen)[1]), (None, ABSENT));
        assert_eq!(ask_of_bar(&rows, 2), Some([20, 10, 20, 10]));
        assert_eq!(both.last_before(120), Ok(Some(60)));
        assert_eq!(spreads_of(&rows).data, [vec![9, ABSENT, -4]]);
        assert_eq!(without_ask(rows).fields, [Field::Open, Field::High, Field::Low, Field::Close]);
        let fine = bars(&[(0, [1; 4])], 3);
        let scale = fine.scale;
        assert!(WithAsk::new((HeldRows(fine.clone()), scales.0), (HeldRows(fine), scale)).is_err());
    }
}
