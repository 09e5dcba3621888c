//! Quotes of which only the side that changed is written.

use crate::model::{ABSENT, Columns, Field};

/// The sides of the market as they were written last; absent while they are not known.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LastSides {
    bid: i64,
    ask: i64,
}

impl Default for LastSides {
    fn default() -> LastSides {
        LastSides { bid: ABSENT, ask: ABSENT }
    }
}

/// Gives each quote the side that it leaves out as that was before; `of` says whose of `sides` a row's are. Gives
/// the rows before which that side was never known, in order. `is_whole`: no row leaves one out.
pub fn fill(
    rows: &mut Columns,
    of: impl Fn(usize) -> usize,
    sides: &mut [LastSides],
    is_whole: bool,
) -> Vec<usize> {
    if is_whole {
        let (bid, ask) = (rows.column(Field::Bid), rows.column(Field::Ask));
        // Of whole rows only the last of each counts; where there is one market, that is the last of all.
        let from = if sides.len() == 1 { rows.len().saturating_sub(1) } else { 0 };
        (from..rows.len()).for_each(|row| sides[of(row)] = LastSides { bid: bid[row], ask: ask[row] });
        return Vec::new();
    }
    let mut waiting = Vec::new();
    for (field, is_bid) in [(Field::Bid, true), (Field::Ask, false)] {
        let Some(column) = rows.column_mut(field) else { continue };
        for (row, value) in column.iter_mut().enumerate() {
            let sides = &mut sides[of(row)];
            let last = if is_bid { &mut sides.bid } else { &mut sides.ask };
            match *value {
                ABSENT if *last == ABSENT => waiting.push(row),
                ABSENT => *value = *last,
                known => *last = known,
            }
        }
    }
    waiting.sort_unstable();
    waiting
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
        let mut sides = [LastSides::default()];
        let no = ABSENT;
        let mut rows = quotes(&[no, no, 5, no, 6], &[9, 8, no, 10, no]);
        assert_eq!(fill(&mut rows, |_| 0, &mut sides, false), [0, 1]);
        assert_eq!(rows.data, [[no, no, 5, 5, 6], [9, 8, 8, 10, 10]]);
        // The next block goes on with what was known, also after one that was whole.
        let mut rows = quotes(&[no], &[11]);
        assert!(fill(&mut rows, |_| 0, &mut sides, false).is_empty());
        assert_eq!(rows.data, [[6], [11]]);
        fill(&mut quotes(&[20, 30], &[21, 31]), |_| 0, &mut sides, true);
        let mut rows = quotes(&[no], &[32]);
        fill(&mut rows, |_| 0, &mut sides, false);
        assert_eq!(rows.data, [[30], [32]]);
    }

    #[test]
    fn another_instrument_tells_nothing() {
        let mut sides = [LastSides::default(); 2];
        let of = |row: usize| row % 2;
        let mut rows = quotes(&[5, ABSENT, ABSENT], &[6, 7, 8]);
        assert_eq!(fill(&mut rows, of, &mut sides, false), [1]);
        assert_eq!(rows.data[0], [5, ABSENT, 5]);
        fill(&mut quotes(&[1, 2, 3], &[4, 5, 6]), of, &mut sides, true);
        assert_eq!(sides, [LastSides { bid: 3, ask: 6 }, LastSides { bid: 2, ask: 5 }]);
    }
}
