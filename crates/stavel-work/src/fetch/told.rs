//! What feeds have, and what of it is here.

use serde_json::{Value, json};

use super::feeds::feeds;
use super::plan::FedSeries;
use crate::report::StepReport;
use stavel_core::Result;
use stavel_core::job::Job;
use stavel_core::model::time::{rfc3339, wall};
use stavel_core::model::{Clock, Micros};
use stavel_core::store::Shelf;
use stavel_feed::client::{Feed, Service, listing};

/// Labels that a line names at most.
const SHOWN: usize = 6;

/// A feed with its series, or why it could not be asked.
#[derive(Debug, Clone)]
pub struct FeedSight {
    pub feed: Feed,
    pub series: std::result::Result<Vec<FedSeries>, String>,
}

/// The feeds of a shelf with what each has, as they say it now. One that cannot be asked is told, and the others are asked
/// all the same.
///
/// # Errors
/// Where the shelf cannot be read.
pub fn feeds_seen(shelf: &Shelf, job: &Job) -> Result<Vec<FeedSight>> {
    let mut all = Vec::new();
    for feed in feeds(shelf)? {
        job.begin(format!("ask {}", feed.name), 0);
        let series = seen(shelf, &feed, job).map_err(|error| error.to_string());
        all.push(FeedSight { feed, series });
    }
    Ok(all)
}

fn seen(shelf: &Shelf, feed: &Feed, job: &Job) -> Result<Vec<FedSeries>> {
    let listed = listing(&Service::of(feed)?, &|| job.advance(0).is_err())?;
    listed.iter().flat_map(|one| &one.series).map(|listed| FedSeries::of(shelf, feed, listed)).collect()
}

/// The same in lines and as a document.
///
/// # Errors
/// As [`feeds_seen`].
pub fn feeds_report(shelf: &Shelf, job: &Job) -> Result<StepReport> {
    let mut report = StepReport::new(Value::Null, Vec::new());
    let mut all = Vec::new();
    for FeedSight { feed, series } in feeds_seen(shelf, job)? {
        let mut told = json!({ "name": feed.name, "address": feed.address, "instruments": [] });
        match series {
            Ok(series) => {
                let clock = feed.clock.as_deref().unwrap_or("afloat");
                report.lines.push(format!("{}  {}  clock {clock}", feed.name, feed.address));
                report.lines.extend(series.iter().map(line_of));
                told["instruments"] = instruments(&series);
            }
            Err(why) => {
                report.wants_person = true;
                report.lines.push(format!("{}: {why}", feed.name));
                told["error"] = json!(why);
            }
        }
        all.push(told);
    }
    if all.is_empty() {
        report.lines.push("the shelf knows no feed; stavel feeds --add FILE adds one".into());
    }
    report.json = json!({ "feeds": all });
    Ok(report)
}

fn line_of(series: &FedSeries) -> String {
    let listed = &series.listed;
    let labels = series.due();
    let span = match (listed.first, listed.last) {
        (Some(first), Some(last)) => format!("{} … {}", wall(first), wall(last)),
        _ => "it does not say since when".into(),
    };
    let lacks = match labels.as_slice() {
        [] => "all of it is here".to_owned(),
        labels if labels.len() <= SHOWN => format!("to fetch: {}", labels.join(" ")),
        labels => format!("to fetch: {} pieces, {} … {}", labels.len(), labels[0], labels[labels.len() - 1]),
    };
    let clock = if series.is_afloat { ", as it is written" } else { "" };
    let until =
        series.here_last.map_or("nothing here".to_owned(), |t| format!("here until {}{clock}", wall(t)));
    format!("  {:<22} {span}   {until}; {lacks}", listed.name.to_string())
}

/// A moment on the wall of the feed, UTC where its clock is known, else as it is written, without a zone.
fn moment(wall: Micros, clock: Option<&Clock>) -> String {
    match clock {
        Some(clock) => rfc3339(clock.from_wall(wall).settle()),
        None => rfc3339(wall).trim_end_matches('Z').to_owned(),
    }
}

/// The series by instrument, in the order of the feed.
fn instruments(all: &[FedSeries]) -> Value {
    let of_one = |a: &FedSeries, b: &FedSeries| a.listed.name.instrument == b.listed.name.instrument;
    let entry = |series: &FedSeries| {
        let listed = &series.listed;
        let of_feed = |wall: Option<Micros>| wall.map(|t| moment(t, series.clock.as_ref()));
        let utc = Clock::utc();
        let here = series.here_last.map(|t| moment(t, Some(&utc).filter(|_| !series.is_afloat)));
        json!({
            "series": listed.name, "frame": listed.name.frame, "first": of_feed(listed.first),
            "last": of_feed(listed.last), "here_last": here, "missing_days": series.due(),
        })
    };
    all.chunk_by(of_one)
        .map(|series| {
            let entries: Vec<Value> = series.iter().map(entry).collect();
            json!({ "name": series[0].listed.name.instrument, "series": entries })
        })
        .collect()
}
