//! Rows disturbed by chance. Each row's chances are drawn from the seed and its own time, so rows before and after it, and the
//! pieces they come in, do not matter.

use std::cell::Cell;

use crate::chance::Chance;
use crate::model::columns::MADE_UP;
use crate::model::stress::Stress;
use crate::model::time::MINUTE;
use crate::model::{ABSENT, Columns, Field, Micros, Shape, present};

/// Drawn apart from those of the rows.
const OF_MINUTES: u64 = 0x6d69_6e75_7465_7300;

/// What is done to rows.
pub struct RowStress {
    stress: Stress,
    /// The last row's time, and how many rows before it have that time.
    last: Cell<(Micros, i64)>,
}

/// The places of the prices of rows.
struct PricePlaces {
    shape: Shape,
    of: Vec<(Field, usize)>,
    spread: Option<usize>,
}

impl RowStress {
    pub fn of(stress: &Stress) -> RowStress {
        RowStress { stress: stress.clone(), last: Cell::new((Micros::MIN, 0)) }
    }

    /// Disturbs prices and takes minutes out; gives how many rows are gone.
    pub fn apply(&self, rows: &mut Columns) -> u64 {
        if self.stress.noise > 0 || self.stress.slippage > 0 {
            self.disturb(rows);
        }
        let Some(share) = self.stress.missing else { return 0 };
        let before = rows.len();
        let is_missing = |time: Micros| {
            let minute = time.div_euclid(MINUTE);
            Chance::at(self.stress.seed ^ OF_MINUTES, minute).below(1_000_000) < u64::from(share.millionths())
        };
        let gone: Vec<bool> = rows.time.iter().map(|time| is_missing(*time)).collect();
        rows.retain(|row| !gone[row]);
        (before - rows.len()) as u64
    }

    /// Marks rows as made up.
    pub fn mark(rows: &mut Columns) {
        let origins = rows.column_mut(Field::Origin).into_iter().flatten();
        origins.for_each(|origin| *origin = *origin % MADE_UP + MADE_UP);
    }

    fn disturb(&self, rows: &mut Columns) {
        let is_price = |f: &Field| f.is_of_a_bar() || f.is_of_a_quote() || *f == Field::Last;
        let of =
            rows.fields.iter().enumerate().filter(|(_, f)| is_price(f)).map(|(at, f)| (*f, at)).collect();
        let spread = rows.fields.iter().position(|f| *f == Field::Spread);
        let places = PricePlaces { shape: rows.shape(), of, spread };
        for row in 0..rows.len() {
            let time = rows.time[row];
            let (last, before) = self.last.get();
            let place = if last == time { before + 1 } else { 0 };
            self.last.set((time, place));
            let mut chance = Chance::at(self.stress.seed.wrapping_add(place as u64), time);
            self.noise(rows, row, &places, &mut chance);
            self.slip(rows, row, &places, &mut chance);
        }
    }

    fn noise(&self, rows: &mut Columns, row: usize, places: &PricePlaces, chance: &mut Chance) {
        if self.stress.noise == 0 {
            return;
        }
        let mut drawn = || (chance.normal() * self.stress.noise as f64).round() as i64;
        let is_bar = places.shape == Shape::Bars;
        let shared = drawn();
        for (_, column) in &places.of {
            let value = &mut rows.data[*column][row];
            // Bid and ask move together, the prices of a bar each by itself.
            let by = if is_bar { drawn() } else { shared };
            *value = present(*value).map_or(ABSENT, |price| moved(price, by));
        }
        if is_bar {
            keep_in_order(rows, row, places);
        }
    }

    fn slip(&self, rows: &mut Columns, row: usize, places: &PricePlaces, chance: &mut Chance) {
        let most = self.stress.slippage;
        if most == 0 {
            return;
        }
        let [down, up] = [(); 2].map(|()| chance.below(most as u64 + 1) as i64);
        let spread = places.spread.and_then(|at| present(rows.data[at][row]));
        for (field, column) in &places.of {
            let by = match (places.shape, field) {
                (Shape::Quotes, Field::Ask) => up,
                (Shape::Quotes, _) => -down,
                (Shape::Bars, _) if spread.is_some() => -down,
                // Nobody knows of which side the price is: it is moved either way, by as much at most.
                _ => up - down,
            };
            let value = &mut rows.data[*column][row];
            *value = present(*value).map_or(ABSENT, |price| moved(price, by));
        }
        if let (Some(at), Some(spread)) = (places.spread, spread) {
            rows.data[at][row] = spread + down + up;
        }
    }
}

/// A price moved by points; one above 0 stays above 0.
fn moved(price: i64, by: i64) -> i64 {
    if price > 0 { price.saturating_add(by).max(1) } else { price.saturating_add(by) }
}

/// The high of a bar is not below, its low not above its other prices.
fn keep_in_order(rows: &mut Columns, row: usize, places: &PricePlaces) {
    let prices: Vec<i64> = places.of.iter().filter_map(|(_, at)| present(rows.data[*at][row])).collect();
    let (Some(least), Some(most)) = (prices.iter().min(), prices.iter().max()) else { return };
    for (field, at) in &places.of {
        let value = &mut rows.data[*at][row];
        match field {
            Field::High if *value != ABSENT => *value = *most,
            Field::Low if *value != ABSENT => *value = *least,
            _ => {}
        }
    }
}
