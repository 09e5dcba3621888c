//! The month of a futures contract, told from its name.

use std::fmt;
use std::str::FromStr;

use super::time::civil_from_days;
use crate::{Error, Result};

/// The trade's letters for the months from January to December.
pub const MONTH_CODES: [char; 12] = ['F', 'G', 'H', 'J', 'K', 'M', 'N', 'Q', 'U', 'V', 'X', 'Z'];

const MONTH_NAMES: [&str; 12] =
    ["JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC"];

/// A month in which a contract is delivered or settled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct ContractMonth {
    /// As `2024`.
    pub year: i64,
    /// From 1 to 12.
    pub month: i64,
}

impl ContractMonth {
    /// The month that a day (since 1970-01-01) lies in.
    pub fn of_day(day: i64) -> ContractMonth {
        let (year, month, _) = civil_from_days(day);
        ContractMonth { year, month }
    }

    /// Months since the year 0.
    pub fn count(self) -> i64 {
        self.year * 12 + self.month - 1
    }

    /// The trade's letter for it.
    pub fn code(self) -> char {
        MONTH_CODES[(self.month - 1).clamp(0, 11) as usize]
    }
}

impl fmt::Display for ContractMonth {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:04}-{:02}", self.year, self.month)
    }
}

impl FromStr for ContractMonth {
    type Err = Error;
    fn from_str(text: &str) -> Result<ContractMonth> {
        let parts = text.split_once('-').filter(|(year, month)| year.len() == 4 && month.len() == 2);
        let number = |text: &str| text.parse::<i64>().ok();
        let read = parts.and_then(|(year, month)| Some((number(year)?, number(month)?)));
        match read {
            Some((year, month @ 1..=12)) => Ok(ContractMonth { year, month }),
            _ => Err(Error::arguments(format!("'{text}' is not a contract month; write it as 2024-03."))),
        }
    }
}

/// What the name of a contract says: what is traded, and the month, of whose year the name may have the last digits alone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ContractName {
    /// What comes before the month: `BLY` of `BLYH24`.
    pub product: String,
    readings: Vec<MonthReading>,
}

/// One way to read a month: the year is that number, or one that ends with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct MonthReading {
    month: i64,
    year: i64,
    /// 1 for the whole year, else 10 or 100: how many years share these digits.
    every: i64,
}

impl ContractName {
    /// Reads a name that ends with a month: a letter of the trade and a year (`BLYH4`, `BLY-H24`, `BLY_H2024`), a name of a
    /// month (`BLY-MAR24`), or numbers (`BLY-2024-03`, `BLY202403`, `BLY-03-24`, `BLY-2403`). None where it does not.
    pub fn read(name: &str) -> Option<ContractName> {
        let digits = name.len() - name.trim_end_matches(|c: char| c.is_ascii_digit()).len();
        let (before, last) = name.split_at(name.len() - digits);
        by_month_name(before, last).or_else(|| by_code(before, last)).or_else(|| by_numbers(before, last))
    }

    /// The month, of several that the name may mean. `last` is the month of the contract's last row: of a year with one digit it
    /// is the first decade that the rows do not go beyond (a contract is traded in its month and never long after it), of one
    /// with two the century that is nearest.
    pub fn month(&self, last: ContractMonth) -> Option<ContractMonth> {
        let first_possible = last.count() - 1;
        let of = |reading: &MonthReading| {
            let whole = ContractMonth { year: reading.year, month: reading.month };
            if reading.every == 1 {
                return whole;
            }
            // Of two digits the century is that of the rows, whatever is odd in them.
            let first_possible = if reading.every == 100 { last.count() - 600 } else { first_possible };
            let missing = first_possible - whole.count();
            let turns =
                missing.div_euclid(12 * reading.every) + i64::from(missing % (12 * reading.every) != 0);
            ContractMonth { year: reading.year + turns.max(0) * reading.every, month: reading.month }
        };
        self.readings.iter().map(of).min_by_key(|month| (month.count() - last.count()).abs())
    }
}

fn product(text: &str) -> Option<String> {
    let product = text.trim_end_matches(['-', '_', '.', '+']);
    product.starts_with(|c: char| c.is_ascii_alphanumeric()).then(|| product.to_owned())
}

/// A year of one, two or four digits.
fn year_of(text: &str) -> Option<(i64, i64)> {
    let year = text.parse().ok()?;
    match text.len() {
        1 => Some((year, 10)),
        2 => Some((year, 100)),
        4 if (1900..2200).contains(&year) => Some((year, 1)),
        _ => None,
    }
}

fn one(product: String, month: i64, (year, every): (i64, i64)) -> ContractName {
    ContractName { product, readings: vec![MonthReading { month, year, every }] }
}

