//! Reading a delivered file back, by other code than wrote it, and comparing it with the rows.

use std::collections::HashMap;
use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::Path;

use serde_json::value::RawValue;

use super::FileFormat;
use crate::model::price::parse_scaled;
use crate::model::{ABSENT, Columns, Field, Micros, Scale, Span};
use crate::store::{Cursor, ScanFile};
use crate::{Error, Result};

/// Rows read back one by one: a time and the values of the fields.
type ProofRow = (Micros, Vec<i64>);

/// True where a file holds exactly these rows, given piece by piece.
pub fn holds(
    path: &Path,
    format: FileFormat,
    fields: &[Field],
    scale: Scale,
    rows: impl Iterator<Item = Result<Columns>>,
) -> Result<bool> {
    if format == FileFormat::Parquet {
        let back = ScanFile::open(path, fields, scale, Span::ALL)?;
        return same_rows(back, rows);
    }
    let mut back = text_rows(path, format, fields, scale)?;
    for piece in rows {
        let piece = piece?;
        for i in 0..piece.len() {
            match back.next() {
                Some(Some((time, values)))
                    if time == piece.time[i] && values.iter().zip(&piece.data).all(|(v, c)| *v == c[i]) => {}
                _ => return Ok(false),
            }
        }
    }
    Ok(back.next().is_none())
}

/// True where two streams hold the same rows, however they are cut into pieces.
fn same_rows(
    back: impl Iterator<Item = Result<Columns>>,
    rows: impl Iterator<Item = Result<Columns>>,
) -> Result<bool> {
    let mut back = Cursor::new(back);
    for piece in rows {
        let piece = piece?;
        let mut done = 0;
        while done < piece.len() {
            if !back.load()? {
                return Ok(false);
            }
            let n = (piece.len() - done).min(back.left().len());
            let here = back.rows().rows(back.at()..back.at() + n);
            if here != piece.rows(done..done + n) {
                return Ok(false);
            }
            back.pass(n);
            done += n;
        }
    }
    Ok(!back.load()?)
}

/// The rows of a text file; `None` for a line that is no row.
fn text_rows<'a>(
    path: &Path,
    format: FileFormat,
    fields: &'a [Field],
    scale: Scale,
) -> Result<Box<dyn Iterator<Item = Option<ProofRow>> + 'a>> {
    let open = |e: std::io::Error| Error::io("Cannot read back", path, &e);
    if format == FileFormat::Csv {
        let reader = csv::Reader::from_path(path)
            .map_err(|e| Error::storage(format!("Cannot read back {}: {e}.", path.display())))?;
        return Ok(Box::new(reader.into_byte_records().map(move |record| {
            let record = record.ok()?;
            let time = moment(std::str::from_utf8(record.get(0)?).ok()?)?;
            let value = |(i, f): (usize, &Field)| match record.get(i + 1)? {
                b"" => Some(ABSENT),
                cell => parse_scaled(cell, scale.of(*f)).ok(),
            };
            Some((time, fields.iter().enumerate().map(value).collect::<Option<Vec<i64>>>()?))
        })));
    }
    let lines = BufReader::new(File::open(path).map_err(open)?).lines();
    let lines = lines.filter(|l| !matches!(l.as_deref(), Ok("[" | "]")));
    Ok(Box::new(lines.map(move |line| {
        let line = line.ok()?;
        // Numbers are compared as they are written, digit by digit, and never go through a float.
        let record: HashMap<&str, &RawValue> = serde_json::from_str(line.trim_end_matches(',')).ok()?;
        let time: String = serde_json::from_str(record.get("time")?.get()).ok()?;
        let value = |f: &Field| match record.get(f.name())?.get() {
            "null" => Some(ABSENT),
            number => parse_scaled(number.as_bytes(), scale.of(*f)).ok(),
        };
        Some((moment(&time)?, fields.iter().map(value).collect::<Option<Vec<i64>>>()?))
    })))
}

fn moment(text: &str) -> Option<Micros> {
    text.parse::<jiff::Timestamp>().ok().map(jiff::Timestamp::as_microsecond)
}
