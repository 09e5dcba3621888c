//! Lines to rows: the hot path of intake.
//!
//! Rows in the usual writing are read in one pass over the bytes ([`Parser::quick_row`]); whatever it does
//! not recognise is cut into cells and read with all the care there is ([`Parser::line`]).

use super::cells;
use super::layout::{DateOrder, Delimiter, Layout, Since1970, Use};
use super::moment;
use crate::model::columns::shape_of;
use crate::model::price::{MAX_DECIMALS, NumberFault, parse_scaled, unit};
use crate::model::time::{DAY, HOUR, MINUTE, SECOND};
use crate::model::{ABSENT, Columns, Field, Micros, Scale, Shape};

/// Why a line is no row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    TooFewColumns {
        have: usize,
        need: usize,
    },
    /// Columns count from 1.
    NotATime {
        column: usize,
    },
    NotANumber {
        column: usize,
    },
    NotASide {
        column: usize,
    },
    TooLarge {
        column: usize,
    },
    /// A number finer than the scale: the file has to be read again with more decimals.
    TooFine {
        field: Field,
        decimals: u8,
    },
    NoSymbol,
    /// A bar without a single price.
    NoPrice,
}

impl Fault {
    /// The reason in words.
    pub fn words(&self) -> String {
        match self {
            Fault::TooFewColumns { have, need } => format!("{have} columns where {need} are needed"),
            Fault::NotATime { column } => format!("column {column} is not a time between 1900 and 2200"),
            Fault::NotANumber { column } => format!("column {column} is not a number"),
            Fault::NotASide { column } => format!("column {column} is not a side or act"),
            Fault::TooLarge { column } => format!("column {column} is too large a number"),
            Fault::TooFine { decimals, .. } => format!("{decimals} decimals are too many"),
            Fault::NoSymbol => "the row names no symbol".into(),
            Fault::NoPrice => "the row has no price".into(),
        }
    }
}

/// A line that became no row.
#[derive(Debug, Clone)]
pub struct Reject {
    /// Counted from 0 within the block.
    pub line: u64,
    /// Within the block.
    pub byte: usize,
    pub fault: Fault,
}

/// What a block of lines gave.
pub struct Parsed {
    pub rows: Columns,
    pub rejects: Vec<Reject>,
    pub lines: u64,
    /// Where a column holds the symbol: the symbols met, and for each row which of them it has.
    pub symbols: Vec<Vec<u8>>,
    pub symbol_of: Vec<u32>,
}

/// Reads blocks of lines by a layout. Times come out as written.
pub struct Parser {
    delimiter: Delimiter,
    comment: Option<u8>,
    decimal: u8,
    thousands: Option<u8>,
    /// What to do with each column, with the place of its field in the row.
    steps: Vec<Step>,
    fields: Vec<Field>,
    scale: Scale,
    dates: DateOrder,
    day: Micros,
    quick: bool,
    has_symbols: bool,
    is_bars: bool,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Step {
    Skip,
    Moment,
    Date,
    Time,
    Unix(Since1970),
    DayNumber,
    DayMillis,
    Symbol,
    Number { at: usize, decimals: u8 },
    Side { at: usize },
    Act { at: usize },
}

/// The values of one row and the state that goes from row to row.
struct Row {
    values: [i64; Field::ALL.len()],
    symbol: u32,
    day: DayMemory,
    scratch: Vec<u8>,
}

impl Parser {
    /// A parser for a layout that scales numbers by `scale`.
    pub fn new(layout: &Layout, scale: Scale) -> Parser {
        let fields = layout.fields();
        let step = |u: &Use| match u {
            Use::Skip | Use::Value(_) => Step::Skip,
            Use::Moment => Step::Moment,
            Use::Date => Step::Date,
            Use::Time => Step::Time,
            Use::Unix(unit) => Step::Unix(*unit),
            Use::DayNumber => Step::DayNumber,
            Use::DayMillis => Step::DayMillis,
            Use::Symbol => Step::Symbol,
            Use::Field(f) => {
                let at = fields.iter().position(|x| x == f).unwrap_or_default();
                match f {
                    Field::Taker => Step::Side { at },
                    Field::Act => Step::Act { at },
                    _ => Step::Number { at, decimals: scale.of(*f) },
                }
            }
        };
        let mut steps: Vec<Step> = layout.columns.iter().map(step).collect();
        steps.truncate(steps.iter().rposition(|s| *s != Step::Skip).map_or(0, |p| p + 1));
        let plain_marks = layout.decimal == b'.' && layout.thousands.is_none() && layout.comment.is_none();
        let usual = |s: &Step| matches!(s, Step::Skip | Step::Moment | Step::Number { .. });
        Parser {
            delimiter: layout.delimiter,
            comment: layout.comment,
            decimal: layout.decimal,
            thousands: layout.thousands,
            quick: plain_marks
                && layout.delimiter != Delimiter::Blanks
                && layout.delimiter != Delimiter::Mark(b'.')
                && steps.iter().all(usual),
            has_symbols: steps.contains(&Step::Symbol),
            is_bars: shape_of(&fields) == Shape::Bars,
            steps,
            fields,
            scale,
            dates: layout.dates,
            day: layout.day.unwrap_or(0) * DAY,
        }
    }

