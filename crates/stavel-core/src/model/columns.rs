//! Rows of a history as columns of integers.

use super::cell::{ABSENT, Cells, present};
use super::price::unit;
use super::time::{Micros, Span};

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Field {
    /// The first price of a bar.
    Open,
    /// The highest price of a bar.
    High,
    /// The lowest price of a bar.
    Low,
    /// The last price of a bar.
    Close,
    /// Volume of a bar or a trade.
    Volume,
    /// Ask less bid, a difference of prices in the scale of the prices; of a bar made of ticks their mean.
    Spread,
    /// The first spread in a bar.
    SpreadOpen,
    /// The widest spread in a bar.
    SpreadHigh,
    /// The narrowest spread in a bar.
    SpreadLow,
    /// The first ask of a bar, in rows that hold both sides; a shelf keeps each side as a series of its own.
    AskOpen,
    /// The highest ask of a bar, beside the bid.
    AskHigh,
    /// The lowest ask of a bar, beside the bid.
    AskLow,
    /// The last ask of a bar, beside the bid.
    AskClose,
    /// Bid of a quote.
    Bid,
    /// Ask of a quote.
    Ask,
    /// Volume at the bid.
    BidVolume,
    /// Volume at the ask.
    AskVolume,
    /// Price of a trade.
    Last,
    /// Number of ticks in a bar.
    TickCount,
    /// Contracts that are open.
    OpenInterest,
    /// The close with corporate actions worked in, as the source has it.
    AdjustedClose,
    /// Of a trade: 1 bought, 2 sold. Of a depth row: 1 bid, 2 ask.
    Taker,
    /// Of a depth row: 0 is the best price.
    Level,
    /// Of a depth row.
    Price,
    /// Of a depth row.
    Size,
    /// What a depth row does to its level: 1 new, 2 changed, 3 gone.
    Act,
    /// When a row of a live stream arrived here, in microseconds since 1970 UTC.
    Arrived,
    /// The weight of the heaviest event in a bar, 1 low to 3 high: only in files, never on a shelf.
    Event,
    /// How long a row of a layered series lasts, in microseconds: a bar its length, a tick 0.
    Covers,
    /// Where a row comes from: 0 as its source has it, 1 and on the place of its source in a splice;
    /// [`FILLED`], [`CARRIED_SPREAD`], [`REBUILT`] and [`MADE_UP`] are added where they hold.
    Origin,
}

/// Added to the origin of a row that was made up to fill a hole.
pub const FILLED: i64 = 100;

/// Added to the origin of a row whose spread is an estimate: the usual one of another source at that hour.
pub const CARRIED_SPREAD: i64 = 1000;

/// Added to the origin of a row whose spread was taken from the spec sheet.
pub const SHEET_SPREAD: i64 = 2000;

/// Added to the origin of a tick that was rebuilt from a bar, and of bars made of such ticks.
pub const REBUILT: i64 = 10_000;

/// Added to the origin of a row of a stress variant, which no market made, and of bars made of such rows.
pub const MADE_UP: i64 = 100_000;

/// What an origin says of the spread of its row: [`CARRIED_SPREAD`], [`SHEET_SPREAD`], or 0 where it is the
/// source's own.
pub fn spread_mark(origin: i64) -> i64 {
    origin % REBUILT - origin % CARRIED_SPREAD
}

/// True for the origin of a tick that was rebuilt from a bar, and of bars made of such ticks.
pub fn is_rebuilt(origin: i64) -> bool {
    origin % MADE_UP >= REBUILT
}

/// True for the origin of a row of a stress variant, and of bars made of such rows.
pub fn is_made_up(origin: i64) -> bool {
    origin >= MADE_UP
}

/// True for the origin of a row that was made up to fill a hole.
pub fn is_filled(origin: i64) -> bool {
    origin % CARRIED_SPREAD >= FILLED
}

