//! Delivering series of the shelf.

use std::path::{Path, PathBuf};

use super::chosen::{cut, partial_ends, path_of, span_of, what_is_delivered, with_ending};
use super::delivered_rows::DeliveredRows;
use super::lines::LayoutLines;
use super::packing::FilePacking;
use super::pipeline::{WrittenText, write_and_prove};
use super::records::Records;
use super::{
    Begun, Compress, Delivery, DeliveryOrder, FileFormat, RowsAsText, dataset, json_columns, page, refuse,
    table, workbook,
};
use crate::job::Job;
use crate::model::layout::general;
use crate::model::{Columns, Layout, Micros, Span, Use};
use crate::store::{SeriesInfo, Shelf};
use crate::{Error, Result, fingerprint};

/// Called with each path just before a proved file gets it: moves aside what must be kept of what lies there.
pub type MakeWay<'a> = &'a mut dyn FnMut(&Path) -> Result<()>;

/// A delivery that was looked through: nothing is known that would stop it, and nothing is written yet.
pub struct ReadyDelivery {
    order: DeliveryOrder,
    info: SeriesInfo,
    delivered: DeliveredRows,
    span: Span,
    text: Option<Box<dyn RowsAsText + Send>>,
    is_made_up: bool,
    rows: u64,
    bytes: u64,
}

impl ReadyDelivery {
    /// Looks an order through.
    ///
    /// # Errors
    /// Where the series is afloat (its times are not UTC), has no rows in the span, or does not fit into the format
    /// or the layout: decimals or times would be lost.
    pub fn of(shelf: &Shelf, order: &DeliveryOrder) -> Result<ReadyDelivery> {
        let (info, delivered) = what_is_delivered(shelf, order)?;
        let span = span_of(&delivered, &info, order)?;
        let rows = delivered.count(span)?;
        if rows == 0 {
            return Err(Error::input(format!(
                "{} has no rows in that span; nothing was delivered.",
                order.series
            )));
        }
        refuse::by_format(order, &info, rows)?;
        let mut text: Option<Box<dyn RowsAsText + Send>> = None;
        if order.format == FileFormat::Csv {
            let lines = lines_of(order, &info)?;
            refuse::what_lines_lose(order, &lines, &info, &delivered, span)?;
            text = Some(Box::new(lines));
        }
        let (fields, scale) = (&info.edition.fields, info.edition.scale);
        let records = match order.format {
            FileFormat::Json => Some(Records::json(fields, scale, &order.clock)),
            FileFormat::Ndjson => Some(Records::ndjson(fields, scale, &order.clock)),
            FileFormat::Html => {
                Some(page::records(order, &info, rows, delivered.ends(span)?.unwrap_or_default()))
            }
            FileFormat::Xlsx => {
                refuse::what_a_sheet_loses(order, &info, &delivered, span)?;
                None
            }
            FileFormat::Dataset => {
                dataset::refuse_what_is_lost(&info, &delivered, span)?;
                None
            }
            FileFormat::Csv | FileFormat::JsonColumns | FileFormat::Parquet => None,
        };
        if let Some(records) = records {
            text = Some(Box::new(records.with_decimals(order.decimals.0, order.decimals.1)));
        }
        let is_made_up = shelf.is_made_up(&info.edition)?;
        let bytes = match (&text, order.format) {
            (Some(text), _) if order.compress == Compress::None => {
                about_bytes(&**text, delivered.scan(span, &info.edition.fields), rows)?
            }
            (None, FileFormat::Xlsx) => workbook::bytes_while_written(rows, info.edition.fields.len()),
            (None, FileFormat::Parquet | FileFormat::Dataset) => {
                let (bytes, all) = delivered.on_the_shelf();
                (bytes as f64 * rows as f64 / all.max(1) as f64) as u64
            }
            _ => 0,
        };
        Ok(ReadyDelivery { order: order.clone(), info, delivered, span, text, is_made_up, rows, bytes })
    }

    /// The files it will write, in a folder or at a path.
    ///
    /// # Errors
    /// Where a pattern of names is none.
    pub fn paths(&self, to: &Path) -> Result<Vec<PathBuf>> {
        self.files(to).map(|files| files.into_iter().map(|(path, _)| path).collect())
    }

    /// The rows that will be written.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// About how many bytes of the disk it will take, as far as that is known beforehand; 0 where it is not.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// The series as it is delivered.
    pub fn info(&self) -> &SeriesInfo {
        &self.info
    }

    fn files(&self, to: &Path) -> Result<Vec<(PathBuf, Span)>> {
        let (order, edition) = (&self.order, &self.info.edition);
        if order.format == FileFormat::Dataset {
            return dataset::files(&self.delivered, &order.series, self.span, to);
        }
        let spans = cut(self.span, order.split, &order.clock, (edition.first, edition.last));
        let mut files = Vec::new();
        for span in spans {
            if order.split.is_none() || self.delivered.count(span)? > 0 {
                files.push((path_of(order, &self.info, to, span, self.is_made_up)?, span));
            }
        }
        Ok(files)
    }

