//! What stands beside the rows of a page or a workbook: the chart, the sheet and costs, statistics, where they come from.

use stavel_core::Result;
use stavel_core::deliver::{Beside, DeliveryOrder, FileFormat, SideTable, TableCell};
use stavel_core::job::Job;
use stavel_core::model::price::scaled;
use stavel_core::model::time::{rfc3339, wall};
use stavel_core::model::{Field, present};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_draw::{SceneRequest, scene, to_svg};

use crate::assumptions::of_rows;
use crate::chart_bars::{ChartBars, ChartRoom, ChartSource, bars_for_chart};
use crate::costs::{cost_sheet, costs_tables};

/// Bars of the chart of a page.
const BARS: usize = 600;

/// Works out what a format has room for.
///
/// # Errors
/// Where the series cannot be read.
pub fn beside(shelf: &Shelf, order: &DeliveryOrder, job: &Job) -> Result<Beside> {
    if !matches!(order.format, FileFormat::Html | FileFormat::Xlsx) {
        return Ok(Beside::default());
    }
    let info = shelf.find(&order.series)?;
    if info.is_afloat() {
        // It is refused, with the reason, when it is looked through.
        return Ok(Beside::default());
    }
    let chart = match order.format {
        FileFormat::Html => chart_of(shelf, &info, order, job)?,
        _ => None,
    };
    let mut tables = costs_tables(&cost_sheet(shelf, &order.series.instrument, None, None, job)?);
    tables.push(statistics(shelf, &info, order)?);
    tables.push(provenance(shelf, &info)?);
    Ok(Beside { chart, tables })
}

fn chart_of(shelf: &Shelf, info: &SeriesInfo, order: &DeliveryOrder, job: &Job) -> Result<Option<String>> {
    if info.name.frame.is_counted() {
        return Ok(None);
    }
    let mut span = order.span;
    if let Some(last) = order.last {
        // Which rows are the last ones is known only when they are read; their bars end where the series does.
        let rows = shelf.reader(&info.edition)?.count(span)?;
        let share = last as f64 / rows.max(1) as f64;
        let (first, end) = (info.edition.first.max(span.from), info.edition.last.min(span.to));
        span.from = first.max(end - ((end - first) as f64 * share.min(1.0)) as i64);
    }
    let ChartBars { bars, .. } =
        bars_for_chart(shelf, ChartSource::rows(info), span, ChartRoom::AtMost(BARS), 0, job)?;
    if bars.is_empty() {
        return Ok(None);
    }
    let request = SceneRequest { title: order.series.to_string(), ..SceneRequest::of(&bars, &order.clock) };
    to_svg(&scene(&request)).map(Some)
}

fn pair(what: &str, value: impl Into<TableCell>) -> Vec<TableCell> {
    vec![what.into(), value.into()]
}

/// Rows, ends, the highest and the lowest price, volume.
fn statistics(shelf: &Shelf, info: &SeriesInfo, order: &DeliveryOrder) -> Result<SideTable> {
    let edition = &info.edition;
    let prices: Vec<Field> = edition.fields.iter().copied().filter(|f| f.is_price()).collect();
    let mut fields = prices.clone();
    fields.extend(edition.fields.iter().filter(|f| **f == Field::Volume));
    let (mut rows, mut ends): (u64, Option<(i64, i64)>) = (0, None);
    let (mut high, mut low, mut volume): (Option<i64>, Option<i64>, Option<i128>) = (None, None, None);
    for piece in shelf.scan(edition, order.span, Some(&fields))? {
        let piece = piece?;
        rows += piece.len() as u64;
        if let Some((first, last)) = piece.ends() {
            ends = Some(ends.map_or((first, last), |e| (e.0, last)));
        }
        for (field, column) in piece.fields.iter().zip(&piece.data) {
            for value in column.iter().copied().filter_map(present) {
                if field.is_volume() {
                    volume = Some(volume.unwrap_or_default() + i128::from(value));
                } else if *field != Field::AdjustedClose {
                    high = Some(high.map_or(value, |h| h.max(value)));
                    low = Some(low.map_or(value, |l| l.min(value)));
                }
            }
        }
    }
    let mut out = vec![pair("rows in the span", TableCell::Number(rows as f64))];
    if let Some((first, last)) = ends {
        out.push(pair("first, UTC", wall(first)));
        out.push(pair("last, UTC", wall(last)));
    }
    out.extend(high.map(|high| pair("highest price", scaled(high, edition.scale.price))));
    out.extend(low.map(|low| pair("lowest price", scaled(low, edition.scale.price))));
    let unit = 10f64.powi(i32::from(edition.scale.volume));
    out.extend(volume.map(|volume| pair("volume", TableCell::Number(volume as f64 / unit))));
    Ok(SideTable { name: "statistics".into(), columns: vec!["what".into(), "value".into()], rows: out })
}

fn provenance(shelf: &Shelf, info: &SeriesInfo) -> Result<SideTable> {
    let edition = &info.edition;
    let clock = edition.clock.as_ref().map_or("not known".to_owned(), ToString::to_string);
    let mut rows = vec![
        pair("series", info.name.to_string()),
        pair("edition", TableCell::Number(edition.number as f64)),
        pair("made", rfc3339(edition.made)),
        pair("made by", edition.provenance.made.act().to_owned()),
        pair("clock its times were written in", clock),
    ];
    rows.extend(edition.provenance.parents().map(|(_, series)| pair("made from", series.to_string())));
    rows.extend(
        of_rows(shelf, &info.name)?
            .iter()
            .map(|d| pair("assumed", format!("{} {} ({})", d.what, d.value, d.why))),
    );
    Ok(SideTable { name: "provenance".into(), columns: vec!["what".into(), "value".into()], rows })
}
