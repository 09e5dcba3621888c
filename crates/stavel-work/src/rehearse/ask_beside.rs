//! The bars of the ask that are played beside those of the bid.

use stavel_core::model::columns::shape_of;
use stavel_core::model::{Shape, Side};
use stavel_core::store::SeriesInfo;

/// The bars of the ask that belong to bars of the bid: of the same source and frame. What a careful person would want to know of
/// those that are there and cannot be used is told.
pub fn ask_beside(all: &[SeriesInfo], bid: &SeriesInfo, doubts: &mut Vec<String>) -> Option<SeriesInfo> {
    if bid.name.side != Side::Bid || shape_of(&bid.edition.fields) != Shape::Bars {
        return None;
    }
    let is_its_ask = |other: &&SeriesInfo| {
        let (name, of) = (&other.name, &bid.name);
        name.side == Side::Ask
            && (&name.instrument, &name.source, name.frame) == (&of.instrument, &of.source, of.frame)
    };
    // Built bars go with built ones, where the source has bars of its own too.
    let found: Vec<&SeriesInfo> = all.iter().filter(is_its_ask).collect();
    let ask = found.iter().find(|other| other.name.built == bid.name.built).or(found.first())?;
    let why_not = if ask.is_afloat() {
        "is afloat, so nobody knows which bars it stands beside; align it"
    } else if ask.edition.scale.price > bid.edition.scale.price {
        "has more decimals than the bid"
    } else {
        return Some((*ask).clone());
    };
    doubts.push(format!("{} {why_not}: it is not played beside {}", ask.name, bid.name));
    None
}

/// What it is, in words.
pub fn ask_in_words(ask: &SeriesInfo) -> String {
    format!("the ask is that of {}, edition {}", ask.name, ask.edition.number)
}
