//! Sheets of workbooks and Parquet files as lines of cells.

use std::fs::File;
use std::io::{BufReader, Write};
use std::path::Path;

use calamine::{Data, DataRef, Reader, Sheets, open_workbook_auto};
use parquet::basic::{LogicalType, TimeUnit};
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;
use parquet::schema::types::SchemaDescriptor;

use super::lines::Lines;
use crate::intake::cells::push_float;
use crate::model::time::wall;
use crate::{Error, Result};

fn open_book(path: &Path) -> Result<Sheets<BufReader<File>>> {
    open_workbook_auto(path).map_err(|e| {
        Error::input(format!("The workbook {} is damaged ({e}); fetch it again.", path.display()))
    })
}

/// The names of the sheets of a workbook.
pub fn sheets_of(path: &Path) -> Result<Vec<String>> {
    Ok(open_book(path)?.sheet_names())
}

/// Writes a sheet as lines. XLSX is read cell by cell, ODS as a whole.
pub fn sheet_to_lines(path: &Path, name: &str, out: &mut dyn Write) -> Result<()> {
    let bad = |e: &dyn std::fmt::Display| Error::input(format!("sheet {name} is damaged ({e})"));
    let mut sheet = SheetLines { lines: Lines::new(out), row: 0, column: 0, widest: 0 };
    match open_book(path)? {
        Sheets::Xlsx(mut book) => {
            let mut cells = book.worksheet_cells_reader(name).map_err(|e| bad(&e))?;
            while let Some(cell) = cells.next_cell().map_err(|e| bad(&e))? {
                if !sheet.cell(cell.get_position(), cell.get_value())? {
                    return Ok(());
                }
            }
        }
        mut book => {
            let range = book.worksheet_range(name).map_err(|e| bad(&e))?;
            for (row, column, value) in range.used_cells() {
                if !sheet.cell((row as u32, column as u32), &borrowed(value))? {
                    return Ok(());
                }
            }
        }
    }
    sheet.end_row().map(|_| ())
}

struct SheetLines<'a> {
    lines: Lines<'a>,
    row: u32,
    column: u32,
    /// Columns of the widest row above: a sheet does not hold the empty cells at the end of a row.
    widest: u32,
}

impl SheetLines<'_> {
    /// Adds a cell at its place; false once nobody reads any more.
    fn cell(&mut self, (row, column): (u32, u32), value: &DataRef<'_>) -> Result<bool> {
        if row != self.row {
            if !self.end_row()? {
                return Ok(false);
            }
            (self.row, self.column) = (row, 0);
        }
        while self.column < column {
            self.lines.cell(b"");
            self.column += 1;
        }
        self.column = column + 1;
        match value {
            DataRef::Int(n) => self.lines.cell(n.to_string().as_bytes()),
            DataRef::Float(f) => self.lines.cell_with(|out| push_float(out, *f)),
            DataRef::String(s) | DataRef::DateTimeIso(s) | DataRef::DurationIso(s) => {
                self.lines.cell(s.as_bytes());
            }
            DataRef::SharedString(s) => self.lines.cell(s.as_bytes()),
            DataRef::Bool(b) => self.lines.cell(b.to_string().as_bytes()),
            DataRef::DateTime(at) => self.lines.cell(sheet_time(at).as_bytes()),
            DataRef::Error(_) | DataRef::Empty => self.lines.cell(b""),
        }
        Ok(true)
    }

    /// Ends the row, as wide as the widest above it; false once nobody reads any more.
    fn end_row(&mut self) -> Result<bool> {
        let missing = if self.column > 0 { self.widest.saturating_sub(self.column) } else { 0 };
        (0..missing).for_each(|_| self.lines.cell(b""));
        self.widest = self.widest.max(self.column);
        self.lines.end()
    }
}

/// A value of a sheet that is in memory, as one that is read cell by cell.
fn borrowed(value: &Data) -> DataRef<'_> {
    match value {
        Data::Int(n) => DataRef::Int(*n),
        Data::Float(f) => DataRef::Float(*f),
        Data::String(s) => DataRef::SharedString(s),
        Data::Bool(b) => DataRef::Bool(*b),
        Data::DateTime(at) => DataRef::DateTime(*at),
        Data::DateTimeIso(s) | Data::DurationIso(s) => DataRef::SharedString(s),
        _ => DataRef::Empty,
    }
}

/// A date, a time of day or both, as the number means it.
fn sheet_time(at: &calamine::ExcelDateTime) -> String {
    let (year, month, day, hour, minute, second, milli) = at.to_ymd_hms_milli();
    let date = format!("{year:04}-{month:02}-{day:02}");
    let time = format!("{hour:02}:{minute:02}:{second:02}.{milli:03}");
    match at.as_f64() {
        f if f < 1.0 => time,
        f if f.fract() == 0.0 => date,
        _ => format!("{date} {time}"),
    }
}

