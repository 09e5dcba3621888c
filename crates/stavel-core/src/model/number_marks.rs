//! Numbers as files write them: other marks, exponents, thousands as a letter, thirty-seconds, and the tails
//! that binary fractions leave.

use crate::model::price::{MAX_DECIMALS, NumberFault, parse_scaled, written_decimals};

/// How the numbers of a file are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NumberMarks {
    /// `.` or `,`.
    pub decimal: u8,
    /// A mark that stands between thousands; a blank is any of [`BLANKS`].
    pub thousands: Option<u8>,
    /// True where the part behind `'` or `-` is in thirty-seconds of a point, as bonds are quoted.
    pub thirty_seconds: bool,
}

/// The blanks that stand between thousands: plain, unbroken, narrow and thin ones, and the unbroken one of
/// single-byte encodings.
const BLANKS: [&[u8]; 5] = [b" ", "\u{a0}".as_bytes(), "\u{202f}".as_bytes(), "\u{2009}".as_bytes(), b"\xa0"];

/// A number in which blanks stand before groups of three digits, without them; None where none do.
pub fn without_blanks(cell: &[u8], decimal: u8) -> Option<Vec<u8>> {
    let mut plain = Vec::with_capacity(cell.len());
    let mut rest = cell;
    while let Some((first, after)) = rest.split_first() {
        let blank = BLANKS.iter().find_map(|blank| rest.strip_prefix(*blank));
        plain.push(if blank.is_some() { b' ' } else { *first });
        rest = blank.unwrap_or(after);
    }
    (plain.contains(&b' ') && is_grouped(&plain, b' ', decimal)).then(|| {
        plain.retain(|c| *c != b' ');
        plain
    })
}

impl NumberMarks {
    /// With a decimal point and nothing between thousands.
    pub const PLAIN: NumberMarks = NumberMarks { decimal: b'.', thousands: None, thirty_seconds: false };

    /// The number in a cell with a decimal point and no other marks; the cell itself where it is none.
    #[inline]
    pub fn plain<'a>(&self, cell: &'a [u8], scratch: &'a mut Vec<u8>) -> &'a [u8] {
        if *self == NumberMarks::PLAIN {
            return cell;
        }
        scratch.clear();
        if self.thirty_seconds
            && let Some((whole, parts)) = thirty_seconds(cell)
        {
            scratch.extend_from_slice(whole);
            // A 256th of a point is the finest that is quoted so: eight decimals.
            scratch.extend(format!(".{:08}", u64::from(parts) * 100_000_000 / 256).bytes());
            while scratch.last() == Some(&b'0') {
                scratch.pop();
            }
            return scratch.strip_suffix(b".").unwrap_or(scratch);
        }
        let bare = match self.thousands {
            Some(b' ') => without_blanks(cell, self.decimal),
            _ => None,
        };
        // A number written with the other mark as its decimal mark is not one of this file.
        if self.thousands == Some(b'.') && cell.contains(&b'.') && !is_grouped(cell, b'.', self.decimal) {
            return cell;
        }
        // Blanks that do not stand before groups of three stay, and make it no number.
        let mark = self.thousands.filter(|mark| *mark != b' ');
        let marked = bare.as_deref().unwrap_or(cell).iter().filter(|c| Some(**c) != mark);
        scratch.extend(marked.map(|c| match *c {
            c if c == self.decimal => b'.',
            // A point where the comma is the decimal mark makes no number.
            b'.' => b'?',
            c => c,
        }));
        scratch
    }
}

/// True where a mark stands before groups of three digits only, as between thousands.
pub fn is_grouped(number: &[u8], mark: u8, decimal: u8) -> bool {
    let whole = number.split(|c| *c == decimal).next().unwrap_or_default();
    let mut groups = whole.split(|c| *c == mark);
    let first = groups.next().unwrap_or_default().iter().filter(|c| c.is_ascii_digit()).count();
    (1..=3).contains(&first) && groups.all(|g| g.len() == 3 && g.iter().all(u8::is_ascii_digit))
}

