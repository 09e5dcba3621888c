//! What of a variant stands when its base has grown or changed.

use crate::Result;
use crate::model::provenance::{Composing, LeftAway};
use crate::model::{Columns, Made, Micros, Provenance, SeriesName};
use crate::store::{EditionInfo, Shelf};

/// The rows of an edition that are the same still.
pub(super) struct StandingRows {
    /// The edition they are of.
    pub edition: EditionInfo,
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
    let is_plain = |c: &Composing| {
        let only_outside = LeftAway { outside: c.left.outside, ..LeftAway::default() };
        c.left == only_outside && c.variation.edits.is_none()
    };
    // What is drawn by chance is drawn anew: how much went missing before would not be known.
    let is_same = is.variation.stress.is_none()
        && was.variation == is.variation
        && was.actions == is.actions
        && is_plain(was)
        && then.method == now.method
        && then.sheet_inputs().eq(now.sheet_inputs())
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
