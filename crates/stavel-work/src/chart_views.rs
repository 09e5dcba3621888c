//! Pictures beside the price: what is there, how full the days are, the session week, what each hour costs.

use serde_json::json;
use stavel_core::check::{self, CheckReport, MonthCoverage};
use stavel_core::job::Job;
use stavel_core::model::price::scaled;
use stavel_core::model::session::open_quarters;
use stavel_core::model::time::{DAY, civil_from_days, date, day_of, days_in_month};
use stavel_core::model::{Micros, SeriesName, Span};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};
use stavel_draw::{BarStyle, CellGrid, GridCell, GridRow, GridSheet, PictureLook};

use crate::chart_sources::{agreement, alignment};
use crate::costs::{CostSheet, cost_sheet};
use crate::coverage::Coverage;
use crate::picture_file::write_picture;
use crate::report::{StepReport, counted};
use crate::span::span_between;
use crate::step::{ChartStep, ChartView};

const WEEKDAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// Columns of the picture of what is there.
const COLUMNS: i64 = 240;

/// Draws a view of a series into a file; none where the price is meant, which is a chart of bars.
///
/// # Errors
/// Where it cannot be read, there is nothing to draw, or something is asked for that goes only with another view.
pub fn draw_view(
    shelf: &Shelf,
    step: &ChartStep,
    look: PictureLook,
    job: &Job,
) -> Result<Option<StepReport>> {
    let info = shelf.find(&step.series)?;
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    refuse_what_does_not_go(step)?;
    let mut wants_person = false;
    let grid = match step.view {
        ChartView::Price | ChartView::Trades => return Ok(None),
        ChartView::Align => {
            let (grid, is_sure) = alignment(shelf, &step.series, other(step)?, job)?;
            wants_person = !is_sure;
            grid
        }
        ChartView::Agreement => agreement(shelf, &step.series, other(step)?, job)?,
        ChartView::Coverage => coverage(shelf, &info, span)?,
        ChartView::Days => days(shelf, &info, span, job)?,
        ChartView::Week => week(shelf, &info)?,
        ChartView::Costs => costs(shelf, step, job)?,
    };
    let bytes = write_picture(&GridSheet { grid: &grid, look }, &step.out)?;
    let cells: usize = grid.rows.iter().map(|row| row.cells.len()).sum();
    let json = json!({ "path": step.out, "series": step.series, "cells": cells, "bytes": bytes });
    let line = format!("{}: {}, {bytes} bytes", step.out.display(), grid.told);
    let report = StepReport::new(json, vec![line]);
    Ok(Some(StepReport { wants_person, files: vec![step.out.clone()], ..report }))
}

/// What is asked for and would not be seen in the picture is not passed over.
fn refuse_what_does_not_go(step: &ChartStep) -> Result<()> {
    let is_price = matches!(step.view, ChartView::Price | ChartView::Trades);
    let is_of_two = matches!(step.view, ChartView::Align | ChartView::Agreement);
    if step.view == ChartView::Trades && step.orders.is_none() {
        return Err(Error::arguments("The view trades needs orders: --orders FILE."));
    }
    let has_time = is_price || matches!(step.view, ChartView::Coverage | ChartView::Days);
    let asked = [
        ("--with", step.with.is_some(), is_price || is_of_two),
        ("--beside", step.beside, is_price),
        ("--orders", step.orders.is_some(), step.view == ChartView::Trades),
        ("--ma", step.ma.is_some(), is_price),
        ("--style", step.style != BarStyle::default(), is_price),
        ("--ratio", step.ratio, is_price),
        ("--ranges", step.ranges, is_price),
        ("--plain", step.plain, is_price),
        ("--weight", step.weight.is_some(), is_price || step.view == ChartView::Costs),
        ("--from and --to", step.from.is_some() || step.to.is_some(), has_time),
    ];
    match asked.into_iter().find(|(_, is_asked, goes)| *is_asked && !goes) {
        Some((name, ..)) => Err(Error::arguments(format!("The view {} has no place for {name}.", step.view))),
        None => Ok(()),
    }
}

