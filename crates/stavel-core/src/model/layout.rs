//! Layouts: how the columns of a text are to be understood, and written.
//!
//! As text a layout is a short TOML document:
//!
//! ```toml
//! delimiter = ","
//! header = ["Time (UTC)", "Bid", "Ask"]
//! columns = ["moment", "bid", "ask"]
//! dates = "day-first"
//! ```

use serde::{Deserialize, Serialize};

use super::number_marks::NumberMarks;
use super::time_marks::{DateOrder, Marks, Precision};
use super::{Clock, Field};
use crate::{Error, Result};

/// The unit of a time counted from 1970-01-01 UTC.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Since1970 {
    /// Whole seconds.
    Seconds,
    /// Thousandths of a second.
    Millis,
    /// Millionths of a second.
    Micros,
    /// Billionths of a second.
    Nanos,
}

/// What the spreads of a file are written in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum SpreadUnit {
    /// Units of the last decimal of the prices.
    #[default]
    Points,
    /// Ten points, perhaps with a fraction.
    Pips,
    /// As the prices are, as their difference.
    Prices,
}

impl SpreadUnit {
    /// Its word.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// What a column of the file is used for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Use {
    /// It is passed over.
    Skip,
    /// Date and time in one column.
    Moment,
    /// The date, beside a time of day in another column.
    Date,
    /// Time of day beside a [`Use::Date`], or beside a date in the file's name.
    Time,
    /// A number of units since 1970, in UTC.
    Unix(Since1970),
    /// Days since 1899-12-30 with a fraction, as spreadsheets count.
    DayNumber,
    /// Milliseconds of the day; the date stands in the file's name.
    DayMillis,
    /// The instrument of the row.
    Symbol,
    /// A value of the row.
    Field(Field),
    /// Of a table of dated facts: a value with this name.
    Value(String),
}

impl Use {
    /// Everything a column may be, but for values of facts.
    pub fn all() -> Vec<Use> {
        use Since1970::*;
        let mut all = vec![Use::Skip, Use::Moment, Use::Date, Use::Time];
        all.extend([Seconds, Millis, Micros, Nanos].map(Use::Unix));
        all.extend([Use::DayNumber, Use::DayMillis, Use::Symbol]);
        // What a row covers is known only of layers that were joined here.
        all.extend(Field::ALL.into_iter().filter(|f| *f != Field::Covers).map(Use::Field));
        all
    }

    /// The word for it in a layout.
    pub fn word(&self) -> &str {
        match self {
            Use::Skip => "-",
            Use::Moment => "moment",
            Use::Date => "date",
            Use::Time => "time",
            Use::Unix(Since1970::Seconds) => "unix-s",
            Use::Unix(Since1970::Millis) => "unix-ms",
            Use::Unix(Since1970::Micros) => "unix-us",
            Use::Unix(Since1970::Nanos) => "unix-ns",
            Use::DayNumber => "day-number",
            Use::DayMillis => "day-ms",
            Use::Symbol => "symbol",
            Use::Field(f) => f.name(),
            Use::Value(name) => name,
        }
    }

    /// The use a word of a layout names; a value's name is written with a colon before it.
    pub fn named(word: &str) -> Option<Use> {
        match word.strip_prefix(':') {
            Some(name) => Some(Use::Value(name.to_owned())),
            None => Use::all().into_iter().find(|u| u.word() == word),
        }
    }

    fn written(&self) -> String {
        match self {
            Use::Value(name) => format!(":{name}"),
            other => other.word().to_owned(),
        }
    }

    /// True where the column says when a row is.
    pub fn is_time(&self) -> bool {
        matches!(self, Use::Moment | Use::Date | Use::Time | Use::Unix(_) | Use::DayNumber | Use::DayMillis)
    }
}

/// What stands between cells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Delimiter {
    /// This byte.
    Mark(u8),
    /// One blank or more.
    Blanks,
}

impl Delimiter {
    /// The delimiter in a word.
    pub fn word(self) -> String {
        match self {
            Delimiter::Mark(b',') => "comma".into(),
            Delimiter::Mark(b';') => "semicolon".into(),
            Delimiter::Mark(b'\t') => "tab".into(),
            Delimiter::Mark(b'|') => "pipe".into(),
            Delimiter::Mark(CELLS) => "cells".into(),
            Delimiter::Mark(other) => format!("'{}'", (other as char).escape_default()),
            Delimiter::Blanks => "blanks".into(),
        }
    }

