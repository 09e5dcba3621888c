//! Doing an update: what feeds have is fetched, what was mended is mended again, clocks are looked at in the new weeks,
//! and what is made of the series that changed is made again. Nothing else is touched.

mod again;

use std::collections::BTreeSet;

use serde_json::{Value, json};
use stavel_core::check::{self, Severity};
use stavel_core::job::Job;
use stavel_core::model::{SeriesName, Span};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

use crate::auto::ActStep;
use crate::fetch::{feeds, foretold_of, has_facts};
use crate::recipe::{Done, Recipe, do_unless_done, what_was_done};
use crate::record::take_in_left;
use crate::report::{StepReport, counted};
use crate::step::{AlignStep, FetchStep, Step, UpdateStep};
use again::{is_meant, step_again};

/// What an update did so far.
#[derive(Default)]
struct UpdateWay {
    fetched: Vec<Value>,
    rebuilt: Vec<SeriesName>,
    failed: Vec<(String, String)>,
    changed: Vec<SeriesName>,
    lines: Vec<String>,
    files: Vec<std::path::PathBuf>,
    /// What feeds say beside histories.
    facts: Vec<Value>,
    wants_person: bool,
}

impl UpdateWay {
    /// Takes over what a step told; what it wants somebody to look at stays among the lines.
    fn take(&mut self, report: &StepReport) {
        for name in &report.changed {
            if !self.changed.contains(name) {
                self.changed.push(name.clone());
            }
        }
        self.files.extend(report.files.iter().cloned());
        if report.wants_person {
            self.wants_person = true;
            self.lines.extend(report.lines.iter().map(|line| format!("  {}", line.trim_start())));
        }
    }

    fn fail(&mut self, what: String, why: &Error) -> Result<()> {
        if why.is_cancelled() {
            return Err(why.clone());
        }
        self.wants_person = true;
        self.lines.push(format!("✗ {what}: {why}"));
        self.failed.push((what, why.to_string()));
        Ok(())
    }
}

/// Brings instruments up to date; `act` does one step.
///
/// # Errors
/// Where an instrument is not on the shelf, the recipe cannot be read, or the person stops it. What fails on the way is
/// told, and the rest is done.
pub fn update_all(
    shelf: &mut Shelf,
    step: &UpdateStep,
    act: &mut ActStep<'_>,
    job: &Job,
) -> Result<StepReport> {
    for name in &step.instruments {
        shelf.instrument(name)?;
    }
    let recipe = step.recipe.as_deref().map(Recipe::read).transpose()?;
    if step.dry_run {
        return foretold(shelf, step, job);
    }
    let mut way = UpdateWay::default();
    let before: Vec<_> = shelf.series()?.into_iter().map(|info| (info.name, info.edition.last)).collect();
    let outcome = all_of(shelf, (step, recipe.as_ref()), &before, act, job, &mut way);
    match outcome {
        Err(why) if why.is_cancelled() && !way.changed.is_empty() => {
            way.wants_person = true;
            way.lines.push("stopped: what is done stays; the next update goes on".into());
        }
        outcome => outcome?,
    }
    told(shelf, step, way)
}

/// Series with the times of their last rows.
type LastRows = [(SeriesName, i64)];

/// The parts of an update, one after the other.
fn all_of(
    shelf: &mut Shelf,
    (step, recipe): (&UpdateStep, Option<&Recipe>),
    before: &LastRows,
    act: &mut ActStep<'_>,
    job: &Job,
    way: &mut UpdateWay,
) -> Result<()> {
    for (series, rows) in take_in_left(shelf)? {
        way.lines.push(format!("  {rows} rows of {series} that a recording left were taken in"));
        way.changed.push(series);
    }
    fetch_new(shelf, step, act, way)?;
    job.advance(0)?;
    fetch_facts(shelf, act, way)?;
    let fetched = way.changed.clone();
    let last_of = |name: &SeriesName| before.iter().find(|(n, _)| n == name).map(|(_, last)| *last);
    for name in &fetched {
        mend_again(shelf, name, act, way)?;
        look_at_new(shelf, name, last_of(name), act, job, way)?;
    }
    make_again(shelf, step, act, way)?;
    recipe.map_or(Ok(()), |recipe| run_recipe(shelf, recipe, act, way))
}

/// Fetches what feeds have beyond what is here, of each series that came from one.
fn fetch_new(shelf: &mut Shelf, step: &UpdateStep, act: &mut ActStep<'_>, way: &mut UpdateWay) -> Result<()> {
    for (feed, series) in fed_series(shelf, step)? {
        let fetch = FetchStep {
            series: series.into_iter().map(Into::into).collect(),
            new: true,
            ..FetchStep::default()
        };
        match act(shelf, &Step::Fetch(fetch)) {
            Ok(report) => {
                let list = |key: &str| report.json[key].as_array().cloned().unwrap_or_default();
                way.fetched.extend(list("fetched").into_iter().filter(|f| f["days"] != 0));
                for failed in list("failed") {
                    let text = |key: &str| failed[key].as_str().unwrap_or_default().to_owned();
                    way.failed.push((format!("{} {}", text("series"), text("piece")), text("why")));
                }
                way.take(&report);
            }
            Err(why) => way.fail(feed, &why)?,
        }
    }
    Ok(())
}

