//! Dates and times as files write them.

use crate::model::DateOrder;
use crate::model::Micros;
use crate::model::layout::Since1970;
use crate::model::time::{DAY, EARLIEST, HOUR, LATEST, MINUTE, SECOND, days_from_civil, days_in_month};

/// Reads a run of digits from the front; gives its value, its length and what follows.
#[inline]
fn digits(text: &[u8]) -> (i64, usize, &[u8]) {
    let mut value = 0i64;
    let mut n = 0;
    while n < text.len() && n < 18 && text[n].is_ascii_digit() {
        value = value * 10 + (text[n] - b'0') as i64;
        n += 1;
    }
    (value, n, &text[n..])
}

/// Reads a date from the front of `text` as days since 1970-01-01, and gives what follows.
///
/// Three numbers divided by `.`, `-`, `/` or a blank, the month perhaps as an English word and then in any
/// place, or eight digits year-first. The name of a weekday may stand before it.
#[inline]
pub fn date(text: &[u8], order: DateOrder) -> Option<(i64, &[u8])> {
    if text.first()?.is_ascii_alphabetic() {
        return date_behind_a_word(text);
    }
    let (a, a_len, rest) = digits(text);
    if a_len == 8 {
        return Some((checked_day(a / 10_000, a / 100 % 100, a % 100)?, rest));
    }
    // All digits of a moment side by side: `202403051345`, `20240305134512`.
    if matches!(a_len, 12 | 14) {
        let (day, rest) = date(&text[..8], order)?;
        return rest.is_empty().then_some((day, &text[8..]));
    }
    let (&mark, rest) = rest.split_first()?;
    if !matches!(mark, b'.' | b'-' | b'/' | b' ') {
        return None;
    }
    if rest.first()?.is_ascii_alphabetic() {
        return date_with_month_word(a, a_len, mark, rest);
    }
    let (b, b_len, rest) = digits(rest);
    let rest = rest.strip_prefix(&[mark]).filter(|_| mark != b' ')?;
    let (c, c_len, rest) = digits(rest);
    if a_len == 0 || b_len == 0 || c_len == 0 || a_len.max(b_len).max(c_len) > 4 {
        return None;
    }
    let (year, year_len, month, day) = match order {
        DateOrder::YearFirst => (a, a_len, b, c),
        DateOrder::DayFirst => (c, c_len, b, a),
        DateOrder::MonthFirst => (c, c_len, a, b),
    };
    Some((checked_day(full_year(year, year_len)?, month, day)?, rest))
}

/// Two-digit years are those from 1970 to 2069.
fn full_year(year: i64, len: usize) -> Option<i64> {
    match len {
        4 => Some(year),
        2 if year < 70 => Some(2000 + year),
        2 => Some(1900 + year),
        _ => None,
    }
}

/// The place of an English word, whole or its first three letters, in a list of such beginnings; gives what
/// follows the word.
fn word_of<'a>(text: &'a [u8], beginnings: &[u8]) -> Option<(i64, &'a [u8])> {
    let end = text.iter().position(|c| !c.is_ascii_alphabetic()).unwrap_or(text.len());
    let word = text[..end].get(..3)?.to_ascii_lowercase();
    let place = beginnings.chunks(3).position(|w| w == word)? as i64;
    Some((place, &text[end..]))
}

const MONTHS: &[u8; 36] = b"janfebmaraprmayjunjulaugsepoctnovdec";
const WEEKDAYS: &[u8; 21] = b"montuewedthufrisatsun";

