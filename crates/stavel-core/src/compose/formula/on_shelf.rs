//! Formulas on the shelf.

use std::collections::BTreeMap;
use std::sync::mpsc::sync_channel;

use super::bars::BarJoin;
use super::join::{Joined, LeftByMonth, TickJoin};
use super::legs::{LegSeries, find_legs};
use super::request::FormulaRequest;
use super::standing::{look_back_from, standing};
use super::values::FormulaRows;
use crate::compose::on_shelf::put_sheet;
use crate::formula::{Formula, Interval, LegPrice, RowEvaluator, UnitTold, parse};
use crate::job::Job;
use crate::model::columns::shape_of;
use crate::model::instrument::is_pair;
use crate::model::price::{MAX_DECIMALS, unit};
use crate::model::provenance::{FormulaMade, LegsLeft};
use crate::model::time::{SECOND, length_in_words};
use crate::model::{
    Columns, Decision, Field, Input, Instrument, Made, Micros, Provenance, Scale, SeriesName, Shape, Span,
    Standing,
};
use crate::store::{Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// How long a price holds where nobody says it.
const USUAL_STALE: Micros = 10 * SECOND;

/// Moments that are joined before their rows are worked out.
const AT_ONCE: usize = 256 * 1024;

/// The source of what is made of several sources.
const MIXED: &str = "mixed";

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

/// Makes or changes an instrument whose rows are those of others in a formula.
///
/// # Errors
/// One sentence, with the column in the formula where there is one: for what cannot be read, legs that are not there, units
/// and prices that do not fit, and a circle.
pub fn compose_formula(shelf: &mut Shelf, request: &FormulaRequest, job: &Job) -> Result<FormulaDone> {
    let mut plan = FormulaPlan::of(shelf, request)?;
    plan.measure(shelf)?;
    let decimals = plan.decimals(shelf)?;
    let instrument = plan.put_instrument(shelf, request)?;
    let said = instrument.own.said.contains_key("decimals");
    let scale = Scale { price: if said { instrument.sheet.decimals } else { decimals }, volume: 0 };
    plan.write(shelf, request, instrument, scale, job)
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
struct FormulaPlan {
    formula: Formula,
    legs: LegSeries,
    target: SeriesName,
    is_two_sided: bool,
    /// Of each leg, whether its two sides differ and both are wanted.
    two_sided: Vec<bool>,
    stale: Micros,
    unit: UnitTold,
}

impl FormulaPlan {
    fn of(shelf: &Shelf, request: &FormulaRequest) -> Result<FormulaPlan> {
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
    fn measure(&mut self, shelf: &Shelf) -> Result<()> {
        let numbers: Vec<(usize, Micros)> = self.formula.to_measure().collect();
        for (place, from) in numbers {
            let formula = self.formula.measured_by(place);
            let evaluator = RowEvaluator::new(&formula);
            let mut join = LegJoin::of(shelf, self, from - self.stale)?;
            let mut left = LeftByMonth::after(BTreeMap::new(), Micros::MIN, self.legs.series.len());
            let joined = join.next(1, from, &mut left)?;
            let value = first_cells(&evaluator, &joined).map(|cells| evaluator.value(&cells));
            let value = match value {
                Some(Ok(value)) if value.middle() != 0.0 => value.middle(),
                _ => {
                    return Err(Error::input(format!(
                        "The index cannot begin on {}: its legs have no value other than 0 from then on; give a date on which all of them have prices.",
                        crate::model::time::wall(from)
                    )));
                }
            };
            self.formula.set_measured(place, value);
        }
        Ok(())
    }

    /// As many decimals as the legs have, by how far a point of each moves the value at the first moment they have in common.
    fn decimals(&self, shelf: &Shelf) -> Result<u8> {
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

    /// Writes the sheet: what is said, and of what nobody says the pair that the formula makes and the hours of its first leg.
    fn put_instrument(&self, shelf: &mut Shelf, request: &FormulaRequest) -> Result<Instrument> {
        let own = &request.instrument;
        let first = shelf.instrument(&self.legs.series[0].name.instrument)?;
        let mut found: BTreeMap<String, String> = BTreeMap::new();
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
            unit: self.unit.unit.as_ref().map(|unit| unit.to_string()),
            left: BTreeMap::new(),
        };
        Ok(Provenance::of(Made::Formula(Box::new(made))).reading(inputs))
    }

    fn write(
        mut self,
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

    /// What made no row, in a few words each.
    fn left_in_words(&self, left: &LegsLeft) -> Vec<String> {
        let mut told = Vec::new();
        let is_ticks = self.legs.frame.is_ticks();
        let mut tell = |count: u64, what: String| {
            if count > 0 {
                told.push(format!("{count} {what}"));
            }
        };
        for (leg, series) in self.legs.series.iter().enumerate() {
            let name = &series.name;
            let missing = if is_ticks { "before it has a price" } else { "where it has no bar" };
            tell(left.missing[leg], format!("{missing} ({name})"));
            tell(
                left.stale[leg],
                format!("with a price older than {} ({name})", length_in_words(self.stale)),
            );
            tell(left.one_sided[leg], format!("without a known spread ({name})"));
        }
        tell(left.by_zero, "divided by 0".into());
        tell(left.no_number, "without such a number".into());
        tell(left.waiting, "before a window was full".into());
        told
    }

    fn done(
        &mut self,
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

    fn doubts(&self, instrument: &Instrument, series: &SeriesInfo, left: &LegsLeft) -> Vec<String> {
        let mut doubts: Vec<String> =
            self.unit.doubts.iter().map(|doubt| format!("the formula, {doubt}")).collect();
        for (leg, info) in self.legs.series.iter().enumerate() {
            let is_open = self.formula.prices_of(leg).any(|price| price == LegPrice::Both);
            if self.is_two_sided && is_open && !self.two_sided[leg] {
                doubts.push(format!(
                    "{} has one price alone, which stands for its bid and its ask: the spread is too narrow by its",
                    info.name
                ));
            }
        }
        for (count, what) in [
            (left.by_zero, "divided by 0 and make no row"),
            (left.no_number, "without such a number and make no row"),
        ] {
            if count > 0 {
                doubts.push(format!("{count} moments are {what}"));
            }
        }
        // Some moments are always lost; where many are, the legs do not go together.
        let lost = left.sum() - left.waiting - left.by_zero - left.no_number;
        if lost * 10 > series.edition.rows + lost {
            doubts.push(format!(
                "{lost} of {} moments make no row: {}",
                series.edition.rows + lost,
                self.left_in_words(left).join(", ")
            ));
        }
        if let Some((base, quote)) = self.unit.unit.as_ref().and_then(|unit| unit.as_pair())
            && (instrument.sheet.base.as_str(), instrument.sheet.quote.as_str()) != (base, quote)
        {
            doubts.push(format!(
                "the formula gives {quote} for one {base}, and the sheet of {} says {} for one {}",
                instrument.name, instrument.sheet.quote, instrument.sheet.base
            ));
        }
        doubts
    }

    fn assumed(
        &self,
        request: &FormulaRequest,
        instrument: &Instrument,
        series: &SeriesInfo,
    ) -> Vec<Decision> {
        let mut assumed = Vec::new();
        let mut assume = |what: &str, value: String, why: String| {
            assumed.push(Decision::new(what, value, Standing::Assumed, why));
        };
        if request.stale.is_none() && self.legs.frame.is_ticks() && self.legs.series.len() > 1 {
            let why = "nobody said how long a price of a leg holds; say --stale";
            assume("stale", length_in_words(self.stale), why.into());
        }
        if self.legs.is_frame_chosen {
            assume(
                "frame",
                self.legs.frame.to_string(),
                "the shortest that all legs have; say --frame".into(),
            );
        }
        if self.legs.is_source_chosen {
            let source = series.name.source.clone();
            assume("source", source, "the only one that all legs have; say --source".into());
        }
        if !instrument.own.said.contains_key("decimals") {
            let why = "as fine as a point of the legs; say --set decimals=N";
            assume("decimals", series.edition.scale.price.to_string(), why.into());
        }
        if self.legs.frame.is_bars() && self.legs.series.len() > 1 {
            let why = "when the legs had their highs and lows within a bar is not known; ticks or shorter bars tell more";
            assume("high and low", "of open and close".into(), why.into());
        }
        if self.legs.frame.is_bars() && !self.is_two_sided && !self.two_sided.iter().any(|two| *two) {
            let is_open = |leg: usize| self.formula.prices_of(leg).any(|price| price == LegPrice::Both);
            if (0..self.legs.series.len()).any(is_open) {
                assume("side", "one price".into(), "the legs do not know their spreads".into());
            }
        }
        assumed
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

/// The prices of the first joined moment; those of bars as they close.
fn first_cells(evaluator: &RowEvaluator, joined: &Joined) -> Option<Vec<Interval>> {
    let legs = joined.sets.last()?;
    joined.time.first()?;
    let cell = |(leg, price): &(usize, LegPrice)| {
        let (bid, ask) = (legs[*leg].bid[0], legs[*leg].ask[0]);
        match price {
            LegPrice::Both => Interval::new(bid.min(ask), bid.max(ask)),
            LegPrice::Bid | LegPrice::Last | LegPrice::Close => Interval::of(bid),
            LegPrice::Ask => Interval::of(ask),
            LegPrice::Mid => Interval::of((bid + ask) / 2.0),
        }
    };
    Some(evaluator.slots().iter().map(cell).collect())
}

/// Rows of the legs together.
enum LegJoin {
    Ticks(TickJoin),
    Bars(BarJoin),
}

impl LegJoin {
    fn of(shelf: &Shelf, plan: &FormulaPlan, from: Micros) -> Result<LegJoin> {
        let legs = &plan.legs.series;
        Ok(match plan.legs.frame.is_bars() {
            false => LegJoin::Ticks(TickJoin::of(shelf, legs, from, plan.stale)?),
            true => LegJoin::Bars(BarJoin::of(shelf, legs, &plan.two_sided, from, plan.stale)?),
        })
    }

    fn next(&mut self, most: usize, from: Micros, left: &mut LeftByMonth) -> Result<Joined> {
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
    fn ahead(
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
