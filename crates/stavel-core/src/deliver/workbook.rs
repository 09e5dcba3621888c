//! A workbook for spreadsheets: the rows on one sheet or several, what stands beside them on others.

use std::path::Path;

use calamine::{DataRef, Xlsx, open_workbook};
use rust_xlsxwriter::{Format, Workbook, Worksheet, XlsxError};

use super::delivered_rows::DeliveredRows;
use super::{DeliveryOrder, SideTable, TableCell};
use crate::job::Job;
use crate::model::moment_text::MomentWriter;
use crate::model::price::{as_float, unit};
use crate::model::time::DAY;
use crate::model::{ABSENT, Columns, Field, Micros, Scale, Span, present};
use crate::store::SeriesInfo;
use crate::{Error, Result};

/// Rows of a sheet below its header: what spreadsheets have room for.
const SHEET_ROWS: u64 = 1_048_575;

/// Days from the first day that spreadsheets count to 1970-01-01.
const EPOCH: f64 = 25_569.0;

fn failed(path: &Path, err: &XlsxError) -> Error {
    Error::storage(format!("{} cannot be written: {err}.", path.display()))
}

/// Writes a workbook, row by row, and reads it back; gives its rows and whether they are the same.
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
    // The writer of workbooks breaks off where its disk is full; that is no reason for more than this file to fail.
    let write = || write_in_sheets(reader, info, order, span, path, (SHEET_ROWS, job));
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(write)).unwrap_or_else(|_| {
        Err(Error::storage(format!(
            "{} could not be written: the disk is full, or cannot be written to; make room and do it again.",
            path.display()
        )))
    })
}

/// Bytes that a workbook with so many cells needs while it is written: the sheets lie there as text before they are packed.
pub fn bytes_while_written(rows: u64, columns: usize) -> u64 {
    rows * (columns as u64 + 1) * 60
}

/// The same with so many rows on a sheet.
///
/// # Errors
/// As [`write`].
pub(super) fn write_in_sheets(
    reader: &DeliveredRows,
    info: &SeriesInfo,
    order: &DeliveryOrder,
    span: Span,
    path: &Path,
    (sheet_rows, job): (u64, &Job),
) -> Result<(u64, bool)> {
    let bad = |e: XlsxError| failed(path, &e);
    let mut book = Workbook::new();
    // What does not lie beside the file need not fit into memory either.
    book.set_tempdir(path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")))
        .map_err(bad)?;
    let (fields, scale) = (&info.edition.fields, info.edition.scale);
    let count = reader.count(span)?;
    let sheets = count.div_ceil(sheet_rows).max(1);
    let mut rows = SheetRows::new(fields, scale, order, reader, span);
    for number in 1..=sheets {
        let sheet = book.add_worksheet_with_constant_memory();
        sheet.set_name(sheet_name(number)).map_err(bad)?;
        rows.write(sheet, sheet_rows, job, path)?;
    }
    for table in &order.beside.tables {
        side_table(book.add_worksheet_with_constant_memory(), table).map_err(bad)?;
    }
    book.save(path).map_err(bad)?;
    std::fs::File::open(path)
        .and_then(|file| file.sync_all())
        .map_err(|e| Error::io("Cannot sync", path, &e))?;
    let proved = holds(reader, info, order, (span, sheets), path, job)?;
    Ok((count, proved))
}

fn sheet_name(number: u64) -> String {
    if number == 1 { "rows".into() } else { format!("rows {number}") }
}

/// Rows of a series, handed from sheet to sheet.
struct SheetRows<'a, I> {
    pieces: I,
    piece: Columns,
    at: usize,
    fields: &'a [Field],
    times: MomentWriter<'a>,
    formats: Vec<Format>,
    date: Format,
}

impl<'a> SheetRows<'a, Box<dyn Iterator<Item = Result<Columns>> + Send>> {
    fn new(
        fields: &'a [Field],
        scale: Scale,
        order: &'a DeliveryOrder,
        reader: &DeliveredRows,
        span: Span,
    ) -> Self {
        let format = |f: &Field| match scale.of(*f) {
            0 => Format::new().set_num_format("0"),
            places => Format::new().set_num_format(format!("0.{}", "0".repeat(usize::from(places)))),
        };
        let date = match order.series.frame.is_bars() {
            true => "yyyy-mm-dd hh:mm",
            false => "yyyy-mm-dd hh:mm:ss.000",
        };
        SheetRows {
            pieces: reader.scan(span, fields),
            piece: Columns::empty(fields, scale),
            at: 0,
            fields,
            times: MomentWriter::new(&order.clock),
            formats: fields.iter().map(format).collect(),
            date: Format::new().set_num_format(date),
        }
    }

