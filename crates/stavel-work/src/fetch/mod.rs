//! Doing a fetch step: what feeds have and the shelf lacks is fetched, piece by piece, and taken in.

mod facts;
mod feeds;
mod plan;
mod told;

use std::collections::BTreeSet;
use std::path::PathBuf;

use serde_json::{Value, json};

pub use facts::has_facts;
pub use feeds::{add_feed, feeds};
pub use plan::{FedSeries, PieceSight};
use plan::{FeedPlan, SeriesPlan, plan};
pub use told::{FeedSight, feeds_report, feeds_seen};

use crate::intake::intake_files;
use crate::report::StepReport;
use crate::step::{FetchStep, IntakeStep, Prefer};
use stavel_core::job::Job;
use stavel_core::model::time::wall;
use stavel_core::model::{Micros, SeriesName};
use stavel_core::store::{FeedPiece, PieceState, Shelf};
use stavel_core::{Error, Result};
use stavel_feed::client::{FetchOutcome, Fetched, QueuedPiece, Spool, fetch_all};

/// Pieces of a series that are taken in together: so many files lie in the spool at most.
const TOGETHER: usize = 200;

/// What became of the pieces of a series.
#[derive(Default)]
struct PieceTally {
    days: usize,
    rows: u64,
    empty: usize,
    unchanged: usize,
    /// Pieces that were left away on the way.
    left: usize,
    failed: Vec<(String, String)>,
}

/// Pieces that lie in the spool.
struct Waiting {
    label: String,
    path: PathBuf,
    etag: Option<String>,
    is_open: bool,
}

/// Fetches series from their feeds.
///
/// # Errors
/// Where a feed cannot be used and nothing was taken in. What was fetched stays in the spool, and is not fetched again.
pub fn fetch_series(shelf: &mut Shelf, step: &FetchStep, job: &Job) -> Result<StepReport> {
    if step.facts {
        return facts::fetch_facts(shelf, step, job);
    }
    if step.dry_run {
        return foretold_of(shelf, step, job);
    }
    job.begin("ask the feeds", 0);
    let plans = plan(shelf, step, now(), &|| job.advance(0).is_err())?;
    let mut report = StepReport::new(Value::Null, Vec::new());
    let (mut fetched, mut failed, mut empty, mut pieces, mut rows) = (Vec::new(), Vec::new(), 0, 0, 0);
    for of_feed in &plans {
        let tallies = match fetch_feed(shelf, of_feed, job, &mut report) {
            Ok(tallies) => tallies,
            // What was taken in before stays: the rest is fetched next time.
            Err(error) if !report.changed.is_empty() => of_feed
                .series
                .iter()
                .map(|_| PieceTally {
                    failed: vec![("all that follows".into(), error.to_string())],
                    ..PieceTally::default()
                })
                .collect(),
            Err(error) => return Err(error),
        };
        for (series, tally) in of_feed.series.iter().zip(tallies) {
            let name = &series.listed.name;
            report.lines.insert(fetched.len(), line_of(name, &tally, series.here));
            report.lines.extend(since_line(series));
            report.wants_person |= !tally.failed.is_empty();
            for (piece, why) in &tally.failed {
                report.lines.push(format!("  {name} {piece}: {why}; the next fetch asks for it again"));
                failed.push(json!({ "series": name, "piece": piece, "why": why }));
            }
            empty += tally.empty;
            pieces += tally.days;
            rows += tally.rows;
            fetched.push(json!({ "series": name, "days": tally.days, "rows": tally.rows }));
        }
    }
    if pieces == 0 && !failed.is_empty() {
        let told = failed[0]["why"].as_str().unwrap_or_default().to_owned();
        let told = told.trim_end_matches('.');
        return Err(Error::input(format!("Nothing could be fetched: {told}.")));
    }
    if fetched.len() > 1 {
        let failures = if failed.is_empty() { String::new() } else { format!(", {} failed", failed.len()) };
        let series = fetched.len();
        report.lines.insert(0, format!("{series} series: {pieces} pieces fetched, {rows} rows{failures}"));
    }
    report.json = json!({ "fetched": fetched, "failed": failed, "empty_days": empty });
    if job_is_stopped(job) {
        if report.changed.is_empty() {
            return Err(Error::cancelled());
        }
        report.wants_person = true;
        report
            .lines
            .insert(0, "stopped: what had come is here; the next fetch of what is new goes on".into());
    }
    Ok(report)
}