impl Field {
    /// Every field, in the order columns are kept.
    pub const ALL: [Field; 30] = [
        Field::Open,
        Field::High,
        Field::Low,
        Field::Close,
        Field::Volume,
        Field::Spread,
        Field::SpreadOpen,
        Field::SpreadHigh,
        Field::SpreadLow,
        Field::AskOpen,
        Field::AskHigh,
        Field::AskLow,
        Field::AskClose,
        Field::Bid,
        Field::Ask,
        Field::BidVolume,
        Field::AskVolume,
        Field::Last,
        Field::TickCount,
        Field::OpenInterest,
        Field::AdjustedClose,
        Field::Taker,
        Field::Level,
        Field::Price,
        Field::Size,
        Field::Act,
        Field::Arrived,
        Field::Event,
        Field::Covers,
        Field::Origin,
    ];

    /// The column's name in every format.
    pub fn name(self) -> &'static str {
        match self {
            Field::Open => "open",
            Field::High => "high",
            Field::Low => "low",
            Field::Close => "close",
            Field::Volume => "volume",
            Field::Spread => "spread",
            Field::SpreadOpen => "spread_open",
            Field::SpreadHigh => "spread_high",
            Field::SpreadLow => "spread_low",
            Field::AskOpen => "ask_open",
            Field::AskHigh => "ask_high",
            Field::AskLow => "ask_low",
            Field::AskClose => "ask_close",
            Field::Bid => "bid",
            Field::Ask => "ask",
            Field::BidVolume => "bid_volume",
            Field::AskVolume => "ask_volume",
            Field::Last => "last",
            Field::TickCount => "tick_count",
            Field::OpenInterest => "open_interest",
            Field::AdjustedClose => "adjusted_close",
            Field::Taker => "side",
            Field::Level => "level",
            Field::Price => "price",
            Field::Size => "size",
            Field::Act => "act",
            Field::Arrived => "arrived",
            Field::Event => "event",
            Field::Covers => "covers",
            Field::Origin => "origin",
        }
    }

    /// The field with this name.
    pub fn named(name: &str) -> Option<Field> {
        Field::ALL.into_iter().find(|f| f.name() == name)
    }

    /// True where the numbers are prices.
    pub fn is_price(self) -> bool {
        use Field::*;
        matches!(self, Open | High | Low | Close | Bid | Ask | Last | AdjustedClose | Price)
            || self.is_beside_the_bid()
    }

    /// True for open, high, low and close.
    pub fn is_of_a_bar(self) -> bool {
        use Field::*;
        matches!(self, Open | High | Low | Close)
    }

    /// The field that a column beside the bid has in the rows of the ask itself.
    pub fn in_rows_of_the_ask(self) -> Option<Field> {
        use Field::*;
        Some(match self {
            AskOpen => Open,
            AskHigh => High,
            AskLow => Low,
            AskClose => Close,
            AskVolume => Volume,
            _ => return None,
        })
    }

    /// True for the ask of a bar that stands beside its bid: never on a shelf, which has it as a series of its own.
    pub fn is_beside_the_bid(self) -> bool {
        use Field::*;
        matches!(self, AskOpen | AskHigh | AskLow | AskClose)
    }

    /// True for what rows in files may have and rows on a shelf never do.
    pub fn is_only_in_files(self) -> bool {
        self.is_beside_the_bid() || self == Field::Event
    }

    /// True for bid and ask.
    pub fn is_of_a_quote(self) -> bool {
        matches!(self, Field::Bid | Field::Ask)
    }

    /// True for differences of prices, which are written in points.
    pub fn is_spread(self) -> bool {
        use Field::*;
        matches!(self, Spread | SpreadOpen | SpreadHigh | SpreadLow)
    }

    /// True for what only bars made of ticks have: no file is expected to have it, and none is written with it unless
    /// asked.
    pub fn is_detail(self) -> bool {
        use Field::*;
        matches!(self, SpreadOpen | SpreadHigh | SpreadLow)
    }

    /// True for what stands beside the prices of a row, which is worth having without it.
    pub fn is_a_side_value(self) -> bool {
        use Field::*;
        matches!(self, Volume | BidVolume | AskVolume | TickCount | OpenInterest | AdjustedClose | Arrived)
            || self.is_spread()
    }

    /// True where the numbers are amounts traded or offered.
    pub fn is_volume(self) -> bool {
        use Field::*;
        matches!(self, Volume | BidVolume | AskVolume | Size)
    }
}

