//! Building bars.

use super::grid::{Grid, GridBar, can_build};
use crate::model::columns::{FILLED, is_filled, spread_mark};
use crate::model::price::{LIMIT, MAX_DECIMALS};
use crate::model::{
    ABSENT, Bar, BarView, Cells, Columns, Field, Frame, Micros, QuoteView, Scale, Session, Shape, Side, Span,
    present,
};
use crate::{Error, Result};

/// Builds bars of one frame out of rows in order of time.
pub struct Builder {
    grid: Grid,
    side: Side,
    from: Frame,
    now: Option<OpenBar>,
    bars: Columns,
    first: Option<Micros>,
    last: Micros,
    first_bar: Span,
    on_closed_days: u64,
    too_large: u64,
    /// Points of its bars in a point of the rows.
    times: i64,
}

/// Bars and whether the first and last of them lack rows at their outer ends.
pub struct Built {
    /// The bars.
    pub bars: Columns,
    /// True where the rows begin within the first bar.
    pub partial_first: bool,
    /// True where the rows may end within the last bar.
    pub partial_last: bool,
    /// Bars of days on which the session does not open.
    pub on_closed_days: u64,
    /// Sums and prices that were more than a column holds ([`LIMIT`]); they are absent.
    pub too_large: u64,
    /// Bars without rows that were filled.
    pub filled: u64,
}

/// The bar that is being filled.
struct OpenBar {
    stamp: Micros,
    span: Span,
    bar: Bar,
    /// Of the rows that say theirs; absent while none did.
    volume: i64,
    /// Sum and number of the spreads known; the number is below 0 once the sum was too large.
    spread: (i64, i64),
    /// Of the rows that say theirs; absent while none did.
    tick_count: i64,
    /// As the last row that says it has it.
    open_interest: i64,
    origin: Mixed,
}

/// One row as it goes into a bar.
#[derive(Clone, Copy)]
struct BarRow {
    time: Micros,
    bar: Bar,
    volume: Option<i64>,
    spread: Option<i64>,
    counts: BarCounts,
    origin: i64,
}

/// What bars may say beside their prices and volume.
#[derive(Clone, Copy, Default)]
struct BarCounts {
    ticks: Option<i64>,
    open_interest: Option<i64>,
}

/// The origins of the rows of a bar.
struct Mixed {
    /// Of the bar's first row.
    first: i64,
    /// The place of their source; 0 where they come from several.
    place: i64,
    is_filled: bool,
    spread: i64,
}

impl Mixed {
    fn of(origin: i64) -> Mixed {
        Mixed { first: origin, place: origin % FILLED, is_filled: is_filled(origin), spread: 0 }
    }

    fn add(&mut self, row: &BarRow) {
        if row.spread.is_some() {
            self.spread = self.spread.max(spread_mark(row.origin));
        }
        if row.origin % FILLED != self.place {
            self.place = 0;
        }
        self.is_filled &= is_filled(row.origin);
    }

    /// The origin of the bar: filled where all its rows are, its spread an estimate where one that went into it
    /// is.
    fn told(&self) -> i64 {
        self.place + if self.is_filled { FILLED } else { 0 } + self.spread
    }
}

/// A value as a column holds it: absent where it is too large, which is counted.
#[inline(always)]
fn held(value: i64, too_large: &mut u64) -> i64 {
    if value == ABSENT || value < LIMIT && value > -LIMIT {
        return value;
    }
    *too_large += 1;
    ABSENT
}

impl OpenBar {
    #[inline(always)]
    fn add(&mut self, row: &BarRow) {
        if let Some(volume) = row.volume {
            // A sum that was too large once stays so: what is added is never below 0.
            self.volume = present(self.volume).unwrap_or(0).saturating_add(volume);
        }
        if let Some(spread) = row.spread {
            self.spread = match self.spread.0.checked_add(spread) {
                Some(sum) => (sum, self.spread.1 + 1),
                None => (0, i64::MIN),
            };
        }
        if let Some(ticks) = row.counts.ticks {
            self.tick_count = present(self.tick_count).unwrap_or(0).saturating_add(ticks);
        }
        if let Some(interest) = row.counts.open_interest {
            self.open_interest = interest;
        }
        // Most histories come from one source and have no marks at all.
        if row.origin | self.origin.first != 0 {
            self.origin.add(row);
        }
    }

    /// The mean of the spreads known, rounded; absent where none is, beyond all limits where they are.
    fn mean_spread(&self) -> i64 {
        match self.spread {
            (_, 0) => ABSENT,
            (_, count) if count < 0 => LIMIT,
            (sum, count) => sum.saturating_add(count / 2).div_euclid(count),
        }
    }
}