fn by_month_name(before: &str, last: &str) -> Option<ContractName> {
    let year = year_of(last).filter(|_| last.len() > 1)?;
    let before = before.trim_end_matches(['-', '_', '.']);
    let (rest, word) = before.split_at_checked(before.len().checked_sub(3)?)?;
    let month = MONTH_NAMES.iter().position(|name| name.eq_ignore_ascii_case(word))?;
    Some(one(product(rest)?, month as i64 + 1, year))
}

fn by_code(before: &str, last: &str) -> Option<ContractName> {
    let year = year_of(last)?;
    let code = before.chars().next_back()?;
    let month = MONTH_CODES.iter().position(|c| *c == code)?;
    Some(one(product(&before[..before.len() - 1])?, month as i64 + 1, year))
}

fn by_numbers(before: &str, last: &str) -> Option<ContractName> {
    let is_month = |month: &i64| (1..=12).contains(month);
    let number = |text: &str| text.parse::<i64>().ok();
    let mut readings = Vec::new();
    let mut rest = before;
    match last.len() {
        6 => {
            let (year, month) = last.split_at(4);
            let month = number(month).filter(is_month)?;
            let (year, every) = year_of(year)?;
            readings.push(MonthReading { month, year, every });
        }
        4 | 2 => {
            // Both parts may stand together, or one before a dash.
            let is_apart = before.ends_with(['-', '_', '.']);
            let head = before.trim_end_matches(['-', '_', '.']);
            let digits = head.len() - head.trim_end_matches(|c: char| c.is_ascii_digit()).len();
            let (start, first) = head.split_at(head.len() - digits);
            let is_pair = is_apart && matches!((first.len(), last.len()), (2, 2 | 4) | (4, 2));
            let (first, second) = match last.len() {
                _ if is_pair => (first, last),
                4 => last.split_at(2),
                _ => return None,
            };
            rest = if is_pair { start } else { before };
            for (year, month) in [(first, second), (second, first)] {
                let read = number(month).filter(is_month).filter(|_| month.len() == 2).zip(year_of(year));
                readings.extend(read.map(|(month, (year, every))| MonthReading { month, year, every }));
            }
        }
        _ => {}
    }
    Some(ContractName { product: product(rest)?, readings }).filter(|name| !name.readings.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The product and month of a name whose rows end in a month.
    fn told(name: &str, last: &str) -> Option<String> {
        let read = ContractName::read(name)?;
        let month = read.month(last.parse().unwrap())?;
        Some(format!("{} {month}", read.product))
    }

    #[test]
    fn months_are_told_in_every_way_they_are_written() {
        for name in [
            "BLYH24",
            "BLYH4",
            "BLYH2024",
            "BLY-H24",
            "BLY_H24",
            "BLY.H4",
            "BLY-2024-03",
            "BLY202403",
            "BLY-202403",
            "BLY-03-24",
            "BLY-03-2024",
            "BLY-24-03",
            "BLY-2403",
            "BLY-0324",
            "BLY-MAR24",
            "BLYMar2024",
            "BLY-Mar-24",
        ] {
            assert_eq!(told(name, "2024-03").as_deref(), Some("BLY 2024-03"), "{name}");
        }
        // The letter before a year may end the name of a month.
        assert_eq!(told("BLYJUN24", "2024-05").as_deref(), Some("BLY 2024-06"));
        assert_eq!(told("BLYN24", "2024-05").as_deref(), Some("BLY 2024-07"));
        for name in
            ["BLY", "BLY.chain", "BLY24", "BLYA24", "BLY-2024", "H24", "BLY-2024-13", "NOKSEK", "7", ""]
        {
            assert_eq!(told(name, "2024-03"), None, "{name}");
        }
    }

    #[test]
    fn the_decade_is_the_first_that_the_rows_do_not_go_beyond() {
        for (name, last, month) in [
            ("BLYH4", "2014-03", "2014-03"),
            ("BLYH4", "2014-06", "2024-03"),
            // Some rows after the month: the last trade may be settled a day later.
            ("BLYH4", "2024-04", "2024-03"),
            ("BLYZ9", "1999-11", "1999-12"),
            ("BLYZ99", "1998-02", "1999-12"),
            ("BLYH5", "2023-06", "2025-03"),
            ("BLYZ23", "2024-03", "2023-12"),
            ("BLYH01", "1999-06", "2001-03"),
            ("BLYH2014", "2024-06", "2014-03"),
            // December 2010 or October 2012.
            ("BLY-1012", "2010-11", "2010-12"),
            ("BLY-1012", "2012-09", "2012-10"),
        ] {
            assert_eq!(told(name, last), Some(format!("BLY {month}")), "{name} {last}");
        }
        let month: ContractMonth = "2024-03".parse().unwrap();
        assert_eq!((month.code(), month.count()), ('H', 2024 * 12 + 2));
        assert!("2024-3".parse::<ContractMonth>().is_err() && "2024-13".parse::<ContractMonth>().is_err());
    }
}
