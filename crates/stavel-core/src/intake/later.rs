//! Later files of a series: what is known of it already, and how far that goes.

use super::Stamp;
use crate::model::time::{DAY, wall};
use crate::model::{Clock, Made, Micros, SeriesName, Standing};
use crate::store::{SeriesInfo, Shelf};
use crate::{Error, Result};

/// The stamp of a series' bars, where an earlier file or a comparison has told it.
pub fn known_stamp(shelf: &Shelf, series: &SeriesName) -> Result<Option<Stamp>> {
    let named = |word: &str| [Stamp::Open, Stamp::Close].into_iter().find(|s| s.word() == word);
    if shelf.current_own(series)?.is_none() {
        return Ok(None);
    }
    for edition in shelf.editions(series)?.iter().rev() {
        match &edition.provenance.made {
            Made::Intake(taken) => {
                let decision = taken.decisions.iter().find(|d| d.what == "stamp");
                if let Some(decision) = decision.filter(|d| d.standing != Standing::Assumed) {
                    return Ok(named(&decision.value));
                }
            }
            // The stamp is found with the clock; beside a clock that was chosen it may be anyone's guess.
            Made::Align(anchoring) if !anchoring.chosen && !anchoring.stamp.is_empty() => {
                return Ok(named(&anchoring.stamp));
            }
            _ => {}
        }
    }
    Ok(None)
}

/// Asks where rows of a silent file would be moved by a clock that was found, but whose changes the rows it
/// was found from never showed: a winter fits a fixed clock as well as one that changes in spring.
///
/// # Errors
/// A question, where the clock's offset in the new rows is one the series never had.
pub fn may_go_on(
    shelf: &Shelf,
    info: &SeriesInfo,
    ends: Option<(Micros, Micros)>,
    place: &str,
) -> Result<()> {
    let (Some(clock), Some((first, last))) = (&info.edition.clock, ends) else { return Ok(()) };
    let editions = shelf.editions(&info.name)?;
    let aligned = editions.iter().rev().find(|e| matches!(e.provenance.made, Made::Align(_)));
    let said_since = |e: &crate::store::EditionInfo| match &e.provenance.made {
        Made::Intake(taken) => {
            taken.decisions.iter().any(|d| d.what == "clock" && d.standing == Standing::Said)
        }
        _ => false,
    };
    let Some(aligned) = aligned.filter(|a| !editions.iter().any(|e| e.number > a.number && said_since(e)))
    else {
        return Ok(());
    };
    let seen = offsets(clock, aligned.first, aligned.last);
    if offsets(clock, first, last).iter().all(|offset| seen.contains(offset)) {
        return Ok(());
    }
    Err(Error::undecided(format!(
        "The clock {clock} of {} was found from rows from {} to {}, in which it never changed; the rows of {place} ({} to {}) lie where it would have. Say --clock {clock} if it does change so, or the fixed clock.",
        info.name,
        wall(aligned.first),
        wall(aligned.last),
        wall(first),
        wall(last)
    )))
}

/// The offsets from UTC that a clock has in a span, looked at day by day.
fn offsets(clock: &Clock, first: Micros, last: Micros) -> Vec<Micros> {
    let mut all = Vec::new();
    let days = (last - first) / DAY;
    for day in 0..=days {
        let offset = clock.offset_at(first + day * DAY);
        if !all.contains(&offset) {
            all.push(offset);
        }
    }
    all
}

/// Says no to rows of another clock that would replace a part of a series: the rest would stay by the old.
///
/// # Errors
/// One sentence, where rows of the series would be left over.
pub fn may_replace(info: &SeriesInfo, clock: Option<&Clock>, ends: Option<(Micros, Micros)>) -> Result<()> {
    let there = info.edition.clock.as_ref();
    if there == clock {
        return Ok(());
    }
    let (first, last) = ends.unwrap_or_default();
    let utc = |t: Micros| clock.map_or(t, |c| c.from_wall(t).settle());
    // Afloat rows may lie up to a day from where they are written.
    let slack = if there.is_none() || clock.is_none() { DAY } else { 0 };
    if utc(first) + slack <= info.edition.first && utc(last) - slack >= info.edition.last {
        return Ok(());
    }
    let words = |clock: Option<&Clock>| clock.map_or("afloat".to_owned(), Clock::to_string);
    Err(Error::arguments(format!(
        "{} is {} and the new rows are {}: they can replace all of it, but not a part. Say the same --clock, or take them into another source.",
        info.name,
        words(there),
        words(clock)
    )))
}
