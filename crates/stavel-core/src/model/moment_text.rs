//! Moments as text on the wall of a clock.

use super::Clock;
use super::time::written::{push_parts, push_zoneless};
use super::time::{HOUR, MINUTE, Micros};

/// Appends a moment as RFC 3339 on a clock's wall: `2024-03-05T15:45:00+02:00`, `Z` for UTC.
pub fn push_moment(out: &mut Vec<u8>, t: Micros, clock: &Clock) {
    let offset = clock.offset_at(t);
    push_zoneless(out, t + offset);
    if offset == 0 {
        out.push(b'Z');
    } else {
        // RFC 3339 has no seconds in an offset; a clock that has them is told by its nearest minute.
        out.push(if offset < 0 { b'-' } else { b'+' });
        push_parts(out, &[(offset.abs() / HOUR, 2), (offset.abs() / MINUTE % 60, 2)], Some(b':'));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;

    #[test]
    fn a_moment_names_the_offset_of_its_clock() {
        let at = |clock: &str, moment: &str| {
            let mut out = Vec::new();
            push_moment(&mut out, parse(moment).unwrap(), &clock.parse().unwrap());
            String::from_utf8(out).unwrap()
        };
        assert_eq!(at("Europe/Oslo", "2024-03-31 00:59:59"), "2024-03-31T01:59:59+01:00");
        assert_eq!(at("Europe/Oslo", "2024-03-31 01:00"), "2024-03-31T03:00:00+02:00");
        assert_eq!(at("UTC-3:30", "2024-03-31 01:00"), "2024-03-30T21:30:00-03:30");
        assert_eq!(at("UTC", "2024-03-31 01:00"), "2024-03-31T01:00:00Z");
    }
}
