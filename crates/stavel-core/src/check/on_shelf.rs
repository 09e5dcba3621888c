//! Checking and mending on the shelf.

use serde_json::json;

use super::{Checker, Kind, Mended, Report, Subject, mend};
use crate::Result;
use crate::job::Job;
use crate::model::{SeriesName, Span};
use crate::store::{EditionInfo, Origin, SeriesInfo, Shelf};

/// Checks the rows of a series within a span.
///
/// # Errors
/// Where the series is not there, cannot be read, or the person stops it.
pub fn check_series(shelf: &Shelf, name: &SeriesName, span: Span, job: &Job) -> Result<(SeriesInfo, Report)> {
    let info = shelf.find(name)?;
    let mut session = shelf.instrument(&name.instrument)?.sheet.session;
    if info.is_afloat() {
        // Nobody knows when an afloat market opens: only rows are judged, against hours that never close.
        session.week = crate::model::SessionWeek::always();
        session.clock = crate::model::Clock::utc();
    }
    let seen = Span::new(info.edition.first, info.edition.last + 1);
    let span = seen.overlap(&span).unwrap_or(Span::new(info.edition.last, info.edition.last));
    let disorder = disorder_of(shelf, &info, span)?;
    let mut checker = Checker::new(Subject { session: &session, frame: name.frame, span, disorder });
    job.begin(format!("check {name}"), info.edition.rows);
    for rows in shelf.scan(&info.edition, span, None)? {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        checker.push(&rows);
    }
    let mut report = checker.finish();
    if info.is_afloat() {
        report.findings.retain(|f| !matches!(f.kind, Kind::Missing | Kind::ClockSlip));
        report.gaps.clear();
    }
    Ok((info, report))
}

/// What stood out of order in the files behind an edition, unless a mend has settled it since.
fn disorder_of(shelf: &Shelf, info: &SeriesInfo, span: Span) -> Result<Vec<(Span, u64, String)>> {
    let editions = shelf.editions(&info.name)?;
    let mut out = Vec::new();
    let mut at = Some(info.edition.id);
    while let Some(edition) = at.and_then(|id| editions.iter().find(|e| e.id == id)) {
        if edition.detail["mended"].as_array().is_some_and(|m| m.iter().any(|k| k == Kind::OutOfOrder.word()))
        {
            break;
        }
        for place in edition.detail["disorder"].as_array().into_iter().flatten() {
            let number = |key: &str| place[key].as_i64().unwrap_or_default();
            let found = Span::new(number("from"), number("to") + info.name.frame.length().max(1));
            if found.overlap(&span).is_some() {
                let file = place["file"].as_str().unwrap_or_default();
                let detail =
                    format!("{} rows came late, in {file} near line {}", number("rows"), number("line"));
                out.push((found, number("rows") as u64, detail));
            }
        }
        // An anchoring carries over what was noted before it, in UTC.
        at = if edition.act == "align" { None } else { edition.before };
    }
    out.sort_by_key(|d| d.0.from);
    Ok(out)
}

/// What mending would leave, without writing anything.
pub fn mend_rows(
    shelf: &Shelf,
    name: &SeriesName,
    report: &Report,
    kinds: &[Kind],
) -> Result<(EditionInfo, Mended)> {
    let info = shelf.find(name)?;
    let session = shelf.instrument(&name.instrument)?.sheet.session;
    let rows = shelf.read(&info.edition, Span::ALL)?;
    Ok((info.edition, mend(rows, report, kinds, &session)?))
}

/// Mends kinds of findings of a whole series into a new edition.
///
/// # Errors
/// Where a kind has no mend or nothing would be left.
pub fn mend_series(
    shelf: &mut Shelf,
    name: &SeriesName,
    kinds: &[Kind],
    job: &Job,
) -> Result<Vec<(Kind, u64)>> {
    let (info, report) = check_series(shelf, name, Span::ALL, job)?;
    let kinds: Vec<Kind> = if info.is_afloat() {
        // Closed hours cannot be told without a clock.
        kinds.iter().copied().filter(|k| *k != Kind::ClosedMarket).collect()
    } else {
        kinds.to_vec()
    };
    let (edition, mended) = mend_rows(shelf, name, &report, &kinds)?;
    if mended.counts.iter().all(|(_, n)| *n == 0) {
        return Ok(mended.counts);
    }
    let words: Vec<&str> = kinds.iter().map(|k| k.word()).collect();
    let counts: Vec<(&str, u64)> = mended.counts.iter().map(|(k, n)| (k.word(), *n)).collect();
    let origin = Origin {
        act: "check",
        detail: json!({"mended": words, "counts": counts}),
        clock: edition.clock.clone(),
        fields: edition.fields.clone(),
        scale: edition.scale,
    };
    let mut draft = shelf.draft(name, origin)?;
    draft.push(mended.rows)?;
    draft.commit()?;
    Ok(mended.counts)
}
