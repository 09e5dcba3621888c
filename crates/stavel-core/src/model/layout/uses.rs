//! What the columns of a file are used for.

use serde::{Deserialize, Serialize};

use crate::model::Field;

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
    /// All the values that a series has, each in a column of its own; general layouts only.
    Values,
}

impl Use {
    /// Everything a column may be, but for values of facts.
    pub fn all() -> Vec<Use> {
        use Since1970::*;
        let mut all = vec![Use::Skip, Use::Moment, Use::Date, Use::Time];
        all.extend([Seconds, Millis, Micros, Nanos].map(Use::Unix));
        all.extend([Use::DayNumber, Use::DayMillis, Use::Symbol, Use::Values]);
        // What a row covers is known only of layers that were joined here; a file with both sides is read one side at a
        // time, and the events beside its bars are none of it.
        let is_of_files = |f: &Field| *f != Field::Covers && !f.is_only_in_files();
        all.extend(Field::ALL.into_iter().filter(is_of_files).map(Use::Field));
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
            Use::Values => "values",
        }
    }

    /// The use a word of a layout names; a value's name is written with a colon before it.
    pub fn named(word: &str) -> Option<Use> {
        match word.strip_prefix(':') {
            Some(name) => Some(Use::Value(name.to_owned())),
            None => Use::all().into_iter().find(|u| u.word() == word),
        }
    }

    /// The word as it stands in a layout.
    pub(super) fn written(&self) -> String {
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