    /// Writes the series to a file, or into a folder under a name of its own, and proves it. Only a file that was
    /// proved gets the name, and takes the place of one that is there; one that was not is kept beside it, its name
    /// ending in `.unproved`.
    ///
    /// # Errors
    /// Where a file cannot be written, or what `make_way` gives. What was begun is taken away then.
    ///
    /// Where `begun` gives the beginning of a file at a path, only the rows behind it are written; the rows in it must be
    /// those of this delivery.
    pub fn write(
        &self,
        to: &Path,
        job: &Job,
        begun: &dyn Fn(&Path) -> Option<Begun>,
        make_way: MakeWay<'_>,
    ) -> Result<Vec<Delivery>> {
        job.begin(format!("deliver {}", self.order.series), self.rows * 2);
        let mut done = Vec::new();
        for (path, span) in self.files(to)? {
            let begun = begun(&path).filter(|_| self.can_go_on());
            done.push(self.write_one(path, (span, begun), job, make_way)?);
        }
        Ok(done)
    }

    /// True where further rows can be written behind those of a file as it is: lines with nothing below them.
    pub fn can_go_on(&self) -> bool {
        let is_lines = matches!(self.order.format, FileFormat::Csv | FileFormat::Ndjson);
        is_lines && self.order.compress == Compress::None && self.order.last.is_none()
    }

    /// The rows of this delivery before a time.
    ///
    /// # Errors
    /// Where they cannot be counted.
    pub fn rows_before(&self, to: &Path, path: &Path, time: Micros) -> Result<u64> {
        let span = self.files(to)?.into_iter().find(|(at, _)| at == path).map(|(_, span)| span);
        let before = span.and_then(|span| Span::new(Micros::MIN, time).overlap(&span));
        before.map_or(Ok(0), |span| self.delivered.count(span))
    }

    fn write_one(
        &self,
        path: PathBuf,
        (span, begun): (Span, Option<Begun>),
        job: &Job,
        make_way: MakeWay<'_>,
    ) -> Result<Delivery> {
        if let Some(folder) = path.parent().filter(|p| !p.as_os_str().is_empty()) {
            std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
        }
        let unfinished = with_ending(&path, "unfinished");
        let outcome = self.write_rows(&unfinished, &path, (span, begun.as_ref()), job).and_then(|written| {
            if written.proved {
                make_way(&path)?;
            }
            Ok(written)
        });
        let written = match outcome {
            Ok(written) => written,
            Err(err) => {
                // What could not be finished is of no use to anyone.
                let _ = std::fs::remove_file(&unfinished);
                return Err(err);
            }
        };
        let path = if written.proved { path } else { with_ending(&path, "unproved") };
        std::fs::rename(&unfinished, &path).map_err(|e| Error::io("Cannot name", &path, &e))?;
        let edition = &self.info.edition;
        let (first, last) = partial_ends(&self.info);
        Ok(Delivery {
            path,
            rows: written.rows,
            kept: begun.map_or(0, |b| b.rows),
            bytes: written.bytes,
            sha256: written.sha256,
            proved: written.proved,
            rounded: written.rounded,
            ends: self.delivered.ends(span)?.unwrap_or((edition.first, edition.last)),
            partial_first: first && span.holds(edition.first),
            partial_last: last && span.holds(edition.last),
        })
    }

    fn write_rows(
        &self,
        unfinished: &Path,
        path: &Path,
        (span, begun): (Span, Option<&Begun>),
        job: &Job,
    ) -> Result<WrittenText> {
        let (order, edition) = (&self.order, &self.info.edition);
        if let Some(text) = &self.text {
            let packing = FilePacking::of(order.compress, path);
            let rest = begun.map_or(span, |begun| Span::new(begun.from.max(span.from), span.to));
            let pieces = self.delivered.scan(rest, &edition.fields);
            let begun = begun.map(|begun| (path, begun));
            return write_and_prove(unfinished, begun, pieces, &**text, &packing, job);
        }
        let (rows, proved) = match order.format {
            FileFormat::Dataset => dataset::write(&self.delivered, &edition.fields, span, unfinished, job)?,
            FileFormat::JsonColumns => {
                json_columns::write(&self.delivered, &self.info, order, span, unfinished, job)?
            }
            FileFormat::Xlsx => workbook::write(&self.delivered, &self.info, order, span, unfinished, job)?,
            _ => table::write(&self.delivered, &edition.fields, span, unfinished, job)?,
        };
        let (bytes, sha256) =
            fingerprint::sha256_of(unfinished).map_err(|e| Error::io("Cannot read back", unfinished, &e))?;
        Ok(WrittenText { rows, bytes, sha256, proved, rounded: 0 })
    }
}

