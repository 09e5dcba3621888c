//! Rows of every shape on their way into bars, one by one: the plain way, which takes whatever may be absent.

use super::builder::{Builder, held};
use super::open_bar::{Amounts, BarRow, RowSpread};
use crate::model::price::LIMIT;
use crate::model::{Bar, BarView, Cells, Columns, Field, QuoteView, Side, present};

#[inline]
fn origin_of(origins: Cells<'_>, row: usize) -> i64 {
    origins.get(row).unwrap_or(0)
}

impl Builder {
    /// The mean of `of` values at the scale of the bars, by their sum, where a column can hold it; others are
    /// counted.
    #[inline(always)]
    fn fitting(&mut self, sum: i64, of: i64) -> Option<i64> {
        present(held(sum.saturating_mul(self.times).div_euclid(of), &mut self.too_large))
    }

    pub(super) fn push_bars(&mut self, rows: &Columns) {
        let view = BarView::new(rows);
        let origins = rows.cells(Field::Origin);
        let cells = |field: Field| rows.cells(field);
        let (ticks, interest) = (cells(Field::TickCount), cells(Field::OpenInterest));
        let (bid_volume, ask_volume) = (cells(Field::BidVolume), cells(Field::AskVolume));
        let ends = [Field::SpreadOpen, Field::SpreadHigh, Field::SpreadLow].map(cells);
        for i in 0..view.len() {
            let Some(bar) = view.bar(i) else { continue };
            let sums = Amounts {
                volume: view.volume.get(i),
                bid_volume: bid_volume.get(i),
                ask_volume: ask_volume.get(i),
                ticks: ticks.get(i),
            };
            let spread =
                view.spread.get(i).map(|mean| self.spread_of_bar(mean, ends.map(|c| c.get(i)), sums.ticks));
            let (open_interest, origin) = (interest.get(i), origin_of(origins, i));
            self.row(BarRow { time: view.time[i], bar, sums, spread, open_interest, origin });
        }
    }

    /// The spread of a bar: its mean counts as often as it has ticks where the bar was made of ticks, else once.
    fn spread_of_bar(&self, mean: i64, ends: [Option<i64>; 3], ticks: Option<i64>) -> RowSpread {
        let [open, high, low] = ends.map(|end| end.unwrap_or(mean));
        let count = if self.has_means { ticks.unwrap_or(1).max(1) } else { 1 };
        RowSpread { open, high, low, sum: mean.saturating_mul(count), count }
    }

    pub(super) fn push_quotes(&mut self, rows: &Columns) {
        let view = QuoteView::new(rows);
        let origins = rows.cells(Field::Origin);
        for (i, &time) in view.time.iter().enumerate() {
            let (bid, ask) = (view.bid.get(i), view.ask.get(i));
            let price = match (self.side, bid, ask) {
                (Side::Ask, ..) => ask,
                (Side::Mid, Some(bid), Some(ask)) => {
                    // Two values of 18 digits add up to less than an i64 holds.
                    self.fitting(bid + ask, 2)
                }
                (Side::Mid, ..) => None,
                (Side::Bid | Side::Last, ..) => bid,
            };
            let (bid_volume, ask_volume) = (view.bid_volume.get(i), view.ask_volume.get(i));
            let sums = Amounts { volume: None, bid_volume, ask_volume, ticks: Some(1) };
            match price {
                Some(price) => {
                    let spread = bid.zip(ask).and_then(|(bid, ask)| self.fitting(ask - bid, 1));
                    let spread = spread.map(RowSpread::one);
                    self.row(BarRow { sums, spread, ..BarRow::flat(time, price, origin_of(origins, i)) });
                }
                // Of the other side alone: no tick of this one, but its volume belongs to the bar.
                None => {
                    if let Some(now) = self.now.as_mut().filter(|now| now.span.holds(time)) {
                        now.add_sums(&Amounts { ticks: None, ..sums });
                    }
                }
            }
        }
    }

    pub(super) fn push_trades(&mut self, rows: &Columns) {
        let (last, volume) = (rows.cells(Field::Last), rows.cells(Field::Volume));
        let origins = rows.cells(Field::Origin);
        for (i, &time) in rows.time.iter().enumerate() {
            if let Some(price) = last.get(i) {
                let sums = Amounts { volume: volume.get(i), ticks: Some(1), ..Amounts::default() };
                self.row(BarRow { sums, ..BarRow::flat(time, price, origin_of(origins, i)) });
            }
        }
    }

    /// Ticks count as quotes or trades, bars as bars. A bar has the prices of the bid; what it knows of its
    /// spread leads to the other side.
    pub(super) fn push_layers(&mut self, rows: &Columns) {
        let (bars, quotes) = (BarView::new(rows), QuoteView::new(rows));
        let (last, has_quotes) = (rows.cells(Field::Last), rows.has(Field::Bid));
        let of_side = if self.side == Side::Ask { quotes.ask_volume } else { quotes.bid_volume };
        let origins = rows.cells(Field::Origin);
        for (i, covers) in rows.column(Field::Covers).iter().enumerate() {
            let is_bar = *covers > 0;
            let (bar, spread) = if is_bar {
                (bars.bar(i), bars.spread.get(i))
            } else if has_quotes {
                (quotes.bid.get(i).map(Bar::flat), quotes.spread(i))
            } else {
                (last.get(i).map(Bar::flat), None)
            };
            let above = match self.side {
                Side::Ask => spread.unwrap_or(0),
                Side::Mid => (spread.unwrap_or(0) * self.times).div_euclid(2),
                Side::Bid | Side::Last => 0,
            };
            let volume = bars.volume.get(i).or(of_side.get(i).filter(|_| !is_bar));
            let most = LIMIT / self.times;
            let fits = |bar: &Bar| bar.high < most && bar.low > -most;
            self.too_large += u64::from(bar.is_some_and(|bar| !fits(&bar)));
            if let Some(bar) = bar.filter(fits) {
                let sums = Amounts { volume, ..Amounts::default() };
                let spread = spread.map(|s| RowSpread::one(s * self.times));
                let bar = bar.times(self.times).moved(above);
                let (time, origin) = (rows.time[i], origin_of(origins, i));
                self.row(BarRow { time, bar, sums, spread, open_interest: None, origin });
            }
        }
    }
}
