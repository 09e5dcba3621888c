//! What money of one currency is worth in another, by the pairs on the shelf.

use std::collections::VecDeque;

use rust_decimal::Decimal;

use crate::Result;
use crate::model::instrument::InstrumentKind;
use crate::model::time::DAY;
use crate::model::{Field, Instrument, Made, Micros, SeriesName, Span, present};
use crate::store::{SeriesInfo, Shelf};

/// A rate and the prices it is made of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CrossRate {
    /// Units of the wanted currency for one of the other.
    pub rate: Decimal,
    /// The pairs on the way; none where both are one currency.
    pub legs: Vec<CrossLeg>,
}

/// A pair on the way from one currency to another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CrossLeg {
    /// Where its price comes from.
    pub series: SeriesName,
    /// When that price was made, UTC.
    pub time: Micros,
    /// The price: the middle of bid and ask where both are known.
    pub price: Decimal,
    /// True where the way goes from the second currency of the pair to the first.
    pub is_turned: bool,
}

/// The rate from one currency to another as of a moment, or of the last prices there are: by as few pairs as lead from one
/// to the other. None where none do.
///
/// # Errors
/// Where the shelf cannot be read.
pub fn cross_rate(shelf: &Shelf, from: &str, to: &str, at: Option<Micros>) -> Result<Option<CrossRate>> {
    let mut ways = VecDeque::from([(from.to_owned(), CrossRate { rate: Decimal::ONE, legs: Vec::new() })]);
    let mut seen = vec![from.to_owned()];
    let pairs = pairs(shelf)?;
    while let Some((currency, rate)) = ways.pop_front() {
        if currency == to {
            return Ok(Some(rate));
        }
        for pair in &pairs {
            let (base, quote) = (&pair.sheet.base, &pair.sheet.quote);
            let (next, is_turned) = match (*base == currency, *quote == currency) {
                (true, false) => (quote, false),
                (false, true) => (base, true),
                _ => continue,
            };
            if seen.contains(next) {
                continue;
            }
            let Some((series, time, price)) = last_price(shelf, pair, at)? else { continue };
            let step = if is_turned { Decimal::ONE.checked_div(price) } else { Some(price) };
            let Some(product) = step.and_then(|step| rate.rate.checked_mul(step)) else { continue };
            seen.push(next.clone());
            let mut legs = rate.legs.clone();
            legs.push(CrossLeg { series, time, price, is_turned });
            ways.push_back((next.clone(), CrossRate { rate: product, legs }));
        }
    }
    Ok(None)
}

/// The pairs of the shelf in their own prices: what is like another may have been changed, and a contract on a good is
/// no currency.
fn pairs(shelf: &Shelf) -> Result<Vec<Instrument>> {
    let is_pair = |i: &Instrument| {
        let kinds = [InstrumentKind::Forex, InstrumentKind::Metal, InstrumentKind::Crypto];
        let has_both = !i.sheet.quote.is_empty() && i.sheet.base != i.sheet.quote;
        i.own.like.is_none() && has_both && kinds.contains(&i.sheet.kind)
    };
    Ok(shelf.instruments()?.into_iter().filter(is_pair).collect())
}

