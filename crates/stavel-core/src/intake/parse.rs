//! Lines to rows: the hot path of intake.
//!
//! Rows in the usual writing are read in one pass over the bytes ([`Parser::quick_row`]); whatever it does
//! not recognise is cut into cells and read with all the care there is ([`Parser::line`]).

use super::cells;
use super::moment;
use super::quick::{self, DayMemory, Pattern};
use super::row_pattern::{Cell, RowPattern, RowValues};
use crate::model::DateOrder;
use crate::model::columns::shape_of;
use crate::model::layout::{Delimiter, Layout, Since1970, SpreadUnit, Use};
use crate::model::number_marks::{self, NumberMarks};
use crate::model::price::{MAX_DECIMALS, NumberFault, parse_scaled, unit};
use crate::model::time::DAY;
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
    /// Its symbol, where a column holds one and the line has it.
    pub symbol: Option<u32>,
}

/// What a block of lines gave.
pub struct Parsed {
    pub rows: Columns,
    pub rejects: Vec<Reject>,
    pub lines: u64,
    /// Where a column holds the symbol: the symbols met, and for each row which of them it has.
    pub symbols: Vec<Vec<u8>>,
    pub symbol_of: Vec<u32>,
    pub oddities: Oddities,
}

/// Cells that were not taken as they are written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Oddities {
    /// Prices whose last digits are the tail of a binary fraction, rounded to what they mean.
    pub tails: u64,
    /// Prices rounded to the decimals that were said.
    pub rounded: u64,
    /// Cells of volumes, spreads and the like that are no numbers that fit; their rows were taken without.
    pub lost: u64,
    /// Prices that are not there.
    pub absent: u64,
}

impl Oddities {
    /// Adds those of other rows.
    pub fn add(&mut self, other: Oddities) {
        self.tails += other.tails;
        self.rounded += other.rounded;
        self.lost += other.lost;
        self.absent += other.absent;
    }
}

