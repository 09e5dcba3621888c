//! JSON as lines of cells: an array of records, records line by line, or columns as arrays.
//!
//! Numbers keep the digits they are written with. Memory stays bounded: records are read one by one,
//! columns wait in temporary files until all of them are there.

use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Read, Seek, Write};

use serde::de::{DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::value::RawValue;

use super::lines::Lines;
use crate::model::price::{MAX_DECIMALS, written_decimals};
use crate::{Error, Result};

/// Records looked at for the names of the columns.
const NAMES_FROM: usize = 64;

/// Writes the table of a JSON text as lines.
///
/// # Errors
/// Where it is not JSON or holds no table, with line and column.
pub fn to_lines(open: &dyn Fn() -> Result<Box<dyn Read + Send>>, out: &mut dyn Write) -> Result<()> {
    let mut table =
        JsonTable { lines: Lines::new(out), names: None, early: Vec::new(), columns: Vec::new(), read: true };
    if is_line_by_line(BufReader::new(open()?))? {
        for (n, line) in BufReader::new(open()?).lines().enumerate() {
            let line = line?;
            if !line.trim().is_empty() && table.read {
                let raw: Box<RawValue> = serde_json::from_str(line.trim())
                    .map_err(|e| Error::input(format!("line {} is not JSON: {e}", n + 1)))?;
                table.row(&raw)?;
            }
        }
    } else {
        let mut text = serde_json::Deserializer::from_reader(BufReader::new(open()?));
        let seen = JsonPart { name: String::new(), table: &mut table }.deserialize(&mut text);
        if table.read {
            seen.map_err(|e| Error::input(format!("it is not whole JSON: {e}")))?;
        }
    }
    table.finish()
}

/// True where the first line is a whole value and more follow.
fn is_line_by_line(mut text: impl BufRead) -> Result<bool> {
    let mut first = Vec::new();
    (&mut text).take(1 << 20).read_until(b'\n', &mut first)?;
    let mut next = [0u8; 1];
    Ok(serde_json::from_slice::<IgnoredAny>(&first).is_ok() && text.read(&mut next)? == 1)
}

struct JsonTable<'a> {
    lines: Lines<'a>,
    names: Option<Vec<String>>,
    /// The first records, kept until the names are known.
    early: Vec<Vec<(String, String)>>,
    columns: Vec<(String, BufWriter<File>, u64)>,
    /// False once nobody reads the lines any more.
    read: bool,
}

impl JsonTable<'_> {
    /// Takes one element of an array: a record or a row of cells.
    fn row(&mut self, raw: &RawValue) -> Result<()> {
        let bad = |e: serde_json::Error| Error::input(format!("a record cannot be read: {e}"));
        if raw.get().starts_with('[') {
            let cells: Vec<Box<RawValue>> = serde_json::from_str(raw.get()).map_err(bad)?;
            cells.iter().for_each(|c| self.lines.cell(text_of(c).as_bytes()));
            self.read &= self.lines.end()?;
            return Ok(());
        }
        let record: JsonRecord = serde_json::from_str(raw.get()).map_err(bad)?;
        if self.names.is_some() {
            return self.write_record(&record.0);
        }
        self.early.push(record.0);
        if self.early.len() == NAMES_FROM { self.begin_records() } else { Ok(()) }
    }

    /// Writes the names of the first records and those records.
    fn begin_records(&mut self) -> Result<()> {
        let mut names: Vec<String> = Vec::new();
        for (name, _) in self.early.iter().flatten() {
            if !names.contains(name) {
                names.push(name.clone());
            }
        }
        names.iter().for_each(|n| self.lines.cell(n.as_bytes()));
        self.read &= self.lines.end()?;
        self.names = Some(names);
        std::mem::take(&mut self.early).iter().try_for_each(|r| self.write_record(r))
    }

    fn write_record(&mut self, record: &[(String, String)]) -> Result<()> {
        for (i, name) in self.names.iter().flatten().enumerate() {
            // Records nearly always have their values in the same order.
            let here =
                record.get(i).filter(|(n, _)| n == name).or_else(|| record.iter().find(|(n, _)| n == name));
            self.lines.cell(here.map_or("", |(_, v)| v).as_bytes());
        }
        self.read &= self.lines.end()?;
        Ok(())
    }

    /// Takes one element of an array of single values.
    fn value_of_column(&mut self, name: &str, raw: &RawValue) -> Result<()> {
        if self.columns.last().is_none_or(|(n, _, _)| n != name) {
            self.columns.push((name.to_owned(), BufWriter::new(tempfile::tempfile()?), 0));
        }
        if let Some((_, file, rows)) = self.columns.last_mut() {
            *rows += 1;
            let clean: String = text_of(raw).chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
            writeln!(file, "{clean}")?;
        }
        Ok(())
    }

    fn finish(mut self) -> Result<()> {
        if !self.early.is_empty() {
            return self.begin_records();
        }
        let Some(most) = self.columns.iter().map(|c| c.2).max() else { return Ok(()) };
        // Short arrays beside the columns (a list of units, say) are no columns.
        self.columns.retain(|c| c.2 == most);
        self.columns.iter().for_each(|(name, _, _)| self.lines.cell(name.as_bytes()));
        let mut read = self.lines.end()?;
        let mut files = Vec::new();
        for (_, file, _) in self.columns {
            let mut file =
                file.into_inner().map_err(|e| Error::storage(format!("A temporary file failed: {e}.")))?;
            file.rewind()?;
            files.push(BufReader::new(file));
        }
        let mut value = String::new();
        for _ in 0..most {
            if !read {
                break;
            }
            for file in &mut files {
                value.clear();
                file.read_line(&mut value)?;
                self.lines.cell(value.trim_end_matches('\n').as_bytes());
            }
            read = self.lines.end()?;
        }
        Ok(())
    }
}

