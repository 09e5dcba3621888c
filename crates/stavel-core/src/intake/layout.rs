//! Layouts: how the columns of a text file are to be understood.

use serde::{Deserialize, Serialize};

use crate::model::Field;

/// In which order the parts of a date stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DateOrder {
    YearFirst,
    DayFirst,
    MonthFirst,
}

impl DateOrder {
    /// The order in words.
    pub fn words(self) -> &'static str {
        match self {
            DateOrder::YearFirst => "year-first dates",
            DateOrder::DayFirst => "day-first dates",
            DateOrder::MonthFirst => "month-first dates",
        }
    }
}

/// What a column of the file is used for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Use {
    Skip,
    /// Date and time in one column.
    Moment,
    Date,
    /// Time of day beside a [`Use::Date`].
    Time,
    Field(Field),
}

/// How to read a text file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    pub delimiter: u8,
    /// True where the first line names the columns.
    pub header: bool,
    pub columns: Vec<Use>,
    pub dates: DateOrder,
    /// Decimals of prices as written.
    pub price_decimals: u8,
    /// Decimals of volumes as written.
    pub volume_decimals: u8,
    /// True where the file itself says that its times are UTC.
    pub says_utc: bool,
}

impl Layout {
    /// The fields of the rows, in the order columns are kept.
    pub fn fields(&self) -> Vec<Field> {
        Field::ALL.into_iter().filter(|f| self.columns.contains(&Use::Field(*f))).collect()
    }

    /// The layout in one line for people.
    pub fn in_words(&self) -> String {
        let delimiter = match self.delimiter {
            b',' => "comma",
            b';' => "semicolon",
            b'\t' => "tab",
            b'|' => "pipe",
            _ => "space",
        };
        let columns: Vec<&str> = self
            .columns
            .iter()
            .map(|u| match u {
                Use::Skip => "-",
                Use::Moment | Use::Time => "time",
                Use::Date => "date",
                Use::Field(f) => f.name(),
            })
            .collect();
        format!(
            "{delimiter}, {}, {}: {}",
            if self.header { "header" } else { "no header" },
            self.dates.words(),
            columns.join(" ")
        )
    }
}
