//! Numbers and moments in the usual writing, eight bytes at a time.
//!
//! Where a cell ends is known only once it was read, so a row read cell by cell is one long chain of waiting.
//! But neighbouring rows are mostly written alike. A [`Pattern`] remembers where the digits of a column, its
//! point and its end were in the row before: where they are there again, the next cell begins at a place that
//! is known beforehand, and the processor reads many cells at once.

use super::moment;
use crate::model::DateOrder;
use crate::model::Micros;
use crate::model::price::unit;
use crate::model::time::{DAY, HOUR, MINUTE, SECOND};

/// How a number of up to eight characters is written, point and all, and how its digits make its value.
#[derive(Debug, Clone, Copy, Default)]
pub struct Pattern {
    /// The highest bit of each byte that is a digit.
    digits: u64,
    /// All bits of the point's byte and of the one behind the number; and what these bytes are.
    marked: u64,
    marks: u64,
    value: Digits,
    /// Characters of the number; 0 in the pattern that nothing fits.
    len: usize,
}

/// How the digits at the front of a word, with a point among them or none, make a value.
#[derive(Debug, Clone, Copy, Default)]
pub struct Digits {
    /// All bits of the bytes before the point; all there are where there is none.
    before: u64,
    /// Moves the digits to the upper end of the word; zeros move in before them.
    shift: u32,
    /// What a unit of the last digit is worth.
    times: i64,
}

/// Eight digits `0`: taken off a word of digits, their values are left.
const ZEROS: u64 = u64::from_le_bytes(*b"00000000");
/// Eight points, with the same taken off.
const POINTS: u64 = ZEROS ^ u64::from_le_bytes([b'.'; 8]);
/// The highest bit of each byte.
const HIGHEST: u64 = 0x8080_8080_8080_8080;

/// The highest bit of each byte that is no digit, of a word that [`ZEROS`] was taken off.
#[inline(always)]
fn others_of(word: u64) -> u64 {
    // Added to anything above nine, 0x76 reaches the highest bit.
    let tall = (word & !HIGHEST) + 0x7676_7676_7676_7676;
    (tall | word) & HIGHEST
}

/// All bits of the byte at a place; none where that is beyond the word.
#[inline(always)]
fn byte(at: usize) -> u64 {
    0xffu64.checked_shl(8 * at as u32).unwrap_or(0)
}

/// All bits of the bytes before a place.
#[inline(always)]
fn below(at: usize) -> u64 {
    1u64.checked_shl(8 * at as u32).map_or(u64::MAX, |one| one - 1)
}

impl Pattern {
    /// The pattern of the number that the bytes of a word begin with; None where it has no digits, more than
    /// `decimals` decimals or more than eight characters.
    #[inline(always)]
    fn of(word: u64, decimals: u8) -> Option<Pattern> {
        let others = others_of(word);
        let whole = (others.trailing_zeros() / 8) as usize;
        let point = byte(whole);
        let is_point = whole < 8 && (word ^ POINTS) & point == 0;
        let rest = if is_point { others & !point } else { others };
        let len = (rest.trailing_zeros() / 8) as usize;
        let (places, digits) = if is_point { (len - whole - 1, len - 1) } else { (0, len) };
        let missing = decimals.checked_sub(places as u8)?;
        if digits == 0 || digits + missing as usize > 18 {
            return None;
        }
        let marked = byte(len) | if is_point { point } else { 0 };
        Some(Pattern {
            digits: HIGHEST & below(len) & !marked,
            marked,
            marks: word & marked,
            value: Digits {
                before: if is_point { below(whole) } else { u64::MAX },
                shift: 64 - 8 * digits as u32,
                times: unit(missing),
            },
            len,
        })
    }

    #[inline(always)]
    fn fits(&self, word: u64) -> bool {
        (others_of(word) & self.digits) | ((word ^ self.marks) & self.marked) == 0 && self.len > 0
    }
}

impl Digits {
    /// The digits of a text of up to eight characters, one of which may be a point, and how many there are; a
    /// unit of the last is worth `times`. None where it has no digits or anything else.
    pub fn of(text: &[u8], times: i64) -> Option<(Digits, u8)> {
        let point = text.iter().position(|c| *c == b'.');
        let count = text.iter().filter(|c| c.is_ascii_digit()).count();
        if count == 0 || text.len() > 8 || count + usize::from(point.is_some()) != text.len() {
            return None;
        }
        Some((
            Digits { before: point.map_or(u64::MAX, below), shift: 64 - 8 * count as u32, times },
            count as u8,
        ))
    }

