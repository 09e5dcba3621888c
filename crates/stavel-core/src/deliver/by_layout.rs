//! Writing rows by a layout, and reading them back by it.

use std::path::Path;

use crate::intake::{self};
use crate::model::price::push_scaled;
use crate::model::time::written::push_parts;
use crate::model::time::{DAY, HOUR, MINUTE, Micros, SECOND, civil_from_days, day_of};
use crate::model::{Clock, Columns, Field, SeriesName};
use crate::model::{DateOrder, Delimiter, Layout, Precision, Since1970, Use};
use crate::{Error, Result};

/// Turns rows into lines as a layout has them.
pub struct LayoutWriter<'a> {
    layout: &'a Layout,
    clock: Clock,
    symbol: String,
}

impl<'a> LayoutWriter<'a> {
    /// A writer of rows with these fields; times are written in the layout's own clock, else in `clock`.
    ///
    /// # Errors
    /// Where the layout has a column that the series cannot fill.
    pub fn new(
        layout: &'a Layout,
        clock: &Clock,
        series: &SeriesName,
        fields: &[Field],
    ) -> Result<LayoutWriter<'a>> {
        for used in &layout.columns {
            let fault = match used {
                Use::Field(f) if !fields.contains(f) => format!("{series} has no {}", f.name()),
                Use::Value(_) => "it is one of dated facts".into(),
                Use::DayMillis => "the date would have to stand in the file's name".into(),
                _ => continue,
            };
            return Err(Error::arguments(format!(
                "The layout does not fit: {fault}; choose another layout."
            )));
        }
        let clock = layout.clock.clone().unwrap_or_else(|| clock.clone());
        Ok(LayoutWriter { layout, clock, symbol: series.instrument.clone() })
    }

    /// The clock of the times as they are written.
    pub fn clock(&self) -> &Clock {
        &self.clock
    }

    fn mark(&self) -> u8 {
        match self.layout.delimiter {
            Delimiter::Mark(mark) => mark,
            Delimiter::Blanks => b' ',
        }
    }

    /// What stands before the rows. Lines above a header are left empty: what they said is not known.
    pub fn begin(&self, out: &mut Vec<u8>) {
        out.extend(std::iter::repeat_n(b'\n', self.layout.skip));
        if let Some(names) = &self.layout.header {
            for (i, name) in names.iter().enumerate() {
                if i > 0 {
                    out.push(self.mark());
                }
                out.extend_from_slice(name.as_bytes());
            }
            out.push(b'\n');
        }
    }

    /// The rows, each on a line of its own.
    pub fn rows(&self, rows: &Columns, out: &mut Vec<u8>) {
        for i in 0..rows.len() {
            let wall = self.clock.to_wall(rows.time[i]);
            for (c, used) in self.layout.columns.iter().enumerate() {
                if c > 0 {
                    out.push(self.mark());
                }
                self.cell(used, rows, i, wall, out);
            }
            out.push(b'\n');
        }
    }

    fn cell(&self, used: &Use, rows: &Columns, i: usize, wall: Micros, out: &mut Vec<u8>) {
        let number = |n: i64, out: &mut Vec<u8>| push_scaled(out, n, 0);
        match used {
            Use::Skip | Use::Value(_) | Use::DayMillis => {}
            Use::Moment => {
                push_date(out, wall, self.layout);
                let blanks = self.layout.delimiter == Delimiter::Blanks;
                out.push(if blanks { b'T' } else { self.layout.marks.between });
                push_time(out, wall, self.layout);
            }
            Use::Date => push_date(out, wall, self.layout),
            Use::Time => push_time(out, wall, self.layout),
            Use::Unix(Since1970::Seconds) if rows.time[i] % SECOND == 0 => number(rows.time[i] / SECOND, out),
            Use::Unix(Since1970::Seconds) => push_scaled(out, rows.time[i], 6),
            Use::Unix(Since1970::Millis) if rows.time[i] % 1000 == 0 => number(rows.time[i] / 1000, out),
            Use::Unix(Since1970::Millis) => push_scaled(out, rows.time[i], 3),
            Use::Unix(Since1970::Micros) => number(rows.time[i], out),
            Use::Unix(Since1970::Nanos) => number(rows.time[i].saturating_mul(1000), out),
            Use::DayNumber => out.extend(format!("{:.9}", wall as f64 / DAY as f64 + 25_569.0).bytes()),
            Use::Symbol => out.extend_from_slice(self.symbol.as_bytes()),
            Use::Field(field) => {
                let from = out.len();
                if let Some(value) = rows.cells(*field).get(i) {
                    push_scaled(out, value, rows.scale.of(*field));
                }
                if self.layout.numbers.decimal == b',' {
                    out[from..].iter_mut().filter(|c| **c == b'.').for_each(|c| *c = b',');
                }
            }
        }
    }
}

fn push_date(out: &mut Vec<u8>, wall: Micros, layout: &Layout) {
    let (y, m, d) = civil_from_days(day_of(wall));
    let parts = match layout.dates {
        DateOrder::YearFirst => [(y, 4), (m, 2), (d, 2)],
        DateOrder::DayFirst => [(d, 2), (m, 2), (y, 4)],
        DateOrder::MonthFirst => [(m, 2), (d, 2), (y, 4)],
    };
    // Dates without marks are read year first, whatever else a layout says.
    let parts = if layout.marks.date.is_none() { [(y, 4), (m, 2), (d, 2)] } else { parts };
    push_parts(out, &parts, layout.marks.date);
}

/// A time of day as far as the layout writes it, and farther where the row needs it.
fn push_time(out: &mut Vec<u8>, wall: Micros, layout: &Layout) {
    let t = wall.rem_euclid(DAY);
    let needed = match t {
        t if t % MINUTE == 0 => Precision::Minutes,
        t if t % SECOND == 0 => Precision::Seconds,
        t if t % 1000 == 0 => Precision::Millis,
        _ => Precision::Micros,
    };
    let precision = needed.max(layout.marks.precision);
    let parts = [(t / HOUR, 2), (t / MINUTE % 60, 2), (t / SECOND % 60, 2)];
    let shown = if precision == Precision::Minutes { &parts[..2] } else { &parts[..] };
    push_parts(out, shown, layout.marks.time);
    let fraction = match precision {
        Precision::Minutes | Precision::Seconds => return,
        Precision::Millis => (t % SECOND / 1000, 3),
        Precision::Micros => (t % SECOND, 6),
    };
    out.push(b'.');
    push_parts(out, &[fraction], None);
}

/// True where a file, read by the layout as intake reads it, holds exactly these rows; only the columns
/// the layout has are compared.
pub fn holds(
    path: &Path,
    layout: &Layout,
    clock: &Clock,
    like: &Columns,
    mut rows: impl Iterator<Item = Result<Columns>>,
) -> Result<bool> {
    let fields = layout.fields();
    let mut expected = Columns::empty(&fields, like.scale);
    let mut equal = true;
    let rejected = intake::read_back(path, layout, clock, like.scale, |back| {
        while expected.len() < back.len()
            && let Some(piece) = rows.next()
        {
            expected.append(&piece?.with_fields(&fields));
        }
        let same = back.len() <= expected.len() && expected.rows(0..back.len()) == *back;
        equal &= same;
        if same {
            expected = expected.rows(back.len()..expected.len());
        }
        Ok(equal)
    })?;
    let nothing_left = expected.is_empty() && rows.next().is_none();
    Ok(equal && rejected == 0 && nothing_left)
}