/// The bytes of a text, by those of its first rows.
fn about_bytes(
    text: &dyn RowsAsText,
    mut pieces: impl Iterator<Item = Result<Columns>>,
    rows: u64,
) -> Result<u64> {
    let Some(first) = pieces.next().transpose()? else { return Ok(0) };
    let tried = first.len().min(1000);
    let mut bytes = Vec::new();
    text.push_rows(&first, 0..tried, true, &mut bytes);
    Ok(bytes.len() as u64 * rows / tried.max(1) as u64)
}

/// The room that is left on the disk of a folder.
///
/// # Errors
/// What looking gives.
pub fn free_bytes(folder: &Path) -> std::io::Result<u64> {
    fs4::available_space(folder)
}

/// The lines of a series by the layout of an order, or by the usual one.
fn lines_of(order: &DeliveryOrder, info: &SeriesInfo) -> Result<LayoutLines> {
    let usual = || general("rfc3339").unwrap_or_else(|| Layout::plain(&[Use::Moment, Use::Values]));
    let layout = order.layout.clone().unwrap_or_else(usual).with_sides_of(&info.edition.fields);
    LayoutLines::new(&layout, &order.clock, &order.series, (&info.edition.fields, info.edition.scale))
}

/// Looks an order through and writes it.
///
/// # Errors
/// As [`ReadyDelivery::of`] and [`ReadyDelivery::write`].
pub fn deliver(shelf: &Shelf, order: &DeliveryOrder, to: &Path, job: &Job) -> Result<Vec<Delivery>> {
    ReadyDelivery::of(shelf, order)?.write(to, job, &|_| None, &mut |_| Ok(()))
}

/// The first lines of a delivery exactly as they would be written; for tables, their columns.
///
/// # Errors
/// As [`deliver`], but for what only shows when all rows are looked through.
pub fn first_lines(shelf: &Shelf, order: &DeliveryOrder, count: usize) -> Result<Vec<String>> {
    some_lines(shelf, order, count, |rows| rows.rows(0..rows.len().min(count)), true)
}

/// The last lines of a delivery exactly as they would be written; for tables none.
///
/// # Errors
/// As [`first_lines`].
pub fn last_lines(shelf: &Shelf, order: &DeliveryOrder, count: usize) -> Result<Vec<String>> {
    some_lines(shelf, order, count, |rows| rows.rows(rows.len().saturating_sub(count)..rows.len()), false)
}

fn some_lines(
    shelf: &Shelf,
    order: &DeliveryOrder,
    count: usize,
    which: impl Fn(&Columns) -> Columns,
    is_first: bool,
) -> Result<Vec<String>> {
    let (info, delivered) = what_is_delivered(shelf, order)?;
    let edition = &info.edition;
    let (fields, scale) = (&edition.fields, edition.scale);
    let text: Box<dyn RowsAsText> = match order.format {
        FileFormat::Csv => Box::new(lines_of(order, &info)?),
        FileFormat::JsonColumns => {
            // Its few lines are long: they are shown as they begin.
            let span = span_of(&delivered, &info, order)?;
            let rows = delivered.scan(span, fields).next().transpose()?;
            let lines = rows.map(|rows| json_columns::lines(&rows.rows(0..rows.len().min(count)), order));
            return Ok(lines.filter(|_| is_first).unwrap_or_default());
        }
        FileFormat::Json => Box::new(
            Records::json(fields, scale, &order.clock).with_decimals(order.decimals.0, order.decimals.1),
        ),
        FileFormat::Ndjson => Box::new(
            Records::ndjson(fields, scale, &order.clock).with_decimals(order.decimals.0, order.decimals.1),
        ),
        FileFormat::Html => Box::new(page::records(order, &info, 0, (edition.first, edition.last))),
        FileFormat::Xlsx | FileFormat::Parquet | FileFormat::Dataset => {
            let columns = table::columns(order.format, fields, scale);
            return Ok(if is_first { columns } else { Vec::new() });
        }
    };
    let span = span_of(&delivered, &info, order)?;
    let piece = match is_first {
        true => delivered.scan(span, fields).next().transpose()?,
        false => delivered.last_rows(span, fields)?,
    };
    let mut bytes = if is_first { text.head() } else { Vec::new() };
    if let Some(rows) = piece {
        let rows = which(&rows);
        text.push_rows(&rows, 0..rows.len(), is_first, &mut bytes);
    }
    if !is_first {
        bytes.extend(text.tail(true));
    }
    let lines = String::from_utf8_lossy(&bytes);
    let lines: Vec<String> = lines.lines().map(str::to_owned).collect();
    let skipped = if is_first { 0 } else { lines.len().saturating_sub(count) };
    Ok(lines.into_iter().skip(skipped).take(count).collect())
}

#[cfg(test)]
mod tests;
