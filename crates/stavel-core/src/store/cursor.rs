//! One row after another out of pieces.

use std::ops::Range;

use crate::Result;
use crate::model::{Columns, Micros};

/// Goes forward over rows that come in pieces, in order of time. One piece is held.
pub struct Cursor<I> {
    pieces: I,
    rows: Columns,
    at: usize,
    is_ended: bool,
}

impl<I: Iterator<Item = Result<Columns>>> Cursor<I> {
    /// Before the first row of some pieces.
    pub fn new(pieces: I) -> Cursor<I> {
        Cursor { pieces, rows: Columns::default(), at: 0, is_ended: false }
    }

    /// Takes the next piece in where the one at hand is done; false where no row is left at all.
    ///
    /// # Errors
    /// Where the piece cannot be read.
    #[inline]
    pub fn load(&mut self) -> Result<bool> {
        if self.at < self.rows.len() { Ok(true) } else { self.load_next() }
    }

    fn load_next(&mut self) -> Result<bool> {
        while self.at == self.rows.len() && !self.is_ended {
            match self.pieces.next() {
                Some(piece) => (self.rows, self.at) = (piece?, 0),
                // What was passed needs no room while others go on.
                None => (self.rows, self.at, self.is_ended) = (Columns::default(), 0, true),
            }
        }
        Ok(self.at < self.rows.len())
    }

    /// Adds the next piece to the rows at hand that are not passed; false where none is left.
    ///
    /// # Errors
    /// As [`Cursor::load`].
    pub fn load_more(&mut self) -> Result<bool> {
        let Some(piece) = self.pieces.next() else {
            self.is_ended = true;
            return Ok(false);
        };
        let piece = piece?;
        if self.at == self.rows.len() {
            self.rows = piece;
        } else {
            self.rows = self.rows.rows(self.at..self.rows.len());
            self.rows.append(&piece);
        }
        self.at = 0;
        Ok(true)
    }

    /// The time of the next row; none at the end.
    ///
    /// # Errors
    /// As [`Cursor::load`].
    #[inline]
    pub fn time(&mut self) -> Result<Option<Micros>> {
        Ok(self.load()?.then(|| self.rows.time[self.at]))
    }

    /// The piece at hand; the next row is the one at [`Cursor::at`].
    pub fn rows(&self) -> &Columns {
        &self.rows
    }

    /// The place of the next row in the piece at hand; its length where that is done.
    pub fn at(&self) -> usize {
        self.at
    }

    /// The rows at hand that were not passed.
    pub fn left(&self) -> Range<usize> {
        self.at..self.rows.len()
    }

    /// True where nothing follows the rows at hand.
    pub fn is_ended(&self) -> bool {
        self.is_ended
    }

    /// Goes over rows at hand.
    #[inline]
    pub fn pass(&mut self, rows: usize) {
        self.at = (self.at + rows).min(self.rows.len());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Field, Scale};
    use proptest::prelude::*;

    fn piece(times: &[Micros]) -> Result<Columns> {
        let (fields, data) = (vec![Field::Last], vec![times.to_vec()]);
        Ok(Columns { time: times.to_vec(), fields, data, scale: Scale::default() })
    }

    proptest! {
        #[test]
        fn every_row_comes_once_however_they_are_cut(
            mut times in proptest::collection::vec(0i64..50, 0..60),
            cuts in proptest::collection::vec(0usize..8, 1..20),
            steps in proptest::collection::vec(1usize..5, 1..9),
        ) {
            times.sort_unstable();
            let mut pieces = Vec::new();
            let mut rest = times.as_slice();
            for cut in cuts.iter().cycle().take(200) {
                let (head, tail) = rest.split_at((*cut).min(rest.len()));
                pieces.push(piece(head));
                rest = tail;
            }
            pieces.push(piece(rest));
            let mut cursor = Cursor::new(pieces.into_iter());
            let mut seen = Vec::new();
            for step in steps.iter().cycle() {
                if *step == 4 {
                    cursor.load_more().unwrap();
                }
                let Some(time) = cursor.time().unwrap() else { break };
                prop_assert_eq!(cursor.rows().time[cursor.at()], time);
                let n = (*step).min(cursor.left().len());
                seen.extend_from_slice(&cursor.rows().time[cursor.at()..cursor.at() + n]);
                cursor.pass(n);
            }
            prop_assert_eq!(seen, times);
            prop_assert!(cursor.is_ended());
        }
    }

    #[test]
    fn a_piece_that_cannot_be_read_is_told() {
        let mut cursor = Cursor::new([piece(&[1]), Err(crate::Error::storage("broken."))].into_iter());
        assert_eq!(cursor.time(), Ok(Some(1)));
        cursor.pass(1);
        assert!(cursor.time().is_err());
    }
}
