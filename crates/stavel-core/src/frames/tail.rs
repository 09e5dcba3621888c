//! Bars that stand when their source has grown or changed: only what comes after the first difference is built anew.

use super::grid::Grid;
use crate::Result;
use crate::model::provenance::{EmptyBars, Framing};
use crate::model::{Columns, Frame, Input, Made, Micros, Provenance, SeriesName, Session, Span};
use crate::store::{EditionInfo, SegmentInfo, Shelf};

/// The bars of an edition that are the same still.
pub(super) struct StandingBars {
    /// The edition they are of.
    edition: EditionInfo,
    /// When the first bar begins that is built anew.
    pub from: Micros,
    /// As the edition says it.
    pub partial_first: bool,
}

/// What of a frame's edition stands; none where there is none, where it was built by something else, or where the rows
/// differ from the beginning.
///
/// `now` is what the new edition will say of itself.
///
/// # Errors
/// Where the shelf cannot be read.
pub(super) fn standing(
    shelf: &Shelf,
    target: &SeriesName,
    now: &Provenance,
    like: &Columns,
    session: &Session,
) -> Result<Option<StandingBars>> {
    let Some(before) = shelf.current_built(target)? else { return Ok(None) };
    let edition = before.edition;
    let Some(framing) = asked(now).filter(|f| f.empty == EmptyBars::Skip) else { return Ok(None) };
    let told = match &edition.provenance.made {
        Made::Frames(framing) => framing,
        _ => return Ok(None),
    };
    let is_same = asked(&edition.provenance).as_ref() == Some(&framing)
        && edition.provenance.method == now.method
        && sheet(&edition.provenance).eq(sheet(now))
        && edition.fields == like.fields
        && edition.scale == like.scale
        && told.too_large == 0;
    let parents = edition.provenance.parents().zip(now.parents()).next();
    let Some(((then, _), (source, _))) = parents.filter(|_| is_same) else { return Ok(None) };
    let (Some(then), Some(source)) = (shelf.edition(then)?, shelf.edition(source)?) else { return Ok(None) };
    if then.clock != source.clock || then.scale != source.scale || then.fields != source.fields {
        return Ok(None);
    }
    let differs = shelf.first_difference(&then, &source)?.unwrap_or(edition.last);
    let from = bar_from(framing.frame, session, differs);
    let partial_first = told.partial_first;
    Ok((edition.first < from).then_some(StandingBars { edition, from, partial_first }))
}

/// When the bar begins that holds a moment; the session day of one that is counted.
fn bar_from(frame: Frame, session: &Session, t: Micros) -> Micros {
    if frame.is_counted() {
        return session.day_span(session.clock.day_of(t)).from;
    }
    let bar = Grid::new(frame, session).bar_at(t);
    bar.span.from.min(bar.stamp)
}

/// What was asked for, without the outcome.
fn asked(of: &Provenance) -> Option<Framing> {
    match &of.made {
        Made::Frames(f) => {
            Some(Framing { partial_first: false, partial_last: false, too_large: 0, ..f.clone() })
        }
        _ => None,
    }
}

fn sheet(of: &Provenance) -> impl Iterator<Item = &Input> {
    of.inputs.iter().filter(|i| matches!(i, Input::Sheet { .. }))
}

impl StandingBars {
    /// Its files that stand as they are, and the bars that stand in the file after them.
    ///
    /// # Errors
    /// Where they cannot be read.
    pub fn parts(&self, shelf: &Shelf) -> Result<(Vec<SegmentInfo>, Columns)> {
        let files = shelf.segments(&self.edition)?;
        let kept: Vec<SegmentInfo> = files.into_iter().take_while(|f| f.last < self.from).collect();
        let after = kept.last().map_or(Micros::MIN, |f| f.last + 1);
        let rest = shelf.read(&self.edition, Span::new(after, self.from))?;
        Ok((kept, rest))
    }

    /// How many of the bars that stand lie on days on which the session does not open.
    ///
    /// # Errors
    /// Where they cannot be read.
    pub fn on_closed_days(&self, shelf: &Shelf, frame: Frame, session: &Session) -> Result<u64> {
        if !frame.is_of_days() {
            return Ok(0);
        }
        let mut grid = Grid::new(frame, session);
        let mut count = 0;
        for rows in shelf.scan(&self.edition, Span::new(Micros::MIN, self.from), Some(&[]))? {
            count += rows?.time.iter().filter(|t| !grid.bar_at(**t).opens).count() as u64;
        }
        Ok(count)
    }
}
