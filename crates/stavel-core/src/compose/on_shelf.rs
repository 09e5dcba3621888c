//! Composing on the shelf.

use std::collections::BTreeMap;

use super::edits::EditOverlay;
use super::found::{PlanFound, mirror};
use super::refuse::refuse;
use super::request::ComposeRequest;
use super::shuffle::Shuffle;
use super::standing::standing;
use super::stress::RowStress;
use super::variant::{NewSpread, Variant, decimals_for};
use crate::hour_spreads::SpreadCounter;
use crate::job::Job;
use crate::model::actions::Action;
use crate::model::instrument;
use crate::model::price::MAX_DECIMALS;
use crate::model::provenance::{Composing, LeftAway};
use crate::model::time::DAY;
use crate::model::variation::{SpreadChange, Variation};
use crate::model::{
    Columns, Field, Input, Instrument, Made, Micros, Provenance, Scale, SeriesName, Side, Span, present,
};
use crate::store::{Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// What was composed.
pub struct Composed {
    /// The instrument as it is now.
    pub instrument: Instrument,
    /// The series its rows came to, where it has some.
    pub series: Option<SeriesInfo>,
    /// What was done, in a few words each.
    pub notes: Vec<String>,
    /// What a careful person would look at.
    pub doubts: Vec<String>,
    /// The splits and dividends that prices are adjusted for.
    pub actions: Vec<Action>,
}

/// Makes or changes an instrument and, where asked, its series.
///
/// # Errors
/// Where a value makes no sense, or what it is like or comes from is not there.
pub fn compose(shelf: &mut Shelf, request: &ComposeRequest, job: &Job) -> Result<Composed> {
    let source = request.from.as_ref().map(|name| shelf.find(name)).transpose()?;
    if let Some(source) = &source {
        refuse(shelf, source, request)?;
    }
    let (instrument, is_changed) = put_sheet(shelf, request, BTreeMap::new())?;
    let Some(source) = source else {
        let note = match is_changed {
            false => format!("nothing to change; stavel sheet {} shows it", request.name),
            true => "spec sheet written".to_owned(),
        };
        return Ok(Composed {
            instrument,
            series: None,
            notes: vec![note],
            doubts: Vec::new(),
            actions: Vec::new(),
        });
    };
    let plan = ComposePlan::of(shelf, &source, &instrument, request)?;
    plan.write(shelf, &source, instrument, job)
}

/// Writes the spec sheet, with what was found in its rows; gives whether it is another one now.
pub(super) fn put_sheet(
    shelf: &mut Shelf,
    request: &ComposeRequest,
    found: BTreeMap<String, String>,
) -> Result<(Instrument, bool)> {
    let there = shelf.instruments()?.into_iter().find(|i| i.name == request.name);
    let is_new = there.is_none();
    let before = there.map(|i| i.own).unwrap_or_default();
    let mut own = before.clone();
    own.like = request.like.clone().or(own.like);
    own.said.extend(request.own.clone());
    own.found.extend(found);
    for key in &request.reset {
        instrument::known(key)?;
        if own.said.remove(key).is_none() {
            return Err(Error::input(format!(
                "{} has no {key} of its own that could be reset.",
                request.name
            )));
        }
    }
    let is_changed = own != before || is_new;
    Ok((shelf.put_instrument(&request.name, &own)?, is_changed))
}

/// A variant that is about to be written.
struct ComposePlan {
    target: SeriesName,
    variant: Variant,
    provenance: Provenance,
    edits: Option<SeriesInfo>,
    shuffle: Option<Shuffle>,
    /// What was found on the way.
    notes: Vec<String>,
    doubts: Vec<String>,
}

impl ComposePlan {
    fn of(
        shelf: &Shelf,
        source: &SeriesInfo,
        instrument: &Instrument,
        request: &ComposeRequest,
    ) -> Result<ComposePlan> {
        let mut variation = request.variation.clone();
        let mut found = PlanFound::of(shelf, source, &variation)?;
        let typical = typical(shelf, source)?;
        // Decimals that the variant itself was given are meant; those it takes over are of other prices.
        let decimals = match instrument.own.said.get("decimals") {
            Some(_) if variation.maps_prices() || variation.adjusted.is_some() => instrument.sheet.decimals,
            _ => decimals_for(&variation, source.edition.scale.price, typical) + found.more_decimals(),
        };
        let decimals = decimals.min(MAX_DECIMALS);
        // The middle of bid and ask may lie on half a point.
        let is_middle = variation.side == Some(Side::Mid) && decimals < MAX_DECIMALS;
        let scale = Scale { price: decimals + u8::from(is_middle), ..source.edition.scale };
        let mut inputs = vec![Input::Edition { id: source.edition.id, series: source.name.clone() }];
        let edits = variation.edits.as_ref().map(|name| shelf.find(name)).transpose()?;
        inputs.extend(edits.iter().map(|e| Input::Edition { id: e.edition.id, series: e.name.clone() }));
        let before_middle = Scale { price: decimals, ..scale };
        let spread = spread_of(shelf, instrument, &variation, before_middle, &mut inputs)?;
        inputs.extend(instrument.inputs(&Instrument::SESSION));
        inputs.extend(instrument.inputs(&["spread"]));
        inputs.append(&mut found.inputs);
        let session = instrument.sheet.session.clone();
        let made = Composing {
            variation: variation.clone(),
            actions: std::mem::take(&mut found.actions),
            ..Composing::default()
        };
        let provenance = Provenance::of(Made::Compose(Box::new(made))).reading(inputs);
        let stress = variation.stress.as_deref().map(RowStress::of);
        if variation.stress.as_ref().is_some_and(|stress| stress.mirror) {
            mirror(&mut variation, source, typical)?;
        }
        let actions = found.levels;
        let variant = Variant { variation, session, spread, scale, decimals, actions, stress };
        let target = request.target(&source.name);
        let PlanFound { shuffle, notes, doubts, .. } = found;
        Ok(ComposePlan { target, variant, provenance, edits, shuffle, notes, doubts })
    }

    fn write(
        mut self,
        shelf: &mut Shelf,
        source: &SeriesInfo,
        instrument: Instrument,
        job: &Job,
    ) -> Result<Composed> {
        let fields = self.variant.fields(&source.edition.fields);
        let like = Columns::empty(&fields, self.variant.scale);
        let shift = self.variant.variation.moved_by();
        let standing = standing(shelf, &self.target, &self.provenance, &like, shift)?;
        let (mut kept, mut before) = (Vec::new(), like);
        let (mut span, mut left) = (Span::ALL, LeftAway::default());
        let reader = shelf.reader(&source.edition)?;
        if let Some(standing) = &standing {
            (kept, before) = shelf.rows_before(&standing.edition, standing.from)?;
            span.from = standing.from - shift;
            // Of a variant that stands rows were left away for one reason alone.
            let stands = kept.iter().map(|file| file.rows).sum::<u64>() + before.len() as u64;
            left.outside = reader.count(Span::new(Micros::MIN, span.from))?.saturating_sub(stands);
        }
        let edits = self.edits.as_ref();
        let mut overlay = edits.map(|edits| EditOverlay::of(shelf, edits, &source.edition)).transpose()?;
        job.begin(format!("compose {}", self.target), reader.count(span)?);
        let origin = Origin {
            provenance: self.provenance.clone(),
            clock: source.edition.clock.clone(),
            fields,
            scale: self.variant.scale,
        };
        let mut draft = shelf.draft(&self.target, origin)?;
        kept.into_iter().for_each(|file| draft.keep(file));
        if !before.is_empty() {
            draft.push(before)?;
        }
        let pieces: Box<dyn Iterator<Item = Result<Columns>>> = match &self.shuffle {
            Some(shuffle) => Box::new(shuffle.rows(reader)),
            None => Box::new(reader.scan(span, None)),
        };
        for piece in pieces {
            let mut piece = piece?;
            job.advance(piece.len() as u64)?;
            if let Some(overlay) = &mut overlay {
                piece = overlay.lay_over(piece);
            }
            let (rows, away) = self.variant.rows(piece);
            left.add(&away);
            draft.push(rows)?;
        }
        if let Some(rest) = overlay.and_then(EditOverlay::rest) {
            let (rows, away) = self.variant.rows(rest);
            left.add(&away);
            draft.push(rows)?;
        }
        if let Made::Compose(made) = &mut self.provenance.made {
            made.left = left;
            draft.set_made(self.provenance.made.clone());
        }
        let actions = match &self.provenance.made {
            Made::Compose(made) => made.actions.clone(),
            _ => Vec::new(),
        };
        let made = draft.commit()?;
        let (notes, doubts) = (self.notes(&made, &left), self.doubts(source, &instrument, &left));
        Ok(Composed { instrument, series: Some(made), notes, doubts, actions })
    }

    fn notes(&self, made: &SeriesInfo, left: &LeftAway) -> Vec<String> {
        let outside = if self.variant.variation.days.is_some() || self.variant.variation.span() != Span::ALL {
            "outside the hours, days or span"
        } else {
            "outside the hours"
        };
        let mut notes = vec![format!("{} rows kept, {} {outside}", made.edition.rows, left.outside)];
        notes.extend(match &self.variant.spread {
            NewSpread::Kept => None,
            NewSpread::Fixed(points) => Some(format!("spread fixed at {points} points")),
            NewSpread::Added(points) => Some(format!("spread {points:+} points")),
            NewSpread::Times(factor) => Some(format!("spread times {factor}")),
            NewSpread::OfHour(..) => Some("spread by hour of week".to_owned()),
        });
        if left.missing > 0 {
            notes.push(format!("{} rows gone with the minutes that are missing", left.missing));
        }
        if let Some(stress) = &self.variant.variation.stress {
            notes.push(format!("made up for a stress test: {}", stress.in_words().join(", ")));
        }
        let cut = self.shuffle.as_ref().map_or(0, Shuffle::cut);
        if cut > 0 {
            notes.push(format!(
                "{cut} rows left away: their day or week is longer than the one in whose place it stands"
            ));
        }
        notes.extend(self.notes.iter().cloned());
        if self.variant.variation.maps_prices() || self.variant.actions.is_some() {
            notes.push(format!("prices with {} decimals", self.variant.scale.price));
        }
        notes
    }

    fn doubts(&self, source: &SeriesInfo, instrument: &Instrument, left: &LeftAway) -> Vec<String> {
        let mut doubts = self.doubts.clone();
        let mut doubt = |count: u64, what: &str| {
            if count > 0 {
                doubts.push(format!("{count} rows {what}"));
            }
        };
        doubt(
            left.unpriced,
            "left away: they have no price of that side, or none that can be turned over or held",
        );
        doubt(left.no_spread, "have no spread that is known, and get none");
        doubt(left.below_zero, "would have a spread below 0 and have 0");
        doubt(
            left.bid_alone,
            "do not know their spread: what is turned over there is their bid, which makes an ask and no bid",
        );
        let is_said = |key: &str| instrument.own.said.contains_key(key);
        let is_mirrored = self.variant.variation.stress.as_ref().is_some_and(|stress| stress.mirror);
        if self.variant.variation.inverse && !is_mirrored && !(is_said("base") && is_said("quote")) {
            doubts.push(format!(
                "{0} is {1} turned over, but its base and quote are {2} and {3} still; say them: compose {0} --set base={3} --set quote={2}",
                instrument.name, source.name.instrument, instrument.sheet.base, instrument.sheet.quote
            ));
        }
        doubts
    }
}

/// A price as the source has them, to tell how many digits matter.
fn typical(shelf: &Shelf, source: &SeriesInfo) -> Result<i64> {
    let first = source.edition.first;
    let rows = shelf.read(&source.edition, Span::new(first, first + DAY))?;
    let price = |field: Field| rows.column(field).iter().copied().find_map(present);
    Ok([Field::Close, Field::Bid, Field::Ask, Field::Last, Field::Open]
        .into_iter()
        .find_map(price)
        .unwrap_or(0))
}

/// What becomes of the spreads; what is read for it is added to the inputs.
fn spread_of(
    shelf: &Shelf,
    instrument: &Instrument,
    variation: &Variation,
    scale: Scale,
    inputs: &mut Vec<Input>,
) -> Result<NewSpread> {
    let sheet = instrument.sheet.spread_at(scale.price);
    Ok(match (&variation.spread, sheet) {
        (None, None) => NewSpread::Kept,
        (None, Some(points)) => NewSpread::Fixed(points),
        (Some(_), Some(points)) => {
            return Err(Error::arguments(format!(
                "{} has a fixed spread of {points} points on its sheet, so none can be changed; take it away with --reset spread or --set spread=data.",
                instrument.name
            )));
        }
        (Some(SpreadChange::Added(points)), None) => NewSpread::Added(*points),
        (Some(SpreadChange::Times(factor)), None) => NewSpread::Times(factor.0),
        (Some(SpreadChange::Hours { of, share }), None) => {
            let other = shelf.find(of)?;
            inputs.push(Input::Edition { id: other.edition.id, series: other.name.clone() });
            let wall = &instrument.sheet.session.clock;
            let mut counter = SpreadCounter::new(wall);
            let edition = &other.edition;
            let has = |f: &Field| edition.fields.contains(f);
            let fields: Vec<Field> = SpreadCounter::FIELDS.into_iter().filter(has).collect();
            for rows in shelf.scan(edition, Span::ALL, Some(&fields))? {
                counter.add(&rows?);
            }
            let mut hours = counter.finish_at(share.share());
            if hours.is_empty() || other.is_afloat() {
                return Err(Error::input(format!(
                    "{of} says no spread by the hour of the week: {}.",
                    if other.is_afloat() { "it is afloat" } else { "its rows do not know theirs" }
                )));
            }
            rescale(&mut hours.0, edition.scale.price, scale.price);
            NewSpread::OfHour(hours, wall.clone())
        }
    })
}

/// Points of one number of decimals as points of another; what a coarser one cannot hold is rounded up.
fn rescale(spreads: &mut [Option<i64>], from: u8, to: u8) {
    use crate::model::price::unit;
    for spread in spreads.iter_mut().flatten() {
        *spread = match to.checked_sub(from) {
            Some(more) => spread.saturating_mul(unit(more)),
            None => spread.div_euclid(unit(from - to)) + i64::from(spread.rem_euclid(unit(from - to)) > 0),
        };
    }
}
