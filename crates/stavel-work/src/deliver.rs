//! Doing a deliver step.

use serde_json::json;

use crate::intake::layout_named;
use crate::report::StepReport;
use crate::span::span_between;
use crate::step::DeliverStep;
use stavel_core::deliver::{self, DeliveryOrder, FileFormat};
use stavel_core::job::Job;
use stavel_core::model::{Clock, SeriesName};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// Writes each series to a file and proves it.
///
/// # Errors
/// Where a series is stale and nobody said that this is meant: nothing is delivered then.
pub fn deliver_all(shelf: &Shelf, step: &DeliverStep, job: &Job) -> Result<StepReport> {
    if step.series.len() > 1 && !step.out.is_dir() && !step.out.to_string_lossy().ends_with('/') {
        return Err(Error::arguments(format!(
            "{} series need a folder to go to; write --out DIR/.",
            step.series.len()
        )));
    }
    if !step.stale_ok {
        step.series.iter().try_for_each(|series| refuse_stale(shelf, series))?;
    }
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let layout = step.layout.as_deref().map(|name| layout_named(shelf, name)).transpose()?;
    if layout.is_some() && step.format != FileFormat::Csv {
        return Err(Error::arguments("A layout says how lines of text are written; leave --format away."));
    }
    let mut report = StepReport::new(json!({}), Vec::new());
    let mut json = Vec::new();
    for series in &step.series {
        let clock = step.clock.clone().unwrap_or_else(Clock::utc);
        let order = DeliveryOrder {
            series: series.clone(),
            format: step.format,
            layout: layout.clone(),
            clock,
            span,
            last: step.last,
            origin: step.origin,
            details: step.details,
            complete_only: step.complete_only,
        };
        let series = &order.series;
        let done = deliver::deliver(shelf, &order, &step.out, job)?;
        let stale = !shelf.staleness(&shelf.find(series)?.edition)?.is_empty();
        let mut told = json!({
            "path": done.path, "series": series, "rows": done.rows, "bytes": done.bytes, "sha256": done.sha256,
            "proved": done.proved,
        });
        if stale {
            told["stale"] = json!(true);
        }
        for (key, is_partial) in [("partial_first", done.partial_first), ("partial_last", done.partial_last)]
        {
            if is_partial {
                told[key] = json!(true);
            }
        }
        json.push(told);
        let proof = match done.proved {
            true => "read back, equal",
            false => "READ BACK, NOT EQUAL: it is kept under this name, and what was there before stays",
        };
        let note = if stale { "; its sources have changed since (stale)" } else { "" };
        let partial = match (done.partial_first, done.partial_last) {
            (false, false) => "",
            (true, false) => "; the first bar is partial",
            (false, true) => "; the last bar is partial",
            (true, true) => "; the first and the last bar are partial",
        };
        let line = format!(
            "{}: {} rows, {} bytes, {proof}{partial}{note}",
            done.path.display(),
            done.rows,
            done.bytes
        );
        report.lines.push(line);
        report.wants_person |= !done.proved;
        report.files.push(done.path);
    }
    report.json = json!({ "files": json });
    Ok(report)
}

fn refuse_stale(shelf: &Shelf, series: &SeriesName) -> Result<()> {
    let changes = shelf.staleness(&shelf.find(series)?.edition)?;
    if changes.is_empty() {
        return Ok(());
    }
    let words: Vec<String> = changes.iter().map(ToString::to_string).collect();
    Err(Error::undecided(format!(
        "{series} is stale: {}. Nothing was delivered; build it again, or say --stale-ok to deliver it as it is.",
        words.join(", ")
    )))
}
