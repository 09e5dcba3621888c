//! Rows that are written like the row before, read at once.
//!
//! Of most files every row has its digits, points and marks at the same places for a long time. A
//! [`RowPattern`] knows these places and compares a row with them all at once; then the value of each cell is
//! taken from a place that is known beforehand. Cells whose length changes from row to row are left out of
//! the pattern with all that follow them, until it is begun anew.

use super::quick::{Digits, clock_time};
use crate::model::price::unit;
use crate::model::time::DAY;
use crate::model::{Field, Micros};

/// Bytes that are compared at once.
const WIDTH: usize = 64;
/// The same with room for the word that begins at the last of them.
const WINDOW: usize = WIDTH + 8;

/// What a cell of the pattern is.
#[derive(Debug, Clone, Copy)]
pub enum Cell {
    /// A date and a time of day with or without a fraction; the day is that of the row it was met in.
    Moment { day: i64 },
    /// A number for a place of the row, of so many decimals.
    Number { place: usize, decimals: u8 },
}

/// Where the digits and marks of a row are.
#[derive(Clone)]
pub struct RowPattern {
    /// What each byte is held against, and by how much it may differ: a digit from `0` by nine, a mark by
    /// nothing, what stands behind the pattern by anything.
    base: [u8; WIDTH],
    slack: [u8; WIDTH],
    /// The cells it covers, by where each ends: its mark is there.
    ends: Vec<usize>,
    /// No more cells than these are covered.
    most: usize,
    parts: Vec<NumberPart>,
    /// The midnight of its moment, and where the time of day is.
    midnight: Micros,
    clock: Option<usize>,
}

/// Up to eight characters of a number.
#[derive(Clone, Copy)]
struct NumberPart {
    at: usize,
    digits: Digits,
    place: DigitPlace,
}

#[derive(Clone, Copy, PartialEq)]
enum DigitPlace {
    /// A fraction of the row's second.
    Time,
    Value(usize),
    /// The rest of a number whose beginning is there already.
    Rest(usize),
}

/// The values of one row, by the place of their field.
pub type RowValues = [i64; Field::ALL.len()];

impl RowPattern {
    /// A pattern that nothing fits yet.
    pub fn new() -> RowPattern {
        RowPattern {
            base: [0; WIDTH],
            slack: [u8::MAX; WIDTH],
            ends: Vec::new(),
            most: usize::MAX,
            parts: Vec::new(),
            midnight: 0,
            clock: None,
        }
    }

    /// Reads the cells it covers from the beginning of a line; gives their time, their number and where the
    /// last of them ends. None where the line is written in another way.
    #[inline(always)]
    pub fn read(&self, line: &[u8], values: &mut RowValues) -> Option<(Micros, usize, usize)> {
        let end = *self.ends.last()?;
        let window: &[u8; WINDOW] = line.first_chunk()?;
        let apart = |((c, base), slack): ((&u8, &u8), &u8)| (c ^ base).saturating_sub(*slack);
        if window.iter().zip(&self.base).zip(&self.slack).map(apart).fold(0, |all, one| all | one) != 0 {
            return None;
        }
        let mut time = self.midnight;
        if let Some(at) = self.clock {
            time += clock_time(*window.get(at..)?.first_chunk()?)?;
        }
        for part in &self.parts {
            let value = part.digits.value(u64::from_le_bytes(*window.get(part.at..)?.first_chunk()?));
            match part.place {
                DigitPlace::Time => time += value,
                DigitPlace::Value(place) => values[place] = value,
                DigitPlace::Rest(place) => values[place] += value,
            }
        }
        Some((time, self.ends.len(), end))
    }

    /// False where not even the first cell is written alike from line to line.
    pub fn can_learn(&self) -> bool {
        self.most > 0
    }

    /// Takes over how a line was written that did not fit: `cells` are its cells from the first, each with
    /// where it ends.
    #[cold]
    pub fn learn(&mut self, line: &[u8], cells: &[(Cell, usize)]) {
        // From the first cell of another length on the lines are not alike.
        let changed = self.ends.iter().zip(cells).position(|(end, cell)| *end != cell.1);
        let most = changed.map_or(self.most, |at| self.most.min(at));
        *self = RowPattern { most, ..RowPattern::new() };
        let mut start = 0;
        for (cell, end) in cells.iter().take(most) {
            let Some(text) = line.get(start..*end).filter(|_| *end < WIDTH && *end < line.len()) else {
                break;
            };
            let known = match *cell {
                Cell::Moment { day } => self.add_moment(text, start, day),
                Cell::Number { place, decimals } => self.add_number(text, start, place, decimals),
            };
            if known.is_none() {
                break;
            }
            self.cover(&line[*end..=*end], *end);
            self.ends.push(*end);
            start = end + 1;
        }
        self.most = self.ends.len();
        // What is not covered is held against nothing.
        let covered = self.ends.last().map_or(0, |end| end + 1);
        self.slack[covered..].fill(u8::MAX);
    }

    /// Each byte of a text has to be a digit where it is one, and itself where it is a mark.
    fn cover(&mut self, text: &[u8], at: usize) {
        for (i, c) in text.iter().enumerate() {
            (self.base[at + i], self.slack[at + i]) = if c.is_ascii_digit() { (b'0', 9) } else { (*c, 0) };
        }
    }