/// The whole points of a price such as `108'20`, `108-20+` or `108'205`, and the rest in 256ths of a point:
/// `+` is half a thirty-second, and a third digit tells its quarters (0, 2, 5, 7).
pub fn thirty_seconds(cell: &[u8]) -> Option<(&[u8], u32)> {
    let at = cell.iter().rposition(|c| matches!(c, b'\'' | b'-')).filter(|at| *at > 0)?;
    let (whole, rest) = (&cell[..at], &cell[at + 1..]);
    let digits = whole.strip_prefix(b"-").unwrap_or(whole);
    if digits.is_empty() || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let (tens, ones, eighths) = match *rest {
        [a, b] => (a, b, 0),
        [a, b, b'+' | b'5'] => (a, b, 4),
        [a, b, b'0'] => (a, b, 0),
        [a, b, b'2'] => (a, b, 2),
        [a, b, b'7'] => (a, b, 6),
        _ => return None,
    };
    let part =
        [tens, ones].iter().try_fold(0, |v, c| c.is_ascii_digit().then(|| v * 10 + u32::from(c - b'0')))?;
    (part < 32).then_some((whole, part * 8 + eighths))
}

/// Reads what [`parse_scaled`] does not, exactly: an exponent (`1.5e-3`) or thousands and millions as a
/// letter (`12.3K`). None where it is neither.
#[cold]
pub fn odd_number(text: &[u8], decimals: u8) -> Option<Result<i64, NumberFault>> {
    let (number, exponent) = with_exponent(text)?;
    if !(-30..=18).contains(&exponent) {
        return Some(Err(NumberFault::TooLarge));
    }
    Some(parse_scaled(&shifted(number, exponent), decimals))
}

/// The part of a number before its exponent or its letter, and the power of ten that is meant.
fn with_exponent(text: &[u8]) -> Option<(&[u8], i32)> {
    let (last, head) = text.split_last()?;
    let letter = match last {
        b'K' | b'k' => Some(3),
        b'M' | b'm' => Some(6),
        b'B' | b'b' => Some(9),
        _ => None,
    };
    let is_plain = |number: &[u8]| parse_scaled(number, MAX_DECIMALS) != Err(NumberFault::NotANumber);
    if let Some(exponent) = letter {
        return is_plain(head).then_some((head, exponent));
    }
    let at = text.iter().position(|c| matches!(c, b'e' | b'E'))?;
    let exponent = std::str::from_utf8(&text[at + 1..]).ok()?.parse().ok()?;
    is_plain(&text[..at]).then_some((&text[..at], exponent))
}

