//! Doing an intake step.

use std::path::PathBuf;

use serde_json::json;

use crate::dates::{dates_of_files, holidays_known_of, is_of_dates};
use crate::report::StepReport;
use crate::step::{IntakeStep, Prefer};
use stavel_core::check;
use stavel_core::intake::{self, ClockHint, FactsTaken, Hints, Planned, Taken};
use stavel_core::job::Job;
use stavel_core::model::Layout;
use stavel_core::model::layout::{GENERAL, general};
use stavel_core::model::{Clock, Made, SeriesName};
use stavel_core::store::{EditionInfo, Shelf};
use stavel_core::{Error, Result};

/// The hints an intake step gives.
///
/// # Errors
/// Where one of them makes no sense.
pub fn hints_of(shelf: &Shelf, step: &IntakeStep) -> Result<Hints> {
    Ok(Hints {
        source: step.source.clone(),
        instrument: step.instrument.clone(),
        clock: match step.clock.as_deref() {
            None => None,
            Some("afloat") => Some(ClockHint::Afloat),
            Some(text) => Some(ClockHint::Known(text.parse()?)),
        },
        frame: step.frame,
        side: step.side.as_deref().map(str::parse).transpose()?,
        decimals: step.decimals,
        dates: step.dates,
        stamp: step.stamp,
        layout: step.layout.as_deref().map(|name| layout_named(shelf, name)).transpose()?,
        corrected: None,
        names: step.names.clone(),
        replace: step.replace,
        prefer_new: step.prefer == Prefer::New,
    })
}

/// A layout saved on the shelf, or one in a file.
///
/// # Errors
/// Where there is none of that name, a sentence that names those there are.
pub fn layout_named(shelf: &Shelf, name: &str) -> Result<Layout> {
    let saved = shelf.layouts()?;
    if let Some(layout) = saved.iter().find(|l| l.name.as_deref() == Some(name)) {
        return Ok(layout.clone());
    }
    if let Some(layout) = general(name) {
        return Ok(layout);
    }
    let path = std::path::Path::new(name);
    if path.is_file() {
        let text = std::fs::read_to_string(path)
            .map_err(|e| Error::input(format!("{name} cannot be read: {e}.")))?;
        return Layout::from_toml(&text);
    }
    let names: Vec<&str> = saved.iter().filter_map(|l| l.name.as_deref()).collect();
    let all: Vec<&str> = names.into_iter().chain(GENERAL.iter().map(|g| g.name)).collect();
    Err(Error::arguments(format!(
        "There is no layout {}, and no such file; there are {}.",
        stavel_core::error::printable(name),
        all.join(", ")
    )))
}

/// What an intake step would do; the rows of rejects are laid into a file below `room` first.
///
/// # Errors
/// As [`intake::plan`].
pub fn plan_of(shelf: &Shelf, step: &IntakeStep, room: &std::path::Path) -> Result<Planned> {
    let mut hints = hints_of(shelf, step)?;
    match &step.rejects {
        None => intake::plan(shelf, &step.paths, &hints),
        Some(id) => {
            let path = lay_out_rejects(shelf, id, &mut hints, room)?;
            intake::plan(shelf, &[path], &hints)
        }
    }
}

/// Writes rejected rows as they came into a file, and fills the hints from the edition they belong to.
fn lay_out_rejects(shelf: &Shelf, id: &str, hints: &mut Hints, room: &std::path::Path) -> Result<PathBuf> {
    let name = id.strip_suffix(".csv").unwrap_or(id);
    let rows = intake::read_rejects(shelf.root(), id)?;
    let mut text = Vec::new();
    for row in rows.iter().filter(|r| r.line > 0) {
        text.extend_from_slice(&row.raw);
        text.push(b'\n');
    }
    let path = room.join(format!("{name}.csv"));
    std::fs::write(&path, &text).map_err(|e| Error::io("Cannot write", &path, &e))?;
    let file = format!("{name}.csv");
    let of_this = |edition: &EditionInfo| match &edition.provenance.made {
        Made::Intake(taken) => {
            taken.rejects.as_ref().is_some_and(|p| std::path::Path::new(p).file_name() == Some(file.as_ref()))
        }
        _ => false,
    };
    let mut instruments = Vec::new();
    for info in shelf.series()? {
        if let Some(edition) = shelf.editions(&info.name)?.into_iter().find(of_this) {
            hints.source = info.name.source.clone();
            instruments.push(info.name.instrument.clone());
            hints.frame.get_or_insert(info.name.frame);
            let clock = edition.clock.map_or(ClockHint::Afloat, |c: Clock| ClockHint::Known(c));
            hints.clock.get_or_insert(clock);
        }
    }
    // Rows of several instruments name their own.
    if let ([instrument], None) = (instruments.as_slice(), &hints.instrument) {
        hints.instrument = Some(instrument.clone());
    }
    // What is kept are rows only, without the lines that stood above them.
    if let Some(layout) = &mut hints.layout {
        (layout.header, layout.skip) = (None, 0);
    }
    Ok(path)
}