    fn named(text: &str) -> Option<Delimiter> {
        Some(match text {
            "comma" => Delimiter::Mark(b','),
            "semicolon" => Delimiter::Mark(b';'),
            "tab" => Delimiter::Mark(b'\t'),
            "pipe" => Delimiter::Mark(b'|'),
            "cells" => Delimiter::Mark(CELLS),
            "blanks" => Delimiter::Blanks,
            _ => match *text.as_bytes() {
                [mark] if mark.is_ascii_punctuation() || mark == b'\t' => Delimiter::Mark(mark),
                _ => return None,
            },
        })
    }
}

/// What stands between the cells of tables that are not text (JSON, sheets and the like) when they are
/// turned into lines: the ASCII unit separator, which no cell holds.
pub const CELLS: u8 = 0x1f;

/// How to read a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    /// The name it is saved under.
    pub name: Option<String>,
    /// What stands between cells.
    pub delimiter: Delimiter,
    /// Lines before the header or the first row.
    pub skip: usize,
    /// The names of the columns, where a line holds them.
    pub header: Option<Vec<String>>,
    /// Lines that begin with this are passed over.
    pub comment: Option<u8>,
    /// How numbers are written.
    pub numbers: NumberMarks,
    /// What each column is used for, from the left.
    pub columns: Vec<Use>,
    /// What the spreads of the file are written in.
    pub spreads: SpreadUnit,
    /// The order of day, month and year.
    pub dates: DateOrder,
    /// How dates and times are written.
    pub marks: Marks,
    /// Decimals of prices as written.
    pub price_decimals: u8,
    /// Decimals of volumes as written.
    pub volume_decimals: u8,
    /// True where the file itself says that its times are UTC.
    pub says_utc: bool,
    /// True where every time names its own zone, which is worked in as it is read.
    pub is_zoned: bool,
    /// The day (since 1970-01-01) that the file's name gives to its rows.
    pub day: Option<i64>,
    /// A clock that is always meant with a saved layout.
    pub clock: Option<Clock>,
}

/// A layout as TOML.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct LayoutToml {
    delimiter: String,
    #[serde(default, skip_serializing_if = "is_zero")]
    skip: usize,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    header: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    comment: Option<char>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    decimal: Option<char>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    thousands: Option<char>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    thirty_seconds: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    spreads: Option<SpreadUnit>,
    columns: Vec<String>,
    dates: DateOrder,
    /// The mark between the parts of a date, `none` for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    date_mark: Option<String>,
    /// `blank` or `T`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    between: Option<String>,
    /// The mark between the parts of a time, `none` for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    time_mark: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    precision: Option<Precision>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    clock: Option<Clock>,
}

impl LayoutToml {
    /// What differs from the usual marks of the order of dates.
    fn put_marks(&mut self, marks: &Marks) {
        let usual = Marks::usual(self.dates);
        let word = |mark: Option<u8>| mark.map_or("none".to_owned(), |m| (m as char).to_string());
        self.date_mark = (marks.date != usual.date).then(|| word(marks.date));
        self.time_mark = (marks.time != usual.time).then(|| word(marks.time));
        self.between = (marks.between != usual.between).then(|| "T".to_owned());
        self.precision = (marks.precision != usual.precision).then_some(marks.precision);
    }

    fn marks(&self) -> std::result::Result<Marks, String> {
        let mut marks = Marks::usual(self.dates);
        let read = |text: &str, known: &[u8]| match text {
            "none" => Ok(None),
            text => match *text.as_bytes() {
                [mark] if known.contains(&mark) => Ok(Some(mark)),
                _ => Err(format!("'{}' cannot stand in dates or times", text.escape_default())),
            },
        };
        if let Some(text) = &self.date_mark {
            marks.date = read(text, b".-/")?;
        }
        if let Some(text) = &self.time_mark {
            marks.time = read(text, b":")?;
        }
        marks.between = match self.between.as_deref() {
            None | Some("blank") => b' ',
            Some("T") => b'T',
            Some(other) => {
                return Err(format!("'{}' cannot stand between date and time", other.escape_default()));
            }
        };
        marks.precision = self.precision.unwrap_or(marks.precision);
        Ok(marks)
    }
}

