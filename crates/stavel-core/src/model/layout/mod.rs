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

mod general;
mod text;
mod uses;
mod writing;

pub use general::{GENERAL, General, general};
pub use uses::{Since1970, SpreadUnit, Use};
pub use writing::{Forms, LineEnd, Quotes, TextEncoding, Writing, decimals_of, form_of, is_absent_text};

use super::number_marks::NumberMarks;
use super::time_marks::{DateOrder, Marks};
use super::{Clock, Field};

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

    /// The delimiter a word or a mark names.
    pub fn named(text: &str) -> Option<Delimiter> {
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
    /// How rows are written, beyond what reading them back needs to know.
    pub writing: Writing,
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
            writing: Writing::default(),
        }
    }

    /// The layout with the columns of a file, as they were found there, in place of "all the values".
    pub fn with_columns_of(&self, found: &Layout) -> Layout {
        let (columns, header) = (found.columns.clone(), found.header.clone());
        Layout { columns, header, skip: found.skip, ..self.clone() }
    }

    /// The layout with the fields of a series in place of "all the values"; those that have a column of their own
    /// are not written twice.
    pub fn with_values(&self, fields: &[Field]) -> Layout {
        let rest: Vec<Field> =
            fields.iter().copied().filter(|f| !self.columns.contains(&Use::Field(*f))).collect();
        let spread = |used: &Use| match used {
            Use::Values => rest.iter().map(|f| Use::Field(*f)).collect(),
            used => vec![used.clone()],
        };
        let named = |(i, name): (usize, &String)| match self.columns.get(i) {
            Some(Use::Values) => rest.iter().map(|f| f.name().to_owned()).collect(),
            _ => vec![name.clone()],
        };
        let header = self.header.as_ref().map(|names| names.iter().enumerate().flat_map(named).collect());
        Layout { columns: self.columns.iter().flat_map(spread).collect(), header, ..self.clone() }
    }

    /// The layout for rows with these price sides: without the columns of a side that they do not have, and with the ask
    /// behind its own columns where they have it beside the bid and it names none of it.
    pub fn with_sides_of(mut self, fields: &[Field]) -> Layout {
        let is_of_a_side = |f: &Field| {
            matches!(f, Field::Bid | Field::Ask | Field::BidVolume | Field::AskVolume)
                && [Field::Bid, Field::Ask].iter().any(|f| fields.contains(f))
        };
        let keeps = |used: &Use| !matches!(used, Use::Field(f) if is_of_a_side(f) && !fields.contains(f));
        let kept: Vec<bool> = self.columns.iter().map(keeps).collect();
        let mut flags = kept.iter();
        self.columns.retain(|_| *flags.next().unwrap_or(&true));
        if let Some(names) = &mut self.header {
            let mut flags = kept.iter();
            names.retain(|_| *flags.next().unwrap_or(&true));
        }
        let has_values = self.columns.contains(&Use::Values);
        let has_ask = |used: &Use| matches!(used, Use::Field(f) if f.is_beside_the_bid());
        let wants_ask = fields.contains(&Field::AskOpen) && !self.columns.iter().any(has_ask);
        let is_added = |f: &Field| match f {
            Field::Event => true,
            Field::AskVolume => wants_ask,
            f => wants_ask && f.is_beside_the_bid(),
        };
        for field in fields.iter().copied().filter(|f| !has_values && is_added(f)) {
            if self.place_of(&Use::Field(field)).is_none() {
                self.columns.push(Use::Field(field));
                if let Some(names) = &mut self.header {
                    names.push(field.name().to_owned());
                }
            }
        }
        self
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
}
