//! Splicing on the shelf.

use serde_json::json;

use super::{Rule, Spliced, splice};
use crate::frames;
use crate::job::Job;
use crate::model::{Clock, Columns, SeriesName, Side, Span};
use crate::store::{Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// A joined series and how it came about.
pub struct SplicedSeries {
    pub info: SeriesInfo,
    pub spliced: Spliced,
}

/// Joins series of the shelf without writing them. Ticks beside bars are framed first.
///
/// # Errors
/// Where a series is afloat, of another instrument, or at a frame that does not fit.
pub fn splice_rows(
    shelf: &Shelf,
    names: &[SeriesName],
    rule: Rule,
    job: &Job,
) -> Result<(SeriesName, Spliced)> {
    let infos: Vec<SeriesInfo> = names.iter().map(|n| shelf.find(n)).collect::<Result<_>>()?;
    let Some(first) = infos.first() else {
        return Err(Error::arguments("A splice needs two series or more, in order of precedence."));
    };
    if let Some(other) = names.iter().find(|n| n.instrument != names[0].instrument) {
        return Err(Error::arguments(format!(
            "{} and {other} are different instruments; splice one at a time.",
            names[0]
        )));
    }
    if let Some(afloat) = infos.iter().find(|i| i.is_afloat()) {
        return Err(Error::input(format!(
            "{0} is afloat; find its clock first: stavel align {0} --to an anchored series --anchor.",
            afloat.name
        )));
    }
    let frame = names.iter().map(|n| n.frame).find(|f| !f.is_ticks()).unwrap_or(first.name.frame);
    if let Some(odd) = names.iter().find(|n| !n.frame.is_ticks() && n.frame != frame) {
        return Err(Error::arguments(format!(
            "{odd} has another frame than {frame}; build {frame} of it first (stavel frames)."
        )));
    }
    job.begin("splice", infos.iter().map(|i| i.edition.rows).sum());
    let scale = infos.iter().map(|i| i.edition.scale).reduce(|a, b| a.finer(&b)).unwrap_or_default();
    let mut sources: Vec<Columns> = Vec::new();
    for info in &infos {
        let rows = if info.name.frame == frame {
            let rows = shelf.read(&info.edition, Span::ALL)?;
            job.advance(rows.len() as u64)?;
            rows
        } else {
            frames::build_rows(shelf, info, frame, None, Side::Bid, Span::ALL, job)?.bars
        };
        sources.push(rows.rescaled(scale));
    }
    let session = shelf.instrument(&names[0].instrument)?.sheet.session;
    let spliced = splice(&sources, rule, &session)?;
    Ok((first.name.with_frame(frame), spliced))
}

/// Joins series of the shelf into source `into`.
///
/// # Errors
/// As [`splice_rows`]; also where the result would overwrite one of its sources.
pub fn splice_series(
    shelf: &mut Shelf,
    names: &[SeriesName],
    into: &str,
    rule: Rule,
    job: &Job,
) -> Result<SplicedSeries> {
    crate::model::series::check_name("source", into)?;
    if let Some(own) = names.iter().find(|n| n.source == into) {
        return Err(Error::arguments(format!(
            "The result may not overwrite {own}; choose another name than {into}."
        )));
    }
    let (like, mut spliced) = splice_rows(shelf, names, rule, job)?;
    let target = like.with_source(into);
    let parents: Vec<serde_json::Value> = names
        .iter()
        .map(|n| shelf.find(n).map(|i| json!({"series": n.to_string(), "edition": i.edition.id})))
        .collect::<Result<_>>()?;
    let origin = Origin {
        act: "splice",
        detail: json!({
            "from": parents, "rule": rule.to_string(),
            "seams": spliced.seams.iter().take(1000).map(|s| s.at).collect::<Vec<_>>(),
        }),
        clock: Some(Clock::utc()),
        fields: spliced.rows.fields.clone(),
        scale: spliced.rows.scale,
    };
    let mut draft = shelf.draft(&target, origin)?;
    draft.push(std::mem::take(&mut spliced.rows))?;
    Ok(SplicedSeries { info: draft.commit()?, spliced })
}
