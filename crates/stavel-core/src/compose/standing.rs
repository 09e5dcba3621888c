//! What of a variant stands when its base has grown or changed.

use crate::Result;
use crate::model::provenance::Composing;
use crate::model::{Columns, Input, Made, Micros, Provenance, SeriesName, Span};
use crate::store::{EditionInfo, SegmentInfo, Shelf};

/// The rows of an edition that are the same still.
pub(super) struct StandingRows {
    edition: EditionInfo,
    /// The time, in the variant, from which on rows are made anew.
    pub from: Micros,
}

/// What of the variant's edition stands; none where it was made otherwise, where rows of it were left away for other
/// reasons than its hours (their number would not be known), or where it differs from the beginning.
///
/// # Errors
/// Where the shelf cannot be read.
pub(super) fn standing(
    shelf: &Shelf,
    target: &SeriesName,
    now: &Provenance,
    like: &Columns,
    shift: Micros,
) -> Result<Option<StandingRows>> {
    let Some(before) = shelf.current_own(target)? else { return Ok(None) };
    let edition = before.edition;
    let then = &edition.provenance;
    let (Made::Compose(was), Made::Compose(is)) = (&then.made, &now.made) else { return Ok(None) };
    let is_plain =
        |c: &Composing| c.unpriced + c.no_spread + c.below_zero == 0 && c.variation.edits.is_none();
    let is_same = was.variation == is.variation
        && is_plain(was)
        && then.method == now.method
        && sheet(then).eq(sheet(now))
        && then.parents().map(|p| p.1).eq(now.parents().map(|p| p.1))
        // Spreads that are measured on another series are measured on all of it.
        && then.parents().skip(1).eq(now.parents().skip(1))
        && (&edition.fields, edition.scale) == (&like.fields, like.scale);
    let parents = then.parents().zip(now.parents()).next().filter(|_| is_same);
    let Some(((then, _), (source, _))) = parents else { return Ok(None) };
    let (Some(then), Some(source)) = (shelf.edition(then)?, shelf.edition(source)?) else { return Ok(None) };
    if then.clock != source.clock {
        return Ok(None);
    }
    let differs = shelf.first_difference(&then, &source)?.unwrap_or(then.last.saturating_add(1));
    let from = differs.saturating_add(shift);
    Ok((edition.first < from).then_some(StandingRows { edition, from }))
}

fn sheet(of: &Provenance) -> impl Iterator<Item = &Input> {
    of.inputs.iter().filter(|i| matches!(i, Input::Sheet { .. }))
}

impl StandingRows {
    /// The files that stand as they are, and the rows that stand in the file after them.
    ///
    /// # Errors
    /// Where they cannot be read.
    pub fn parts(&self, shelf: &Shelf) -> Result<(Vec<SegmentInfo>, Columns)> {
        let files = shelf.segments(&self.edition)?;
        let kept: Vec<SegmentInfo> = files.into_iter().take_while(|f| f.last < self.from).collect();
        let after = kept.last().map_or(Micros::MIN, |f| f.last + 1);
        Ok((kept, shelf.read(&self.edition, Span::new(after, self.from))?))
    }
}
