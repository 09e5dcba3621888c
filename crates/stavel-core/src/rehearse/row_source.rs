//! Where a tape has its rows from.

use crate::Result;
use crate::model::{Columns, Micros};

/// Pieces of rows, in order of time.
pub type Pieces = Box<dyn Iterator<Item = Result<Columns>> + Send>;

/// Where a tape has its rows from.
pub trait RowSource: Send {
    /// The rows at or after a moment, piece by piece.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn rows_from(&self, from: Micros) -> Result<Pieces>;

    /// The time of the last row before a moment.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn last_before(&self, before: Micros) -> Result<Option<Micros>>;
}

impl<S: RowSource + ?Sized> RowSource for Box<S> {
    fn rows_from(&self, from: Micros) -> Result<Pieces> {
        (**self).rows_from(from)
    }

    fn last_before(&self, before: Micros) -> Result<Option<Micros>> {
        (**self).last_before(before)
    }
}

/// Rows that are all in memory.
pub struct HeldRows(pub Columns);

impl RowSource for HeldRows {
    fn rows_from(&self, from: Micros) -> Result<Pieces> {
        let at = self.0.time.partition_point(|t| *t < from);
        Ok(Box::new(std::iter::once(Ok(self.0.rows(at..self.0.len())))))
    }

    fn last_before(&self, before: Micros) -> Result<Option<Micros>> {
        let at = self.0.time.partition_point(|t| *t < before);
        Ok(at.checked_sub(1).map(|i| self.0.time[i]))
    }
}
