//! Exact numbers: a price is an integer scaled by ten to the power of its decimals.

/// Ten to the power of `decimals`.
pub const fn unit(decimals: u8) -> i64 {
    10i64.pow(decimals as u32)
}

/// The most decimals a price or volume may have.
pub const MAX_DECIMALS: u8 = 12;

/// Appends `value` with its decimals, as `9.87650` for 987650 with 5.
#[inline]
pub fn push_scaled(out: &mut Vec<u8>, value: i64, decimals: u8) {
    let rest = value.unsigned_abs();
    if value < 0 {
        out.push(b'-');
    }
    if rest < 100_000_000 && decimals < 8 {
        push_eight(out, rest, u32::from(decimals));
    } else {
        push_many(out, rest, usize::from(decimals));
    }
}

/// Appends a number of up to eight digits. The digits are worked out side by side in one register, and written with
/// one copy of a length that is known beforehand: a copy of just as many bytes is slower.
#[inline]
fn push_eight(out: &mut Vec<u8>, value: u64, decimals: u32) {
    // Fours, pairs and single digits: each step divides all numbers of a register at once, by multiplying with the
    // inverse. The first digit is the lowest byte.
    let fours = (value / 10_000) | ((value % 10_000) << 32);
    let hundreds = ((fours * 10_486) >> 20) & 0x0000_007f_0000_007f;
    let pairs = hundreds | ((fours - hundreds * 100) << 16);
    let tens = ((pairs * 103) >> 10) & 0x000f_000f_000f_000f;
    let digits = tens | ((pairs - tens * 10) << 8);
    // One digit at least stands before the point.
    let zeros = (digits.trailing_zeros() / 8).min(7 - decimals);
    let text = u128::from((digits | 0x3030_3030_3030_3030) >> (8 * zeros));
    let whole = 8 - decimals - zeros;
    let (text, length) = match decimals {
        0 => (text, whole),
        _ => {
            let below = (1u128 << (8 * whole)) - 1;
            let point = u128::from(b'.') << (8 * whole);
            ((text & below) | point | ((text & !below) << 8), whole + 1 + decimals)
        }
    };
    out.extend_from_slice(&text.to_le_bytes());
    out.truncate(out.len() - 16 + length as usize);
}

/// Appends a number of any length.
fn push_many(out: &mut Vec<u8>, mut rest: u64, decimals: usize) {
    let mut digits = [b'0'; 40];
    let mut at = digits.len();
    while rest > 0 {
        at -= 1;
        digits[at] = b'0' + (rest % 10) as u8;
        rest /= 10;
    }
    let point = digits.len() - decimals;
    out.extend_from_slice(&digits[at.min(point - 1)..point]);
    if decimals > 0 {
        out.push(b'.');
        out.extend_from_slice(&digits[point..]);
    }
}

/// `value` with its decimals as text.
pub fn scaled(value: i64, decimals: u8) -> String {
    let mut out = Vec::with_capacity(24);
    push_scaled(&mut out, value, decimals);
    String::from_utf8_lossy(&out).into_owned()
}

/// `value` as a floating number, for drawing and statistics only.
pub fn as_float(value: i64, decimals: u8) -> f64 {
    value as f64 / unit(decimals) as f64
}

/// Why a field is not a number that fits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NumberFault {
    /// Not a plain decimal number.
    NotANumber,
    /// Has this many decimals, more than the scale holds.
    TooFine(u8),
    /// Does not fit eighteen digits.
    TooLarge,
}

/// Values are below this, and above its negative: a column is a decimal number of 18 digits.
pub const LIMIT: i64 = 1_000_000_000_000_000_000;

/// Reads a plain decimal number (`-12.345`, `.5`, `7`) into an integer scaled by `decimals`.
///
/// Zeros after the last decimal are dropped, other digits there are [`NumberFault::TooFine`]:
/// nothing is rounded.
///
/// # Errors
/// Where the text is no number, or has more decimals than are kept.
#[inline]
pub fn parse_scaled(text: &[u8], decimals: u8) -> Result<i64, NumberFault> {
    let (negative, digits) = match text.first() {
        Some(b'-') => (true, &text[1..]),
        Some(b'+') => (false, &text[1..]),
        _ => (false, text),
    };
    let mut value: i64 = 0;
    let mut seen = 0usize;
    let mut at = 0;
    while at < digits.len() && digits[at].is_ascii_digit() {
        value = value.wrapping_mul(10).wrapping_add((digits[at] - b'0') as i64);
        at += 1;
    }
    seen += at;
    let mut places = 0u8;
    let mut fine = 0u8;
    if at < digits.len() && digits[at] == b'.' {
        at += 1;
        for &c in &digits[at..] {
            if !c.is_ascii_digit() {
                return Err(NumberFault::NotANumber);
            }
            seen += 1;
            if places < decimals {
                value = value.wrapping_mul(10).wrapping_add((c - b'0') as i64);
                places += 1;
            } else {
                fine = fine.saturating_add(1);
                if c != b'0' {
                    return Err(NumberFault::TooFine(significant_decimals(text)));
                }
            }
        }
        at = digits.len();
    }
    if at < digits.len() || seen == 0 {
        return Err(NumberFault::NotANumber);
    }
    // Eighteen digits always fit; anything longer is settled on the slow path.
    if seen - fine as usize + (decimals - places) as usize > 18 {
        return slow_scaled(negative, digits, decimals);
    }
    value *= unit(decimals - places);
    Ok(if negative { -value } else { value })
}

