//! How many rows a file holds on each day, so that coverage is drawn without reading the rows.

use crate::model::Micros;
use crate::model::time::{DAY, day_of};

/// Rows by UTC day (by written day while afloat), from a first day on.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RowsByDay {
    /// Days since 1970-01-01.
    pub first: i64,
    /// Rows of each day from `first` on.
    pub rows: Vec<u32>,
}

impl RowsByDay {
    /// Counts rows that follow, in order of time, those counted before.
    pub fn count(&mut self, times: &[Micros]) {
        let mut rest = times;
        while let Some(&t) = rest.first() {
            let day = day_of(t);
            if self.rows.is_empty() {
                self.first = day;
            }
            let here = rest.partition_point(|&t| t < (day + 1) * DAY).max(1);
            let at = (day - self.first).max(0) as usize;
            if self.rows.len() <= at {
                self.rows.resize(at + 1, 0);
            }
            self.rows[at] = self.rows[at].saturating_add(here as u32);
            rest = &rest[here..];
        }
    }

    /// Each day that has rows, with their number.
    pub fn iter(&self) -> impl Iterator<Item = (i64, u32)> {
        self.rows.iter().enumerate().filter(|(_, n)| **n > 0).map(|(i, n)| (self.first + i as i64, *n))
    }

    /// The counts as bytes: the first day in eight, then each count in as few as it needs.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = self.first.to_le_bytes().to_vec();
        for &count in &self.rows {
            let mut rest = count;
            while rest >= 0x80 {
                out.push(rest as u8 | 0x80);
                rest >>= 7;
            }
            out.push(rest as u8);
        }
        out
    }

    /// The counts out of [`RowsByDay::to_bytes`]; whatever is cut short is left away.
    pub fn from_bytes(bytes: &[u8]) -> RowsByDay {
        let Some((first, counts)) = bytes.split_first_chunk::<8>() else { return RowsByDay::default() };
        let mut days = RowsByDay { first: i64::from_le_bytes(*first), rows: Vec::new() };
        let (mut value, mut shift) = (0u32, 0);
        for byte in counts {
            value |= ((byte & 0x7f) as u32).checked_shl(shift).unwrap_or(0);
            shift += 7;
            if byte & 0x80 == 0 {
                days.rows.push(value);
                (value, shift) = (0, 0);
            }
        }
        days
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn counts_are_those_of_the_rows(mut times in proptest::collection::vec(-40 * DAY..400 * DAY, 1..200)) {
            times.sort_unstable();
            let mut days = RowsByDay::default();
            times.chunks(7).for_each(|c| days.count(c));
            for (day, rows) in days.iter() {
                prop_assert_eq!(rows as usize, times.iter().filter(|t| day_of(**t) == day).count());
            }
            prop_assert_eq!(days.iter().map(|d| d.1 as usize).sum::<usize>(), times.len());
            prop_assert_eq!(RowsByDay::from_bytes(&days.to_bytes()), days);
        }

        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            let _ = RowsByDay::from_bytes(&bytes);
        }
    }
}
