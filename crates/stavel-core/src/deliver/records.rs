//! Rows between marks: records of JSON, and rows of a table in a page.

use std::ops::Range;

use super::RowsAsText;
use super::rounding::{is_nearest, push_with_decimals};
use crate::model::moment_text::MomentWriter;
use crate::model::price::parse_scaled;
use crate::model::time::{DAY, HOUR, MINUTE, Micros, SECOND, days_from_civil};
use crate::model::{ABSENT, Clock, Columns, Field, Scale, present};

/// What stands around the values of a row, and around all rows.
pub struct Records {
    clock: Clock,
    scale: Scale,
    /// Decimals of what is written.
    written: Scale,
    fields: Vec<Field>,
    head: Vec<u8>,
    tail: Vec<u8>,
    /// Before the time of each row.
    begin: Vec<u8>,
    /// Before each value.
    before: Vec<Vec<u8>>,
    /// After the last value.
    end: Vec<u8>,
    /// Between two rows.
    between: Vec<u8>,
    /// What stands for a value that is absent.
    absent: &'static [u8],
}

impl Records {
    /// An array of JSON records, one a line.
    pub fn json(fields: &[Field], scale: Scale, clock: &Clock) -> Records {
        Records {
            head: b"[\n".to_vec(),
            tail: b"\n]\n".to_vec(),
            end: b"}".to_vec(),
            between: b",\n".to_vec(),
            ..Records::ndjson(fields, scale, clock)
        }
    }

    /// A JSON record a line.
    pub fn ndjson(fields: &[Field], scale: Scale, clock: &Clock) -> Records {
        let name = |i: usize, f: &Field| match i {
            0 => format!("\",\"{}\":", f.name()).into_bytes(),
            _ => format!(",\"{}\":", f.name()).into_bytes(),
        };
        Records {
            clock: clock.clone(),
            scale,
            written: scale,
            fields: fields.to_vec(),
            head: Vec::new(),
            tail: Vec::new(),
            begin: b"{\"time\":\"".to_vec(),
            before: fields.iter().enumerate().map(|(i, f)| name(i, f)).collect(),
            end: b"}\n".to_vec(),
            between: Vec::new(),
            absent: b"null",
        }
    }

    /// Rows of a table in a page, between what stands above them and below.
    pub fn table(fields: &[Field], scale: Scale, clock: &Clock, above: Vec<u8>, below: Vec<u8>) -> Records {
        Records {
            clock: clock.clone(),
            scale,
            written: scale,
            fields: fields.to_vec(),
            head: above,
            tail: below,
            begin: b"<tr><td>".to_vec(),
            before: fields.iter().map(|_| b"</td><td>".to_vec()).collect(),
            end: b"</td></tr>\n".to_vec(),
            between: Vec::new(),
            absent: b"",
        }
    }
}

impl Records {
    /// The same with other decimals of prices and volumes, where some are said.
    pub fn with_decimals(self, price: Option<u8>, volume: Option<u8>) -> Records {
        let scale = self.scale;
        let written = Scale { price: price.unwrap_or(scale.price), volume: volume.unwrap_or(scale.volume) };
        Records { written, ..self }
    }
}

impl RowsAsText for Records {
    fn head(&self) -> Vec<u8> {
        self.head.clone()
    }

    fn tail(&self, has_rows: bool) -> Vec<u8> {
        match (has_rows, self.tail.as_slice()) {
            (false, b"\n]\n") => b"]\n".to_vec(),
            (_, tail) => tail.to_vec(),
        }
    }

    fn push_rows(&self, rows: &Columns, range: Range<usize>, is_first: bool, out: &mut Vec<u8>) -> u64 {
        let mut times = MomentWriter::new(&self.clock);
        let decimals: Vec<(u8, u8)> =
            self.fields.iter().map(|f| (self.scale.of(*f), self.written.of(*f))).collect();
        let mut rounded = 0;
        out.reserve(range.len() * (40 + 24 * self.fields.len()));
        for i in range.clone() {
            if i > range.start || !is_first {
                out.extend_from_slice(&self.between);
            }
            out.extend_from_slice(&self.begin);
            times.push(out, rows.time[i]);
            for ((before, column), (decimals, written)) in self.before.iter().zip(&rows.data).zip(&decimals) {
                out.extend_from_slice(before);
                match present(column[i]) {
                    Some(value) => {
                        rounded += u64::from(push_with_decimals(out, value, *decimals, *written));
                    }
                    None => out.extend_from_slice(self.absent),
                }
            }
            out.extend_from_slice(&self.end);
        }
        rounded
    }

    fn holds(&self, text: &[u8], rows: &Columns, range: Range<usize>, is_first: bool) -> bool {
        let mut rest = text;
        let mut day = DayRead::default();
        let mut row = |i: usize| {
            if i > range.start || !is_first {
                rest = rest.strip_prefix(self.between.as_slice())?;
            }
            rest = rest.strip_prefix(self.begin.as_slice())?;
            let time;
            (time, rest) = day.moment(rest)?;
            let mut same = time == rows.time[i];
            for ((before, column), field) in self.before.iter().zip(&rows.data).zip(&self.fields) {
                rest = rest.strip_prefix(before.as_slice())?;
                let value;
                let written = self.written.of(*field);
                (value, rest) = self.value(rest, written)?;
                same &= is_nearest(value, column[i], self.scale.of(*field), written);
            }
            rest = rest.strip_prefix(self.end.as_slice())?;
            Some(same)
        };
        range.clone().all(|i| row(i) == Some(true)) && rest.is_empty()
    }
}