/// Decimals of the prices and of the volumes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Scale {
    /// Decimals of prices.
    pub price: u8,
    /// Decimals of volumes.
    pub volume: u8,
}

impl Scale {
    /// Decimals of a field's numbers. A spread is written in points, so it counts as a whole number here.
    pub fn of(&self, field: Field) -> u8 {
        match field {
            f if f.is_price() => self.price,
            f if f.is_volume() => self.volume,
            _ => 0,
        }
    }

    /// The finer of both, field by field.
    pub fn finer(&self, other: &Scale) -> Scale {
        Scale { price: self.price.max(other.price), volume: self.volume.max(other.volume) }
    }

    /// What a column must be multiplied by to go from this scale to a finer one.
    pub fn factor_to(&self, finer: &Scale, field: Field) -> i64 {
        match field {
            // A difference of prices grows with their decimals.
            f if f.is_spread() => unit(finer.price - self.price),
            _ => unit(finer.of(field) - self.of(field)),
        }
    }
}

/// What kind of rows there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// Open, high, low, close, and perhaps volume and spread.
    Bars,
    /// Bid and ask, and perhaps their volumes.
    Quotes,
    /// Last price, and perhaps volume and side.
    Trades,
    /// Rows of the order book: side, level, price, size, act.
    Depth,
    /// Quotes or trades where there are some, bars elsewhere; each row says which it is by what it covers.
    Layered,
}

/// A piece of history: one time column and the columns of its fields, all of the same length.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Columns {
    /// Microseconds, in UTC where anchored, as written where afloat.
    pub time: Vec<Micros>,
    /// The columns beside the time, in the order of `values`.
    pub fields: Vec<Field>,
    /// One column for each of `fields`; a value that is not known is [`ABSENT`].
    pub data: Vec<Vec<i64>>,
    /// Decimals of prices and volumes.
    pub scale: Scale,
}

impl Columns {
    /// No rows, with these fields.
    pub fn empty(fields: &[Field], scale: Scale) -> Columns {
        Columns { time: Vec::new(), fields: fields.to_vec(), data: vec![Vec::new(); fields.len()], scale }
    }

    /// No rows yet, with room for so many.
    pub fn with_room(fields: &[Field], scale: Scale, rows: usize) -> Columns {
        let data = fields.iter().map(|_| Vec::with_capacity(rows)).collect();
        Columns { time: Vec::with_capacity(rows), fields: fields.to_vec(), data, scale }
    }

    /// The number of rows.
    pub fn len(&self) -> usize {
        self.time.len()
    }

    /// True where there are no rows.
    pub fn is_empty(&self) -> bool {
        self.time.is_empty()
    }

    /// The kind of rows, told from the fields.
    pub fn shape(&self) -> Shape {
        shape_of(&self.fields)
    }

    /// A field's column; an empty slice where there is none.
    pub fn column(&self, field: Field) -> &[i64] {
        self.fields.iter().position(|&f| f == field).map_or(&[], |i| &self.data[i])
    }