/// The last price of an instrument at or before a moment, from whichever series has the latest.
///
/// # Errors
/// Where the shelf cannot be read.
pub fn last_price(
    shelf: &Shelf,
    instrument: &Instrument,
    at: Option<Micros>,
) -> Result<Option<(SeriesName, Micros, Decimal)>> {
    let mut all: Vec<SeriesInfo> = shelf.series_of(&instrument.name)?;
    all.retain(|s| !s.is_afloat() && !matches!(s.edition.provenance.made, Made::Rebuild(_)));
    all.sort_by_key(|s| std::cmp::Reverse(s.edition.last.min(at.unwrap_or(Micros::MAX))));
    let mut best: Option<(SeriesName, Micros, Decimal)> = None;
    for info in all {
        // A bar knows its last price only when it ends.
        let end = at.map_or(Micros::MAX, |at| at - info.name.frame.length()).min(info.edition.last);
        if best.as_ref().is_some_and(|(_, time, _)| end <= *time) || end < info.edition.first {
            continue;
        }
        let rows = shelf.read(&info.edition, Span::new(end - reach_of(&info), end + 1))?;
        let cell = |field: Field, i: usize| rows.column(field).get(i).copied().and_then(present);
        let price = |i: usize| {
            let half =
                |bid: i64, spread: Option<i64>| Decimal::from(bid) + Decimal::new(spread.unwrap_or(0) * 5, 1);
            if rows.has(Field::Bid) {
                let bid = cell(Field::Bid, i)?;
                return Some(half(bid, cell(Field::Ask, i).map(|ask| ask - bid)));
            }
            let last = cell(Field::Close, i).or(cell(Field::Last, i))?;
            Some(half(last, cell(Field::Spread, i)))
        };
        let found = (0..rows.len()).rev().find_map(|i| Some((i, price(i)?)));
        if let Some((i, points)) = found.filter(|(_, p)| *p > Decimal::ZERO) {
            let price = points / Decimal::from(crate::model::price::unit(rows.scale.price));
            best = Some((info.name.clone(), rows.time[i], price.normalize()));
        }
    }
    Ok(best)
}

/// How far back a price is looked for: of ticks and short bars a few days hold one, of long ones a few bars.
fn reach_of(info: &SeriesInfo) -> Micros {
    (5 * DAY).max(2 * info.name.frame.length())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use crate::model::{Clock, Columns, Provenance, Scale};
    use crate::store::Origin;

    fn put(shelf: &mut Shelf, name: &str, closes: &[(&str, i64)]) {
        let name: SeriesName = name.parse().unwrap();
        shelf.ensure_instrument(&name.instrument).unwrap();
        let (fields, scale) = (vec![Field::Close], Scale { price: 4, volume: 0 });
        let origin = Origin {
            provenance: Provenance::of(Made::Unknown),
            clock: Some(Clock::utc()),
            fields: fields.clone(),
            scale,
        };
        let mut draft = shelf.draft(&name, origin).unwrap();
        let time = closes.iter().map(|(t, _)| parse(t).unwrap()).collect();
        let data = vec![closes.iter().map(|(_, p)| *p).collect()];
        draft.push(Columns { time, fields, data, scale }).unwrap();
        draft.commit().unwrap();
    }

    #[test]
    fn a_rate_goes_by_as_few_pairs_as_it_can_and_by_the_prices_of_its_day() {
        let dir = tempfile::tempdir().unwrap();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        put(&mut shelf, "NOKSEK@quill:1m", &[("2024-03-04 10:00", 10_000), ("2024-03-05 10:00", 12_500)]);
        put(&mut shelf, "NZDSEK@quill:1m", &[("2024-03-05 10:00", 64_000)]);
        put(&mut shelf, "NOKSEK@tarn:1d", &[("2024-03-05 00:00", 99_000)]);
        let at = |t: &str| Some(parse(t).unwrap());
        let rate = |from: &str, to: &str, at| {
            cross_rate(&shelf, from, to, at).unwrap().map(|r| (r.rate.normalize().to_string(), r.legs.len()))
        };
        let noon = at("2024-03-05 12:00");
        assert_eq!(rate("NOK", "SEK", noon), Some(("1.25".into(), 1)));
        assert_eq!(rate("SEK", "NOK", noon), Some(("0.8".into(), 1)));
        assert_eq!(rate("NZD", "NOK", noon), Some(("5.12".into(), 2)));
        assert_eq!(rate("SEK", "SEK", noon), Some(("1".into(), 0)));
        assert_eq!(
            rate("NOK", "SEK", at("2024-03-05 09:00")),
            Some(("1".into(), 1)),
            "not of the hour after it"
        );
        assert_eq!((rate("NOK", "SEK", at("2024-03-01")), rate("NOK", "EUR", None)), (None, None));
    }
}