/// Asks the feeds for what they say beside histories, where any does.
fn fetch_facts(shelf: &mut Shelf, act: &mut ActStep<'_>, way: &mut UpdateWay) -> Result<()> {
    if !feeds(shelf)?.iter().any(has_facts) {
        return Ok(());
    }
    match act(shelf, &Step::Fetch(FetchStep { facts: true, new: true, ..FetchStep::default() })) {
        Ok(report) => {
            let is_new = |fact: &&Value| ["added", "changed", "gone"].iter().any(|key| fact[key] != 0);
            let list = |key: &str| report.json[key].as_array().cloned().unwrap_or_default();
            way.facts.extend(list("facts").iter().filter(is_new).cloned());
            for failed in list("failed") {
                let text = |key: &str| failed[key].as_str().unwrap_or_default().to_owned();
                way.failed.push((text("feed"), text("why")));
            }
            way.take(&report);
            Ok(())
        }
        Err(why) => way.fail("what feeds say of dates and specs".into(), &why),
    }
}

/// The series that feeds are asked for, by feed: those that came from one before.
fn fed_series(shelf: &Shelf, step: &UpdateStep) -> Result<Vec<(String, Vec<SeriesName>)>> {
    let mut out = Vec::new();
    let all = shelf.series()?;
    for feed in feeds(shelf)? {
        let mut series = Vec::new();
        for info in &all {
            let is_wanted = step.instruments.is_empty() || step.instruments.contains(&info.name.instrument);
            if is_wanted && feed.kind_of(&info.name).is_some() && !shelf.feed_pieces(&info.name)?.is_empty() {
                series.push(info.name.clone());
            }
        }
        if !series.is_empty() {
            out.push((feed.name.clone(), series));
        }
    }
    Ok(out)
}

/// Mends the new rows of a series as those before them were mended.
fn mend_again(
    shelf: &mut Shelf,
    name: &SeriesName,
    act: &mut ActStep<'_>,
    way: &mut UpdateWay,
) -> Result<()> {
    let mut done: Vec<Step> = Vec::new();
    for step in what_was_done(shelf)?.step {
        // What was mended in a span was meant for that span.
        let Step::Check(check) = &step else { continue };
        let is_general = check.from.is_none() && check.to.is_none() && check.mends_something();
        if check.series == *name && is_general && !done.contains(&step) {
            done.push(step);
        }
    }
    for step in done {
        match act(shelf, &step) {
            Ok(report) => way.take(&StepReport { wants_person: false, ..report }),
            Err(why) => way.fail(format!("mending {name}"), &why)?,
        }
    }
    Ok(())
}

/// Tells what is wrong with the new rows of a series, and whether its clock still holds.
fn look_at_new(
    shelf: &mut Shelf,
    name: &SeriesName,
    last: Option<i64>,
    act: &mut ActStep<'_>,
    job: &Job,
    way: &mut UpdateWay,
) -> Result<()> {
    let info = shelf.find(name)?;
    let span = Span::new(last.map_or(info.edition.first, |last| last + 1), info.edition.last + 1);
    if let Ok((_, found)) = check::check_series(shelf, name, span, job) {
        let grave = found.findings.iter().filter(|f| f.kind.severity() == Severity::Fault).count();
        if grave > 0 {
            way.wants_person = true;
            way.lines.push(format!(
                "▲ {name}: {} in what is new; stavel check {name} shows them",
                counted(grave as u64, "finding")
            ));
        }
    }
    let anchored = what_was_done(shelf)?.step.into_iter().rev().find_map(|step| match step {
        Step::Align(align) if align.series == *name && align.anchor => align.to,
        _ => None,
    });
    let Some(to) = anchored.filter(|to| shelf.current(to).is_ok_and(|found| found.is_some())) else {
        return Ok(());
    };
    // An anchored series is compared, and not anchored anew.
    match act(shelf, &Step::Align(AlignStep::of(name.clone(), Some(to)))) {
        Ok(report) => way.take(&report),
        Err(why) => way.fail(format!("comparing {name}"), &why)?,
    }
    Ok(())
}

/// Makes what is stale again, sources before what is made of them.
fn make_again(
    shelf: &mut Shelf,
    step: &UpdateStep,
    act: &mut ActStep<'_>,
    way: &mut UpdateWay,
) -> Result<()> {
    let mut tried: BTreeSet<String> = BTreeSet::new();
    loop {
        let stale = shelf.stale_editions()?;
        let is_ready = |id: &i64| {
            let because = stale.get(id).into_iter().flatten();
            !because.clone().any(|why| matches!(why, stavel_core::store::StaleBecause::StaleSource { .. }))
        };
        let all = shelf.series()?;
        let next = all.into_iter().find(|info| {
            stale.contains_key(&info.edition.id)
                && is_ready(&info.edition.id)
                && !tried.contains(&info.name.to_string())
                && is_meant(shelf, info, &step.instruments)
        });
        let Some(info) = next else { return Ok(()) };
        tried.insert(info.name.to_string());
        let outcome = step_again(shelf, &info).and_then(|step| act(shelf, &step));
        match outcome {
            Ok(report) => {
                way.take(&report);
                way.rebuilt.push(info.name.clone());
                mend_again(shelf, &info.name, act, way)?;
            }
            Err(why) => way.fail(info.name.to_string(), &why)?,
        }
    }
}

