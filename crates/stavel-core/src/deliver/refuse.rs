//! What a format or a layout cannot hold, told before anything is written.

use super::delivered_rows::DeliveredRows;
use super::lines::{LayoutLines, unwritable};
use super::{Compress, DeliveryOrder, FileFormat, RowsAsText};
use crate::model::price::unit;
use crate::model::time::{DAY, wall};
use crate::model::{Clock, Columns, Field, Micros, Span, Unfold, Use, present};
use crate::store::SeriesInfo;
use crate::{Error, Result};

/// The rows that a page is still opened with.
const PAGE_ROWS: u64 = 100_000;

/// The digits that a number of a spreadsheet holds.
const SHEET_DIGITS: i64 = 1_000_000_000_000_000;

/// Rows of a first trial.
const TRIAL: usize = 2_000;

/// What a format does not do.
///
/// # Errors
/// One sentence.
pub fn by_format(order: &DeliveryOrder, info: &SeriesInfo, rows: u64) -> Result<()> {
    let format = order.format.word();
    let refuse = |why: String| Err(Error::arguments(why));
    if order.layout.is_some() && order.format != FileFormat::Csv {
        return refuse(format!("A layout says how lines of text are written; it does not go with {format}."));
    }
    if order.compress != Compress::None && !order.format.is_text() {
        return refuse(format!("Files of {format} are not packed; leave --compress away."));
    }
    if order.format == FileFormat::Dataset && (order.split.is_some() || order.names.is_some()) {
        return refuse("A dataset has folders and names of its own; leave --split and --names away.".into());
    }
    if order.format == FileFormat::Html && rows > PAGE_ROWS {
        return refuse(format!(
            "{} has {rows} rows in that span, and no browser opens a page with more than {PAGE_ROWS}; say --last {PAGE_ROWS}, or a span.",
            info.name
        ));
    }
    Ok(())
}

/// What lines of a layout would lose: names, decimals, times.
///
/// # Errors
/// One sentence that says which row and what to do.
pub fn what_lines_lose(
    order: &DeliveryOrder,
    lines: &LayoutLines,
    info: &SeriesInfo,
    reader: &DeliveredRows,
    span: Span,
) -> Result<()> {
    let layout = lines.layout();
    let name = layout.name.as_ref().map_or("The layout".to_owned(), |name| format!("The layout {name}"));
    if let Some(column) = unwritable(layout) {
        return Err(Error::arguments(format!(
            "The name of the column '{}' cannot be written in that encoding; say --encoding utf-8.",
            crate::error::printable(column)
        )));
    }
    let was_asked_for = |f: &Field| match f.is_volume() {
        true => order.decimals.1.is_some(),
        false => order.decimals.0.is_some(),
    };
    let coarser: Vec<Field> = lines.coarser().into_iter().filter(|f| !was_asked_for(f)).collect();
    refuse_lost_decimals(&name, lines, &coarser, info, reader, span)?;
    let first = reader.scan(span, &info.edition.fields).next().transpose()?;
    if let Some(first) = first {
        let rows = first.rows(0..first.len().min(TRIAL));
        refuse_unread(&name, lines, info, &rows)?;
    }
    // Forms, days without times and numbers of days may lose what only shows in some rows.
    let forms = &layout.writing.forms;
    let has_time = layout.columns.iter().any(|u| matches!(u, Use::Moment | Use::Time | Use::Unix(_)));
    let has_forms = forms.moment.is_some() || forms.date.is_some() || forms.time.is_some();
    if has_forms || !has_time {
        for piece in reader.scan(span, &info.edition.fields) {
            refuse_unread(&name, lines, info, &piece?)?;
        }
    }
    if !lines.tells_moments() {
        refuse_hours_shown_twice(&name, lines.clock(), info, reader, span)?;
    }
    Ok(())
}

fn refuse_lost_decimals(
    name: &str,
    lines: &LayoutLines,
    coarser: &[Field],
    info: &SeriesInfo,
    reader: &DeliveredRows,
    span: Span,
) -> Result<()> {
    if coarser.is_empty() {
        return Ok(());
    }
    let scale = info.edition.scale;
    let lost = |f: &Field| {
        let (have, writes) = match f.is_volume() {
            true => (scale.volume, lines.layout().writing.volume_decimals.unwrap_or(scale.volume)),
            false => (scale.price, lines.layout().writing.decimals.unwrap_or(scale.price)),
        };
        unit(have.saturating_sub(writes))
    };
    let (mut values, mut example) = (0u64, None);
    for piece in reader.scan(span, coarser) {
        let piece = piece?;
        for (field, column) in piece.fields.iter().zip(&piece.data) {
            let lost = lost(field);
            let losing = |v: &i64| present(*v).is_some_and(|v| v % lost != 0);
            values += column.iter().filter(|v| losing(v)).count() as u64;
            if example.is_none() {
                let at = column.iter().position(losing);
                example = at.map(|at| (field.name(), wall(piece.time[at])));
            }
        }
    }
    let Some((field, at)) = example else { return Ok(()) };
    Err(Error::arguments(format!(
        "{name} has fewer decimals than {}: {values} values would be rounded, the first the {field} of {at}; say --decimals to have them rounded all the same.",
        info.name
    )))
}

