//! Doing a step.

use stavel_core::Result;
use stavel_core::job::Job;
use stavel_core::model::SeriesName;
use stavel_core::store::Shelf;

use crate::align::align_one;
use crate::assumptions::assumptions;
use crate::auto::auto_all;
use crate::chart::draw_chart;
use crate::check::check_step;
use crate::compose::compose_one;
use crate::deliver::deliver_all;
use crate::dossier::dossier;
use crate::drawings::draw_on;
use crate::fetch::fetch_series;
use crate::frames::build_frames;
use crate::intake::intake_files;
use crate::rehearse::rehearse;
use crate::report::StepReport;
use crate::splice::splice_one;
use crate::step::Step;
use crate::undo::step_over;
use crate::update::update_all;
use crate::upkeep::upkeep;

/// Does a step. What it changes is one act of the journal, undone and redone as a whole.
///
/// # Errors
/// One sentence; the shelf is then as it was before the step.
pub fn apply(shelf: &mut Shelf, step: &Step, job: &Job) -> Result<StepReport> {
    let began = std::time::Instant::now();
    tracing::info!(command = step.command_line(), "step begins");
    let outcome = as_act(shelf, step, |shelf| done(shelf, step, job));
    let seconds = began.elapsed().as_secs_f64();
    match &outcome {
        Ok(report) => {
            let changed: Vec<String> = report.changed.iter().map(SeriesName::to_string).collect();
            tracing::info!(seconds, ?changed, wants_person = report.wants_person, "step done");
        }
        Err(error) => tracing::warn!(seconds, %error, "step failed"),
    }
    outcome
}

/// Does the work of a step as one act, where the step changes the shelf.
///
/// # Errors
/// What the work gives; what it changed is undone then.
pub fn as_act(
    shelf: &mut Shelf,
    step: &Step,
    work: impl FnOnce(&mut Shelf) -> Result<StepReport>,
) -> Result<StepReport> {
    if !step.writes() || matches!(step, Step::Undo(_) | Step::Redo(_)) {
        return work(shelf);
    }
    shelf.begin_act(&toml::to_string(step).unwrap_or_default())?;
    match work(shelf) {
        Ok(report) => {
            let named = report.changed.first().map(SeriesName::to_string).unwrap_or_default();
            shelf.end_act(&named, report.lines.first().map(String::as_str).unwrap_or_default())?;
            Ok(report)
        }
        Err(e) => {
            shelf.abandon_act()?;
            Err(e)
        }
    }
}

fn done(shelf: &mut Shelf, step: &Step, job: &Job) -> Result<StepReport> {
    let mut report = match step {
        Step::Auto(s) => auto_all(shelf, s, &mut |shelf, step| apply(shelf, step, job), job),
        Step::Intake(s) => intake_files(shelf, s, job),
        Step::Fetch(s) => fetch_series(shelf, s, job),
        Step::Update(s) => update_all(shelf, s, &mut |shelf, step| apply(shelf, step, job), job),
        Step::Check(s) => check_step(shelf, s, job),
        Step::Align(s) => align_one(shelf, s, job),
        Step::Splice(s) => splice_one(shelf, s, job),
        Step::Frames(s) => build_frames(shelf, s, job),
        Step::Compose(s) => compose_one(shelf, s, job),
        Step::Deliver(s) => deliver_all(shelf, s, job),
        Step::Rehearse(s) => rehearse(shelf, s, job),
        Step::Undo(s) => step_over(shelf, s.series.as_ref(), true),
        Step::Redo(s) => step_over(shelf, s.series.as_ref(), false),
        Step::Shelf(s) => upkeep(shelf, s, job),
        Step::Chart(s) => draw_chart(shelf, s, job),
        Step::Draw(s) => draw_on(shelf, s),
        Step::Dossier(s) => dossier(shelf, &s.series, &s.out, job),
    }?;
    report.assumed.extend(assumptions(shelf, step)?);
    report.tell_assumed();
    Ok(report)
}
