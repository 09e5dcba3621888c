//! The bar that is being filled.

use super::grid::GridBar;
use crate::model::columns::{FILLED, MADE_UP, REBUILT, is_filled, is_made_up, is_rebuilt, spread_mark};
use crate::model::price::LIMIT;
use crate::model::{ABSENT, Bar, Field, Micros, Side, Span, present};

/// One row as it goes into a bar.
#[derive(Clone, Copy)]
pub(super) struct BarRow {
    pub time: Micros,
    pub bar: Bar,
    pub sums: Amounts,
    pub spread: Option<RowSpread>,
    pub open_interest: Option<i64>,
    pub origin: i64,
}

impl BarRow {
    /// A row of one price and nothing beside it.
    pub fn flat(time: Micros, price: i64, origin: i64) -> BarRow {
        let (bar, sums) = (Bar::flat(price), Amounts::default());
        BarRow { time, bar, sums, spread: None, open_interest: None, origin }
    }
}

/// What is added up over the rows of a bar; none where a row does not say it.
#[derive(Clone, Copy, Default)]
pub(super) struct Amounts {
    pub volume: Option<i64>,
    pub bid_volume: Option<i64>,
    pub ask_volume: Option<i64>,
    pub ticks: Option<i64>,
}

/// The spread of a row: one of a tick, or those of a bar and how many its mean stands for.
#[derive(Clone, Copy)]
pub(super) struct RowSpread {
    pub open: i64,
    pub high: i64,
    pub low: i64,
    /// Sum of what the mean is made of.
    pub sum: i64,
    pub count: i64,
}

impl RowSpread {
    /// Of one tick, or of a bar that says no more than one number.
    pub fn one(spread: i64) -> RowSpread {
        RowSpread { open: spread, high: spread, low: spread, sum: spread, count: 1 }
    }
}

/// The bar that is being filled.
pub(super) struct OpenBar {
    pub stamp: Micros,
    /// The rows it takes.
    pub span: Span,
    pub bar: Bar,
    /// Rows it has taken.
    pub rows: i64,
    /// True once a row has set a close that counts; see [`super::settle`].
    pub is_settled: bool,
    sums: Sums,
    spread: Spreads,
    /// As the last row that says it has it.
    open_interest: i64,
    origin: Mixed,
}

/// Sums of the rows that say theirs; absent while none did.
struct Sums {
    volume: i64,
    bid_volume: i64,
    ask_volume: i64,
    ticks: i64,
}

/// The spreads of the rows that say theirs.
struct Spreads {
    open: i64,
    high: i64,
    low: i64,
    sum: i64,
    /// Below 0 once the sum was too large.
    count: i64,
}

/// The origins of the rows of a bar.
struct Mixed {
    /// Of the bar's first row.
    first: i64,
    /// The place of their source; 0 where they come from several.
    place: i64,
    is_filled: bool,
    is_rebuilt: bool,
    is_made_up: bool,
    spread: i64,
}

impl Mixed {
    fn of(origin: i64) -> Mixed {
        Mixed {
            first: origin,
            place: origin % FILLED,
            is_filled: is_filled(origin),
            is_rebuilt: is_rebuilt(origin),
            is_made_up: is_made_up(origin),
            spread: 0,
        }
    }

    fn add(&mut self, origin: i64, has_spread: bool) {
        if has_spread {
            self.spread = self.spread.max(spread_mark(origin));
        }
        if origin % FILLED != self.place {
            self.place = 0;
        }
        self.is_filled &= is_filled(origin);
        self.is_rebuilt |= is_rebuilt(origin);
        self.is_made_up |= is_made_up(origin);
    }

    /// The origin of the bar: filled where all its rows are, rebuilt or made up where one is, its spread an estimate where
    /// one that went into it is.
    fn told(&self) -> i64 {
        let mark = |is_so, mark| if is_so { mark } else { 0 };
        let made = mark(self.is_rebuilt, REBUILT) + mark(self.is_made_up, MADE_UP);
        self.place + mark(self.is_filled, FILLED) + made + self.spread
    }
}

/// Adds to a sum that is absent while nothing was added. One that was too large once stays so: what is added is
/// never below 0.
#[inline(always)]
fn add_to(sum: &mut i64, value: Option<i64>) {
    if let Some(value) = value {
        *sum = present(*sum).unwrap_or(0).saturating_add(value);
    }
}