    /// Reads every line of a block; blank lines and comments are passed over.
    pub fn block(&self, text: &[u8]) -> Parsed {
        let mut out = Parsed {
            rows: self.room_for(text),
            rejects: Vec::new(),
            lines: 0,
            symbols: Vec::new(),
            symbol_of: Vec::new(),
        };
        let mut row =
            Row { values: [0; Field::ALL.len()], symbol: 0, day: DayMemory::default(), scratch: Vec::new() };
        let mut start = 0;
        while start < text.len() {
            if self.quick
                && let Some((time, next)) = self.quick_row(text, start, &mut row)
            {
                self.keep(&mut out, time, &row);
                out.lines += 1;
                start = next;
                continue;
            }
            let end = memchr::memchr(b'\n', &text[start..]).map_or(text.len(), |n| start + n);
            let line = text[start..end].strip_suffix(b"\r").unwrap_or(&text[start..end]);
            if !line.is_empty() && (self.comment.is_none() || line.first() != self.comment.as_ref()) {
                match self.line(line, &mut row, &mut out.symbols) {
                    Ok(time) => self.keep(&mut out, time, &row),
                    Err(fault) => out.rejects.push(Reject { line: out.lines, byte: start, fault }),
                }
            }
            out.lines += 1;
            start = end + 1;
        }
        out
    }

    #[inline(always)]
    fn keep(&self, out: &mut Parsed, time: Micros, row: &Row) {
        out.rows.time.push(time);
        out.rows.data.iter_mut().zip(&row.values).for_each(|(column, value)| column.push(*value));
        if self.has_symbols {
            out.symbol_of.push(row.symbol);
        }
    }

    fn room_for(&self, text: &[u8]) -> Columns {
        let line = memchr::memchr(b'\n', text).unwrap_or(text.len()).max(16);
        let rows = text.len() / line + text.len() / (line * 16) + 16;
        Columns {
            time: Vec::with_capacity(rows),
            fields: self.fields.clone(),
            data: self.fields.iter().map(|_| Vec::with_capacity(rows)).collect(),
            scale: self.scale,
        }
    }

