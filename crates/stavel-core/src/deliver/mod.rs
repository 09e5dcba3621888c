//! Deliver: series as files in open formats, read back and compared before they count as done.

mod by_layout;
mod on_shelf;
mod proof;
mod text;

pub use on_shelf::{Delivery, Order, deliver, first_lines};
pub use text::TextWriter;

use crate::{Error, Result};

/// A file format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// A header, commas, one row a line.
    Csv,
    /// An array of records, one a line.
    Json,
    /// One record a line.
    Ndjson,
    /// Columns of integers with decimal and timestamp types.
    Parquet,
}

impl Format {
    /// Every format, in the order they are offered.
    pub const ALL: [Format; 4] = [Format::Csv, Format::Json, Format::Ndjson, Format::Parquet];

    /// Its word, which is also the ending of its files.
    pub fn word(self) -> &'static str {
        match self {
            Format::Csv => "csv",
            Format::Json => "json",
            Format::Ndjson => "ndjson",
            Format::Parquet => "parquet",
        }
    }
}

impl std::str::FromStr for Format {
    type Err = Error;
    fn from_str(text: &str) -> Result<Format> {
        Format::ALL.into_iter().find(|f| f.word() == text).ok_or_else(|| {
            Error::arguments(format!("'{text}' is not a format; write csv, json, ndjson or parquet."))
        })
    }
}