/// `Mar 5 2024`, `March 5, 2024`, `Mar-05-2024`, and any date behind a weekday: `Tue, 05 Mar 2024`.
fn date_behind_a_word(text: &[u8]) -> Option<(i64, &[u8])> {
    if let Some((_, rest)) = word_of(text, WEEKDAYS) {
        let rest = rest.trim_ascii_start();
        let rest = rest.strip_prefix(b",").unwrap_or(rest).trim_ascii_start();
        // Without a month in words the order would be anyone's guess.
        return match rest.first()?.is_ascii_alphabetic() {
            true if word_of(rest, MONTHS).is_some() => date_behind_a_word(rest),
            true => None,
            false => date(rest, DateOrder::YearFirst),
        };
    }
    let (month, rest) = word_of(text, MONTHS)?;
    let (&mark, rest) = rest.split_first()?;
    let rest = rest.trim_ascii_start();
    let (day, day_len, rest) = digits(rest);
    let rest = rest.strip_prefix(b",").map_or(rest, |rest| rest.trim_ascii_start());
    let rest = rest.strip_prefix(&[mark]).unwrap_or(rest);
    let (year, year_len, rest) = digits(rest);
    if !matches!(mark, b'.' | b'-' | b'/' | b' ') || day_len > 2 || rest.first() == Some(&b':') {
        return None;
    }
    Some((checked_day(full_year(year, year_len)?, month + 1, day)?, rest))
}

/// `05-Mar-2024`, `5 March 24`, `2024-Mar-05`.
fn date_with_month_word(a: i64, a_len: usize, mark: u8, rest: &[u8]) -> Option<(i64, &[u8])> {
    let (month, rest) = word_of(rest, MONTHS)?;
    let (c, c_len, rest) = digits(rest.strip_prefix(&[mark])?);
    let (year, year_len, day) = if a_len == 4 { (a, a_len, c) } else { (c, c_len, a) };
    Some((checked_day(full_year(year, year_len)?, month + 1, day)?, rest))
}

fn checked_day(year: i64, month: i64, day: i64) -> Option<i64> {
    if !(1..=12).contains(&month) || day < 1 || day > days_in_month(year, month) {
        return None;
    }
    in_range(days_from_civil(year, month, day) * DAY).map(|t| t / DAY)
}

/// Times from 1900 to 2200 only: what lies outside is a misread number.
fn in_range(t: Micros) -> Option<Micros> {
    (EARLIEST..LATEST).contains(&t).then_some(t)
}

/// Reads a whole time of day: `13:45`, `13:45:12`, `1:45:12.345 PM`, `134512`, `134512345`; `24:00` is the end
/// of the day.
#[inline]
pub fn time_of_day(text: &[u8]) -> Option<Micros> {
    match text.last() {
        Some(b'M' | b'm') => half_day(text),
        _ => full_day_time(text),
    }
}

/// A time of day followed by AM or PM.
fn half_day(text: &[u8]) -> Option<Micros> {
    let (time, mark) = text.split_at_checked(text.len().checked_sub(2)?)?;
    let t = full_day_time(time.trim_ascii_end())?;
    if !(HOUR..13 * HOUR).contains(&t) {
        return None;
    }
    let t = t % (12 * HOUR);
    match mark[0] {
        b'A' | b'a' => Some(t),
        b'P' | b'p' => Some(t + 12 * HOUR),
        _ => None,
    }
}

#[inline]
fn full_day_time(text: &[u8]) -> Option<Micros> {
    let (a, a_len, rest) = digits(text);
    let (h, m, s, rest) = match (a_len, rest.first()) {
        (1 | 2, Some(b':')) => {
            let (m, m_len, rest) = digits(&rest[1..]);
            if m_len != 2 {
                return None;
            }
            match rest.split_first() {
                Some((b':', after)) => {
                    let (s, s_len, rest) = digits(after);
                    if s_len != 2 {
                        return None;
                    }
                    (a, m, s, rest)
                }
                _ => (a, m, 0, rest),
            }
        }
        (3 | 4, _) => (a / 100, a % 100, 0, rest),
        (5 | 6, _) => (a / 10_000, a / 100 % 100, a % 100, rest),
        (9, None) => (a / 10_000_000, a / 100_000 % 100, a / 1000 % 100, &text[6..]),
        _ => return None,
    };
    let fraction = match rest.split_first() {
        None => 0,
        Some((b'.' | b',', after)) => fraction(after)?,
        // After seconds, milliseconds may follow another colon.
        Some((b':', after)) if a_len <= 2 && after.len() == 3 => fraction(after)?,
        Some(_) if a_len == 9 => fraction(rest)?,
        Some(_) => return None,
    };
    let time = h * HOUR + m * MINUTE + s * SECOND + fraction;
    // Midnight as the end of its day, as ISO 8601 once had it.
    ((h < 24 || time == DAY) && m < 60 && s < 60).then_some(time)
}

