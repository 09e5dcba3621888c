//! A formula and its legs, before rows are made.

use std::collections::BTreeMap;
use std::sync::mpsc::sync_channel;

use super::bars::BarJoin;
use super::join::{Joined, LeftByMonth, TickJoin};
use super::legs::{LegSeries, find_legs};
use super::request::FormulaRequest;
use crate::compose::request::MIXED;
use crate::formula::{Formula, Interval, LegPrice, RowEvaluator, UnitTold, parse};
use crate::model::columns::shape_of;
use crate::model::price::{MAX_DECIMALS, unit};
use crate::model::time::{SECOND, WEEK, wall};
use crate::model::{Field, Micros, SeriesName, Shape};
use crate::store::{SeriesInfo, Shelf};
use crate::{Error, Result};

/// How long a price holds where nobody says it.
const USUAL_STALE: Micros = 10 * SECOND;

/// An index begins at most so long after its date: weekends and holidays may lie between.
const LATEST_BEGIN: Micros = WEEK;

/// What an instrument is a pair of; none where its sheet does not say.
fn currencies(shelf: &Shelf, name: &str) -> Option<(String, String)> {
    let sheet = shelf
        .has_instrument(name)
        .ok()
        .filter(|there| *there)
        .and_then(|_| shelf.instrument(name).ok())?
        .sheet;
    (!sheet.quote.is_empty()).then_some((sheet.base, sheet.quote))
}

/// # Errors
/// Where the name of an instrument with a dash stands without quotes: it would be read as a difference.
fn refuse_unquoted(shelf: &Shelf, text: &str) -> Result<()> {
    let dashed = shelf.instruments()?.into_iter().map(|i| i.name).filter(|name| name.contains(['-', '+']));
    for name in dashed {
        for (at, _) in text.match_indices(&name) {
            let is_quoted = text[..at].ends_with(['\'', '"']);
            let goes_on = text[at + name.len()..]
                .starts_with(|c: char| c.is_ascii_alphanumeric() || "-+_.".contains(c));
            let begins = !text[..at].ends_with(|c: char| c.is_ascii_alphanumeric() || c == '_' || c == '.');
            if !is_quoted && !goes_on && begins {
                let column = text[..at].chars().count() + 1;
                return Err(Error::arguments(format!(
                    "The formula, column {column}: {name} is the name of an instrument; put it in quotes, or blanks around the sign."
                )));
            }
        }
    }
    Ok(())
}

/// A formula and its legs.
pub(super) struct FormulaPlan {
    pub formula: Formula,
    pub legs: LegSeries,
    pub target: SeriesName,
    pub is_two_sided: bool,
    /// Of each leg, whether its two sides differ and both are wanted.
    pub two_sided: Vec<bool>,
    pub stale: Micros,
    pub unit: UnitTold,
}

impl FormulaPlan {
    pub fn of(shelf: &Shelf, request: &FormulaRequest) -> Result<FormulaPlan> {
        let pairs = |name: &str| currencies(shelf, name);
        refuse_unquoted(shelf, &request.text)?;
        let formula = parse(&request.text, &pairs)?;
        let legs = find_legs(shelf, &formula, request)?;
        let frame = legs.frame;
        if formula.has_windows() && frame.is_ticks() {
            return Err(Error::arguments(
                "mean, stdev and lag look back over bars, and these are ticks; say --frame 1m or another frame of bars.",
            ));
        }
        let first = &legs.series[0].name.source;
        let is_one_source = legs.series.iter().all(|leg| leg.name.source == *first);
        let source =
            request.source.clone().unwrap_or_else(|| (if is_one_source { first } else { MIXED }).to_owned());
        let target = SeriesName::new(&request.instrument.name, &source, frame);
        for leg in &legs.series {
            shelf.refuse_circle(&target, &leg.name)?;
        }
        let two_sided: Vec<bool> =
            (0..legs.series.len()).map(|leg| is_two_sided(&formula, leg, &legs.series[leg])).collect();
        let usual = if frame.is_ticks() { USUAL_STALE } else { 0 };
        Ok(FormulaPlan {
            is_two_sided: formula.has_two_sides(|leg| two_sided[leg]),
            unit: formula.unit(&pairs),
            stale: request.stale.unwrap_or(usual),
            formula,
            legs,
            target,
            two_sided,
        })
    }

    /// Measures the numbers that an index begins with: the middle of its value at the first moment from a date on.
    pub fn measure(&mut self, shelf: &Shelf) -> Result<()> {
        let numbers: Vec<(usize, Micros)> = self.formula.to_measure().collect();
        for (place, from) in numbers {
            let formula = self.formula.measured_by(place);
            let evaluator = RowEvaluator::new(&formula);
            let mut join = LegJoin::of(shelf, self, from - self.stale)?;
            let mut left = LeftByMonth::after(BTreeMap::new(), Micros::MIN, self.legs.series.len());
            let joined = join.next(1, from, &mut left)?;
            let refuse = |why: String| {
                let date = wall(from);
                Err(Error::input(format!(
                    "The index cannot begin on {date}: {why}; give a date on which all have prices."
                )))
            };
            let begin = joined.time.first().copied().unwrap_or(Micros::MAX);
            let value = first_cells(&evaluator, &joined).map(|cells| evaluator.value(&cells));
            match value {
                Some(Ok(_)) if begin - from > LATEST_BEGIN => {
                    return refuse(format!("all its legs have prices from {} on", wall(begin)));
                }
                Some(Ok(value)) if value.middle() != 0.0 => self.formula.set_measured(place, value.middle()),
                _ => return refuse("its legs have no value other than 0 from then on".into()),
            }
        }
        Ok(())
    }

