//! Day-first or month-first: what the dates of a file say about it.

use crate::intake::layout::DateOrder;
use crate::intake::moment;
use crate::model::time::weekday;

/// Saturdays and backward steps are counted for these two readings of a date.
const READINGS: [DateOrder; 2] = [DateOrder::DayFirst, DateOrder::MonthFirst];

/// What the dates seen so far say about the order of day and month.
#[derive(Debug, Clone, Default)]
pub struct DateEvidence {
    year_first: bool,
    /// The largest first and second numbers.
    largest: [u32; 2],
    /// For both readings: the day before, steps backward, days, Saturdays among them.
    readings: [Reading; 2],
}

#[derive(Debug, Clone, Copy, Default)]
struct Reading {
    before: Option<i64>,
    backward: u32,
    days: u32,
    saturdays: u32,
}

/// An order of dates and why it is that one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decided {
    pub order: DateOrder,
    pub why: String,
}

impl DateEvidence {
    /// The evidence of some cells that begin with a date, in the order of the file.
    pub fn of<'a>(cells: impl Iterator<Item = &'a [u8]>) -> DateEvidence {
        let mut evidence = DateEvidence::default();
        cells.for_each(|c| evidence.see(c));
        evidence
    }

    /// Adds one cell.
    pub fn see(&mut self, cell: &[u8]) {
        let mut parts = cell.split(|c| !c.is_ascii_digit());
        let (Some(a), Some(b)) = (parts.next(), parts.next()) else { return };
        let number =
            |t: &[u8]| t.iter().fold(0u32, |v, c| v.wrapping_mul(10).wrapping_add((c - b'0') as u32));
        if a.len() >= 4 {
            self.year_first = true;
            return;
        }
        // A month in words leaves nothing to ask: any order reads it.
        if b.is_empty() {
            self.year_first |= moment::date(cell, DateOrder::YearFirst).is_some();
            return;
        }
        self.largest = [self.largest[0].max(number(a)), self.largest[1].max(number(b))];
        for (order, reading) in READINGS.into_iter().zip(&mut self.readings) {
            let Some((day, _)) = moment::date(cell, order) else { continue };
            if reading.before == Some(day) {
                continue;
            }
            reading.backward += u32::from(reading.before.is_some_and(|b| day < b));
            reading.days += 1;
            reading.saturdays += u32::from(weekday(day) == 5);
            reading.before = Some(day);
        }
    }

    /// Forgets the day before: what is seen next stands elsewhere in the file.
    pub fn jump(&mut self) {
        self.readings.iter_mut().for_each(|r| r.before = None);
    }

    /// The order, where the numbers themselves decide it.
    pub fn by_numbers(&self) -> Option<Decided> {
        let why = |n: u32, place: &str| format!("the {place} number reaches {n}");
        let decided = |order, why| Some(Decided { order, why });
        match (self.year_first, self.largest[0] > 12, self.largest[1] > 12) {
            (true, false, false) => {
                decided(DateOrder::YearFirst, "the year or the month's name says it".into())
            }
            (false, true, false) => decided(DateOrder::DayFirst, why(self.largest[0], "first")),
            (false, false, true) => decided(DateOrder::MonthFirst, why(self.largest[1], "second")),
            _ => None,
        }
    }

    /// The order, where every day is under 13 but one reading alone runs forward in time, or one alone
    /// has no rows on Saturdays, when markets are closed. Wants the whole file.
    pub fn by_order_and_weekdays(&self) -> Option<Decided> {
        if self.year_first || self.largest.iter().any(|n| *n == 0 || *n > 12) {
            return None;
        }
        let [day_first, month_first] = self.readings;
        let verdict = |test: &dyn Fn(&Reading, &Reading) -> bool| match (
            test(&day_first, &month_first),
            test(&month_first, &day_first),
        ) {
            (true, false) => Some(DateOrder::DayFirst),
            (false, true) => Some(DateOrder::MonthFirst),
            _ => None,
        };
        if let Some(order) = verdict(&|this, other| this.backward == 0 && other.backward > 0) {
            let why = "read so, its rows run forward in time; read the other way they do not".to_owned();
            return Some(Decided { order, why });
        }
        let by_weekday = verdict(&|this, other| {
            this.days >= 5 && this.saturdays == 0 && other.saturdays * 12 >= other.days
        });
        by_weekday.map(|order| Decided {
            order,
            why: "read so, no row lies on a Saturday; read the other way some do".into(),
        })
    }

    /// What speaks for each reading, for a person who has to decide.
    pub fn in_words(&self) -> String {
        let [d, m] = self.readings;
        format!(
            "no number in its dates is above 12; day-first gives {} days, {} of them Saturdays, and {} steps back in time; month-first {}, {} and {}",
            d.days, d.saturdays, d.backward, m.days, m.saturdays, m.backward
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn evidence(cells: &[&str]) -> DateEvidence {
        DateEvidence::of(cells.iter().map(|c| c.as_bytes()))
    }

    #[test]
    fn numbers_decide_first() {
        let order = |cells: &[&str]| evidence(cells).by_numbers().map(|d| d.order);
        assert_eq!(order(&["05.03.2024", "13.03.2024"]), Some(DateOrder::DayFirst));
        assert_eq!(order(&["03/05/2024", "03/13/2024"]), Some(DateOrder::MonthFirst));
        assert_eq!(order(&["2024-03-05"]), Some(DateOrder::YearFirst));
        assert_eq!(order(&["5-Mar-2024"]), Some(DateOrder::YearFirst));
        assert_eq!(order(&["05.03.2024", "06.03.2024"]), None);
        assert_eq!(order(&["13.13.2024"]), None);
    }

    #[test]
    fn then_the_run_of_the_rows_and_the_weekdays() {
        let order = |cells: &[&str]| evidence(cells).by_order_and_weekdays().map(|d| d.order);
        assert_eq!(order(&["08.01.2024", "09.01.2024", "02.02.2024"]), Some(DateOrder::DayFirst));
        assert_eq!(order(&["01/08/2024", "01/09/2024", "02/02/2024"]), Some(DateOrder::MonthFirst));
        // Monday to Friday of one week of July; read the other way, the seventh of five months in a row.
        let week = [
            "01.07.2024",
            "02.07.2024",
            "03.07.2024",
            "04.07.2024",
            "05.07.2024",
            "08.07.2024",
            "09.07.2024",
        ];
        assert_eq!(order(&week), Some(DateOrder::DayFirst));
        assert_eq!(order(&["05.03.2024", "06.03.2024"]), None);
    }
}
