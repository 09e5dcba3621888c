//! Bars that somebody watches while a history plays: each is told when it is over, and not before.

use std::ops::Range;

use super::replay::Replay;
use crate::bars::{Builder, Grid, can_build};
use crate::model::{BarView, Columns, Field, Frame, Micros, Session, Side, Span};
use crate::{Error, Result};

/// A bar that is over; prices are bids in points.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WatchedBar {
    /// The place of its instrument.
    pub of: usize,
    /// Its frame.
    pub frame: Frame,
    /// When it begins.
    pub time: Micros,
    /// The first price.
    pub open: i64,
    /// The highest price.
    pub high: i64,
    /// The lowest price.
    pub low: i64,
    /// The last price.
    pub close: i64,
    /// What was traded in it, in units of its scale; none where rows say no volume.
    pub volume: Option<i64>,
}

/// One frame of one instrument.
struct Watched {
    of: usize,
    frame: Frame,
    /// The length of the rows; 0 for ticks.
    row: Micros,
    /// None where the rows are its bars.
    builder: Option<Builder>,
    grid: Grid,
    /// The bar that the last row lies in, and the time of that row.
    open: Option<(Span, Micros)>,
    told: Micros,
    over: Vec<WatchedBar>,
}

/// What is watched.
#[derive(Default)]
pub struct Watch {
    all: Vec<Watched>,
}

impl Watch {
    /// Watches bars of a frame of an instrument whose rows are at another, or at the same.
    ///
    /// # Errors
    /// Where such bars cannot be made of the rows, or are counted instead of timed.
    pub fn add(
        &mut self,
        of: usize,
        rows: &Columns,
        from: Frame,
        frame: Frame,
        session: &Session,
    ) -> Result<()> {
        if frame.is_counted() || frame.length() == 0 || frame != from && !can_build(from, frame) {
            return Err(Error::arguments(format!(
                "Bars of {frame} cannot be watched where {from} are played."
            )));
        }
        let builder = match frame == from {
            true => None,
            false => Some(Builder::new(from, frame, Side::Bid, &rows.fields, rows.scale, session)?),
        };
        let (row, grid) = (from.length(), Grid::new(frame, session));
        self.all.push(Watched {
            of,
            frame,
            row,
            builder,
            grid,
            open: None,
            told: Micros::MIN,
            over: Vec::new(),
        });
        Ok(())
    }

    /// True where nothing is watched.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// The last moment up to which, from the next quote on, no bar can end; that quote itself where it may end one.
    fn quiet_until(&mut self, next: Micros) -> Micros {
        let mut until = Micros::MAX;
        for watched in &mut self.all {
            let span = watched.open.map_or_else(|| watched.grid.bar_at(next).span, |(span, _)| span);
            let ends = match watched.builder {
                // Each row is a bar of its own.
                None => next,
                Some(_) if next >= span.to => next,
                Some(_) => span.to - 1,
            };
            until = until.min(ends);
        }
        until
    }

    fn take(&mut self, of: usize, rows: &Columns, range: Range<usize>) {
        for watched in self.all.iter_mut().filter(|watched| watched.of == of) {
            watched.take(rows, range.clone());
        }
    }

    /// Tells the bars that are over by a moment, in order of time.
    fn over_by(&mut self, quotes: impl Fn(usize) -> Micros) -> Vec<WatchedBar> {
        let mut over = Vec::new();
        for watched in &mut self.all {
            watched.close_by(quotes(watched.of));
            over.append(&mut watched.over);
        }
        over.sort_by_key(|bar| (bar.time + bar.frame.length(), bar.of));
        over
    }
}

impl Watched {
    fn take(&mut self, rows: &Columns, range: Range<usize>) {
        let Some(last) = range.clone().next_back() else { return };
        let bars = match &mut self.builder {
            None => rows.rows(range),
            Some(builder) => {
                builder.push_range(rows, range);
                builder.take_closed()
            }
        };
        self.tell(&bars);
        let time = rows.time[last];
        self.open = self.builder.as_ref().map(|_| (self.grid.bar_at(time).span, time));
    }

    /// Tells the bar that is open, where its time is over.
    fn close_by(&mut self, now: Micros) {
        let Some((span, last)) = self.open else { return };
        if now < span.to && last + self.row < span.to {
            return;
        }
        if let Some(bar) = self.builder.as_ref().map(Builder::open_so_far) {
            self.tell(&bar);
        }
    }

    fn tell(&mut self, bars: &Columns) {
        let view = BarView::new(bars);
        for row in 0..bars.len() {
            let time = bars.time[row];
            let Some(bar) = view.bar(row).filter(|_| time > self.told) else { continue };
            self.told = time;
            let (of, frame, volume) = (self.of, self.frame, bars.cells(Field::Volume).get(row));
            let (open, high, low, close) = (bar.open, bar.high, bar.low, bar.close);
            self.over.push(WatchedBar { of, frame, time, open, high, low, close, volume });
        }
    }
}

impl Replay {
    /// Plays the next quote: the watched bars that are over then.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn play_one(&mut self, watch: &mut Watch) -> Result<Vec<WatchedBar>> {
        let Some(next) = self.next_time() else { return Ok(Vec::new()) };
        self.watch_to(next, 1, &mut |of, rows, range| watch.take(of, rows, range))?;
        Ok(watch.over_by(|of| self.desk().quote(of).map_or(Micros::MIN, |quote| quote.time)))
    }

    /// Plays until a watched bar is over, or up to a moment: the bars that are over then; none at the end.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn play_to_bar(&mut self, watch: &mut Watch, until: Micros) -> Result<Vec<WatchedBar>> {
        while let Some(next) = self.next_time().filter(|next| *next <= until) {
            let stop = watch.quiet_until(next).min(until);
            let most = if stop == next { 1 } else { u64::MAX };
            self.watch_to(stop, most, &mut |of, rows, range| watch.take(of, rows, range))?;
            let over = watch.over_by(|of| self.desk().quote(of).map_or(Micros::MIN, |quote| quote.time));
            if !over.is_empty() {
                return Ok(over);
            }
        }
        Ok(Vec::new())
    }
}
