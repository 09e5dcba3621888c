//! Rows of a history as columns of integers.

use super::price::unit;
use super::time::{Micros, Span};

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Field {
    Open,
    High,
    Low,
    Close,
    Volume,
    /// In points: units of the last decimal of the price.
    Spread,
    Bid,
    Ask,
    BidVolume,
    AskVolume,
    Last,
    /// Number of ticks in a bar.
    TickCount,
    OpenInterest,
    /// The close with corporate actions worked in, as the source has it.
    AdjustedClose,
    /// Of a trade: 1 bought, 2 sold, 0 not said. Of a depth row: 1 bid, 2 ask.
    Taker,
    /// Of a depth row: 0 is the best price.
    Level,
    /// Of a depth row.
    Price,
    /// Of a depth row.
    Size,
    /// What a depth row does to its level: 0 not said, 1 new, 2 changed, 3 gone.
    Act,
    /// How long a row of a layered series lasts, in microseconds: a bar its length, a tick 0.
    Covers,
    /// Where a row comes from: 0 as its source has it, 1 and on the place of its source in a splice,
    /// [`FILLED`] made up to fill a hole.
    Origin,
}

/// The origin of a row that was made up to fill a hole.
pub const FILLED: i64 = 100;

impl Field {
    /// Every field, in the order columns are kept.
    pub const ALL: [Field; 21] = [
        Field::Open,
        Field::High,
        Field::Low,
        Field::Close,
        Field::Volume,
        Field::Spread,
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
    }

    /// True for open, high, low and close.
    pub fn is_of_a_bar(self) -> bool {
        use Field::*;
        matches!(self, Open | High | Low | Close)
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
    pub price: u8,
    pub volume: u8,
}

impl Scale {
    /// Decimals with which a field is written.
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
            // A point is the last decimal, so more decimals make more points.
            Field::Spread => unit(finer.price - self.price),
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
    pub fields: Vec<Field>,
    /// One column for each of `fields`.
    pub data: Vec<Vec<i64>>,
    pub scale: Scale,
}

impl Columns {
    /// No rows, with these fields.
    pub fn empty(fields: &[Field], scale: Scale) -> Columns {
        Columns { time: Vec::new(), fields: fields.to_vec(), data: vec![Vec::new(); fields.len()], scale }
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
                    column.iter_mut().for_each(|v| *v = v.saturating_mul(factor));
                }
            }
            self.scale = finer;
        }
        self
    }

    /// Bars with all four prices: an open that is not there is the close, a high or low that is not there the
    /// higher or lower of what is there.
    pub fn with_whole_bars(mut self) -> Columns {
        let of_a_bar = [Field::Open, Field::High, Field::Low, Field::Close];
        if self.shape() != Shape::Bars || of_a_bar.iter().all(|f| self.has(*f)) {
            return self;
        }
        let mut there = of_a_bar.iter().filter_map(|f| self.fields.iter().position(|x| x == f));
        let Some(any) = there.next_back() else { return self };
        let column =
            |f: Field| self.fields.iter().position(|&x| x == f).map_or(&self.data[any], |i| &self.data[i]);
        let both = |pick: fn(i64, i64) -> i64| {
            let pairs = column(Field::Open).iter().zip(column(Field::Close));
            pairs.map(|(o, c)| pick(*o, *c)).collect::<Vec<i64>>()
        };
        let made =
            [column(Field::Open).clone(), both(i64::max), both(i64::min), column(Field::Close).clone()];
        let fields: Vec<Field> = Field::ALL.into_iter().filter(|f| self.has(*f) || f.is_of_a_bar()).collect();
        let missing: Vec<Field> = of_a_bar.into_iter().filter(|f| !self.has(*f)).collect();
        self = self.with_fields(&fields);
        for (field, values) in of_a_bar.into_iter().zip(made).filter(|(f, _)| missing.contains(f)) {
            if let Some(column) = self.column_mut(field) {
                *column = values;
            }
        }
        self
    }

    /// The same rows with exactly these fields: what is not there is filled with zeros, what is not named is dropped.
    pub fn with_fields(mut self, fields: &[Field]) -> Columns {
        if self.fields != fields {
            let rows = self.len();
            self.data = fields
                .iter()
                .map(|&f| self.column_mut(f).map(std::mem::take).unwrap_or_else(|| vec![0; rows]))
                .collect();
            self.fields = fields.to_vec();
        }
        self
    }
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