impl Records {
    /// The value that a text begins with, with all its decimals, and what follows it.
    fn value<'t>(&self, text: &'t [u8], decimals: u8) -> Option<(i64, &'t [u8])> {
        let (is_negative, digits) = text.strip_prefix(b"-").map_or((false, text), |rest| (true, rest));
        let (mut value, mut at) = number(digits, 0);
        if at == 0 {
            return Some((ABSENT, text.strip_prefix(self.absent)?));
        }
        if decimals > 0 {
            let point = at + 1;
            (value, at) = number(digits.get(point..).filter(|_| digits[at] == b'.')?, value);
            if at != usize::from(decimals) {
                return None;
            }
            at += point;
        }
        Some((if is_negative { -value } else { value }, &digits[at..]))
    }
}

/// The digits that a text begins with, behind those of a number, and how many they are.
#[inline]
fn number(text: &[u8], mut value: i64) -> (i64, usize) {
    let mut at = 0;
    while let Some(digit) = text.get(at).map(|c| c.wrapping_sub(b'0')).filter(|d| *d < 10) {
        value = value.wrapping_mul(10).wrapping_add(i64::from(digit));
        at += 1;
    }
    (value, at)
}

/// Reads moments of RFC 3339; the date read last is remembered.
#[derive(Default)]
struct DayRead {
    text: [u8; 10],
    day: i64,
}

impl DayRead {
    fn moment<'t>(&mut self, text: &'t [u8]) -> Option<(Micros, &'t [u8])> {
        let (date, rest) = text.split_first_chunk::<10>()?;
        if *date != self.text {
            let number = |part: &[u8]| parse_scaled(part, 0).ok();
            let day = days_from_civil(number(&date[..4])?, number(&date[5..7])?, number(&date[8..])?);
            (self.text, self.day) = (*date, day);
        }
        let (clock, mut rest) = rest.split_first_chunk::<9>()?;
        let two = |at: usize| {
            let (a, b) = (clock[at].wrapping_sub(b'0'), clock[at + 1].wrapping_sub(b'0'));
            (a < 10 && b < 10).then(|| Micros::from(a) * 10 + Micros::from(b))
        };
        let is_marked = clock[0] == b'T' && clock[3] == b':' && clock[6] == b':';
        let mut t = self.day * DAY + two(1)? * HOUR + two(4)? * MINUTE + two(7)? * SECOND;
        if let Some(fraction) = rest.strip_prefix(b".") {
            let (part, digits) = number(fraction, 0);
            t += match digits {
                3 => part * 1000,
                6 => part,
                _ => return None,
            };
            rest = &fraction[digits..];
        }
        if let Some(rest) = rest.strip_prefix(b"Z") {
            return is_marked.then_some((t, rest));
        }
        let (offset, rest) = rest.split_first_chunk::<6>()?;
        let minutes = parse_scaled(&offset[1..3], 0).ok()? * 60 + parse_scaled(&offset[4..], 0).ok()?;
        let sign = match offset[0] {
            b'+' => 1,
            b'-' => -1,
            _ => return None,
        };
        (is_marked && offset[3] == b':').then_some((t - sign * minutes * MINUTE, rest))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use proptest::prelude::*;

    fn read(text: &str) -> Option<Micros> {
        DayRead::default().moment(text.as_bytes()).filter(|(_, rest)| *rest == b"\"").map(|(t, _)| t)
    }

    #[test]
    fn moments_are_read_by_other_code_than_writes_them() {
        assert_eq!(read("2024-03-05T13:45:12Z\""), parse("2024-03-05 13:45:12").ok());
        assert_eq!(read("2024-03-05T13:45:12.345+02:00\""), parse("2024-03-05 11:45:12.345").ok());
        assert_eq!(read("1969-12-31T23:59:59.000001-03:30\""), parse("1970-01-01 03:29:59.000001").ok());
        for bad in [
            "2024-03-05 13:45:12Z\"",
            "2024-03-05T13:45:1Z\"",
            "2024-03-05T13:45:12\"",
            "2024-03-05T13:45:12.Z\"",
            "2024-03-05T13:45:12.34Z\"",
        ] {
            assert_eq!(read(bad), None, "{bad}");
        }
    }

    proptest! {
        #[test]
        fn records_are_read_back_and_a_changed_digit_is_seen(
            values in prop::collection::vec((0i64..4_000_000_000, prop::option::of(-99_999i64..99_999), 0i64..9), 1..20),
            spoil in any::<prop::sample::Index>(),
        ) {
            let fields = [Field::Close, Field::Volume];
            let mut rows = Columns::empty(&fields, Scale { price: 3, volume: 0 });
            for (seconds, close, volume) in &values {
                rows.time.push(seconds * 1_000_001);
                rows.data[0].push(close.unwrap_or(ABSENT));
                rows.data[1].push(*volume);
            }
            for records in [
                Records::json(&fields, rows.scale, &"Europe/Oslo".parse().unwrap()),
                Records::ndjson(&fields, rows.scale, &Clock::utc()),
                Records::table(&fields, rows.scale, &Clock::utc(), Vec::new(), Vec::new()),
            ] {
                let mut text = Vec::new();
                records.push_rows(&rows, 0..rows.len(), true, &mut text);
                prop_assert!(records.holds(&text, &rows, 0..rows.len(), true));
                let mut spoiled = text.clone();
                let digits: Vec<usize> = (0..text.len()).filter(|i| text[*i].is_ascii_digit()).collect();
                let at = digits[spoil.index(digits.len())];
                spoiled[at] = if text[at] == b'9' { b'0' } else { text[at] + 1 };
                prop_assert!(!records.holds(&spoiled, &rows, 0..rows.len(), true));
                prop_assert!(!records.holds(&text[..text.len() - 1], &rows, 0..rows.len(), true));
            }
        }
    }
}