    /// As many decimals as the legs have, by how far a point of each moves the value at the first moment they have in common.
    pub fn decimals(&self, shelf: &Shelf) -> Result<u8> {
        let of_legs = self.legs.series.iter().map(|leg| leg.edition.scale.price).max().unwrap_or(2);
        let begin = self.legs.series.iter().map(|leg| leg.edition.first).max().unwrap_or(Micros::MIN);
        let mut join = LegJoin::of(shelf, self, begin)?;
        let mut left = LeftByMonth::after(BTreeMap::new(), Micros::MIN, self.legs.series.len());
        let joined = join.next(1, begin, &mut left)?;
        let evaluator = RowEvaluator::new(&self.formula);
        let Some(cells) = first_cells(&evaluator, &joined) else { return Ok(of_legs) };
        let points = evaluator.slots().iter().enumerate().filter_map(|(slot, (leg, _))| {
            let point = 1.0 / unit(self.legs.series[*leg].edition.scale.price) as f64;
            evaluator.slope(slot, &cells).map(|slope| slope * point).filter(|step| *step > 0.0)
        });
        let finest = points.fold(f64::INFINITY, f64::min);
        if !finest.is_finite() {
            return Ok(of_legs);
        }
        // A step of 2 to 9 points is told by the same digit as one of 1.
        let digits = (-finest.log10() - 0.3).ceil().clamp(0.0, f64::from(MAX_DECIMALS.min(10)));
        Ok(digits as u8)
    }
}

fn is_two_sided(formula: &Formula, leg: usize, info: &SeriesInfo) -> bool {
    let has = |field: Field| info.edition.fields.contains(&field);
    let wants = formula.prices_of(leg).any(|p| matches!(p, LegPrice::Both | LegPrice::Ask | LegPrice::Mid));
    wants
        && match shape_of(&info.edition.fields) {
            Shape::Quotes => has(Field::Ask),
            Shape::Bars => has(Field::Spread),
            _ => false,
        }
}

/// Where the two prices of a leg's ticks stand: a leg of which one side is wanted does not wait for the other.
fn tick_fields(formula: &Formula, leg: usize, info: &SeriesInfo) -> [Field; 2] {
    let all = |price: LegPrice| formula.prices_of(leg).all(|p| p == price);
    match shape_of(&info.edition.fields) {
        Shape::Trades => [Field::Last, Field::Last],
        _ if all(LegPrice::Bid) => [Field::Bid, Field::Bid],
        _ if all(LegPrice::Ask) => [Field::Ask, Field::Ask],
        _ => [Field::Bid, Field::Ask],
    }
}

/// The prices of the first joined moment; those of bars as they close.
fn first_cells(evaluator: &RowEvaluator, joined: &Joined) -> Option<Vec<Interval>> {
    let legs = joined.sets.last()?;
    joined.time.first()?;
    Some(evaluator.slots().iter().map(|(leg, price)| legs[*leg].span(0, *price)).collect())
}

/// Rows of the legs together.
pub(super) enum LegJoin {
    Ticks(TickJoin),
    Bars(BarJoin),
}

impl LegJoin {
    pub fn of(shelf: &Shelf, plan: &FormulaPlan, from: Micros) -> Result<LegJoin> {
        let legs = &plan.legs.series;
        Ok(match plan.legs.frame.is_bars() {
            false => {
                let fields: Vec<[Field; 2]> =
                    legs.iter().enumerate().map(|(at, leg)| tick_fields(&plan.formula, at, leg)).collect();
                LegJoin::Ticks(TickJoin::of(shelf, legs, &fields, from, plan.stale)?)
            }
            true => LegJoin::Bars(BarJoin::of(shelf, legs, &plan.two_sided, from, plan.stale)?),
        })
    }

    pub fn next(&mut self, most: usize, from: Micros, left: &mut LeftByMonth) -> Result<Joined> {
        match self {
            LegJoin::Ticks(join) => join.next(most, from, left),
            LegJoin::Bars(join) => join.next(most, from, left),
        }
    }

    /// Gives moments, so many at once, to whoever works on them while another thread joins the next; gives what could not be
    /// joined.
    ///
    /// # Errors
    /// What the reading or the work gives.
    pub fn ahead(
        mut self,
        most: usize,
        from: Micros,
        mut left: LeftByMonth,
        mut work: impl FnMut(Joined) -> Result<()>,
    ) -> Result<LeftByMonth> {
        std::thread::scope(|scope| {
            let (give, take) = sync_channel(1);
            let joining = scope.spawn(move || {
                loop {
                    let joined = self.next(most, from, &mut left)?;
                    // Whoever has had enough of them has met an error.
                    if joined.time.is_empty() || give.send(joined).is_err() {
                        return Ok(left);
                    }
                }
            });
            take.into_iter().try_for_each(&mut work)?;
            joining.join().unwrap_or_else(|_| Err(Error::storage("Joining the legs broke off; do it again.")))
        })
    }
}