/// The second series of a view of two.
fn other(step: &ChartStep) -> Result<&SeriesName> {
    step.with.as_ref().ok_or_else(|| {
        Error::arguments(format!(
            "The view {} compares two series; name the other: --with SERIES.",
            step.view
        ))
    })
}

/// What is there of each source of an instrument, along one axis of time.
///
/// # Errors
/// Where nothing is there in the span.
pub fn coverage(shelf: &Shelf, info: &SeriesInfo, asked: Span) -> Result<CellGrid> {
    let mut all = shelf.series_of(&info.name.instrument)?;
    all.retain(|series| !series.edition.provenance.made.is_framed());
    let ends = |s: &SeriesInfo| Span::new(s.edition.first, s.edition.last + 1);
    let whole = all.iter().map(ends).reduce(|a, b| Span::new(a.from.min(b.from), a.to.max(b.to)));
    let whole = whole.and_then(|whole| whole.overlap(&asked)).ok_or_else(|| nothing(info))?;
    let count = COLUMNS.min((whole.length() / DAY).max(1));
    let begin = |column: i64| {
        whole.from + (whole.length() as i128 * i128::from(column) / i128::from(count)) as Micros
    };
    let mut rows = Vec::new();
    for series in &all {
        let coverage = Coverage::of(shelf, series)?;
        let cell = |column: i64| match coverage.share(Span::new(begin(column), begin(column + 1))) {
            share if share > 0.0 => GridCell::Shade(share.max(0.05)),
            _ => GridCell::Empty,
        };
        let afloat = if series.is_afloat() { ", as written" } else { "" };
        rows.push(GridRow {
            name: series.name.short(),
            told: format!("{} rows{afloat}", series.edition.rows),
            cells: (0..count).map(cell).collect(),
        });
    }
    let (mut heads, mut before) = (Vec::new(), None);
    for column in 0..count {
        let (year, month, _) = civil_from_days(day_of(begin(column)));
        let key = if whole.length() > 800 * DAY { (year, 0) } else { (year, month) };
        if before.replace(key).is_none_or(|b| b != key) {
            let name = if key.1 == 0 { year.to_string() } else { format!("{year}-{month:02}") };
            heads.push((column as usize, name));
        }
    }
    Ok(CellGrid {
        title: format!(
            "{}  {} … {}",
            info.name.instrument,
            date(day_of(whole.from)),
            date(day_of(whole.to - 1))
        ),
        told: format!("what is there of {} series", rows.len()),
        heads,
        rows,
        ends: Some(("few rows of a usual day".into(), "all".into())),
    })
}

/// How full each session day is: a row a month.
fn days(shelf: &Shelf, info: &SeriesInfo, span: Span, job: &Job) -> Result<CellGrid> {
    days_grid(info, &check::check_series(shelf, &info.name, span, job)?.1)
}

/// The same, of a series that was checked.
///
/// # Errors
/// Where no session day lies within its rows.
pub fn days_grid(info: &SeriesInfo, found: &CheckReport) -> Result<CellGrid> {
    let (Some(first), Some(last)) = (found.days.first(), found.days.last()) else {
        return Err(nothing(info));
    };
    let month_of = |day: i64| {
        let (year, month, _) = civil_from_days(day);
        year * 12 + month - 1
    };
    let (begin, shares) = (month_of(first.day), found.months());
    let mut rows: Vec<GridRow> = (begin..=month_of(last.day))
        .map(|month| month_row(month.div_euclid(12), month.rem_euclid(12) + 1, &shares))
        .collect();
    for day in &found.days {
        let (month, number) = (month_of(day.day) - begin, civil_from_days(day.day).2);
        rows[month as usize].cells[number as usize - 1] =
            if day.present == 0 { GridCell::Wrong } else { GridCell::Shade(day.share()) };
    }
    let empty = found.days.iter().filter(|day| day.present == 0).count();
    let days = counted(found.days.len() as u64, "day");
    Ok(CellGrid {
        title: format!("{}  how full each session day is", info.name),
        told: match found.coverage {
            Some(_) => format!("{days} of open market, {empty} without a row"),
            None => format!("{days} with rows; when the market is open is not known"),
        },
        heads: (0..31).map(|day| (day, (day + 1).to_string())).collect(),
        rows,
        ends: found.coverage.map(|_| ("few rows".into(), "all".into())),
    })
}

