//! Delivering series of the shelf.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use super::by_layout::{self, LayoutWriter};
use super::{FileFormat, TextWriter, proof};
use crate::job::Job;
use crate::model::columns::shape_of;
use crate::model::{Clock, Columns, Field, Made, SeriesName, Span};
use crate::model::{Layout, Shape};
use crate::store::{Scan, SegmentWriter, SeriesInfo, Shelf};
use crate::{Advice, Error, Result, fingerprint};

/// What to deliver, and how.
#[derive(Debug, Clone)]
pub struct DeliveryOrder {
    /// The series.
    pub series: SeriesName,
    /// The format of the file.
    pub format: FileFormat,
    /// How lines are written, instead of the format's own way; CSV only.
    pub layout: Option<Layout>,
    /// The clock of the times in text formats.
    pub clock: Clock,
    /// The rows that are wanted, by time.
    pub span: Span,
    /// Only so many rows, the last ones.
    pub last: Option<u64>,
    /// Tell of each row where it comes from: what was filled and what was estimated.
    pub origin: bool,
    /// Of bars, also what stands beside the usual columns: tick counts, the volumes of both sides, the first, widest and
    /// narrowest spread.
    pub details: bool,
    /// Leave away a first and a last bar whose rows begin within it, or may end within it.
    pub complete_only: bool,
}

/// A file that was delivered.
#[derive(Debug, Clone)]
pub struct Delivery {
    /// The file.
    pub path: PathBuf,
    /// Rows in it.
    pub rows: u64,
    /// Its length.
    pub bytes: u64,
    /// SHA-256 of its bytes, in hexadecimal digits.
    pub sha256: String,
    /// True where the file, read back, holds exactly the rows of the series.
    pub proved: bool,
    /// True where its first bar lacks rows at its beginning.
    pub partial_first: bool,
    /// True where its last bar may lack rows at its end.
    pub partial_last: bool,
}

/// Whether the first and the last bar of a series lack rows at their outer ends, as far as that is known: of bars that
/// were built.
pub fn partial_ends(info: &SeriesInfo) -> (bool, bool) {
    match &info.edition.provenance.made {
        Made::Frames(framing) => (framing.partial_first, framing.partial_last),
        _ => (false, false),
    }
}

/// Writes a series to a file, or into a folder under a name of its own, and proves it. Only a file that was
/// proved gets the name, and takes the place of one that is there; one that was not is kept beside it, its name
/// ending in `.unproved`.
///
/// # Errors
/// Where the series is afloat (its times are not UTC) or the file cannot be written.
pub fn deliver(shelf: &Shelf, order: &DeliveryOrder, to: &Path, job: &Job) -> Result<Delivery> {
    deliver_changed(shelf, order, to, job, |_| Ok(()))
}

/// The same, with a look at the file, or a change of it, before it is proved.
fn deliver_changed(
    shelf: &Shelf,
    order: &DeliveryOrder,
    to: &Path,
    job: &Job,
    written: impl FnOnce(&Path) -> Result<()>,
) -> Result<Delivery> {
    let info = what_is_delivered(shelf, order)?;
    let span = span_of(shelf, &info, order)?;
    let path = if to.is_dir() || to.to_string_lossy().ends_with('/') {
        to.join(file_name(order, &info, shelf.is_made_up(&info.edition)?))
    } else {
        to.into()
    };
    if let Some(folder) = path.parent().filter(|p| !p.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
    }
    let unfinished = with_ending(&path, "unfinished");
    job.begin(format!("deliver {}", order.series), info.edition.rows * 2);
    let outcome = write(shelf, &info, order, span, &unfinished, job).and_then(|rows| {
        written(&unfinished)?;
        Ok((rows, prove(shelf, &info, order, span, &unfinished, job)?))
    });
    if outcome.is_err() {
        // What could not be finished is of no use to anyone.
        let _ = std::fs::remove_file(&unfinished);
    }
    let (rows, proved) = outcome?;
    let path = if proved { path } else { with_ending(&path, "unproved") };
    std::fs::rename(&unfinished, &path).map_err(|e| Error::io("Cannot name", &path, &e))?;
    let (bytes, sha256) =
        fingerprint::sha256_of(&path).map_err(|e| Error::io("Cannot read back", &path, &e))?;
    let (first, last) = partial_ends(&info);
    let (partial_first, partial_last) =
        (first && span.holds(info.edition.first), last && span.holds(info.edition.last));
    Ok(Delivery { path, rows, bytes, sha256, proved, partial_first, partial_last })
}

