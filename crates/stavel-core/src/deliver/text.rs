//! Writing rows as text.

use super::Format;
use crate::model::price::push_scaled;
use crate::model::time::{DAY, HOUR, MINUTE, Micros, SECOND, civil_from_days, day_of};
use crate::model::{Clock, Columns, present};

/// Turns rows into lines of CSV or JSON.
pub struct TextWriter {
    format: Format,
    clock: Clock,
    rows: u64,
}

impl TextWriter {
    /// A writer of one of the text formats, with times in a clock.
    pub fn new(format: Format, clock: Clock) -> TextWriter {
        TextWriter { format, clock, rows: 0 }
    }

    /// What stands before the rows.
    pub fn begin(&self, like: &Columns, out: &mut Vec<u8>) {
        match self.format {
            Format::Csv => {
                out.extend_from_slice(b"time");
                for field in &like.fields {
                    out.push(b',');
                    out.extend_from_slice(field.name().as_bytes());
                }
                out.push(b'\n');
            }
            Format::Json => out.extend_from_slice(b"[\n"),
            Format::Ndjson | Format::Parquet => {}
        }
    }

    /// The rows, each on a line of its own.
    pub fn rows(&mut self, rows: &Columns, out: &mut Vec<u8>) {
        for i in 0..rows.len() {
            if self.format == Format::Csv {
                push_moment(out, rows.time[i], &self.clock);
                for (field, column) in rows.fields.iter().zip(&rows.data) {
                    out.push(b',');
                    // An absent value is an empty cell.
                    if let Some(value) = present(column[i]) {
                        push_scaled(out, value, rows.scale.of(*field));
                    }
                }
            } else {
                if self.format == Format::Json && self.rows > 0 {
                    out.extend_from_slice(b",\n");
                }
                self.record(rows, i, out);
            }
            if self.format != Format::Json {
                out.push(b'\n');
            }
            self.rows += 1;
        }
    }

    fn record(&self, rows: &Columns, i: usize, out: &mut Vec<u8>) {
        out.extend_from_slice(b"{\"time\":\"");
        push_moment(out, rows.time[i], &self.clock);
        out.push(b'"');
        for (field, column) in rows.fields.iter().zip(&rows.data) {
            out.extend_from_slice(b",\"");
            out.extend_from_slice(field.name().as_bytes());
            out.extend_from_slice(b"\":");
            match present(column[i]) {
                Some(value) => push_scaled(out, value, rows.scale.of(*field)),
                None => out.extend_from_slice(b"null"),
            }
        }
        out.push(b'}');
    }

    /// What stands after the rows.
    pub fn end(&self, out: &mut Vec<u8>) {
        if self.format == Format::Json {
            out.extend_from_slice(if self.rows > 0 { b"\n]\n" } else { b"]\n" });
        }
    }
}

/// Appends a moment as RFC 3339 on a clock's wall: `2024-03-05T15:45:00+02:00`, `Z` for UTC.
pub fn push_moment(out: &mut Vec<u8>, t: Micros, clock: &Clock) {
    let offset = clock.offset_at(t);
    let wall = t + offset;
    let (year, month, day) = civil_from_days(day_of(wall));
    let within = wall.rem_euclid(DAY);
    push_padded(out, year, 4);
    for (mark, value) in [
        (b'-', month),
        (b'-', day),
        (b'T', within / HOUR),
        (b':', within / MINUTE % 60),
        (b':', within / SECOND % 60),
    ] {
        out.push(mark);
        push_padded(out, value, 2);
    }
    let micros = within % SECOND;
    if micros != 0 {
        out.push(b'.');
        if micros % 1000 == 0 { push_padded(out, micros / 1000, 3) } else { push_padded(out, micros, 6) }
    }
    if offset == 0 {
        out.push(b'Z');
    } else {
        // RFC 3339 has no seconds in an offset; a clock that has them is told by its nearest minute.
        out.push(if offset < 0 { b'-' } else { b'+' });
        push_padded(out, offset.abs() / HOUR, 2);
        out.push(b':');
        push_padded(out, offset.abs() / MINUTE % 60, 2);
    }
}

fn push_padded(out: &mut Vec<u8>, value: i64, width: usize) {
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