    /// Reads a row in the usual writing from `at`; gives its time and where the next line begins. None
    /// for everything that wants a closer look.
    #[inline(always)]
    fn quick_row(&self, text: &[u8], mut at: usize, row: &mut Row) -> Option<(Micros, usize)> {
        let Delimiter::Mark(mark) = self.delimiter else { return None };
        let mut time: Micros = 0;
        for (i, step) in self.steps.iter().enumerate() {
            if i > 0 {
                if *text.get(at)? != mark {
                    return None;
                }
                at += 1;
            }
            match *step {
                Step::Number { at: place, decimals } => {
                    (row.values[place], at) = quick_number(text, at, decimals)?;
                }
                Step::Moment => (time, at) = row.day.quick_moment(text, at)?,
                _ => {
                    let rest = text.get(at..)?;
                    at += rest
                        .iter()
                        .position(|c| *c == mark || *c == b'\n' || *c == b'"')
                        .filter(|n| rest[*n] != b'"')?;
                }
            }
        }
        match *text.get(at)? {
            b'\n' => Some((time, at + 1)),
            b'\r' if text.get(at + 1) == Some(&b'\n') => Some((time, at + 2)),
            c if c == mark => Some((time, at + memchr::memchr(b'\n', &text[at..])? + 1)),
            _ => None,
        }
    }

    /// Reads one line cell by cell.
    fn line(&self, line: &[u8], row: &mut Row, symbols: &mut Vec<Vec<u8>>) -> Result<Micros, Fault> {
        let mut time = self.day;
        let mut cells = cells::of(line, self.delimiter);
        for (i, step) in self.steps.iter().enumerate() {
            let Some(cell) = cells.next() else {
                // A line may leave off what nothing is read from.
                let need = self.steps.len();
                return Err(Fault::TooFewColumns { have: i, need });
            };
            let not_a_time = Fault::NotATime { column: i + 1 };
            match *step {
                Step::Skip => {}
                Step::Number { at, decimals } => {
                    let plain = cells::plain_number(cell, self.decimal, self.thousands, &mut row.scratch);
                    row.values[at] = match parse_scaled(plain, decimals) {
                        Ok(value) => value,
                        // The price of a tick must be there; a bar may lack some of its own.
                        Err(_) if cells::is_absent(cell) && (self.is_bars || !self.fields[at].is_price()) => {
                            ABSENT
                        }
                        Err(f) => cells::odd_number(plain, decimals)
                            .unwrap_or(Err(f))
                            .map_err(|f| self.number_fault(f, i, at))?,
                    };
                }
                Step::Moment => time += row.day.moment(cell, self.dates).ok_or(not_a_time)?,
                Step::Date => time += row.day.date(cell, self.dates).ok_or(not_a_time)? * DAY,
                Step::Time => time += moment::time_of_day(cell).ok_or(not_a_time)?,
                Step::Unix(unit) => time += moment::since_1970(cell, unit).ok_or(not_a_time)?,
                Step::DayNumber => time += moment::day_number(cell).ok_or(not_a_time)?,
                Step::DayMillis => time += moment::day_millis(cell).ok_or(not_a_time)?,
                Step::Symbol => row.symbol = symbol(cell, symbols).ok_or(Fault::NoSymbol)?,
                Step::Side { at } => {
                    row.values[at] = cells::side(cell).ok_or(Fault::NotASide { column: i + 1 })?;
                }
                Step::Act { at } => {
                    row.values[at] = cells::act(cell).ok_or(Fault::NotASide { column: i + 1 })?;
                }
            }
        }
        if self.is_bars {
            self.refuse_without_price(row)?;
        }
        Ok(time)
    }

    /// A bar needs a price of its own; an adjusted close is none.
    fn refuse_without_price(&self, row: &Row) -> Result<(), Fault> {
        let mut prices = self.fields.iter().zip(&row.values).filter(|(f, _)| f.is_of_a_bar()).peekable();
        match prices.peek().is_some() && prices.all(|(_, v)| *v == ABSENT) {
            true => Err(Fault::NoPrice),
            false => Ok(()),
        }
    }