    /// A field's column whose values, or which as a whole, may be absent.
    pub fn cells(&self, field: Field) -> Cells<'_> {
        Cells::new(self.column(field))
    }

    /// A field's column to change, if it is there.
    pub fn column_mut(&mut self, field: Field) -> Option<&mut Vec<i64>> {
        self.fields.iter().position(|&f| f == field).map(|i| &mut self.data[i])
    }

    /// True where the field is there.
    pub fn has(&self, field: Field) -> bool {
        self.fields.contains(&field)
    }

    /// First and last time; none without rows.
    pub fn ends(&self) -> Option<(Micros, Micros)> {
        Some((*self.time.first()?, *self.time.last()?))
    }

    /// True where no time is before the one above it.
    pub fn is_sorted(&self) -> bool {
        self.time.is_sorted()
    }

    /// Appends the rows of another with the same fields and scale.
    pub fn append(&mut self, other: &Columns) {
        debug_assert_eq!((&self.fields, self.scale), (&other.fields, other.scale));
        self.time.extend_from_slice(&other.time);
        for (mine, theirs) in self.data.iter_mut().zip(&other.data) {
            mine.extend_from_slice(theirs);
        }
    }

    /// Appends some neighbouring rows of another with the same fields.
    pub fn append_range(&mut self, other: &Columns, rows: std::ops::Range<usize>) {
        self.time.extend_from_slice(&other.time[rows.clone()]);
        for (mine, theirs) in self.data.iter_mut().zip(&other.data) {
            mine.extend_from_slice(&theirs[rows.clone()]);
        }
    }

    /// Appends row `row` of another with the same fields.
    pub fn push_from(&mut self, other: &Columns, row: usize) {
        self.time.push(other.time[row]);
        for (mine, theirs) in self.data.iter_mut().zip(&other.data) {
            mine.push(theirs[row]);
        }
    }

    /// The rows `range` as new columns.
    pub fn rows(&self, range: std::ops::Range<usize>) -> Columns {
        Columns {
            time: self.time[range.clone()].to_vec(),
            fields: self.fields.clone(),
            data: self.data.iter().map(|c| c[range.clone()].to_vec()).collect(),
            scale: self.scale,
        }
    }

    /// Leaves away the rows from `rows` on.
    pub fn truncate(&mut self, rows: usize) {
        self.time.truncate(rows);
        self.data.iter_mut().for_each(|c| c.truncate(rows));
    }

    /// The range of rows (sorted by time) whose times lie in a span.
    pub fn range_of(&self, span: Span) -> std::ops::Range<usize> {
        self.time.partition_point(|&t| t < span.from)..self.time.partition_point(|&t| t < span.to)
    }

    /// Sorts by time; rows at one time keep their order.
    pub fn sort(&mut self) {
        if self.is_sorted() {
            return;
        }
        let mut order: Vec<u32> = (0..self.len() as u32).collect();
        order.sort_by_key(|&i| self.time[i as usize]);
        self.time = order.iter().map(|&i| self.time[i as usize]).collect();
        for column in &mut self.data {
            *column = order.iter().map(|&i| column[i as usize]).collect();
        }
    }

    /// Keeps the rows for which `keep(row)` holds.
    pub fn retain(&mut self, keep: impl Fn(usize) -> bool) {
        let rows: Vec<usize> = (0..self.len()).filter(|&i| keep(i)).collect();
        if rows.len() == self.len() {
            return;
        }
        self.time = rows.iter().map(|&i| self.time[i]).collect();
        for column in &mut self.data {
            *column = rows.iter().map(|&i| column[i]).collect();
        }
    }

    /// True where row `a` here and row `b` there hold the same values (times not compared).
    pub fn same_values(&self, a: usize, other: &Columns, b: usize) -> bool {
        self.data.iter().zip(&other.data).all(|(x, y)| x[a] == y[b])
    }

    /// The same rows with a finer scale: exact.
    pub fn rescaled(mut self, finer: Scale) -> Columns {
        if finer != self.scale {
            for (field, column) in self.fields.iter().zip(&mut self.data) {
                let factor = self.scale.factor_to(&finer, *field);
                if factor != 1 {
                    let there = column.iter_mut().filter(|v| present(**v).is_some());
                    there.for_each(|v| *v = v.saturating_mul(factor));
                }
            }
            self.scale = finer;
        }
        self
    }

    /// The same rows with a coarser scale, which must hold every number. A spread keeps its number: it is in
    /// points.
    pub fn coarsened(mut self, coarser: Scale) -> Columns {
        for (field, column) in self.fields.iter().zip(&mut self.data) {
            let factor = unit(self.scale.of(*field).saturating_sub(coarser.of(*field)));
            if factor != 1 {
                column.iter_mut().filter(|v| present(**v).is_some()).for_each(|v| *v /= factor);
            }
        }
        self.scale = coarser;
        self
    }

    /// The decimals that the prices need, at least `least`: zeros at their end are not needed.
    pub fn decimals_needed(&self, least: u8) -> u8 {
        let mut needed = least.min(self.scale.price);
        let prices = self.fields.iter().zip(&self.data).filter(|(f, _)| f.is_price());
        for value in prices.flat_map(|(_, column)| column.iter().copied().filter_map(present)) {
            while needed < self.scale.price && value % unit(self.scale.price - needed) != 0 {
                needed += 1;
            }
        }
        needed
    }

    /// The same rows with exactly these fields: what is not there is absent, what is not named is dropped. An
    /// origin that is not there is 0: the rows are as their source has them.
    pub fn with_fields(mut self, fields: &[Field]) -> Columns {
        if self.fields != fields {
            let rows = self.len();
            self.data = fields
                .iter()
                .map(|&f| self.column_mut(f).map_or_else(|| vec![blank(f); rows], std::mem::take))
                .collect();
            self.fields = fields.to_vec();
        }
        self
    }
}

