//! Tables with times as lines of a layout.

use super::cells::{CellWriter, LineCell, without_formula};
use super::encoding::encoded;
use crate::deliver::timed_table::{TimedCell, TimedTable};
use crate::model::layout::Quotes;
use crate::model::{Clock, Layout, Scale, Use};
use crate::{Error, Result};

/// Columns of a table that a layout may name by itself.
const SYMBOL: &str = "instrument";

impl TimedTable {
    /// As text by a layout: its columns of time and of the instrument where it has them, all other columns of the table where
    /// it has "all the values"; its marks, quotes, ends of lines and characters.
    ///
    /// # Errors
    /// Where the layout has other columns, or no place for the values.
    pub fn to_text(&self, layout: &Layout, clock: &Clock) -> Result<Vec<u8>> {
        let clock = layout.clock.as_ref().unwrap_or(clock);
        let has_symbol = layout.columns.contains(&Use::Symbol);
        let is_time = |used: &Use| {
            matches!(used, Use::Moment | Use::Date | Use::Time | Use::Unix(_) | Use::DayNumber | Use::Symbol)
        };
        let other =
            layout.columns.iter().find(|used| !is_time(used) && !matches!(used, Use::Values | Use::Skip));
        if let Some(other) = other.or(layout
            .columns
            .contains(&Use::Time)
            .then_some(&Use::Time)
            .filter(|_| !layout.columns.contains(&Use::Date) && !layout.columns.contains(&Use::Moment)))
        {
            return Err(Error::arguments(format!(
                "The layout does not fit {}: it has a column '{}'; one with columns of time and 'values' does.",
                self.name,
                other.word()
            )));
        }
        if !layout.columns.contains(&Use::Values) {
            return Err(Error::arguments(format!(
                "The layout does not fit {}: it has no place for its values; give it a column 'values'.",
                self.name
            )));
        }
        let symbol = self.columns.iter().position(|(name, _)| *name == SYMBOL);
        let values: Vec<usize> =
            (1..self.columns.len()).filter(|column| !has_symbol || Some(*column) != symbol).collect();
        let mut out = vec![b'\n'; layout.skip];
        self.push_head(layout, &values, &mut out);
        for row in &self.rows {
            let name = match symbol.map(|at| &row[at]) {
                Some(TimedCell::Text(name)) => name.as_str(),
                _ => "",
            };
            let mut line = TableLine { writer: CellWriter::new(layout, name), layout, clock, out: &mut out };
            line.push(row, &values);
        }
        Ok(encoded(out, layout.writing.encoding, true))
    }

    fn push_head(&self, layout: &Layout, values: &[usize], out: &mut Vec<u8>) {
        let Some(names) = &layout.header else { return };
        let writer = CellWriter::new(layout, "");
        let own = values.iter().map(|column| self.columns[*column].0);
        let names = layout.columns.iter().zip(names).flat_map(|(used, name)| match used {
            Use::Values => own.clone().collect::<Vec<_>>(),
            _ => vec![name.as_str()],
        });
        for (i, name) in names.enumerate() {
            if i > 0 {
                out.push(writer.mark());
            }
            writer.push_name(name, out);
        }
        out.extend_from_slice(layout.writing.line_end.bytes());
    }
}

/// A line that is being written.
struct TableLine<'a> {
    writer: CellWriter<'a>,
    layout: &'a Layout,
    clock: &'a Clock,
    out: &'a mut Vec<u8>,
}

