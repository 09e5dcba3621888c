//! How full the days of a series are, by its rows alone.

use std::collections::BTreeMap;

use stavel_core::Result;
use stavel_core::model::Span;
use stavel_core::model::time::{DAY, day_of, weekday};
use stavel_core::store::{SeriesInfo, Shelf};

/// Rows a day of one edition.
#[derive(Debug, Default)]
pub struct Coverage {
    /// Day number and rows, in order.
    pub days: Vec<(i64, u32)>,
    /// Rows of a usual day: what counts as full.
    pub usual: u32,
}

impl Coverage {
    /// Counts the rows of a series by day.
    ///
    /// # Errors
    /// Where its files cannot be read.
    pub fn of(shelf: &Shelf, info: &SeriesInfo) -> Result<Coverage> {
        let mut days: BTreeMap<i64, u32> = BTreeMap::new();
        // A bar of a week or a month stands for all its days.
        let reach = (info.name.frame.length() / DAY).max(1);
        let mut add =
            |day: i64, rows: u32| (day..day + reach).for_each(|d| *days.entry(d).or_default() += rows);
        for file in shelf.segments(&info.edition)? {
            if file.hash.is_some() {
                file.days.iter().for_each(|(day, rows)| add(day, rows));
                continue;
            }
            // Files written before the catalog counted their days.
            for rows in shelf.scan(&info.edition, Span::new(file.first, file.last + 1), Some(&[]))? {
                rows?.time.iter().for_each(|t| add(day_of(*t), 1));
            }
        }
        let days: Vec<(i64, u32)> = days.into_iter().collect();
        let mut counts: Vec<u32> = days.iter().map(|d| d.1).collect();
        counts.sort_unstable();
        Ok(Coverage { usual: counts.get(counts.len() / 2).copied().unwrap_or(1).max(1), days })
    }

    /// True where a day of the span has rows.
    pub fn has_rows(&self, span: Span) -> bool {
        let from = self.days.partition_point(|(d, _)| *d < day_of(span.from));
        self.days.get(from).is_some_and(|(d, _)| *d <= day_of(span.to - 1))
    }

    /// How full a span is, 0 to 1. Mondays to Fridays count; a span of only a weekend is judged by what
    /// it has.
    pub fn share(&self, span: Span) -> f64 {
        let (first, last) = (day_of(span.from), day_of(span.to - 1));
        let from = self.days.partition_point(|(d, _)| *d < first);
        let to = self.days.partition_point(|(d, _)| *d <= last);
        // A Friday ends hours before its calendar day does: that is no hole.
        let full = |(_, n): &(i64, u32)| match *n as f64 / self.usual as f64 {
            part if part >= 0.85 => 1.0,
            part => part,
        };
        let days = &self.days[from.min(to)..to];
        let due = (first..=last).filter(|d| weekday(*d) < 5).count();
        if due == 0 {
            return days.iter().map(full).fold(0.0, f64::max);
        }
        let have: f64 = days.iter().filter(|(d, _)| weekday(*d) < 5).map(full).sum();
        (have / due as f64).min(1.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weekends_are_not_held_against_a_strip_and_holes_are_seen() {
        // Four weeks from Monday, 4 March 2024, with one Wednesday half full and one Friday missing.
        let monday = 19_786;
        let mut days: Vec<(i64, u32)> = (0..28).filter(|d| d % 7 < 5).map(|d| (monday + d, 1440)).collect();
        days[2].1 = 720;
        days.retain(|(d, _)| *d != monday + 11);
        let coverage = Coverage { days, usual: 1440 };
        let share =
            |from: i64, to: i64| coverage.share(Span::new((monday + from) * DAY, (monday + to) * DAY));
        assert_eq!(share(14, 28), 1.0);
        assert_eq!((share(2, 3), share(11, 12), share(5, 7)), (0.5, 0.0, 0.0));
        assert!((share(0, 7) - 0.9).abs() < 1e-9 && (share(7, 14) - 0.8).abs() < 1e-9);
        assert_eq!(share(40, 50), 0.0);
    }
}
