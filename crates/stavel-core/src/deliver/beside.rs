//! What stands beside the rows of a delivery, in formats that have room for it.

use crate::model::Micros;

/// A cell of a table.
#[derive(Debug, Clone, PartialEq)]
pub enum TableCell {
    /// Words; never run as a formula.
    Text(String),
    /// A number.
    Number(f64),
    /// A time of the wall.
    Time(Micros),
    /// Nothing.
    Empty,
}

impl From<&str> for TableCell {
    fn from(text: &str) -> TableCell {
        TableCell::Text(text.to_owned())
    }
}

impl From<String> for TableCell {
    fn from(text: String) -> TableCell {
        TableCell::Text(text)
    }
}

/// A table with a name and a first row that says what its columns are.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SideTable {
    /// What it is called.
    pub name: String,
    /// The names of its columns.
    pub columns: Vec<String>,
    /// Its rows.
    pub rows: Vec<Vec<TableCell>>,
}

/// What stands beside the rows.
#[derive(Debug, Clone, Default)]
pub struct Beside {
    /// A picture of the rows as SVG, for a page.
    pub chart: Option<String>,
    /// Tables, for a workbook or a page.
    pub tables: Vec<SideTable>,
}