/// What stands in a column of a field that rows do not have.
pub fn blank(field: Field) -> i64 {
    if field == Field::Origin { 0 } else { ABSENT }
}

/// The kind of rows that have these fields.
pub fn shape_of(fields: &[Field]) -> Shape {
    if fields.contains(&Field::Covers) {
        Shape::Layered
    } else if fields.contains(&Field::Level) {
        Shape::Depth
    } else if fields.contains(&Field::Bid) {
        Shape::Quotes
    } else if fields.contains(&Field::Last) {
        Shape::Trades
    } else {
        Shape::Bars
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn absent_values_stay_absent_at_any_scale_and_new_fields_begin_absent() {
        let rows = Columns {
            time: vec![0, 1],
            fields: vec![Field::Close, Field::Spread],
            data: vec![vec![12, ABSENT], vec![ABSENT, 0]],
            scale: Scale { price: 1, volume: 0 },
        };
        let finer = rows.rescaled(Scale { price: 3, volume: 2 });
        assert_eq!(finer.data, [vec![1200, ABSENT], vec![ABSENT, 0]]);
        let wider = finer.with_fields(&[Field::Close, Field::Volume, Field::Spread, Field::Origin]);
        assert_eq!(wider.column(Field::Volume), [ABSENT, ABSENT]);
        assert_eq!(wider.column(Field::Origin), [0, 0]);
        assert_eq!((wider.cells(Field::Spread).get(0), wider.cells(Field::Spread).get(1)), (None, Some(0)));
    }

    #[test]
    fn a_filled_row_is_told_whatever_else_its_origin_says() {
        let told = [0, 1, 3, FILLED, FILLED + 2, CARRIED_SPREAD + 1, CARRIED_SPREAD + FILLED, SHEET_SPREAD]
            .map(is_filled);
        assert_eq!(told, [false, false, false, true, true, false, true, false]);
        let made_up = MADE_UP + SHEET_SPREAD + 3;
        assert!(is_made_up(made_up) && !is_rebuilt(made_up) && !is_filled(made_up));
        assert!(is_rebuilt(MADE_UP + REBUILT) && spread_mark(made_up) == SHEET_SPREAD);
    }
}
