//! A JSON record with an array for each column.

use std::fmt;
use std::fs::File;
use std::io::{BufReader, BufWriter, Write};
use std::path::Path;

use serde::de::{DeserializeSeed, Deserializer, Error as _, MapAccess, SeqAccess, Visitor};
use serde_json::value::RawValue;

use super::DeliveryOrder;
use super::delivered_rows::DeliveredRows;
use crate::job::Job;
use crate::model::moment_text::MomentWriter;
use crate::model::price::{parse_scaled, push_scaled};
use crate::model::{ABSENT, Columns, Field, Span, present};
use crate::store::SeriesInfo;
use crate::{Error, Result};

/// Writes a series column after column, each read from the shelf by itself; gives its rows and whether the file,
/// read back, holds them.
///
/// # Errors
/// Where the file cannot be written.
pub fn write(
    reader: &DeliveredRows,
    info: &SeriesInfo,
    order: &DeliveryOrder,
    span: Span,
    path: &Path,
    job: &Job,
) -> Result<(u64, bool)> {
    let failed = |e: std::io::Error| Error::io("Cannot write", path, &e);
    let mut file = BufWriter::with_capacity(1 << 20, File::create(path).map_err(failed)?);
    let mut times = MomentWriter::new(&order.clock);
    let (mut text, mut rows) = (format!("{{\"series\":\"{}\",\n\"time\":[", order.series).into_bytes(), 0u64);
    for piece in reader.scan(span, &[]) {
        let piece = piece?;
        job.advance(piece.len() as u64)?;
        for t in &piece.time {
            text.extend_from_slice(if rows == 0 { b"\"" } else { b",\"" });
            times.push(&mut text, *t);
            text.push(b'"');
            rows += 1;
        }
        file.write_all(&text).map_err(failed)?;
        text.clear();
    }
    for field in &info.edition.fields {
        text.extend(format!("],\n\"{}\":[", field.name()).bytes());
        let mut is_first = true;
        for piece in reader.scan(span, &[*field]) {
            for value in &piece?.data[0] {
                push_value(&mut text, std::mem::take(&mut is_first), *value, info.edition.scale.of(*field));
            }
            file.write_all(&text).map_err(failed)?;
            text.clear();
        }
    }
    text.extend_from_slice(b"]}\n");
    file.write_all(&text).map_err(failed)?;
    file.into_inner().map_err(|e| failed(e.into_error()))?.sync_all().map_err(failed)?;
    Ok((rows, holds(reader, info, span, path)?))
}

/// The lines of a file with only some rows, as they begin.
pub(super) fn lines(rows: &Columns, order: &DeliveryOrder) -> Vec<String> {
    let mut times = MomentWriter::new(&order.clock);
    let mut text = format!("{{\"series\":\"{}\",\n\"time\":[", order.series).into_bytes();
    for (i, t) in rows.time.iter().enumerate() {
        text.extend_from_slice(if i == 0 { b"\"" } else { b",\"" });
        times.push(&mut text, *t);
        text.push(b'"');
    }
    for (field, column) in rows.fields.iter().zip(&rows.data) {
        text.extend(format!("],\n\"{}\":[", field.name()).bytes());
        for (i, value) in column.iter().enumerate() {
            push_value(&mut text, i == 0, *value, rows.scale.of(*field));
        }
    }
    text.extend_from_slice(b"]}");
    String::from_utf8_lossy(&text).lines().map(str::to_owned).collect()
}

fn push_value(text: &mut Vec<u8>, is_first: bool, value: i64, decimals: u8) {
    if !is_first {
        text.push(b',');
    }
    match present(value) {
        Some(value) => push_scaled(text, value, decimals),
        None => text.extend_from_slice(b"null"),
    }
}

/// True where a file holds just the columns of the series.
///
/// # Errors
/// Where the file cannot be read.
pub(super) fn holds(reader: &DeliveredRows, info: &SeriesInfo, span: Span, path: &Path) -> Result<bool> {
    let file = File::open(path).map_err(|e| Error::io("Cannot read back", path, &e))?;
    let mut document = serde_json::Deserializer::from_reader(BufReader::with_capacity(1 << 20, file));
    let proof = DocumentProof { reader, info, span, series: info.name.to_string() };
    Ok((&mut document).deserialize_map(proof).is_ok() && document.end().is_ok())
}

/// Compares a document, as it is read, with the series; what is not the same is an error.
struct DocumentProof<'r> {
    reader: &'r DeliveredRows,
    info: &'r SeriesInfo,
    span: Span,
    series: String,
}

impl<'de> Visitor<'de> for DocumentProof<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the columns of the series")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> std::result::Result<(), A::Error> {
        let fields = &self.info.edition.fields;
        let mut seen = 0;
        while let Some(key) = map.next_key::<String>()? {
            let expected = match seen {
                0 => "series",
                1 => "time",
                n => fields.get(n - 2).map_or("", |f| f.name()),
            };
            if key != expected {
                return Err(A::Error::custom("another column"));
            }
            match seen {
                0 if map.next_value::<String>()? == self.series => {}
                0 => return Err(A::Error::custom("another series")),
                1 => map.next_value_seed(ColumnProof { of: &self, field: None })?,
                n => map.next_value_seed(ColumnProof { of: &self, field: Some(fields[n - 2]) })?,
            }
            seen += 1;
        }
        if seen == fields.len() + 2 { Ok(()) } else { Err(A::Error::custom("columns are missing")) }
    }
}

struct ColumnProof<'p, 'r> {
    of: &'p DocumentProof<'r>,
    /// None for the times.
    field: Option<Field>,
}

impl<'de> DeserializeSeed<'de> for ColumnProof<'_, '_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> std::result::Result<(), D::Error> {
        from.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for ColumnProof<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the values of a column")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut values: A) -> std::result::Result<(), A::Error> {
        let decimals = self.field.map_or(0, |f| self.of.info.edition.scale.of(f));
        for piece in self.of.reader.scan(self.of.span, self.field.as_slice()) {
            let piece = piece.map_err(A::Error::custom)?;
            for expected in piece.data.first().unwrap_or(&piece.time) {
                let read = match self.field {
                    None => values
                        .next_element::<String>()?
                        .and_then(|text| text.parse::<jiff::Timestamp>().ok())
                        .map(jiff::Timestamp::as_microsecond),
                    Some(_) => values.next_element::<Box<RawValue>>()?.and_then(|raw| match raw.get() {
                        "null" => Some(ABSENT),
                        number => parse_scaled(number.as_bytes(), decimals).ok(),
                    }),
                };
                if read != Some(*expected) {
                    return Err(A::Error::custom("another value"));
                }
            }
        }
        match values.next_element::<Box<RawValue>>()? {
            None => Ok(()),
            Some(_) => Err(A::Error::custom("more values")),
        }
    }
}
