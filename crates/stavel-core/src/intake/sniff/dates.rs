//! The order of day, month and year: what the dates of a file say about it.

use crate::intake::moment;
use crate::model::DateOrder;
use crate::model::time::weekday;

const ORDERS: [DateOrder; 3] = [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst];

/// What the dates seen so far say about their order.
#[derive(Debug, Clone, Default)]
pub struct DateEvidence {
    /// Dates whose writing says it: a year of four digits in front, eight digits, a month in words.
    plain: u32,
    /// Dates of three numbers that were seen, and the largest of their first and second numbers.
    seen: u32,
    largest: [u32; 2],
    /// For each of the three orders.
    readings: [Reading; 3],
}

/// The dates read in one order.
#[derive(Debug, Clone, Copy, Default)]
struct Reading {
    /// Cells that are a date read so.
    read: u32,
    before: Option<i64>,
    /// Days that differ from the one before, and those of them that lie earlier or later.
    days: u32,
    backward: u32,
    forward: u32,
    /// Steps to a day at most four days away, as over a long weekend.
    near: u32,
    saturdays: u32,
    sundays: u32,
}

impl Reading {
    fn see(&mut self, day: i64) {
        self.read += 1;
        if self.before == Some(day) {
            return;
        }
        if let Some(before) = self.before {
            self.backward += u32::from(day < before);
            self.forward += u32::from(day > before);
            self.near += u32::from((day - before).abs() <= 4);
        }
        self.days += 1;
        self.saturdays += u32::from(weekday(day) == 5);
        self.sundays += u32::from(weekday(day) == 6);
        self.before = Some(day);
    }

    fn steps(&self) -> u32 {
        self.backward + self.forward
    }

    /// True where the rows run in one direction all the way.
    fn is_one_way(&self) -> bool {
        self.backward.min(self.forward) == 0
    }