/// The same with checks on every step, for numbers with leading zeros or too many digits.
fn slow_scaled(negative: bool, digits: &[u8], decimals: u8) -> Result<i64, NumberFault> {
    let dot = digits.iter().position(|&c| c == b'.').unwrap_or(digits.len());
    let mut value: i64 = 0;
    let whole = digits[..dot].iter();
    let fraction = digits.get(dot + 1..).unwrap_or_default().iter().chain(std::iter::repeat(&b'0'));
    for &c in whole.chain(fraction.take(decimals as usize)) {
        value = value
            .checked_mul(10)
            .and_then(|v| v.checked_add((c - b'0') as i64))
            .filter(|&v| v < LIMIT)
            .ok_or(NumberFault::TooLarge)?;
    }
    Ok(if negative { -value } else { value })
}

/// Decimals of a number as written, zeros at the end not counted.
pub fn significant_decimals(text: &[u8]) -> u8 {
    match text.iter().position(|&c| c == b'.') {
        Some(dot) => {
            let end = text.iter().rposition(|&c| c != b'0').map_or(dot, |p| p.max(dot));
            (end - dot).min(u8::MAX as usize) as u8
        }
        None => 0,
    }
}

/// Decimals of a number as written, zeros at the end counted.
pub fn written_decimals(text: &[u8]) -> u8 {
    match text.iter().position(|&c| c == b'.') {
        Some(dot) => (text.len() - dot - 1).min(u8::MAX as usize) as u8,
        None => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn numbers_at_the_edges() {
        assert_eq!(parse_scaled(b"9.87650", 5), Ok(987_650));
        assert_eq!(parse_scaled(b"9.876500", 5), Ok(987_650));
        assert_eq!(parse_scaled(b"9.876501", 5), Err(NumberFault::TooFine(6)));
        assert_eq!(parse_scaled(b".5", 1), Ok(5));
        assert_eq!(parse_scaled(b"-0.25", 2), Ok(-25));
        assert_eq!(parse_scaled(b"000000000000000000000012", 0), Ok(12));
        assert_eq!(parse_scaled(b"123456789012345678", 1), Err(NumberFault::TooLarge));
        for junk in [&b""[..], b"-", b".", b"1e5", b"1,5", b"1.2.3", b" 1", b"nan", b"1.2x"] {
            assert_eq!(parse_scaled(junk, 3), Err(NumberFault::NotANumber), "{junk:?}");
        }
    }

    #[test]
    fn numbers_are_written_with_their_decimals() {
        for (value, decimals, text) in [
            (987_650, 5, "9.87650"),
            (-5, 5, "-0.00005"),
            (0, 0, "0"),
            (0, 2, "0.00"),
            (100, 0, "100"),
            (-10, 1, "-1.0"),
            (i64::MAX, 12, "9223372.036854775807"),
            (7, 12, "0.000000000007"),
        ] {
            assert_eq!(scaled(value, decimals), text);
        }
    }

    proptest! {
        #[test]
        fn short_numbers_are_written_as_long_ones_are(value in 0u64..100_000_000, decimals in 0u32..8) {
            let (mut quick, mut plain) = (Vec::new(), Vec::new());
            push_eight(&mut quick, value, decimals);
            push_many(&mut plain, value, decimals as usize);
            prop_assert_eq!(quick, plain);
        }

        #[test]
        fn what_is_written_is_read_back(value in -999_999_999_999_999i64..999_999_999_999_999, decimals in 0u8..9) {
            prop_assert_eq!(parse_scaled(scaled(value, decimals).as_bytes(), decimals), Ok(value));
        }

        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>, decimals in 0u8..=MAX_DECIMALS) {
            let _ = parse_scaled(&bytes, decimals);
        }
    }
}