/// Refuses rows that, written, would not be read back as they are.
fn refuse_unread(name: &str, lines: &LayoutLines, info: &SeriesInfo, rows: &Columns) -> Result<()> {
    let holds = |range: std::ops::Range<usize>| {
        let mut text = Vec::new();
        lines.push_rows(rows, range.clone(), range.start == 0, &mut text);
        lines.holds(&text, rows, range.clone(), range.start == 0)
    };
    if holds(0..rows.len()) {
        return Ok(());
    }
    let bad = (0..rows.len()).find(|i| !holds(*i..i + 1)).unwrap_or(0);
    let has_time = lines.layout().columns.iter().any(|u| matches!(u, Use::Moment | Use::Time | Use::Unix(_)));
    let advice = match has_time {
        true => "choose a form of times that says all of them".to_owned(),
        false => format!(
            "its days begin at other times than 00:00 in {}; say the --clock of its session days",
            lines.clock()
        ),
    };
    Err(Error::arguments(format!(
        "{name} cannot hold {}: the row of {} would stand there as '{}', which is not read back as it is; {advice}.",
        info.name,
        wall(rows.time[bad]),
        crate::error::printable(&lines.as_written(rows, bad)),
    )))
}

/// Refuses times of a clock that do not tell apart the hour that it shows twice.
fn refuse_hours_shown_twice(
    name: &str,
    clock: &Clock,
    info: &SeriesInfo,
    reader: &DeliveredRows,
    span: Span,
) -> Result<()> {
    if *clock == Clock::utc() {
        return Ok(());
    }
    let is_bars = info.name.frame.is_bars();
    let mut before = Micros::MIN;
    let mut unfold = Unfold::new(Some(clock), info.name.frame);
    for piece in reader.scan(span, &[]) {
        let piece = piece?;
        let mut is_told = |t: &Micros| {
            let wall = clock.to_wall(*t);
            // Rows in order would tell the two hours apart, but most readers only look at the times.
            let goes_on = wall > before || wall == before && !is_bars;
            before = wall;
            goes_on && unfold.read(wall).0 == *t
        };
        if let Some(t) = piece.time.iter().find(|t| !is_told(t)) {
            return Err(Error::arguments(format!(
                "{name} cannot hold {} in {clock}: that clock showed {} twice, and nothing in the file would tell which is meant; say --clock UTC, or a layout with offsets such as rfc3339.",
                info.name,
                wall(clock.to_wall(*t))
            )));
        }
    }
    Ok(())
}

/// What a workbook would lose: digits beyond the fifteenth, times before 1900, an hour shown twice.
///
/// # Errors
/// One sentence.
pub fn what_a_sheet_loses(
    order: &DeliveryOrder,
    info: &SeriesInfo,
    reader: &DeliveredRows,
    span: Span,
) -> Result<()> {
    let first_day = -25_508 * DAY;
    for piece in reader.scan(span, &info.edition.fields) {
        let piece = piece?;
        if let Some(early) = piece.time.iter().find(|t| order.clock.to_wall(**t) < first_day) {
            return Err(Error::input(format!(
                "{} has rows in {}, and a spreadsheet has no dates before March 1900; say --from, or another format.",
                info.name,
                wall(*early)
            )));
        }
        if let Some(fine) = piece.time.iter().find(|t| **t % 1000 != 0) {
            return Err(Error::input(format!(
                "{} has a row at {}, and a spreadsheet keeps times to the thousandth of a second; choose another format.",
                info.name,
                wall(*fine)
            )));
        }
        for (field, column) in piece.fields.iter().zip(&piece.data) {
            let is_long = |v: &&i64| present(**v).is_some_and(|v| v.abs() >= SHEET_DIGITS);
            if let Some(value) = column.iter().find(is_long) {
                return Err(Error::input(format!(
                    "{} has a {} of {}, and a spreadsheet holds 15 digits; choose another format.",
                    info.name,
                    field.name(),
                    crate::model::price::scaled(*value, info.edition.scale.of(*field))
                )));
            }
        }
    }
    refuse_hours_shown_twice("A workbook", &order.clock, info, reader, span)
}
