//! What feeds have, and what of it is here.

use serde_json::{Value, json};

use super::feeds::feeds;
use super::plan::missing_of;
use crate::report::StepReport;
use stavel_core::Result;
use stavel_core::job::Job;
use stavel_core::model::time::{rfc3339, wall};
use stavel_core::store::Shelf;
use stavel_feed::client::{Feed, Service, listing};

/// Labels that a line names at each end.
const SHOWN: usize = 3;

/// The feeds of a shelf with their instruments, and what of each series is here. A feed that cannot be asked is told,
/// and the others are asked all the same.
///
/// # Errors
/// Where the shelf cannot be read.
pub fn feeds_report(shelf: &Shelf, job: &Job) -> Result<StepReport> {
    let mut report = StepReport::new(Value::Null, Vec::new());
    let mut all = Vec::new();
    for feed in feeds(shelf)? {
        let told = match told(shelf, &feed, job, &mut report) {
            Ok(told) => told,
            Err(error) => {
                report.wants_person = true;
                report.lines.push(format!("{}: {error}", feed.name));
                json!({ "name": feed.name, "error": error.to_string(), "instruments": [] })
            }
        };
        all.push(told);
    }
    if all.is_empty() {
        report.lines.push("the shelf knows no feed; stavel feeds --add FILE adds one".into());
    }
    report.json = json!({ "feeds": all });
    Ok(report)
}

fn told(shelf: &Shelf, feed: &Feed, job: &Job, report: &mut StepReport) -> Result<Value> {
    job.begin(format!("ask {}", feed.name), 0);
    let service = Service::of(feed)?;
    let listed = listing(&service, &|| job.advance(0).is_err())?;
    report.lines.push(format!("{}  {}", feed.name, feed.address));
    let mut instruments = Vec::new();
    for one in listed {
        let mut series = Vec::new();
        for listed in &one.series {
            let (missing, here) = missing_of(shelf, feed, listed)?;
            let labels: Vec<&str> = missing.iter().map(|piece| piece.label.as_str()).collect();
            let span = match (listed.first, listed.last) {
                (Some(first), Some(last)) => format!("{} … {}", wall(first), wall(last)),
                _ => "it does not say since when".into(),
            };
            let lacks = match labels.as_slice() {
                [] => "all of it is here".to_owned(),
                labels if labels.len() <= 2 * SHOWN => format!("to fetch: {}", labels.join(" ")),
                labels => {
                    format!("to fetch: {} pieces, {} … {}", labels.len(), labels[0], labels[labels.len() - 1])
                }
            };
            let until = here.map_or("nothing here".to_owned(), |t| format!("here until {}", wall(t)));
            report.lines.push(format!("  {:<22} {span}   {until}; {lacks}", listed.name.to_string()));
            series.push(json!({
                "series": listed.name, "frame": listed.name.frame, "first": listed.first.map(rfc3339),
                "last": listed.last.map(rfc3339), "here_last": here.map(rfc3339), "missing_days": labels,
            }));
        }
        instruments.push(json!({ "name": one.name, "series": series }));
    }
    Ok(json!({ "name": feed.name, "address": feed.address, "instruments": instruments }))
}