    /// The value of the digits in a word of eight characters, the first in its lowest byte: three multiplications add
    /// up pairs, fours and eights of digits at once (arithmetic on several numbers within one register).
    #[inline(always)]
    pub fn value(&self, word: u64) -> i64 {
        // What stands behind the point closes the gap.
        let word = (word & self.before) | ((word >> 8) & !self.before);
        // The first digit is the lowest byte. Pairs, fours and eights are added up.
        let word = word << self.shift;
        let word = (word & 0x0f0f_0f0f_0f0f_0f0f).wrapping_mul(10 * 256 + 1) >> 8;
        let word = (word & 0x00ff_00ff_00ff_00ff).wrapping_mul(100 * 65_536 + 1) >> 16;
        ((word & 0x0000_ffff_0000_ffff).wrapping_mul(10_000 * (1 << 32) + 1) >> 32) as i64 * self.times
    }
}

/// Reads a number of up to 18 digits with no more than `decimals` decimals; gives where it ends. `pattern` is
/// that of the number read last with as many decimals. None where it wants a closer look, and at the end of
/// the text.
#[inline(always)]
pub fn number(pattern: &mut Pattern, text: &[u8], at: usize, decimals: u8) -> Option<(i64, usize)> {
    let word = u64::from_le_bytes(*text.get(at..)?.first_chunk::<8>()?) ^ ZEROS;
    if !pattern.fits(word) {
        match Pattern::of(word, decimals) {
            Some(met) => *pattern = met,
            None => return long_number(text, at, decimals),
        }
    }
    // A number that fills the word may be longer.
    if pattern.len == 8 && matches!(text.get(at + 8)?, b'0'..=b'9' | b'.') {
        return long_number(text, at, decimals);
    }
    Some((pattern.value.value(word), at + pattern.len))
}

/// A number with a sign or of more than eight characters, digit by digit.
fn long_number(text: &[u8], mut at: usize, decimals: u8) -> Option<(i64, usize)> {
    let negative = *text.get(at)? == b'-';
    at += usize::from(negative);
    let start = at;
    let mut value: i64 = 0;
    let mut c = *text.get(at)?;
    while c.is_ascii_digit() {
        value = value.wrapping_mul(10).wrapping_add((c - b'0') as i64);
        at += 1;
        c = *text.get(at)?;
    }
    let mut missing = decimals;
    let mut digits = at - start;
    if c == b'.' {
        let dot = at;
        at += 1;
        c = *text.get(at)?;
        while c.is_ascii_digit() {
            value = value.wrapping_mul(10).wrapping_add((c - b'0') as i64);
            at += 1;
            c = *text.get(at)?;
        }
        let places = at - dot - 1;
        digits += places;
        missing = decimals.checked_sub(u8::try_from(places).ok()?)?;
    }
    if digits == 0 || digits + missing as usize > 18 {
        return None;
    }
    value *= unit(missing);
    Some((if negative { -value } else { value }, at))
}

/// The date read last: neighbouring lines nearly always share it.
#[derive(Default)]
pub struct DayMemory {
    text: [u8; 10],
    day: Option<i64>,
}

impl DayMemory {
    /// The date read last, as days since 1970.
    pub fn day(&self) -> Option<i64> {
        self.day
    }

    /// A moment with the date read last and a time of day as `13:45:12` or `13:45:12.345`, in UTC where a `Z`
    /// follows. `pattern` is that of the fraction read last.
    #[inline(always)]
    pub fn quick_moment(&self, pattern: &mut Pattern, text: &[u8], at: usize) -> Option<(Micros, usize)> {
        let day = self.day?;
        let cell: &[u8; 19] = text.get(at..)?.first_chunk()?;
        let (date, time) = cell.split_first_chunk::<10>()?;
        if *date != self.text || !matches!(time[0], b' ' | b'T') {
            return None;
        }
        let t = day * DAY + clock_time(time[1..].try_into().ok()?)?;
        // Anything but a delimiter is seen by the caller: a zone or another mark gets the closer look.
        let (t, end) = match text.get(at + 19) {
            Some(b'.') => number(pattern, text, at + 19, 6).map(|(fraction, end)| (t + fraction, end))?,
            _ => (t, at + 19),
        };
        Some((t, end + usize::from(text.get(end) == Some(&b'Z'))))
    }

    /// A moment in any writing; its date is remembered.
    pub fn moment(&mut self, cell: &[u8], order: DateOrder) -> Option<Micros> {
        let at = moment::moment(cell, order)?;
        // Only a full date of ten characters may be remembered by its first ten.
        self.day = None;
        if let Some((head, [b' ' | b'T', ..])) = cell.split_first_chunk::<10>() {
            self.day = moment::date(head, order).filter(|(_, rest)| rest.is_empty()).map(|(day, _)| day);
            self.text = *head;
        }
        Some(at)
    }

