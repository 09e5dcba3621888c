//! Lines to rows: the hot path of intake.

use super::layout::{DateOrder, Layout, Use};
use super::moment;
use crate::model::price::{NumberFault, parse_scaled};
use crate::model::time::DAY;
use crate::model::{Columns, Field, Micros, Scale};

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
    TooLarge {
        column: usize,
    },
    /// A number finer than the scale: the file has to be read again with more decimals.
    TooFine {
        field: Field,
        decimals: u8,
    },
}

impl Fault {
    /// The reason in words.
    pub fn words(&self) -> String {
        match self {
            Fault::TooFewColumns { have, need } => format!("{have} columns where {need} are needed"),
            Fault::NotATime { column } => format!("column {column} is not a time"),
            Fault::NotANumber { column } => format!("column {column} is not a number"),
            Fault::TooLarge { column } => format!("column {column} is too large a number"),
            Fault::TooFine { decimals, .. } => format!("{decimals} decimals are too many"),
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
    /// Line (from 0 within the block) of each row; kept only where lines and rows are not one to one.
    pub rejects: Vec<Reject>,
    pub lines: u64,
}

/// Reads blocks of lines by a layout. Times come out as written.
pub struct Parser {
    delimiter: u8,
    /// What to do with each column, with the place of its field in the row.
    steps: Vec<Step>,
    needed: usize,
    fields: Vec<Field>,
    scale: Scale,
    dates: DateOrder,
}

#[derive(Clone, Copy)]
enum Step {
    Skip,
    Moment,
    Date,
    Time,
    Number { at: usize, decimals: u8 },
}

impl Parser {
    /// A parser for a layout that scales numbers by `scale`.
    pub fn new(layout: &Layout, scale: Scale) -> Parser {
        let fields = layout.fields();
        let steps: Vec<Step> = layout
            .columns
            .iter()
            .map(|u| match u {
                Use::Skip => Step::Skip,
                Use::Moment => Step::Moment,
                Use::Date => Step::Date,
                Use::Time => Step::Time,
                Use::Field(f) => {
                    let at = fields.iter().position(|x| x == f).unwrap_or_default();
                    Step::Number { at, decimals: scale.of(*f) }
                }
            })
            .collect();
        let needed = steps.iter().rposition(|s| !matches!(s, Step::Skip)).map_or(0, |p| p + 1);
        Parser { delimiter: layout.delimiter, steps, needed, fields, scale, dates: layout.dates }
    }

    /// Reads every line of a block; blank lines are passed over.
    pub fn block(&self, text: &[u8]) -> Parsed {
        let mut out = Parsed { rows: self.room_for(text), rejects: Vec::new(), lines: 0 };
        let mut row = [0i64; Field::ALL.len()];
        let mut day = DayMemory::default();
        let mut start = 0;
        while start < text.len() {
            let end = memchr::memchr(b'\n', &text[start..]).map_or(text.len(), |n| start + n);
            let line = text[start..end].strip_suffix(b"\r").unwrap_or(&text[start..end]);
            if !line.is_empty() {
                match self.line(line, &mut row, &mut day) {
                    Ok(time) => {
                        out.rows.time.push(time);
                        out.rows.data.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
                    }
                    Err(fault) => out.rejects.push(Reject { line: out.lines, byte: start, fault }),
                }
            }
            out.lines += 1;
            start = end + 1;
        }
        out
    }

    fn room_for(&self, text: &[u8]) -> Columns {
        let line = memchr::memchr(b'\n', text).unwrap_or(text.len()).max(16);
        let rows = text.len() / line + 16;
        Columns {
            time: Vec::with_capacity(rows),
            fields: self.fields.clone(),
            data: self.fields.iter().map(|_| Vec::with_capacity(rows)).collect(),
            scale: self.scale,
        }
    }

    #[inline]
    fn line(
        &self,
        line: &[u8],
        row: &mut [i64; Field::ALL.len()],
        day: &mut DayMemory,
    ) -> Result<Micros, Fault> {
        let mut time: Micros = 0;
        let mut rest = Some(line);
        for (i, step) in self.steps[..self.needed].iter().enumerate() {
            let Some(here) = rest else {
                return Err(Fault::TooFewColumns { have: i, need: self.needed });
            };
            let (cell, after) = cut(here, self.delimiter);
            rest = after;
            match *step {
                Step::Skip => {}
                Step::Number { at, decimals } => {
                    row[at] = parse_scaled(bare(cell), decimals).map_err(|f| self.number_fault(f, i, at))?;
                }
                Step::Moment => {
                    time += day.moment(bare(cell), self.dates).ok_or(Fault::NotATime { column: i + 1 })?
                }
                Step::Date => {
                    time += day.date(bare(cell), self.dates).ok_or(Fault::NotATime { column: i + 1 })? * DAY
                }
                Step::Time => {
                    time += moment::time_of_day(bare(cell)).ok_or(Fault::NotATime { column: i + 1 })?;
                }
            }
        }
        Ok(time)
    }

    #[cold]
    fn number_fault(&self, fault: NumberFault, column: usize, at: usize) -> Fault {
        match fault {
            NumberFault::NotANumber => Fault::NotANumber { column: column + 1 },
            NumberFault::TooLarge => Fault::TooLarge { column: column + 1 },
            // A spread is whole points; a finer one is no number that fits.
            NumberFault::TooFine(_) if self.fields[at] == Field::Spread => {
                Fault::NotANumber { column: column + 1 }
            }
            NumberFault::TooFine(decimals) => Fault::TooFine { field: self.fields[at], decimals },
        }
    }
}

#[inline]
fn cut(text: &[u8], delimiter: u8) -> (&[u8], Option<&[u8]>) {
    // Cells are short: a plain loop beats a search that sets up vectors.
    match text.iter().position(|&c| c == delimiter) {
        Some(at) => (&text[..at], Some(&text[at + 1..])),
        None => (text, None),
    }
}

/// A cell without blanks and quotes around it.
#[inline]
pub fn bare(cell: &[u8]) -> &[u8] {
    match (cell.first(), cell.last()) {
        (Some(b' ' | b'"' | b'\t'), _) | (_, Some(b' ' | b'"' | b'\t')) => {
            let cell = cell.trim_ascii();
            cell.strip_prefix(b"\"").and_then(|c| c.strip_suffix(b"\"")).unwrap_or(cell).trim_ascii()
        }
        _ => cell,
    }
}

/// The date read last: neighbouring lines nearly always share it.
#[derive(Default)]
struct DayMemory {
    text: [u8; 10],
    day: Option<i64>,
}

impl DayMemory {
    #[inline]
    fn moment(&mut self, cell: &[u8], order: DateOrder) -> Option<Micros> {
        if let (Some(day), Some((head, tail))) = (self.day, cell.split_first_chunk::<10>())
            && *head == self.text
            && let Some((b' ' | b'T', time)) = tail.split_first()
        {
            return Some(day * DAY + moment::time_of_day(time.strip_suffix(b"Z").unwrap_or(time))?);
        }
        let at = moment::moment(cell, order)?;
        // Only a full date of ten characters may be remembered by its first ten.
        self.day = None;
        if let Some((head, [b' ' | b'T', ..])) = cell.split_first_chunk::<10>() {
            (self.text, self.day) = (*head, Some(at.div_euclid(DAY)));
        }
        Some(at)
    }

    #[inline]
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use proptest::prelude::*;

    fn layout(columns: &[Use], delimiter: u8, dates: DateOrder) -> Layout {
        Layout {
            delimiter,
            header: false,
            columns: columns.to_vec(),
            dates,
            price_decimals: 5,
            volume_decimals: 2,
            says_utc: false,
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

    /// The slow plain way: split, trim, parse each cell on its own.
    fn plainly(text: &[u8], layout: &Layout) -> Vec<(Micros, Vec<i64>)> {
        let mut out = Vec::new();
        for line in text.split(|&c| c == b'\n') {
            let cells: Vec<&[u8]> = line.split(|&c| c == layout.delimiter).map(bare).collect();
            let Some(time) = cells.first().and_then(|c| moment::moment(c, layout.dates)) else { continue };
            let values: Option<Vec<i64>> =
                (1..5).map(|i| parse_scaled(cells.get(i)?, if i < 3 { 5 } else { 2 }).ok()).collect();
            out.extend(values.map(|v| (time, v)));
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
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            let parsed = Parser::new(&quotes(), SCALE).block(&bytes);
            prop_assert!(parsed.rows.len() + parsed.rejects.len() <= parsed.lines as usize);
        }
    }
}
