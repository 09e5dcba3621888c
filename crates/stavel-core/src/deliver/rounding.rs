//! Numbers written with other decimals than they have.

use crate::model::ABSENT;
use crate::model::price::{push_scaled, unit};

/// Appends a number that has some decimals with as many as are wanted; true where it was rounded.
#[inline]
pub fn push_with_decimals(out: &mut Vec<u8>, value: i64, decimals: u8, written: u8) -> bool {
    if written == decimals {
        push_scaled(out, value, decimals);
        return false;
    }
    if written < decimals {
        let lost = unit(decimals - written);
        push_scaled(out, nearest(value, lost), written);
        return value % lost != 0;
    }
    push_scaled(out, value, decimals);
    if decimals == 0 {
        out.push(b'.');
    }
    out.extend(std::iter::repeat_n(b'0', usize::from(written - decimals)));
    false
}

/// The nearest whole number of so many units; halves go away from zero.
fn nearest(value: i64, lost: i64) -> i64 {
    let rest = value % lost * 2;
    let up = if rest >= lost {
        1
    } else if rest <= -lost {
        -1
    } else {
        0
    };
    value / lost + up
}

/// True where a number read back with `written` decimals is the one that was meant, or the nearest to it.
pub fn is_nearest(read: i64, value: i64, decimals: u8, written: u8) -> bool {
    if read == ABSENT || value == ABSENT || decimals == written {
        return read == value;
    }
    let (read, value) = (i128::from(read), i128::from(value));
    match decimals.checked_sub(written) {
        None => value * i128::from(unit(written - decimals)) == read,
        Some(lost) => 2 * (read * i128::from(unit(lost)) - value).abs() <= i128::from(unit(lost)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn halves_go_away_from_zero() {
        for (value, whole) in [(14, 1), (15, 2), (-15, -2), (-14, -1), (0, 0), (5, 1), (-4, 0), (1_004, 100)]
        {
            assert_eq!(nearest(value, 10), whole, "{value}");
        }
    }

    #[test]
    fn what_is_written_is_the_nearest_and_nothing_else_is() {
        let written = |value: i64, decimals, to| {
            let mut out = Vec::new();
            let rounded = push_with_decimals(&mut out, value, decimals, to);
            (String::from_utf8_lossy(&out).into_owned(), rounded)
        };
        assert_eq!(written(108_345, 5, 3), ("1.083".into(), true));
        assert_eq!(written(108_300, 5, 3), ("1.083".into(), false));
        assert_eq!(written(-108_350, 5, 3), ("-1.084".into(), true));
        assert_eq!(written(12, 0, 2), ("12.00".into(), false));
        assert_eq!(written(15, 1, 3), ("1.500".into(), false));
        assert!(is_nearest(1_083, 108_345, 5, 3) && !is_nearest(1_084, 108_345, 5, 3));
        assert!(is_nearest(1_500, 15, 1, 3) && !is_nearest(1_501, 15, 1, 3));
        assert!(is_nearest(ABSENT, ABSENT, 5, 3) && !is_nearest(0, ABSENT, 5, 3));
    }
}