    #[cold]
    fn number_fault(&self, fault: NumberFault, column: usize, at: usize) -> Fault {
        match fault {
            NumberFault::NotANumber => Fault::NotANumber { column: column + 1 },
            NumberFault::TooLarge => Fault::TooLarge { column: column + 1 },
            NumberFault::TooFine(decimals) if decimals > MAX_DECIMALS => {
                Fault::TooFine { field: self.fields[at], decimals }
            }
            // Counts and spreads are whole; a finer one is no number that fits.
            NumberFault::TooFine(_) if !self.fields[at].is_price() && !self.fields[at].is_volume() => {
                Fault::NotANumber { column: column + 1 }
            }
            NumberFault::TooFine(decimals) => Fault::TooFine { field: self.fields[at], decimals },
        }
    }
}

/// The place of a symbol among those met; it is added where it is new.
fn symbol(cell: &[u8], symbols: &mut Vec<Vec<u8>>) -> Option<u32> {
    let last = symbols.len().saturating_sub(1);
    if symbols.get(last).is_some_and(|s| s == cell) {
        return Some(last as u32);
    }
    if cell.is_empty() {
        return None;
    }
    let at = symbols.iter().position(|s| s == cell).unwrap_or_else(|| {
        symbols.push(cell.to_vec());
        symbols.len() - 1
    });
    Some(at as u32)
}

/// Reads a number of up to 18 digits with no more than `decimals` decimals; gives where it ends.
///
/// A number of up to eight characters is read as one word; what is longer or has a sign, digit by digit.
#[inline(always)]
fn quick_number(text: &[u8], at: usize, decimals: u8) -> Option<(i64, usize)> {
    let word = u64::from_le_bytes(*text.get(at..)?.first_chunk::<8>()?) ^ ZEROS;
    // The highest bit of each byte that is no digit: added to anything above nine, 0x76 reaches it.
    let tall = (word & 0x7f7f_7f7f_7f7f_7f7f) + 0x7676_7676_7676_7676;
    let others = (tall | word) & 0x8080_8080_8080_8080;
    let whole = (others.trailing_zeros() / 8) as usize;
    if whole == 8 {
        return long_number(text, at, decimals);
    }
    let (word, digits, places) = match text[at + whole] {
        b'.' => {
            let dot = others & others.wrapping_neg();
            let digits = ((others ^ dot).trailing_zeros() / 8) as usize - 1;
            // The bytes before the dot stay, those behind it close the gap.
            let before = (dot >> 7) - 1;
            ((word & before) | ((word >> 8) & !before), digits, digits - whole)
        }
        _ => (word, whole, 0),
    };
    let end = at + digits + usize::from(text[at + whole] == b'.');
    if digits == 0 || text.get(end)?.is_ascii_digit() {
        return long_number(text, at, decimals);
    }
    let missing = (decimals as usize).checked_sub(places)?;
    Some((first_digits(word, digits) * TENS[missing], end))
}

/// Eight digits `0`: taken off a word of digits, their values are left.
const ZEROS: u64 = u64::from_le_bytes(*b"00000000");

/// The number that the first bytes of a word, values of digits, make: one to eight of them.
#[inline(always)]
fn first_digits(word: u64, count: usize) -> i64 {
    // The first digit is the lowest byte: zeros move in before it. Pairs, fours and eights are then added up.
    let word = word << (64 - 8 * count);
    let word = (word & 0x0f0f_0f0f_0f0f_0f0f).wrapping_mul(10 * 256 + 1) >> 8;
    let word = (word & 0x00ff_00ff_00ff_00ff).wrapping_mul(100 * 65_536 + 1) >> 16;
    ((word & 0x0000_ffff_0000_ffff).wrapping_mul(10_000 * (1 << 32) + 1) >> 32) as i64
}

/// Powers of ten.
const TENS: [i64; 19] = {
    let mut tens = [1; 19];
    let mut i = 1;
    while i < tens.len() {
        tens[i] = tens[i - 1] * 10;
        i += 1;
    }
    tens
};

/// A number with a sign or of more than eight characters, digit by digit.
fn long_number(text: &[u8], mut at: usize, decimals: u8) -> Option<(i64, usize)> {
    let negative = *text.get(at)? == b'-';
    at += usize::from(negative);
    let start = at;
    let mut value: i64 = 0;
    let mut c = *text.get(at)?;
    while c.is_ascii_digit() {
        value = value.wrapping_mul(10).wrapping_add((c - b'0') as i64);
        at += 1;
        c = *text.get(at)?;
    }
    let mut missing = decimals;
    let mut digits = at - start;
    if c == b'.' {
        let dot = at;
        at += 1;
        c = *text.get(at)?;
        while c.is_ascii_digit() {
            value = value.wrapping_mul(10).wrapping_add((c - b'0') as i64);
            at += 1;
            c = *text.get(at)?;
        }
        let places = at - dot - 1;
        digits += places;
        missing = decimals.checked_sub(u8::try_from(places).ok()?)?;
    }
    if digits == 0 || digits + missing as usize > 18 {
        return None;
    }
    value *= unit(missing);
    Some((if negative { -value } else { value }, at))
}

/// The date read last: neighbouring lines nearly always share it.
#[derive(Default)]
struct DayMemory {
    text: [u8; 10],
    day: Option<i64>,
}

impl DayMemory {
    /// A moment with the date read last and a time of day as `13:45:12` or `13:45:12.345`.
    #[inline(always)]
    fn quick_moment(&self, text: &[u8], at: usize) -> Option<(Micros, usize)> {
        let day = self.day?;
        let cell: &[u8; 19] = text.get(at..at + 19)?.try_into().ok()?;
        let (date, time) = cell.split_first_chunk::<10>()?;
        if *date != self.text || !matches!(time[0], b' ' | b'T') {
            return None;
        }
        let mut t = day * DAY + clock_time(time[1..].try_into().ok()?)?;
        let mut at = at + 19;
        if text.get(at) == Some(&b'.') {
            let (fraction, end) = fraction(text, at + 1)?;
            t += fraction;
            at = end;
        }
        // Anything but a delimiter is seen by the caller: a zone or another mark gets the closer look.
        Some((t, at))
    }

