//! The marks of a text: what stands between cells, before decimals, between thousands, before comments.

use crate::intake::cells;
use crate::intake::layout::{CELLS, DateOrder, Delimiter};
use crate::intake::moment;
use crate::model::price::{MAX_DECIMALS, parse_scaled};

/// What a cell looks like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CellShape {
    Moment,
    Date,
    Time,
    Number,
    Words,
    Nothing,
}

/// How numbers are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NumberMarks {
    pub decimal: u8,
    pub thousands: Option<u8>,
}

impl NumberMarks {
    /// With a decimal point and nothing between thousands.
    pub const PLAIN: NumberMarks = NumberMarks { decimal: b'.', thousands: None };

    /// The number in a cell with these marks as plain text.
    pub fn plain(self, cell: &[u8]) -> Vec<u8> {
        let mut scratch = Vec::new();
        cells::plain_number(cell, self.decimal, self.thousands, &mut scratch).to_vec()
    }
}

/// What a cell looks like.
pub fn shape_of(cell: &[u8], marks: NumberMarks) -> CellShape {
    let orders = [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst];
    let is_number = |cell: &[u8]| {
        let plain = marks.plain(cell);
        parse_scaled(&plain, MAX_DECIMALS).is_ok() || cells::odd_number(&plain, MAX_DECIMALS).is_some()
    };
    // Eight digits may be a date or a number; names and neighbours tell which.
    let dated = orders.iter().find_map(|&o| moment::date(cell, o));
    match dated {
        _ if cell.is_empty() => CellShape::Nothing,
        Some((_, [])) => CellShape::Date,
        Some(_) if orders.iter().any(|&o| moment::moment(cell, o).is_some()) => CellShape::Moment,
        _ if cell.contains(&b':') && moment::time_of_day(cell).is_some() => CellShape::Time,
        _ if is_number(cell) => CellShape::Number,
        _ => CellShape::Words,
    }
}

/// The delimiter under which most cells of most lines can be understood.
pub fn find_delimiter(lines: &[&[u8]]) -> Delimiter {
    let marks = [CELLS, b'\t', b';', b'|', b','].map(Delimiter::Mark);
    let all = marks.into_iter().chain([Delimiter::Blanks]);
    // The lines at the end: whatever stands above a table does not stand there.
    let lines = &lines[lines.len() / 3..];
    // Which marks stand in numbers is found later, with the delimiter known.
    let is_figure = |c: &[u8]| {
        c.iter().any(u8::is_ascii_digit) && c.iter().all(|b| b.is_ascii_digit() || b".,'+-".contains(b))
    };
    let score = |d: Delimiter| {
        let widths: Vec<usize> = lines.iter().map(|l| cells::of(l, d).count()).collect();
        let usual = widths
            .iter()
            .copied()
            .max_by_key(|w| (widths.iter().filter(|x| *x == w).count(), *w))
            .unwrap_or(0);
        if usual < 2 {
            return 0;
        }
        // Squared, so that one line understood as a whole weighs more than two understood by half.
        let understood = |l: &[u8]| {
            let shapes = cells::of(l, d)
                .filter(|c| is_figure(c) || shape_of(c, NumberMarks::PLAIN) != CellShape::Words)
                .count();
            (shapes * 100 / usual).min(100).pow(2)
        };
        let fitting = widths.iter().filter(|w| **w == usual).count();
        let score = lines.iter().map(|l| understood(l)).sum::<usize>() + fitting;
        // Blanks stand within the cells of other delimiters too, between a date and its time.
        if d == Delimiter::Blanks { score / 8 } else { score }
    };
    let mut best = (Delimiter::Mark(b','), 0);
    for delimiter in all {
        let score = score(delimiter);
        if score > best.1 {
            best = (delimiter, score);
        }
    }
    best.0
}

/// The marks within numbers. A comma is the decimal mark where it stands in numbers that have no point,
/// or after the point of thousands; it stands between thousands where a point follows it or where it
/// stands more than once.
pub fn find_number_marks<'a>(cells: impl Iterator<Item = &'a [u8]>, delimiter: Delimiter) -> NumberMarks {
    let (mut decimal_comma, mut thousands) = (0u32, None);
    let mut three_after_comma = 0u32;
    for cell in cells {
        let digits = cell.iter().filter(|c| c.is_ascii_digit()).count();
        let odd = |c: &u8| !c.is_ascii_digit() && !matches!(c, b'.' | b',' | b'\'' | b' ' | b'-' | b'+');
        if digits == 0 || cell.iter().any(odd) || moment::date(cell, DateOrder::YearFirst).is_some() {
            continue;
        }
        let places =
            |m: u8| cell.iter().enumerate().filter(|(_, c)| **c == m).map(|(i, _)| i).collect::<Vec<_>>();
        let (points, commas) = (places(b'.'), places(b','));
        if places(b'\'').len() == 1 && digits > 3 {
            thousands = Some(b'\'');
        }
        match (points.as_slice(), commas.as_slice()) {
            ([.., p], [.., c]) if p > c => thousands = Some(b','),
            ([_, ..], [c]) if points.iter().all(|p| p < c) => {
                thousands = Some(b'.');
                decimal_comma += 1;
            }
            ([], [_, _, ..]) => thousands = Some(b','),
            ([], [c]) if cell.len() - c == 4 && *c <= 3 && cell[0] != b'0' => three_after_comma += 1,
            ([], [_]) => decimal_comma += 1,
            _ => {}
        }
    }
    // `1,234` alone may be either; beside plain decimals it is a thousand.
    if three_after_comma > 0 && decimal_comma == 0 && thousands.is_none() {
        return match delimiter {
            Delimiter::Mark(b',') => NumberMarks { decimal: b'.', thousands: Some(b',') },
            _ => NumberMarks { decimal: b',', thousands: None },
        };
    }
    NumberMarks { decimal: if decimal_comma > 0 { b',' } else { b'.' }, thousands }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn number_marks() {
        let marks = |cells: &[&str]| {
            let m = find_number_marks(cells.iter().map(|c| c.as_bytes()), Delimiter::Mark(b';'));
            (m.decimal as char, m.thousands.map(|t| t as char))
        };
        assert_eq!(marks(&["1.02345", "12", "2024.03.05"]), ('.', None));
        assert_eq!(marks(&["1,02345", "12"]), (',', None));
        assert_eq!(marks(&["1,234.50", "12.25"]), ('.', Some(',')));
        assert_eq!(marks(&["1.234,50", "12,25"]), (',', Some('.')));
        assert_eq!(marks(&["1,234,567"]), ('.', Some(',')));
        assert_eq!(marks(&["1'234.5"]), ('.', Some('\'')));
        assert_eq!(marks(&["412,250", "412,500"]), (',', None));
    }

    #[test]
    fn delimiters() {
        let found = |text: &str| find_delimiter(&text.lines().map(str::as_bytes).collect::<Vec<_>>()).word();
        assert_eq!(found("2024-03-05 10:00,1.5,2\n2024-03-05 10:01,1.5,2"), "comma");
        assert_eq!(found("05.03.2024 10:00;1,5;2,5\n05.03.2024 10:01;1,5;2,5"), "semicolon");
        assert_eq!(found("2024-03-05 10:00 1,5  2,5\n2024-03-05 10:01 1,5  2,5"), "blanks");
        assert_eq!(found("20240305\t10:00\t1.5\n20240305\t10:01\t1.5"), "tab");
    }
}
