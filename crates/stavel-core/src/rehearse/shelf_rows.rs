//! The rows of a series on the shelf, for a tape.

use super::row_source::{Pieces, RowSource};
use crate::Result;
use crate::model::columns::shape_of;
use crate::model::{Field, Micros, Shape, Span};
use crate::store::{Reader, ahead};

/// The rows of an edition within a span; they are read on another thread, a piece ahead.
pub struct ShelfRows {
    reader: Reader,
    span: Span,
    fields: Vec<Field>,
}

impl ShelfRows {
    /// All that a chart shows of the rows within a span.
    pub fn new(reader: Reader, span: Span) -> ShelfRows {
        let fields = reader.edition.fields.clone();
        ShelfRows { reader, span, fields }
    }

    /// Only what orders are filled by.
    pub fn prices_only(reader: Reader, span: Span) -> ShelfRows {
        use Field::*;
        let all = &reader.edition.fields;
        let needed: &[Field] = match shape_of(all) {
            Shape::Quotes => &[Bid, Ask],
            Shape::Trades => &[Last],
            Shape::Bars => &[Open, High, Low, Close, Spread],
            Shape::Layered | Shape::Depth => all,
        };
        let fields = all.iter().copied().filter(|field| needed.contains(field)).collect();
        ShelfRows { reader, span, fields }
    }
}

impl RowSource for ShelfRows {
    fn rows_from(&self, from: Micros) -> Result<Pieces> {
        let Some(span) = self.span.overlap(&Span::new(from, Micros::MAX)) else {
            return Ok(Box::new(std::iter::empty()));
        };
        Ok(Box::new(ahead(self.reader.scan(span, Some(&self.fields)))))
    }

    fn last_before(&self, before: Micros) -> Result<Option<Micros>> {
        let Some(span) = self.span.overlap(&Span::new(Micros::MIN, before)) else { return Ok(None) };
        Ok(self.reader.last_rows(span, Some(&[]))?.and_then(|rows| rows.ends()).map(|(_, last)| last))
    }
}
