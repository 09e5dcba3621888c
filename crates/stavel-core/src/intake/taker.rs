//! Who takes the rows of a reading, and what is handed over.

use super::blocks::LineBlock;
use super::parse::Parsed;
use crate::model::{Columns, Scale};
use crate::store::{Encoded, GroupPlace, Work};
use crate::{Error, Result};

/// Why a reading did not come to its end.
pub enum Halt {
    Failed(Error),
    /// A number did not fit the scale; this one fits it.
    Finer(Scale),
    /// Rows are not in order of time, and the taker wants them so.
    Disorder,
}

impl From<Error> for Halt {
    fn from(e: Error) -> Halt {
        Halt::Failed(e)
    }
}

/// Who takes the rows.
pub trait RowTaker: Send {
    /// Takes rows in the order of the file, in UTC where the clock is known. `symbols` says of which
    /// instrument each is, where a column does.
    fn take(&mut self, rows: Columns, symbols: &Symbols) -> Result<(), Halt>;
    /// Row groups to encode.
    fn work(&mut self) -> Vec<Work>;
    /// Takes an encoded row group.
    fn accept(&mut self, place: GroupPlace, encoded: Encoded) -> Result<()>;
}

/// The symbols of some rows.
#[derive(Default)]
pub struct Symbols {
    pub names: Vec<Vec<u8>>,
    pub of_row: Vec<u32>,
}

/// A block of lines of one of the files.
pub struct RawBlock {
    pub file: usize,
    /// Lines taken off its front: a header and what stands above it.
    pub head: u64,
    pub block: LineBlock,
}

/// The same with what its lines are.
pub struct ParsedBlock {
    pub raw: RawBlock,
    pub parsed: Parsed,
}
