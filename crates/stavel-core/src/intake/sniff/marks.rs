//! The marks of a text: what stands between cells, before decimals, between thousands, before comments.

use crate::intake::cells;
use crate::intake::moment;
use crate::model::DateOrder;
use crate::model::layout::{CELLS, Delimiter};
use crate::model::number_marks::{self, NumberMarks, is_grouped, thirty_seconds, without_blanks};
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

/// What a cell looks like.
pub fn shape_of(cell: &[u8], marks: NumberMarks) -> CellShape {
    let orders = [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst];
    let is_number = |cell: &[u8]| {
        let mut scratch = Vec::new();
        let plain = marks.plain(cell, &mut scratch);
        parse_scaled(plain, MAX_DECIMALS).is_ok()
            || number_marks::odd_number(plain, MAX_DECIMALS).is_some()
            || number_marks::without_tail(plain).is_some()
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
        let bare = [b'.', b','].iter().find_map(|mark| without_blanks(c, *mark));
        let c = bare.as_deref().unwrap_or(c);
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

/// The marks within numbers, one decimal mark for all of them. A mark that stands once in a number, and not
/// before a group of three digits, is the decimal mark; one that stands more than once, or before it, stands
/// between thousands. What may be either is a thousand beside numbers that tell the decimal mark.
pub fn find_number_marks<'a>(cells: impl Iterator<Item = &'a [u8]>, delimiter: Delimiter) -> NumberMarks {
    let mut seen = MarksSeen::default();
    cells.for_each(|cell| seen.see(cell));
    seen.settle(delimiter)
}

/// How often marks stood in numbers: for the point and the comma, as what they can only be.
#[derive(Default)]
struct MarksSeen {
    decimal: [u32; 2],
    thousands: [u32; 2],
    either: [u32; 2],
    /// Numbers with an apostrophe, or a blank, before three digits.
    apostrophes: u32,
    blanks: u32,
    /// Those that may be in thirty-seconds, and those with such a mark that cannot.
    bonds: u32,
    not_bonds: u32,
}

const POINT: usize = 0;
const COMMA: usize = 1;

impl MarksSeen {
    fn see(&mut self, cell: &[u8]) {
        if let Some(bare) = [b'.', b','].iter().find_map(|mark| without_blanks(cell, *mark)) {
            self.blanks += 1;
            return self.see(&bare);
        }
        let number = cell.strip_prefix(b"-").or(cell.strip_prefix(b"+")).unwrap_or(cell);
        let odd = |c: &u8| !c.is_ascii_digit() && !matches!(c, b'.' | b',' | b'\'' | b' ' | b'-' | b'+');
        if !number.iter().any(u8::is_ascii_digit)
            || number.iter().any(odd)
            || moment::date(number, DateOrder::YearFirst).is_some()
        {
            return;
        }
        if number.iter().any(|c| matches!(c, b'\'' | b'-')) {
            let is_thousand = is_grouped(number, b'\'', b'.');
            self.apostrophes += u32::from(is_thousand);
            *(if thirty_seconds(number).is_some() { &mut self.bonds } else { &mut self.not_bonds }) += 1;
        }
        let last = |mark: u8| number.iter().rposition(|c| *c == mark);
        let count = |mark: u8| number.iter().filter(|c| **c == mark).count();
        match (last(b'.'), last(b',')) {
            (Some(point), Some(comma)) => {
                let (decimal, thousands) = if point > comma { (POINT, COMMA) } else { (COMMA, POINT) };
                self.decimal[decimal] += 1;
                self.thousands[thousands] += 1;
            }
            (Some(_), None) => self.see_one(number, b'.', count(b'.'), POINT),
            (None, Some(_)) => self.see_one(number, b',', count(b','), COMMA),
            (None, None) => {}
        }
    }

    /// A number in which one kind of mark stands.
    fn see_one(&mut self, number: &[u8], mark: u8, count: usize, kind: usize) {
        let groups = is_grouped(number, mark, 0) && number[0] != b'0';
        match (groups, count) {
            (true, 1) => self.either[kind] += 1,
            (true, _) => self.thousands[kind] += 1,
            (false, _) => self.decimal[kind] += 1,
        }
    }

    fn settle(&self, delimiter: Delimiter) -> NumberMarks {
        let comma_is_decimal = match self.decimal {
            [points, commas] if points + commas > 0 => commas > points,
            // `412,250` alone may be either; between commas it is a thousand.
            _ => {
                self.thousands[COMMA] == 0
                    && (self.thousands[POINT] > 0
                        || self.either[COMMA] > 0
                            && self.either[POINT] == 0
                            && delimiter != Delimiter::Mark(b','))
            }
        };
        let (decimal, other) = if comma_is_decimal { (b',', POINT) } else { (b'.', COMMA) };
        let between = self.thousands[other] + self.either[other] > 0;
        let mark = if other == POINT { b'.' } else { b',' };
        let thirty_seconds = self.bonds > 0 && self.not_bonds == 0 && self.apostrophes < self.bonds;
        let apostrophe = (self.apostrophes > 0 && !thirty_seconds).then_some(b'\'');
        let blank = (self.blanks > 0).then_some(b' ');
        NumberMarks { decimal, thousands: between.then_some(mark).or(apostrophe).or(blank), thirty_seconds }
    }
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
        assert_eq!(marks(&["10 834,25", "9\u{a0}834,5", "120"]), (',', Some(' ')));
        assert_eq!(marks(&["2024 03 05", "10.5"]), ('.', None));
        assert_eq!(marks(&["1,08342", "2.410"]), (',', Some('.')));
        assert_eq!(marks(&["1.08342", "2,410"]), ('.', Some(',')));
        assert_eq!(marks(&["1.083", "2.410"]), ('.', None));
        assert_eq!(marks(&["0.123", "1,234"]), ('.', Some(',')));
    }

    #[test]
    fn thirty_seconds_are_told_from_thousands() {
        let found = |cells: &[&str]| {
            find_number_marks(cells.iter().map(|c| c.as_bytes()), Delimiter::Mark(b';')).thirty_seconds
        };
        assert!(found(&["108'20", "108'31", "12"]));
        assert!(found(&["108-20", "108-20+", "-5"]));
        assert!(!found(&["108'20", "108'45"]), "a part above 31");
        assert!(!found(&["1'200", "1'205"]), "thousands, or eighths of thirty-seconds");
        assert!(!found(&["1.5", "-2"]));
    }

    #[test]
    fn delimiters() {
        let found = |text: &str| find_delimiter(&text.lines().map(str::as_bytes).collect::<Vec<_>>()).word();
        assert_eq!(found("2024-03-05 10:00,1.5,2\n2024-03-05 10:01,1.5,2"), "comma");
        assert_eq!(found("05.03.2024 10:00;1,5;2,5\n05.03.2024 10:01;1,5;2,5"), "semicolon");
        assert_eq!(found("05.03.2024 10:00;10 834,25;2,5\n05.03.2024 10:01;10 834,50;2,5"), "semicolon");
        assert_eq!(found("2024-03-05 10:00 1,5  2,5\n2024-03-05 10:01 1,5  2,5"), "blanks");
        assert_eq!(found("20240305\t10:00\t1.5\n20240305\t10:01\t1.5"), "tab");
    }
}
