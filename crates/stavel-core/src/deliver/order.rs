//! What to deliver, and how.

use std::path::PathBuf;
use std::sync::Arc;

use super::beside::Beside;
use super::{Compress, FileFormat};
use crate::model::{Clock, Field, Layout, Micros, SeriesName, Side, Span};

/// Into files of which stretches of time a series is cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantArray, strum::VariantNames)]
#[strum(serialize_all = "lowercase")]
pub enum Split {
    /// A file a year.
    Year,
    /// A file a month.
    Month,
    /// A file a day.
    Day,
}

/// Which price sides the rows of a delivery hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PriceSides {
    /// Those of the series.
    #[default]
    Own,
    /// Of bars, the bid and the ask in one row.
    Together,
    /// Of quotes, only this side: rows without it are left away.
    Only(Side),
}

/// The beginning of a file that is there already and stays as it is: rows are written behind it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Begun {
    /// How many of its bytes stay.
    pub bytes: u64,
    /// SHA-256 of the whole file, in hexadecimal digits, as it was proved when it was written.
    pub sha256: String,
    /// Rows in the bytes that stay.
    pub rows: u64,
    /// The time of the first row behind them.
    pub from: Micros,
}

/// Times of events and their weights, 1 low to 3 high, in order of time.
pub type WeighedEvents = Arc<[(Micros, i64)]>;

/// What to deliver, and how.
#[derive(Debug, Clone)]
pub struct DeliveryOrder {
    /// The series.
    pub series: SeriesName,
    /// The price sides.
    pub sides: PriceSides,
    /// The format of the file.
    pub format: FileFormat,
    /// How lines are written, instead of the format's own way; CSV only.
    pub layout: Option<Layout>,
    /// Decimals of prices and of volumes that were asked for: numbers may be rounded to these. Lines have those of their
    /// layout, which must lose nothing where none were asked for.
    pub decimals: (Option<u8>, Option<u8>),
    /// Only these fields, in the formats without a layout; none for all.
    pub only: Option<Vec<Field>>,
    /// The clock of the times in text formats.
    pub clock: Clock,
    /// The rows that are wanted, by time.
    pub span: Span,
    /// Only so many rows, the last ones.
    pub last: Option<u64>,
    /// Tell of each row where it comes from: what was filled and what was estimated.
    pub origin: bool,
    /// Of bars, the events that fall into them; each bar then has the weight of its heaviest.
    pub events: Option<WeighedEvents>,
    /// Of bars, also what stands beside the usual columns: tick counts, the volumes of both sides, the first, widest and
    /// narrowest spread.
    pub details: bool,
    /// Leave away a first and a last bar whose rows begin within it, or may end within it.
    pub complete_only: bool,
    /// How text files are packed.
    pub compress: Compress,
    /// Into which files the series is cut; none for one file.
    pub split: Option<Split>,
    /// The names of files in a folder, with `{instrument}`, `{source}`, `{frame}`, `{from}` and `{to}` in them.
    pub names: Option<String>,
    /// True where the series is delivered in several layouts, so that names of files tell which.
    pub is_one_of_many: bool,
    /// What stands beside the rows, in formats that have room for it.
    pub beside: Beside,
}

impl DeliveryOrder {
    /// All rows of a series in a format, in UTC.
    pub fn of(series: SeriesName, format: FileFormat) -> DeliveryOrder {
        DeliveryOrder {
            series,
            sides: PriceSides::Own,
            format,
            layout: None,
            decimals: (None, None),
            only: None,
            clock: Clock::utc(),
            span: Span::ALL,
            last: None,
            origin: false,
            events: None,
            details: false,
            complete_only: false,
            compress: Compress::None,
            split: None,
            names: None,
            is_one_of_many: false,
            beside: Beside::default(),
        }
    }
}

/// A file that was delivered.
#[derive(Debug, Clone)]
pub struct Delivery {
    /// The file.
    pub path: PathBuf,
    /// Rows in it.
    pub rows: u64,
    /// Rows that were there already and were left as they are.
    pub kept: u64,
    /// Its length.
    pub bytes: u64,
    /// SHA-256 of its bytes, in hexadecimal digits.
    pub sha256: String,
    /// True where the file, read back, holds exactly the rows of the series, or what they are rounded to.
    pub proved: bool,
    /// Values that have fewer decimals in the file, as was asked for.
    pub rounded: u64,
    /// The times of its first and of its last row, UTC.
    pub ends: (Micros, Micros),
    /// True where its first bar lacks rows at its beginning.
    pub partial_first: bool,
    /// True where its last bar may lack rows at its end.
    pub partial_last: bool,
}
