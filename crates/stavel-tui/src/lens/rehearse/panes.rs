//! The panes of a rehearsal: bars of one or several frames that grow in step, never with a row that is not over.

use std::ops::Range;
use std::sync::Arc;

use stavel_core::Result;
use stavel_core::bars::{Builder, can_build};
use stavel_core::job::Job;
use stavel_core::model::time::DAY;
use stavel_core::model::{BarView, Columns, Field, Frame, Instrument, Micros, Side, Span};
use stavel_core::rehearse::{PriceFactor, Tape};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_work::{ChartRoom, ChartSource, bars_for_chart};

/// Bars that a pane keeps: more than any screen has columns for.
const MOST_BARS: usize = 600;

/// A pane.
pub struct PlayPane {
    /// The place of its instrument.
    pub of: usize,
    pub frame: Frame,
    /// Bars that are over, and the one that is open as far as it was read.
    before: Columns,
    /// Takes the rows that are played; none where its frame is that of the rows.
    builder: Option<Builder>,
}

/// What a pane has to be read for: everything before the next row.
#[derive(Clone)]
pub struct PaneRead {
    pub of: usize,
    pub frame: Frame,
    pub info: SeriesInfo,
    pub instrument: Arc<Instrument>,
    /// The time of the next row: nothing from there on is read.
    pub until: Micros,
    pub factor: Option<PriceFactor>,
}

/// A frame where the rows of a series make such bars; else the rows are too long for it and are the bars themselves.
pub fn nearest_frame(info: &SeriesInfo, frame: Frame) -> Frame {
    let rows = info.name.frame;
    if rows == frame || can_build(rows, frame) { frame } else { rows }
}

impl PaneRead {
    /// Reads the bars before its moment.
    ///
    /// # Errors
    /// Where they cannot be read or made.
    pub fn read(&self, shelf: &Shelf, job: &Job) -> Result<PlayPane> {
        let rows_frame = self.info.name.frame;
        let reach = (self.frame.length().max(1) as f64 * MOST_BARS as f64 * 1.6) as Micros + 4 * DAY;
        let first = self.info.edition.first;
        let from = self.until.saturating_sub(reach).max(first);
        let builder = match self.frame == rows_frame {
            true => None,
            false => {
                let session = &self.instrument.sheet.session;
                let edition = &self.info.edition;
                Some(Builder::new(
                    rows_frame,
                    self.frame,
                    Side::Bid,
                    &edition.fields,
                    edition.scale,
                    session,
                )?)
            }
        };
        let before = match self.until > first {
            true => {
                let source = ChartSource::rows(&self.info);
                let span = Span::new(from, self.until);
                bars_for_chart(shelf, source, span, ChartRoom::Frame(self.frame), 0, job)?.bars
            }
            false => Columns::default(),
        };
        let before = match self.factor {
            Some(factor) => factor.rows(before),
            None => before,
        };
        let mut pane = PlayPane { of: self.of, frame: self.frame, before, builder };
        pane.forget_old();
        Ok(pane)
    }
}

impl PlayPane {
    /// Takes rows of its instrument that are over.
    pub fn take(&mut self, rows: &Columns, range: Range<usize>) {
        match &mut self.builder {
            None => {
                // No more than it keeps.
                let from = range.end.saturating_sub(MOST_BARS).max(range.start);
                self.add(&rows.rows(from..range.end));
            }
            Some(builder) => {
                builder.push_range(rows, range);
                let closed = builder.take_closed();
                self.add(&closed);
            }
        }
    }

    fn add(&mut self, bars: &Columns) {
        if bars.is_empty() {
            return;
        }
        if self.before.fields != bars.fields {
            self.before = std::mem::take(&mut self.before).with_fields(&bars.fields);
            self.before.scale = bars.scale;
        }
        self.before = joined(std::mem::take(&mut self.before), bars);
        self.forget_old();
    }

    fn forget_old(&mut self) {
        if self.before.len() > 2 * MOST_BARS {
            self.before = self.before.rows(self.before.len() - MOST_BARS..self.before.len());
        }
    }

    /// The last bars, with the one that grows; where a bar of the rows themselves is open, only its open is known.
    pub fn bars(&self, most: usize, tape: &Tape) -> Columns {
        let mut bars = self.before.rows(self.before.len().saturating_sub(most + 1)..self.before.len());
        if let Some(builder) = &self.builder {
            let open = builder.open_so_far();
            if bars.is_empty() {
                bars = Columns::empty(&open.fields, open.scale);
            }
            bars = joined(bars, &open.with_fields(&self.before_fields(builder)));
        }
        if let Some(open) = open_row(tape).filter(|_| !bars.is_empty()) {
            let row = flat(&open, self, &bars);
            bars = joined(bars, &row);
        }
        bars.rows(bars.len().saturating_sub(most)..bars.len())
    }

    fn before_fields(&self, builder: &Builder) -> Vec<Field> {
        if self.before.is_empty() { builder.fields().to_vec() } else { self.before.fields.clone() }
    }
}

