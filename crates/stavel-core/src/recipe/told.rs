//! Reports of alignments: documents for programs, lines for people.

use serde_json::{Value, json};

use crate::align;
use crate::model::price::as_float;
use crate::model::time::{self, MINUTE, rfc3339};

/// Other clocks that explain the weeks.
pub fn alternatives_in_words(fit: &align::Fit) -> Vec<String> {
    fit.alternatives
        .iter()
        .map(|a| match a.differs.len() {
            0 => format!("  also possible: {}; no week covered here tells it apart", a.clock),
            n => format!("  less likely: {} ({:.2}); {n} covered weeks speak against it", a.clock, a.score),
        })
        .collect()
}

/// An alignment as the document that other programs rely on.
pub fn align_json(study: &align::Study, sure: bool, anchored: bool) -> Value {
    let decimals = |info: &crate::store::SeriesInfo| info.edition.scale.price;
    json!({
        "clock": sure.then(|| study.fit.clock.to_string()),
        "confidence": study.fit.confidence,
        "weeks": study.fit.weeks.iter().map(|w| json!({
            "week": time::date(time::day_of(w.start) + 2), "offset_minutes": w.offset / MINUTE,
            "correlation": w.correlation, "agrees": w.agrees,
        })).collect::<Vec<_>>(),
        "alternatives": study.fit.alternatives.iter().map(|a| json!({
            "clock": a.clock, "score": a.score,
            "differs": a.differs.iter().map(|w| time::date(time::day_of(*w) + 2)).collect::<Vec<_>>(),
        })).collect::<Vec<_>>(),
        "evidence": study.evidence.iter().map(|e| json!({
            "utc": rfc3339(e.utc), "written": time::wall(e.written),
            "range_here": as_float(e.range_here, decimals(&study.here)),
            "range_there": as_float(e.range_there, decimals(&study.there)),
        })).collect::<Vec<_>>(),
        "anchored": anchored,
    })
}
