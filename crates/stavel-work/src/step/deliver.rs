//! The settings of deliver.

use std::collections::BTreeMap;
use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use clap::Args;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use stavel_core::deliver::{Compress, FileFormat, Split};
use stavel_core::model::layout::{LineEnd, Quotes, TextEncoding};
use stavel_core::model::{Clock, Frame, SeriesPattern, Stamp, Weight};
use stavel_core::{Error, Result};

use super::settings::{is_default, one_of};

/// Series to write to files.
#[derive(Debug, Clone, Default, PartialEq, Args, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct DeliverStep {
    /// The series, or patterns of them as NOK*@joined:*.
    #[arg(required_unless_present = "verify")]
    pub series: Vec<SeriesPattern>,
    /// A file, a folder (ending in / where it is not there yet), or - for standard output.
    #[arg(
        long,
        value_name = "PATH",
        required_unless_present = "verify",
        default_value = "",
        hide_default_value = true,
        value_parser = any_path
    )]
    #[serde(skip_serializing_if = "is_default")]
    pub out: PathBuf,
    /// How lines are written: a general or a saved layout, or a file with one; several with commas between them.
    #[arg(long, value_delimiter = ',', value_name = "LAYOUT")]
    #[serde(skip_serializing_if = "Vec::is_empty", deserialize_with = "one_or_many")]
    pub layout: Vec<String>,
    /// The format of the files; several with commas between them. Else as the ending of --out says, or csv.
    #[arg(long, value_delimiter = ',', value_parser = one_of::<FileFormat>())]
    #[serde(
        skip_serializing_if = "Vec::is_empty",
        deserialize_with = "one_or_many",
        serialize_with = "as_one_or_many"
    )]
    pub format: Vec<FileFormat>,
    /// The frames that are delivered of each instrument and source, or all that are there.
    #[arg(long, value_delimiter = ',', value_name = "FRAMES")]
    #[serde(skip_serializing_if = "Vec::is_empty", deserialize_with = "one_or_many")]
    pub frames: Vec<String>,
    /// Clock of the times in text formats.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clock: Option<Clock>,
    /// Write rows from this moment on.
    #[arg(long, value_name = "TIME")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Write rows up to this moment.
    #[arg(long, value_name = "TIME")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Only so many rows, the last ones; by frame as 1m=100000,1d=5000.
    #[arg(long, value_name = "ROWS")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last: Option<RowLimits>,
    /// The bid and the ask of each series together in one file, or apart in two; else as the series are.
    #[arg(long, value_parser = one_of::<SidesAsked>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sides: Option<SidesAsked>,
    /// Of bars, a column event with the weight of the heaviest event in each, 1 low to 3 high: of events of at least this
    /// weight (low, medium or high), or of all that say one.
    #[arg(long, value_name = "WEIGHT", num_args = 0..=1, default_missing_value = "low")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub events: Option<Weight>,
    /// Write of each row where it comes from: what was filled, and which spreads are estimates.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub origin: bool,
    /// Of bars, also write what stands beside the usual columns: tick counts, the volumes of both sides, the first, widest
    /// and narrowest spread.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub details: bool,
    /// Leave away a first and a last bar that are partial: whose rows begin, or may end, within them.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub complete_only: bool,
    /// Deliver series as they are, even where their sources have changed since.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub stale_ok: bool,
    /// The columns in their order, each perhaps with a name: time=Date,open=O,close. Words as in layouts.
    #[arg(long, value_delimiter = ',', value_name = "COLUMNS")]
    #[serde(skip_serializing_if = "Vec::is_empty", deserialize_with = "one_or_many")]
    pub columns: Vec<String>,
    /// How times are written: year-first, day-first or month-first; apart (two columns), only (days without times);
    /// unix-s, unix-ms, unix-us, unix-ns; rfc3339; or a form as '%d %b %Y %H:%M'.
    #[arg(long, value_name = "DATES")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dates: Option<String>,
    /// Decimals of prices; those that have more are rounded, and counted.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub decimals: Option<u8>,
    /// Decimals of volumes; those that have more are rounded, and counted.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub volume_decimals: Option<u8>,
    /// What stands between cells: comma, semicolon, tab, pipe, blanks, or one mark.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<String>,
    /// Write no names of columns above the rows.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub no_header: bool,
    /// The decimal mark: . or ,
    #[arg(long, value_name = "MARK")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub decimal_mark: Option<char>,
    /// Which cells stand in quotes.
    #[arg(long, value_parser = one_of::<Quotes>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quotes: Option<Quotes>,
    /// What stands for a value that is absent: nothing, or -, NA, NaN, null, none.
    #[arg(long, value_name = "TEXT", allow_hyphen_values = true)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub absent: Option<String>,
    /// What ends a line.
    #[arg(long, value_parser = one_of::<LineEnd>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line_end: Option<LineEnd>,
    /// How characters become bytes.
    #[arg(long, value_parser = one_of::<TextEncoding>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<TextEncoding>,
    /// Which end of a bar its time names.
    #[arg(long, value_parser = one_of::<Stamp>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stamp: Option<Stamp>,
    /// How text files are packed; else as the ending of --out says.
    #[arg(long, value_parser = one_of::<Compress>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub compress: Option<Compress>,
    /// Cut each series into files by year, month or day.
    #[arg(long, value_parser = one_of::<Split>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub split: Option<Split>,
    /// The names of files in a folder, as {instrument}_{source}_{frame}_{from}_{to}; {layout} too.
    #[arg(long, value_name = "PATTERN")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub names: Option<String>,
    /// Also write what is known on dates of each instrument (events, holidays, splits and dividends, statements), as a table
    /// beside the files.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub facts: bool,
    /// Also write what trading each instrument costs, as a table beside the files.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub costs: bool,
    /// Only what is not delivered there yet as it would be now.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub changed: bool,
    /// Compare the files of an earlier delivery with its manifest, instead of writing some.
    #[arg(long, value_name = "MANIFEST", conflicts_with = "series")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub verify: Option<PathBuf>,
}