/// Writes a Parquet file as lines with the names of the columns first.
pub fn parquet_to_lines(file: File, out: &mut dyn Write) -> Result<()> {
    let bad =
        |e: &dyn std::fmt::Display| Error::input(format!("the Parquet file is damaged or cut short ({e})"));
    let reader = SerializedFileReader::new(file).map_err(|e| bad(&e))?;
    let schema = reader.metadata().file_metadata().schema_descr();
    let units = time_units(schema);
    let mut lines = Lines::new(out);
    let is_kept = columns_with_values(&reader);
    let kept = |i: usize| is_kept.get(i).copied().unwrap_or(true);
    for (_, field) in schema.root_schema().get_fields().iter().enumerate().filter(|(i, _)| kept(*i)) {
        lines.cell(field.name().as_bytes());
    }
    lines.end()?;
    for row in reader.get_row_iter(None).map_err(|e| bad(&e))? {
        let row = row.map_err(|e| bad(&e))?;
        for (i, (_, value)) in row.get_column_iter().enumerate().filter(|(i, _)| kept(*i)) {
            lines.cell_with(|out| push_value(out, value, units.get(i).copied().flatten()));
        }
        if !lines.end()? {
            break;
        }
    }
    Ok(())
}

/// For each column of a file, false where it is told to hold no value in any row: a schema that many share has columns
/// that are nobody's.
fn columns_with_values(reader: &SerializedFileReader<File>) -> Vec<bool> {
    let groups = reader.metadata().row_groups();
    let names = reader.metadata().file_metadata().schema_descr().root_schema().get_fields();
    let is_empty = |name: &str| {
        let of_group = |group: &parquet::file::metadata::RowGroupMetaData| {
            let column = group.columns().iter().find(|c| c.column_path().parts() == [name]);
            let nulls = column
                .and_then(|c| c.statistics())
                .and_then(parquet::file::statistics::Statistics::null_count_opt);
            nulls == u64::try_from(group.num_rows()).ok() && group.num_rows() > 0
        };
        !groups.is_empty() && groups.iter().all(of_group)
    };
    names.iter().map(|field| !is_empty(field.name())).collect()
}

/// For each column that holds times: its unit and whether it is UTC.
fn time_units(schema: &SchemaDescriptor) -> Vec<Option<(TimeUnit, bool)>> {
    let unit = |t: &parquet::schema::types::TypePtr| match t.get_basic_info().logical_type_ref() {
        Some(LogicalType::Timestamp(t)) => Some((t.unit, t.is_adjusted_to_u_t_c)),
        _ => None,
    };
    schema.root_schema().get_fields().iter().map(unit).collect()
}

fn push_value(out: &mut Vec<u8>, value: &Field, unit: Option<(TimeUnit, bool)>) {
    let moment = |micros: i64| {
        let utc = if unit.is_some_and(|(_, utc)| utc) { "Z" } else { "" };
        format!("{}{utc}", wall(micros))
    };
    match (value, unit) {
        (Field::Long(n), Some((TimeUnit::NANOS, _))) => out.extend(moment(n / 1000).bytes()),
        (Field::TimestampMillis(n), _) => out.extend(moment(n.saturating_mul(1000)).bytes()),
        (Field::TimestampMicros(n), _) => out.extend(moment(*n).bytes()),
        (Field::Null, _) => {}
        (Field::Float(f), _) => out.extend(f.to_string().bytes()),
        (Field::Double(f), _) => push_float(out, *f),
        (Field::Date(day), _) => out.extend(crate::model::time::date(*day as i64).bytes()),
        (Field::Str(s), _) => out.extend(s.bytes().map(|c| if c < 0x20 { b' ' } else { c })),
        (Field::Decimal(d), _) => push_decimal(out, d.data(), d.scale()),
        (other, _) => out.extend(other.to_string().bytes().map(|c| if c < 0x20 { b' ' } else { c })),
    }
}

/// A decimal of big-endian bytes; one that is wider than sixteen bytes is no price and stays empty.
fn push_decimal(out: &mut Vec<u8>, bytes: &[u8], scale: i32) {
    let Some(pad) = 16usize.checked_sub(bytes.len()) else { return };
    let fill = if bytes.first().is_some_and(|b| b & 0x80 != 0) { 0xff } else { 0 };
    let mut wide = [fill; 16];
    wide[pad..].copy_from_slice(bytes);
    let value = i128::from_be_bytes(wide);
    let digits = format!("{:0width$}", value.unsigned_abs(), width = scale.max(0) as usize + 1);
    let (whole, part) = digits.split_at(digits.len() - scale.max(0) as usize);
    out.extend(format!("{}{whole}", if value < 0 { "-" } else { "" }).bytes());
    if !part.is_empty() {
        out.extend(b".");
        out.extend(part.bytes());
    }
}
