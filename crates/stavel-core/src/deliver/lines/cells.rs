//! The cells of a line.

use std::borrow::Cow;

use crate::deliver::rounding::push_with_decimals;
use crate::model::layout::{Quotes, SpreadUnit, TextEncoding};
use crate::model::moment_text::push_offset;
use crate::model::price::push_scaled;
use crate::model::time::written::{self, push_parts};
use crate::model::time::{DAY, HOUR, MINUTE, Micros, SECOND, civil_from_days, day_of};
use crate::model::{Columns, DateOrder, Delimiter, Field, Layout, Precision, Scale, Since1970, Use, present};

/// What stands in a column of the file.
pub enum LineCell {
    Nothing,
    Moment,
    Date,
    Time,
    Unix(Since1970),
    DayNumber,
    Symbol,
    Number {
        /// The column of the series.
        column: usize,
        /// Decimals of its numbers.
        decimals: u8,
        /// Decimals of what is written.
        written: u8,
    },
}

impl LineCell {
    /// What a use writes of a series with these fields; `scales` are those of the series and of the file.
    pub fn of(used: &Use, layout: &Layout, fields: &[Field], scales: (Scale, Scale)) -> LineCell {
        match used {
            Use::Skip | Use::Value(_) | Use::Values | Use::DayMillis => LineCell::Nothing,
            Use::Moment => LineCell::Moment,
            Use::Date => LineCell::Date,
            Use::Time => LineCell::Time,
            Use::Unix(since) => LineCell::Unix(*since),
            Use::DayNumber => LineCell::DayNumber,
            Use::Symbol => LineCell::Symbol,
            Use::Field(field) => {
                let Some(column) = fields.iter().position(|f| f == field) else { return LineCell::Nothing };
                let (decimals, written) = match (field.is_spread(), layout.spreads) {
                    (false, _) => (scales.0.of(*field), scales.1.of(*field)),
                    (true, SpreadUnit::Points) => (0, 0),
                    (true, SpreadUnit::Pips) => (1, 1),
                    (true, SpreadUnit::Prices) => (scales.0.price, scales.1.price),
                };
                LineCell::Number { column, decimals, written }
            }
        }
    }
}

/// A date: a copy of a length that is known beforehand is quicker than one of just as many bytes.
#[derive(Default)]
struct ShortText {
    bytes: [u8; 16],
    length: usize,
}

impl ShortText {
    fn of(text: &[u8]) -> ShortText {
        let mut short = ShortText { bytes: [0; 16], length: text.len().min(16) };
        short.bytes[..short.length].copy_from_slice(&text[..short.length]);
        short
    }

    #[inline]
    fn push_to(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.bytes);
        out.truncate(out.len() - 16 + self.length);
    }
}

/// Writes the cells of lines.
pub struct CellWriter<'l> {
    layout: &'l Layout,
    symbol: &'l str,
    mark: u8,
    /// False where no time can hold the mark between cells.
    may_need_quotes: bool,
    /// The moment of the row as it is written, in UTC and on the wall.
    at: (Micros, Micros),
    /// The date written last, by its day.
    date: (i64, ShortText),
    /// Values that were written with fewer decimals than they need.
    pub rounded: u64,
}