impl TableLine<'_> {
    fn push(&mut self, row: &[TimedCell], values: &[usize]) {
        for (i, used) in self.layout.columns.iter().enumerate() {
            if i > 0 && !(*used == Use::Values && values.is_empty()) {
                self.out.push(self.writer.mark());
            }
            match used {
                Use::Values => {
                    for (i, column) in values.iter().enumerate() {
                        if i > 0 {
                            self.out.push(self.writer.mark());
                        }
                        self.cell(&row[*column]);
                    }
                }
                used => self.time(used, &row[0]),
            }
        }
        self.out.extend_from_slice(self.layout.writing.line_end.bytes());
    }

    /// A time as the layout writes it in a column of a use.
    fn time(&mut self, used: &Use, cell: &TimedCell) {
        let TimedCell::Time(time) = cell else { return self.cell(&TimedCell::Absent) };
        self.writer.at((*time, self.clock.to_wall(*time)));
        let scale = Scale::default();
        let cell = LineCell::of(used, self.layout, &[], (scale, scale));
        self.writer.push(&cell, &crate::model::Columns::default(), 0, self.out);
    }

    fn cell(&mut self, cell: &TimedCell) {
        let (text, is_text) = match cell {
            TimedCell::Time(_) => return self.time(&Use::Moment, cell),
            TimedCell::Text(text) => (without_formula(text).into_owned(), true),
            TimedCell::Number(number) if self.layout.numbers.decimal == b',' => {
                (number.replace('.', ","), false)
            }
            TimedCell::Number(number) => (number.clone(), false),
            TimedCell::Flag(flag) => (flag.to_string(), true),
            TimedCell::Absent => {
                let blanks = self.layout.delimiter == crate::model::Delimiter::Blanks;
                (self.layout.writing.absent_between(blanks).to_owned(), false)
            }
        };
        let wanted = match self.layout.writing.quotes {
            Quotes::Needed => false,
            Quotes::Texts => is_text,
            Quotes::All => true,
        };
        self.writer.push_text(&text, wanted, self.out);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deliver::timed_table::TimedKind;
    use crate::model::layout::general;
    use crate::model::time::parse;

    fn table() -> TimedTable {
        let time = |text: &str| TimedCell::Time(parse(text).unwrap());
        TimedTable {
            name: "fills",
            columns: vec![
                ("time", TimedKind::Time),
                ("instrument", TimedKind::Text),
                ("price", TimedKind::Number),
                ("tag", TimedKind::Text),
                ("closed", TimedKind::Time),
            ],
            rows: vec![
                vec![
                    time("2024-03-05 09:31:02.5"),
                    "NOKSEK".into(),
                    TimedCell::Number("1.02551".into()),
                    "=1+1".into(),
                    TimedCell::Absent,
                ],
                vec![
                    time("2024-03-05 10:00"),
                    "BLY".into(),
                    TimedCell::Number("-0.5".into()),
                    "a, \"b\"".into(),
                    time("2024-03-05 11:00"),
                ],
            ],
        }
    }

    fn lines(layout: &Layout, clock: &str) -> Vec<String> {
        let bytes = table().to_text(layout, &clock.parse().unwrap()).unwrap();
        String::from_utf8(bytes).unwrap().lines().map(str::to_owned).collect()
    }

    #[test]
    fn a_table_is_written_as_a_layout_says() {
        let usual = general("rfc3339").unwrap();
        assert_eq!(
            lines(&usual, "UTC"),
            [
                "time,instrument,price,tag,closed",
                "2024-03-05T09:31:02.500Z,NOKSEK,1.02551,'=1+1,",
                "2024-03-05T10:00:00Z,BLY,-0.5,\"a, \"\"b\"\"\",2024-03-05T11:00:00Z",
            ]
        );
        let apart = general("dotted-minutes").unwrap();
        assert_eq!(
            lines(&apart, "Europe/Oslo")[0],
            "2024.03.05,10:31:02.500,NOKSEK,1.02551,'=1+1,",
            "finer than minutes where the time is"
        );
        let comma = Layout {
            delimiter: crate::model::Delimiter::Mark(b';'),
            numbers: crate::model::number_marks::NumberMarks { decimal: b',', ..usual.numbers },
            columns: vec![Use::Symbol, Use::Moment, Use::Values],
            header: None,
            ..usual.clone()
        };
        assert_eq!(
            lines(&comma, "UTC")[1],
            "BLY;2024-03-05T10:00:00Z;-0,5;\"a, \"\"b\"\"\";2024-03-05T11:00:00Z"
        );
    }

    #[test]
    fn a_layout_of_prices_or_without_a_place_is_refused() {
        let with = |columns: &[Use]| Layout { columns: columns.to_vec(), ..Layout::plain(&[]) };
        for columns in [
            &[Use::Moment, Use::Field(crate::model::Field::Open), Use::Values][..],
            &[Use::Moment],
            &[Use::Time, Use::Values],
        ] {
            let told = table().to_text(&with(columns), &Clock::utc()).unwrap_err().to_string();
            assert!(told.contains("does not fit fills"), "{told}");
        }
    }
}
