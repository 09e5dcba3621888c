//! The files that the rows of a series are divided into.

use super::home::folder_of;
use crate::model::time::{civil_from_days, day_of};
use crate::model::{Micros, SeriesName};

/// A year of bars or a month of ticks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Partition {
    year: i64,
    /// 0 for a whole year.
    month: i64,
}

impl Partition {
    /// The one that a time lies in; `bars` lie in years, ticks in months.
    pub fn of(t: Micros, bars: bool) -> Partition {
        let (year, month, _) = civil_from_days(day_of(t));
        Partition { year, month: if bars { 0 } else { month } }
    }

    /// The path of a file of a series: ticks by month, told by the file's name, so that every file lies at
    /// the same depth.
    pub fn path(&self, name: &SeriesName, id: i64, again: usize) -> String {
        let Partition { year, month } = self;
        let month = if *month == 0 { String::new() } else { format!("{month:02}-") };
        let again = if again == 0 { String::new() } else { format!("-{again}") };
        format!("{}/year={year:04}/{year:04}-{month}{id:06}{again}.parquet", folder_of(name))
    }

    /// The first time after the partition.
    pub fn end(&self) -> Micros {
        let (year, month) = match self.month {
            0 | 12 => (self.year + 1, 1),
            m => (self.year, m + 1),
        };
        crate::model::time::days_from_civil(year, month, 1) * crate::model::time::DAY
    }
}
