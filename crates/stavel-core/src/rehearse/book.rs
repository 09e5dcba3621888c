//! The order book beside a history: what was offered at which price, from recorded rows, and what of it an order takes.

use serde::{Deserialize, Serialize};

use super::order::Direction;
use crate::model::{Columns, Field, Micros, present};

/// What the sizes of a recorded book count.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::VariantNames,
    strum::Display,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum DepthSizes {
    /// Lots, or contracts.
    Lots,
    /// Units of what is traded, of which a lot has as many as the sheet says.
    Units,
    /// It is left away.
    None,
}

/// What the recorded book had to do with a deal.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, strum::Display)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum DealDepth {
    /// There was none: the quote had room for all of it.
    #[default]
    Absent,
    /// There is one, but none of its rows is of the last minute: the quote had room for all of it.
    Old,
    /// The size was there.
    Recorded,
    /// The order was larger than all that was recorded: this part is dealt at the last level.
    Beyond,
}

/// What stands at a price.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BookLevel {
    /// In points of the instrument that is played.
    pub price: i64,
    /// What was recorded, in ten-thousandths of a lot.
    pub size: i64,
    /// What orders of the rehearsal took of it since it was last told.
    pub taken: i64,
}

impl BookLevel {
    /// What is left, in ten-thousandths of a lot.
    pub fn left(&self) -> i64 {
        (self.size - self.taken).max(0)
    }
}

/// The book of a moment. Rows are of one level each: `new` makes it, `changed` changes it, `gone` or a size of 0 takes it
/// away; rows without an act are either a whole side at one moment (levels from 0 on) or a level that is set.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Book {
    /// Bids, then asks; the best first.
    sides: [Vec<BookLevel>; 2],
    /// When its last row was told.
    told: Option<Micros>,
    /// Levels that rows tell of: what is pushed out below them is not told any more.
    levels: usize,
    /// True where orders are dealt by it.
    deals: bool,
}

/// How prices and sizes of rows become those of the instrument that is played.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BookUnits {
    /// A price of a row times the first, divided by the second.
    pub price: (i64, i64),
    /// A size of a row times the first, divided by the second, is in ten-thousandths of a lot.
    pub size: (i128, i128),
    /// True where orders are dealt by the book; else it is only shown, since nobody knows what its sizes count.
    pub deals: bool,
}

impl BookUnits {
    fn price_of(self, value: i64) -> i64 {
        let scaled = i128::from(value) * i128::from(self.price.0);
        let half = i128::from(self.price.1);
        i64::try_from((scaled * 2 + half).div_euclid(half * 2)).unwrap_or(value)
    }

    fn size_of(self, value: i64) -> i64 {
        i64::try_from(i128::from(value) * self.size.0 / self.size.1).unwrap_or(i64::MAX)
    }
}

/// A row of the book.
#[derive(Debug, Clone, Copy)]
struct BookRow {
    level: Option<usize>,
    price: Option<i64>,
    /// Absent where the row does not say it.
    size: Option<i64>,
    act: Option<i64>,
}

const NEW: i64 = 1;
const CHANGED: i64 = 2;
const GONE: i64 = 3;

impl Book {
    /// The levels that an order of a direction takes from, the best first.
    pub fn against(&self, direction: Direction) -> &[BookLevel] {
        &self.sides[if direction == Direction::Buy { 1 } else { 0 }]
    }

    pub(super) fn against_mut(&mut self, direction: Direction) -> &mut [BookLevel] {
        &mut self.sides[if direction == Direction::Buy { 1 } else { 0 }]
    }

    /// True where orders are dealt by it.
    pub fn deals(&self) -> bool {
        self.deals
    }

    /// When its last row was told; none before the first.
    pub fn told(&self) -> Option<Micros> {
        self.told
    }