/// A path with a further ending after the one it has.
fn with_ending(path: &Path, ending: &str) -> PathBuf {
    let mut name = path.to_owned().into_os_string();
    name.push(".");
    name.push(ending);
    PathBuf::from(name)
}

fn what_is_delivered(shelf: &Shelf, order: &DeliveryOrder) -> Result<SeriesInfo> {
    let mut info = shelf.find(&order.series)?;
    refuse_afloat(&info)?;
    if order.format != FileFormat::Parquet {
        info.refuse_layers("delivered as lines (Parquet holds them)")?;
    }
    // Where rows come from is the shelf's own matter; a table of columns may hold it, lines others read do not.
    if order.format != FileFormat::Parquet && order.layout.is_none() && !order.origin {
        info.edition.fields.retain(|f| *f != Field::Origin);
    }
    if order.format != FileFormat::Parquet && order.layout.is_none() && !order.details {
        leave_details(&mut info);
    }
    // Who asks for the marks gets the column also where no row has one: nothing in it is an estimate.
    if order.origin && !info.edition.fields.contains(&Field::Origin) {
        info.edition.fields.push(Field::Origin);
    }
    Ok(info)
}

/// What bars that were made of ticks know beside the usual columns stays on the shelf, unless it is asked for. What a source
/// itself wrote beside its bars is a part of them.
fn leave_details(info: &mut SeriesInfo) {
    let is_built = info.edition.provenance.made.is_framed();
    let fields = &mut info.edition.fields;
    if shape_of(fields) != Shape::Bars {
        return;
    }
    let is_of_ticks = is_built || fields.iter().any(|f| f.is_detail());
    fields.retain(|f| match f {
        Field::TickCount | Field::BidVolume | Field::AskVolume => !is_of_ticks,
        f => !f.is_detail(),
    });
}

fn refuse_afloat(info: &SeriesInfo) -> Result<()> {
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{0} is afloat: its times are not UTC; align it first.",
            info.name
        ))
        .advise(Advice::Align(info.name.to_string())));
    }
    Ok(())
}

/// The file name of a series in a folder: `NOKSEK_joined_1h.csv`.
fn file_name(order: &DeliveryOrder, info: &SeriesInfo, is_made_up: bool) -> String {
    let s = &order.series;
    // Whoever is handed the file shall not take made-up ticks for a record.
    let rebuilt = if matches!(info.edition.provenance.made, Made::Rebuild(_)) { "_rebuilt" } else { "" };
    let (frame, format) = (s.frame_and_side(), order.format.word());
    let built = if s.built && rebuilt.is_empty() { ".built" } else { "" };
    let made_up = if is_made_up { "_made-up" } else { "" };
    format!("{}_{}_{frame}{built}{rebuilt}{made_up}.{format}", s.instrument, s.source)
}

/// The span asked for, narrowed to the last rows where only those are wanted.
fn span_of(shelf: &Shelf, info: &SeriesInfo, order: &DeliveryOrder) -> Result<Span> {
    let mut span = order.span;
    if order.complete_only {
        let (first, last) = partial_ends(info);
        // Nothing lies between two bars: from just after the first is from the second.
        span.from = if first { span.from.max(info.edition.first + 1) } else { span.from };
        span.to = if last { span.to.min(info.edition.last) } else { span.to }.max(span.from);
    }
    let Some(last) = order.last else { return Ok(span) };
    let mut times = std::collections::VecDeque::new();
    for rows in shelf.scan(&info.edition, span, Some(&[]))? {
        times.extend(rows?.time);
        let over = times.len().saturating_sub(last as usize);
        times.drain(..over);
    }
    Ok(times.front().map_or(span, |&from| Span::new(from, span.to)))
}

/// Writes the file; gives its rows.
fn write(
    shelf: &Shelf,
    info: &SeriesInfo,
    order: &DeliveryOrder,
    span: Span,
    path: &Path,
    job: &Job,
) -> Result<u64> {
    let edition = &info.edition;
    let rows = match order.format {
        FileFormat::Parquet => {
            let mut writer = SegmentWriter::create(path, &edition.fields, edition.scale, true)?;
            let rows = each(shelf.scan(edition, span, None)?, job, |piece| writer.push(piece.clone()))?;
            writer.finish(path)?;
            rows
        }
        _ => write_text(shelf, info, order, span, path, job)?,
    };
    match rows {
        0 => Err(Error::input(format!("{} has no rows in that span; nothing was delivered.", order.series))),
        rows => Ok(rows),
    }
}

