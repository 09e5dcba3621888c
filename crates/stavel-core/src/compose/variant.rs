//! The rows of a variant out of those of its base.

use rust_decimal::Decimal;

use super::actions::ActionLevels;
use super::stress::RowStress;
use crate::hour_spreads::HourSpreads;
use crate::model::columns::{CARRIED_SPREAD, SHEET_SPREAD, shape_of};
use crate::model::price::{LIMIT, MAX_DECIMALS, unit};
use crate::model::provenance::LeftAway;
use crate::model::session::OpenHours;
use crate::model::variation::Variation;
use crate::model::{ABSENT, Clock, Columns, Field, Scale, Session, Shape, Side, Span, present};

/// What is done to rows, with all that it rests on.
pub struct Variant {
    /// As it was asked for.
    pub variation: Variation,
    /// When the variant trades.
    pub session: Session,
    /// What becomes of the spreads, in points of `decimals`.
    pub spread: NewSpread,
    /// Decimals of the result.
    pub scale: Scale,
    /// Decimals of its prices before the middle of bid and ask was taken, which may have one more.
    pub decimals: u8,
    /// The splits and dividends its prices are adjusted for.
    pub actions: Option<ActionLevels>,
    /// What is disturbed by chance.
    pub stress: Option<RowStress>,
}

/// The spread of a row of the variant.
#[derive(Debug, Clone, PartialEq)]
pub enum NewSpread {
    /// As the base has it.
    Kept,
    /// The one of the spec sheet.
    Fixed(i64),
    /// So many points more, or less.
    Added(i64),
    /// So many times as wide.
    Times(Decimal),
    /// The usual one of the hour of the week on a wall; rows of an hour without any keep theirs.
    OfHour(HourSpreads, Clock),
}

/// The decimals that prices need so that none loses digits: as many digits as `typical` has.
pub fn decimals_for(variation: &Variation, decimals: u8, typical: i64) -> u8 {
    if !variation.maps_prices() || typical <= 0 {
        return decimals;
    }
    let fits = |d: &u8| {
        map(variation, Scale { price: decimals, volume: 0 }, *d, typical).is_some_and(|p| p >= typical)
    };
    (0..=MAX_DECIMALS).find(fits).unwrap_or(MAX_DECIMALS)
}

/// A price of the base, in points of its scale, as one of the variant with `decimals`; none where it cannot be.
fn map(variation: &Variation, from: Scale, decimals: u8, price: i64) -> Option<i64> {
    let factor = variation.scale.map_or(Decimal::ONE, |f| f.0);
    let (times, parts) = (factor.mantissa(), 10i128.pow(factor.scale()));
    let (up, down) = if variation.inverse {
        if price <= 0 {
            return None;
        }
        let points = 10i128.checked_pow(u32::from(from.price) + u32::from(decimals))?;
        (times.checked_mul(points)?, parts.checked_mul(i128::from(price))?)
    } else {
        let up = times.checked_mul(i128::from(unit(decimals)))?.checked_mul(i128::from(price))?;
        (up, parts.checked_mul(i128::from(unit(from.price)))?)
    };
    // To the nearest point, halves away from 0.
    let half = if up < 0 { -(down / 2) } else { down / 2 };
    i64::try_from((up + half) / down).ok().filter(|p| p.abs() < LIMIT)
}