    fn write(&mut self, sheet: &mut Worksheet, most: u64, job: &Job, path: &Path) -> Result<()> {
        let bad = |e: XlsxError| failed(path, &e);
        let bold = Format::new().set_bold();
        sheet.set_column_width(0, 22).map_err(bad)?;
        sheet.set_freeze_panes(1, 0).map_err(bad)?;
        sheet.write_string_with_format(0, 0, "time", &bold).map_err(bad)?;
        for (c, field) in self.fields.iter().enumerate() {
            sheet.write_string_with_format(0, c as u16 + 1, field.name(), &bold).map_err(bad)?;
        }
        for line in 1..=most as u32 {
            if self.at == self.piece.len() {
                let Some(next) = self.pieces.next() else { return Ok(()) };
                (self.piece, self.at) = (next?, 0);
                job.advance(self.piece.len() as u64)?;
            }
            let wall = self.times.wall(self.piece.time[self.at]);
            sheet.write_number_with_format(line, 0, serial(wall), &self.date).map_err(bad)?;
            for (c, (column, format)) in self.piece.data.iter().zip(&self.formats).enumerate() {
                if let Some(value) = present(column[self.at]) {
                    let number = as_float(value, self.piece.scale.of(self.fields[c]));
                    sheet.write_number_with_format(line, c as u16 + 1, number, format).map_err(bad)?;
                }
            }
            self.at += 1;
        }
        Ok(())
    }
}

/// A time of the wall as spreadsheets count: days, with a fraction.
fn serial(wall: Micros) -> f64 {
    wall as f64 / DAY as f64 + EPOCH
}

/// The time of a serial number, to the thousandth of a second: as fine as it tells it.
fn from_serial(days: f64) -> Micros {
    ((days - EPOCH) * (DAY / 1000) as f64).round() as Micros * 1000
}

fn side_table(sheet: &mut Worksheet, table: &SideTable) -> std::result::Result<(), XlsxError> {
    let bold = Format::new().set_bold();
    sheet.set_name(&table.name)?;
    sheet.set_column_width(0, 24)?;
    for (c, column) in table.columns.iter().enumerate() {
        sheet.write_string_with_format(0, c as u16, column, &bold)?;
    }
    for (r, row) in table.rows.iter().enumerate() {
        for (c, cell) in row.iter().enumerate() {
            let (r, c) = (r as u32 + 1, c as u16);
            match cell {
                // As a string it is shown, whatever it begins with, and never run.
                TableCell::Text(text) => sheet.write_string(r, c, text)?,
                TableCell::Number(number) => sheet.write_number(r, c, *number)?,
                TableCell::Time(time) => sheet.write_number_with_format(
                    r,
                    c,
                    serial(*time),
                    &Format::new().set_num_format("yyyy-mm-dd hh:mm:ss.000"),
                )?,
                TableCell::Empty => continue,
            };
        }
    }
    Ok(())
}

/// Writes tables alone into a workbook.
///
/// # Errors
/// Where the file is there already, or cannot be written.
pub fn write_tables(path: &Path, tables: &[SideTable]) -> Result<()> {
    if path.exists() {
        return Err(Error::arguments(format!("{} is there already; name another file.", path.display())));
    }
    let mut book = Workbook::new();
    for table in tables {
        side_table(book.add_worksheet(), table).map_err(|e| failed(path, &e))?;
    }
    book.save(path).map_err(|e| failed(path, &e))
}

/// True where the sheets of a workbook, read back cell by cell, hold just the rows of the series.
///
/// # Errors
/// Where it cannot be read.
pub(super) fn holds(
    reader: &DeliveredRows,
    info: &SeriesInfo,
    order: &DeliveryOrder,
    (span, sheets): (Span, u64),
    path: &Path,
    job: &Job,
) -> Result<bool> {
    let fields = &info.edition.fields;
    let unread =
        |e: calamine::XlsxError| Error::storage(format!("{} cannot be read back: {e}.", path.display()));
    let mut book: Xlsx<_> = open_workbook(path).map_err(unread)?;
    let mut pieces = reader.scan(span, fields);
    let (mut piece, mut at) = (Columns::empty(fields, info.edition.scale), 0);
    let mut times = MomentWriter::new(&order.clock);
    for number in 1..=sheets {
        let mut cells = book.worksheet_cells_reader(&sheet_name(number)).map_err(unread)?;
        let mut next = cells.next_cell().map_err(unread)?;
        let mut line = 0u32;
        while next.is_some() {
            let mut row: Vec<Option<f64>> = vec![None; fields.len() + 1];
            while let Some(cell) = next.as_ref().filter(|c| c.get_position().0 == line) {
                let number = match cell.get_value() {
                    DataRef::Float(number) => Some(*number),
                    DataRef::Int(number) => Some(*number as f64),
                    DataRef::DateTime(date) => Some(date.as_f64()),
                    _ => None,
                };
                match row.get_mut(cell.get_position().1 as usize) {
                    Some(place) => *place = number,
                    None => return Ok(false),
                }
                next = cells.next_cell().map_err(unread)?;
            }
            line += 1;
            if line == 1 {
                continue;
            }
            if at == piece.len() {
                let Some(more) = pieces.next() else { return Ok(false) };
                (piece, at) = (more?, 0);
                // Stopping is noticed while writing; here it only moves the bar.
                let _ = job.advance(piece.len() as u64);
            }
            let same_time = row[0].map(from_serial) == Some(times.wall(piece.time[at]));
            let same = piece.data.iter().zip(fields).zip(&row[1..]).all(|((column, field), read)| {
                let scale = unit(piece.scale.of(*field)) as f64;
                read.map_or(ABSENT, |number| (number * scale).round() as i64) == column[at]
            });
            if !same_time || !same {
                return Ok(false);
            }
            at += 1;
        }
    }
    Ok(at == piece.len() && pieces.next().is_none())
}
