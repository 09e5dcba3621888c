//! What a service says it has.

use serde_json::Value;

use super::document::{at, name_on_shelf};
use super::pieces::joined;
use super::{FeedSeries, Service};
use stavel_core::error::printable;
use stavel_core::model::time::{DAY, parse};
use stavel_core::model::{Micros, SeriesName};
use stavel_core::{Error, Result};

/// An instrument of a feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Its name on the shelf.
    pub name: String,
    /// Its name as the service has it, perhaps with marks that no name on a shelf has.
    pub symbol: String,
    /// Its series, in the order of the feed's text.
    pub series: Vec<ListedSeries>,
}

/// A history that a feed has of an instrument. Times are on the wall of the feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedSeries {
    pub name: SeriesName,
    /// The instrument as the service names it.
    pub symbol: String,
    pub kind: FeedSeries,
    /// Since when; none where the service does not say.
    pub first: Option<Micros>,
    /// Until when: a day is until its end.
    pub last: Option<Micros>,
}

/// Asks a service which instruments it has.
///
/// # Errors
/// Where it cannot be asked, or the list does not stand where the feed's text says.
pub fn listing(service: &Service, is_cancelled: &dyn Fn() -> bool) -> Result<Vec<Listed>> {
    let feed = &service.feed;
    let Some(text) = &feed.instruments else { return Ok(Vec::new()) };
    let document = service.document(&joined(&feed.address, &text.path), is_cancelled)?;
    let list = at(&document, &text.list).and_then(Value::as_array).ok_or_else(|| {
        Error::input(format!(
            "The feed {} has no list at '{}' in {}; look at instruments.list in its text.",
            feed.name, text.list, text.path
        ))
    })?;
    let mut out: Vec<Listed> = Vec::new();
    for entry in list {
        let symbol = at(entry, &text.name).and_then(Value::as_str).unwrap_or_default();
        let name = name_on_shelf(symbol);
        if name.is_empty() {
            // What cannot be named on a shelf cannot be fetched; the others can.
            continue;
        }
        if let Some(other) = out.iter().find(|listed| listed.name == name) {
            return Err(Error::input(format!(
                "The feed {} has {} and {}, which would both be {name} on the shelf.",
                feed.name,
                printable(&other.symbol),
                printable(symbol)
            )));
        }
        let mut series = Vec::new();
        for kind in &feed.series {
            let time = |key: &str| at(entry, key).and_then(Value::as_str);
            let is_said = |key: &str| !key.is_empty();
            let (first, last) = (time(&kind.first), time(&kind.last));
            // An instrument whose entry says nothing of a kind has none of it.
            if is_said(&kind.first) && first.is_none() || is_said(&kind.last) && last.is_none() {
                continue;
            }
            series.push(ListedSeries {
                name: feed.series_name(&name, kind),
                symbol: symbol.to_owned(),
                kind: kind.clone(),
                first: first.and_then(|text| parse(text).ok()),
                last: last.and_then(end_of),
            });
        }
        out.push(Listed { name, symbol: symbol.to_owned(), series });
    }
    if out.is_empty() && !list.is_empty() {
        return Err(Error::input(format!(
            "No instrument of the feed {} has a name at '{}'; look at instruments.name in its text.",
            feed.name, text.name
        )));
    }
    Ok(out)
}

/// The moment a text names; of a day its end.
fn end_of(text: &str) -> Option<Micros> {
    let time = parse(text).ok()?;
    Some(if text.trim().len() <= 10 { time + DAY } else { time })
}