impl Variant {
    /// The fields of the variant's rows.
    pub fn fields(&self, base: &[Field]) -> Vec<Field> {
        let shape = shape_of(base);
        let has = |f: &Field| base.contains(f);
        let is_spread_new = !matches!(self.spread, NewSpread::Kept);
        let marks = matches!(self.spread, NewSpread::Fixed(_) | NewSpread::OfHour(..));
        let is_one_side = self.variation.side.is_some() && shape == Shape::Quotes;
        let keeps = |f: &Field| match f {
            Field::Bid | Field::Ask | Field::BidVolume | Field::AskVolume if is_one_side => false,
            Field::Last if is_one_side => true,
            Field::Volume if is_one_side => [Field::BidVolume, Field::AskVolume].iter().any(has),
            Field::Spread if shape == Shape::Bars => has(f) || is_spread_new,
            Field::Origin => has(f) || marks && shape == Shape::Bars || self.stress.is_some(),
            // What the first, widest and narrowest spread were, and the closes of others, are gone with the prices.
            f if f.is_detail() => has(f) && !is_spread_new && !self.variation.changes_prices(),
            Field::AdjustedClose => has(f) && !self.variation.changes_prices(),
            f => has(f),
        };
        Field::ALL.into_iter().filter(keeps).collect()
    }

    /// The rows of the variant, and what was left away.
    pub fn rows(&self, mut rows: Columns) -> (Columns, LeftAway) {
        let mut left = LeftAway::default();
        if let Some(actions) = &self.actions {
            let scale = Scale { price: self.decimals, ..rows.scale };
            rows = actions.apply(&rows.rescaled(scale));
        }
        if let Some(stress) = &self.stress {
            left.missing = stress.apply(&mut rows);
        }
        let moved = self.variation.moved_by();
        rows.time.iter_mut().for_each(|t| *t += moved);
        let before = rows.len();
        self.keep_wanted(&mut rows);
        left.outside = (before - rows.len()) as u64;
        let fields = self.fields(&rows.fields);
        if self.variation.maps_prices() {
            self.map_prices(&mut rows, &mut left);
        }
        match rows.shape() {
            Shape::Bars => rows = self.bar_spreads(rows, &fields, &mut left),
            Shape::Quotes => self.quote_spreads(&mut rows, &mut left),
            _ => {}
        }
        rows.scale = Scale { price: self.decimals, ..self.scale };
        rows = rows.rescaled(self.scale);
        if let Some(side) = self.variation.side {
            rows = of_side(rows, side, &mut left);
        }
        let mut rows = rows.with_fields(&fields);
        if self.stress.is_some() {
            RowStress::mark(&mut rows);
        }
        (rows, left)
    }

    fn keep_wanted(&self, rows: &mut Columns) {
        let Some((first, last)) = rows.ends() else { return };
        let span = self.variation.span();
        let mut open = OpenHours::new(&self.session, Span::new(first, last + 1));
        let clock = &self.session.clock;
        let days = self.variation.days.as_ref();
        let is_wanted = |t: i64, open: &mut OpenHours| {
            span.holds(t) && open.is_open(t) && days.is_none_or(|days| days.has(clock.day_of(t)))
        };
        let keep: Vec<bool> = rows.time.iter().map(|t| is_wanted(*t, &mut open)).collect();
        rows.retain(|i| keep[i]);
    }

    /// Prices turned over and multiplied. What was the bid is made of the ask, what was the low of the high.
    fn map_prices(&self, rows: &mut Columns, left: &mut LeftAway) {
        let (from, variation) = (rows.scale, &self.variation);
        let to = |price: i64| map(variation, from, self.decimals, price).unwrap_or(ABSENT);
        if rows.shape() == Shape::Bars {
            self.map_bars(rows, left);
        } else {
            let prices = rows.fields.iter().zip(&mut rows.data).filter(|(f, _)| f.is_price());
            for value in prices.flat_map(|(_, column)| column) {
                *value = present(*value).map_or(ABSENT, to);
            }
            if variation.inverse {
                swap(rows, Field::Bid, Field::Ask);
                swap(rows, Field::BidVolume, Field::AskVolume);
                // Whoever bought one sold the other.
                rows.column_mut(Field::Taker)
                    .into_iter()
                    .flatten()
                    .filter(|t| **t > 0)
                    .for_each(|t| *t = 3 - *t);
            }
        }
        let before = rows.len();
        let has_price: Vec<bool> = {
            let prices: Vec<&Vec<i64>> = rows
                .fields
                .iter()
                .zip(&rows.data)
                .filter(|(f, _)| f.is_price() && **f != Field::AdjustedClose)
                .map(|(_, c)| c)
                .collect();
            (0..rows.len()).map(|i| prices.iter().any(|c| c[i] != ABSENT)).collect()
        };
        rows.retain(|i| has_price[i]);
        left.unpriced += (before - rows.len()) as u64;
    }

