//! The series that a pattern names.

use crate::step::Step;
use stavel_core::model::{Frame, SeriesName, SeriesPattern, Side};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

/// The series that are built from: the one that is named, or of each source that a pattern names its finest own history.
///
/// # Errors
/// Where there is none.
pub fn bases(shelf: &Shelf, of: &SeriesPattern) -> Result<Vec<SeriesName>> {
    if let Some(name) = of.exact() {
        return Ok(vec![name]);
    }
    let matching = |s: &SeriesInfo| of.matches(&s.name) && (of.has_frame() || is_finest_kind(s));
    let mut all: Vec<SeriesInfo> = shelf.series()?.into_iter().filter(matching).collect();
    if !of.has_frame() {
        // Ticks come before bars, short bars before long ones.
        all.sort_by_key(|s| (s.name.instrument.clone(), s.name.source.clone(), s.name.frame.length()));
        all.dedup_by_key(|s| (s.name.instrument.clone(), s.name.source.clone()));
    }
    if all.is_empty() {
        return Err(Error::input(format!(
            "No series on the shelf is {of}; stavel shelf names those that are there."
        )));
    }
    Ok(all.into_iter().map(|s| s.name).collect())
}

/// The series whose rows a step reads, patterns among them resolved as they are on the shelf now.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn reads_on(shelf: &Shelf, step: &Step) -> Result<Vec<SeriesName>> {
    Ok(match step {
        // What is not there is told when the step is done.
        Step::Frames(s) => bases(shelf, &s.series).unwrap_or_default(),
        Step::Deliver(s) => {
            let own = delivered(shelf, &s.series, &s.frames).unwrap_or_default();
            // The ask that goes along is read too, and makes another file where it has changed.
            let ask = |name: &SeriesName| SeriesName { side: Side::Ask, ..name.clone() };
            let beside: Vec<SeriesName> = own.iter().filter(|_| s.sides.is_some()).map(ask).collect();
            let mut all = own;
            for name in beside {
                if !all.contains(&name) && shelf.current(&name)?.is_some() {
                    all.push(name);
                }
            }
            all
        }
        step => step.reads(),
    })
}

/// The series that are delivered: those that are named, in the frames that are wanted.
///
/// # Errors
/// Where there is none, or one that is wanted is not there.
pub fn delivered(shelf: &Shelf, patterns: &[SeriesPattern], frames: &[String]) -> Result<Vec<SeriesName>> {
    let mut out: Vec<SeriesName> = Vec::new();
    let all = if frames.is_empty() { Vec::new() } else { shelf.series()? };
    for pattern in patterns {
        for base in bases(shelf, pattern)? {
            let of_source = |name: &&SeriesName| {
                name.instrument == base.instrument && name.source == base.source && name.side == base.side
            };
            if frames.is_empty() {
                out.push(base);
                continue;
            }
            let there: Vec<&SeriesName> = all.iter().map(|info| &info.name).filter(of_source).collect();
            for frame in frames {
                if frame == "all" {
                    out.extend(there.iter().copied().cloned());
                    continue;
                }
                let frame: Frame = frame.parse()?;
                let of_frame: Vec<&&SeriesName> = there.iter().filter(|name| name.frame == frame).collect();
                // Where a frame is both brought and built, the name without a mark is the source's own.
                let found = of_frame.iter().find(|name| !name.built).or(of_frame.first());
                let Some(found) = found else {
                    return Err(Error::input(format!(
                        "{}@{} has no {frame} on the shelf; stavel frames {base} {frame} builds it.",
                        base.instrument, base.source
                    )));
                };
                out.push((**found).clone());
            }
        }
    }
    let mut seen = std::collections::BTreeSet::new();
    out.retain(|name| seen.insert(name.to_string()));
    Ok(out)
}

/// True for what frames may be built of: a history of the source itself, of the first side.
fn is_finest_kind(info: &SeriesInfo) -> bool {
    let name = &info.name;
    let is_built = info.edition.provenance.made.is_framed();
    !is_built && name.side == Side::Bid && name.frame != Frame::Depth && !name.frame.is_counted()
}
