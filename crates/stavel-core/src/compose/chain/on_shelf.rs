//! Chains on the shelf.

use std::collections::BTreeMap;

use super::contracts::{ChainContracts, Contract, find_contracts};
use super::days::{DayCount, count_days};
use super::gaps::common_price;
use super::level::levels;
use super::request::ChainRequest;
use super::rolls::{PlannedChain, RollPlanner};
use super::told;
use crate::compose::level_change::LevelChange;
use crate::compose::on_shelf::put_sheet;
use crate::compose::request::ComposeRequest;
use crate::job::Job;
use crate::model::chain::{ChainedContract, Roll, RollAdjust, RollRule};
use crate::model::provenance::ChainMade;
use crate::model::{
    Clock, Columns, Decision, Field, Input, Instrument, Made, Micros, Provenance, Scale, SeriesName, Span,
    Standing,
};
use crate::store::{Draft, EditionInfo, Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// What came of a chain.
pub struct ChainDone {
    /// The instrument as it is now.
    pub instrument: Instrument,
    /// Its rows.
    pub series: SeriesInfo,
    /// How it was made: its contracts and rolls.
    pub made: ChainMade,
    /// What a careful person would look at.
    pub doubts: Vec<String>,
    /// What nobody said.
    pub assumed: Vec<Decision>,
}

/// Makes or changes an instrument whose rows are those of contracts of several months.
///
/// # Errors
/// One sentence: for contracts that are not there or do not go together, a rule that their rows cannot tell, rolls out of
/// order, a roll without a gap that could be measured, and a circle.
pub fn compose_chain(shelf: &mut Shelf, request: &ChainRequest, job: &Job) -> Result<ChainDone> {
    let found = find_contracts(shelf, request)?;
    let rows = found.contracts.iter().map(|c| c.info.edition.rows).sum::<u64>();
    job.begin(format!("compose {}", found.target), rows * 2);
    let instrument = put_instrument(shelf, request, &found)?;
    let session = &instrument.sheet.session;
    let infos: Vec<SeriesInfo> = found.contracts.iter().map(|c| c.info.clone()).collect();
    let table = count_days(shelf, &infos, &DayCount { session, span: Span::ALL }, job)?;
    let (rule, moved) = (&request.rule, &request.moved);
    let planner = RollPlanner { contracts: &found.contracts, table: &table, session, rule, moved };
    let planned = planner.plan()?;
    let scale = scale_of(&found.contracts, &instrument);
    let made = made_of(shelf, request, &found, &planner, &planned, scale)?;
    let mut doubts = told::doubts_of_rolls(&found.contracts, &table, &planner, &planned, &made);
    doubts.extend(told::doubts_of_sheets(&found.contracts));
    let parts = parts_of(&planned, &made)?;
    let assumed = assumed(request, &found, &made);
    let mut chain = Chain { contracts: &found.contracts, target: found.target.clone(), parts, made, scale };
    let provenance = chain.provenance(shelf, &found, &instrument)?;
    let series = chain.write(shelf, provenance, job)?;
    if chain.made.below_zero > 0 {
        let below = chain.made.below_zero;
        doubts.push(format!(
            "{below} rows have a price of 0 or less after they were adjusted: returns cannot be told there; adjust by ratio"
        ));
    }
    Ok(ChainDone { instrument, series, made: chain.made, doubts, assumed })
}

/// Writes the sheet: what is said; else it is like what its contracts are like, or like the last of them.
fn put_instrument(shelf: &mut Shelf, request: &ChainRequest, found: &ChainContracts) -> Result<Instrument> {
    let own = &request.instrument;
    let is_there = shelf.has_instrument(&own.name)?;
    let before = if is_there { shelf.instrument(&own.name)?.own.like } else { None };
    let last = &found.contracts[found.contracts.len() - 1];
    let first_like = &found.contracts[0].instrument.own.like;
    let is_alike = found.contracts.iter().all(|c| c.instrument.own.like == *first_like);
    let usual = first_like.clone().filter(|_| is_alike).unwrap_or_else(|| last.instrument.name.clone());
    let like = own.like.clone().or(before).unwrap_or(usual);
    let parent = shelf.instrument(&like)?;
    let is_assumed = |key: &str| parent.standing(key) == Standing::Assumed;
    let decimals = scale_of(&found.contracts, &last.instrument).price;
    let mut values: BTreeMap<String, String> = [("decimals".to_owned(), decimals.to_string())].into();
    if is_assumed("kind") {
        values.insert("kind".into(), "futures".into());
    }
    // Where nobody has said when a session day begins, it is midnight on the clock in which the contracts are told: a bar of a
    // day that begins at midnight in Oslo is of that day, not of the one before.
    let told_in = last.info.edition.clock.as_ref().filter(|clock| **clock != Clock::utc());
    if let Some(clock) = told_in.filter(|_| is_assumed("clock")) {
        values.insert("clock".into(), clock.to_string());
        if is_assumed("hours") {
            values.insert("hours".into(), format!("mon-fri 00:00-24:00 {clock}"));
        }
    }
    if is_assumed("base") && found.contracts.iter().all(|c| c.product == last.product) {
        let word: String =
            last.product.chars().filter(|c| c.is_alphanumeric() || *c == '-').take(20).collect();
        values.insert("base".into(), word);
    }
    let own = ComposeRequest { like: Some(like), ..own.clone() };
    Ok(put_sheet(shelf, &own, values)?.0)
}

/// As many decimals as the finest contract, or as were said.
fn scale_of(contracts: &[Contract], instrument: &Instrument) -> Scale {
    let finest =
        contracts.iter().map(|c| c.info.edition.scale).reduce(|a, b| a.finer(&b)).unwrap_or_default();
    let said = instrument.own.said.contains_key("decimals").then_some(instrument.sheet.decimals);
    Scale { price: finest.price.max(said.unwrap_or(0)), ..finest }
}

fn made_of(
    shelf: &Shelf,
    request: &ChainRequest,
    found: &ChainContracts,
    planner: &RollPlanner<'_>,
    planned: &PlannedChain,
    scale: Scale,
) -> Result<ChainMade> {
    let contract = |(place, contract): (usize, &Contract)| {
        let expiry = planner.expiry(place);
        ChainedContract {
            series: contract.info.name.clone(),
            month: contract.month.to_string(),
            expiry: expiry.map(|e| e.day),
            is_expiry_said: expiry.is_some_and(|e| e.is_said),
            ends: (contract.info.edition.first, contract.info.edition.last),
        }
    };
    let mut rolls = Vec::new();
    for roll in &planned.rolls {
        let [near, far] = [roll.from, roll.to].map(|place| &found.contracts[place]);
        let common = common_price(shelf, &near.info, &far.info, roll.at, scale)?;
        rolls.push(Roll {
            at: roll.at,
            day: planner.day_of(roll.at),
            from: near.instrument.name.clone(),
            to: far.instrument.name.clone(),
            why: roll.why,
            measured: common.as_ref().map(|c| c.at),
            prices: common.map(|c| c.prices),
        });
    }
    Ok(ChainMade {
        of: found.of.clone(),
        rule: request.rule.clone(),
        adjust: request.adjust.unwrap_or_default(),
        forward: request.forward,
        moved: request.moved.clone(),
        contracts: found.contracts.iter().enumerate().map(contract).collect(),
        rolls,
        decimals: scale.price,
        below_zero: 0,
    })
}

fn assumed(request: &ChainRequest, found: &ChainContracts, made: &ChainMade) -> Vec<Decision> {
    let mut assumed = Vec::new();
    if request.adjust.is_none() {
        let why = "nobody said how the jump at a roll is taken out; say --adjust difference or ratio";
        assumed.push(Decision::new("adjust", "none", Standing::Assumed, why));
    }
    if found.is_frame_chosen {
        let why = "the shortest that all contracts have; say --frame";
        assumed.push(Decision::new("frame", found.target.frame.to_string(), Standing::Assumed, why));
    }
    let is_found = |c: &&ChainedContract| c.expiry.is_some() && !c.is_expiry_said;
    if matches!(made.rule, RollRule::Days(_)) && made.contracts.iter().any(|c| is_found(&c)) {
        let names = made.contracts.iter().filter(is_found).map(|c| c.series.instrument.clone());
        let why = format!(
            "the last day with rows of {}; say --set expiry=2024-03-15 of each",
            names.collect::<Vec<_>>().join(", ")
        );
        assumed.push(Decision::new("expiry", "last day traded", Standing::Assumed, why));
    }
    assumed
}

/// A stretch of a chain: rows of one contract.
#[derive(Debug, Clone, Copy, PartialEq)]
struct ChainPart {
    contract: usize,
    span: Span,
    level: LevelChange,
}

/// # Errors
/// Where prices are to be adjusted and a roll has no gap.
fn parts_of(planned: &PlannedChain, made: &ChainMade) -> Result<Vec<ChainPart>> {
    let levels = levels(&made.rolls, made.adjust, made.forward).ok_or_else(|| told::no_gap(made))?;
    let part = |((contract, span), level)| ChainPart { contract, span, level };
    Ok(planned.parts().zip(levels).map(part).collect())
}

/// A chain that is about to be written.
struct Chain<'a> {
    contracts: &'a [Contract],
    target: SeriesName,
    parts: Vec<ChainPart>,
    made: ChainMade,
    scale: Scale,
}