/// Digits after the seconds, as many as there are; what is finer than a microsecond is dropped.
#[inline]
fn fraction(text: &[u8]) -> Option<Micros> {
    let (value, n, rest) = digits(text);
    if n == 0 || !rest.iter().all(u8::is_ascii_digit) {
        return None;
    }
    Some(if n <= 6 { value * 10i64.pow(6 - n as u32) } else { value / 10i64.pow(n as u32 - 6) })
}

/// Reads date and time from one column: a date, a space, `T`, `_` or a comma, a time of day and perhaps
/// a zone, which is worked in.
#[inline]
pub fn moment(text: &[u8], order: DateOrder) -> Option<Micros> {
    let (day, rest) = date(text, order)?;
    if rest.is_empty() {
        return Some(day * DAY);
    }
    let (time, offset) = without_zone(time_behind(rest)?)?;
    Some(day * DAY + time_of_day(time)? - offset)
}

/// The time of day behind a date. Side by side with it (`20240305134512`) it follows at once.
fn time_behind(rest: &[u8]) -> Option<&[u8]> {
    match rest.split_first()? {
        (b' ' | b'T' | b't' | b'_' | b',', time) => Some(time.trim_ascii_start()),
        (c, _) if c.is_ascii_digit() && matches!(rest.len(), 4 | 6) => Some(rest),
        _ => None,
    }
}

/// True where a moment names its own zone.
pub fn is_zoned(text: &[u8]) -> bool {
    let orders = [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst];
    let time = orders.into_iter().find_map(|order| time_behind(date(text, order)?.1));
    time.is_some_and(|time| without_zone(time).is_some_and(|(rest, _)| rest.len() < time.len()))
}

/// Words for offsets from UTC, in hours, that mean one zone only. `CST`, `IST` and `BST` mean several.
const ZONE_WORDS: [(&[u8], i64); 21] = [
    (b"Z", 0),
    (b"UTC", 0),
    (b"GMT", 0),
    (b"WET", 0),
    (b"WEST", 1),
    (b"CET", 1),
    (b"CEST", 2),
    (b"EET", 2),
    (b"EEST", 3),
    (b"MSK", 3),
    (b"EST", -5),
    (b"EDT", -4),
    (b"CDT", -5),
    (b"MDT", -6),
    (b"PST", -8),
    (b"PDT", -7),
    (b"JST", 9),
    (b"AEST", 10),
    (b"AEDT", 11),
    (b"NZST", 12),
    (b"NZDT", 13),
];

/// Takes a zone (`Z`, `UTC`, `EST`, `+02:00`, `GMT+0200`, `+1`, perhaps explained in brackets) off the end of
/// a time; gives its offset from UTC.
#[inline]
fn without_zone(time: &[u8]) -> Option<(&[u8], Micros)> {
    match time.last()? {
        b'0'..=b'9' => match time.iter().rposition(|c| matches!(c, b'+' | b'-')) {
            // A time of day has at least four characters before a sign can stand.
            Some(at) if at + 6 >= time.len() => signed_zone(time, at),
            _ => Some((time, 0)),
        },
        b')' => {
            let at = time.iter().position(|c| *c == b'(')?;
            without_zone(time[..at].trim_ascii_end())
        }
        _ => word_zone(time),
    }
}

fn signed_zone(time: &[u8], at: usize) -> Option<(&[u8], Micros)> {
    let (hours, h_len, rest) = digits(&time[at + 1..]);
    let (h, m) = match (h_len, rest) {
        (1 | 2, []) => (hours, 0),
        (4, []) => (hours / 100, hours % 100),
        (2, [b':', minutes @ ..]) => (hours, digits(minutes).0),
        _ => return None,
    };
    if h > 15 || m > 59 {
        return None;
    }
    let offset = h * HOUR + m * MINUTE;
    let before = time[..at].trim_ascii_end();
    let before = before.strip_suffix(b"UTC").or(before.strip_suffix(b"GMT")).unwrap_or(before);
    Some((before.trim_ascii_end(), if time[at] == b'-' { -offset } else { offset }))
}

