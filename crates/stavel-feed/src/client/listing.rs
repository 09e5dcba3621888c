//! What a service says it has.

use serde_json::Value;

use super::pieces::joined;
use super::{FeedSeries, Service};
use stavel_core::model::time::{DAY, parse};
use stavel_core::model::{Micros, SeriesName};
use stavel_core::{Error, Result};

/// An instrument of a feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    pub name: String,
    /// Its series, in the order of the feed's text.
    pub series: Vec<ListedSeries>,
}

/// A history that a feed has of an instrument. Times are on the wall of the feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedSeries {
    pub name: SeriesName,
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
    let document = service.document(&joined(&feed.address, &feed.instruments.path), is_cancelled)?;
    let list = at(&document, &feed.instruments.list).and_then(Value::as_array).ok_or_else(|| {
        Error::input(format!(
            "The feed {} has no list at '{}' in {}; look at instruments.list in its text.",
            feed.name, feed.instruments.list, feed.instruments.path
        ))
    })?;
    let mut out = Vec::new();
    for entry in list {
        // A name that is none on a shelf cannot be fetched.
        let Some(name) = at(entry, &feed.instruments.name).and_then(Value::as_str) else { continue };
        if stavel_core::model::series::check_name("instrument", name).is_err() {
            continue;
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
                name: feed.series_name(name, kind),
                kind: kind.clone(),
                first: first.and_then(|text| parse(text).ok()),
                last: last.and_then(end_of),
            });
        }
        out.push(Listed { name: name.to_owned(), series });
    }
    Ok(out)
}

/// A place in a document, by keys with points between them; the document itself for nothing.
fn at<'v>(value: &'v Value, path: &str) -> Option<&'v Value> {
    path.split('.').filter(|key| !key.is_empty()).try_fold(value, |value, key| value.get(key))
}

/// The moment a text names; of a day its end.
fn end_of(text: &str) -> Option<Micros> {
    let time = parse(text).ok()?;
    Some(if text.trim().len() <= 10 { time + DAY } else { time })
}
