//! Which contracts a chain is made of.

use std::collections::{BTreeMap, BTreeSet};

use super::request::ChainRequest;
use crate::compose::request::MIXED;
use crate::model::columns::shape_of;
use crate::model::contract_month::{ContractMonth, ContractName};
use crate::model::time::{DAY, day_of};
use crate::model::{Frame, Instrument, SeriesName, SeriesPattern, Shape};
use crate::store::{SeriesInfo, Shelf};
use crate::{Error, Result};

/// A contract with its rows.
pub(super) struct Contract {
    pub info: SeriesInfo,
    pub instrument: Instrument,
    pub month: ContractMonth,
    /// What its name says is traded.
    pub product: String,
}

/// The contracts of a chain, by month.
pub(super) struct ChainContracts {
    pub contracts: Vec<Contract>,
    /// What was asked for, with source and frame.
    pub of: Vec<SeriesPattern>,
    pub target: SeriesName,
    /// True where nobody said the frame and there are several.
    pub is_frame_chosen: bool,
}

/// Instruments with the series of each.
type ByInstrument = BTreeMap<String, Vec<SeriesInfo>>;

/// # Errors
/// One sentence: where a contract is not there, its month is not told, or several frames or sources have them.
pub(super) fn find_contracts(shelf: &Shelf, request: &ChainRequest) -> Result<ChainContracts> {
    let patterns = patterns_of(request)?;
    let mut all = ByInstrument::new();
    for pattern in &patterns {
        let found = shelf.contracts(pattern)?;
        if found.is_empty() {
            return Err(nothing(pattern));
        }
        for info in found {
            let of_instrument = all.entry(info.name.instrument.clone()).or_default();
            if !of_instrument.iter().any(|other| other.name == info.name) {
                of_instrument.push(info);
            }
        }
    }
    if all.len() < 2 {
        let names = all.keys().cloned().collect::<Vec<_>>().join(", ");
        return Err(Error::input(format!(
            "A chain is made of two contracts or more, and {} names {names} alone.",
            request.of.join(",")
        )));
    }
    let (frame, is_frame_chosen) = one_frame(&mut all)?;
    let source = one_source(&mut all)?;
    let target = SeriesName::new(&request.instrument.name, source.as_deref().unwrap_or(MIXED), frame);
    let mut contracts = Vec::new();
    for info in all.into_values().flatten() {
        refuse(shelf, &target, &info)?;
        contracts.push(contract_of(shelf, info)?);
    }
    contracts.sort_by_key(|contract: &Contract| contract.month);
    refuse_together(&contracts, &patterns)?;
    let of = patterns
        .iter()
        .map(|p| qualified(p, source.as_deref().unwrap_or("*"), frame))
        .collect::<Result<_>>()?;
    Ok(ChainContracts { contracts, of, target, is_frame_chosen })
}

/// Patterns of series: source and frame that were said are of those that name none.
fn patterns_of(request: &ChainRequest) -> Result<Vec<SeriesPattern>> {
    let source = request.source.as_deref().unwrap_or("*");
    let whole = |item: &String| {
        let with_source = if item.contains('@') { item.clone() } else { format!("{item}@{source}") };
        match request.frame {
            Some(frame) if !with_source.contains(':') => format!("{with_source}:{frame}").parse(),
            _ => with_source.parse(),
        }
    };
    request.of.iter().map(whole).collect()
}

fn qualified(pattern: &SeriesPattern, source: &str, frame: Frame) -> Result<SeriesPattern> {
    let text = pattern.to_string();
    let (instrument, rest) = text.split_once('@').unwrap_or((&text, "*"));
    let said = rest.split(':').next().filter(|said| !said.contains(['*', '?'])).unwrap_or(source);
    format!("{instrument}@{said}:{frame}").parse()
}

fn nothing(pattern: &SeriesPattern) -> Error {
    Error::input(format!(
        "The shelf has no contract {pattern}: a contract has rows there, and its month is told by its name (BLYH24, BLY-2024-03) or said (stavel compose NAME --set month=2024-03)."
    ))
}

