//! Bars that stand when their source has grown or changed: only what comes after the first difference is built anew.

use std::collections::HashMap;

use crate::Result;
use crate::bars::Grid;
use crate::model::provenance::{EmptyBars, Framing};
use crate::model::{Columns, Frame, Made, Micros, Provenance, SeriesName, Session, Span};
use crate::store::{EditionInfo, Shelf};

/// The bars of an edition that are the same still.
pub(super) struct StandingBars {
    /// The edition they are of.
    pub edition: EditionInfo,
    /// When the first bar begins that is built anew.
    pub from: Micros,
    /// As the edition says it.
    pub partial_first: bool,
}

/// Since when the source differs from each edition of it that frames were built of: most were built of the same.
#[derive(Default)]
pub(super) struct SourceDifferences(HashMap<i64, Option<Micros>>);

impl SourceDifferences {
    fn since(&mut self, shelf: &Shelf, then: &EditionInfo, now: &EditionInfo) -> Result<Option<Micros>> {
        if let Some(known) = self.0.get(&then.id) {
            return Ok(*known);
        }
        let found = shelf.first_difference(then, now)?;
        self.0.insert(then.id, found);
        Ok(found)
    }
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
    differences: &mut SourceDifferences,
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
        && edition.provenance.sheet_inputs().eq(now.sheet_inputs())
        && edition.fields == like.fields
        && edition.scale == like.scale
        && told.too_large == 0;
    let parents = edition.provenance.parents().zip(now.parents()).next();
    let Some(((then, _), (source, _))) = parents.filter(|_| is_same) else { return Ok(None) };
    let (Some(then), Some(source)) = (shelf.edition(then)?, shelf.edition(source)?) else { return Ok(None) };
    if then.clock != source.clock || then.scale != source.scale || then.fields != source.fields {
        return Ok(None);
    }
    let differs = differences.since(shelf, &then, &source)?.unwrap_or(edition.last);
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

impl StandingBars {
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
