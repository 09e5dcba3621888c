//! How far apart two contracts are at a roll.

use crate::Result;
use crate::model::time::{DAY, MINUTE};
use crate::model::{ABSENT, Field, Micros, Scale, Span};
use crate::store::{SeriesInfo, Shelf};

/// A moment at which both contracts had a price, and these.
pub(super) struct CommonPrice {
    /// In UTC; of ticks the beginning of the minute.
    pub at: Micros,
    /// Of the nearer and of the later contract, in points of the chain.
    pub prices: (i64, i64),
}

/// The last moment before a roll at which both contracts had a price: of bars the closes of one time, of ticks the last
/// prices of one minute (of quotes their bids), so that a chain of ticks and one of their minutes have the same gaps.
///
/// # Errors
/// Where rows cannot be read.
pub(super) fn common_price(
    shelf: &Shelf,
    near: &SeriesInfo,
    far: &SeriesInfo,
    before: Micros,
    scale: Scale,
) -> Result<Option<CommonPrice>> {
    let begin = near.edition.first.max(far.edition.first);
    let mut days = 4;
    loop {
        let span = Span::new(before.saturating_sub(days * DAY).max(begin), before);
        let of_near = prices(shelf, near, span, scale)?;
        let of_far = prices(shelf, far, span, scale)?;
        let found = of_near.iter().rev().find_map(|(at, price)| {
            let place = of_far.binary_search_by_key(at, |row| row.0).ok()?;
            Some(CommonPrice { at: *at, prices: (*price, of_far[place].1) })
        });
        if found.is_some() || span.from <= begin {
            return Ok(found);
        }
        days *= 8;
    }
}

/// The last price of each minute, or the close of each bar.
pub(super) fn prices(
    shelf: &Shelf,
    info: &SeriesInfo,
    span: Span,
    scale: Scale,
) -> Result<Vec<(Micros, i64)>> {
    let has = |field: &Field| info.edition.fields.contains(field);
    let Some(field) = [Field::Close, Field::Bid, Field::Last].into_iter().find(|f| has(f)) else {
        return Ok(Vec::new());
    };
    let step = if field == Field::Close { 1 } else { MINUTE };
    let mut all: Vec<(Micros, i64)> = Vec::new();
    for rows in shelf.scan(&info.edition, span, Some(&[field]))? {
        let rows = rows?.rescaled(Scale { volume: info.edition.scale.volume, ..scale });
        for (time, price) in rows.time.iter().zip(rows.column(field)).filter(|(_, price)| **price != ABSENT) {
            let at = time.div_euclid(step) * step;
            match all.last_mut() {
                Some(last) if last.0 == at => last.1 = *price,
                _ => all.push((at, *price)),
            }
        }
    }
    Ok(all)
}