impl OpenBar {
    /// A bar without rows.
    pub fn new(at: &GridBar, row: &BarRow) -> OpenBar {
        OpenBar {
            stamp: at.stamp,
            span: at.span,
            bar: row.bar,
            rows: 0,
            is_settled: false,
            sums: Sums { volume: ABSENT, bid_volume: ABSENT, ask_volume: ABSENT, ticks: ABSENT },
            spread: Spreads { open: ABSENT, high: ABSENT, low: ABSENT, sum: 0, count: 0 },
            open_interest: ABSENT,
            origin: Mixed::of(row.origin),
        }
    }

    /// Takes the prices of a row; its close only where it counts as one.
    #[inline(always)]
    pub fn add_prices(&mut self, bar: &Bar, rows: i64, is_close: bool) {
        // Few rows move an end of the bar: to compare is cheaper than to write every time.
        if bar.high > self.bar.high {
            self.bar.high = bar.high;
        }
        if bar.low < self.bar.low {
            self.bar.low = bar.low;
        }
        if is_close || !self.is_settled {
            self.bar.close = bar.close;
            self.is_settled |= is_close;
        }
        self.rows += rows;
    }

    /// Takes what a row says beside its prices.
    #[inline(always)]
    pub fn add_beside(&mut self, row: &BarRow) {
        self.add_sums(&row.sums);
        if let Some(spread) = &row.spread {
            self.add_spread(spread);
        }
        if let Some(interest) = row.open_interest {
            self.open_interest = interest;
        }
        self.add_origin(row.origin, row.spread.is_some());
    }

    #[inline(always)]
    pub fn add_sums(&mut self, of: &Amounts) {
        add_to(&mut self.sums.volume, of.volume);
        add_to(&mut self.sums.bid_volume, of.bid_volume);
        add_to(&mut self.sums.ask_volume, of.ask_volume);
        add_to(&mut self.sums.ticks, of.ticks);
    }

    #[inline(always)]
    pub fn add_spread(&mut self, of: &RowSpread) {
        let mine = &mut self.spread;
        if mine.open == ABSENT {
            (mine.open, mine.high, mine.low) = (of.open, of.high, of.low);
        }
        mine.high = mine.high.max(of.high);
        mine.low = mine.low.min(of.low);
        (mine.sum, mine.count) = match mine.sum.checked_add(of.sum) {
            Some(sum) => (sum, mine.count.saturating_add(of.count)),
            None => (0, i64::MIN),
        };
    }

    #[inline(always)]
    pub fn add_origin(&mut self, origin: i64, has_spread: bool) {
        // Most histories come from one source and have no marks at all.
        if origin | self.origin.first != 0 {
            self.origin.add(origin, has_spread);
        }
    }

    pub fn set_open_interest(&mut self, interest: i64) {
        self.open_interest = interest;
    }

    /// Volume so far, of the rows that say theirs.
    pub fn volume(&self, side: Side) -> i64 {
        let Sums { volume, bid_volume, ask_volume, .. } = self.sums;
        if volume != ABSENT {
            return volume;
        }
        match side {
            Side::Ask => ask_volume,
            Side::Mid => match (present(bid_volume), present(ask_volume)) {
                (Some(bid), Some(ask)) => bid.saturating_add(ask),
                (one, other) => one.or(other).unwrap_or(ABSENT),
            },
            Side::Bid | Side::Last => bid_volume,
        }
    }

    /// The mean of the spreads known, rounded; absent where none is, beyond all limits where they are.
    fn mean_spread(&self) -> i64 {
        match (self.spread.sum, self.spread.count) {
            (_, 0) => ABSENT,
            (_, count) if count < 0 => LIMIT,
            (sum, count) => sum.saturating_add(count / 2).div_euclid(count),
        }
    }

    /// The value of a field as it stands in the bar.
    pub fn value(&self, field: Field, side: Side) -> i64 {
        match field {
            Field::Open => self.bar.open,
            Field::High => self.bar.high,
            Field::Low => self.bar.low,
            Field::Close => self.bar.close,
            Field::Volume => self.volume(side),
            Field::BidVolume => self.sums.bid_volume,
            Field::AskVolume => self.sums.ask_volume,
            Field::TickCount => self.sums.ticks,
            Field::OpenInterest => self.open_interest,
            Field::Spread => self.mean_spread(),
            Field::SpreadOpen => self.spread.open,
            Field::SpreadHigh => self.spread.high,
            Field::SpreadLow => self.spread.low,
            Field::Origin => self.origin.told(),
            _ => ABSENT,
        }
    }
}
