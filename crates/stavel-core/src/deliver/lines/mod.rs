//! Rows as lines of a layout, and lines read back as rows.

mod cells;
mod encoding;
mod tables;

use std::ops::Range;

use super::RowsAsText;
use super::rounding::is_nearest;
use crate::intake::Parser;
use crate::model::layout::SpreadUnit;
use crate::model::moment_text::MomentWriter;
use crate::model::{Clock, Columns, Field, Frame, Layout, Micros, Scale, SeriesName, Stamp, Use};
use crate::{Error, Result};

use cells::{CellWriter, LineCell};
pub use cells::{unwritable, without_formula};
use encoding::{decoded, encoded};

/// Turns rows into lines as a layout has them, and reads such lines back by the parser of intake.
pub struct LayoutLines {
    layout: Layout,
    clock: Clock,
    series: SeriesName,
    stamp: Stamp,
    scale: Scale,
    cells: Vec<LineCell>,
    reader: Parser,
    /// Decimals of the numbers in the file, which may be fewer than those of the series.
    written: Scale,
    /// The columns of the series that the layout has, in the order the reader gives them.
    compared: Vec<(usize, Field)>,
}

impl LayoutLines {
    /// Lines of a series with these fields; times are written in the layout's own clock, else in `clock`.
    ///
    /// # Errors
    /// Where the layout has a column that the series cannot fill, or says what cannot be written.
    pub fn new(
        layout: &Layout,
        clock: &Clock,
        series: &SeriesName,
        (fields, scale): (&[Field], Scale),
    ) -> Result<LayoutLines> {
        let layout = layout.with_values(fields);
        let misfit = |fault: String| {
            Err(Error::arguments(format!("The layout does not fit: {fault}; choose another layout.")))
        };
        for used in &layout.columns {
            match used {
                Use::Field(f) if !fields.contains(f) => {
                    return misfit(format!("{series} has no {}", f.name()));
                }
                Use::Value(_) => return misfit("it is one of dated facts".into()),
                Use::DayMillis => return misfit("the date would have to stand in the file's name".into()),
                _ => {}
            }
        }
        let is_time_alone = layout.columns.contains(&Use::Time) && !layout.columns.contains(&Use::Date);
        if is_time_alone && !layout.columns.contains(&Use::Moment) {
            return misfit("it has times of day and no dates".into());
        }
        let is_twice = |(i, used): &(usize, &Use)| **used != Use::Skip && layout.columns[..*i].contains(used);
        if let Some((_, twice)) = layout.columns.iter().enumerate().find(is_twice) {
            return misfit(format!("it has {} twice, and reading takes a column once", twice.word()));
        }
        let stamp = layout.writing.stamp.unwrap_or_default();
        let clock = layout.clock.clone().unwrap_or_else(|| clock.clone());
        refuse_stamp(&layout, stamp, series.frame)?;
        let written = Scale {
            price: layout.writing.decimals.unwrap_or(scale.price),
            volume: layout.writing.volume_decimals.unwrap_or(scale.volume),
        };
        let cells = layout.columns.iter().map(|used| LineCell::of(used, &layout, fields, (scale, written)));
        let read = layout.fields();
        let place = |f: &Field| fields.iter().position(|have| have == f).map(|at| (at, *f));
        Ok(LayoutLines {
            cells: cells.collect(),
            reader: Parser::new(&layout, written),
            compared: read.iter().filter_map(place).collect(),
            series: series.clone(),
            layout,
            clock,
            stamp,
            scale,
            written,
        })
    }

    /// The layout with the columns of the series.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// The clock of the times as they are written.
    pub fn clock(&self) -> &Clock {
        &self.clock
    }

    /// True where times are written so that each tells its moment, whatever the clock.
    pub fn tells_moments(&self) -> bool {
        self.layout.writing.offsets || self.layout.columns.iter().any(|used| matches!(used, Use::Unix(_)))
    }

    /// The fields whose numbers are written with fewer decimals than they have.
    pub fn coarser(&self) -> Vec<Field> {
        let is_coarser = |f: &Field| self.decimals(&self.written, *f) < self.decimals(&self.scale, *f);
        self.compared.iter().map(|(_, f)| *f).filter(is_coarser).collect()
    }

    /// The moment that is written for a bar or tick, in UTC, and the time of the wall.
    fn stamped(&self, t: Micros, times: &mut MomentWriter<'_>) -> (Micros, Micros) {
        let frame = self.series.frame;
        if self.stamp == Stamp::Open || !frame.is_bars() {
            return (t, times.wall(t));
        }
        if frame.is_of_days() {
            // Bars of days end where their last day does on the wall.
            let open = times.wall(t);
            let close = self.stamp.written(frame, open).unwrap_or(open);
            return (self.clock.from_wall(close).settle(), close);
        }
        let close = t + frame.length();
        (close, times.wall(close))
    }