    fn map_bars(&self, rows: &mut Columns, left: &mut LeftAway) {
        let (from, variation) = (rows.scale, &self.variation);
        let to = |price: i64| map(variation, from, self.decimals, price);
        let closes: Vec<i64> = rows.column(Field::Close).to_vec();
        // The bid of the pair turned over is one divided by the ask. Where no ask is known it is the bid that is turned
        // over, and told.
        let mut above = vec![0; rows.len()];
        if variation.inverse {
            let spreads = rows.cells(Field::Spread);
            for (i, above) in above.iter_mut().enumerate() {
                match spreads.get(i) {
                    Some(spread) => *above = spread,
                    None => left.bid_alone += 1,
                }
            }
        }
        for field in [Field::Open, Field::High, Field::Low, Field::Close] {
            for (i, value) in rows.column_mut(field).into_iter().flatten().enumerate() {
                *value = present(*value).and_then(|p| to(p + above[i])).unwrap_or(ABSENT);
            }
        }
        for (i, spread) in rows.column_mut(Field::Spread).into_iter().flatten().enumerate() {
            let near = present(*spread).zip(closes.get(i).copied().and_then(present));
            let ends = near.and_then(|(spread, close)| to(close).zip(to(close + spread)));
            *spread = ends.map_or(ABSENT, |(a, b)| (b - a).abs());
        }
        if variation.inverse {
            swap(rows, Field::High, Field::Low);
            swap(rows, Field::BidVolume, Field::AskVolume);
        }
    }

    /// The new spread of a row.
    fn new_spread(&self, old: Option<i64>, time: i64, left: &mut LeftAway) -> Option<i64> {
        let new = match &self.spread {
            NewSpread::Kept => return old,
            NewSpread::Fixed(points) => Some(*points),
            NewSpread::Added(points) => old.map(|s| s.saturating_add(*points)),
            NewSpread::Times(factor) => old.map(|s| times(s, *factor)),
            NewSpread::OfHour(hours, wall) => hours.at(wall, time).or(old),
        };
        left.no_spread += u64::from(new.is_none());
        // A spread of the source below 0 is the source's own matter; one that was made so is not.
        let is_made_so = new.is_some_and(|s| s < 0) && old.is_none_or(|s| s >= 0);
        left.below_zero += u64::from(is_made_so);
        if is_made_so { Some(0) } else { new }
    }

    fn bar_spreads(&self, rows: Columns, fields: &[Field], left: &mut LeftAway) -> Columns {
        if self.spread == NewSpread::Kept {
            return rows;
        }
        let mut fields = fields.to_vec();
        if rows.has(Field::Spread) && !fields.contains(&Field::Spread) {
            fields.push(Field::Spread);
        }
        let mut rows = rows.with_fields(&fields);
        let mark = match &self.spread {
            NewSpread::Fixed(_) => SHEET_SPREAD,
            NewSpread::OfHour(..) => CARRIED_SPREAD,
            _ => 0,
        };
        let times = std::mem::take(&mut rows.time);
        let mut is_new = vec![false; times.len()];
        for (i, spread) in rows.column_mut(Field::Spread).into_iter().flatten().enumerate() {
            let new = self.new_spread(present(*spread), times[i], left);
            is_new[i] =
                !matches!(&self.spread, NewSpread::OfHour(hours, wall) if hours.at(wall, times[i]).is_none());
            *spread = new.unwrap_or(ABSENT);
        }
        for (i, origin) in rows.column_mut(Field::Origin).into_iter().flatten().enumerate() {
            if mark > 0 && is_new[i] {
                *origin = *origin - crate::model::columns::spread_mark(*origin) + mark;
            }
        }
        rows.time = times;
        rows
    }