/// A number with its point moved.
fn shifted(number: &[u8], exponent: i32) -> Vec<u8> {
    let (sign, digits) = match number.split_first() {
        Some((b'-', rest)) => (&b"-"[..], rest),
        _ => (&b""[..], number),
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
    [sign, whole, b".", part].concat()
}

/// The decimals of a number in a cell, with the marks taken out: as written, or as far as they are meant
/// where a binary fraction left a tail.
pub fn decimals_of(plain: &[u8]) -> u8 {
    let moved = with_exponent(plain).map(|(number, exponent)| shifted(number, exponent.clamp(-30, 18)));
    let text = moved.as_deref().unwrap_or(plain);
    let written = match &moved {
        Some(moved) => crate::model::price::significant_decimals(moved),
        None => written_decimals(text),
    };
    if written <= MAX_DECIMALS { written } else { without_tail(text).map_or(written, |t| t.0) }
}

/// The least decimals to which a number is meant whose last digits are the tail of a binary fraction
/// (`1.0834000000000001`, `1.0833999999999999`), and its value at these decimals. None where it has no such
/// tail: at least five zeros, or five nines, and at most two other digits.
#[cold]
pub fn without_tail(text: &[u8]) -> Option<(u8, i64)> {
    let dot = text.iter().position(|c| *c == b'.')?;
    let part = &text[dot + 1..];
    if part.len() <= MAX_DECIMALS as usize || !part.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let run = &part[..part.len() - 2];
    let last = *run.last()?;
    let begin = run.iter().rposition(|c| *c != last).map_or(0, |at| at + 1);
    if !matches!(last, b'0' | b'9') || run.len() - begin < 5 || begin > MAX_DECIMALS as usize {
        return None;
    }
    let decimals = begin as u8;
    let cut = parse_scaled(&text[..dot + 1 + begin], decimals).ok()?;
    let up = if text[0] == b'-' { -1 } else { 1 };
    Some((decimals, if last == b'9' { cut + up } else { cut }))
}

/// A plain number rounded to some decimals, halves away from zero.
///
/// # Errors
/// Where the text is no number, or too large for the column.
#[cold]
pub fn rounded(text: &[u8], decimals: u8) -> Result<i64, NumberFault> {
    let dot = text.iter().position(|c| *c == b'.').unwrap_or(text.len());
    let keep = (dot + 1 + decimals as usize).min(text.len());
    let cut = parse_scaled(&text[..keep], decimals)?;
    match text.get(keep) {
        Some(b'5'..=b'9') if text[0] == b'-' => Ok(cut - 1),
        Some(b'5'..=b'9') => Ok(cut + 1),
        _ => Ok(cut),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(cell: &str, marks: NumberMarks) -> String {
        String::from_utf8_lossy(marks.plain(cell.as_bytes(), &mut Vec::new())).into_owned()
    }

    #[test]
    fn odd_numbers_are_exact() {
        let read = |t: &str| odd_number(t.as_bytes(), 6);
        assert_eq!(read("1.5e-3"), Some(Ok(1500)));
        assert_eq!(read("-12E2"), Some(Ok(-1_200_000_000)));
        assert_eq!(read("1.0834E0"), Some(Ok(1_083_400)));
        assert_eq!(read("12.3K"), Some(Ok(12_300_000_000)));
        assert_eq!(read("1.25m"), Some(Ok(1_250_000_000_000)));
        assert_eq!(read("1e-7"), Some(Err(NumberFault::TooFine(7))));
        assert_eq!(
            (read("1x"), read("K"), read("-k"), read("open[31m"), read("1x2e5")),
            (None, None, None, None, None)
        );
    }

    #[test]
    fn one_decimal_mark_for_the_whole_file() {
        let comma = NumberMarks { decimal: b',', thousands: Some(b'.'), thirty_seconds: false };
        assert_eq!(plain("1.234,50", comma), "1234.50");
        assert_eq!(plain("2.410", comma), "2410");
        assert!(parse_scaled(plain("2.41", comma).as_bytes(), 2) != Ok(24_100), "no group of thousands");
        let without = NumberMarks { thousands: None, ..comma };
        assert!(parse_scaled(plain("2.410", without).as_bytes(), 3).is_err());
    }

    #[test]
    fn blanks_stand_between_thousands_whatever_their_bytes() {
        let blank = NumberMarks { decimal: b',', thousands: Some(b' '), thirty_seconds: false };
        for cell in ["10 834,25", "10\u{a0}834,25", "10\u{202f}834,25", "10\u{2009}834,25"] {
            assert_eq!(plain(cell, blank), "10834.25");
        }
        assert_eq!(blank.plain(b"-1\xa0250\xa0000", &mut Vec::new()), b"-1250000");
        for cell in ["10 83,25", "1083 4,25", "10 834.25", "10 834 x"] {
            assert!(parse_scaled(plain(cell, blank).as_bytes(), 2).is_err(), "{cell}");
        }
    }

    #[test]
    fn thirty_seconds_are_exact() {
        let bonds = NumberMarks { thirty_seconds: true, ..NumberMarks::PLAIN };
        for (cell, number) in [
            ("108'20", "108.625"),
            ("108-20+", "108.640625"),
            ("108'202", "108.6328125"),
            ("108'207", "108.6484375"),
            ("108-00", "108"),
            ("-1'16", "-1.5"),
            ("108'32", "108'32"),
            ("108'1", "108'1"),
            ("412.25", "412.25"),
        ] {
            assert_eq!(plain(cell, bonds), number);
        }
    }

    #[test]
    fn the_tails_of_binary_fractions_are_seen_for_what_they_are() {
        let tail = |t: &str| without_tail(t.as_bytes());
        assert_eq!(tail("1.0834000000000001"), Some((4, 10_834)));
        assert_eq!(tail("1.0833999999999999"), Some((4, 10_834)));
        assert_eq!(tail("-1.0833999999999999"), Some((4, -10_834)));
        assert_eq!(tail("0.30000000000000004"), Some((1, 3)));
        assert_eq!(tail("1.9999999999999998"), Some((0, 2)));
        assert_eq!(tail("0.12345678901234567"), None);
        assert_eq!(tail("1.00001"), None);
        assert_eq!(decimals_of(b"1.0835000000000001"), 4);
        assert_eq!(decimals_of(b"1.50"), 2);
        assert_eq!(decimals_of(b"12.3K"), 0);
        assert_eq!(decimals_of(b"1.5e-3"), 4);
    }
}
