//! What feeds say beside histories: calendars, and the specs and costs of instruments.

use serde_json::{Value, json};
use stavel_core::Result;
use stavel_core::job::Job;
use stavel_core::model::Micros;
use stavel_core::model::time::{HOUR, civil_from_days, day_of};
use stavel_core::store::{FeedPiece, PieceState, Shelf};
use stavel_feed::client::{Feed, FetchedText, Service, fetch_specs, fetch_text, listing};

use super::feeds::feeds;
use super::now;
use crate::dates::{DatesTaken, DatesWish, bring_dates, bring_specs, entries_of, zone_of};
use crate::report::{StepReport, counted};
use crate::step::FetchStep;

/// Years after its end, by the last row on the shelf, for which a calendar is asked for again: what was put off or became
/// known late is in it then.
const LATE_YEARS: i64 = 1;

/// How long a document counts as asked for, where only what is new is wanted.
const FRESH: Micros = HOUR;

/// True where a feed says anything but histories.
pub fn has_facts(feed: &Feed) -> bool {
    !feed.dates.is_empty() || feed.specs.is_some()
}

/// Asks the feeds for calendars and specs, and brings what is new onto the shelf. Calendars are taken as a whole; specs are
/// those of instruments on the shelf, or of those the step names.
///
/// # Errors
/// Where no feed has any, or the person stops it. A feed that cannot be asked is told, and the others are asked all the same.
pub fn fetch_facts(shelf: &mut Shelf, step: &FetchStep, job: &Job) -> Result<StepReport> {
    let all: Vec<Feed> = feeds(shelf)?.into_iter().filter(has_facts).collect();
    let mut report = StepReport::new(Value::Null, Vec::new());
    let (mut told, mut failed) = (Vec::new(), Vec::new());
    let mut asked = 0;
    for feed in &all {
        job.begin(
            format!("ask {}", feed.name),
            (feed.dates.len() + usize::from(feed.specs.is_some())) as u64,
        );
        match of_feed(shelf, feed, step, job, &mut report) {
            Ok((facts, documents)) => {
                asked += documents;
                told.extend(facts);
            }
            Err(why) if why.is_cancelled() || why.is_storage() => return Err(why),
            Err(why) => {
                report.wants_person = true;
                report.lines.push(format!("✗ {}: {why}", feed.name));
                failed.push(json!({ "feed": feed.name, "why": why.to_string() }));
            }
        }
    }
    if all.is_empty() {
        return Err(stavel_core::Error::input(
            "No feed of the shelf says anything of dates or specs; see [[dates]] and [specs] in docs/feeds.md.",
        ));
    }
    let sum = |key: &str| -> u64 { told.iter().filter_map(|fact: &Value| fact[key].as_u64()).sum() };
    let first = match report.lines.is_empty() {
        true => format!("nothing new in {}", counted(asked, "document")),
        false => format!("{} new, {} changed", counted(sum("added"), "dated fact"), sum("changed")),
    };
    // The first line is the one that is seen on the bench.
    let doubt = report.lines.iter().find_map(|line| Some(line.split_once('▲')?.1.trim().to_owned()));
    let doubts = report.lines.iter().filter(|line| line.contains('▲')).count();
    let more = if doubts > 1 { format!(" (and {} more)", doubts - 1) } else { String::new() };
    report.lines.insert(0, doubt.map_or(first.clone(), |doubt| format!("{first}; {doubt}{more}")));
    report.json = json!({ "facts": told, "failed": failed, "documents": asked });
    Ok(report)
}

/// What one feed says; the documents that were asked for.
fn of_feed(
    shelf: &mut Shelf,
    feed: &Feed,
    step: &FetchStep,
    job: &Job,
    report: &mut StepReport,
) -> Result<(Vec<Value>, u64)> {
    let service = Service::of(feed)?;
    let mut asked = 0;
    let mut taken = DatesTaken::default();
    // What came is told also where the rest does not come.
    let outcome = ask_dates(shelf, (feed, &service), step.new, job, (&mut taken, &mut asked));
    if !taken.is_nothing_new() || !taken.rejected.is_empty() {
        taken.tell(report);
    }
    outcome?;
    ask_specs(shelf, (feed, &service), step, job, &mut asked, report)?;
    Ok((taken.json(), asked))
}