/// Takes files in.
pub fn intake_files(shelf: &mut Shelf, step: &IntakeStep, job: &Job) -> Result<StepReport> {
    let (dates, histories): (Vec<PathBuf>, Vec<PathBuf>) =
        step.paths.iter().cloned().partition(|path| is_of_dates(path, step));
    if histories.is_empty() && !dates.is_empty() {
        return dates_of_files(shelf, step, &dates);
    }
    let step = &IntakeStep { paths: histories, ..step.clone() };
    let room = tempfile::tempdir()?;
    let planned = plan_of(shelf, step, room.path())?;
    let (mut taken, mut facts): (Vec<Taken>, Vec<FactsTaken>) = (Vec::new(), Vec::new());
    for plan in &planned.plans {
        taken.extend(intake::take(shelf, plan, job)?);
    }
    for plan in &planned.facts {
        facts.extend(intake::take_facts(shelf, plan, job)?);
    }
    let mut report = StepReport::new(json!({ "series": taken }), lines_of(&taken, &facts));
    if !facts.is_empty() {
        report.json["facts"] = json!(facts);
    }
    for decision in planned.plans.iter().flat_map(|p| &p.decisions).filter(|d| d.is_assumed()) {
        if !report.assumed.iter().any(|d| d.what == decision.what && d.value == decision.value) {
            report.assumed.push(decision.clone());
        }
    }
    report.wants_person = taken.iter().any(|t| t.rows_rejected > t.rows_waited || t.cells_lost > 0)
        || facts.iter().any(|f| f.rows_rejected > 0);
    if !planned.left.is_empty() {
        let left: Vec<_> =
            planned.left.iter().map(|(place, why)| json!({"path": place, "reason": why})).collect();
        report.json["left"] = json!(left);
        report.lines.extend(planned.left.iter().map(|(place, why)| format!("passed over {place}: {why}")));
        report.wants_person = true;
    }
    report.changed = taken.iter().map(|t| t.series.parse()).collect::<Result<_>>()?;
    for series in report.changed.clone() {
        report.lines.extend(learned_line(shelf, &series, job)?);
        report.lines.extend(holidays_known_of(shelf, &series.instrument)?);
    }
    if !dates.is_empty() {
        let told = dates_of_files(shelf, step, &dates)?;
        let facts = report.json["facts"].as_array().into_iter().chain(told.json["facts"].as_array());
        report.json["facts"] = facts.flatten().cloned().collect();
        report.lines.extend(told.lines);
        report.wants_person |= told.wants_person;
    }
    Ok(report)
}

/// Reads the hours of an instrument off a series that came in or was anchored, where nobody has said them; what the
/// sheet has of them now, in words.
pub fn learned_line(shelf: &mut Shelf, series: &SeriesName, job: &Job) -> Result<Option<String>> {
    let learned = check::learn_hours(shelf, series, job)?;
    Ok(learned.map(|learned| {
        format!(
            "  hours of {} learned: {} ({:.1} % alike in {} weeks of {series}; stavel compose {} --set 'hours=…' says others)",
            series.instrument,
            learned.week,
            learned.steadiness * 100.0,
            learned.weeks,
            series.instrument
        )
    }))
}

fn lines_of(taken: &[Taken], facts: &[FactsTaken]) -> Vec<String> {
    let mut lines = Vec::new();
    for t in taken {
        lines.push(format!(
            "{}: {} rows read = {} kept + {} rejected + {} already there; clock {}",
            t.series, t.rows_read, t.rows_kept, t.rows_rejected, t.rows_already_there, t.clock
        ));
        if t.rows_replaced > 0 {
            lines.push(format!("  {} rows that were there gave way", t.rows_replaced));
        }
        for (reason, rows) in &t.reasons {
            lines.push(format!("  {rows} rejected: {reason}"));
        }
        let oddities = [
            (t.tails, "prices ended in the tail of a binary fraction and were rounded to what they mean"),
            (t.rounded, "prices were rounded to the decimals that were said"),
            (
                t.cells_lost,
                "cells beside the prices are no numbers that fit; their rows were taken without them",
            ),
        ];
        lines.extend(oddities.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("  {n} {what}")));
        if let Some(path) = &t.rejects {
            lines.push(format!("  the rejected rows are in {path}"));
        }
    }
    for f in facts {
        lines.push(format!(
            "{}: {} {} facts read = {} kept + {} rejected + {} already there",
            f.instrument, f.rows_read, f.kind, f.rows_kept, f.rows_rejected, f.rows_already_there
        ));
    }
    lines
}
