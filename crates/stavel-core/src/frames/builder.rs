//! Building bars.

use super::grid::{Grid, can_build};
use crate::model::{Columns, Field, Frame, Micros, Scale, Session, Shape, Side, Span};
use crate::{Error, Result};

/// Builds bars of one frame out of rows in order of time.
pub struct Builder {
    grid: Grid,
    side: Side,
    from: Frame,
    now: Option<Bar>,
    bars: Columns,
    first: Option<Micros>,
    last: Micros,
    first_bar: Span,
}

/// Bars and whether the first and last of them lack rows at their outer ends.
pub struct Built {
    pub bars: Columns,
    pub partial_first: bool,
    pub partial_last: bool,
}

/// The bar that is being filled.
struct Bar {
    span: Span,
    open: i64,
    high: i64,
    low: i64,
    close: i64,
    volume: i64,
    /// Sum and number of the spreads known.
    spread: (i64, i64),
}

impl Builder {
    /// A builder of `to` bars out of rows at `from`; `side` says which price of quotes is meant.
    ///
    /// # Errors
    /// Where `to` cannot be made of `from`.
    pub fn new(
        from: Frame,
        to: Frame,
        side: Side,
        fields: &[Field],
        scale: Scale,
        session: &Session,
    ) -> Result<Builder> {
        if !can_build(from, to) {
            return Err(Error::arguments(format!(
                "Bars of {to} cannot be made of {from}; choose a longer frame that {from} divides."
            )));
        }
        let has_volume =
            [Field::Volume, Field::BidVolume, Field::AskVolume].iter().any(|f| fields.contains(f));
        let has_spread = fields.contains(&Field::Spread) || fields.contains(&Field::Bid);
        let mut out = vec![Field::Open, Field::High, Field::Low, Field::Close];
        out.extend(has_volume.then_some(Field::Volume));
        out.extend(has_spread.then_some(Field::Spread));
        Ok(Builder {
            grid: Grid::new(to, session),
            side,
            from,
            now: None,
            bars: Columns::empty(&out, scale),
            first: None,
            last: 0,
            first_bar: Span::new(0, 0),
        })
    }

    /// Takes the next rows.
    pub fn push(&mut self, rows: &Columns) {
        let Some((first, last)) = rows.ends() else { return };
        self.first.get_or_insert(first);
        self.last = last;
        match rows.shape() {
            Shape::Bars => self.push_bars(rows),
            Shape::Quotes => self.push_quotes(rows),
            Shape::Trades => self.push_trades(rows),
            Shape::Layered => self.push_layers(rows),
            // `Builder::new` refuses depth.
            Shape::Depth => {}
        }
    }

    fn push_bars(&mut self, rows: &Columns) {
        let [open, high, low, close] =
            [Field::Open, Field::High, Field::Low, Field::Close].map(|f| rows.column(f));
        let (volume, spread) = (rows.column(Field::Volume), rows.column(Field::Spread));
        for i in 0..rows.len() {
            let (volume, spread) = (volume.get(i).copied().unwrap_or(0), spread.get(i).copied().unwrap_or(0));
            self.row(rows.time[i], [open[i], high[i], low[i], close[i]], volume, spread);
        }
    }

    fn push_quotes(&mut self, rows: &Columns) {
        let (bid, ask) = (rows.column(Field::Bid), rows.column(Field::Ask));
        let volume = rows.column(if self.side == Side::Ask { Field::AskVolume } else { Field::BidVolume });
        for i in 0..rows.len() {
            let price = match self.side {
                Side::Ask => ask[i],
                Side::Mid => (bid[i] + ask[i]).div_euclid(2),
                Side::Bid | Side::Last => bid[i],
            };
            self.row(rows.time[i], [price; 4], volume.get(i).copied().unwrap_or(0), ask[i] - bid[i]);
        }
    }

    fn push_trades(&mut self, rows: &Columns) {
        let (last, volume) = (rows.column(Field::Last), rows.column(Field::Volume));
        for (i, (time, price)) in rows.time.iter().zip(last).enumerate() {
            self.row(*time, [*price; 4], volume.get(i).copied().unwrap_or(0), 0);
        }
    }

