//! Deliver: series as files in open formats, read back and compared before they count as done.

mod beside;
mod chosen;
mod dataset;
mod delivered_rows;
mod json_columns;
mod lines;
mod on_shelf;
mod order;
mod packing;
mod page;
mod pipeline;
mod records;
mod refuse;
mod rounding;
mod table;
mod timed_table;
mod workbook;

pub use beside::{Beside, SideTable, TableCell};
pub use chosen::{is_folder, partial_ends, with_ending};
pub use lines::without_formula;
pub use on_shelf::{MakeWay, ReadyDelivery, deliver, first_lines, free_bytes, last_lines};
pub use order::{Begun, Delivery, DeliveryOrder, PriceSides, Split, WeighedEvents};
pub use packing::Compress;
pub use pipeline::RowsAsText;
pub use timed_table::{TimedCell, TimedKind, TimedTable};
pub use workbook::write_tables;

use std::path::Path;

use crate::Error;

/// A file format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantArray, strum::VariantNames)]
#[strum(serialize_all = "kebab-case", parse_err_ty = Error, parse_err_fn = not_a_format)]
pub enum FileFormat {
    /// A header, commas, one row a line; or as a layout says.
    Csv,
    /// An array of records, one a line.
    Json,
    /// One record with an array for each column.
    JsonColumns,
    /// One record a line.
    Ndjson,
    /// A page with a chart and a table.
    Html,
    /// A workbook for spreadsheets.
    Xlsx,
    /// Columns of integers with decimal and timestamp types.
    Parquet,
    /// A folder of Parquet files with one schema for all instruments.
    Dataset,
}

impl FileFormat {
    /// Every format, in the order they are offered.
    pub const ALL: &'static [FileFormat] = <FileFormat as strum::VariantArray>::VARIANTS;

    /// Its word.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// The ending of its files.
    pub fn ending(self) -> &'static str {
        match self {
            FileFormat::JsonColumns => "json",
            FileFormat::Dataset => "parquet",
            other => other.word(),
        }
    }

    /// The format that the ending of a file's name says, also of a packed one; none where it says none.
    pub fn of_name(path: &Path) -> Option<FileFormat> {
        let bare = match Compress::of_name(path) {
            Compress::None => path.to_owned(),
            _ => path.with_extension(""),
        };
        bare.extension()?.to_str()?.to_ascii_lowercase().parse().ok()
    }

    /// True for files that are lines or records of text, which may be packed and cut.
    pub fn is_text(self) -> bool {
        matches!(self, FileFormat::Csv | FileFormat::Json | FileFormat::Ndjson)
    }
}

fn not_a_format(text: &str) -> Error {
    let words = <FileFormat as strum::VariantNames>::VARIANTS.join(", ");
    Error::arguments(format!("'{text}' is not a format; the formats are {words}."))
}