    /// True where nearly every day follows its neighbour, and none lies on a weekend.
    fn is_days_running(&self) -> bool {
        self.steps() >= 3 && self.near * 10 >= self.steps() * 9 && self.saturdays + self.sundays == 0
    }
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
        let digits = cell.iter().take_while(|c| c.is_ascii_digit()).count();
        let mut parts = cell.split(|c| !c.is_ascii_digit());
        let (a, b) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
        if digits >= 4 || b.is_empty() {
            self.plain += u32::from(moment::date(cell, DateOrder::YearFirst).is_some());
            return;
        }
        let number =
            |t: &[u8]| t.iter().fold(0u32, |v, c| v.wrapping_mul(10).wrapping_add((c - b'0') as u32));
        self.largest = [self.largest[0].max(number(a)), self.largest[1].max(number(b))];
        let days = ORDERS.map(|order| moment::date(cell, order).map(|found| found.0));
        // What no order makes a date of is a bad cell, and says nothing of the others.
        self.seen += u32::from(days.iter().any(Option::is_some));
        for (day, reading) in days.into_iter().zip(&mut self.readings) {
            day.into_iter().for_each(|day| reading.see(day));
        }
    }

    /// Forgets the day before: what is seen next stands elsewhere in the file.
    pub fn jump(&mut self) {
        self.readings.iter_mut().for_each(|r| r.before = None);
    }

    fn is_plain(&self) -> bool {
        self.plain > self.seen
    }

    /// The orders in which every date seen is one.
    fn possible(&self) -> Vec<(DateOrder, Reading)> {
        let all = ORDERS.into_iter().zip(self.readings);
        all.filter(|(_, r)| r.read == self.seen && self.seen > 0).collect()
    }

    /// The order, where the numbers themselves decide it.
    pub fn by_numbers(&self) -> Option<Decided> {
        let decided = |order, why| Some(Decided { order, why });
        // A few dates of another kind are rows of another kind.
        if self.is_plain() {
            return decided(DateOrder::YearFirst, "the year or the month's name says it".into());
        }
        let [(order, _)] = self.possible()[..] else { return None };
        let [first, second] = self.largest;
        match order {
            DateOrder::MonthFirst => decided(order, format!("the second number reaches {second}")),
            _ => decided(order, format!("the first number reaches {first}")),
        }
    }

    /// The order, where several are possible but the days read so are the neighbours they are in most files,
    /// or the rows run in one direction only this way, or this way alone none lies on a Saturday, when
    /// markets are closed. Wants the whole file.
    pub fn by_order_and_weekdays(&self) -> Option<Decided> {
        let possible = self.possible();
        if self.is_plain() || possible.len() < 2 {
            return None;
        }
        let alone = |test: &dyn Fn(&Reading) -> bool, others: &dyn Fn(&Reading) -> bool| {
            let (yes, no): (Vec<_>, Vec<_>) = possible.iter().partition(|(_, r)| test(r));
            match yes[..] {
                [(order, _)] if no.iter().all(|(_, r)| others(r)) => Some(order),
                _ => None,
            }
        };
        let why = |text: &'static str| move |order| Decided { order, why: text.into() };
        let running = alone(&Reading::is_days_running, &|r| r.near * 2 < r.steps());
        let one_way = || alone(&|r| r.steps() > 0 && r.is_one_way(), &|r| !r.is_one_way());
        let weekdays = || {
            alone(&|r| r.days >= 5 && r.saturdays == 0, &|r| r.saturdays * 12 >= r.days && r.saturdays > 0)
        };
        running
            .map(why("read so, one day follows the other; read otherwise they lie far apart"))
            .or_else(|| {
                one_way().map(why("read so, its rows run one way in time; read otherwise they do not"))
            })
            .or_else(|| weekdays().map(why("read so, no row lies on a Saturday; read otherwise some do")))
    }

    /// What speaks for each reading, for a person who has to decide.
    pub fn in_words(&self) -> String {
        let possible = self.possible();
        if possible.is_empty() {
            return "no one order makes dates of all of them".into();
        }
        let told = |(order, r): &(DateOrder, Reading)| {
            format!(
                "{} gives days {}, Saturdays among them {}, turns in time {}",
                order.word(),
                r.days,
                r.saturdays,
                r.backward.min(r.forward)
            )
        };
        possible.iter().map(told).collect::<Vec<_>>().join("; ")
    }

    /// The orders a person can choose from, in words.
    pub fn choices(&self) -> Vec<String> {
        let possible = self.possible();
        let orders: Vec<DateOrder> = match possible.is_empty() {
            true => ORDERS.to_vec(),
            false => possible.into_iter().map(|(order, _)| order).collect(),
        };
        orders.iter().map(|o| o.word().to_owned()).collect()
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
        assert_eq!(order(&["Mar 5 2024 10:00"]), Some(DateOrder::YearFirst));
        assert_eq!(order(&["20240305", "20240306"]), Some(DateOrder::YearFirst));
        assert_eq!(order(&["20240305 10:00"]), Some(DateOrder::YearFirst));
        assert_eq!(order(&["99/03/05"]), Some(DateOrder::YearFirst));
        assert_eq!(order(&["24/03/05", "24/03/13"]), None, "2024 or the 24th");
        assert_eq!(order(&["05.03.2024", "06.03.2024"]), None);
        assert_eq!(order(&["13.13.2024"]), None);
    }

    #[test]
    fn then_the_run_of_the_rows_and_the_weekdays() {
        let order = |cells: &[&str]| evidence(cells).by_order_and_weekdays().map(|d| d.order);
        assert_eq!(order(&["08.01.2024", "09.01.2024", "02.02.2024"]), Some(DateOrder::DayFirst));
        assert_eq!(order(&["01/08/2024", "01/09/2024", "02/02/2024"]), Some(DateOrder::MonthFirst));
        // Monday to Friday of one week of July; read the other way, the seventh of five months in a row.
        let week = ["01.07.2024", "02.07.2024", "03.07.2024", "04.07.2024", "05.07.2024", "08.07.2024"];
        assert_eq!(order(&week), Some(DateOrder::DayFirst));
        let newest_first: Vec<&str> = week.iter().rev().copied().collect();
        assert_eq!(order(&newest_first), Some(DateOrder::DayFirst));
        assert_eq!(order(&["05.03.2024", "06.03.2024"]), None);
    }

    #[test]
    fn five_days_running_tell_the_order_of_short_years_too() {
        let order = |cells: &[&str]| evidence(cells).by_order_and_weekdays().map(|d| d.order);
        // Monday 4 to Friday 8 of March 2024, day first and year first.
        assert_eq!(
            order(&["04/03/24", "05/03/24", "06/03/24", "07/03/24", "08/03/24"]),
            Some(DateOrder::DayFirst)
        );
        assert_eq!(
            order(&["01/03/05", "01/03/06", "01/03/07", "01/03/08", "01/03/09"]),
            Some(DateOrder::YearFirst)
        );
    }

    #[test]
    fn months_in_a_row_are_not_taken_for_days() {
        // The first of every month, month first; read day first, days of January with its weekends.
        let months: Vec<String> = (1..=9).map(|m| format!("{m:02}/01/2024")).collect();
        let cells: Vec<&str> = months.iter().map(String::as_str).collect();
        assert_eq!(evidence(&cells).by_order_and_weekdays(), None);
        assert_eq!(evidence(&cells).choices(), ["day-first", "month-first"]);
    }
}
