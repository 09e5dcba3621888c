//! Deliver: series as files in open formats, read back and compared before they count as done.

mod by_layout;
mod on_shelf;
mod proof;
mod text;

pub use on_shelf::{Delivery, DeliveryOrder, deliver, first_lines, partial_ends};
pub use text::TextWriter;

use crate::Error;

/// A file format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantArray, strum::VariantNames)]
#[strum(serialize_all = "lowercase", parse_err_ty = Error, parse_err_fn = not_a_format)]
pub enum FileFormat {
    /// A header, commas, one row a line.
    Csv,
    /// An array of records, one a line.
    Json,
    /// One record a line.
    Ndjson,
    /// Columns of integers with decimal and timestamp types.
    Parquet,
}

impl FileFormat {
    /// Every format, in the order they are offered.
    pub const ALL: &'static [FileFormat] = <FileFormat as strum::VariantArray>::VARIANTS;

    /// Its word, which is also the ending of its files.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

fn not_a_format(text: &str) -> Error {
    let words = <FileFormat as strum::VariantNames>::VARIANTS.join(", ");
    Error::arguments(format!("'{text}' is not a format; the formats are {words}."))
}
