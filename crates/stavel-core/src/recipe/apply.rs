//! Doing a step.

use serde_json::{Value, json};

use super::aligning::align_one;
use super::bring_in::{intake_files, layout_named};
use super::checking::check_step;
use super::splicing::splice_one;
use super::step::*;
use crate::compose::{self, Request};
use crate::deliver::{self, Format, Order};
use crate::frames::build_series;
use crate::job::Job;
use crate::model::price::scaled;
use crate::model::time::{self, rfc3339};
use crate::model::{Clock, Frame, Micros, SeriesName, Side, Span};
use crate::rehearse::{Tape, read_orders, run_orders};
use crate::store::Shelf;
use crate::{Error, Result};

/// What a step did.
#[derive(Debug, Clone)]
pub struct Report {
    /// The document that `--json` prints.
    pub json: Value,
    /// The same in lines for people; the first says it all.
    pub lines: Vec<String>,
    /// True where it is done but somebody should look.
    pub wants_person: bool,
    /// The series it made or changed.
    pub changed: Vec<SeriesName>,
    /// The files it wrote.
    pub files: Vec<std::path::PathBuf>,
}

impl Report {
    pub(super) fn new(json: Value, lines: Vec<String>) -> Report {
        Report { json, lines, wants_person: false, changed: Vec::new(), files: Vec::new() }
    }
}

/// Does a step. What it changes is written into the journal.
///
/// # Errors
/// One sentence; the shelf is then as it was before the step.
pub fn apply(shelf: &mut Shelf, step: &Step, job: &Job) -> Result<Report> {
    let report = match step {
        Step::Intake(s) => intake_files(shelf, s, job),
        Step::Check(s) => check_step(shelf, s, job).map(|c| c.told),
        Step::Align(s) => align_one(shelf, s, job),
        Step::Splice(s) => splice_one(shelf, s, job),
        Step::Frames(s) => build_frames(shelf, s, job),
        Step::Compose(s) => compose_one(shelf, s, job),
        Step::Deliver(s) => deliver_all(shelf, s, job),
        Step::Rehearse(s) => rehearse(shelf, s, job),
        Step::Undo(s) => undo(shelf, s),
        Step::Shelf(s) => upkeep(shelf, s),
        Step::Chart(_) => Err(Error::arguments("Charts are drawn outside the core.")),
    }?;
    if step.writes() {
        let named = report.changed.first().map(SeriesName::to_string).unwrap_or_default();
        let text = toml::to_string(step).unwrap_or_default();
        shelf.note(&named, &text, report.lines.first().map(String::as_str).unwrap_or_default())?;
    }
    Ok(report)
}

/// A span out of the two ends a person gave.
pub fn span_between(from: Option<&str>, to: Option<&str>) -> Result<Span> {
    let end = |t: Option<&str>, other: Micros| t.map_or(Ok(other), time::parse);
    let span = Span::new(end(from, Micros::MIN)?, end(to, Micros::MAX)?);
    if span.from >= span.to {
        return Err(Error::arguments(format!(
            "The span from {} to {} is empty; the first must be the earlier.",
            from.unwrap_or_default(),
            to.unwrap_or_default()
        )));
    }
    Ok(span)
}

fn side_of(text: Option<&str>) -> Result<Side> {
    text.map_or(Ok(Side::Bid), str::parse)
}

fn build_frames(shelf: &mut Shelf, step: &FramesStep, job: &Job) -> Result<Report> {
    let side = side_of(step.side.as_deref())?;
    let (mut json, mut lines, mut changed) = (Vec::new(), Vec::new(), Vec::new());
    for &frame in &step.frames {
        let built = build_series(shelf, &step.series, frame, step.clock.as_ref(), side, job)?;
        let (name, e) = (&built.info.name, &built.info.edition);
        json.push(json!({
            "series": name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
            "partial_first": built.partial_first, "partial_last": built.partial_last,
        }));
        lines.push(format!("{name}: {} bars from {} to {}", e.rows, time::wall(e.first), time::wall(e.last)));
        changed.push(name.clone());
    }
    Ok(Report { changed, ..Report::new(json!({ "series": json }), lines) })
}

fn compose_one(shelf: &mut Shelf, step: &ComposeStep, job: &Job) -> Result<Report> {
    let request = Request {
        name: step.name.clone(),
        like: step.like.clone(),
        own: step.set.clone(),
        from: step.from.clone(),
        shift: step.shift.as_deref().map_or(Ok(0), time::parse_length)?,
    };
    let made = compose::compose(shelf, &request, job)?;
    let series: Vec<Value> = made
        .series
        .iter()
        .map(|s| {
            let e = &s.edition;
            json!({"series": s.name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last)})
        })
        .collect();
    let json = json!({"instrument": made.instrument.name, "series": series, "notes": made.notes});
    let like = made.instrument.like.as_deref().map(|l| format!(" like {l}")).unwrap_or_default();
    let lines = vec![format!("{}{like}: {}", made.instrument.name, made.notes.join("; "))];
    Ok(Report { changed: made.series.into_iter().map(|s| s.name).collect(), ..Report::new(json, lines) })
}