/// A month without days, with the share of its open time that has rows, where that is known.
fn month_row(year: i64, month: i64, shares: &[MonthCoverage]) -> GridRow {
    let told = shares
        .iter()
        .find(|m| (m.year, m.month) == (year, month) && m.expected > 0)
        .map_or_else(String::new, |m| {
            format!("{:.1} % of open time", m.present as f64 * 100.0 / m.expected as f64)
        });
    let cells = vec![GridCell::Empty; days_in_month(year, month) as usize];
    GridRow { name: format!("{year}-{month:02}"), told, cells }
}

/// The hours in which an instrument trades, by halves.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn week(shelf: &Shelf, info: &SeriesInfo) -> Result<CellGrid> {
    let instrument = shelf.instrument(&info.name.instrument)?;
    let week = &instrument.sheet.session.week;
    let open = open_quarters(week);
    let rows = open.chunks(96).zip(WEEKDAYS).map(|(day, name)| {
        let hours = day.iter().filter(|open| **open).count() as f64 / 4.0;
        let cell = |half: &[bool]| {
            if half.iter().any(|open| *open) { GridCell::Shade(1.0) } else { GridCell::Empty }
        };
        let told = if hours > 0.0 { format!("{hours} hours") } else { "closed".into() };
        GridRow { name: name.into(), told, cells: day.chunks(2).map(cell).collect() }
    });
    Ok(CellGrid {
        title: format!("{}  session week", instrument.name),
        told: format!("{week}, {}", instrument.standing("hours")),
        heads: (0..24).map(|hour| (hour * 2, format!("{hour:02}"))).collect(),
        rows: rows.collect(),
        ends: None,
    })
}

/// The usual spread of each hour of the week.
fn costs(shelf: &Shelf, step: &ChartStep, job: &Job) -> Result<CellGrid> {
    costs_grid(&cost_sheet(shelf, &step.series.to_string(), None, step.weight, job)?)
}

/// The same, of costs that were measured.
///
/// # Errors
/// Where no hour has a spread.
pub fn costs_grid(sheet: &CostSheet) -> Result<CellGrid> {
    let name = &sheet.instrument.name;
    let spreads = sheet.spreads.as_ref().ok_or_else(|| {
        Error::input(format!("No row of {name} knows its spread, so no hour has a cost to draw."))
    })?;
    let medians: Vec<Option<i64>> =
        spreads.profile.by_hour.iter().map(|hour| hour.map(|h| h.median)).collect();
    let known = || medians.iter().flatten().copied();
    let (Some(least), Some(most)) = (known().min(), known().max()) else {
        return Err(Error::input(format!("No hour of {name} has a spread.")));
    };
    // Few hours cost many times the others; shades go by ratio, so that these do not hide the rest.
    let share = |points: i64| {
        let (points, least, most) = (points.max(1) as f64, least.max(1) as f64, most.max(1) as f64);
        if most > least { (points / least).ln() / (most / least).ln() } else { 0.5 }
    };
    let points = |p: i64| scaled(p, spreads.decimals.saturating_sub(sheet.instrument.sheet.decimals));
    let rows = medians.chunks(24).zip(WEEKDAYS).map(|(day, name)| {
        let cell = |median: &Option<i64>| median.map_or(GridCell::Empty, |p| GridCell::Shade(share(p)));
        let told = match (day.iter().flatten().min(), day.iter().flatten().max()) {
            (Some(least), Some(most)) => format!("{} to {} points", points(*least), points(*most)),
            _ => String::new(),
        };
        GridRow { name: name.into(), told, cells: day.iter().map(cell).collect() }
    });
    let clock = if spreads.is_afloat { "as written".to_owned() } else { spreads.clock.to_string() };
    Ok(CellGrid {
        title: format!("{}  usual spread by hour of the week", spreads.series),
        told: format!("medians in points, on the clock {clock}"),
        heads: (0..24).map(|hour| (hour, format!("{hour:02}"))).collect(),
        rows: rows.collect(),
        ends: Some((format!("{} points", points(least)), points(most))),
    })
}

fn nothing(info: &SeriesInfo) -> Error {
    Error::input(format!("{} has nothing to draw in that span.", info.name))
}
