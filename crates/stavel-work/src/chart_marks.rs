//! What a chart marks beside its bars: findings, seams, dates, and where session days begin.

use stavel_core::Result;
use stavel_core::check::{Finding, FindingKind, Severity};
use stavel_core::model::time::DAY;
use stavel_core::model::{Frame, Made, Session, Span, Weight};
use stavel_core::store::{FactFilter, SeriesInfo, Shelf, fact_kind};
use stavel_draw::{MarkAt, MarkKind};

/// Every other session day, so that days are told apart; none of bars of half a day and more.
pub fn every_other_day(session: &Session, frame: Frame, span: Span) -> Vec<Span> {
    if frame.length() >= DAY / 2 {
        return Vec::new();
    }
    let days = session.clock.day_of(span.from)..=session.clock.day_of(span.to - 1);
    days.filter(|day| day % 2 == 0).map(|day| session.day_span(day)).collect()
}

/// The marks of a series: its findings and seams, and what is known on dates in a span. Where its clock is not known, dates
/// have no place among its rows.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn marks_of(
    shelf: &Shelf,
    info: &SeriesInfo,
    findings: &[Finding],
    weight: Option<Weight>,
    span: Span,
) -> Result<Vec<MarkAt>> {
    let at = |time, kind| MarkAt { time, kind };
    let mut marks = Vec::new();
    if let Made::Splice(joining) = &info.edition.provenance.made {
        marks.extend(joining.seams.iter().map(|seam| at(*seam, MarkKind::Seam)));
    }
    for finding in findings.iter().filter(|f| f.kind != FindingKind::ClosedMarket) {
        match finding.kind.severity() {
            Severity::Fault => marks.push(at(finding.span.from, MarkKind::Fault)),
            Severity::Doubt => marks.push(at(finding.span.from, MarkKind::Doubt)),
            Severity::Note => {}
        }
    }
    if !info.is_afloat() {
        let filter = FactFilter { weight, span: Some(span), ..FactFilter::default() };
        for fact in shelf.facts_about(&info.name.instrument, &filter)? {
            let kind = match fact.kind.as_str() {
                fact_kind::EVENT => MarkKind::Event(fact.weight()),
                fact_kind::HOLIDAY => MarkKind::Holiday,
                fact_kind::GAP => MarkKind::Gap,
                fact_kind::SHEET => continue,
                _ => MarkKind::Action,
            };
            marks.push(at(fact.time, kind));
        }
    }
    Ok(marks)
}