fn word_zone(time: &[u8]) -> Option<(&[u8], Micros)> {
    let letters = time.iter().rev().take_while(|c| c.is_ascii_alphabetic()).count();
    let (before, word) = time.split_at(time.len() - letters);
    if [&b"AM"[..], b"PM"].iter().any(|half| word.eq_ignore_ascii_case(half)) {
        return Some((time, 0));
    }
    let (_, hours) = ZONE_WORDS.iter().find(|(name, _)| word.eq_ignore_ascii_case(name))?;
    Some((before.trim_ascii_end(), hours * HOUR))
}

/// Reads a number of units since 1970, perhaps with a fraction.
pub fn since_1970(text: &[u8], unit: Since1970) -> Option<Micros> {
    let (negative, text) = text.strip_prefix(b"-").map_or((false, text), |t| (true, t));
    // Nanoseconds have nineteen digits, one more than is read at once; the last does not matter.
    let (text, per_micro) = match unit {
        Since1970::Nanos if text.len() == 19 && text[18].is_ascii_digit() => (&text[..18], 100),
        Since1970::Nanos => (text, 1000),
        _ => (text, 1),
    };
    let (whole, len, rest) = digits(text);
    if len == 0 || text.get(len).is_some_and(u8::is_ascii_digit) {
        return None;
    }
    let (factor, places) = match unit {
        Since1970::Seconds => (SECOND, 6),
        Since1970::Millis => (1000, 3),
        Since1970::Micros | Since1970::Nanos => (1, 0),
    };
    let part = match rest.split_first() {
        None => 0,
        Some((b'.', after)) => fraction(after)? / 10i64.pow(6 - places),
        Some(_) => return None,
    };
    let whole = (whole / per_micro).checked_mul(factor)?;
    in_range(if negative { -(whole + part) } else { whole + part })
}

/// Reads days since 1899-12-30 with a fraction of a day, to the millisecond: finer than that such
/// numbers do not hold.
pub fn day_number(text: &[u8]) -> Option<Micros> {
    let days: f64 = std::str::from_utf8(text).ok()?.parse().ok()?;
    let epoch = days_from_civil(1899, 12, 30) * DAY;
    if !(0.0..200_000.0).contains(&days) {
        return None;
    }
    in_range(epoch + (days * 86_400_000.0).round() as Micros * 1000)
}

