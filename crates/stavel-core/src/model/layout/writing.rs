//! How rows are written, beyond what reading them back needs to know.

use serde::{Deserialize, Serialize};

use crate::model::Stamp;
use crate::model::price::MAX_DECIMALS;
use crate::{Error, Result};

/// Which cells stand in quotes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantNames, strum::VariantArray)]
#[strum(serialize_all = "lowercase")]
pub enum Quotes {
    /// Those that hold the delimiter, a quote or the end of a line.
    #[default]
    Needed,
    /// Names, symbols, dates and times too.
    Texts,
    /// Every cell.
    All,
}

/// What ends a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantNames, strum::VariantArray)]
#[strum(serialize_all = "lowercase")]
pub enum LineEnd {
    /// A line feed.
    #[default]
    Lf,
    /// A carriage return and a line feed.
    Crlf,
}

impl LineEnd {
    /// The bytes at the end of each line.
    pub fn bytes(self) -> &'static [u8] {
        match self {
            LineEnd::Lf => b"\n",
            LineEnd::Crlf => b"\r\n",
        }
    }
}

/// How characters become bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantNames, strum::VariantArray)]
#[strum(serialize_all = "kebab-case")]
pub enum TextEncoding {
    /// UTF-8 without a mark.
    #[default]
    #[serde(rename = "utf-8")]
    #[strum(serialize = "utf-8")]
    Utf8,
    /// UTF-8 behind a byte order mark.
    #[serde(rename = "utf-8-bom")]
    #[strum(serialize = "utf-8-bom")]
    Utf8Bom,
    /// UTF-16, little end first, behind a byte order mark.
    #[serde(rename = "utf-16")]
    #[strum(serialize = "utf-16")]
    Utf16,
    /// One byte a character, as western European spreadsheets write it.
    #[serde(rename = "windows-1252")]
    #[strum(serialize = "windows-1252")]
    Windows1252,
}

/// Forms of dates and times in the conversions of POSIX `strftime`, instead of the layout's marks.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Forms {
    /// Of a column with date and time: `%d %b %Y %H:%M`.
    pub moment: Option<String>,
    /// Of a column with the date.
    pub date: Option<String>,
    /// Of a column with the time of day.
    pub time: Option<String>,
}

/// How rows are written, beyond what reading them back needs to know.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Writing {
    /// Each time names its distance from UTC behind it: `Z`, `+02:00`.
    pub offsets: bool,
    /// Which cells stand in quotes.
    pub quotes: Quotes,
    /// What stands for a value that is absent.
    pub absent: String,
    /// What ends a line.
    pub line_end: LineEnd,
    /// How characters become bytes.
    pub encoding: TextEncoding,
    /// Which end of a bar its time names, where the layout says so; reading by the layout goes by it too.
    pub stamp: Option<Stamp>,
    /// Decimals of prices, where the layout says how many.
    pub decimals: Option<u8>,
    /// Decimals of volumes, where the layout says how many.
    pub volume_decimals: Option<u8>,
    /// Forms of dates and times, where the marks do not say enough.
    pub forms: Forms,
}

impl Writing {
    /// What stands for an absent value: where blanks are between cells, an empty one would be none.
    pub fn absent_between(&self, blanks: bool) -> &str {
        if blanks && self.absent.is_empty() { "-" } else { &self.absent }
    }
}

/// A form of dates and times that can be written.
///
/// # Errors
/// One sentence where it is none.
pub fn form_of(text: &str) -> Result<String> {
    let noon = jiff::civil::date(2024, 3, 5).at(13, 45, 12, 345_678_000);
    let bad = |why: String| {
        Error::arguments(format!(
            "'{}' is no form of dates and times ({why}); write one as %d.%m.%Y %H:%M:%S.",
            crate::error::printable(text)
        ))
    };
    if !text.contains('%') {
        return Err(bad("it has no % in it".into()));
    }
    jiff::fmt::strtime::format(text, noon).map_err(|e| bad(e.to_string()))?;
    Ok(text.to_owned())
}

/// True for a text that reading takes for an absent value.
pub fn is_absent_text(text: &str) -> bool {
    const WORDS: [&str; 8] = ["", "-", "na", "n/a", "#n/a", "nan", "null", "none"];
    WORDS.iter().any(|word| text.eq_ignore_ascii_case(word))
}

/// Decimals that may be written.
///
/// # Errors
/// Where they are more than a price can have.
pub fn decimals_of(decimals: Option<u8>) -> Result<Option<u8>> {
    match decimals {
        Some(d) if d > MAX_DECIMALS => Err(Error::arguments(format!(
            "{d} decimals are more than a price can have ({MAX_DECIMALS}); say fewer."
        ))),
        decimals => Ok(decimals),
    }
}