fn one_frame(all: &mut ByInstrument) -> Result<(Frame, bool)> {
    let frames = |of: &Vec<SeriesInfo>| of.iter().map(|info| info.name.frame).collect::<BTreeSet<Frame>>();
    let common = all.values().map(frames).reduce(|a, b| &a & &b).unwrap_or_default();
    let Some(frame) = common.iter().copied().min_by_key(Frame::length) else {
        let told = |(name, of): (&String, &Vec<SeriesInfo>)| {
            format!("{name} has {}", frames(of).iter().map(Frame::to_string).collect::<Vec<_>>().join(", "))
        };
        return Err(Error::input(format!(
            "The contracts have no frame in common: {}. Build one with stavel frames.",
            all.iter().map(told).collect::<Vec<_>>().join("; ")
        )));
    };
    if frame.length() > DAY {
        return Err(Error::arguments(format!(
            "A bar of {frame} may begin in one contract and end in another; make the chain of bars of a day or shorter, and build {frame} of it with stavel frames."
        )));
    }
    all.values_mut().for_each(|of| of.retain(|info| info.name.frame == frame));
    Ok((frame, common.len() > 1))
}

/// The source that all contracts have; none where each has another.
fn one_source(all: &mut ByInstrument) -> Result<Option<String>> {
    let sources =
        |of: &Vec<SeriesInfo>| of.iter().map(|info| info.name.source.clone()).collect::<BTreeSet<_>>();
    let common = all.values().map(sources).reduce(|a, b| &a & &b).unwrap_or_default();
    match common.iter().collect::<Vec<_>>().as_slice() {
        [one] => {
            all.values_mut().for_each(|of| of.retain(|info| info.name.source == **one));
            Ok(Some((*one).clone()))
        }
        [] => match all.iter().find(|(_, of)| of.len() > 1) {
            None => Ok(None),
            Some((name, of)) => Err(Error::undecided(format!(
                "{name} has rows from {}; say which with --source, or name its series.",
                sources(of).into_iter().collect::<Vec<_>>().join(" and ")
            ))),
        },
        many => Err(Error::undecided(format!(
            "All contracts have rows from {}; say which with --source.",
            many.iter().map(|source| source.as_str()).collect::<Vec<_>>().join(" and ")
        ))),
    }
}

/// # Errors
/// Where no chain can be made of rows.
fn refuse(shelf: &Shelf, target: &SeriesName, info: &SeriesInfo) -> Result<()> {
    shelf.refuse_circle(target, &info.name)?;
    info.refuse_layers("chained")?;
    if info.is_afloat() {
        return Err(Error::input(format!("{} is afloat; align it first.", info.name)));
    }
    if shape_of(&info.edition.fields) == Shape::Depth {
        return Err(Error::input(format!(
            "{} are rows of the order book; no chain is made of them.",
            info.name
        )));
    }
    Ok(())
}

fn contract_of(shelf: &Shelf, info: SeriesInfo) -> Result<Contract> {
    let instrument = shelf.instrument(&info.name.instrument)?;
    let last = ContractMonth::of_day(day_of(info.edition.last));
    let read = ContractName::read(&instrument.name);
    let told = read.as_ref().and_then(|name| name.month(last));
    let Some(month) = instrument.sheet.month.or(told) else {
        return Err(Error::input(format!(
            "The month of {0} is not told by its name; say it: stavel compose {0} --set month=2024-03.",
            instrument.name
        )));
    };
    let product = read.map_or_else(|| instrument.name.clone(), |name| name.product);
    Ok(Contract { info, instrument, month, product })
}

/// # Errors
/// Where two are of one month, a pattern names two products, or rows are not of one kind.
fn refuse_together(contracts: &[Contract], patterns: &[SeriesPattern]) -> Result<()> {
    for pair in contracts.windows(2) {
        let [a, b] = pair else { continue };
        if a.month == b.month {
            return Err(Error::input(format!(
                "{} and {} are both of {}; name the contracts of the chain one by one.",
                a.instrument.name, b.instrument.name, a.month
            )));
        }
        let is_pattern =
            patterns.iter().any(|p| p.to_string().split('@').next().is_some_and(|i| i.contains(['*', '?'])));
        if is_pattern && a.product != b.product {
            return Err(Error::input(format!(
                "{} is of {} and {} of {}: that pattern names two products; give a narrower one.",
                a.instrument.name, a.product, b.instrument.name, b.product
            )));
        }
        let shape = |contract: &Contract| shape_of(&contract.info.edition.fields);
        if shape(a) != shape(b) {
            return Err(Error::input(format!(
                "{} and {} are not rows of one kind; a chain is of quotes, of trades or of bars.",
                a.info.name, b.info.name
            )));
        }
    }
    Ok(())
}
