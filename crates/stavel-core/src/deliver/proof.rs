//! Reading a delivered file back, by other code than wrote it, and comparing it with the rows.

use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::Path;

use super::Format;
use crate::model::price::{parse_scaled, unit};
use crate::model::{Columns, Field, Micros, Scale, Span};
use crate::store::read_file;
use crate::{Error, Result};

/// Rows read back one by one: a time and the values of the fields.
type Row = (Micros, Vec<i64>);

/// True where a file holds exactly these rows, given piece by piece.
pub fn holds(
    path: &Path,
    format: Format,
    fields: &[Field],
    scale: Scale,
    rows: impl Iterator<Item = Result<Columns>>,
) -> Result<bool> {
    if format == Format::Parquet {
        let back = read_file(path, fields, scale, Span::ALL)?;
        let mut at = 0;
        for piece in rows {
            let piece = piece?;
            if at + piece.len() > back.len() || back.rows(at..at + piece.len()) != piece {
                return Ok(false);
            }
            at += piece.len();
        }
        return Ok(at == back.len());
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

/// The rows of a text file; `None` for a line that is no row.
fn text_rows<'a>(
    path: &Path,
    format: Format,
    fields: &'a [Field],
    scale: Scale,
) -> Result<Box<dyn Iterator<Item = Option<Row>> + 'a>> {
    let open = |e: std::io::Error| Error::io("Cannot read back", path, &e);
    if format == Format::Csv {
        let reader = csv::Reader::from_path(path)
            .map_err(|e| Error::storage(format!("Cannot read back {}: {e}.", path.display())))?;
        return Ok(Box::new(reader.into_byte_records().map(move |record| {
            let record = record.ok()?;
            let time = moment(std::str::from_utf8(record.get(0)?).ok()?)?;
            let value = |(i, f): (usize, &Field)| parse_scaled(record.get(i + 1)?, scale.of(*f)).ok();
            Some((time, fields.iter().enumerate().map(value).collect::<Option<Vec<i64>>>()?))
        })));
    }
    let lines = BufReader::new(File::open(path).map_err(open)?).lines();
    let lines = lines.filter(|l| !matches!(l.as_deref(), Ok("[" | "]")));
    Ok(Box::new(lines.map(move |line| {
        let line = line.ok()?;
        let record: serde_json::Value = serde_json::from_str(line.trim_end_matches(',')).ok()?;
        let time = moment(record["time"].as_str()?)?;
        // A price has at most fifteen digits that count, which a double holds exactly.
        let value = |f: &Field| Some((record[f.name()].as_f64()? * unit(scale.of(*f)) as f64).round() as i64);
        Some((time, fields.iter().map(value).collect::<Option<Vec<i64>>>()?))
    })))
}

fn moment(text: &str) -> Option<Micros> {
    text.parse::<jiff::Timestamp>().ok().map(jiff::Timestamp::as_microsecond)
}