fn job_is_stopped(job: &Job) -> bool {
    job.advance(0).is_err()
}

/// The time now, UTC.
fn now() -> Micros {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.map_or(0, |since| since.as_micros() as Micros)
}

/// A series while its pieces come.
struct Coming<'p> {
    plan: &'p SeriesPlan,
    /// The labels of the pieces that have not come yet.
    left: BTreeSet<String>,
    waiting: Vec<Waiting>,
    noted: Vec<(String, FeedPiece)>,
    tally: PieceTally,
}

/// Fetches the pieces of all series of a feed one after the other; while a series is taken in, those of the next come.
fn fetch_feed(
    shelf: &mut Shelf,
    of_feed: &FeedPlan,
    job: &Job,
    report: &mut StepReport,
) -> Result<Vec<PieceTally>> {
    let mut all: Vec<Coming<'_>> = of_feed.series.iter().map(Coming::of).collect();
    let queue: Vec<QueuedPiece> = of_feed.series.iter().flat_map(|series| series.queue.clone()).collect();
    let (total, mut come) = (queue.len() as u64, 0);
    if queue.is_empty() {
        return Ok(all.into_iter().map(|coming| coming.tally).collect());
    }
    let (spool, title) = (feeds::spool_of(shelf), format!("fetch from {}", of_feed.feed.name));
    job.begin(&title, total);
    let mut done = |told: FetchOutcome| -> Result<()> {
        come += 1;
        let Some(coming) = all.iter_mut().find(|c| c.plan.listed.name == told.queued.series) else {
            return Ok(());
        };
        coming.take(told);
        if coming.waiting.len() >= TOGETHER || coming.left.is_empty() {
            take_in(shelf, of_feed, coming, job, report)?;
            // Taking in has told of its own progress.
            job.begin(&title, total);
            job.advance(come - 1)?;
        }
        Ok(())
    };
    let outcome = fetch_all(&of_feed.service, queue, &spool, job, &mut done);
    // Who stops it wants no more of it, and keeps what has come.
    let is_stopped = job_is_stopped(job);
    let unwatched = Job::unwatched();
    let outcome =
        if is_stopped && outcome.as_ref().is_err_and(Error::is_cancelled) { Ok(()) } else { outcome };
    for coming in &mut all {
        // What has come is taken in, also where the rest does not come.
        take_in(shelf, of_feed, coming, if is_stopped { &unwatched } else { job }, report)?;
        if outcome.is_ok() {
            // The person did not want the rest of it.
            coming.tally.left = coming.left.len();
        }
        if outcome.is_ok() || coming.tally.days > 0 {
            coming.note_what_is_left();
        }
        if !coming.noted.is_empty() {
            shelf.note_feed_pieces(&coming.plan.listed.name, &coming.noted)?;
        }
    }
    if let Err(error) = outcome {
        let has_some = all.iter().any(|coming| coming.tally.days > 0);
        let Some(unfinished) = all.iter_mut().find(|coming| !coming.left.is_empty()).filter(|_| has_some)
        else {
            return Err(error);
        };
        unfinished.tally.failed.push(("all that follows".into(), error.to_string()));
    }
    Ok(all.into_iter().map(|coming| coming.tally).collect())
}

