//! What no variant can be made of.

use super::request::ComposeRequest;
use crate::model::stress::{Stress, Stretches};
use crate::model::time::{DAY, WEEK};
use crate::model::variation::Variation;
use crate::model::{Field, Micros, Side, Span};
use crate::store::{SeriesInfo, Shelf};
use crate::{Error, Result};

/// The times that can be written: the years 1 to 9999, in microseconds UTC.
const CALENDAR: Span = Span { from: -62_135_596_800_000_000, to: 253_402_300_800_000_000 };

/// # Errors
/// Where no variant can be made of a series.
pub(super) fn refuse(shelf: &Shelf, source: &SeriesInfo, request: &ComposeRequest) -> Result<()> {
    source.refuse_layers("composed")?;
    source.refuse_counted("composed")?;
    let name = &source.name;
    if source.is_afloat() {
        return Err(Error::input(format!("{name} is afloat; align it before composing from it.")));
    }
    if request.target(name) == name.with_built(false) {
        return Err(Error::arguments(format!(
            "{name} cannot be composed from itself; give the new instrument another name."
        )));
    }
    refuse_together(source, &request.variation)?;
    let variation = &request.variation;
    if variation.span().length() <= 0 {
        return Err(Error::arguments(
            "The variant would end before it begins; --since is to be before --until.",
        ));
    }
    shelf.refuse_circle(&request.target(name), name)?;
    let moved = |t: Micros| t.checked_add(variation.moved_by()).filter(|t| CALENDAR.holds(*t));
    if moved(source.edition.first).is_none() || moved(source.edition.last).is_none() {
        return Err(Error::arguments(format!(
            "The rows of {name} would lie outside the years 1 to 9999 after that shift; give a shorter one."
        )));
    }
    let has = |field: Field| source.edition.fields.contains(&field);
    let lacks = match variation.side {
        Some(Side::Last) => Some("a variant's side is bid, ask or mid"),
        Some(_) if has(Field::Last) => Some("its trades have one price alone"),
        Some(Side::Ask | Side::Mid) if !has(Field::Bid) && !has(Field::Spread) => {
            Some("its bars do not know their spread, so nobody knows that side")
        }
        Some(_) if matches!(name.side, Side::Ask | Side::Mid) => Some("it is of one side already"),
        _ => None,
    };
    match lacks {
        Some(why) => Err(Error::input(format!("{name} cannot be given that side: {why}."))),
        None => Ok(()),
    }
}

/// # Errors
/// Where changes of a variant do not go together, or not with its frame.
fn refuse_together(source: &SeriesInfo, variation: &Variation) -> Result<()> {
    let no = |what: &str| Err(Error::arguments(format!("{what}: make two instruments, one of the other.")));
    let stress = variation.stress.as_deref().cloned().unwrap_or_default();
    if variation.adjusted.is_some() && (variation.maps_prices() || stress != Stress::default()) {
        return no("Prices are adjusted before they are turned over, multiplied or stressed");
    }
    if stress.mirror && variation.maps_prices() {
        return no("Prices are mirrored, or turned over and multiplied, not both at once");
    }
    if variation.stress.is_some() && variation.edits.is_some() {
        return no("Rows are edited before they are stressed");
    }
    let frame = source.name.frame;
    if frame.is_bars() && stress.delay % frame.length().max(1) != 0 {
        return Err(Error::arguments(format!(
            "Bars of {frame} can be seen later by whole bars alone; delay the ticks or shorter bars that they are built of."
        )));
    }
    let longest = match stress.shuffle {
        Some(Stretches::Days) => DAY,
        Some(Stretches::Weeks) => WEEK,
        None => Micros::MAX,
    };
    if frame.length() > longest {
        return Err(Error::arguments(format!(
            "Bars of {frame} are longer than the stretches that stand in each other's places; shuffle shorter bars and build {frame} of them."
        )));
    }
    Ok(())
}