/// Reads milliseconds since midnight.
pub fn day_millis(text: &[u8]) -> Option<Micros> {
    let (value, len, rest) = digits(text);
    (len > 0 && rest.is_empty() && value < 86_400_000).then(|| value * 1000)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use proptest::prelude::*;

    #[test]
    fn the_same_moment_in_many_writings() {
        let at = parse("2024-03-05 13:45:12.345").unwrap();
        for (text, order) in [
            ("2024-03-05T13:45:12.345Z", DateOrder::YearFirst),
            ("2024/03/05 13:45:12.345000", DateOrder::YearFirst),
            ("05.03.2024 13:45:12.345", DateOrder::DayFirst),
            ("5/3/24 13:45:12,345", DateOrder::DayFirst),
            ("3-5-2024 13:45:12.345", DateOrder::MonthFirst),
            ("20240305 134512345", DateOrder::YearFirst),
            ("20240305_134512.345", DateOrder::YearFirst),
            ("05-Mar-2024 13:45:12.345", DateOrder::MonthFirst),
            ("5 March 2024 1:45:12.345 PM", DateOrder::YearFirst),
            ("03/05/24 01:45:12.345pm", DateOrder::MonthFirst),
            ("2024-03-05T15:45:12.345+02:00", DateOrder::YearFirst),
            ("2024-03-05 08:45:12.345 -0500", DateOrder::YearFirst),
            ("2024-03-05 13:45:12.345 UTC", DateOrder::YearFirst),
            ("2024-03-05 13:45:12:345", DateOrder::YearFirst),
            ("Mar 5 2024 13:45:12.345", DateOrder::YearFirst),
            ("March 5, 2024 13:45:12.345", DateOrder::DayFirst),
            ("Mar-05-2024 13:45:12.345", DateOrder::MonthFirst),
            ("Tue, 05 Mar 2024 13:45:12.345 GMT", DateOrder::YearFirst),
            ("Tue Mar 05 2024 15:45:12.345 GMT+0200 (made up)", DateOrder::YearFirst),
            ("2024-03-05 08:45:12.345 EST", DateOrder::YearFirst),
            ("2024-03-05 02:45:12.345 PM CET", DateOrder::YearFirst),
            ("2024-03-05 15:45:12.345 UTC+2", DateOrder::YearFirst),
            ("2024-03-05 13:45:12.34500000000000000000001", DateOrder::YearFirst),
        ] {
            assert_eq!(moment(text.as_bytes(), order), Some(at), "{text}");
        }
    }

    #[test]
    fn counted_times() {
        let at = parse("2024-03-05 13:45:12.345").unwrap();
        for (text, unit) in [
            ("1709646312.345", Since1970::Seconds),
            ("1709646312345", Since1970::Millis),
            ("1709646312345000", Since1970::Micros),
            ("1709646312345000000", Since1970::Nanos),
        ] {
            assert_eq!(since_1970(text.as_bytes(), unit), Some(at), "{text}");
        }
        assert_eq!(moment(b"20240305134512", DateOrder::DayFirst), Some(at - 345_000));
        assert_eq!(moment(b"202403051345", DateOrder::DayFirst), Some(at - 12_345_000));
        assert_eq!(since_1970(b"-86400", Since1970::Seconds), Some(-DAY));
        assert_eq!(since_1970(b"99999999999", Since1970::Seconds), None, "after 2200");
        assert_eq!(day_number(b"45356.57305954861"), Some(at));
        assert_eq!(day_millis(b"49512345"), Some(at % DAY));
        assert_eq!(day_millis(b"86400000"), None);
        assert_eq!(time_of_day(b"12:05 AM"), Some(5 * MINUTE));
        assert_eq!(time_of_day(b"13:05 PM"), None);
        assert!(is_zoned(b"Mar 5 2024 13:45 EST") && is_zoned(b"5/3/24 13:45Z") && !is_zoned(b"5-Mar-24"));
        assert!(is_zoned(b"2024-03-05T13:45:12+02:00") && !is_zoned(b"2024-03-05 13:45:12"));
    }

    #[test]
    fn midnight_may_be_the_end_of_its_day() {
        let at = |text: &str| moment(text.as_bytes(), DateOrder::YearFirst);
        assert!(at("2024-03-05 24:00").is_some());
        assert_eq!(at("2024-03-05 24:00"), at("2024-03-06 00:00"));
        assert_eq!(at("20240305 240000"), at("2024-03-06"));
    }

    #[test]
    fn what_is_no_date_is_none() {
        for text in [
            "",
            "2024",
            "2024-13-01",
            "2023-02-29",
            "2024-03-05 24:01",
            "2024-03-05 1:2",
            "2024-03.05",
            "1.2.3.4",
            "0000-01-01",
            "2024-03-05 13:45:12.",
            "2024-03-05 13:45Q",
            "2024-03-05 13:45 CST",
            "Tue 05.03.2024",
            "Mar 5 13:45:12 2024",
            "202403051",
            "99999999999999999999-1-1",
        ] {
            assert_eq!(moment(text.as_bytes(), DateOrder::YearFirst), None, "{text}");
        }
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            for order in [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst] {
                let _ = moment(&bytes, order);
                let _ = (time_of_day(&bytes), day_number(&bytes), is_zoned(&bytes));
                let _ = (since_1970(&bytes, Since1970::Nanos), since_1970(&bytes, Since1970::Seconds));
            }
        }
    }
}