    /// Takes rows of one moment.
    pub fn take(&mut self, rows: &Columns, range: std::ops::Range<usize>, units: BookUnits) {
        let Some(time) = range.clone().last().map(|row| rows.time[row]) else { return };
        (self.told, self.deals) = (Some(time), units.deals);
        for side in [0, 1] {
            let is_of = |row: &usize| rows.cells(Field::Taker).get(*row) == Some(side as i64 + 1);
            let told: Vec<BookRow> =
                range.clone().filter(is_of).map(|row| row_of(rows, row, units)).collect();
            self.levels = self.levels.max(told.iter().filter_map(|row| row.level).max().map_or(0, |l| l + 1));
            if is_whole_side(&told) {
                self.sides[side].clear();
            }
            for row in told {
                self.apply(side, row);
            }
        }
    }

    fn apply(&mut self, side: usize, row: BookRow) {
        let levels = &mut self.sides[side];
        let at_price = row.price.and_then(|price| levels.iter().position(|level| level.price == price));
        let at_level = row.level.filter(|level| *level < levels.len());
        if row.act == Some(GONE) || row.size == Some(0) {
            // Without a price, or with one that was never told, the level says which it is.
            if let Some(gone) = at_price.or(at_level) {
                levels.remove(gone);
            }
            return;
        }
        let Some(size) = row.size else { return };
        let Some(price) = row.price.or_else(|| at_level.map(|level| levels[level].price)) else { return };
        let told = BookLevel { price, size, taken: 0 };
        let sign = if side == 0 { -1 } else { 1 };
        match (row.act, at_price, at_level) {
            (Some(NEW | CHANGED), Some(place), _) => levels[place] = told,
            (None, Some(place), level) => {
                levels[place] = told;
                // The better levels that stood between are gone.
                if let Some(level) = level.filter(|level| *level < place) {
                    levels.drain(level..place);
                }
            }
            // A level that is set or changed has another price from now on: what stood on the wrong side of it is gone.
            (Some(CHANGED) | None, None, Some(level)) => {
                levels[level] = told;
                let mut place = 0;
                levels.retain(|other| {
                    place += 1;
                    let is_behind = (other.price - price) * sign > 0;
                    place - 1 == level || is_behind == (place - 1 > level)
                });
            }
            _ => levels.push(told),
        }
        levels.sort_by_key(|level| level.price * sign);
        levels.truncate(self.levels.max(1));
        // What cannot stand beside what was told last is gone from the other side.
        self.sides[1 - side].retain(|level| (level.price - price) * sign < 0);
    }
}

/// True where rows of one side and one moment are all of it: its levels from the best on, without acts.
fn is_whole_side(told: &[BookRow]) -> bool {
    told.len() > 1 && told.iter().enumerate().all(|(i, row)| row.act.is_none() && row.level == Some(i))
}

