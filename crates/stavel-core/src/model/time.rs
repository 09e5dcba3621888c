//! Times: microseconds since 1970-01-01 00:00, in UTC or (afloat) in an unknown clock.

pub mod written;

use crate::{Error, Result};
pub use written::{date, rfc3339, wall};

/// Microseconds since 1970-01-01 00:00:00.
pub type Micros = i64;

/// One second, minute, hour, day and week in microseconds.
pub const SECOND: Micros = 1_000_000;
/// One minute in microseconds.
pub const MINUTE: Micros = 60 * SECOND;
/// One hour in microseconds.
pub const HOUR: Micros = 60 * MINUTE;
/// One day of 24 hours in microseconds.
pub const DAY: Micros = 24 * HOUR;
/// Seven days in microseconds.
pub const WEEK: Micros = 7 * DAY;

/// The times Stavel accepts from outside: the years 1900 to 2200.
pub const EARLIEST: Micros = days_from_civil(1900, 1, 1) * DAY;
/// See [`EARLIEST`].
pub const LATEST: Micros = days_from_civil(2200, 1, 1) * DAY;

/// A half-open span of time, `from <= t < to`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Span {
    /// The first moment in it.
    pub from: Micros,
    /// The first moment after it.
    pub to: Micros,
}

impl Span {
    /// All of time.
    pub const ALL: Span = Span { from: Micros::MIN, to: Micros::MAX };

    /// The span `from <= t < to`.
    pub fn new(from: Micros, to: Micros) -> Self {
        Span { from, to }
    }
    /// Its length in microseconds.
    pub fn length(&self) -> Micros {
        self.to.saturating_sub(self.from)
    }
    /// True where `t` lies in it.
    pub fn holds(&self, t: Micros) -> bool {
        self.from <= t && t < self.to
    }
    /// What both spans share, if anything.
    pub fn overlap(&self, other: &Span) -> Option<Span> {
        let s = Span { from: self.from.max(other.from), to: self.to.min(other.to) };
        (s.from < s.to).then_some(s)
    }
    /// What two lists of spans share. Both are in order and their spans do not overlap; so are those given.
    pub fn shared(a: &[Span], b: &[Span]) -> Vec<Span> {
        let mut out = Vec::new();
        let (mut i, mut j) = (0, 0);
        while i < a.len() && j < b.len() {
            out.extend(a[i].overlap(&b[j]));
            if a[i].to <= b[j].to {
                i += 1;
            } else {
                j += 1;
            }
        }
        out
    }
    /// All of time outside a list of spans in order.
    pub fn outside(spans: &[Span]) -> Vec<Span> {
        let begins = std::iter::once(Micros::MIN).chain(spans.iter().map(|s| s.to));
        let ends = spans.iter().map(|s| s.from).chain(std::iter::once(Micros::MAX));
        begins.zip(ends).map(|(from, to)| Span::new(from, to)).filter(|s| s.from < s.to).collect()
    }
    /// Spans, sorted by their begin, with those that touch made one.
    pub fn joined(spans: Vec<Span>) -> Vec<Span> {
        let mut out: Vec<Span> = Vec::with_capacity(spans.len());
        for span in spans {
            match out.last_mut() {
                Some(last) if span.from <= last.to => last.to = last.to.max(span.to),
                _ => out.push(span),
            }
        }
        out
    }
}

/// Days since 1970-01-01 of a date in the proleptic Gregorian calendar.
///
/// Source: Howard Hinnant, "chrono-Compatible Low-Level Date Algorithms", `days_from_civil`.
pub const fn days_from_civil(year: i64, month: i64, day: i64) -> i64 {
    let y = if month <= 2 { year - 1 } else { year };
    let era = y.div_euclid(400);
    let yoe = y - era * 400;
    let doy = (153 * (if month > 2 { month - 3 } else { month + 9 }) + 2) / 5 + day - 1;
    let doe = yoe * 365 + yoe / 4 - yoe / 100 + doy;
    era * 146_097 + doe - 719_468
}

/// Year, month and day of a number of days since 1970-01-01; the inverse of [`days_from_civil`].
pub const fn civil_from_days(days: i64) -> (i64, i64, i64) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z - era * 146_097;
    let yoe = (doe - doe / 1460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let month = if mp < 10 { mp + 3 } else { mp - 9 };
    let year = yoe + era * 400 + if month <= 2 { 1 } else { 0 };
    (year, month, doy - (153 * mp + 2) / 5 + 1)
}

/// Number of days in a month.
pub const fn days_in_month(year: i64, month: i64) -> i64 {
    let (y, m) = if month == 12 { (year + 1, 1) } else { (year, month + 1) };
    days_from_civil(y, m, 1) - days_from_civil(year, month, 1)
}

/// The day number (days since 1970-01-01) that holds `t`.
pub const fn day_of(t: Micros) -> i64 {
    t.div_euclid(DAY)
}

/// Weekday of a day number: 0 is Monday, 6 is Sunday.
pub const fn weekday(day: i64) -> i64 {
    (day + 3).rem_euclid(7)
}

/// The day number of the Monday on or before a day.
pub const fn monday_of(day: i64) -> i64 {
    day - weekday(day)
}

/// Reads a time a person typed: `2024-03-05`, `2024-03-05 13:45[:12[.345]]`, `T` for the space and an optional `Z` or
/// distance from UTC (`+02:00`). Without one it is taken as UTC.
///
/// # Errors
/// One sentence where the text is none of these.
pub fn parse(text: &str) -> Result<Micros> {
    Ok(parse_moment(text)?.0)
}

