//! Dates and times as files write them.

use super::layout::DateOrder;
use crate::model::Micros;
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
/// Three numbers divided by `.`, `-` or `/`, or eight digits year-first.
#[inline]
pub fn date(text: &[u8], order: DateOrder) -> Option<(i64, &[u8])> {
    let (a, a_len, rest) = digits(text);
    if a_len == 8 {
        return Some((checked_day(a / 10_000, a / 100 % 100, a % 100)?, rest));
    }
    let (&mark, rest) = rest.split_first()?;
    if !matches!(mark, b'.' | b'-' | b'/') {
        return None;
    }
    let (b, b_len, rest) = digits(rest);
    let rest = rest.strip_prefix(&[mark])?;
    let (c, c_len, rest) = digits(rest);
    if a_len == 0 || b_len == 0 || c_len == 0 || a_len.max(b_len).max(c_len) > 4 {
        return None;
    }
    let (year, year_len, month, day) = match order {
        DateOrder::YearFirst => (a, a_len, b, c),
        DateOrder::DayFirst => (c, c_len, b, a),
        DateOrder::MonthFirst => (c, c_len, a, b),
    };
    let year = match year_len {
        4 => year,
        2 if year < 70 => 2000 + year,
        2 => 1900 + year,
        _ => return None,
    };
    Some((checked_day(year, month, day)?, rest))
}

fn checked_day(year: i64, month: i64, day: i64) -> Option<i64> {
    if !(1..=12).contains(&month) || day < 1 || day > days_in_month(year, month) {
        return None;
    }
    let days = days_from_civil(year, month, day);
    (EARLIEST..LATEST).contains(&(days * DAY)).then_some(days)
}

/// Reads a whole time of day: `13:45`, `13:45:12`, `13:45:12.345`, `134512`, `134512345`.
#[inline]
pub fn time_of_day(text: &[u8]) -> Option<Micros> {
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
        (4, _) => (a / 100, a % 100, 0, rest),
        (6, _) => (a / 10_000, a / 100 % 100, a % 100, rest),
        (9, None) => (a / 10_000_000, a / 100_000 % 100, a / 1000 % 100, &text[6..]),
        _ => return None,
    };
    let fraction = match rest.split_first() {
        None => 0,
        Some((b'.' | b',', after)) => fraction(after)?,
        Some(_) if a_len == 9 => fraction(rest)?,
        Some(_) => return None,
    };
    if h > 23 || m > 59 || s > 59 {
        return None;
    }
    Some(h * HOUR + m * MINUTE + s * SECOND + fraction)
}

/// Digits after the seconds; what is finer than a microsecond is dropped.
#[inline]
fn fraction(text: &[u8]) -> Option<Micros> {
    let (value, n, rest) = digits(text);
    if n == 0 || !rest.is_empty() {
        return None;
    }
    Some(if n <= 6 { value * 10i64.pow(6 - n as u32) } else { value / 10i64.pow(n as u32 - 6) })
}

/// Reads date and time from one column: a date, a space, `T` or `_`, a time of day and perhaps a `Z`.
#[inline]
pub fn moment(text: &[u8], order: DateOrder) -> Option<Micros> {
    let (day, rest) = date(text, order)?;
    let rest = rest.strip_suffix(b"Z").unwrap_or(rest);
    match rest.split_first() {
        None => Some(day * DAY),
        Some((b' ' | b'T' | b'_', time)) => Some(day * DAY + time_of_day(time)?),
        Some(_) => None,
    }
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
        ] {
            assert_eq!(moment(text.as_bytes(), order), Some(at), "{text}");
        }
    }

    #[test]
    fn what_is_no_date_is_none() {
        for text in [
            "",
            "2024",
            "2024-13-01",
            "2023-02-29",
            "2024-03-05 24:00",
            "2024-03-05 1:2",
            "2024-03.05",
            "1.2.3.4",
            "0000-01-01",
            "2024-03-05 13:45:12.",
            "2024-03-05 13:45Q",
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
                let _ = time_of_day(&bytes);
            }
        }
    }
}
