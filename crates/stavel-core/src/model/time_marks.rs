//! How a layout writes dates and times: the marks between their parts, and how far they go.

use serde::{Deserialize, Serialize};

/// In which order the parts of a date stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "kebab-case")]
pub enum DateOrder {
    /// 2024-03-05.
    YearFirst,
    /// 05.03.2024.
    DayFirst,
    /// 03/05/2024.
    MonthFirst,
}

impl DateOrder {
    /// The word for it in options, recipes and layouts.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// The order in words.
    pub fn words(self) -> &'static str {
        match self {
            DateOrder::YearFirst => "year-first dates",
            DateOrder::DayFirst => "day-first dates",
            DateOrder::MonthFirst => "month-first dates",
        }
    }
}

/// The finest part of a time of day that is always written; what a row needs beyond it is written too.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Precision {
    /// `12:34`.
    Minutes,
    /// `12:34:56`.
    Seconds,
    /// `12:34:56.789`.
    Millis,
    /// `12:34:56.789012`.
    Micros,
}

/// The marks of dates and times.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Marks {
    /// Between year, month and day; none where they stand side by side (`20240305`).
    pub date: Option<u8>,
    /// Between the date and the time of a moment.
    pub between: u8,
    /// Between hours, minutes and seconds; none where they stand side by side (`134500`).
    pub time: Option<u8>,
    /// The finest part that is always written.
    pub precision: Precision,
}

impl Marks {
    /// The usual marks for dates of an order.
    pub fn usual(order: DateOrder) -> Marks {
        let date = match order {
            DateOrder::YearFirst => b'-',
            DateOrder::DayFirst => b'.',
            DateOrder::MonthFirst => b'/',
        };
        Marks { date: Some(date), between: b' ', time: Some(b':'), precision: Precision::Seconds }
    }

    /// The marks in cells that hold a date, a time of day, or both; what the cells do not show is as usual.
    pub fn of<'a>(order: DateOrder, dates: &[&'a [u8]], times: &[&'a [u8]], moments: &[&'a [u8]]) -> Marks {
        let mut marks = Marks::usual(order);
        let mut parts: Vec<(&[u8], bool)> = times.iter().map(|t| (*t, false)).collect();
        let mut days: Vec<&[u8]> = dates.to_vec();
        for moment in moments {
            let Some(at) = moment.iter().position(|c| matches!(c, b'T' | b' ')) else {
                days.push(moment);
                continue;
            };
            marks.between = moment[at];
            days.push(&moment[..at]);
            parts.push((&moment[at + 1..], true));
        }
        if let Some(day) = days.first() {
            marks.date = day.iter().copied().find(|c| matches!(c, b'.' | b'-' | b'/'));
        }
        if let Some((time, _)) = parts.first() {
            marks.time = time.contains(&b':').then_some(b':');
        }
        if let Some(finest) = parts.iter().map(|(time, _)| precision_of(time)).max() {
            marks.precision = finest;
        }
        marks
    }
}

/// How far a time of day goes, its zone left aside.
fn precision_of(time: &[u8]) -> Precision {
    let end = time
        .iter()
        .position(|c| !(c.is_ascii_digit() || matches!(c, b':' | b'.' | b',')))
        .unwrap_or(time.len());
    let time = &time[..end];
    if let Some(point) = time.iter().position(|c| matches!(c, b'.' | b',')) {
        return if time.len() - point - 1 > 3 { Precision::Micros } else { Precision::Millis };
    }
    let digits = time.iter().filter(|c| c.is_ascii_digit()).count();
    if digits > 4 { Precision::Seconds } else { Precision::Minutes }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of_moment(text: &str) -> (Option<char>, char, Option<char>, Precision) {
        let m = Marks::of(DateOrder::YearFirst, &[], &[], &[text.as_bytes()]);
        (m.date.map(char::from), m.between as char, m.time.map(char::from), m.precision)
    }

    #[test]
    fn marks_are_read_off_the_cells() {
        use Precision::*;
        assert_eq!(of_moment("2024/03/05 13:45"), (Some('/'), ' ', Some(':'), Minutes));
        assert_eq!(of_moment("2024-03-05T13:45:12Z"), (Some('-'), 'T', Some(':'), Seconds));
        assert_eq!(of_moment("20240305 134512"), (None, ' ', None, Seconds));
        assert_eq!(of_moment("05.03.2024 13:45:12.345"), (Some('.'), ' ', Some(':'), Millis));
        let apart = Marks::of(DateOrder::DayFirst, &[b"05/03/2024"], &[b"1345"], &[]);
        assert_eq!((apart.date, apart.time, apart.precision), (Some(b'/'), None, Minutes));
        assert_eq!(Marks::of(DateOrder::MonthFirst, &[], &[], &[]), Marks::usual(DateOrder::MonthFirst));
    }
}