impl<'p> Coming<'p> {
    fn of(plan: &'p SeriesPlan) -> Coming<'p> {
        let (waiting, noted) = (Vec::new(), Vec::new());
        let left = plan.queue.iter().map(|queued| queued.piece.label.clone()).collect();
        Coming { plan, left, waiting, noted, tally: PieceTally::default() }
    }

    /// Takes note of what became of a piece.
    fn take(&mut self, told: FetchOutcome) {
        let FetchOutcome { queued, outcome } = told;
        let (label, end) = (queued.piece.label.clone(), self.plan.end);
        let note = |state| FeedPiece { state, edition: 0, etag: queued.etag.clone(), asked: end };
        let is_open = queued.piece.span.to > end;
        self.left.remove(&label);
        match outcome {
            Ok(Fetched::There { path, etag, .. }) => {
                self.waiting.push(Waiting { label, path, etag, is_open });
            }
            Ok(Fetched::Empty) => {
                self.tally.empty += 1;
                self.noted.push((label, note(PieceState::Empty)));
            }
            Ok(Fetched::Unchanged) => {
                self.tally.unchanged += 1;
                let state = if is_open { PieceState::Open } else { PieceState::Whole };
                self.noted.push((label, FeedPiece { edition: self.plan.edition, ..note(state) }));
            }
            Err(why) => {
                self.noted.push((label.clone(), note(PieceState::Failed)));
                self.tally.failed.push((label, why));
            }
        }
    }

    /// Notes the pieces that did not come, so that later ones do not hide them from a fetch of what is new.
    fn note_what_is_left(&mut self) {
        let (asked, etag) = (self.plan.end, None);
        let failed = FeedPiece { state: PieceState::Failed, edition: 0, etag, asked };
        self.noted.extend(self.left.iter().map(|label| (label.clone(), failed.clone())));
    }
}

/// Takes the pieces that wait in, notes them, and clears them away.
fn take_in(
    shelf: &mut Shelf,
    of_feed: &FeedPlan,
    coming: &mut Coming<'_>,
    job: &Job,
    report: &mut StepReport,
) -> Result<()> {
    let Coming { plan: series, waiting, tally, .. } = coming;
    if waiting.is_empty() {
        return Ok(());
    }
    waiting.sort_by(|a, b| a.label.cmp(&b.label));
    let name = &series.listed.name;
    let (taken, left) = match intake_files(shelf, &intake_of(shelf, of_feed, series, waiting)?, job) {
        Ok(told) => {
            let left = told.json["left"].as_array().cloned().unwrap_or_default();
            (told, left)
        }
        // What has to be said is no fault of the files: they wait for it.
        Err(error) if error.is_undecided() => {
            return Err(Error::undecided(format!(
                "{error} Of a feed this is said in its text, by a key of [[series]]: stavel feeds --add FILE says {} anew.",
                of_feed.feed.name
            )));
        }
        // Nor is it theirs that the person stopped it, or that the disk is full.
        Err(error) if error.is_cancelled() || error.is_storage() => return Err(error),
        Err(error) => {
            // Files that cannot be understood are fetched anew next time.
            waiting.drain(..).for_each(|piece| Spool::forget(&piece.path));
            return Err(error);
        }
    };
    let rows: u64 =
        taken.json["series"].as_array().into_iter().flatten().filter_map(|s| s["rows_kept"].as_u64()).sum();
    tally.rows += rows;
    report.changed.extend(
        taken.changed.iter().filter(|s| !report.changed.contains(s)).cloned().collect::<Vec<SeriesName>>(),
    );
    report.wants_person |= taken.wants_person;
    let is_odd = |line: &&String| {
        line.contains("rejected:")
            || line.contains("gave way")
            || line.contains("rejected rows")
            || line.starts_with("passed over")
    };
    report.lines.extend(taken.lines.iter().filter(is_odd).cloned());
    for decision in taken.assumed {
        if !report.assumed.iter().any(|d| d.what == decision.what && d.value == decision.value) {
            report.assumed.push(decision);
        }
    }
    let (mut noted, mut done) = (Vec::new(), Vec::new());
    let edition = shelf.current(name)?.map_or(0, |info| info.edition.id);
    for piece in waiting.drain(..) {
        let why = left
            .iter()
            .find(|l| l["path"].as_str().is_some_and(|p| p.contains(&*piece.path.to_string_lossy())));
        if let Some(why) = why {
            tally.failed.push((piece.label, why["reason"].as_str().unwrap_or_default().to_owned()));
        } else {
            tally.days += 1;
            let state = if piece.is_open { PieceState::Open } else { PieceState::Whole };
            noted.push((piece.label, FeedPiece { state, edition, etag: piece.etag, asked: series.end }));
        }
        done.push(piece.path);
    }
    shelf.note_feed_pieces(name, &noted)?;
    // Only what is noted may go: whatever ends the program before, the piece lies there still.
    done.iter().for_each(|path| Spool::forget(path));
    Ok(())
}

/// How the pieces are taken in: as the feed says, and what it does not say as intake finds it.
fn intake_of(
    shelf: &Shelf,
    of_feed: &FeedPlan,
    series: &SeriesPlan,
    waiting: &[Waiting],
) -> Result<IntakeStep> {
    let (name, kind, feed) = (&series.listed.name, &series.listed.kind, &of_feed.feed);
    // Where align has found the clock since, that is the one.
    let anchored = shelf.current(name)?.filter(|info| !info.is_afloat()).and_then(|info| info.edition.clock);
    let clock = match feed.clock.as_deref() {
        Some("afloat") => Some(anchored.map_or_else(|| "afloat".to_owned(), |clock| clock.to_string())),
        said => said.map(str::to_owned),
    };
    Ok(IntakeStep {
        paths: waiting.iter().map(|piece| piece.path.clone()).collect(),
        source: feed.name.clone(),
        instrument: Some(name.instrument.clone()),
        clock,
        frame: Some(name.frame),
        side: kind.side.map(|side| side.word().to_owned()),
        dates: kind.dates,
        stamp: kind.stamp,
        layout: kind.layout.clone(),
        // The last bar of a piece that was not finished is another one by now.
        prefer: Prefer::New,
        replace: of_feed.again,
        ..IntakeStep::default()
    })
}

fn line_of(name: &SeriesName, tally: &PieceTally, here: usize) -> String {
    if tally.days + tally.empty + tally.unchanged + tally.failed.len() + tally.left == 0 {
        return format!("{name}: nothing new; {here} pieces are here");
    }
    let mut words = vec![format!("{} pieces fetched, {} rows", tally.days, tally.rows)];
    let more = [
        (tally.empty, "of which the feed has nothing"),
        (tally.unchanged, "as they were"),
        (tally.failed.len(), "failed"),
        (tally.left, "left away"),
        (here, "here already"),
    ];
    words.extend(more.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")));
    format!("{name}: {}", words.join(", "))
}

/// What was asked for and cannot be had.
fn since_line(series: &SeriesPlan) -> Option<String> {
    if let Some(until) = series.until {
        return Some(format!("  {}: the feed has it until {}", series.listed.name, wall(until)));
    }
    let since = series.since?;
    Some(format!(
        "  {}: the feed has it since {}; what lies before cannot be had there",
        series.listed.name,
        wall(since)
    ))
}

/// What would be fetched, and how long it would take at the pace the feed permits.
///
/// # Errors
/// Where a feed cannot be asked.
pub fn foretold_of(shelf: &Shelf, step: &FetchStep, job: &Job) -> Result<StepReport> {
    job.begin("ask the feeds", 0);
    let plans = plan(shelf, step, now(), &|| job.advance(0).is_err())?;
    let mut report = StepReport::new(Value::Null, Vec::new());
    let mut list = Vec::new();
    for of_feed in &plans {
        for series in &of_feed.series {
            let (name, pieces) = (&series.listed.name, series.queue.len());
            let seconds = (pieces as f64 / of_feed.feed.limits.per_second).ceil();
            let mut line =
                format!("{name}: {pieces} pieces to fetch, at least {seconds:.0} s; {} here", series.here);
            if let (Some(first), Some(last)) = (series.queue.first(), series.queue.last()) {
                line += &format!(" ({} … {})", first.piece.label, last.piece.label);
            }
            report.lines.push(line);
            report.lines.extend(since_line(series));
            list.push(json!({ "series": name, "pieces": pieces, "here": series.here, "seconds": seconds }));
        }
    }
    report.json = json!({ "would_fetch": list });
    Ok(report)
}