fn is_zero(n: &usize) -> bool {
    *n == 0
}

impl Layout {
    /// A layout with these columns between commas, without a header, year first.
    pub fn plain(columns: &[Use]) -> Layout {
        Layout {
            name: None,
            delimiter: Delimiter::Mark(b','),
            skip: 0,
            header: None,
            comment: None,
            numbers: NumberMarks::PLAIN,
            columns: columns.to_vec(),
            spreads: SpreadUnit::Points,
            dates: DateOrder::YearFirst,
            marks: Marks::usual(DateOrder::YearFirst),
            price_decimals: 0,
            volume_decimals: 0,
            says_utc: false,
            is_zoned: false,
            day: None,
            clock: None,
        }
    }

    /// The fields of the rows, in the order columns are kept.
    pub fn fields(&self) -> Vec<Field> {
        Field::ALL.into_iter().filter(|f| self.columns.contains(&Use::Field(*f))).collect()
    }

    /// True where a file of one layout may be read by a correction of the other.
    pub fn is_like(&self, other: &Layout) -> bool {
        self.delimiter == other.delimiter
            && self.header == other.header
            && self.columns.len() == other.columns.len()
    }

    /// True where the rows are dated facts and not prices.
    pub fn is_facts(&self) -> bool {
        self.columns.iter().any(|u| matches!(u, Use::Value(_)))
    }

    /// The place of a use among the columns.
    pub fn place_of(&self, wanted: &Use) -> Option<usize> {
        self.columns.iter().position(|u| u == wanted)
    }

    /// By which saved layout a file was read, to be told with what went wrong; empty where it was found.
    pub fn told(&self) -> String {
        self.name.as_ref().map_or(String::new(), |name| format!(", read by the layout {name},"))
    }

    /// The layout in one line for people.
    pub fn in_words(&self) -> String {
        let columns: Vec<&str> = self
            .columns
            .iter()
            .map(|u| match u {
                Use::Moment => "time",
                other => other.word(),
            })
            .collect();
        let mut about = vec![self.delimiter.word()];
        about.push(if self.header.is_some() { "header".into() } else { "no header".into() });
        if self.skip > 0 {
            about.push(format!("{} lines before it", self.skip));
        }
        if self.numbers.decimal == b',' {
            about.push("decimal comma".into());
        }
        if self.numbers.thirty_seconds {
            about.push("thirty-seconds".into());
        }
        if self.columns.contains(&Use::Field(Field::Spread)) && self.spreads != SpreadUnit::Points {
            about.push(format!("spreads in {}", self.spreads.word()));
        }
        if self.columns.iter().any(|u| matches!(u, Use::Moment | Use::Date)) {
            about.push(self.dates.words().into());
        }
        if let Some(name) = &self.name {
            about.insert(0, format!("layout {name}"));
        }
        format!("{}: {}", about.join(", "), columns.join(" "))
    }

    /// The layout as TOML.
    pub fn to_toml(&self) -> String {
        let mark = |m: u8| m as char;
        let mut written = LayoutToml {
            date_mark: None,
            between: None,
            time_mark: None,
            precision: None,
            delimiter: match self.delimiter {
                Delimiter::Mark(m) if m.is_ascii_punctuation() && m != b'|' => mark(m).to_string(),
                other => other.word(),
            },
            skip: self.skip,
            header: self.header.clone(),
            comment: self.comment.map(mark),
            decimal: (self.numbers.decimal != b'.').then_some(mark(self.numbers.decimal)),
            thousands: self.numbers.thousands.map(mark),
            thirty_seconds: self.numbers.thirty_seconds,
            spreads: (self.spreads != SpreadUnit::Points).then_some(self.spreads),
            columns: self.columns.iter().map(Use::written).collect(),
            dates: self.dates,
            clock: self.clock.clone(),
        };
        written.put_marks(&self.marks);
        toml::to_string(&written).unwrap_or_default()
    }

