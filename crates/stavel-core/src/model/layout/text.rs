//! Layouts as TOML.

use serde::{Deserialize, Serialize};

use super::writing::{decimals_of, form_of, is_absent_text};
use super::{Delimiter, Forms, Layout, LineEnd, Quotes, SpreadUnit, TextEncoding, Use, Writing};
use crate::error::printable;
use crate::model::time_marks::{DateOrder, Marks, Precision};
use crate::model::{Clock, NumberMarks, Stamp};
use crate::{Error, Result};

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
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    offsets: bool,
    #[serde(default, skip_serializing_if = "is_usual")]
    quotes: Quotes,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    absent: String,
    #[serde(default, skip_serializing_if = "is_usual")]
    line_end: LineEnd,
    #[serde(default, skip_serializing_if = "is_usual")]
    encoding: TextEncoding,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    stamp: Option<Stamp>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    decimals: Option<u8>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    volume_decimals: Option<u8>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    moment_form: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    date_form: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    time_form: Option<String>,
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

    /// How rows are written beyond the marks.
    fn writing(&self) -> Result<Writing> {
        let form = |text: &Option<String>| text.as_deref().map(form_of).transpose();
        if !is_absent_text(&self.absent) {
            return Err(Error::arguments(format!(
                "'{}' cannot stand for an absent value: it would be read back as one; leave it empty, or say -, NA, NaN, null or none.",
                printable(&self.absent)
            )));
        }
        Ok(Writing {
            offsets: self.offsets,
            quotes: self.quotes,
            absent: self.absent.clone(),
            line_end: self.line_end,
            encoding: self.encoding,
            stamp: self.stamp,
            decimals: decimals_of(self.decimals)?,
            volume_decimals: decimals_of(self.volume_decimals)?,
            forms: Forms {
                moment: form(&self.moment_form)?,
                date: form(&self.date_form)?,
                time: form(&self.time_form)?,
            },
        })
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

fn is_usual<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

impl Layout {
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
            offsets: self.writing.offsets,
            quotes: self.writing.quotes,
            absent: self.writing.absent.clone(),
            line_end: self.writing.line_end,
            encoding: self.writing.encoding,
            stamp: self.writing.stamp,
            decimals: self.writing.decimals,
            volume_decimals: self.writing.volume_decimals,
            moment_form: self.writing.forms.moment.clone(),
            date_form: self.writing.forms.date.clone(),
            time_form: self.writing.forms.time.clone(),
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
            .map(|w| Use::named(w).ok_or_else(|| bad(format!("'{}' is no use of a column", printable(w)))))
            .collect::<Result<_>>()?;
        if !columns.iter().any(Use::is_time) {
            return Err(bad("no column says when a row is (moment, date and time, unix-ms ...)".into()));
        }
        let delimiter = Delimiter::named(&written.delimiter)
            .ok_or_else(|| bad(format!("'{}' is no delimiter", printable(&written.delimiter))))?;
        let marks = written.marks().map_err(bad)?;
        let writing = written.writing()?;
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
            writing,
            ..Layout::plain(&columns)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::layout::CELLS;
    use crate::model::number_marks::NumberMarks;
    use crate::model::{Field, Precision, Since1970};

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
    fn how_rows_are_written_comes_back_out_of_the_text_too() {
        let writing = Writing {
            offsets: true,
            quotes: Quotes::Texts,
            absent: "NA".into(),
            line_end: LineEnd::Crlf,
            encoding: TextEncoding::Utf8Bom,
            stamp: Some(Stamp::Close),
            decimals: Some(4),
            volume_decimals: Some(0),
            forms: Forms { moment: Some("%d %b %Y %H:%M".into()), ..Forms::default() },
        };
        let layout = Layout { writing, ..Layout::plain(&[Use::Moment, Use::Values]) };
        assert_eq!(Layout::from_toml(&layout.to_toml()).unwrap(), layout);
        assert!(layout.to_toml().contains("encoding = \"utf-8-bom\""), "{}", layout.to_toml());
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
        assert!(marked("absent = '0'").contains("cannot stand for an absent value"));
        assert!(marked("decimals = 13").contains("decimals"));
        assert!(marked("date_form = 'dd.mm'").contains("no form of dates"));
        assert!(marked("quotes = 'some'").contains("line 4"));
        assert!(marked("between = '_'").contains("between date and time"));
        assert!(told("delimiter = 'xx'\ndates = 'day-first'\ncolumns = ['moment']").contains("no delimiter"));
    }
}
