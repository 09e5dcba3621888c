//! Composing on the shelf.

use std::collections::BTreeMap;

use super::{Changes, derive};
use crate::job::Job;
use crate::model::columns::shape_of;
use crate::model::instrument;
use crate::model::provenance::Composing;
use crate::model::{Input, Instrument, Made, Micros, Provenance, SeriesName, Shape, Span};
use crate::store::{Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// The times that can be written: the years 1 to 9999, in microseconds UTC.
const CALENDAR: Span = Span { from: -62_135_596_800_000_000, to: 253_402_300_800_000_000 };

/// An instrument to make or change.
#[derive(Debug, Clone, Default)]
pub struct ComposeRequest {
    /// The instrument's name.
    pub name: String,
    /// The instrument it is like; may be left out to change one that is there.
    pub like: Option<String>,
    /// Its own values; they are added to those it has.
    pub own: BTreeMap<String, String>,
    /// Keys whose own values are taken away: what the instrument it is like has counts again, or what was found.
    pub reset: Vec<String>,
    /// The series its rows come from, if it is to have rows.
    pub from: Option<SeriesName>,
    /// Added to every time of those rows.
    pub shift: Micros,
}

/// What was composed.
pub struct Composed {
    /// The instrument as it is now.
    pub instrument: Instrument,
    /// The series its rows came to, where it has some.
    pub series: Option<SeriesInfo>,
    /// What was done, in a few words each.
    pub notes: Vec<String>,
}

/// Makes or changes an instrument and, where asked, its series.
///
/// # Errors
/// Where a value makes no sense, or what it is like or comes from is not there.
pub fn compose(shelf: &mut Shelf, request: &ComposeRequest, job: &Job) -> Result<Composed> {
    let there = shelf.instruments()?.into_iter().find(|i| i.name == request.name);
    let is_new = there.is_none();
    let before = there.map(|i| i.own).unwrap_or_default();
    let mut own = before.clone();
    own.like = request.like.clone().or(own.like);
    own.said.extend(request.own.clone());
    for key in &request.reset {
        instrument::known(key)?;
        if own.said.remove(key).is_none() {
            return Err(Error::input(format!(
                "{} has no {key} of its own that could be reset.",
                request.name
            )));
        }
    }
    let source = request.from.as_ref().map(|name| shelf.find(name)).transpose()?;
    source.iter().try_for_each(|s| s.refuse_layers("composed"))?;
    if let Some(afloat) = source.as_ref().filter(|s| s.is_afloat()) {
        return Err(Error::input(format!("{} is afloat; align it before composing from it.", afloat.name)));
    }
    let instrument = shelf.put_instrument(&request.name, &own)?;
    let Some(source) = source else {
        let note = match own == before && !is_new {
            true => format!("nothing to change; stavel sheet {} shows it", request.name),
            false => "spec sheet written".to_owned(),
        };
        return Ok(Composed { instrument, series: None, notes: vec![note] });
    };
    let spread = instrument.sheet.spread_at(source.edition.scale.price);
    let changes = Changes { shift: request.shift, spread };
    let name = SeriesName { instrument: request.name.clone(), built: false, ..source.name.clone() };
    if name == source.name {
        return Err(Error::arguments(format!(
            "{name} cannot be composed from itself; give the new instrument another name."
        )));
    }
    let mut fields = source.edition.fields.clone();
    if changes.spread.is_some() && shape_of(&fields) == Shape::Bars {
        fields = super::with_sheet_spread(&fields);
    }
    let moved = |t: Micros| t.checked_add(request.shift).filter(|t| CALENDAR.holds(*t));
    if moved(source.edition.first).is_none() || moved(source.edition.last).is_none() {
        return Err(Error::arguments(format!(
            "The rows of {} would lie outside the years 1 to 9999 after that shift; give a shorter one.",
            source.name
        )));
    }
    let mut made = Composing { shift: request.shift, outside: 0 };
    let mut inputs = vec![Input::Edition { id: source.edition.id, series: source.name.clone() }];
    inputs.extend(instrument.inputs(&Instrument::SESSION));
    inputs.extend(instrument.inputs(&["spread"]));
    let origin = Origin {
        provenance: Provenance::of(Made::Compose(made.clone())).reading(inputs),
        clock: source.edition.clock.clone(),
        fields,
        scale: source.edition.scale,
    };
    let rows = shelf.scan(&source.edition, Span::ALL, None)?;
    job.begin(format!("compose {name}"), source.edition.rows);
    let session = instrument.sheet.session.clone();
    let mut draft = shelf.draft(&name, origin)?;
    let mut outside = 0;
    for piece in rows {
        let piece = piece?;
        job.advance(piece.len() as u64)?;
        let (kept, dropped) = derive(piece, &changes, &session);
        outside += dropped;
        draft.push(kept)?;
    }
    made.outside = outside;
    draft.set_made(Made::Compose(made));
    let made = draft.commit()?;
    let mut notes = vec![format!("{} rows kept, {outside} outside the hours", made.edition.rows)];
    if let Some(points) = changes.spread {
        notes.push(format!("spread fixed at {points} points"));
    }
    Ok(Composed { instrument, series: Some(made), notes })
}
