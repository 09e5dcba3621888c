//! Rows of other kinds of table as lines of cells.

use std::io::Write;

use crate::Result;
use crate::model::layout::CELLS;

/// Writes rows as lines whose cells stand between [`CELLS`].
pub struct Lines<'a> {
    out: &'a mut dyn Write,
    line: Vec<u8>,
    cells: usize,
}

impl<'a> Lines<'a> {
    /// Lines that go to `out`.
    pub fn new(out: &'a mut dyn Write) -> Lines<'a> {
        Lines { out, line: Vec::new(), cells: 0 }
    }

    /// Adds a cell; marks that would break the line become blanks.
    pub fn cell(&mut self, text: &[u8]) {
        self.cell_with(|line| line.extend(text.iter().map(|&c| if c < 0x20 { b' ' } else { c })));
    }

    /// Adds a cell that `write` appends.
    pub fn cell_with(&mut self, write: impl FnOnce(&mut Vec<u8>)) {
        if self.cells > 0 {
            self.line.push(CELLS);
        }
        self.cells += 1;
        write(&mut self.line);
    }

    /// Ends the line; false once nobody reads any more. A line without a cell is left away.
    pub fn end(&mut self) -> Result<bool> {
        if self.cells == 0 {
            return Ok(true);
        }
        // A table of one column has no delimiter by which to know it.
        self.line.push(b'\n');
        let read = self.out.write_all(&self.line).is_ok();
        self.line.clear();
        self.cells = 0;
        Ok(read)
    }
}