    /// Reads a layout out of TOML.
    ///
    /// # Errors
    /// One sentence with the line where the text is no layout.
    pub fn from_toml(text: &str) -> Result<Layout> {
        let bad =
            |what: String| Error::input(format!("This is no layout: {what}; docs/layouts.md shows one."));
        let written: LayoutToml = toml::from_str(text).map_err(|e| {
            let line = e.span().map_or(1, |s| text[..s.start.min(text.len())].matches('\n').count() + 1);
            bad(format!("line {line}: {}", e.message()))
        })?;
        let ascii = |c: Option<char>| match c {
            None => Ok(None),
            Some(c) if c.is_ascii() && !c.is_ascii_alphanumeric() => Ok(Some(c as u8)),
            Some(c) => Err(bad(format!("'{}' cannot be a mark", c.escape_default()))),
        };
        let columns: Vec<Use> = written
            .columns
            .iter()
            .map(|w| {
                Use::named(w)
                    .ok_or_else(|| bad(format!("'{}' is no use of a column", crate::error::printable(w))))
            })
            .collect::<Result<_>>()?;
        if !columns.iter().any(Use::is_time) {
            return Err(bad("no column says when a row is (moment, date and time, unix-ms ...)".into()));
        }
        let delimiter = Delimiter::named(&written.delimiter).ok_or_else(|| {
            bad(format!("'{}' is no delimiter", crate::error::printable(&written.delimiter)))
        })?;
        let marks = written.marks().map_err(bad)?;
        Ok(Layout {
            delimiter,
            skip: written.skip,
            header: written.header,
            comment: ascii(written.comment)?,
            numbers: NumberMarks {
                decimal: ascii(written.decimal)?.unwrap_or(b'.'),
                thousands: ascii(written.thousands)?,
                thirty_seconds: written.thirty_seconds,
            },
            spreads: written.spreads.unwrap_or_default(),
            dates: written.dates,
            marks,
            clock: written.clock,
            ..Layout::plain(&columns)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_layout_comes_back_out_of_its_text() {
        let mut layout = Layout {
            header: Some(vec!["Zeit".into(), "Geld".into(), "Brief".into(), "x".into()]),
            skip: 2,
            comment: Some(b'#'),
            numbers: NumberMarks { decimal: b',', thousands: Some(b'.'), thirty_seconds: true },
            spreads: SpreadUnit::Pips,
            delimiter: Delimiter::Mark(b';'),
            dates: DateOrder::DayFirst,
            marks: Marks::usual(DateOrder::DayFirst),
            clock: Some("America/New_York+7h".parse().unwrap()),
            ..Layout::plain(&[
                Use::Unix(Since1970::Millis),
                Use::Field(Field::Bid),
                Use::Field(Field::Ask),
                Use::Skip,
            ])
        };
        assert_eq!(Layout::from_toml(&layout.to_toml()).unwrap(), layout);
        for delimiter in
            [Delimiter::Blanks, Delimiter::Mark(b'\t'), Delimiter::Mark(b'|'), Delimiter::Mark(CELLS)]
        {
            layout.delimiter = delimiter;
            assert_eq!(Layout::from_toml(&layout.to_toml()).unwrap().delimiter, delimiter);
        }
        let marks = [
            Marks { date: None, between: b'T', time: None, precision: Precision::Micros },
            Marks { date: Some(b'/'), between: b' ', time: Some(b':'), precision: Precision::Minutes },
        ];
        for marks in marks {
            layout.marks = marks;
            assert_eq!(Layout::from_toml(&layout.to_toml()).unwrap().marks, marks);
        }
    }

    #[test]
    fn what_is_no_layout_is_told() {
        let told = |text: &str| Layout::from_toml(text).unwrap_err().to_string();
        assert!(told("columns = 3").contains("line 1"));
        assert!(told("delimiter = ','\ndates = 'day-first'\ncolumns = ['bid']").contains("when a row is"));
        assert!(
            told("delimiter = ','\ndates = 'day-first'\ncolumns = ['moment', 'bidd']").contains("'bidd'")
        );
        let marked =
            |m: &str| told(&format!("delimiter = ','\ndates = 'day-first'\ncolumns = ['moment']\n{m}"));
        assert!(marked("date_mark = 'x'").contains("cannot stand in dates"));
        assert!(marked("between = '_'").contains("between date and time"));
        assert!(told("delimiter = 'xx'\ndates = 'day-first'\ncolumns = ['moment']").contains("no delimiter"));
    }
}
