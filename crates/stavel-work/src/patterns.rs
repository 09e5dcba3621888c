//! The series that a pattern names.

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

/// True for what frames may be built of: a history of the source itself, of the first side.
fn is_finest_kind(info: &SeriesInfo) -> bool {
    let name = &info.name;
    let is_built = info.edition.provenance.made.is_framed();
    !is_built && name.side == Side::Bid && name.frame != Frame::Depth && !name.frame.is_counted()
}