fn row_of(rows: &Columns, row: usize, units: BookUnits) -> BookRow {
    let value = |field: Field| rows.column(field).get(row).copied().and_then(present);
    BookRow {
        level: value(Field::Level).and_then(|level| usize::try_from(level).ok()),
        price: value(Field::Price).map(|price| units.price_of(price)),
        size: value(Field::Size).map(|size| units.size_of(size)),
        act: value(Field::Act),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{ABSENT, Scale};

    const UNITS: BookUnits = BookUnits { price: (1, 1), size: (1, 1), deals: true };

    /// Rows of side, level, price, size and act.
    fn rows(told: &[[i64; 5]]) -> Columns {
        use Field::*;
        let fields = vec![Taker, Level, Price, Size, Act];
        let mut out = Columns::empty(&fields, Scale { price: 2, volume: 0 });
        for row in told {
            out.time.push(7);
            out.data.iter_mut().zip(row).for_each(|(column, value)| column.push(*value));
        }
        out
    }

    /// The prices and sizes of a side after moments of rows.
    fn after(direction: Direction, moments: &[&[[i64; 5]]]) -> Vec<(i64, i64)> {
        let mut book = Book::default();
        for moment in moments {
            let rows = rows(moment);
            book.take(&rows, 0..rows.len(), UNITS);
        }
        book.against(direction).iter().map(|level| (level.price, level.size)).collect()
    }

    /// Three asks.
    const ASKS: &[[i64; 5]] = &[[2, 0, 100, 5, ABSENT], [2, 1, 101, 7, ABSENT], [2, 2, 103, 9, ABSENT]];

    #[test]
    fn a_whole_side_replaces_what_was_told_before() {
        let fewer: &[[i64; 5]] = &[[2, 0, 99, 1, ABSENT], [2, 1, 100, 2, ABSENT]];
        assert_eq!(after(Direction::Buy, &[ASKS, fewer]), [(99, 1), (100, 2)]);
        assert_eq!(after(Direction::Sell, &[ASKS, fewer]), []);
        let bids: &[[i64; 5]] = &[[1, 0, 98, 1, ABSENT], [1, 1, 97, 2, ABSENT]];
        assert_eq!(after(Direction::Sell, &[ASKS, bids]), [(98, 1), (97, 2)]);
        assert_eq!(after(Direction::Buy, &[ASKS, bids]).len(), 3);
    }

    #[test]
    fn acts_on_levels_shift_the_others() {
        let new: &[[i64; 5]] = &[[2, 0, 99, 1, NEW]];
        // Three levels are told of: what is pushed out below is not known any more.
        assert_eq!(after(Direction::Buy, &[ASKS, new]), [(99, 1), (100, 5), (101, 7)]);
        let gone: &[[i64; 5]] = &[[2, 1, ABSENT, ABSENT, GONE]];
        assert_eq!(after(Direction::Buy, &[ASKS, gone]), [(100, 5), (103, 9)]);
        let by_price: &[[i64; 5]] = &[[2, ABSENT, 101, 0, CHANGED]];
        assert_eq!(after(Direction::Buy, &[ASKS, by_price]), [(100, 5), (103, 9)]);
        let changed: &[[i64; 5]] = &[[2, 1, 102, 4, CHANGED], [2, 0, 100, 6, CHANGED]];
        assert_eq!(after(Direction::Buy, &[ASKS, changed]), [(100, 6), (102, 4), (103, 9)]);
        let no_price: &[[i64; 5]] = &[[2, 2, ABSENT, 1, CHANGED]];
        assert_eq!(after(Direction::Buy, &[ASKS, no_price]), [(100, 5), (101, 7), (103, 1)]);
    }

    #[test]
    fn a_level_that_is_set_takes_away_what_contradicts_it() {
        // The best is further away than all that was told.
        assert_eq!(after(Direction::Buy, &[ASKS, &[[2, 0, 105, 1, ABSENT]]]), [(105, 1)]);
        // The second became the best.
        assert_eq!(after(Direction::Buy, &[ASKS, &[[2, 0, 101, 7, ABSENT]]]), [(101, 7), (103, 9)]);
        // A bid at the best ask cannot stand beside it.
        assert_eq!(after(Direction::Buy, &[ASKS, &[[1, 0, 100, 3, NEW]]]), [(101, 7), (103, 9)]);
        // A size that is not known is not 0, and tells nothing.
        assert_eq!(after(Direction::Buy, &[ASKS, &[[2, 0, 100, ABSENT, CHANGED]]])[0], (100, 5));
    }

    #[test]
    fn units_turn_into_points_and_lots() {
        let units = BookUnits { price: (100, 1), size: (10_000, 100_000), deals: true };
        assert_eq!((units.price_of(412), units.size_of(250_000)), (41_200, 25_000));
        let coarse = BookUnits { price: (1, 10), size: (10_000, 10), deals: true };
        assert_eq!([14, 15, -15, -16].map(|price| coarse.price_of(price)), [1, 2, -1, -2]);
        assert_eq!(coarse.size_of(25), 25_000);
    }
}
