//! Which series the legs of a formula are.

use std::collections::BTreeSet;

use super::request::FormulaRequest;
use crate::formula::{Formula, FormulaLeg, LegPrice};
use crate::model::columns::shape_of;
use crate::model::{Field, Frame, SeriesName, Shape, Side};
use crate::store::{SeriesInfo, Shelf};
use crate::{Error, Result};

/// The series of a formula's legs, all at one frame.
pub(super) struct LegSeries {
    /// In the order of the legs.
    pub series: Vec<SeriesInfo>,
    pub frame: Frame,
    /// True where nobody said the frame and there are several.
    pub is_frame_chosen: bool,
    /// True where nobody said the source and there are several.
    pub is_source_chosen: bool,
}

fn mistake(leg: &FormulaLeg, what: &str) -> Error {
    Error::input(format!("The formula, column {}: {what}.", leg.column))
}

/// Finds the series of the legs; those that name no source are of the one said, or of the only one that all have.
///
/// # Errors
/// One sentence with the column of the leg: where it is not on the shelf, not at that frame, or of several sources.
pub(super) fn find_legs(shelf: &Shelf, formula: &Formula, request: &FormulaRequest) -> Result<LegSeries> {
    let (source, frame) = (request.source.as_deref(), request.frame);
    if request.legs.len() == formula.legs().len() {
        return known_legs(shelf, formula, &request.legs);
    }
    let mut of_legs = Vec::new();
    for leg in formula.legs() {
        of_legs.push(series_of(shelf, leg, leg.source.as_deref().or(source))?);
    }
    let frames = |all: &Vec<SeriesInfo>| all.iter().map(|s| s.name.frame).collect::<BTreeSet<Frame>>();
    let common = of_legs.iter().map(frames).reduce(|a, b| &a & &b).unwrap_or_default();
    let chosen = match frame {
        Some(frame) => frame,
        None => shortest(&common).ok_or_else(|| no_frame_in_common(formula, &of_legs))?,
    };
    for (leg, all) in formula.legs().iter().zip(&mut of_legs) {
        let there = frames(all);
        all.retain(|s| s.name.frame == chosen);
        if all.is_empty() {
            let there = there.iter().map(Frame::to_string).collect::<Vec<_>>().join(", ");
            let told = format!(
                "{} has no {chosen}; it has {there} (stavel frames builds longer ones)",
                leg.instrument
            );
            return Err(mistake(leg, &told));
        }
    }
    let (series, is_source_chosen) = one_source(formula, of_legs)?;
    let legs = LegSeries {
        series,
        frame: chosen,
        is_frame_chosen: frame.is_none() && common.len() > 1,
        is_source_chosen: is_source_chosen && source.is_none(),
    };
    refuse_all(formula, &legs.series)?;
    Ok(legs)
}

/// The legs as they were before.
fn known_legs(shelf: &Shelf, formula: &Formula, names: &[SeriesName]) -> Result<LegSeries> {
    let series = names.iter().map(|name| shelf.find(name)).collect::<Result<Vec<_>>>()?;
    refuse_all(formula, &series)?;
    let frame = series[0].name.frame;
    Ok(LegSeries { series, frame, is_frame_chosen: false, is_source_chosen: false })
}

fn refuse_all(formula: &Formula, series: &[SeriesInfo]) -> Result<()> {
    let mut legs = formula.legs().iter().zip(series).enumerate();
    legs.try_for_each(|(at, (leg, info))| refuse(leg, info, formula.prices_of(at)))
}

/// Rows of an instrument that a formula can be made of.
fn series_of(shelf: &Shelf, leg: &FormulaLeg, source: Option<&str>) -> Result<Vec<SeriesInfo>> {
    let name = &leg.instrument;
    if !shelf.has_instrument(name)? {
        let there: Vec<String> = shelf.instruments()?.into_iter().map(|i| i.name).collect();
        // A name with a dash has to stand in quotes.
        let quoted = there.iter().find(|n| n.starts_with(name.as_str()) && n.contains(['-', '+']));
        let advice = match quoted {
            Some(full) => format!("a name with a dash stands in quotes: '{full}'"),
            None => format!("it has {}", there.iter().take(8).cloned().collect::<Vec<_>>().join(", ")),
        };
        return Err(mistake(leg, &format!("the shelf has no instrument {name}; {advice}")));
    }
    let all = shelf.series_of(name)?;
    let is_usable = |s: &SeriesInfo| {
        let frame = s.name.frame;
        s.name.side == Side::Bid && (frame.is_ticks() || frame.is_bars() && !frame.is_counted())
    };
    let usable: Vec<SeriesInfo> = all.into_iter().filter(is_usable).collect();
    if usable.is_empty() {
        return Err(mistake(leg, &format!("{name} has no rows that a formula can be made of")));
    }
    let Some(source) = source else { return Ok(usable) };
    let sources: BTreeSet<String> = usable.iter().map(|s| s.name.source.clone()).collect();
    let of_source: Vec<SeriesInfo> = usable.into_iter().filter(|s| s.name.source == source).collect();
    if of_source.is_empty() {
        let there = sources.into_iter().collect::<Vec<_>>().join(", ");
        return Err(mistake(leg, &format!("{name} has no rows from {source}; it has some from {there}")));
    }
    Ok(of_source)
}