impl<'l> CellWriter<'l> {
    /// For lines of a layout.
    pub fn new(layout: &'l Layout, symbol: &'l str) -> CellWriter<'l> {
        let mark = match layout.delimiter {
            Delimiter::Mark(mark) => mark,
            Delimiter::Blanks => b' ',
        };
        let at = (Micros::MIN, Micros::MIN);
        let forms = &layout.writing.forms;
        let has_forms = forms.moment.is_some() || forms.date.is_some() || forms.time.is_some();
        let may_need_quotes = has_forms || !matches!(mark, b',' | b';' | b'\t' | b'|');
        CellWriter {
            layout,
            symbol,
            mark,
            may_need_quotes,
            at,
            date: (i64::MIN, ShortText::default()),
            rounded: 0,
        }
    }

    /// What stands between cells.
    pub fn mark(&self) -> u8 {
        self.mark
    }

    /// Begins a row.
    #[inline]
    pub fn at(&mut self, at: (Micros, Micros)) {
        self.at = at;
    }

    /// Appends a cell.
    #[inline]
    pub fn push(&mut self, cell: &LineCell, rows: &Columns, row: usize, out: &mut Vec<u8>) {
        let quotes = self.layout.writing.quotes;
        if let LineCell::Number { column, decimals, written } = *cell {
            let all = quotes == Quotes::All;
            if all {
                out.push(b'"');
            }
            self.number(rows.data[column][row], (decimals, written), out);
            if all {
                out.push(b'"');
            }
            return;
        }
        let from = out.len();
        self.text(cell, out);
        let is_wanted = match quotes {
            Quotes::Needed => self.may_need_quotes && self.needs_quotes(&out[from..]),
            Quotes::Texts => !matches!(cell, LineCell::Unix(_) | LineCell::DayNumber | LineCell::Nothing),
            Quotes::All => true,
        };
        if is_wanted {
            quote(out, from);
        }
    }

    fn needs_quotes(&self, text: &[u8]) -> bool {
        text.iter().any(|c| *c == self.mark || matches!(c, b'"' | b'\n' | b'\r'))
    }

    fn number(&mut self, value: i64, (decimals, written): (u8, u8), out: &mut Vec<u8>) {
        let from = out.len();
        match present(value) {
            None => {
                let absent = self.layout.writing.absent_between(self.layout.delimiter == Delimiter::Blanks);
                out.extend_from_slice(absent.as_bytes());
                return;
            }
            Some(value) => {
                self.rounded += u64::from(push_with_decimals(out, value, decimals, written));
            }
        }
        if self.layout.numbers.decimal == b',' {
            out[from..].iter_mut().filter(|c| **c == b'.').for_each(|c| *c = b',');
            if self.mark == b',' && self.layout.writing.quotes != Quotes::All && out[from..].contains(&b',') {
                quote(out, from);
            }
        }
    }

    fn text(&mut self, cell: &LineCell, out: &mut Vec<u8>) {
        let (moment, wall) = self.at;
        let forms = &self.layout.writing.forms;
        match cell {
            LineCell::Nothing | LineCell::Number { .. } => {}
            LineCell::Moment => {
                match &forms.moment {
                    Some(form) => push_form(out, form, wall),
                    None => {
                        self.push_date(wall, out);
                        let blanks = self.layout.delimiter == Delimiter::Blanks;
                        out.push(if blanks { b'T' } else { self.layout.marks.between });
                        push_time(out, wall, self.layout);
                    }
                }
                if self.layout.writing.offsets {
                    push_offset(out, wall - moment);
                }
            }
            LineCell::Date => match &forms.date {
                Some(form) => push_form(out, form, wall),
                None => self.push_date(wall, out),
            },
            LineCell::Time => {
                match &forms.time {
                    Some(form) => push_form(out, form, wall),
                    None => push_time(out, wall, self.layout),
                }
                if self.layout.writing.offsets {
                    push_offset(out, wall - moment);
                }
            }
            LineCell::Unix(since) => push_unix(out, moment, *since),
            // Twelve decimals of a day are finer than a microsecond.
            LineCell::DayNumber => {
                let parts = i128::from(wall) * 1_000_000_000_000 / i128::from(DAY);
                let (days, part) = (parts.div_euclid(1_000_000_000_000), parts.rem_euclid(1_000_000_000_000));
                out.extend_from_slice(format!("{}.{part:012}", days + 25_569).as_bytes());
            }
            LineCell::Symbol => out.extend_from_slice(without_formula(self.symbol).as_bytes()),
        }
    }

    fn push_date(&mut self, wall: Micros, out: &mut Vec<u8>) {
        let day = day_of(wall);
        if self.date.0 != day {
            let mut text = Vec::with_capacity(16);
            push_date(&mut text, day, self.layout);
            self.date = (day, ShortText::of(&text));
        }
        self.date.1.push_to(out);
    }

    /// Appends words or a number; in quotes where that is wanted or needed.
    pub fn push_text(&self, text: &str, in_quotes: bool, out: &mut Vec<u8>) {
        let from = out.len();
        out.extend_from_slice(text.as_bytes());
        if in_quotes || self.needs_quotes(text.as_bytes()) {
            quote(out, from);
        }
    }

    /// Appends the name of a column.
    pub fn push_name(&self, name: &str, out: &mut Vec<u8>) {
        let from = out.len();
        out.extend_from_slice(without_formula(name).as_bytes());
        if self.layout.writing.quotes != Quotes::Needed || self.needs_quotes(&out[from..]) {
            quote(out, from);
        }
    }
}

