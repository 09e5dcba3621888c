//! What of a formula's rows stands when its legs have grown or changed.

use std::collections::{BTreeMap, VecDeque};

use super::join::{month_of, name_of_month};
use crate::Result;
use crate::model::provenance::{FormulaMade, LegsLeft};
use crate::model::{Columns, Made, Micros, Provenance, SeriesName, Span};
use crate::store::{EditionInfo, Shelf};

/// The months of an edition that are the same still.
pub(super) struct StandingMonths {
    pub edition: EditionInfo,
    /// The beginning of the first month that is worked out anew.
    pub from: Micros,
    /// What made no row in the months that stand.
    pub left: BTreeMap<String, LegsLeft>,
}

fn asked(provenance: &Provenance) -> Option<FormulaMade> {
    match &provenance.made {
        Made::Formula(made) => Some(FormulaMade { left: BTreeMap::new(), unit: None, ..(**made).clone() }),
        _ => None,
    }
}

/// The months that stand: those before the first row of a leg that differs from what it was. None where the edition was made
/// otherwise.
///
/// # Errors
/// Where the shelf cannot be read.
pub(super) fn standing(
    shelf: &Shelf,
    target: &SeriesName,
    now: &Provenance,
    like: &Columns,
) -> Result<Option<StandingMonths>> {
    let Some(before) = shelf.current_own(target)? else { return Ok(None) };
    let edition = before.edition;
    let then = &edition.provenance;
    let is_same = asked(then).is_some()
        && asked(then) == asked(now)
        && then.method == now.method
        && then.sheet_inputs().eq(now.sheet_inputs())
        && then.parents().map(|p| p.1).eq(now.parents().map(|p| p.1))
        && (&edition.fields, edition.scale) == (&like.fields, like.scale);
    let Made::Formula(made) = &then.made else { return Ok(None) };
    if !is_same {
        return Ok(None);
    }
    let mut first: Option<Micros> = None;
    for ((then, _), (now, _)) in then.parents().zip(now.parents()) {
        let (Some(then), Some(now)) = (shelf.edition(then)?, shelf.edition(now)?) else { return Ok(None) };
        if then.clock != now.clock {
            return Ok(None);
        }
        // Where a leg begins or ends tells for which reason moments beside it make no row.
        let ends = ((then.first, then.last) != (now.first, now.last)).then(|| then.last.min(now.last));
        first = first.into_iter().chain(shelf.first_difference(&then, &now)?).chain(ends).min();
    }
    // Where nothing differs, the last month is looked at anew: it costs little and nothing has to be said of it.
    let from = month_of(first.unwrap_or(edition.last)).from;
    if edition.first >= from {
        return Ok(None);
    }
    let (month, left) = (name_of_month(from), made.left.clone());
    let left = left.into_iter().filter(|(name, _)| *name < month).collect();
    Ok(Some(StandingMonths { edition, from, left }))
}

/// The time of the row from which on legs have to be read, so that windows which look back so many rows are full at `until`.
///
/// # Errors
/// Where the rows cannot be read.
pub(super) fn look_back_from(
    shelf: &Shelf,
    edition: &EditionInfo,
    until: Micros,
    rows: usize,
) -> Result<Micros> {
    let mut last = VecDeque::new();
    for piece in shelf.scan(edition, Span::new(Micros::MIN, until), Some(&[]))? {
        for time in piece?.time {
            last.push_back(time);
            if last.len() > rows + 1 {
                last.pop_front();
            }
        }
    }
    Ok(if last.len() > rows { last[0] } else { Micros::MIN })
}