/// Into how many files the bid and the ask of a series go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "lowercase")]
pub enum SidesAsked {
    /// Into one, side by side in each row.
    Together,
    /// Into two.
    Apart,
}

/// How many rows are wanted: of every frame, or by frame; written `5000` or `1m=100000,1d=5000`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RowLimits {
    /// So many of each series.
    All(u64),
    /// By frame; of others all.
    ByFrame(BTreeMap<Frame, u64>),
}

impl RowLimits {
    /// The rows that are wanted of a frame; none for all.
    pub fn of(&self, frame: Frame) -> Option<u64> {
        match self {
            RowLimits::All(rows) => Some(*rows),
            RowLimits::ByFrame(rows) => rows.get(&frame).copied(),
        }
    }
}

impl FromStr for RowLimits {
    type Err = Error;
    fn from_str(text: &str) -> Result<RowLimits> {
        let bad = || {
            Error::arguments(format!(
                "'{}' says no number of rows; write 5000, or by frame 1m=100000,1d=5000.",
                stavel_core::error::printable(text)
            ))
        };
        let rows = |text: &str| text.trim().parse::<u64>().ok().filter(|n| *n > 0).ok_or_else(bad);
        if !text.contains('=') {
            return rows(text).map(RowLimits::All);
        }
        let part = |part: &str| {
            let (frame, count) = part.split_once('=').ok_or_else(bad)?;
            Ok((frame.trim().parse::<Frame>()?, rows(count)?))
        };
        text.split(',').map(part).collect::<Result<_>>().map(RowLimits::ByFrame)
    }
}

impl fmt::Display for RowLimits {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RowLimits::All(rows) => rows.fmt(f),
            RowLimits::ByFrame(rows) => {
                let words: Vec<String> = rows.iter().map(|(frame, n)| format!("{frame}={n}")).collect();
                f.write_str(&words.join(","))
            }
        }
    }
}

impl Serialize for RowLimits {
    fn serialize<S: Serializer>(&self, to: S) -> std::result::Result<S::Ok, S::Error> {
        match self {
            RowLimits::All(rows) => to.serialize_u64(*rows),
            by_frame @ RowLimits::ByFrame(_) => to.collect_str(by_frame),
        }
    }
}

impl<'de> Deserialize<'de> for RowLimits {
    fn deserialize<D: Deserializer<'de>>(from: D) -> std::result::Result<RowLimits, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum WrittenLimits {
            Number(u64),
            Text(String),
        }
        let text = match WrittenLimits::deserialize(from)? {
            WrittenLimits::Number(rows) => rows.to_string(),
            WrittenLimits::Text(text) => text,
        };
        text.parse().map_err(serde::de::Error::custom)
    }
}

/// A path as it is typed; none where there is nothing to write.
fn any_path(text: &str) -> std::result::Result<PathBuf, std::convert::Infallible> {
    Ok(PathBuf::from(text))
}

/// A value of a recipe that may be a list of one.
pub(super) fn one_or_many<'de, D: Deserializer<'de>, T: Deserialize<'de>>(
    from: D,
) -> std::result::Result<Vec<T>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum OneOrMany<T> {
        Many(Vec<T>),
        One(T),
    }
    Ok(match OneOrMany::deserialize(from)? {
        OneOrMany::Many(all) => all,
        OneOrMany::One(one) => vec![one],
    })
}

pub(super) fn as_one_or_many<S: Serializer, T: Serialize>(
    values: &[T],
    to: S,
) -> std::result::Result<S::Ok, S::Error> {
    match values {
        [one] => one.serialize(to),
        all => all.serialize(to),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_written_as_they_are_read() {
        for text in ["7", "1m=100000,1d=5000", "ticks=3"] {
            let limits: RowLimits = text.parse().unwrap();
            assert_eq!(limits.to_string(), text);
            let toml = format!("last = {}", serde_json::to_string(&limits).unwrap());
            let step: DeliverStep = toml::from_str(&toml).unwrap();
            assert_eq!(step.last, Some(limits));
        }
        let limits: RowLimits = "1m=9".parse().unwrap();
        assert_eq!((limits.of(Frame::M1), limits.of(Frame::D1)), (Some(9), None));
        for bad in ["", "0", "-1", "1m", "1m=", "7x=1", "1m=2;1d=3"] {
            assert!(bad.parse::<RowLimits>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_recipe_may_say_one_layout_or_several() {
        let one: DeliverStep = toml::from_str("layout = 'tabs'\nformat = 'json'").unwrap();
        let many: DeliverStep = toml::from_str("layout = ['tabs', 'digits']").unwrap();
        assert_eq!((one.layout, one.format), (vec!["tabs".to_owned()], vec![FileFormat::Json]));
        assert_eq!((many.layout.len(), many.format), (2, Vec::new()));
    }
}
