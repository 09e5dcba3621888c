//! Cells of a line, and the odd ways in which numbers stand in them.

use super::layout::Delimiter;
use crate::model::ABSENT;
use crate::model::price::{MAX_DECIMALS, NumberFault, parse_scaled};

/// The cells of a line, without the blanks and quotes around them.
pub fn of(line: &[u8], delimiter: Delimiter) -> Cells<'_> {
    Cells { rest: Some(line), delimiter }
}

/// Iterator over the cells of a line.
pub struct Cells<'a> {
    rest: Option<&'a [u8]>,
    delimiter: Delimiter,
}

impl<'a> Iterator for Cells<'a> {
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

/// A number with a decimal point and without marks between thousands.
#[inline]
pub fn plain_number<'a>(
    cell: &'a [u8],
    decimal: u8,
    thousands: Option<u8>,
    scratch: &'a mut Vec<u8>,
) -> &'a [u8] {
    if decimal == b'.' && thousands.is_none() {
        return cell;
    }
    scratch.clear();
    scratch
        .extend(cell.iter().filter(|c| Some(**c) != thousands).map(|&c| if c == decimal { b'.' } else { c }));
    scratch
}

/// True for a cell that says that there is no value.
#[cold]
pub fn is_absent(cell: &[u8]) -> bool {
    const WORDS: [&[u8]; 8] = [b"", b"-", b"na", b"n/a", b"#n/a", b"nan", b"null", b"none"];
    WORDS.iter().any(|w| cell.eq_ignore_ascii_case(w))
}

/// Reads what [`parse_scaled`] does not: an exponent (`1.5e-3`), exactly. None where it is none.
#[cold]
pub fn odd_number(text: &[u8], decimals: u8) -> Option<Result<i64, NumberFault>> {
    let at = text.iter().position(|c| matches!(c, b'e' | b'E'))?;
    let exponent: i32 = std::str::from_utf8(&text[at + 1..]).ok()?.parse().ok()?;
    if !(-30..=18).contains(&exponent) {
        return Some(Err(NumberFault::TooLarge));
    }
    let (sign, digits) = match text[..at].split_first() {
        Some((b'-', rest)) => (&b"-"[..], rest),
        _ => (&b""[..], &text[..at]),
    };
    let dot = digits.iter().position(|c| *c == b'.').unwrap_or(digits.len());
    let mut all: Vec<u8> = digits.iter().copied().filter(|c| *c != b'.').collect();
    let mut point = dot as i32 + exponent;
    while point < 0 {
        all.insert(0, b'0');
        point += 1;
    }
    while (all.len() as i32) < point {
        all.push(b'0');
    }
    let (whole, part) = all.split_at(point as usize);
    Some(parse_scaled(&[sign, whole, b".", part].concat(), decimals))
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
    fn odd_numbers_are_exact() {
        let read = |t: &str| odd_number(t.as_bytes(), 6);
        assert_eq!(read("1.5e-3"), Some(Ok(1500)));
        assert_eq!(read("-12E2"), Some(Ok(-1_200_000_000)));
        assert_eq!(read("1e-7"), Some(Err(NumberFault::TooFine(7))));
        assert_eq!(read("1x"), None);
        let mut scratch = Vec::new();
        assert_eq!(plain_number(b"1.234,50", b',', Some(b'.'), &mut scratch), b"1234.50");
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