/// A text that no spreadsheet takes for a formula: one that looks like it stands behind an apostrophe. A number with its
/// sign is none.
pub fn without_formula(text: &str) -> Cow<'_, str> {
    let looks_like_it = text.starts_with(['=', '+', '-', '@', '\t', '\r']) && text.len() > 1;
    match looks_like_it && text.parse::<f64>().is_err() {
        true => Cow::Owned(format!("'{text}")),
        false => Cow::Borrowed(text),
    }
}

/// Puts what stands at the end of a text in quotes; quotes in it are written twice.
fn quote(out: &mut Vec<u8>, from: usize) {
    let text = out.split_off(from);
    out.push(b'"');
    for c in text {
        if c == b'"' {
            out.push(b'"');
        }
        out.push(c);
    }
    out.push(b'"');
}

/// A time of the wall in a form of `strftime`, which was tried when the layout was made.
fn push_form(out: &mut Vec<u8>, form: &str, wall: Micros) {
    let at = jiff::Timestamp::from_microsecond(wall).map(|t| jiff::tz::Offset::UTC.to_datetime(t));
    if let Ok(text) = at.and_then(|at| jiff::fmt::strtime::format(form, at)) {
        out.extend_from_slice(text.as_bytes());
    }
}

fn push_unix(out: &mut Vec<u8>, t: Micros, since: Since1970) {
    match since {
        Since1970::Seconds if t % SECOND == 0 => push_scaled(out, t / SECOND, 0),
        Since1970::Seconds => push_scaled(out, t, 6),
        Since1970::Millis if t % 1000 == 0 => push_scaled(out, t / 1000, 0),
        Since1970::Millis => push_scaled(out, t, 3),
        Since1970::Micros => push_scaled(out, t, 0),
        Since1970::Nanos => push_scaled(out, t.saturating_mul(1000), 0),
    }
}

fn push_date(out: &mut Vec<u8>, day: i64, layout: &Layout) {
    let (y, m, d) = civil_from_days(day);
    let parts = match layout.dates {
        DateOrder::YearFirst => [(y, 4), (m, 2), (d, 2)],
        DateOrder::DayFirst => [(d, 2), (m, 2), (y, 4)],
        DateOrder::MonthFirst => [(m, 2), (d, 2), (y, 4)],
    };
    // Dates without marks are read year first, whatever else a layout says.
    let parts = if layout.marks.date.is_none() { [(y, 4), (m, 2), (d, 2)] } else { parts };
    push_parts(out, &parts, layout.marks.date);
}

/// A time of day as far as the layout writes it, and farther where the row needs it.
fn push_time(out: &mut Vec<u8>, wall: Micros, layout: &Layout) {
    let t = wall.rem_euclid(DAY);
    if layout.marks.time == Some(b':') && layout.marks.precision == Precision::Seconds {
        written::push_time(out, t);
        return;
    }
    let needed = match t {
        t if t % MINUTE == 0 => Precision::Minutes,
        t if t % SECOND == 0 => Precision::Seconds,
        t if t % 1000 == 0 => Precision::Millis,
        _ => Precision::Micros,
    };
    let precision = needed.max(layout.marks.precision);
    let parts = [(t / HOUR, 2), (t / MINUTE % 60, 2), (t / SECOND % 60, 2)];
    let shown = if precision == Precision::Minutes { &parts[..2] } else { &parts[..] };
    push_parts(out, shown, layout.marks.time);
    let fraction = match precision {
        Precision::Minutes | Precision::Seconds => return,
        Precision::Millis => (t % SECOND / 1000, 3),
        Precision::Micros => (t % SECOND, 6),
    };
    out.push(b'.');
    push_parts(out, &[fraction], None);
}

/// The first name that an encoding has no bytes for.
pub fn unwritable(layout: &Layout) -> Option<&str> {
    let encoding: TextEncoding = layout.writing.encoding;
    let names = layout.header.iter().flatten();
    names.map(String::as_str).find(|name| !super::encoding::can_write(name, encoding))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_spreadsheet_would_run_stands_behind_an_apostrophe() {
        for (text, safe) in
            [("=1+2", "'=1+2"), ("@x", "'@x"), ("-", "-"), ("Bid", "Bid"), ("-2", "-2"), ("-2+x", "'-2+x")]
        {
            assert_eq!(without_formula(text), safe);
        }
    }
}