    /// A date alone, as days since 1970; it is remembered.
    pub fn date(&mut self, cell: &[u8], order: DateOrder) -> Option<i64> {
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

/// `13:45:12` as a time of day, eight characters at once.
#[inline(always)]
pub fn clock_time(text: [u8; 8]) -> Option<Micros> {
    // With the digits' and colons' codes taken off, digits are below ten and colons are zero.
    let word = u64::from_le_bytes(text) ^ u64::from_le_bytes(*b"00:00:00");
    let too_large = word.wrapping_add(0x0606_0606_0606_0606) | word;
    if too_large & 0xf0f0_f0f0_f0f0_f0f0 != 0 || word & 0x0000_ff00_00ff_0000 != 0 {
        return None;
    }
    // Each byte times ten plus the next one: below 256, so that none spills into its neighbour.
    let pairs = word.wrapping_mul(10) + (word >> 8);
    let [h, _, _, m, _, _, s, _] = pairs.to_le_bytes().map(i64::from);
    (h < 24 && m < 60 && s < 60).then_some(h * HOUR + m * MINUTE + s * SECOND)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use proptest::prelude::*;

    fn alone(text: &str, decimals: u8) -> Option<(i64, usize)> {
        number(&mut Pattern::default(), text.as_bytes(), 0, decimals)
    }

    #[test]
    fn a_number_that_ends_with_the_text_is_left_to_the_closer_look() {
        for text in ["12345678", "-12345678", "1.2345678", "1.234567", "1234567.", "", "-"] {
            assert_eq!(alone(text, 8), None, "{text}");
        }
    }

    #[test]
    fn a_number_that_fills_the_word_ends_where_its_digits_do() {
        assert_eq!(alone("1.234567,1", 6), Some((1_234_567, 8)));
        assert_eq!(alone("12345678.5,", 1), Some((123_456_785, 10)));
        assert_eq!(alone("1.23456789,", 8), Some((123_456_789, 10)));
        assert_eq!(alone("123.,     ", 2), Some((12_300, 4)));
        assert_eq!(alone(".,      ", 2), None);
    }

    #[test]
    fn a_fraction_of_a_second_is_read_to_the_microsecond() {
        let mut memory = DayMemory::default();
        memory.moment(b"2024-03-05 00:00:00", DateOrder::YearFirst).unwrap();
        let mut pattern = Pattern::default();
        for time in ["13:45:12.5", "13:45:12.345", "13:45:12.346Z", "13:45:12Z", "13:45:12.000001"] {
            let text = format!("2024-03-05 {time},1.08342,1.08344");
            let time = time.trim_end_matches('Z');
            let (moment, end) = memory.quick_moment(&mut pattern, text.as_bytes(), 0).unwrap();
            assert_eq!(moment, parse(&format!("2024-03-05 {time}")).unwrap(), "{time}");
            assert_eq!(&text[end..=end], ",");
        }
        // Finer than the time base, or no fraction at all: for the closer look.
        for time in ["13:45:12.1234567", "13:45:12."] {
            let text = format!("2024-03-05 {time},1.08342,1.08344");
            assert_eq!(memory.quick_moment(&mut pattern, text.as_bytes(), 0), None, "{time}");
        }
    }

    #[test]
    fn every_time_of_day_is_read_and_nothing_beyond() {
        for s in 0..86_400 {
            let text = format!("{:02}:{:02}:{:02}", s / 3600, s / 60 % 60, s % 60);
            let cell = text.as_bytes().try_into().unwrap();
            assert_eq!(clock_time(cell), Some(s * SECOND), "{text}");
        }
        for text in [
            b"24:00:00",
            b"00:60:00",
            b"00:00:60",
            b"0a:00:00",
            b"00-00:00",
            b"99:99:99",
            b":::::::::"[..8].try_into().unwrap(),
        ] {
            assert_eq!(clock_time(*text), None);
        }
    }

    proptest! {
        /// One pattern for all of them: what was read before never changes what is read now.
        #[test]
        fn words_of_digits_are_read_as_digit_by_digit(
            texts in proptest::collection::vec("-?[0-9]{0,10}(\\.[0-9]{0,10})?[,\n/:;x][0-9,.]{12}", 1..20),
            decimals in 0u8..9,
        ) {
            let mut pattern = Pattern::default();
            for text in &texts {
                let quick = number(&mut pattern, text.as_bytes(), 0, decimals);
                prop_assert_eq!(quick, long_number(text.as_bytes(), 0, decimals), "{}", text);
            }
        }
    }
}
