//! Moments as text: the one place that writes dates and times of day.

use super::{DAY, HOUR, MINUTE, Micros, SECOND, civil_from_days, day_of};

/// Appends a number, padded with zeros to a width.
pub fn push_padded(out: &mut Vec<u8>, value: i64, width: usize) {
    let mut digits = [b'0'; 20];
    let mut rest = value.unsigned_abs();
    let mut used = 0;
    while rest > 0 || used < width {
        used += 1;
        digits[20 - used] = b'0' + (rest % 10) as u8;
        rest /= 10;
    }
    out.extend_from_slice(&digits[20 - used..]);
}

/// Appends numbers, each padded with zeros to its width, with a mark between them.
pub fn push_parts(out: &mut Vec<u8>, parts: &[(i64, usize)], mark: Option<u8>) {
    for (i, (value, width)) in parts.iter().enumerate() {
        if i > 0 {
            out.extend(mark);
        }
        push_padded(out, *value, *width);
    }
}

/// Appends a day as `2024-03-05`.
pub fn push_date(out: &mut Vec<u8>, day: i64) {
    let (year, month, day) = civil_from_days(day);
    push_parts(out, &[(year, 4), (month, 2), (day, 2)], Some(b'-'));
}

/// The time of day to the minute, or to the second.
fn push_clock(out: &mut Vec<u8>, wall: Micros, seconds: bool) {
    let within = wall.rem_euclid(DAY);
    let parts = [(within / HOUR, 2), (within / MINUTE % 60, 2), (within / SECOND % 60, 2)];
    push_parts(out, if seconds { &parts } else { &parts[..2] }, Some(b':'));
}

/// The part of a second behind the point, where there is one: to the millisecond where that is all.
fn push_fraction(out: &mut Vec<u8>, wall: Micros) {
    let micros = wall.rem_euclid(SECOND);
    let digit = |unit: Micros| b'0' + (micros / unit % 10) as u8;
    match micros {
        0 => {}
        _ if micros % 1000 == 0 => out.extend_from_slice(&[b'.', digit(100_000), digit(10_000), digit(1000)]),
        _ => out.extend_from_slice(&[
            b'.',
            digit(100_000),
            digit(10_000),
            digit(1000),
            digit(100),
            digit(10),
            digit(1),
        ]),
    }
}

/// Appends a time of day as `15:45:00`, with a fraction where there is one.
#[inline]
pub fn push_time(out: &mut Vec<u8>, within: Micros) {
    let seconds = within / SECOND;
    let pair = |n: i64| [b'0' + (n / 10) as u8, b'0' + (n % 10) as u8];
    let ([a, b], [c, d], [e, f]) = (pair(seconds / 3600), pair(seconds / 60 % 60), pair(seconds % 60));
    out.extend_from_slice(&[a, b, b':', c, d, b':', e, f]);
    push_fraction(out, within);
}

/// Appends `2024-03-05T15:45:00`, with a fraction where there is one.
pub fn push_zoneless(out: &mut Vec<u8>, wall: Micros) {
    push_date(out, day_of(wall));
    out.push(b'T');
    push_time(out, wall.rem_euclid(DAY));
}

fn text(write: impl FnOnce(&mut Vec<u8>)) -> String {
    let mut out = Vec::with_capacity(32);
    write(&mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// `2024-03-05`.
pub fn date(day: i64) -> String {
    text(|out| push_date(out, day))
}

/// `2024-03-05 13:45`, with seconds and fractions where there are any.
pub fn wall(t: Micros) -> String {
    text(|out| {
        push_date(out, day_of(t));
        out.push(b' ');
        push_clock(out, t, t.rem_euclid(MINUTE) != 0);
        push_fraction(out, t);
    })
}

/// RFC 3339 in UTC: `2024-03-05T13:45:00Z`, with a fraction where there is one.
pub fn rfc3339(t: Micros) -> String {
    text(|out| {
        push_zoneless(out, t);
        out.push(b'Z');
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;

    #[test]
    fn moments_are_written_as_far_as_they_go() {
        let t = |text: &str| parse(text).unwrap();
        assert_eq!(date(day_of(t("1907-03-05"))), "1907-03-05");
        assert_eq!(wall(t("2024-03-05 13:45")), "2024-03-05 13:45");
        assert_eq!(wall(t("2024-03-05 13:45:07")), "2024-03-05 13:45:07");
        assert_eq!(wall(t("2024-03-05 13:45:00.25")), "2024-03-05 13:45:00.250");
        assert_eq!(rfc3339(t("1969-12-31 23:59:59.000001")), "1969-12-31T23:59:59.000001Z");
    }
}