/// Reads a time as [`parse`] does; true where the text itself says what it is in UTC.
///
/// # Errors
/// As [`parse`].
pub fn parse_moment(text: &str) -> Result<(Micros, bool)> {
    let bad = || {
        Error::arguments(format!(
            "'{text}' is not a time; write it as 2024-03-05 or '2024-03-05 13:45' (UTC)."
        ))
    };
    let trimmed = text.trim();
    let plain = trimmed.trim_end_matches('Z');
    let full = if plain.len() == 10 { format!("{plain}T00:00") } else { plain.replacen(' ', "T", 1) };
    // A distance from UTC stands behind the time of day; the marks within a date are no such.
    let has_distance = full.get(11..).is_some_and(|rest| rest.contains(['+', '-']));
    let t = if has_distance {
        full.parse::<jiff::Timestamp>().map_err(|_| bad())?.as_microsecond()
    } else {
        let civil: jiff::civil::DateTime = full.parse().map_err(|_| bad())?;
        civil.to_zoned(jiff::tz::TimeZone::UTC).map_err(|_| bad())?.timestamp().as_microsecond()
    };
    let is_utc = has_distance || plain.len() < trimmed.len();
    if (EARLIEST..LATEST).contains(&t) { Ok((t, is_utc)) } else { Err(bad()) }
}

/// A length of time in words: `3 d`, `4 h 30 min`, `12 s`.
pub fn length_in_words(span: Micros) -> String {
    let s = span / SECOND;
    match s {
        _ if s >= 2 * 86_400 => format!("{} d", s / 86_400),
        _ if s >= 3600 && s % 3600 >= 60 => format!("{} h {} min", s / 3600, s % 3600 / 60),
        _ if s >= 3600 => format!("{} h", s / 3600),
        _ if s >= 60 => format!("{} min", s / 60),
        _ => format!("{s} s"),
    }
}

/// A length with its sign as [`parse_length`] reads it: `+7h`, `-1h30m`, `+15m`.
pub fn length_as_typed(shift: Micros) -> String {
    let sign = if shift < 0 { '-' } else { '+' };
    let a = shift.abs();
    let mut text = String::from(sign);
    for (unit, n) in [('h', a / HOUR), ('m', a / MINUTE % 60), ('s', a / SECOND % 60)] {
        if n != 0 {
            text.push_str(&format!("{n}{unit}"));
        }
    }
    text
}

/// Reads a length such as `10s`, `15m`, `2h`, `1d`, `-1h30m`.
///
/// # Errors
/// One sentence where the text is not such a length.
pub fn parse_length(text: &str) -> Result<Micros> {
    let bad =
        || Error::arguments(format!("'{text}' is not a length of time; write it as 10s, 15m, 2h or -1h30m."));
    let (negative, mut rest) = match text.trim().strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text.trim().trim_start_matches('+')),
    };
    if rest.is_empty() {
        return Err(bad());
    }
    let mut total: Micros = 0;
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit()).ok_or_else(bad)?;
        let n: i64 = rest[..digits].parse().map_err(|_| bad())?;
        let unit = match &rest[digits..digits + rest[digits..].chars().next().map_or(0, char::len_utf8)] {
            "s" => SECOND,
            "m" => MINUTE,
            "h" => HOUR,
            "d" => DAY,
            _ => return Err(bad()),
        };
        total = n.checked_mul(unit).and_then(|v| total.checked_add(v)).ok_or_else(bad)?;
        rest = &rest[digits + 1..];
    }
    Ok(if negative { -total } else { total })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn calendar_agrees_with_a_library_over_three_centuries() {
        for day in (days_from_civil(1900, 1, 1)..days_from_civil(2200, 1, 1)).step_by(13) {
            let (y, m, d) = civil_from_days(day);
            assert_eq!(days_from_civil(y, m, d), day);
            let date = jiff::civil::Date::new(y as i16, m as i8, d as i8).unwrap();
            assert_eq!(date.weekday().to_monday_zero_offset() as i64, weekday(day));
        }
    }

    #[test]
    fn typed_times_and_lengths() {
        assert_eq!(parse("2024-03-05").unwrap(), days_from_civil(2024, 3, 5) * DAY);
        assert_eq!(rfc3339(parse("2024-03-05 13:45:12.345").unwrap()), "2024-03-05T13:45:12.345Z");
        assert_eq!(wall(parse("2024-03-05T13:45Z").unwrap()), "2024-03-05 13:45");
        assert!(parse("05.03.2024").unwrap_err().is_arguments());
        // A distance from UTC is not passed over.
        assert_eq!(wall(parse("2024-03-05 13:45+02:00").unwrap()), "2024-03-05 11:45");
        assert_eq!(wall(parse("2024-03-05T13:45:00-05:30").unwrap()), "2024-03-05 19:15");
        let says_utc = |text: &str| parse_moment(text).unwrap().1;
        assert!(
            says_utc("2024-03-05T13:45+00:00")
                && says_utc("2024-03-05T13:45Z")
                && !says_utc("2024-03-05 13:45")
        );
        assert_eq!(parse_length("-1h30m").unwrap(), -90 * MINUTE);
        for bad in ["", "h", "5", "5x", "9999999999999999d", "1é"] {
            assert!(parse_length(bad).is_err(), "{bad}");
        }
    }
}
