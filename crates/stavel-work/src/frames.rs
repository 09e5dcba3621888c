//! Building frames.

use serde_json::json;
use stavel_core::Result;
use stavel_core::frames::{FrameSettings, build_series};
use stavel_core::job::Job;
use stavel_core::model::provenance::EmptyBars;
use stavel_core::model::time::{self, DAY, rfc3339};
use stavel_core::model::{Clock, Frame, Made, SeriesName, Side};
use stavel_core::store::Shelf;

use crate::assumptions;
use crate::report::StepReport;
use crate::step::FramesStep;

/// Builds frames of a series, each by the settings of the step, or again by those it was built with.
pub fn build_frames(shelf: &mut Shelf, step: &FramesStep, job: &Job) -> Result<StepReport> {
    let frames: Vec<Frame> = step.frames.iter().flat_map(|f| f.built_from(step.series.frame)).collect();
    let mut all = Vec::new();
    for (settings, frames) in by_settings(shelf, step, &frames)? {
        let (clock, side, empty) = (settings.clock.as_ref(), settings.side, settings.empty);
        let making = FrameSettings { clock, side, empty, ..FrameSettings::default() };
        all.extend(build_series(shelf, &step.series, &frames, &making, job)?);
    }
    let (mut json, mut lines, mut changed) = (Vec::new(), Vec::new(), Vec::new());
    let (mut on_closed_days, mut too_large) = (0, 0);
    for built in all {
        let (name, e) = (&built.info.name, &built.info.edition);
        json.push(json!({
            "series": name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
            "partial_first": built.partial_first, "partial_last": built.partial_last,
            "on_closed_days": built.on_closed_days, "too_large": built.too_large,
            "filled": built.filled,
        }));
        let filled =
            if built.filled > 0 { format!(", {} of them filled", built.filled) } else { String::new() };
        let (first, last) = (time::wall(e.first), time::wall(e.last));
        lines.push(format!("{name}: {} bars from {first} to {last}{filled}", e.rows));
        if built.on_closed_days > 0 {
            on_closed_days += built.on_closed_days;
            lines.push(format!(
                "  ▲ {} of its bars lie on days on which the session week is closed: the week does not fit the rows; stavel check {} --learn says which would",
                built.on_closed_days, step.series
            ));
        }
        if built.too_large > 0 {
            too_large += built.too_large;
            lines.push(format!(
                "  ▲ values of more than the 18 digits that a column holds are absent: {}; look at the volumes and prices of {}",
                built.too_large, step.series
            ));
        }
        changed.push(name.clone());
    }
    if changed.len() > 1 {
        let words: Vec<String> = changed.iter().map(SeriesName::frame_text).collect();
        let head = format!("{} frames of {} built: {}", changed.len(), step.series, words.join(" "));
        lines.insert(0, head);
    }
    let report = StepReport { changed, ..StepReport::new(json!({ "series": json }), lines) };
    let mut report = StepReport { wants_person: on_closed_days + too_large > 0, ..report };
    let instrument = shelf.instrument(&step.series.instrument)?;
    let is_of_days = frames.iter().any(|f| f.length() >= DAY);
    if is_of_days && step.clock.is_none() && assumptions::day_is_anyones_guess(&instrument) {
        report.wants_person = true;
        report.lines.push(format!(
            "  ▲ nobody has said when a session day of {0} begins; its days are those of {1}: say it with compose {0} --set hours=… --set clock=…",
            instrument.name, instrument.sheet.session.clock
        ));
    }
    Ok(report)
}

/// What a frame is built by.
#[derive(Clone, PartialEq)]
struct BuiltBy {
    clock: Option<Clock>,
    side: Side,
    empty: EmptyBars,
}

/// The frames grouped by what they are built by: what the step says, or what each was built by before, where it is to be
/// built again.
fn by_settings(shelf: &Shelf, step: &FramesStep, frames: &[Frame]) -> Result<Vec<(BuiltBy, Vec<Frame>)>> {
    let said = BuiltBy {
        clock: step.clock.clone(),
        side: step.side.unwrap_or(Side::Bid),
        empty: step.empty.unwrap_or_default(),
    };
    if !step.again {
        return Ok(vec![(said, frames.to_vec())]);
    }
    let mut out: Vec<(BuiltBy, Vec<Frame>)> = Vec::new();
    for frame in frames {
        let name = step.series.with_frame(*frame).with_built(true);
        let before = shelf.find(&name).or_else(|_| shelf.find(&step.series.with_frame(*frame)));
        let by = match before.map(|info| info.edition.provenance.made) {
            Ok(Made::Frames(f)) => BuiltBy {
                clock: f.clock.as_deref().map(str::parse).transpose()?,
                side: f.side,
                empty: f.empty,
            },
            _ => said.clone(),
        };
        match out.iter_mut().find(|(other, _)| *other == by) {
            Some((_, frames)) => frames.push(*frame),
            None => out.push((by, vec![*frame])),
        }
    }
    Ok(out)
}
