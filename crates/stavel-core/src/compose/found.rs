//! What a variant rests on beside its rows: facts, and the order of stretches that is drawn.

use rust_decimal::Decimal;

use super::actions::{ActionLevels, FoundActions, find_actions};
use super::shuffle::Shuffle;
use crate::model::actions::{Action, Actions};
use crate::model::variation::{Factor, Variation};
use crate::model::{Input, Instrument};
use crate::store::{SeriesInfo, Shelf};
use crate::{Error, Result};

/// What a variant rests on beside its rows.
#[derive(Default)]
pub(super) struct PlanFound {
    pub levels: Option<ActionLevels>,
    pub actions: Vec<Action>,
    pub shuffle: Option<Shuffle>,
    pub inputs: Vec<Input>,
    pub notes: Vec<String>,
    pub doubts: Vec<String>,
}

impl PlanFound {
    /// Finds the splits and dividends that prices are adjusted for, and the order of stretches that are drawn.
    pub fn of(shelf: &Shelf, source: &SeriesInfo, variation: &Variation) -> Result<PlanFound> {
        let mut found = PlanFound::default();
        let shuffle = variation.stress.as_ref().and_then(|stress| Some((stress.shuffle?, stress.seed)));
        if variation.adjusted.is_none() && shuffle.is_none() {
            return Ok(found);
        }
        let base = shelf.instrument(&source.name.instrument)?;
        let session = &base.sheet.session;
        found.inputs = base.inputs(&Instrument::SESSION);
        if let Some((of, seed)) = shuffle {
            found.shuffle = Some(Shuffle::of(shelf, source, session, of, seed)?);
        }
        if let Some(which) = variation.adjusted {
            let hash = shelf.facts_hash(&base.name)?;
            found.inputs.push(Input::Facts { instrument: base.name.clone(), hash });
            let FoundActions { actions, notes, doubts } = find_actions(shelf, source, session, which)?;
            let levels = ActionLevels::of(&actions, session);
            (found.notes, found.doubts) = (notes, doubts);
            if which == Actions::All
                && let Some(compared) = levels.compare(shelf, source)?
            {
                compared.tell(source, &mut found.notes, &mut found.doubts);
            }
            (found.levels, found.actions) = (Some(levels), actions);
        }
        Ok(found)
    }

    /// Decimals that prices need beyond those of the source.
    pub fn more_decimals(&self) -> u8 {
        self.levels.as_ref().map_or(0, ActionLevels::more_decimals)
    }
}

/// Turns prices over about the first one: what was half of it is twice of it.
pub(super) fn mirror(variation: &mut Variation, source: &SeriesInfo, first: i64) -> Result<()> {
    let price = Decimal::new(first, u32::from(source.edition.scale.price));
    let square = price.checked_mul(price).filter(|square| *square > Decimal::ZERO && first > 0);
    // Twelve digits are more than a price has, and leave room for the sums that follow.
    let square = square.and_then(|square| square.round_sf(12));
    let Some(square) = square else {
        return Err(Error::input(format!(
            "{} begins with a price of 0 or less, about which nothing can be mirrored.",
            source.name
        )));
    };
    variation.inverse = true;
    variation.scale = Some(Factor(square.normalize()));
    Ok(())
}
