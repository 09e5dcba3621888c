//! Some neighbouring rows of a piece, without a copy of them.

use std::borrow::Cow;
use std::ops::Range;

use crate::model::{Columns, Field, Micros};

/// Some neighbouring rows of a piece.
pub(super) struct Part<'a> {
    pub rows: &'a Columns,
    pub range: Range<usize>,
}

impl<'a> Part<'a> {
    pub fn time(&self) -> &'a [Micros] {
        &self.rows.time[self.range.clone()]
    }

    pub fn fields(&self) -> &'a [Field] {
        &self.rows.fields
    }

    /// A field's column; an empty slice where there is none.
    pub fn column(&self, field: Field) -> &'a [i64] {
        self.rows.column(field).get(self.range.clone()).unwrap_or(&[])
    }

    /// The rows by themselves.
    pub fn to_rows(&self) -> Cow<'a, Columns> {
        match self.range == (0..self.rows.len()) {
            true => Cow::Borrowed(self.rows),
            false => Cow::Owned(self.rows.rows(self.range.clone())),
        }
    }
}
