//! Cells of a line, and the odd ways in which numbers stand in them.

use crate::model::ABSENT;
use crate::model::layout::{Delimiter, is_absent_text};
use crate::model::price::MAX_DECIMALS;

/// The cells of a line, without the blanks and quotes around them.
pub fn of(line: &[u8], delimiter: Delimiter) -> CellIter<'_> {
    CellIter { rest: Some(line), delimiter }
}

/// Iterator over the cells of a line.
pub struct CellIter<'a> {
    rest: Option<&'a [u8]>,
    delimiter: Delimiter,
}

impl<'a> Iterator for CellIter<'a> {
    type Item = &'a [u8];

    #[inline]
    fn next(&mut self) -> Option<&'a [u8]> {
        match self.delimiter {
            Delimiter::Mark(mark) => {
                let here = self.rest?;
                let (cell, rest) = match here.first() {
                    Some(b'"') => cut_quoted(here, mark),
                    // Cells are short: a plain loop beats a search that sets up vectors.
                    _ => match here.iter().position(|&c| c == mark) {
                        Some(at) => (&here[..at], Some(&here[at + 1..])),
                        None => (here, None),
                    },
                };
                self.rest = rest;
                Some(bare(cell))
            }
            Delimiter::Blanks => {
                let here = self.rest?.trim_ascii_start();
                if here.is_empty() {
                    self.rest = None;
                    return None;
                }
                let end = here.iter().position(|c| matches!(c, b' ' | b'\t')).unwrap_or(here.len());
                self.rest = Some(&here[end..]);
                Some(bare(&here[..end]))
            }
        }
    }
}

/// Cuts off a cell in quotes, in which the delimiter may stand; a quote within is written twice.
fn cut_quoted(here: &[u8], mark: u8) -> (&[u8], Option<&[u8]>) {
    let mut at = 1;
    while at < here.len() {
        match (here[at], here.get(at + 1)) {
            (b'"', Some(b'"')) => at += 2,
            (b'"', _) => break,
            _ => at += 1,
        }
    }
    let end = here[at.min(here.len())..].iter().position(|&c| c == mark);
    match end {
        Some(n) => (&here[..at + n], Some(&here[at + n + 1..])),
        None => (here, None),
    }
}

/// A cell without blanks and quotes around it.
#[inline]
pub fn bare(cell: &[u8]) -> &[u8] {
    match (cell.first(), cell.last()) {
        (Some(b' ' | b'"' | b'\t' | b'\''), _) | (_, Some(b' ' | b'"' | b'\t' | b'\'')) => {
            let cell = cell.trim_ascii();
            let within = |q: &[u8]| cell.strip_prefix(q).and_then(|c| c.strip_suffix(q));
            within(b"\"").or_else(|| within(b"'")).unwrap_or(cell).trim_ascii()
        }
        _ => cell,
    }
}

/// True for a cell that says that there is no value.
#[cold]
pub fn is_absent(cell: &[u8]) -> bool {
    std::str::from_utf8(cell).is_ok_and(is_absent_text)
}

/// A side as a number: 1 for bid or bought, 2 for ask or sold; absent where it is not said.
pub fn side(cell: &[u8]) -> Option<i64> {
    Some(match cell.to_ascii_lowercase().as_slice() {
        b"" | b"0" | b"n/a" | b"none" | b"unknown" | b"-" => ABSENT,
        b"1" | b"b" | b"bid" | b"buy" | b"bought" | b"buyer" => 1,
        b"2" | b"s" | b"a" | b"ask" | b"offer" | b"sell" | b"sold" | b"seller" => 2,
        _ => return None,
    })
}

/// An act on a level of the book as a number: 1 new, 2 changed, 3 gone; absent where it is not said.
pub fn act(cell: &[u8]) -> Option<i64> {
    Some(match cell.to_ascii_lowercase().as_slice() {
        b"" | b"0" | b"-" => ABSENT,
        b"1" | b"new" | b"add" | b"added" | b"insert" | b"a" | b"n" | b"i" => 1,
        b"2" | b"change" | b"changed" | b"update" | b"updated" | b"modify" | b"u" | b"c" | b"m" => 2,
        b"3" | b"gone" | b"delete" | b"deleted" | b"remove" | b"removed" | b"cancel" | b"d" | b"r" => 3,
        _ => return None,
    })
}

/// A floating number as the shortest decimal that means it; the last digits that only come from binary
/// fractions are left away.
pub fn push_float(out: &mut Vec<u8>, value: f64) {
    use std::io::Write;
    for places in 0..=MAX_DECIMALS as usize {
        let text = format!("{value:.places$}");
        let back: f64 = text.parse().unwrap_or(f64::NAN);
        if (back - value).abs() <= value.abs() * 1e-14 {
            out.extend_from_slice(text.as_bytes());
            return;
        }
    }
    // Writing to memory does not fail.
    let _ = write!(out, "{value}");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_in_quotes_and_between_blanks() {
        let all = |text: &str, d| {
            of(text.as_bytes(), d).map(|c| String::from_utf8_lossy(c).into_owned()).collect::<Vec<_>>()
        };
        let comma = Delimiter::Mark(b',');
        assert_eq!(all(r#""1,5", 2 ,"a ""b""",,"x"#, comma), ["1,5", "2", r#"a ""b"""#, "", r#""x"#]);
        assert_eq!(all("  1  2\t3 ", Delimiter::Blanks), ["1", "2", "3"]);
    }

    #[test]
    fn a_float_is_the_shortest_number_that_means_it() {
        let float = |v: f64| {
            let mut o = Vec::new();
            push_float(&mut o, v);
            String::from_utf8(o).unwrap()
        };
        assert_eq!(
            (float(1.1230000000000002), float(0.1 + 0.2), float(412.25)),
            ("1.123".into(), "0.3".into(), "412.25".into())
        );
    }
}