/// Ticks, or the shortest bars.
fn shortest(frames: &BTreeSet<Frame>) -> Option<Frame> {
    frames.iter().copied().min_by_key(Frame::length)
}

fn no_frame_in_common(formula: &Formula, of_legs: &[Vec<SeriesInfo>]) -> Error {
    let told = |(leg, all): (&FormulaLeg, &Vec<SeriesInfo>)| {
        let frames: BTreeSet<Frame> = all.iter().map(|s| s.name.frame).collect();
        format!(
            "{} has {}",
            leg.instrument,
            frames.iter().map(Frame::to_string).collect::<Vec<_>>().join(", ")
        )
    };
    let there = formula.legs().iter().zip(of_legs).map(told).collect::<Vec<_>>().join("; ");
    Error::input(format!("The legs have no frame in common: {there}. Build one with stavel frames."))
}

/// One series a leg; gives whether a source was chosen where there are several.
fn one_source(formula: &Formula, of_legs: Vec<Vec<SeriesInfo>>) -> Result<(Vec<SeriesInfo>, bool)> {
    let sources = |all: &Vec<SeriesInfo>| all.iter().map(|s| s.name.source.clone()).collect::<BTreeSet<_>>();
    let open: Vec<&Vec<SeriesInfo>> = of_legs.iter().filter(|all| sources(all).len() > 1).collect();
    let common = open.iter().map(|all| sources(all)).reduce(|a, b| &a & &b).unwrap_or_default();
    let settled: BTreeSet<String> =
        of_legs.iter().filter(|all| sources(all).len() == 1).flat_map(&sources).collect();
    // What the other legs come from decides, where they have one source.
    let narrowed: Vec<&String> =
        common.iter().filter(|s| settled.is_empty() || settled.contains(*s)).collect();
    let one = if narrowed.len() == 1 { narrowed[0].clone() } else { String::new() };
    let is_chosen = !open.is_empty();
    let mut out = Vec::new();
    for (leg, all) in formula.legs().iter().zip(of_legs) {
        let there = sources(&all);
        let kept: Vec<SeriesInfo> =
            all.into_iter().filter(|s| there.len() == 1 || s.name.source == one).collect();
        // The bars that the source brought go before those that were built.
        let Some(info) = kept.into_iter().min_by_key(|s| s.name.built) else {
            let there = there.into_iter().collect::<Vec<_>>().join(" and ");
            let told = format!(
                "{0} has rows from {there}; say which (--source, or {0}@SOURCE in the formula)",
                leg.instrument
            );
            return Err(mistake(leg, &told));
        };
        out.push(info);
    }
    Ok((out, is_chosen))
}

/// # Errors
/// Where a leg has no such price, or its times are not known.
fn refuse(leg: &FormulaLeg, info: &SeriesInfo, prices: impl Iterator<Item = LegPrice>) -> Result<()> {
    let name = &info.name;
    if info.is_afloat() {
        return Err(mistake(leg, &format!("{name} is afloat; align it first")));
    }
    let has = |field: Field| info.edition.fields.contains(&field);
    let shape = shape_of(&info.edition.fields);
    if matches!(shape, Shape::Layered | Shape::Depth) {
        return Err(mistake(
            leg,
            &format!("{name} has layers of ticks and minutes; build frames of it and take those"),
        ));
    }
    for price in prices {
        let lacks = match (shape, price) {
            (Shape::Quotes, LegPrice::Last | LegPrice::Close) => {
                Some("are quotes, with a bid and an ask and no last price")
            }
            (Shape::Quotes, LegPrice::Both | LegPrice::Ask | LegPrice::Mid) if !has(Field::Ask) => {
                Some("have no ask; write .bid")
            }
            (Shape::Trades, LegPrice::Bid | LegPrice::Ask | LegPrice::Mid) => {
                Some("are trades, which have one price; write .last")
            }
            (Shape::Trades, LegPrice::Close) => Some("are trades and no bars; write .last"),
            (Shape::Bars, LegPrice::Ask | LegPrice::Mid) if !has(Field::Spread) => {
                Some("do not know their spread, so nobody knows that price; write .close")
            }
            _ => None,
        };
        if let Some(lacks) = lacks {
            return Err(mistake(leg, &format!("the rows of {name} {lacks}")));
        }
    }
    Ok(())
}