    /// Ticks count as quotes or trades, bars as bars. A bar has the prices of the bid; what it knows of its
    /// spread leads to the other side.
    fn push_layers(&mut self, rows: &Columns) {
        let [open, high, low, close] =
            [Field::Open, Field::High, Field::Low, Field::Close].map(|f| rows.column(f));
        let (bid, ask, last) = (rows.column(Field::Bid), rows.column(Field::Ask), rows.column(Field::Last));
        let at = |column: &[i64], i: usize| column.get(i).copied().unwrap_or(0);
        let (volume, spread) = (rows.column(Field::Volume), rows.column(Field::Spread));
        let of_side = rows.column(if self.side == Side::Ask { Field::AskVolume } else { Field::BidVolume });
        for (i, covers) in rows.column(Field::Covers).iter().enumerate() {
            let (bar, spread) = if *covers > 0 {
                let bar = [at(open, i), at(high, i), at(low, i), at(close, i)];
                (bar, at(spread, i))
            } else if bid.is_empty() {
                ([at(last, i); 4], 0)
            } else {
                ([at(bid, i); 4], at(ask, i) - at(bid, i))
            };
            let above = match self.side {
                Side::Ask => spread,
                Side::Mid => spread.div_euclid(2),
                Side::Bid | Side::Last => 0,
            };
            let volume = at(volume, i) + if *covers > 0 { 0 } else { at(of_side, i) };
            self.row(rows.time[i], bar.map(|p| p + above), volume, spread);
        }
    }

    #[inline]
    fn row(&mut self, time: Micros, [open, high, low, close]: [i64; 4], volume: i64, spread: i64) {
        let known = i64::from(spread > 0);
        match &mut self.now {
            Some(bar) if bar.span.holds(time) => {
                bar.high = bar.high.max(high);
                bar.low = bar.low.min(low);
                bar.close = close;
                bar.volume += volume;
                bar.spread = (bar.spread.0 + spread * known, bar.spread.1 + known);
            }
            _ => {
                self.close_bar();
                let span = self.grid.bar_at(time);
                if self.first_bar.length() == 0 {
                    self.first_bar = span;
                }
                self.now =
                    Some(Bar { span, open, high, low, close, volume, spread: (spread * known, known) });
            }
        }
    }

    fn close_bar(&mut self) {
        let Some(bar) = self.now.take() else { return };
        self.bars.time.push(bar.span.from);
        // The mean of the spreads known, rounded; 0 says that none is.
        let spread = if bar.spread.1 == 0 { 0 } else { (bar.spread.0 + bar.spread.1 / 2) / bar.spread.1 };
        for (field, column) in self.bars.fields.iter().zip(&mut self.bars.data) {
            column.push(match field {
                Field::Open => bar.open,
                Field::High => bar.high,
                Field::Low => bar.low,
                Field::Close => bar.close,
                Field::Volume => bar.volume,
                _ => spread,
            });
        }
    }

    /// The fields of its bars.
    pub fn fields(&self) -> &[Field] {
        &self.bars.fields
    }

    /// The bars that are whole so far; they are given once.
    pub fn take_closed(&mut self) -> Columns {
        let empty = Columns::empty(&self.bars.fields, self.bars.scale);
        std::mem::replace(&mut self.bars, empty)
    }

    /// Ends the rows and gives the bars.
    pub fn finish(mut self) -> Built {
        let last_bar = self.now.as_ref().map(|b| b.span);
        self.close_bar();
        let open_in = |from: Micros, to: Micros, grid: &Grid| grid.open_time(Span::new(from, to)) > 0;
        let partial_first = self.first.is_some_and(|first| open_in(self.first_bar.from, first, &self.grid));
        let last_end = self.last + self.from.length().max(1);
        let partial_last =
            last_bar.is_some_and(|bar| last_end < bar.to && open_in(last_end, bar.to, &self.grid));
        Built { bars: self.bars, partial_first, partial_last }
    }
}