fn ask_dates(
    shelf: &mut Shelf,
    (feed, service): (&Feed, &Service),
    is_new: bool,
    job: &Job,
    (taken, asked): (&mut DatesTaken, &mut u64),
) -> Result<()> {
    let is_cancelled = || job.advance(0).is_err();
    let known = shelf.feed_documents(&feed.name)?;
    let years = years_that_matter(shelf)?;
    let this_year = *years.end() - 1;
    let clock = feed.known_clock()?;
    for dates in &feed.dates {
        for (path, year) in dates.paths(years.clone()) {
            let before = known.get(&path);
            let is_settled = year.is_some_and(|year| year + LATE_YEARS < this_year);
            let is_fresh = is_new && before.is_some_and(is_fresh);
            if is_fresh || is_settled && before.is_some_and(|b| b.state == PieceState::Whole) {
                continue;
            }
            *asked += 1;
            let etag = before.and_then(|before| before.etag.as_deref());
            let state = if is_settled { PieceState::Whole } else { PieceState::Open };
            let note = |etag| FeedPiece { state, edition: 0, etag, asked: now() };
            let (text, etag) = match fetch_text(service, &path, etag, &is_cancelled)? {
                FetchedText::There { text, etag } => (text, etag),
                FetchedText::Unchanged | FetchedText::Missing => {
                    let etag = before.and_then(|before| before.etag.clone());
                    shelf.note_feed_documents(&feed.name, &[(path, note(etag))])?;
                    continue;
                }
            };
            let place = format!("{} of the feed {}", path, feed.name);
            let wish =
                DatesWish { dates, source: &feed.name, about: None, clock: clock.as_ref(), place: &place };
            let read = entries_of(&text, &wish, &|about| zone_of(shelf, about))?;
            bring_dates(shelf, read, taken)?;
            shelf.note_feed_documents(&feed.name, &[(path, note(etag))])?;
        }
        job.advance(1)?;
    }
    Ok(())
}

/// True for a document that was asked for a short time ago.
fn is_fresh(document: &FeedPiece) -> bool {
    (0..FRESH).contains(&(now() - document.asked))
}

/// The years from the first row on the shelf to the one after the last: what is to come is worth knowing. An empty shelf
/// has this year.
fn years_that_matter(shelf: &Shelf) -> Result<std::ops::RangeInclusive<i64>> {
    let series = shelf.series()?;
    let year_of = |t: Micros| civil_from_days(day_of(t)).0;
    let this_year = year_of(now());
    let first = series.iter().map(|info| year_of(info.edition.first)).min().unwrap_or(this_year);
    // Rows of a damaged clock are no reason to ask for centuries.
    let last = series.iter().map(|info| year_of(info.edition.last)).max().unwrap_or(this_year).min(this_year);
    Ok(first.max(last - 60).min(last)..=last + 1)
}

fn ask_specs(
    shelf: &mut Shelf,
    (feed, service): (&Feed, &Service),
    step: &FetchStep,
    job: &Job,
    asked: &mut u64,
    report: &mut StepReport,
) -> Result<()> {
    if feed.specs.is_none() {
        return Ok(());
    }
    let is_cancelled = || job.advance(0).is_err();
    // Whoever comes to the shelf meanwhile is asked for at once.
    let names: Vec<String> = shelf.instruments()?.into_iter().map(|instrument| instrument.name).collect();
    let label = format!("specs of {}", names.join(" "));
    if step.new && shelf.feed_documents(&feed.name)?.get(&label).is_some_and(is_fresh) {
        return Ok(());
    }
    for listed in listing(service, &is_cancelled)? {
        let is_named = step.series.iter().any(|pattern| pattern.names_instrument(&listed.name));
        let is_here = shelf.has_instrument(&listed.name)?;
        if !is_here || !step.series.is_empty() && !is_named {
            continue;
        }
        *asked += 1;
        let told = fetch_specs(service, &listed.symbol, &is_cancelled)?;
        bring_specs(shelf, &listed.name, &feed.name, &told, now(), report)?;
    }
    let asked = FeedPiece { state: PieceState::Open, edition: 0, etag: None, asked: now() };
    shelf.note_feed_documents(&feed.name, &[(label, asked)])?;
    job.advance(1)
}
