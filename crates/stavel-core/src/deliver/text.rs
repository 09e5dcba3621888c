//! Writing rows as text.

use super::FileFormat;
use crate::model::moment_text::push_moment;
use crate::model::price::push_scaled;
use crate::model::{Clock, Columns, present};

/// Turns rows into lines of CSV or JSON.
pub struct TextWriter {
    format: FileFormat,
    clock: Clock,
    rows: u64,
}

impl TextWriter {
    /// A writer of one of the text formats, with times in a clock.
    pub fn new(format: FileFormat, clock: Clock) -> TextWriter {
        TextWriter { format, clock, rows: 0 }
    }

    /// What stands before the rows.
    pub fn begin(&self, like: &Columns, out: &mut Vec<u8>) {
        match self.format {
            FileFormat::Csv => {
                out.extend_from_slice(b"time");
                for field in &like.fields {
                    out.push(b',');
                    out.extend_from_slice(field.name().as_bytes());
                }
                out.push(b'\n');
            }
            FileFormat::Json => out.extend_from_slice(b"[\n"),
            FileFormat::Ndjson | FileFormat::Parquet => {}
        }
    }

    /// The rows, each on a line of its own.
    pub fn rows(&mut self, rows: &Columns, out: &mut Vec<u8>) {
        for i in 0..rows.len() {
            if self.format == FileFormat::Csv {
                push_moment(out, rows.time[i], &self.clock);
                for (field, column) in rows.fields.iter().zip(&rows.data) {
                    out.push(b',');
                    // An absent value is an empty cell.
                    if let Some(value) = present(column[i]) {
                        push_scaled(out, value, rows.scale.of(*field));
                    }
                }
            } else {
                if self.format == FileFormat::Json && self.rows > 0 {
                    out.extend_from_slice(b",\n");
                }
                self.record(rows, i, out);
            }
            if self.format != FileFormat::Json {
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
        if self.format == FileFormat::Json {
            out.extend_from_slice(if self.rows > 0 { b"\n]\n" } else { b"]\n" });
        }
    }
}
