//! Parquet: the columns of a series as they are.

use std::path::Path;

use super::FileFormat;
use super::delivered_rows::DeliveredRows;
use crate::Result;
use crate::job::Job;
use crate::model::{Columns, Field, Scale, Span};
use crate::store::{Cursor, ScanFile, SegmentWriter};

/// Writes a series with some of its fields and reads it back; gives its rows and whether they are the same.
///
/// # Errors
/// Where the file cannot be written.
pub fn write(
    rows: &DeliveredRows,
    fields: &[Field],
    span: Span,
    path: &Path,
    job: &Job,
) -> Result<(u64, bool)> {
    let scale = rows.scale();
    let mut writer = SegmentWriter::create(path, fields, scale, true)?;
    for piece in rows.scan(span, fields) {
        let piece = piece?;
        job.advance(piece.len() as u64)?;
        writer.push(piece)?;
    }
    let count = writer.finish(path)?.rows;
    let again = rows.scan(span, fields).inspect(|piece| {
        if let Ok(piece) = piece {
            // Stopping is noticed while writing; here it only moves the bar.
            let _ = job.advance(piece.len() as u64);
        }
    });
    let proved = same_rows(ScanFile::open(path, fields, scale, Span::ALL)?, again)?;
    Ok((count, proved))
}

/// True where two streams hold the same rows, however they are cut into pieces.
///
/// # Errors
/// Where either cannot be read.
pub fn same_rows(
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

/// The columns of a table, with their types.
pub fn columns(format: FileFormat, fields: &[Field], scale: Scale) -> Vec<String> {
    let column = |name: &str, decimals: u8| match format {
        FileFormat::Xlsx => format!("{name}: a number, {decimals} decimals shown"),
        FileFormat::Dataset => format!("{name}: DECIMAL(18, 9)"),
        _ => format!("{name}: DECIMAL(18, {decimals})"),
    };
    let time = match format {
        FileFormat::Xlsx => "time: a date with its time of day",
        _ => "time: TIMESTAMP(MICROS, UTC)",
    };
    let mut lines = vec![time.to_owned()];
    lines.extend(fields.iter().map(|f| column(f.name(), scale.of(*f))));
    lines
}