    fn moment(&mut self, cell: &[u8], order: DateOrder) -> Option<Micros> {
        let at = moment::moment(cell, order)?;
        // Only a full date of ten characters may be remembered by its first ten.
        self.day = None;
        if let Some((head, [b' ' | b'T', ..])) = cell.split_first_chunk::<10>() {
            self.day = moment::date(head, order).filter(|(_, rest)| rest.is_empty()).map(|(day, _)| day);
            self.text = *head;
        }
        Some(at)
    }

    fn date(&mut self, cell: &[u8], order: DateOrder) -> Option<i64> {
        if let Some(day) = self.day
            && cell == self.text
        {
            return Some(day);
        }
        let (day, rest) = moment::date(cell, order)?;
        if !rest.is_empty() {
            return None;
        }
        self.day = None;
        if let Ok(text) = cell.try_into() {
            (self.text, self.day) = (text, Some(day));
        }
        Some(day)
    }
}

/// The digits behind a second's point as microseconds, with where they end: up to six of them.
#[inline(always)]
fn fraction(text: &[u8], at: usize) -> Option<(Micros, usize)> {
    let word = u64::from_le_bytes(*text.get(at..)?.first_chunk::<8>()?) ^ ZEROS;
    let others = (word.wrapping_add(0x0606_0606_0606_0606) | word) & 0xf0f0_f0f0_f0f0_f0f0;
    match (others.trailing_zeros() / 8) as usize {
        count @ 1..=6 => Some((first_digits(word, count) * TENS[6 - count], at + count)),
        _ => None,
    }
}

/// `13:45:12` as a time of day, eight characters at once.
#[inline(always)]
fn clock_time(text: [u8; 8]) -> Option<Micros> {
    // With the digits' and colons' codes taken off, digits are below ten and colons are zero.
    let word = u64::from_le_bytes(text) ^ u64::from_le_bytes(*b"00:00:00");
    let too_large = word.wrapping_add(0x0606_0606_0606_0606) | word;
    if too_large & 0xf0f0_f0f0_f0f0_f0f0 != 0 || word & 0x0000_ff00_00ff_0000 != 0 {
        return None;
    }
    // Each byte times ten plus the next one: below 256, so that none spills into its neighbour.
    let pairs = word.wrapping_mul(10) + (word >> 8);
    let [h, _, _, m, _, _, s, _] = pairs.to_le_bytes().map(i64::from);
    (h < 24 && m < 60 && s < 60).then_some(h * HOUR + m * MINUTE + s * SECOND)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use proptest::prelude::*;

    fn layout(columns: &[Use], delimiter: u8, dates: DateOrder) -> Layout {
        Layout {
            delimiter: Delimiter::Mark(delimiter),
            dates,
            price_decimals: 5,
            volume_decimals: 2,
            ..Layout::plain(columns)
        }
    }

    fn quotes() -> Layout {
        let f = Use::Field;
        layout(
            &[Use::Moment, f(Field::Bid), f(Field::Ask), f(Field::BidVolume), f(Field::AskVolume)],
            b',',
            DateOrder::DayFirst,
        )
    }

    const SCALE: Scale = Scale { price: 5, volume: 2 };

    #[test]
    fn rows_and_rejects_with_their_lines() {
        let text =
            b"05.03.2024 13:45:12.345,1.02345,1.02349,1.20,0.75\r\n\n05.03.2024 13:45:13.000,1.02345\n\
            nonsense,1,1,1,1\n05.03.2024 13:45:14,1.0x,1,1,1\n06.03.2024 00:00:00.001, 1.1 ,\"1.2\",3,4";
        let parsed = Parser::new(&quotes(), SCALE).block(text);
        assert_eq!(parsed.rows.len(), 2);
        assert_eq!(parsed.rows.time[0], parse("2024-03-05 13:45:12.345").unwrap());
        assert_eq!(parsed.rows.column(Field::Ask), [102_349, 120_000]);
        let faults: Vec<(u64, Fault)> = parsed.rejects.iter().map(|r| (r.line, r.fault)).collect();
        assert_eq!(
            faults,
            [
                (2, Fault::TooFewColumns { have: 2, need: 5 }),
                (3, Fault::NotATime { column: 1 }),
                (4, Fault::NotANumber { column: 2 })
            ]
        );
        assert_eq!(parsed.lines, 6);
    }

    #[test]
    fn date_and_time_apart_and_spread_in_points() {
        let f = Use::Field;
        let columns = [Use::Date, Use::Time, f(Field::Open), Use::Skip, f(Field::Spread)];
        let parser = Parser::new(&layout(&columns, b';', DateOrder::YearFirst), SCALE);
        let parsed = parser
            .block(b"2024/03/05;15:45;1.1;x;18\n2024/03/05;15:46;1.1;x;1.5\n2024/03/05;15:47;1.123456;x;1");
        assert_eq!(parsed.rows.column(Field::Spread), [18]);
        assert_eq!(parsed.rejects[0].fault, Fault::NotANumber { column: 5 });
        assert_eq!(parsed.rejects[1].fault, Fault::TooFine { field: Field::Open, decimals: 6 });
    }

    #[test]
    fn an_empty_cell_is_absent_and_a_zero_is_a_zero() {
        let f = Use::Field;
        let columns = [Use::Moment, f(Field::Open), f(Field::Close), f(Field::Volume), f(Field::Spread)];
        let parser = Parser::new(&layout(&columns, b',', DateOrder::YearFirst), SCALE);
        let parsed = parser.block(
            b"2024-03-05 10:00,1.1,1.2,0,0\n2024-03-05 10:01,,1.2,,\n2024-03-05 10:02,NaN,1.2,null,N/A\n\
            2024-03-05 10:03,,,5,5\n2024-03-05 10:04,1.1,1.2,,7\n",
        );
        let column = |field| parsed.rows.column(field);
        assert_eq!(column(Field::Open), [110_000, ABSENT, ABSENT, 110_000]);
        assert_eq!(column(Field::Volume), [0, ABSENT, ABSENT, ABSENT]);
        assert_eq!(column(Field::Spread), [0, ABSENT, ABSENT, 7]);
        assert_eq!(
            parsed.rejects.iter().map(|r| (r.line, r.fault)).collect::<Vec<_>>(),
            [(3, Fault::NoPrice)]
        );
        let ticks = Parser::new(&quotes(), SCALE)
            .block(b"05.03.2024 13:45:12,,1.2,1,\n05.03.2024 13:45:13,1,1.2,,\n");
        assert_eq!(ticks.rejects[0].fault, Fault::NotANumber { column: 2 });
        assert_eq!(ticks.rows.column(Field::BidVolume), [ABSENT]);
    }

    #[test]
    fn a_number_that_ends_with_the_text_is_left_to_the_closer_look() {
        for text in ["12345678", "-12345678", "1.2345678", "1.234567", "1234567.", "", "-"] {
            assert_eq!(quick_number(text.as_bytes(), 0, 8), None, "{text}");
        }
    }

    #[test]
    fn every_time_of_day_is_read_and_nothing_beyond() {
        for s in 0..86_400 {
            let text = format!("{:02}:{:02}:{:02}", s / 3600, s / 60 % 60, s % 60);
            let cell = text.as_bytes().try_into().unwrap();
            assert_eq!(clock_time(cell), Some(s * SECOND), "{text}");
        }
        for text in [
            b"24:00:00",
            b"00:60:00",
            b"00:00:60",
            b"0a:00:00",
            b"00-00:00",
            b"99:99:99",
            b":::::::::"[..8].try_into().unwrap(),
        ] {
            assert_eq!(clock_time(*text), None);
        }
    }

    /// The slow plain way: split, trim, parse each cell on its own.
    fn plainly(text: &[u8], layout: &Layout) -> Vec<(Micros, Vec<i64>)> {
        let mut out = Vec::new();
        for line in text.split(|&c| c == b'\n') {
            let cells: Vec<&[u8]> = line.split(|&c| c == b',').map(cells::bare).collect();
            let Some(time) = cells.first().and_then(|c| moment::moment(c, layout.dates)) else { continue };
            let values: Option<Vec<i64>> = (1..5)
                .map(|i| match cells.get(i)? {
                    [] if i > 2 => Some(ABSENT),
                    cell => parse_scaled(cell, if i < 3 { 5 } else { 2 }).ok(),
                })
                .collect();
            out.extend(values.map(|v| (time, v)));
        }
        out
    }

    proptest! {
        #[test]
        fn a_word_of_digits_is_read_as_digit_by_digit(
            text in "-?[0-9]{0,10}(\\.[0-9]{0,10})?[,\n/:;x][0-9,.]{12}",
            decimals in 0u8..9,
        ) {
            let (quick, slow) = (quick_number(text.as_bytes(), 0, decimals), long_number(text.as_bytes(), 0, decimals));
            prop_assert_eq!(quick, slow);
        }

        #[test]
        fn fast_and_plain_agree(lines in proptest::collection::vec(
            ("(0[1-9]|[12][0-9]|3[01]|5)\\.(0[1-9]|1[0-2])\\.20[012][0-9] [012][0-9]:[0-6][0-9]:[0-5][0-9](\\.[0-9]{1,7})?",
             "-?[0-9]{1,3}(\\.[0-9]{0,5})?", "[0-9]{0,2}\\.?[0-9]{0,3}", "[0-9]{1,2}(,[0-9])?", "[0-9x]{1,3}"), 0..40)) {
            let text = lines.iter().map(|(a, b, c, d, e)| format!("{a},{b},{c},{d},{e}")).collect::<Vec<_>>().join("\n");
            let parsed = Parser::new(&quotes(), SCALE).block(text.as_bytes());
            let fast: Vec<(Micros, Vec<i64>)> =
                (0..parsed.rows.len()).map(|i| (parsed.rows.time[i], parsed.rows.data.iter().map(|c| c[i]).collect())).collect();
            prop_assert_eq!(fast, plainly(text.as_bytes(), &quotes()));
        }

        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            let parsed = Parser::new(&quotes(), SCALE).block(&bytes);
            prop_assert!(parsed.rows.len() + parsed.rejects.len() <= parsed.lines as usize);
        }
    }
}