    fn add_moment(&mut self, text: &[u8], at: usize, day: i64) -> Option<()> {
        let (date, rest) = text.split_at_checked(10)?;
        let (_, fraction) = rest.split_at_checked(9)?;
        let fraction = fraction.strip_suffix(b"Z").unwrap_or(fraction);
        self.cover(text, at);
        // The day is that of this very date.
        self.base[at..at + 10].copy_from_slice(date);
        self.slack[at..at + 10].fill(0);
        (self.midnight, self.clock) = (day * DAY, Some(at + 11));
        let Some(digits) = fraction.strip_prefix(b".") else { return fraction.is_empty().then_some(()) };
        let missing = 6usize.checked_sub(digits.len())? as u8;
        let (digits, _) = Digits::of(digits, unit(missing))?;
        self.parts.push(NumberPart { at: at + 20, digits, place: DigitPlace::Time });
        Some(())
    }

    fn add_number(&mut self, text: &[u8], at: usize, place: usize, decimals: u8) -> Option<()> {
        let places = text.iter().position(|c| *c == b'.').map_or(0, |point| text.len() - point - 1);
        let missing = decimals.checked_sub(u8::try_from(places).ok()?)?;
        let cut = text.len().saturating_sub(8);
        let (head, tail) = text.split_at(cut);
        let (tail, count) = Digits::of(tail, unit(missing))?;
        let mut all = count;
        if !head.is_empty() {
            let (head, more) = Digits::of(head, unit(missing + count))?;
            all += more;
            self.parts.push(NumberPart { at, digits: head, place: DigitPlace::Value(place) });
        }
        let is_one_number = text.iter().filter(|c| **c == b'.').count() <= 1 && all + missing <= 18;
        let whole = if head.is_empty() { DigitPlace::Value(place) } else { DigitPlace::Rest(place) };
        self.parts.push(NumberPart { at: at + cut, digits: tail, place: whole });
        self.cover(text, at);
        is_one_number.then_some(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ROW: &[u8] = b"2024-03-05 13:45:12.345,11.08342,1234567.25,7\n";
    const ROOM: &[u8; 80] = &[b'x'; 80];

    fn read(pattern: &RowPattern, line: &str) -> Option<(Micros, usize, usize, RowValues)> {
        let mut values = RowValues::default();
        let line = [line.as_bytes(), ROOM].concat();
        pattern.read(&line, &mut values).map(|(time, cells, end)| (time, cells, end, values))
    }

    fn cells(ends: [usize; 4]) -> [(Cell, usize); 4] {
        let number = |place| Cell::Number { place, decimals: 5 };
        let cells = [Cell::Moment { day: 3 }, number(0), number(1), number(2)];
        std::array::from_fn(|i| (cells[i], ends[i]))
    }

    fn met() -> RowPattern {
        let mut pattern = RowPattern::new();
        pattern.learn(ROW, &cells([23, 32, 43, 45]));
        pattern
    }

    #[test]
    fn a_row_written_alike_gives_its_values() {
        let (time, covered, end, values) =
            read(&met(), "2024-03-05 14:00:01.007,12.00001,7654321.50,9\n").unwrap();
        assert_eq!(time, 3 * DAY + 14 * 3_600_000_000 + 1_007_000);
        assert_eq!((covered, end), (4, 45));
        assert_eq!(values[..3], [1_200_001, 765_432_150_000, 900_000]);
    }

    #[test]
    fn a_row_written_otherwise_does_not_fit() {
        for line in [
            "2024-03-06 14:00:01.007,12.00001,7654321.50,9\n",
            "2024-03-05 24:00:01.007,12.00001,7654321.50,9\n",
            "2024-03-05 14:00:01.007,120.0001,7654321.50,9\n",
            "2024-03-05 14:00:01.007,12.0000a,7654321.50,9\n",
            "2024-03-05 14:00:01.007,12.00001,7654321.50,95",
            "2024-03-05 14:00:01.007;12.00001,7654321.50,9\n",
            "2024-03-05 14:00:01.007,-2.00001,7654321.50,9\n",
        ] {
            assert_eq!(read(&met(), line), None, "{line}");
        }
        assert!(met().read(ROW, &mut RowValues::default()).is_none(), "too near the end of the text");
    }

    #[test]
    fn a_cell_of_changing_length_and_those_behind_it_are_left_out() {
        let mut pattern = met();
        pattern.learn(b"2024-03-05 13:45:12.345,11.08342,34567.25,7\n", &cells([23, 32, 41, 43]));
        let (_, covered, end, values) = read(&pattern, "2024-03-05 13:45:12.345,11.08342,1.5,x\n").unwrap();
        assert_eq!((covered, end, values[0], values[1]), (2, 32, 1_108_342, 0));
        // A new day has cells of the same length: nothing more is left out.
        pattern.learn(b"2024-03-06 13:45:12.345,11.08342,34567.25,7\n", &cells([23, 32, 41, 43]));
        assert_eq!(read(&pattern, "2024-03-06 13:45:12.345,11.08342,1.5,x\n").unwrap().1, 2);
        assert_eq!(read(&pattern, "2024-03-05 13:45:12.345,11.08342,1.5,x\n"), None);
    }

    #[test]
    fn what_is_no_plain_number_ends_the_pattern() {
        for (row, ends) in [
            (&b"2024-03-05 13:45:12.345,-1.08342,1,7\n"[..], [23, 32, 34, 36]),
            (b"2024-03-05 13:45:12.345,1.2.3,1,7\n", [23, 29, 31, 33]),
            (b"2024-03-05 13:45:12.345,1.123456,1,7\n", [23, 32, 34, 36]),
            (b"2024-03-05 13:45:12.345,12345678901234.5,1,7\n", [23, 40, 42, 44]),
        ] {
            let mut pattern = RowPattern::new();
            pattern.learn(row, &cells(ends));
            assert_eq!(pattern.ends, [23]);
        }
    }
}
