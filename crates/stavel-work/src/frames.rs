//! Building frames.

use serde_json::json;
use stavel_core::Result;
use stavel_core::frames::build_series;
use stavel_core::job::Job;
use stavel_core::model::time::{self, DAY, rfc3339};
use stavel_core::model::{Frame, Side};
use stavel_core::store::Shelf;

use crate::assumptions;
use crate::report::Report;
use crate::step::FramesStep;

fn side_of(text: Option<&str>) -> Result<Side> {
    text.map_or(Ok(Side::Bid), str::parse)
}

pub fn build_frames(shelf: &mut Shelf, step: &FramesStep, job: &Job) -> Result<Report> {
    let side = side_of(step.side.as_deref())?;
    let (mut json, mut lines, mut changed) = (Vec::new(), Vec::new(), Vec::new());
    let mut on_closed_days = 0;
    for built in build_series(shelf, &step.series, &step.frames, step.clock.as_ref(), side, job)? {
        let (name, e) = (&built.info.name, &built.info.edition);
        json.push(json!({
            "series": name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
            "partial_first": built.partial_first, "partial_last": built.partial_last,
            "on_closed_days": built.on_closed_days,
        }));
        lines.push(format!("{name}: {} bars from {} to {}", e.rows, time::wall(e.first), time::wall(e.last)));
        if built.on_closed_days > 0 {
            on_closed_days += built.on_closed_days;
            lines.push(format!(
                "  ▲ {} of its bars lie on days on which the session week is closed: the week does not fit the rows; stavel check {} --learn says which would",
                built.on_closed_days, step.series
            ));
        }
        changed.push(name.clone());
    }
    let report = Report { changed, ..Report::new(json!({ "series": json }), lines) };
    let mut report = Report { wants_person: on_closed_days > 0, ..report };
    let instrument = shelf.instrument(&step.series.instrument)?;
    let is_of_days = step.frames.iter().any(|f| f.length() >= DAY);
    if is_of_days && step.clock.is_none() && assumptions::day_is_anyones_guess(&instrument) {
        report.wants_person = true;
        report.lines.push(format!(
            "  ▲ nobody has said when a session day of {0} begins; its days are those of {1}: say it with compose {0} --set hours=… --set clock=…",
            instrument.name, instrument.sheet.session.clock
        ));
    }
    Ok(report)
}

/// Frames named in a list, where `all` stands for the usual ones that can be made.
pub fn frames_named(words: &[String], from: Frame) -> Result<Vec<Frame>> {
    let mut out = Vec::new();
    for word in words {
        if word == "all" {
            let usual = Frame::USUAL.iter().filter_map(|f| f.parse().ok());
            out.extend(usual.filter(|f| stavel_core::frames::can_build(from, *f)));
        } else {
            out.push(word.parse()?);
        }
    }
    Ok(out)
}