/// Reads the file back and compares it with the rows of the series.
fn prove(
    shelf: &Shelf,
    info: &SeriesInfo,
    order: &DeliveryOrder,
    span: Span,
    path: &Path,
    job: &Job,
) -> Result<bool> {
    let edition = &info.edition;
    let again = shelf.scan(edition, span, None)?.inspect(|piece| {
        if let Ok(piece) = piece {
            // Stopping is noticed while writing; here it only moves the bar.
            let _ = job.advance(piece.len() as u64);
        }
    });
    if let Some(layout) = &order.layout {
        let writer = LayoutWriter::new(layout, &order.clock, &order.series, &edition.fields)?;
        let like = Columns::empty(&edition.fields, edition.scale);
        return by_layout::holds(path, layout, writer.clock(), &like, again);
    }
    proof::holds(path, order.format, &edition.fields, edition.scale, again)
}

fn each(scan: Scan, job: &Job, mut with: impl FnMut(&Columns) -> Result<()>) -> Result<u64> {
    let mut rows = 0;
    for piece in scan {
        let piece = piece?;
        job.advance(piece.len() as u64)?;
        with(&piece)?;
        rows += piece.len() as u64;
    }
    Ok(rows)
}

/// A writer and what stands before the rows.
fn begin_text(info: &SeriesInfo, order: &DeliveryOrder) -> (TextWriter, Vec<u8>) {
    let writer = TextWriter::new(order.format, order.clock.clone());
    let mut text = Vec::new();
    writer.begin(&Columns::empty(&info.edition.fields, info.edition.scale), &mut text);
    (writer, text)
}

fn write_text(
    shelf: &Shelf,
    info: &SeriesInfo,
    order: &DeliveryOrder,
    span: Span,
    path: &Path,
    job: &Job,
) -> Result<u64> {
    let failed = |e: std::io::Error| Error::io("Cannot write", path, &e);
    let mut file = File::create(path).map_err(failed)?;
    if let Some(layout) = &order.layout {
        let writer = LayoutWriter::new(layout, &order.clock, &order.series, &info.edition.fields)?;
        let mut text = Vec::new();
        writer.begin(&mut text);
        let rows = each(shelf.scan(&info.edition, span, None)?, job, |piece| {
            writer.rows(piece, &mut text);
            file.write_all(&text).map_err(failed)?;
            text.clear();
            Ok(())
        })?;
        file.sync_all().map_err(failed)?;
        return Ok(rows);
    }
    let (mut writer, mut text) = begin_text(info, order);
    let rows = each(shelf.scan(&info.edition, span, None)?, job, |piece| {
        writer.rows(piece, &mut text);
        file.write_all(&text).map_err(failed)?;
        text.clear();
        Ok(())
    })?;
    writer.end(&mut text);
    file.write_all(&text).and_then(|()| file.sync_all()).map_err(failed)?;
    Ok(rows)
}

/// The first lines of a delivery exactly as they would be written; for Parquet, its columns.
///
/// # Errors
/// As [`deliver`].
pub fn first_lines(shelf: &Shelf, order: &DeliveryOrder, count: usize) -> Result<Vec<String>> {
    let info = what_is_delivered(shelf, order)?;
    let edition = &info.edition;
    if order.format == FileFormat::Parquet {
        let mut lines = vec!["time: TIMESTAMP(MICROS, UTC)".to_owned()];
        lines.extend(
            edition.fields.iter().map(|f| format!("{}: DECIMAL(18, {})", f.name(), edition.scale.of(*f))),
        );
        return Ok(lines);
    }
    let (mut writer, mut text) = begin_text(&info, order);
    let span = span_of(shelf, &info, order)?;
    if let Some(rows) = shelf.scan(edition, span, None)?.next() {
        let rows = rows?;
        writer.rows(&rows.rows(0..rows.len().min(count)), &mut text);
    }
    Ok(String::from_utf8_lossy(&text).lines().take(count).map(str::to_owned).collect())
}

#[cfg(test)]
mod tests;