    /// The ask is moved, the bid is not.
    fn quote_spreads(&self, rows: &mut Columns, left: &mut LeftAway) {
        if self.spread == NewSpread::Kept {
            return;
        }
        let bids = rows.column(Field::Bid).to_vec();
        let times = std::mem::take(&mut rows.time);
        for (i, ask) in rows.column_mut(Field::Ask).into_iter().flatten().enumerate() {
            let Some(bid) = present(bids[i]) else { continue };
            let old = present(*ask).map(|ask| ask - bid);
            *ask = self.new_spread(old, times[i], left).map_or(ABSENT, |spread| bid + spread);
        }
        rows.time = times;
    }
}

/// One price: of quotes the last price of that side, of bars those of the bid moved by their spread.
fn of_side(mut rows: Columns, side: Side, left: &mut LeftAway) -> Columns {
    let before = rows.len();
    match rows.shape() {
        Shape::Quotes => rows = last_of(rows, side),
        Shape::Bars if side != Side::Bid => {
            let spreads = rows.cells(Field::Spread);
            let known: Vec<Option<i64>> = (0..rows.len()).map(|i| spreads.get(i)).collect();
            let above = |spread: i64| if side == Side::Mid { spread.div_euclid(2) } else { spread };
            for field in [Field::Open, Field::High, Field::Low, Field::Close] {
                for (value, spread) in rows.column_mut(field).into_iter().flatten().zip(&known) {
                    *value = present(*value).zip(*spread).map_or(ABSENT, |(p, s)| p + above(s));
                }
            }
            rows.retain(|i| known[i].is_some());
        }
        _ => {}
    }
    left.unpriced += (before - rows.len()) as u64;
    rows
}

/// Quotes as the last prices of one side; those without it are left away.
fn last_of(rows: Columns, side: Side) -> Columns {
    let (bid, ask) = (rows.cells(Field::Bid), rows.cells(Field::Ask));
    let last: Vec<Option<i64>> = (0..rows.len())
        .map(|i| match side {
            Side::Ask => ask.get(i),
            Side::Mid => bid.get(i).zip(ask.get(i)).map(|(bid, ask)| (bid + ask).div_euclid(2)),
            Side::Bid | Side::Last => bid.get(i),
        })
        .collect();
    let volume = rows.column(if side == Side::Ask { Field::AskVolume } else { Field::BidVolume }).to_vec();
    let origin = rows.column(Field::Origin).to_vec();
    let Columns { time, scale, .. } = rows;
    let mut out = Columns::empty(&[Field::Volume, Field::Last, Field::Origin], scale);
    for (i, price) in last.iter().enumerate() {
        let Some(price) = price else { continue };
        out.time.push(time[i]);
        let or = |column: &[i64], blank| column.get(i).copied().unwrap_or(blank);
        let values = [or(&volume, ABSENT), *price, or(&origin, 0)];
        out.data.iter_mut().zip(values).for_each(|(column, value)| column.push(value));
    }
    out
}

fn swap(rows: &mut Columns, a: Field, b: Field) {
    let at = |field: Field| rows.fields.iter().position(|f| *f == field);
    match (at(a), at(b)) {
        (Some(a), Some(b)) => rows.data.swap(a, b),
        // The only side there was is the other one now.
        (Some(only), None) => rows.fields[only] = b,
        (None, Some(only)) => rows.fields[only] = a,
        (None, None) => {}
    }
}

/// A spread so many times as wide, to the nearest point.
fn times(spread: i64, factor: Decimal) -> i64 {
    let (up, down) = (factor.mantissa() * i128::from(spread), 10i128.pow(factor.scale()));
    let half = if up < 0 { -(down / 2) } else { down / 2 };
    i64::try_from((up + half) / down).unwrap_or(LIMIT - 1)
}