fn deliver_all(shelf: &Shelf, step: &DeliverStep, job: &Job) -> Result<Report> {
    if step.series.len() > 1 && !step.out.is_dir() && !step.out.to_string_lossy().ends_with('/') {
        return Err(Error::arguments(format!(
            "{} series need a folder to go to; write --out DIR/.",
            step.series.len()
        )));
    }
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let mut report = Report::new(json!({}), Vec::new());
    let mut json = Vec::new();
    for series in &step.series {
        let clock = step.clock.clone().unwrap_or_else(Clock::utc);
        let layout = step.layout.as_deref().map(|name| layout_named(shelf, name)).transpose()?;
        if layout.is_some() && step.format != Format::Csv {
            return Err(Error::arguments(
                "A layout says how lines of text are written; leave --format away.",
            ));
        }
        let order =
            Order { series: series.clone(), format: step.format, layout, clock, span, last: step.last };
        let done = deliver::deliver(shelf, &order, &step.out, job)?;
        json.push(json!({
            "path": done.path, "series": series, "rows": done.rows, "bytes": done.bytes, "sha256": done.sha256,
            "proved": done.proved,
        }));
        let proof = if done.proved { "read back, equal" } else { "READ BACK, NOT EQUAL" };
        report.lines.push(format!(
            "{}: {} rows, {} bytes, {proof}",
            done.path.display(),
            done.rows,
            done.bytes
        ));
        report.wants_person |= !done.proved;
        report.files.push(done.path);
    }
    report.json = json!({ "files": json });
    Ok(report)
}

fn rehearse(shelf: &Shelf, step: &RehearseStep, job: &Job) -> Result<Report> {
    let info = shelf.find(&step.series)?;
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{} is afloat: its session days are not known; align it first.",
            step.series
        )));
    }
    let orders = read_orders(&step.orders)?;
    let sheet = shelf.instrument(&step.series.instrument)?.sheet;
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let rows = shelf.read(&info.edition, span)?;
    if rows.is_empty() {
        let nearest = if span.to <= info.edition.first { info.edition.first } else { info.edition.last };
        return Err(Error::input(format!(
            "{} has nothing to play in that span; the nearest data are at {}.",
            step.series,
            rfc3339(nearest)
        )));
    }
    let currency = sheet.quote.clone();
    let tape = Tape::new(rows, step.series.frame, sheet.spread)?;
    let outcome = run_orders(tape, &orders, sheet, job)?;
    let mut json = outcome.to_json();
    json["series"] = json!(step.series);
    json["currency"] = json!(currency);
    let a = &outcome.account;
    let mut lines = vec![format!(
        "{}: {} quotes, {} fills, realised {} {currency} after costs of {}, position {}",
        step.series,
        outcome.quotes,
        a.deals().len(),
        crate::rehearse::money(a.realised()),
        crate::rehearse::money(a.costs()),
        scaled(a.position(), 2)
    )];
    lines.extend(a.journal_lines());
    Ok(Report { wants_person: outcome.unfilled > 0, ..Report::new(json, lines) })
}

fn undo(shelf: &mut Shelf, step: &UndoStep) -> Result<Report> {
    let now = shelf.undo(&step.series)?;
    let line = match &now {
        Some(e) => {
            format!("{} is back at edition {} ({} rows, from {})", step.series, e.number, e.rows, e.act)
        }
        None => format!("{} is off the shelf: its first edition was undone", step.series),
    };
    let json = json!({"series": step.series, "edition": now.map(|e| e.number)});
    Ok(Report { changed: vec![step.series.clone()], ..Report::new(json, vec![line]) })
}

fn upkeep(shelf: &mut Shelf, step: &ShelfStep) -> Result<Report> {
    let named = || step.series.as_ref().ok_or_else(|| Error::arguments("Say which series is meant."));
    match step.what {
        Upkeep::Remove => {
            let name = named()?;
            shelf.remove(name)?;
            let line = format!(
                "{name} is off the shelf; stavel undo {name} brings it back until the shelf is tidied"
            );
            Ok(Report { changed: vec![name.clone()], ..Report::new(json!({"removed": name}), vec![line]) })
        }
        Upkeep::Rename => {
            let (name, to) =
                (named()?, step.to.as_ref().ok_or_else(|| Error::arguments("Say the new name."))?);
            shelf.rename(name, to)?;
            let line = format!("{name} is {to} now, with all its editions");
            Ok(Report {
                changed: vec![to.clone()],
                ..Report::new(json!({"renamed": name, "to": to}), vec![line])
            })
        }
        Upkeep::Tidy => {
            let tidied = shelf.tidy(step.series.as_ref())?;
            let line = format!(
                "{} older editions are gone, and {} files with {}",
                tidied.editions,
                tidied.files,
                bytes_in_words(tidied.bytes)
            );
            let json = json!({"editions": tidied.editions, "files": tidied.files, "bytes": tidied.bytes});
            Ok(Report::new(json, vec![line]))
        }
    }
}

/// A size as people say it.
pub fn bytes_in_words(bytes: u64) -> String {
    match bytes {
        0..10_000 => format!("{bytes} bytes"),
        10_000..10_000_000 => format!("{} kB", bytes / 1000),
        10_000_000..10_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// Frames named in a list, where `all` stands for the usual ones that can be made.
pub fn frames_named(words: &[String], from: Frame) -> Result<Vec<Frame>> {
    let mut out = Vec::new();
    for word in words {
        if word == "all" {
            let usual = Frame::USUAL.iter().filter_map(|f| f.parse().ok());
            out.extend(usual.filter(|f| crate::frames::can_build(from, *f)));
        } else {
            out.push(word.parse()?);
        }
    }
    Ok(out)
}