#[inline]
fn origin_of(origins: Cells<'_>, row: usize) -> i64 {
    origins.get(row).unwrap_or(0)
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
        let carried = [Field::TickCount, Field::OpenInterest, Field::Origin];
        out.extend(carried.into_iter().filter(|f| fields.contains(f)));
        out.sort_by_key(|f| Field::ALL.iter().position(|x| x == f));
        // The middle of bid and ask may lie on half a point.
        let halves = side == Side::Mid && !from.is_bars() && scale.price < MAX_DECIMALS;
        let scale = if halves { Scale { price: scale.price + 1, ..scale } } else { scale };
        Ok(Builder {
            grid: Grid::new(to, session),
            side,
            from,
            now: None,
            bars: Columns::empty(&out, scale),
            first: None,
            last: 0,
            first_bar: Span::new(0, 0),
            on_closed_days: 0,
            too_large: 0,
            times: if halves { 10 } else { 1 },
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

    /// The mean of `of` values at the scale of the bars, by their sum, where a column can hold it; others are
    /// counted.
    #[inline(always)]
    fn fitting(&mut self, sum: i64, of: i64) -> Option<i64> {
        present(held(sum.saturating_mul(self.times).div_euclid(of), &mut self.too_large))
    }

    fn push_bars(&mut self, rows: &Columns) {
        let view = BarView::new(rows);
        let origins = rows.cells(Field::Origin);
        let (ticks, interest) = (rows.cells(Field::TickCount), rows.cells(Field::OpenInterest));
        for i in 0..view.len() {
            if let Some(bar) = view.bar(i) {
                let (volume, spread, origin) =
                    (view.volume.get(i), view.spread.get(i), origin_of(origins, i));
                let counts = BarCounts { ticks: ticks.get(i), open_interest: interest.get(i) };
                self.row(BarRow { time: view.time[i], bar, volume, spread, counts, origin });
            }
        }
    }

    fn push_quotes(&mut self, rows: &Columns) {
        let view = QuoteView::new(rows);
        let volume = if self.side == Side::Ask { view.ask_volume } else { view.bid_volume };
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
            if let Some(price) = price {
                let spread = bid.zip(ask).and_then(|(bid, ask)| self.fitting(ask - bid, 1));
                let (volume, origin) = (volume.get(i), origin_of(origins, i));
                self.row(BarRow {
                    time,
                    bar: Bar::flat(price),
                    volume,
                    spread,
                    counts: BarCounts::default(),
                    origin,
                });
            }
        }
    }

    fn push_trades(&mut self, rows: &Columns) {
        let (last, volume) = (rows.cells(Field::Last), rows.cells(Field::Volume));
        let origins = rows.cells(Field::Origin);
        for (i, &time) in rows.time.iter().enumerate() {
            if let Some(price) = last.get(i) {
                let (volume, origin) = (volume.get(i), origin_of(origins, i));
                let (spread, counts) = (None, BarCounts::default());
                self.row(BarRow { time, bar: Bar::flat(price), volume, spread, counts, origin });
            }
        }
    }

    /// Ticks count as quotes or trades, bars as bars. A bar has the prices of the bid; what it knows of its
    /// spread leads to the other side.
    fn push_layers(&mut self, rows: &Columns) {
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
                let (time, origin) = (rows.time[i], origin_of(origins, i));
                let (bar, spread) = (bar.times(self.times).moved(above), spread.map(|s| s * self.times));
                self.row(BarRow { time, bar, volume, spread, counts: BarCounts::default(), origin });
            }
        }
    }

    #[inline(always)]
    fn row(&mut self, row: BarRow) {
        match &mut self.now {
            Some(now) if now.span.holds(row.time) => {
                // Few rows move an end of the bar: to compare is cheaper than to write every time.
                if row.bar.high > now.bar.high {
                    now.bar.high = row.bar.high;
                }
                if row.bar.low < now.bar.low {
                    now.bar.low = row.bar.low;
                }
                now.bar.close = row.bar.close;
                now.add(&row);
            }
            _ => self.open_bar(&row),
        }
    }

    #[cold]
    fn open_bar(&mut self, row: &BarRow) {
        self.close_bar();
        let GridBar { stamp, span, opens } = self.grid.bar_at(row.time);
        self.on_closed_days += u64::from(!opens);
        if self.first_bar.length() == 0 {
            self.first_bar = span;
        }
        let origin = Mixed::of(row.origin);
        let mut now = OpenBar {
            stamp,
            span,
            bar: row.bar,
            volume: ABSENT,
            spread: (0, 0),
            tick_count: ABSENT,
            open_interest: ABSENT,
            origin,
        };
        now.add(row);
        self.now = Some(now);
    }

    fn close_bar(&mut self) {
        let Some(now) = self.now.take() else { return };
        self.bars.time.push(now.stamp);
        for (field, column) in self.bars.fields.iter().zip(&mut self.bars.data) {
            column.push(match field {
                Field::Open => now.bar.open,
                Field::High => now.bar.high,
                Field::Low => now.bar.low,
                Field::Close => now.bar.close,
                Field::Volume => held(now.volume, &mut self.too_large),
                Field::Origin => now.origin.told(),
                Field::TickCount => held(now.tick_count, &mut self.too_large),
                Field::OpenInterest => now.open_interest,
                _ => held(now.mean_spread(), &mut self.too_large),
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
        Built {
            bars: self.bars,
            partial_first,
            partial_last,
            on_closed_days: self.on_closed_days,
            too_large: self.too_large,
            filled: 0,
        }
    }
}