    /// The moment of a row as it stands in the file, for messages.
    pub fn as_written(&self, rows: &Columns, row: usize) -> String {
        let mut text = Vec::new();
        self.push_plain(rows, row..row + 1, &mut text);
        String::from_utf8_lossy(&text).trim_end().to_owned()
    }

    fn push_plain(&self, rows: &Columns, range: Range<usize>, out: &mut Vec<u8>) -> u64 {
        let mut times = MomentWriter::new(&self.clock);
        let mut writer = CellWriter::new(&self.layout, &self.series.instrument);
        let end = self.layout.writing.line_end.bytes();
        out.reserve(range.len() * (8 + 12 * self.cells.len()));
        for i in range {
            writer.at(self.stamped(rows.time[i], &mut times));
            for (c, cell) in self.cells.iter().enumerate() {
                if c > 0 {
                    out.push(writer.mark());
                }
                writer.push(cell, rows, i, out);
            }
            out.extend_from_slice(end);
        }
        writer.rounded
    }

    /// True where a field has as many decimals in the file as in the series.
    fn is_whole(&self, field: Field) -> bool {
        self.decimals(&self.scale, field) == self.decimals(&self.written, field)
    }

    /// The decimals of a field's numbers, in the unit that the layout writes spreads in.
    fn decimals(&self, scale: &Scale, field: Field) -> u8 {
        match (field.is_spread(), self.layout.spreads) {
            (true, SpreadUnit::Prices) => scale.price,
            _ => scale.of(field),
        }
    }

    /// True where a value read back is that of the series: the same, or the nearest of fewer decimals.
    fn is_value(&self, read: i64, value: i64, field: Field) -> bool {
        is_nearest(read, value, self.decimals(&self.scale, field), self.decimals(&self.written, field))
    }
}

/// Bars stamped at a close that no calendar or reader tells.
fn refuse_stamp(layout: &Layout, stamp: Stamp, frame: Frame) -> Result<()> {
    if stamp == Stamp::Open || !frame.is_bars() {
        return Ok(());
    }
    let names_moments = layout.writing.offsets || layout.columns.iter().any(|u| matches!(u, Use::Unix(_)));
    let is_of_many = stamp.written(frame, 0).is_none();
    if frame.is_of_days() && names_moments || is_of_many {
        return Err(Error::arguments(format!(
            "Bars of {frame} stamped at their close would not be read back as they are{}; stamp them at the open.",
            if is_of_many { ": nothing tells where such a bar ends" } else { " from times with offsets" }
        )));
    }
    Ok(())
}

impl RowsAsText for LayoutLines {
    /// Lines above a header are left empty: what they said is not known.
    fn head(&self) -> Vec<u8> {
        let mut out = vec![b'\n'; self.layout.skip];
        if let Some(names) = &self.layout.header {
            let writer = CellWriter::new(&self.layout, &self.series.instrument);
            for (i, name) in names.iter().enumerate() {
                if i > 0 {
                    out.push(writer.mark());
                }
                writer.push_name(name, &mut out);
            }
            out.extend_from_slice(self.layout.writing.line_end.bytes());
        }
        encoded(out, self.layout.writing.encoding, true)
    }

    fn tail(&self, _has_rows: bool) -> Vec<u8> {
        Vec::new()
    }

    fn push_rows(&self, rows: &Columns, range: Range<usize>, _is_first: bool, out: &mut Vec<u8>) -> u64 {
        let rounded = self.push_plain(rows, range, out);
        *out = encoded(std::mem::take(out), self.layout.writing.encoding, false);
        rounded
    }

    fn holds(&self, text: &[u8], rows: &Columns, range: Range<usize>, _is_first: bool) -> bool {
        let Some(text) = decoded(text, self.layout.writing.encoding) else { return false };
        let back = self.reader.block(&text);
        let is_of_series = match self.layout.columns.contains(&Use::Symbol) {
            true => back.symbols == [self.series.instrument.as_bytes()],
            false => true,
        };
        if !is_of_series || !back.rejects.is_empty() || back.rows.len() != range.len() {
            return false;
        }
        let times = &rows.time[range.clone()];
        let as_they_are = self.clock == Clock::utc() && self.stamp == Stamp::Open;
        if as_they_are && back.rows.time != times {
            return false;
        }
        let mut wall = MomentWriter::new(&self.clock);
        let moments = self.tells_moments();
        let is_time = |(read, t): (&Micros, &Micros)| {
            let (moment, wall) = self.stamped(*t, &mut wall);
            *read == if moments { moment } else { wall }
        };
        let is_column = |(read, (at, field)): (&Vec<i64>, &(usize, Field))| {
            let values = &rows.data[*at][range.clone()];
            match self.is_whole(*field) {
                true => read == values,
                false => read.iter().zip(values).all(|(r, v)| self.is_value(*r, *v, *field)),
            }
        };
        (as_they_are || back.rows.time.iter().zip(times).all(is_time))
            && back.rows.data.iter().zip(&self.compared).all(is_column)
    }
}
