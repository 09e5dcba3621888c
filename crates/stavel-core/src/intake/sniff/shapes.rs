//! What the columns of a table without a header are, by what the cells look like and how numbers relate.

use super::marks::CellShape;
use super::{CellRow, column};
use crate::intake::cells;
use crate::model::Field::{self, *};
use crate::model::layout::Use;
use crate::model::number_marks::NumberMarks;
use crate::model::price::{MAX_DECIMALS, parse_scaled};

/// The uses of columns by their shapes.
pub fn by_shapes(rows: &[CellRow], shapes: &[CellShape], numbers: NumberMarks) -> Vec<Use> {
    let mut uses: Vec<Use> = Vec::new();
    for (i, shape) in shapes.iter().enumerate() {
        uses.push(match shape {
            CellShape::Moment if !uses.contains(&Use::Moment) => Use::Moment,
            CellShape::Date if !uses.contains(&Use::Date) => Use::Date,
            CellShape::Time if !uses.contains(&Use::Time) => Use::Time,
            CellShape::Words if is_side(rows, i) && !uses.contains(&Use::Field(Taker)) => Use::Field(Taker),
            CellShape::Words if is_act(rows, i) && !uses.contains(&Use::Field(Act)) => Use::Field(Act),
            CellShape::Words if is_symbol(rows, i) && !uses.contains(&Use::Symbol) => Use::Symbol,
            _ => Use::Skip,
        });
    }
    // An eight-digit first column beside a time is a date; among prices it is a number.
    name_numbers(&mut uses, rows, shapes, numbers);
    uses
}

/// Names the columns of a table whose header does not say its prices, as in another language, where the numbers prove
/// bars or quotes and no name speaks against it.
pub fn name_unnamed(
    uses: &mut [Use],
    why: &mut [String],
    rows: &[CellRow],
    shapes: &[CellShape],
    numbers: NumberMarks,
) {
    let mut found = vec![Use::Skip; shapes.len()];
    name_numbers(&mut found, rows, shapes, numbers);
    let value =
        |r: &CellRow, i: usize| parse_scaled(numbers.plain(r.get(i)?, &mut Vec::new()), MAX_DECIMALS).ok();
    let place = |f: Field| found.iter().position(|u| *u == Use::Field(f));
    let bars: Vec<usize> = [Open, High, Low, Close].into_iter().filter_map(place).collect();
    let is_proved = match bars.as_slice() {
        [_, _, _, _] => is_ohlc(rows, &bars, &value),
        _ => place(Bid).zip(place(Ask)).is_some_and(|(bid, ask)| are_quotes(rows, bid, ask, &value)),
    };
    let agrees = |(named, found): (&Use, &Use)| !matches!(named, Use::Field(_)) || named == found;
    if !is_proved || !uses.iter().zip(&found).all(agrees) {
        return;
    }
    for (i, used) in found.into_iter().enumerate() {
        if uses[i] == Use::Skip && used != Use::Skip {
            uses[i] = used;
            why[i] = "its name is not known: by its place and how the numbers relate".into();
        }
    }
}

/// Names the number columns anew after one of them was found to be the time.
pub fn renumber(uses: &mut [Use], rows: &[CellRow]) {
    let shapes: Vec<CellShape> = uses
        .iter()
        .map(|u| if matches!(u, Use::Field(_) | Use::Skip) { CellShape::Number } else { CellShape::Time })
        .collect();
    let numeric = |i: usize| column(rows, i).all(|c| parse_scaled(c, MAX_DECIMALS).is_ok());
    let shapes: Vec<CellShape> = shapes
        .into_iter()
        .enumerate()
        .map(|(i, s)| if s == CellShape::Number && !numeric(i) { CellShape::Words } else { s })
        .collect();
    name_numbers(uses, rows, &shapes, NumberMarks::PLAIN);
}