/// Reads blocks of lines by a layout. Times come out as written.
pub struct Parser {
    delimiter: Delimiter,
    comment: Option<u8>,
    numbers: NumberMarks,
    /// True where prices finer than the scale are rounded to it: the decimals were said.
    rounds: bool,
    /// What to do with each column, with the place of its field in the row.
    steps: Vec<ParseStep>,
    fields: Vec<Field>,
    scale: Scale,
    dates: DateOrder,
    day: Micros,
    quick: bool,
    has_symbols: bool,
    /// The column of the symbol.
    symbol_at: Option<usize>,
    is_bars: bool,
    is_quotes: bool,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum ParseStep {
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
struct ParsedRow {
    values: RowValues,
    symbol: u32,
    day: DayMemory,
    /// Of each column, how it was written in the row before.
    patterns: Vec<Pattern>,
    /// How all of the row before was written.
    alike: RowPattern,
    scratch: Vec<u8>,
    oddities: Oddities,
}

impl Parser {
    /// A parser for a layout that scales numbers by `scale`.
    pub fn new(layout: &Layout, scale: Scale) -> Parser {
        let fields = layout.fields();
        let step = |u: &Use| match u {
            Use::Skip | Use::Value(_) | Use::Values => ParseStep::Skip,
            Use::Moment => ParseStep::Moment,
            Use::Date => ParseStep::Date,
            Use::Time => ParseStep::Time,
            Use::Unix(unit) => ParseStep::Unix(*unit),
            Use::DayNumber => ParseStep::DayNumber,
            Use::DayMillis => ParseStep::DayMillis,
            Use::Symbol => ParseStep::Symbol,
            Use::Field(f) => {
                let at = fields.iter().position(|x| x == f).unwrap_or_default();
                match f {
                    Field::Taker => ParseStep::Side { at },
                    Field::Act => ParseStep::Act { at },
                    f if f.is_spread() => ParseStep::Number {
                        at,
                        decimals: match layout.spreads {
                            SpreadUnit::Points => 0,
                            SpreadUnit::Pips => 1,
                            SpreadUnit::Prices => scale.price,
                        },
                    },
                    _ => ParseStep::Number { at, decimals: scale.of(*f) },
                }
            }
        };
        let mut steps: Vec<ParseStep> = layout.columns.iter().map(step).collect();
        steps.truncate(steps.iter().rposition(|s| *s != ParseStep::Skip).map_or(0, |p| p + 1));
        let plain_marks = layout.numbers == NumberMarks::PLAIN && layout.comment.is_none();
        let usual =
            |s: &ParseStep| matches!(s, ParseStep::Skip | ParseStep::Moment | ParseStep::Number { .. });
        Parser {
            delimiter: layout.delimiter,
            comment: layout.comment,
            numbers: layout.numbers,
            rounds: false,
            quick: plain_marks
                && layout.delimiter != Delimiter::Blanks
                && layout.delimiter != Delimiter::Mark(b'.')
                && steps.iter().all(usual),
            has_symbols: steps.contains(&ParseStep::Symbol),
            symbol_at: steps.iter().position(|s| *s == ParseStep::Symbol),
            is_bars: shape_of(&fields) == Shape::Bars,
            is_quotes: shape_of(&fields) == Shape::Quotes,
            steps,
            fields,
            scale,
            dates: layout.dates,
            day: layout.day.unwrap_or(0) * DAY,
        }
    }

    /// The same, but rounds prices that are finer than the scale.
    pub fn rounding(self, rounds: bool) -> Parser {
        Parser { rounds, ..self }
    }

    /// Reads every line of a block; blank lines and comments are passed over.
    pub fn block(&self, text: &[u8]) -> Parsed {
        let mut out = Parsed {
            rows: self.room_for(text),
            rejects: Vec::new(),
            lines: 0,
            symbols: Vec::new(),
            symbol_of: Vec::new(),
            oddities: Oddities::default(),
        };
        let mut row = ParsedRow {
            values: RowValues::default(),
            symbol: 0,
            day: DayMemory::default(),
            alike: RowPattern::new(),
            patterns: vec![Pattern::default(); self.steps.len()],
            scratch: Vec::new(),
            oddities: Oddities::default(),
        };
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
                    Err(fault) => {
                        let symbol = self.symbol_in(line, &mut out.symbols);
                        out.rejects.push(Reject { line: out.lines, byte: start, fault, symbol });
                    }
                }
            }
            out.lines += 1;
            start = end + 1;
        }
        out.oddities = row.oddities;
        out
    }

    /// The symbol that a line names, as far as it goes.
    fn symbol_in(&self, line: &[u8], symbols: &mut Vec<Vec<u8>>) -> Option<u32> {
        symbol(cells::of(line, self.delimiter).nth(self.symbol_at?)?, symbols)
    }

    #[inline(always)]
    fn keep(&self, out: &mut Parsed, time: Micros, row: &ParsedRow) {
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
    fn quick_row(&self, text: &[u8], at: usize, row: &mut ParsedRow) -> Option<(Micros, usize)> {
        let Delimiter::Mark(mark) = self.delimiter else { return None };
        let known = row.alike.read(&text[at..], &mut row.values);
        let (time, done, end) = known.unwrap_or((0, 0, 0));
        let (time, end) = self.quick_cells(text, (at, end), done, time, row)?;
        if known.is_none() && row.alike.can_learn() {
            self.learn(&text[at..], row);
        }
        match *text.get(end)? {
            b'\n' => Some((time, end + 1)),
            b'\r' if text.get(end + 1) == Some(&b'\n') => Some((time, end + 2)),
            c if c == mark => Some((time, end + memchr::memchr(b'\n', &text[end..])? + 1)),
            _ => None,
        }
    }

    /// Reads the cells of a line that begins at `start`, the first `done` of which are known: they end `at`
    /// bytes behind it.
    #[inline(always)]
    fn quick_cells(
        &self,
        text: &[u8],
        (start, end): (usize, usize),
        done: usize,
        mut time: Micros,
        row: &mut ParsedRow,
    ) -> Option<(Micros, usize)> {
        let Delimiter::Mark(mark) = self.delimiter else { return None };
        let mut at = start + end;
        for (i, step) in self.steps.iter().enumerate().skip(done) {
            if i > 0 {
                if *text.get(at)? != mark {
                    return None;
                }
                at += 1;
            }
            let pattern = row.patterns.get_mut(i)?;
            match *step {
                ParseStep::Number { at: place, decimals } => {
                    (row.values[place], at) = quick::number(pattern, text, at, decimals)?;
                }
                ParseStep::Moment => (time, at) = row.day.quick_moment(pattern, text, at)?,
                _ => {
                    let rest = text.get(at..)?;
                    at += rest
                        .iter()
                        .position(|c| *c == mark || *c == b'\n' || *c == b'"')
                        .filter(|n| rest[*n] != b'"')?;
                }
            }
        }
        Some((time, at))
    }

    /// Has a line that was read cell by cell, but could have been read at once, serve as the pattern of those
    /// that follow.
    #[cold]
    fn learn(&self, line: &[u8], row: &mut ParsedRow) {
        let Delimiter::Mark(mark) = self.delimiter else { return };
        let mut cells = Vec::with_capacity(self.steps.len());
        let mut at = 0;
        for step in &self.steps {
            let cell = match *step {
                ParseStep::Number { at: place, decimals } => Cell::Number { place, decimals },
                ParseStep::Moment => match row.day.day() {
                    Some(day) => Cell::Moment { day },
                    None => break,
                },
                _ => break,
            };
            let Some(end) = memchr::memchr2(mark, b'\n', &line[at..]).map(|n| at + n) else { break };
            cells.push((cell, end - usize::from(line[..end].ends_with(b"\r"))));
            at = end + 1;
        }
        row.alike.learn(line, &cells);
    }

    /// Reads one line cell by cell.
    fn line(&self, line: &[u8], row: &mut ParsedRow, symbols: &mut Vec<Vec<u8>>) -> Result<Micros, Fault> {
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
                ParseStep::Skip => {}
                ParseStep::Number { at, decimals } => {
                    let plain = self.numbers.plain(cell, &mut row.scratch);
                    row.values[at] = match parse_scaled(plain, decimals) {
                        Ok(value) => value,
                        Err(fault) => self
                            .odd_cell(cell, plain, (fault, decimals), self.fields[at], &mut row.oddities)
                            .map_err(|f| self.number_fault(f, i, at))?,
                    };
                }
                ParseStep::Moment => time += row.day.moment(cell, self.dates).ok_or(not_a_time)?,
                ParseStep::Date => time += row.day.date(cell, self.dates).ok_or(not_a_time)? * DAY,
                ParseStep::Time => time += moment::time_of_day(cell).ok_or(not_a_time)?,
                ParseStep::Unix(unit) => time += moment::since_1970(cell, unit).ok_or(not_a_time)?,
                ParseStep::DayNumber => time += moment::day_number(cell).ok_or(not_a_time)?,
                ParseStep::DayMillis => time += moment::day_millis(cell).ok_or(not_a_time)?,
                ParseStep::Symbol => row.symbol = symbol(cell, symbols).ok_or(Fault::NoSymbol)?,
                ParseStep::Side { at } => {
                    row.values[at] = cells::side(cell).ok_or(Fault::NotASide { column: i + 1 })?;
                }
                ParseStep::Act { at } => {
                    row.values[at] = cells::act(cell).ok_or(Fault::NotASide { column: i + 1 })?;
                }
            }
        }
        if self.is_bars || self.is_quotes {
            self.refuse_without_price(row)?;
        }
        Ok(time)
    }

    /// What a cell means that is no plain number: nothing, an odd number, one with a tail that is not meant.
    /// Of side columns, a cell that cannot be read costs itself and not its row.
    #[cold]
    fn odd_cell(
        &self,
        cell: &[u8],
        plain: &[u8],
        (fault, decimals): (NumberFault, u8),
        field: Field,
        oddities: &mut Oddities,
    ) -> Result<i64, NumberFault> {
        let may_lack = self.is_bars || !field.is_price() || self.is_quotes && field.is_of_a_quote();
        if may_lack && cells::is_absent(cell) {
            oddities.absent += u64::from(field.is_price());
            return Ok(ABSENT);
        }
        let mut fault = match number_marks::odd_number(plain, decimals) {
            Some(Ok(value)) => return Ok(value),
            Some(Err(fault)) => fault,
            None => fault,
        };
        if let (NumberFault::TooFine(_), Some((own, value))) = (fault, number_marks::without_tail(plain)) {
            match decimals.checked_sub(own).and_then(|missing| value.checked_mul(unit(missing))) {
                Some(value) => {
                    oddities.tails += 1;
                    return Ok(value);
                }
                None => fault = NumberFault::TooFine(own),
            }
        }
        if let (NumberFault::TooFine(_), true, true) = (fault, self.rounds, field.is_price()) {
            oddities.rounded += 1;
            return number_marks::rounded(plain, decimals);
        }
        let is_finer = matches!(fault, NumberFault::TooFine(d) if d <= MAX_DECIMALS && field.is_volume());
        match field.is_a_side_value() && !is_finer {
            true => {
                oddities.lost += 1;
                Ok(ABSENT)
            }
            false => Err(fault),
        }
    }

    /// A bar needs a price of its own; an adjusted close is none. A quote needs one of its sides.
    fn refuse_without_price(&self, row: &ParsedRow) -> Result<(), Fault> {
        let mut prices = self
            .fields
            .iter()
            .zip(&row.values)
            .filter(|(f, _)| f.is_of_a_bar() || f.is_of_a_quote() || f.is_beside_the_bid())
            .peekable();
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
        assert_eq!(parsed.rows.column(Field::Spread), [18, ABSENT]);
        assert_eq!(parsed.oddities, Oddities { lost: 1, ..Oddities::default() });
        assert_eq!(parsed.rejects[0].fault, Fault::TooFine { field: Field::Open, decimals: 6 });
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
            .block(b"05.03.2024 13:45:12,,1.2,1,\n05.03.2024 13:45:13,1,1.2,,\n05.03.2024 13:45:14,,,1,1\n");
        assert_eq!(ticks.rows.column(Field::Bid), [ABSENT, 100_000]);
        assert_eq!(ticks.rows.column(Field::BidVolume), [100, ABSENT]);
        assert_eq!((ticks.rejects[0].line, ticks.rejects[0].fault), (2, Fault::NoPrice));
    }

    #[test]
    fn tails_of_binary_fractions_are_rounded_and_side_cells_cost_themselves() {
        let f = Use::Field;
        let columns = [Use::Moment, f(Field::Open), f(Field::Close), f(Field::Volume)];
        let parser = Parser::new(&layout(&columns, b',', DateOrder::YearFirst), SCALE);
        let parsed = parser.block(
            b"2024-03-05 10:00,1.0834000000000001,1.0833999999999999,0.12345678901234567\n\
            2024-03-05 10:01,1.0834,1.0834,12.3K\n2024-03-05 10:02,1.0834,1.0834,many\n\
            2024-03-05 10:03,1.0834,x,1\n2024-03-05 10:04,1.08340100000000001,1.1,1\n",
        );
        assert_eq!(parsed.rows.column(Field::Open), [108_340; 3]);
        assert_eq!(parsed.rows.column(Field::Close), [108_340; 3]);
        assert_eq!(parsed.rows.column(Field::Volume), [ABSENT, 1_230_000, ABSENT]);
        assert_eq!(parsed.oddities, Oddities { tails: 2, lost: 2, ..Oddities::default() });
        let faults: Vec<Fault> = parsed.rejects.iter().map(|r| r.fault).collect();
        let finer = Fault::TooFine { field: Field::Open, decimals: 6 };
        assert_eq!(faults, [Fault::NotANumber { column: 3 }, finer], "the file is read again with six");
        let said = Parser::new(&layout(&columns, b',', DateOrder::YearFirst), Scale { price: 3, volume: 0 });
        let parsed = said.rounding(true).block(b"2024-03-05 10:00,1.0835,-1.0834,5\n");
        assert_eq!(
            (parsed.rows.column(Field::Open), parsed.rows.column(Field::Close)),
            (&[1084][..], &[-1083][..])
        );
        assert_eq!(parsed.oddities.rounded, 2);
    }

    #[test]
    fn spreads_in_pips_and_as_prices() {
        let f = Use::Field;
        let columns = [Use::Moment, f(Field::Close), f(Field::Spread)];
        let spreads = |spreads, text: &[u8]| {
            let layout = Layout { spreads, ..layout(&columns, b',', DateOrder::YearFirst) };
            Parser::new(&layout, SCALE).block(text).rows.column(Field::Spread).to_vec()
        };
        let text = b"2024-03-05 10:00,1.08342,1.3\n2024-03-05 10:01,1.08342,0\n2024-03-05 10:02,1.08342,\n";
        assert_eq!(spreads(SpreadUnit::Pips, text), [13, 0, ABSENT]);
        assert_eq!(spreads(SpreadUnit::Prices, b"2024-03-05 10:00,1.08342,0.00012\n"), [12]);
    }

    #[test]
    fn a_rejected_row_knows_its_symbol_wherever_it_stands() {
        let f = Use::Field;
        let columns = [Use::Moment, f(Field::Close), Use::Symbol];
        let parser = Parser::new(&layout(&columns, b',', DateOrder::YearFirst), SCALE);
        let parsed = parser.block(b"2024-03-05 10:00,1.1,NOKSEK\n2024-03-05 10:00,x,NZDSEK\nx\n");
        let of: Vec<Option<u32>> = parsed.rejects.iter().map(|r| r.symbol).collect();
        assert_eq!(of, [Some(1), None]);
        assert_eq!(parsed.symbols, [b"NOKSEK", b"NZDSEK"]);
    }

    /// The slow plain way: split, trim, parse each cell on its own.
    fn plainly(text: &[u8], layout: &Layout) -> Vec<(Micros, Vec<i64>)> {
        let mut out = Vec::new();
        for line in text.split(|&c| c == b'\n') {
            let cells: Vec<&[u8]> = line.split(|&c| c == b',').map(cells::bare).collect();
            let Some(time) = cells.first().and_then(|c| moment::moment(c, layout.dates)) else { continue };
            let values: Option<Vec<i64>> = (1..5)
                .map(|i| match cells.get(i)? {
                    [] => Some(ABSENT),
                    cell if i < 3 => parse_scaled(cell, 5).ok(),
                    cell => Some(parse_scaled(cell, 2).unwrap_or(ABSENT)),
                })
                .collect();
            let quoted = values.filter(|v| v[..2] != [ABSENT, ABSENT]);
            out.extend(quoted.map(|v| (time, v)));
        }
        out
    }

    proptest! {
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
        fn rows_written_alike_are_read_as_one_by_one(
            rows in proptest::collection::vec((0usize..6, any::<u64>(), any::<u8>(), 0usize..400), 1..60),
        ) {
            let shapes = [
                "05.03.2024 1#:4#:12.3#5,1.#2345,1.#2349,#.2,#.7\n",
                "05.03.2024 1#:4#:12.#,11.#2345,11.#2349,#1.2,#.7\r\n",
                "06.03.2024 1#:4#:1#,123#56.02,123#56.#,#,12345#7.1\n",
                "05.03.2024 1#:4#:12.3#5,1.#2345,1.#2349,#.2,#.7,x#\n",
                "05.03.2024 1#:4#:12.345,-#.02345,1#.02349,,\n",
                "05.03.2024 1#:4#:12.3#5,1.#2345,1.#2349,#,#2\n",
            ];
            let mut text = Vec::new();
            for (shape, mut digits, odd, at) in rows {
                let mut line = shapes[shape % shapes.len()].as_bytes().to_vec();
                for c in line.iter_mut().filter(|c| **c == b'#') {
                    (*c, digits) = (b'0' + (digits % 10) as u8, digits / 10);
                }
                if let Some(c) = line.get_mut(at) {
                    *c = odd;
                }
                text.extend(line);
            }
            // Without decimals for volumes some rows are too fine.
            for layout in [quotes(), Layout { volume_decimals: 0, ..quotes() }] {
                let scale = Scale { price: 5, volume: layout.volume_decimals };
                let quick = Parser::new(&layout, scale);
                let plain = Parser { quick: false, ..Parser::new(&layout, scale) };
                let (quick, plain) = (quick.block(&text), plain.block(&text));
                prop_assert_eq!((&quick.rows.time, &quick.rows.data), (&plain.rows.time, &plain.rows.data));
                let told = |p: &Parsed| p.rejects.iter().map(|r| (r.line, r.byte, r.fault)).collect::<Vec<_>>();
                prop_assert_eq!(told(&quick), told(&plain));
            }
        }

        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            let parsed = Parser::new(&quotes(), SCALE).block(&bytes);
            prop_assert!(parsed.rows.len() + parsed.rejects.len() <= parsed.lines as usize);
        }
    }
}
