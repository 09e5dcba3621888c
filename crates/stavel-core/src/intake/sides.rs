//! Quotes of which only the side that changed is written.

use crate::model::{ABSENT, Columns, Field};

/// The sides of the market as they were written last.
#[derive(Debug, Clone, Copy)]
pub struct LastSides {
    bid: i64,
    ask: i64,
}

impl Default for LastSides {
    fn default() -> LastSides {
        LastSides { bid: ABSENT, ask: ABSENT }
    }
}

impl LastSides {
    /// Gives each row that is meant the side that it leaves out as that was before; rows before which there
    /// was none are added to `waiting`.
    pub fn fill(&mut self, rows: &mut Columns, is_meant: impl Fn(usize) -> bool, waiting: &mut Vec<usize>) {
        let absent = |column: &[i64]| column.contains(&ABSENT);
        let is_whole = !absent(rows.column(Field::Bid)) && !absent(rows.column(Field::Ask));
        if is_whole {
            self.remember(rows, is_meant);
            return;
        }
        for (field, last) in [(Field::Bid, &mut self.bid), (Field::Ask, &mut self.ask)] {
            let Some(column) = rows.column_mut(field) else { continue };
            for (row, value) in column.iter_mut().enumerate().filter(|(row, _)| is_meant(*row)) {
                match *value {
                    ABSENT if *last == ABSENT => waiting.push(row),
                    ABSENT => *value = *last,
                    known => *last = known,
                }
            }
        }
    }

    fn remember(&mut self, rows: &Columns, is_meant: impl Fn(usize) -> bool) {
        if let Some(row) = (0..rows.len()).rev().find(|row| is_meant(*row)) {
            (self.bid, self.ask) = (rows.column(Field::Bid)[row], rows.column(Field::Ask)[row]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Scale;

    fn quotes(bid: &[i64], ask: &[i64]) -> Columns {
        let mut rows = Columns::empty(&[Field::Bid, Field::Ask], Scale { price: 5, volume: 0 });
        rows.time = (0..bid.len() as i64).collect();
        rows.data = vec![bid.to_vec(), ask.to_vec()];
        rows
    }

    #[test]
    fn the_side_left_out_is_as_it_was() {
        let mut sides = LastSides::default();
        let (mut waiting, no) = (Vec::new(), ABSENT);
        let mut rows = quotes(&[no, no, 5, no, 6], &[9, 8, no, 10, no]);
        sides.fill(&mut rows, |_| true, &mut waiting);
        assert_eq!(waiting, [0, 1]);
        assert_eq!(rows.data, [[no, no, 5, 5, 6], [9, 8, 8, 10, 10]]);
        // The next block goes on with what was known, also after one that was whole.
        let mut rows = quotes(&[no], &[11]);
        sides.fill(&mut rows, |_| true, &mut waiting);
        assert_eq!((rows.data[0][0], waiting.len()), (6, 2));
        sides.fill(&mut quotes(&[20], &[21]), |_| true, &mut waiting);
        let mut rows = quotes(&[no], &[22]);
        sides.fill(&mut rows, |_| true, &mut waiting);
        assert_eq!(rows.data, [[20], [22]]);
    }

    #[test]
    fn another_instrument_tells_nothing() {
        let mut sides = LastSides::default();
        let mut waiting = Vec::new();
        let mut rows = quotes(&[5, ABSENT], &[6, 7]);
        sides.fill(&mut rows, |row| row == 1, &mut waiting);
        assert_eq!(waiting, [1]);
    }
}