fn name_numbers(uses: &mut [Use], rows: &[CellRow], shapes: &[CellShape], numbers: NumberMarks) {
    let places: Vec<usize> = (0..shapes.len()).filter(|&i| shapes[i] == CellShape::Number).collect();
    let value =
        |r: &CellRow, i: usize| parse_scaled(numbers.plain(r.get(i)?, &mut Vec::new()), MAX_DECIMALS).ok();
    let book = uses.contains(&Use::Field(Act)) || uses.contains(&Use::Field(Taker)) && places.len() == 3;
    let fields: &[Field] = match places.len() {
        3 if book => &[Level, Price, Size],
        1 => &[Last],
        2 if uses.contains(&Use::Field(Taker)) => &[Last, Volume],
        2 if are_alike(rows, places[0], places[1], &value) => &[Bid, Ask],
        2 => &[Last, Volume],
        3 if are_alike(rows, places[0], places[1], &value) => &[Bid, Ask, Volume],
        4 if is_ohlc(rows, &places, &value) => &[Open, High, Low, Close],
        4 => &[Bid, Ask, BidVolume, AskVolume],
        5 => &[Open, High, Low, Close, Volume],
        6 if is_ohlc(rows, &places[..4], &value) => &[Open, High, Low, Close, Volume, Spread],
        7 if is_ohlc(rows, &places[..4], &value) => &[Open, High, Low, Close, TickCount, Volume, Spread],
        _ => &[],
    };
    let ask_first = fields.starts_with(&[Bid, Ask]) && is_above(rows, places[0], places[1], &value);
    for (&place, field) in places.iter().zip(fields) {
        uses[place] = Use::Field(if ask_first { other_side(*field) } else { *field });
    }
    // A side belongs to trades and the book only.
    let (quotes, bars) = (uses.contains(&Use::Field(Bid)), uses.contains(&Use::Field(Open)));
    if quotes || bars {
        uses.iter_mut().filter(|u| matches!(u, Use::Field(Taker | Act))).for_each(|u| *u = Use::Skip);
    }
}

/// True where the second number is the highest and the third the lowest of four, in nearly every row.
fn is_ohlc(rows: &[CellRow], at: &[usize], value: &dyn Fn(&CellRow, usize) -> Option<i64>) -> bool {
    let fits = rows
        .iter()
        .filter(|r| match (value(r, at[0]), value(r, at[1]), value(r, at[2]), value(r, at[3])) {
            (Some(o), Some(h), Some(l), Some(c)) => h >= o.max(c).max(l) && l <= o.min(c),
            _ => false,
        })
        .count();
    fits * 10 >= rows.len() * 9
}

/// True where two numbers are within a tenth of each other, in nearly every row, as bid and ask are.
fn are_alike(rows: &[CellRow], a: usize, b: usize, value: &dyn Fn(&CellRow, usize) -> Option<i64>) -> bool {
    let near = |r: &&CellRow| matches!((value(r, a), value(r, b)), (Some(x), Some(y)) if (x - y).abs() <= x.abs().max(y.abs()) / 10);
    rows.iter().filter(near).count() * 10 >= rows.len() * 9
}

/// True where the second number is above the first by no more than a hundredth, in every row.
fn are_quotes(
    rows: &[CellRow],
    bid: usize,
    ask: usize,
    value: &dyn Fn(&CellRow, usize) -> Option<i64>,
) -> bool {
    rows.iter().all(|r| {
        value(r, bid).zip(value(r, ask)).is_some_and(|(bid, ask)| ask > bid && ask - bid <= bid.abs() / 100)
    })
}

/// True where the first number is never below the second, and mostly above it, as the ask is to the bid.
fn is_above(rows: &[CellRow], a: usize, b: usize, value: &dyn Fn(&CellRow, usize) -> Option<i64>) -> bool {
    let pairs: Vec<(i64, i64)> = rows.iter().filter_map(|r| Some((value(r, a)?, value(r, b)?))).collect();
    let above = pairs.iter().filter(|(a, b)| a > b).count();
    let below = pairs.iter().filter(|(a, b)| a < b).count();
    above * 2 > pairs.len() && below * 50 <= pairs.len()
}

fn other_side(field: Field) -> Field {
    match field {
        Bid => Ask,
        Ask => Bid,
        BidVolume => AskVolume,
        AskVolume => BidVolume,
        other => other,
    }
}

fn is_side(rows: &[CellRow], at: usize) -> bool {
    column(rows, at).all(|c| cells::side(c).is_some())
}

fn is_act(rows: &[CellRow], at: usize) -> bool {
    column(rows, at).all(|c| cells::act(c).is_some())
}

/// True for short words of capitals and digits, fewer kinds than rows.
fn is_symbol(rows: &[CellRow], at: usize) -> bool {
    let is_word = |c: &[u8]| {
        (2..=24).contains(&c.len())
            && c.iter().all(|b| b.is_ascii_alphanumeric() || b"._-/#=".contains(b))
            && c.iter().any(u8::is_ascii_uppercase)
    };
    column(rows, at).all(is_word)
}