/// What of an edition stands when contracts or rolls have changed.
struct StandingParts {
    edition: EditionInfo,
    /// The first moment that is written anew.
    from: Micros,
}

impl Chain<'_> {
    fn provenance(
        &self,
        shelf: &Shelf,
        found: &ChainContracts,
        instrument: &Instrument,
    ) -> Result<Provenance> {
        let edition = |c: &Contract| Input::Edition { id: c.info.edition.id, series: c.info.name.clone() };
        let mut inputs: Vec<Input> = self.contracts.iter().map(edition).collect();
        for pattern in found.of.iter().filter(|pattern| pattern.exact().is_none()) {
            let names = shelf.contracts(pattern)?.into_iter().map(|info| info.name).collect();
            inputs.push(Input::Contracts { pattern: pattern.clone(), found: names });
        }
        for contract in self.contracts {
            inputs.extend(contract.instrument.inputs(&["month", "expiry"]));
        }
        inputs.extend(instrument.inputs(&Instrument::DAYS));
        inputs.extend(instrument.inputs(&["decimals"]));
        Ok(Provenance::of(Made::Chain(Box::new(self.made.clone()))).reading(inputs))
    }

    /// The fields that some contract has; those that say nothing once prices are moved are gone.
    fn fields(&self) -> Vec<Field> {
        let has = |field: &Field| self.contracts.iter().any(|c| c.info.edition.fields.contains(field));
        let is_kept = |field: &Field| match self.made.adjust {
            RollAdjust::None => true,
            RollAdjust::Difference => *field != Field::AdjustedClose,
            RollAdjust::Ratio => *field != Field::AdjustedClose && !field.is_detail(),
        };
        Field::ALL.into_iter().filter(|field| has(field) && is_kept(field)).collect()
    }

    /// The parts of the edition before, compared with those of now.
    fn standing(&self, shelf: &Shelf, fields: &[Field]) -> Result<Option<StandingParts>> {
        let Some(before) = shelf.current_own(&self.target)? else { return Ok(None) };
        let edition = before.edition;
        let Made::Chain(was) = &edition.provenance.made else { return Ok(None) };
        // Where rows fell below 0 they are counted anew.
        let is_alike =
            was.adjust == self.made.adjust && was.forward == self.made.forward && was.below_zero == 0;
        let levels = levels(&was.rolls, was.adjust, was.forward);
        let Some(levels) =
            levels.filter(|_| is_alike && (edition.fields.as_slice(), edition.scale) == (fields, self.scale))
        else {
            return Ok(None);
        };
        // A chain of one contract has no roll that says which it is.
        let first = was.rolls.first().map(|roll| roll.from.clone());
        let mut from = Micros::MIN;
        for (place, part) in self.parts.iter().enumerate() {
            let name = match place.checked_sub(1) {
                None => first.clone(),
                Some(roll) => was.rolls.get(roll).map(|roll| roll.to.clone()),
            };
            let begin =
                if place == 0 { Micros::MIN } else { was.rolls.get(place - 1).map_or(Micros::MAX, |r| r.at) };
            let info = &self.contracts[part.contract].info;
            if name.as_ref() != Some(&info.name.instrument)
                || begin != part.span.from
                || levels.get(place) != Some(&part.level)
            {
                break;
            }
            let end = was.rolls.get(place).map_or(Micros::MAX, |roll| roll.at);
            let of_then = edition.provenance.parents().find(|(_, series)| *series == &info.name);
            let Some(then) = of_then.map(|(id, _)| shelf.edition(id)).transpose()?.flatten() else { break };
            if then.clock != info.edition.clock {
                break;
            }
            let grown = (then.last != info.edition.last).then(|| then.last.min(info.edition.last));
            let differs = shelf.first_difference(&then, &info.edition)?.into_iter().chain(grown).min();
            from = differs.unwrap_or(Micros::MAX).clamp(part.span.from, end.min(part.span.to));
            if from < part.span.to || end != part.span.to {
                break;
            }
        }
        let from = from.min(edition.last.saturating_add(1));
        Ok((edition.first < from).then_some(StandingParts { edition, from }))
    }

    /// Writes the rows.
    fn write(&mut self, shelf: &mut Shelf, provenance: Provenance, job: &Job) -> Result<SeriesInfo> {
        let fields = self.fields();
        let standing = self.standing(shelf, &fields)?;
        let (mut kept, mut before, mut from) = (Vec::new(), Columns::empty(&fields, self.scale), Micros::MIN);
        if let Some(standing) = standing {
            (kept, before) = shelf.rows_before(&standing.edition, standing.from)?;
            from = standing.from;
        }
        let readers =
            self.contracts.iter().map(|c| shelf.reader(&c.info.edition)).collect::<Result<Vec<_>>>()?;
        let clock = self.contracts[self.parts[0].contract].info.edition.clock.clone();
        let origin = Origin { provenance, clock, fields: fields.clone(), scale: self.scale };
        let mut draft = shelf.draft(&self.target, origin)?;
        kept.into_iter().for_each(|file| draft.keep(file));
        if !before.is_empty() {
            draft.push(before)?;
        }
        let mut below = 0;
        for part in self.parts.iter().filter(|part| part.span.to > from) {
            let span = Span::new(part.span.from.max(from), part.span.to);
            for rows in readers[part.contract].scan(span, None) {
                below += self.push(&mut draft, part, rows?, job)?;
            }
        }
        if draft.is_empty() {
            return Err(Error::input("The contracts have no rows between the rolls; nothing was written."));
        }
        self.made.below_zero = below;
        draft.set_made(Made::Chain(Box::new(self.made.clone())));
        draft.commit()
    }

    fn push(&self, draft: &mut Draft<'_>, part: &ChainPart, rows: Columns, job: &Job) -> Result<u64> {
        job.advance(rows.len() as u64)?;
        let fields = draft.fields().to_vec();
        let mut rows = rows.rescaled(self.scale).with_fields(&fields);
        let below = part.level.apply(&mut rows);
        draft.push(rows)?;
        Ok(below)
    }
}
