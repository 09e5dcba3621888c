//! Building frames.

use serde_json::json;
use stavel_core::Result;
use stavel_core::frames::build_series;
use stavel_core::job::Job;
use stavel_core::model::Side;
use stavel_core::model::time::{self, DAY, rfc3339};
use stavel_core::store::Shelf;

use crate::assumptions;
use crate::report::StepReport;
use crate::step::FramesStep;

pub fn build_frames(shelf: &mut Shelf, step: &FramesStep, job: &Job) -> Result<StepReport> {
    let side = step.side.unwrap_or(Side::Bid);
    let frames: Vec<_> = step.frames.iter().flat_map(|f| f.built_from(step.series.frame)).collect();
    let (mut json, mut lines, mut changed) = (Vec::new(), Vec::new(), Vec::new());
    let (mut on_closed_days, mut too_large) = (0, 0);
    for built in build_series(shelf, &step.series, &frames, step.clock.as_ref(), side, job)? {
        let (name, e) = (&built.info.name, &built.info.edition);
        json.push(json!({
            "series": name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
            "partial_first": built.partial_first, "partial_last": built.partial_last,
            "on_closed_days": built.on_closed_days, "too_large": built.too_large,
        }));
        lines.push(format!("{name}: {} bars from {} to {}", e.rows, time::wall(e.first), time::wall(e.last)));
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