/// The text of a single value: strings without quotes, numbers as written, nothing for null.
fn text_of(raw: &RawValue) -> String {
    match raw.get().as_bytes() {
        b"null" => String::new(),
        [b'"', ..] => serde_json::from_str(raw.get()).unwrap_or_default(),
        number if written_decimals(number) > MAX_DECIMALS => {
            let mut out = Vec::new();
            match raw.get().parse() {
                Ok(float) => crate::intake::cells::push_float(&mut out, float),
                Err(_) => out.extend(number),
            }
            String::from_utf8_lossy(&out).into_owned()
        }
        other => String::from_utf8_lossy(other).into_owned(),
    }
}

/// A record with its values in the order they are written.
struct JsonRecord(Vec<(String, String)>);

impl<'de> serde::Deserialize<'de> for JsonRecord {
    fn deserialize<D: Deserializer<'de>>(from: D) -> std::result::Result<JsonRecord, D::Error> {
        struct RecordVisitor;
        impl<'de> Visitor<'de> for RecordVisitor {
            type Value = JsonRecord;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a record")
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> std::result::Result<JsonRecord, A::Error> {
                let mut all = Vec::new();
                while let Some((name, raw)) = map.next_entry::<String, Box<RawValue>>()? {
                    all.push((name, text_of(&raw)));
                }
                Ok(JsonRecord(all))
            }
        }
        from.deserialize_map(RecordVisitor)
    }
}

/// A part of the document; tables are looked for in it however deep they lie.
struct JsonPart<'t, 'a> {
    name: String,
    table: &'t mut JsonTable<'a>,
}

impl<'de> DeserializeSeed<'de> for JsonPart<'_, '_> {
    type Value = ();
    fn deserialize<D: Deserializer<'de>>(self, from: D) -> std::result::Result<(), D::Error> {
        from.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for JsonPart<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("JSON")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> std::result::Result<(), A::Error> {
        use serde::de::Error as _;
        while let Some(raw) = seq.next_element::<Box<RawValue>>()? {
            let taken = match raw.get().as_bytes().first() {
                Some(b'{' | b'[') => self.table.row(&raw),
                _ => self.table.value_of_column(&self.name, &raw),
            };
            taken.map_err(A::Error::custom)?;
            if !self.table.read {
                return Err(A::Error::custom("read enough"));
            }
        }
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> std::result::Result<(), A::Error> {
        while let Some(name) = map.next_key::<String>()? {
            map.next_value_seed(JsonPart { name, table: self.table })?;
        }
        Ok(())
    }

    fn visit_str<E>(self, _: &str) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_i64<E>(self, _: i64) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_u64<E>(self, _: u64) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_f64<E>(self, _: f64) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_bool<E>(self, _: bool) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_unit<E>(self) -> std::result::Result<(), E> {
        Ok(())
    }
}