/// Does the steps of a recipe that have to be done again.
fn run_recipe(shelf: &mut Shelf, recipe: &Recipe, act: &mut ActStep<'_>, way: &mut UpdateWay) -> Result<()> {
    let mut fresh = way.changed.clone();
    for (number, step) in recipe.step.iter().enumerate() {
        match do_unless_done(shelf, step, &mut fresh, act) {
            Ok(Done::Before(_)) => {}
            Ok(Done::Now(report)) => {
                way.take(&report);
                if let Step::Deliver(_) = step {
                    way.lines.extend(report.lines.iter().cloned());
                } else {
                    way.rebuilt.extend(report.changed.iter().cloned());
                }
            }
            Err(why) => return way.fail(format!("step {} ({}) of the recipe", number + 1, step.act()), &why),
        }
    }
    Ok(())
}

fn told(shelf: &Shelf, step: &UpdateStep, way: UpdateWay) -> Result<StepReport> {
    let mut rebuilt = way.rebuilt;
    rebuilt.sort();
    rebuilt.dedup();
    let touched = |name: &SeriesName| way.changed.contains(name) || rebuilt.contains(name);
    let meant = shelf.series()?.into_iter().filter(|info| is_meant(shelf, info, &step.instruments));
    let unchanged = meant.filter(|info| !touched(&info.name)).count();
    let pieces: u64 = way.fetched.iter().filter_map(|f| f["days"].as_u64()).sum();
    let rows: u64 = way.fetched.iter().filter_map(|f| f["rows"].as_u64()).sum();
    let failed = if way.failed.is_empty() { String::new() } else { format!(", {} failed", way.failed.len()) };
    let mut lines = vec![format!(
        "{} fetched ({rows} rows), {} made again, {unchanged} as they were{failed}",
        counted(pieces, "piece"),
        rebuilt.len(),
    )];
    lines.extend(rebuilt.iter().map(|name| format!("  {name} made again")));
    let facts = |key: &str| -> u64 { way.facts.iter().filter_map(|fact| fact[key].as_u64()).sum() };
    if !way.facts.is_empty() {
        let (added, changed) = (facts("added"), facts("changed"));
        lines.push(format!("  {} new, {changed} changed", counted(added, "dated fact")));
    }
    lines.extend(way.lines);
    let failures: Vec<Value> =
        way.failed.iter().map(|(what, why)| json!({ "what": what, "why": why })).collect();
    let json = json!({ "fetched": way.fetched, "rebuilt": rebuilt, "unchanged": unchanged, "failed": failures, "facts": way.facts });
    let mut report = StepReport::new(json, lines);
    report.wants_person = way.wants_person || !way.failed.is_empty();
    report.changed = way.changed;
    report.files = way.files;
    Ok(report)
}

/// What would be fetched, and what is stale already.
fn foretold(shelf: &mut Shelf, step: &UpdateStep, job: &Job) -> Result<StepReport> {
    let mut report = StepReport::new(Value::Null, Vec::new());
    let mut would = Vec::new();
    for (feed, series) in fed_series(shelf, step)? {
        let fetch = FetchStep {
            series: series.into_iter().map(Into::into).collect(),
            new: true,
            dry_run: true,
            ..FetchStep::default()
        };
        match foretold_of(shelf, &fetch, job) {
            Ok(told) => {
                would.extend(told.json["would_fetch"].as_array().cloned().unwrap_or_default());
                report.lines.extend(told.lines);
            }
            Err(why) => {
                report.wants_person = true;
                report.lines.push(format!("✗ {feed}: {why}"));
            }
        }
    }
    let telling: Vec<String> = feeds(shelf)?.into_iter().filter(has_facts).map(|feed| feed.name).collect();
    if !telling.is_empty() {
        report.lines.push(format!("{} would be asked for dates and specs", telling.join(", ")));
    }
    let stale = shelf.stale_editions()?;
    let is_stale = |info: &stavel_core::store::SeriesInfo| stale.contains_key(&info.edition.id);
    let meant =
        shelf.series()?.into_iter().filter(is_stale).filter(|i| is_meant(shelf, i, &step.instruments));
    let stale: Vec<SeriesName> = meant.map(|info| info.name).collect();
    report.lines.extend(stale.iter().map(|name| format!("{name} is stale and would be made again")));
    if report.lines.is_empty() {
        report.lines.push("there is nothing to bring up to date".into());
    }
    report.json = json!({ "would_fetch": would, "stale": stale });
    Ok(report)
}
