//! Reports of checks and alignments: documents for programs, lines for people.

use serde_json::{Value, json};

use crate::align;
use crate::check::{self, Kind};
use crate::model::SeriesName;
use crate::model::price::as_float;
use crate::model::time::{self, MINUTE, rfc3339};

/// A check in lines for people.
pub fn check_lines(series: &SeriesName, found: &check::Report) -> Vec<String> {
    let mut lines = vec![format!(
        "{series}: {} rows, {} findings, {:.2} % of open time covered",
        found.rows,
        found.findings.len(),
        found.coverage * 100.0
    )];
    for kind in Kind::ALL {
        let (n, rows) = found.count(kind);
        if n > 0 {
            let first = found.findings.iter().find(|f| f.kind == kind);
            let first =
                first.map(|f| format!("{} {}", time::wall(f.span.from), f.detail)).unwrap_or_default();
            lines.push(format!("  {:<16} {n:>5} findings {rows:>8} rows   first {first}", kind.word()));
        }
    }
    lines
}

/// A check's report as the document that other programs rely on.
pub fn check_json(series: &SeriesName, found: &check::Report, decimals: u8) -> Value {
    let price = |e: check::Extreme| as_float(e.points, decimals);
    json!({
        "series": series,
        "rows": found.rows,
        "first": rfc3339(found.first),
        "last": rfc3339(found.last),
        "coverage": found.coverage,
        "missing_days": found.missing_days().map(time::date).collect::<Vec<_>>(),
        "gaps": found.gaps.iter().map(|g| json!({
            "from": rfc3339(g.span.from), "to": rfc3339(g.span.to), "minutes": g.open / MINUTE,
        })).collect::<Vec<_>>(),
        "findings": found.findings.iter().map(|f| json!({
            "kind": f.kind, "severity": f.kind.severity(), "from": rfc3339(f.span.from), "to": rfc3339(f.span.to),
            "rows": f.rows, "detail": f.detail,
        })).collect::<Vec<_>>(),
        "stats": {
            "max_range": price(found.max_range), "max_range_at": rfc3339(found.max_range.at),
            "max_body": price(found.max_body), "max_body_at": rfc3339(found.max_body.at),
            "max_gap": price(found.max_gap), "max_gap_at": rfc3339(found.max_gap.at),
            "spread": found.spread,
            "filler_closed": found.filler_closed, "quiet_open": found.filler_open,
        },
    })
}

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