/// Where the next bar begins that is longer than nineteen of twenty that were seen; none where no bar ahead is. What the bars
/// ahead look like is not told.
///
/// # Errors
/// Where they cannot be read.
pub fn next_long_bar(
    shelf: &Shelf,
    info: &SeriesInfo,
    frame: Frame,
    now: Micros,
    seen: &Columns,
    job: &Job,
) -> Result<Option<Micros>> {
    let lengths = |bars: &Columns| -> Vec<(Micros, i64)> {
        let view = BarView::new(bars);
        (0..view.len())
            .filter_map(|row| view.bar(row).map(|bar| (bars.time[row], bar.high - bar.low)))
            .collect()
    };
    let mut usual: Vec<i64> = lengths(seen).into_iter().map(|(_, length)| length).collect();
    usual.sort_unstable();
    let Some(long) = usual.get(usual.len() * 19 / 20).copied() else { return Ok(None) };
    let step = frame.length().max(1) * MOST_BARS as Micros;
    let mut from = now + 1;
    while from <= info.edition.last {
        let span = Span::new(from, from + step);
        let bars =
            bars_for_chart(shelf, ChartSource::rows(info), span, ChartRoom::Frame(frame), 0, job)?.bars;
        let found = lengths(&bars).into_iter().find(|(time, length)| *time > now && *length > long);
        if let Some((time, _)) = found {
            return Ok(Some(time));
        }
        from += step;
    }
    Ok(None)
}

/// Bars after bars; where the first of the others has the stamp of the last, it is the same bar going on.
fn joined(mut bars: Columns, more: &Columns) -> Columns {
    let same = more.time.first().is_some_and(|first| bars.time.last() == Some(first));
    if !same {
        bars.append(more);
        return bars;
    }
    let last = bars.len() - 1;
    if let (Some(a), Some(b)) = (BarView::new(&bars).bar(last), BarView::new(more).bar(0)) {
        for (field, value) in
            [(Field::High, a.high.max(b.high)), (Field::Low, a.low.min(b.low)), (Field::Close, b.close)]
        {
            if let Some(column) = bars.column_mut(field) {
                column[last] = value;
            }
        }
        let added = [Field::Volume, Field::TickCount].map(|field| (field, more.cells(field).get(0)));
        for (field, amount) in added {
            if let (Some(amount), Some(column)) = (amount, bars.column_mut(field)) {
                column[last] = stavel_core::model::present(column[last]).unwrap_or(0) + amount;
            }
        }
    }
    bars.append_range(more, 1..more.len());
    bars
}

/// The time and the price of a bar of the rows that has begun and is not over.
fn open_row(tape: &Tape) -> Option<(Micros, i64)> {
    let (piece, at) = tape.piece();
    let reach = piece.reach_of(at)?;
    Some((reach.from, *piece.bid.get(at.checked_sub(1)?)?))
}

/// A bar of one price; of a longer frame it goes on with the bar that is open.
fn flat(open: &(Micros, i64), pane: &PlayPane, like: &Columns) -> Columns {
    let length = pane.frame.length();
    let last = like.time.last().copied().unwrap_or(open.0);
    // Whether it begins a bar of its own is only known for plain frames; else it goes on with the last.
    let is_new = pane.builder.is_none() || length > 0 && open.0 >= last + length;
    let mut bar = Columns::empty(&like.fields, like.scale);
    bar.time.push(if is_new { open.0 } else { last });
    for (field, column) in like.fields.iter().zip(&mut bar.data) {
        let is_price = matches!(field, Field::Open | Field::High | Field::Low | Field::Close);
        column.push(if is_price { open.1 } else { stavel_core::model::columns::blank(*field) });
    }
    bar
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::{ABSENT, Scale};

    fn bars(rows: &[(i64, [i64; 4], i64)]) -> Columns {
        let fields = vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Volume];
        let mut out = Columns::empty(&fields, Scale { price: 5, volume: 0 });
        for (time, prices, volume) in rows {
            out.time.push(*time);
            let values = prices.iter().chain([volume]);
            out.data.iter_mut().zip(values).for_each(|(column, value)| column.push(*value));
        }
        out
    }

    #[test]
    fn a_bar_that_goes_on_is_one_bar() {
        let first = bars(&[(0, [5, 6, 4, 5], 2), (60, [5, 7, 5, 6], 3)]);
        let more = bars(&[(60, [6, 6, 2, 3], 4), (120, [3, 3, 3, 3], 1)]);
        let all = joined(first.clone(), &more);
        assert_eq!(all.time, [0, 60, 120]);
        let view = BarView::new(&all);
        let bar = view.bar(1).unwrap();
        assert_eq!((bar.open, bar.high, bar.low, bar.close), (5, 7, 2, 3));
        assert_eq!(all.column(Field::Volume), [2, 7, 1]);
        assert_eq!(joined(first.clone(), &bars(&[])), first);
        let unknown = joined(first, &bars(&[(60, [6, 6, 6, 6], ABSENT)]));
        assert_eq!(unknown.column(Field::Volume), [2, 3], "what is not known adds nothing");
    }
}
