//! Making instruments and changing their spec sheets.

use serde_json::{Value, json};
use stavel_core::Result;
use stavel_core::compose::{self, ComposeRequest};
use stavel_core::job::Job;
use stavel_core::model::time::{self, rfc3339};
use stavel_core::store::Shelf;

use crate::report::StepReport;
use crate::step::ComposeStep;

pub fn compose_one(shelf: &mut Shelf, step: &ComposeStep, job: &Job) -> Result<StepReport> {
    let request = ComposeRequest {
        name: step.name.clone(),
        like: step.like.clone(),
        own: step.set.0.clone(),
        reset: step.reset.clone(),
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
    let doubts = made.instrument.doubts();
    let json =
        json!({"instrument": made.instrument.name, "series": series, "notes": made.notes, "doubts": doubts});
    let like = made.instrument.own.like.as_deref().map(|l| format!(" like {l}")).unwrap_or_default();
    let mut lines = vec![format!("{}{like}: {}", made.instrument.name, made.notes.join("; "))];
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    Ok(StepReport {
        wants_person: !doubts.is_empty(),
        changed: made.series.into_iter().map(|s| s.name).collect(),
        ..StepReport::new(json, lines)
    })
}
