//! Which price sides go into which file.

use crate::step::SidesAsked;
use stavel_core::Result;
use stavel_core::deliver::PriceSides;
use stavel_core::model::columns::shape_of;
use stavel_core::model::{SeriesName, Shape, Side};
use stavel_core::store::Shelf;

/// A series and the sides that its file holds.
pub type SidedSeries = (SeriesName, PriceSides);

/// Each series with the sides that its file holds, and those that have one side only, which are delivered as they are.
///
/// # Errors
/// Where the catalog cannot be read. That no series has a second side is told when the first is looked through.
pub fn with_sides(
    shelf: &Shelf,
    series: Vec<SeriesName>,
    asked: Option<SidesAsked>,
) -> Result<(Vec<SidedSeries>, Vec<SeriesName>)> {
    let Some(asked) = asked else {
        return Ok((series.into_iter().map(|name| (name, PriceSides::Own)).collect(), Vec::new()));
    };
    let (mut out, mut alone, mut has_two) = (Vec::new(), Vec::new(), false);
    for name in series {
        if name.side == Side::Ask && out.iter().any(|(bid, _)| with_side(bid, Side::Ask) == name) {
            // Its bid has brought it.
            continue;
        }
        let shape = shape_of(&shelf.find(&name)?.edition.fields);
        let ask = with_side(&name, Side::Ask);
        let has_ask = shape == Shape::Bars && name.side == Side::Bid && shelf.current(&ask)?.is_some();
        has_two |= has_ask || shape == Shape::Quotes;
        match (shape, asked) {
            (Shape::Quotes, SidesAsked::Apart) => {
                out.extend([Side::Bid, Side::Ask].map(|side| (name.clone(), PriceSides::Only(side))));
            }
            (Shape::Quotes, SidesAsked::Together) => out.push((name, PriceSides::Own)),
            (_, SidesAsked::Together) if has_ask => out.push((name, PriceSides::Together)),
            (_, SidesAsked::Apart) if has_ask => {
                out.retain(|(there, _)| *there != ask);
                out.extend([(name, PriceSides::Own), (ask, PriceSides::Own)]);
            }
            _ => {
                alone.push(name.clone());
                out.push((name, PriceSides::Own));
            }
        }
    }
    if !has_two {
        // Looking through a series that lacks its ask tells what is missing and how it comes.
        out.iter_mut().for_each(|(_, sides)| *sides = PriceSides::Together);
    }
    Ok((out, alone))
}

fn with_side(name: &SeriesName, side: Side) -> SeriesName {
    SeriesName { side, ..name.clone() }
}
