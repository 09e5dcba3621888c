//! The recorded order book of a history, played beside its quotes.

use super::book::{Book, BookUnits};
use super::row_source::{Pieces, RowSource};
use crate::Result;
use crate::model::time::DAY;
use crate::model::{Columns, Micros};

/// How much is read before the moment at which a book is taken up: changes alone tell it only little by little.
const BEFORE: Micros = DAY;

/// Rows of the book in order of time; one piece of them is held.
pub struct BookTape {
    source: Box<dyn RowSource>,
    units: BookUnits,
    pieces: Pieces,
    piece: Columns,
    at: usize,
}

impl BookTape {
    /// A tape of a book; [`BookTape::seek`] sets it to a moment.
    pub fn new(source: Box<dyn RowSource>, units: BookUnits) -> BookTape {
        BookTape { source, units, pieces: Box::new(std::iter::empty()), piece: Columns::default(), at: 0 }
    }

    /// When the next row comes; none at the end.
    pub fn next_time(&self) -> Option<Micros> {
        self.piece.time.get(self.at).copied()
    }

    /// The book as it was at a moment, from the rows of the day before it.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn seek(&mut self, to: Micros) -> Result<Book> {
        self.go_to(Some(to.saturating_sub(BEFORE)))?;
        let mut book = Book::default();
        self.advance(to, &mut book)?;
        Ok(book)
    }

    /// Goes to the first row at or after a moment; to the end where there is none.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn go_to(&mut self, row: Option<Micros>) -> Result<()> {
        self.pieces = match row {
            Some(row) => self.source.rows_from(row)?,
            None => Box::new(std::iter::empty()),
        };
        self.load()
    }

    /// Takes all rows up to and with a moment into a book.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn advance(&mut self, until: Micros, book: &mut Book) -> Result<()> {
        while let Some(time) = self.next_time().filter(|time| *time <= until) {
            let rest = &self.piece.time[self.at..];
            let end = self.at + rest.iter().position(|t| *t > time).unwrap_or(rest.len());
            if end < self.piece.len() {
                book.take(&self.piece, self.at..end, self.units);
                self.at = end;
                continue;
            }
            // The moment may go on in the next piece: its rows are one whole.
            let mut moment = self.piece.rows(self.at..end);
            self.load()?;
            while self.next_time() == Some(time) {
                let here = self.piece.time.iter().position(|t| *t > time).unwrap_or(self.piece.len());
                moment.append_range(&self.piece, 0..here);
                self.at = here;
                if here == self.piece.len() {
                    self.load()?;
                }
            }
            book.take(&moment, 0..moment.len(), self.units);
        }
        Ok(())
    }

    fn load(&mut self) -> Result<()> {
        (self.piece, self.at) = (Columns::default(), 0);
        for piece in self.pieces.by_ref() {
            let piece = piece?;
            if !piece.is_empty() {
                self.piece = piece;
                break;
            }
        }
        Ok(())
    }
}
