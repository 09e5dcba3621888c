//! Formulas on the shelf.

use std::collections::BTreeMap;

use super::join::LeftByMonth;
use super::plan::{FormulaPlan, LegJoin};
use super::request::FormulaRequest;
use super::standing::{look_back_from, standing};
use super::values::FormulaRows;
use crate::compose::on_shelf::put_sheet;
use crate::formula::UnitTold;
use crate::job::Job;
use crate::model::instrument::is_pair;
use crate::model::provenance::{FormulaMade, LegsLeft};
use crate::model::{Columns, Decision, Input, Instrument, Made, Micros, Provenance, Scale, SeriesName, Span};
use crate::store::{Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// Moments that are joined before their rows are worked out.
const AT_ONCE: usize = 256 * 1024;

/// What came of a formula.
pub struct FormulaDone {
    /// The instrument as it is now.
    pub instrument: Instrument,
    /// Its rows.
    pub series: SeriesInfo,
    /// The formula as it was worked out.
    pub told: String,
    /// The series of the legs, in order.
    pub legs: Vec<SeriesName>,
    /// What its values are measured in.
    pub unit: UnitTold,
    /// True where it has a bid and an ask.
    pub is_two_sided: bool,
    /// What made no row.
    pub left: LegsLeft,
    /// What a careful person would look at.
    pub doubts: Vec<String>,
    /// What nobody said.
    pub assumed: Vec<Decision>,
}

/// Makes or changes an instrument whose rows are those of others in a formula.
///
/// # Errors
/// One sentence, with the column in the formula where there is one: for what cannot be read, legs that are not there, units
/// and prices that do not fit, and a circle.
pub fn compose_formula(shelf: &mut Shelf, request: &FormulaRequest, job: &Job) -> Result<FormulaDone> {
    let mut plan = FormulaPlan::of(shelf, request)?;
    plan.measure(shelf)?;
    let decimals = plan.decimals(shelf)?;
    let instrument = plan.put_instrument(shelf, request, decimals)?;
    let said = instrument.own.said.contains_key("decimals");
    let scale = Scale { price: if said { instrument.sheet.decimals } else { decimals }, volume: 0 };
    plan.write(shelf, request, instrument, scale, job)
}

impl FormulaPlan {
    /// Writes the sheet: what is said, and of what nobody says the pair that the formula makes and the hours of its first leg.
    fn put_instrument(
        &self,
        shelf: &mut Shelf,
        request: &FormulaRequest,
        decimals: u8,
    ) -> Result<Instrument> {
        let own = &request.instrument;
        let first = shelf.instrument(&self.legs.series[0].name.instrument)?;
        let mut found: BTreeMap<String, String> = [("decimals".to_owned(), decimals.to_string())].into();
        if let Some((base, quote)) = self.unit.unit.as_ref().and_then(|unit| unit.as_pair()) {
            found.extend([("base".to_owned(), base.to_owned()), ("quote".to_owned(), quote.to_owned())]);
            if is_pair(&format!("{base}{quote}")) {
                found.insert("kind".into(), "forex".into());
            }
        }
        if own.like.is_none() {
            for key in ["hours", "clock", "holidays", "sunday"] {
                found.extend(first.values.get(key).map(|value| (key.to_owned(), value.clone())));
            }
        }
        Ok(put_sheet(shelf, own, found)?.0)
    }

    fn provenance(
        &self,
        shelf: &Shelf,
        request: &FormulaRequest,
        instrument: &Instrument,
    ) -> Result<Provenance> {
        let edition = |leg: &SeriesInfo| Input::Edition { id: leg.edition.id, series: leg.name.clone() };
        let mut inputs: Vec<Input> = self.legs.series.iter().map(edition).collect();
        for leg in &self.legs.series {
            inputs.extend(shelf.instrument(&leg.name.instrument)?.inputs(&["base", "quote"]));
        }
        inputs.extend(instrument.inputs(&["decimals"]));
        let made = FormulaMade {
            text: request.text.clone(),
            told: self.formula.to_string(),
            stale: self.stale,
            unit: self.unit.unit.as_ref().map(ToString::to_string),
            left: BTreeMap::new(),
        };
        Ok(Provenance::of(Made::Formula(Box::new(made))).reading(inputs))
    }

    fn write(
        self,
        shelf: &mut Shelf,
        request: &FormulaRequest,
        instrument: Instrument,
        scale: Scale,
        job: &Job,
    ) -> Result<FormulaDone> {
        let mut provenance = self.provenance(shelf, request, &instrument)?;
        let mut values = FormulaRows::of(&self.formula, self.is_two_sided, self.legs.frame.is_bars(), scale);
        let like = Columns::empty(&values.fields(), scale);
        let standing = standing(shelf, &self.target, &provenance, &like)?;
        let (mut kept, mut before, mut from, mut months) = (Vec::new(), like, Micros::MIN, BTreeMap::new());
        let mut read_from = Micros::MIN;
        if let Some(standing) = standing {
            (kept, before) = shelf.rows_before(&standing.edition, standing.from)?;
            (from, months) = (standing.from, standing.left);
            read_from = from - self.stale;
            if self.formula.has_windows() {
                let back = look_back_from(shelf, &standing.edition, from, self.formula.rows_before())?;
                read_from = read_from.min(back);
            }
        }
        let span = Span::new(read_from, Micros::MAX);
        let counts = self.legs.series.iter().map(|leg| shelf.reader(&leg.edition)?.count(span));
        job.begin(format!("compose {}", self.target), counts.sum::<Result<u64>>()?);
        let join = LegJoin::of(shelf, &self, read_from)?;
        let origin = Origin {
            provenance: provenance.clone(),
            clock: self.legs.series[0].edition.clock.clone(),
            fields: values.fields(),
            scale,
        };
        let legs = self.legs.series.len();
        let mut draft = shelf.draft(&self.target, origin)?;
        kept.into_iter().for_each(|file| draft.keep(file));
        if !before.is_empty() {
            draft.push(before)?;
        }
        // Rows that windows look back on are joined too.
        let join_from = if self.formula.has_windows() { read_from } else { from };
        let mut left = LeftByMonth::after(months, from, legs);
        let not_joined =
            join.ahead(AT_ONCE, join_from, LeftByMonth::after(BTreeMap::new(), from, legs), |joined| {
                job.advance(joined.time.len() as u64)?;
                draft.push(values.rows(&joined, from, &mut left))
            })?;
        let left = left.and(not_joined).finish();
        let mut sum = LegsLeft::of(self.legs.series.len());
        left.values().for_each(|month| sum.add(month));
        if draft.is_empty() {
            return Err(self.nothing(&sum));
        }
        if let Made::Formula(made) = &mut provenance.made {
            made.left = left;
            draft.set_made(provenance.made.clone());
        }
        let series = draft.commit()?;
        Ok(self.done(request, instrument, series, sum))
    }

    fn nothing(&self, left: &LegsLeft) -> Error {
        let told = self.left_in_words(left).join(", ");
        Error::input(format!("The formula has no value at any moment: {told}; nothing was written."))
    }

    fn done(
        &self,
        request: &FormulaRequest,
        instrument: Instrument,
        series: SeriesInfo,
        left: LegsLeft,
    ) -> FormulaDone {
        FormulaDone {
            told: self.formula.to_string(),
            legs: self.legs.series.iter().map(|leg| leg.name.clone()).collect(),
            doubts: self.doubts(&instrument, &series, &left),
            assumed: self.assumed(request, &instrument, &series),
            unit: self.unit.clone(),
            is_two_sided: self.is_two_sided,
            instrument,
            series,
            left,
        }
    }
}
