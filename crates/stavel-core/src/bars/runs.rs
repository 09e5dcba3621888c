//! The fast way for rows that lack nothing: all rows of a bar at once, column by column.
//!
//! A piece goes this way where it is whole ([`WholeRows`]); every other piece goes row by row ([`super::rows`]), with
//! the same result. Builders that are given the same rows share what neighbouring rows come to: a stretch that lies in
//! one bar goes into it as a whole, any other row by row.

use std::ops::Range;

use super::builder::Builder;
use super::cut::Cut;
use super::part::Part;
use super::stretch::{Stretch, WholeRows, rows_before};
use crate::model::time::HOUR;
use crate::model::{Columns, Micros, Shape};

/// Rows that builders take in turn: few enough to stay in a core's own memory while all of them look at them.
const AT_ONCE: usize = 4096;

/// Gives several builders the same rows, to each from a row of its own on.
pub fn push_to_all(builders: &mut [Builder], rows: &Columns, begins: &[usize]) {
    for at in (0..rows.len()).step_by(AT_ONCE) {
        let end = (at + AT_ONCE).min(rows.len());
        let all_take_all = begins.iter().all(|begin| *begin <= at);
        if all_take_all && builders.len() > 1 && push_shared(builders, rows, at..end) {
            continue;
        }
        for (builder, begin) in builders.iter_mut().zip(begins) {
            builder.push_range(rows, at.max(*begin).min(end)..end);
        }
    }
}

/// Gives builders rows by what neighbouring ones come to; false where they have to be given to each by itself.
fn push_shared(builders: &mut [Builder], rows: &Columns, range: Range<usize>) -> bool {
    let Some(first) = builders.first() else { return true };
    let is_like_first =
        |b: &Builder| b.side == first.side && b.times == first.times && matches!(b.cut, Cut::Time(_));
    if !builders.iter().all(is_like_first) {
        return false;
    }
    let Some(whole) = first.whole(&Part { rows, range }) else { return false };
    // Longer stretches would cross the ends of sessions, which lie on any hour of a day.
    let shortest = builders.iter().filter_map(Builder::length).min().unwrap_or(HOUR).min(HOUR);
    let stretches = whole.stretches(shortest);
    for builder in builders {
        builder.saw(whole.time);
        stretches.iter().for_each(|stretch| builder.push_stretch(&whole, stretch));
    }
    true
}

impl Builder {
    /// Rows as columns that lack nothing; none where they have to go one by one.
    fn whole<'a>(&self, rows: &Part<'a>) -> Option<WholeRows<'a>> {
        match rows.rows.shape() {
            Shape::Bars if !self.has_means => WholeRows::of_bars(rows),
            Shape::Quotes => WholeRows::of_quotes(rows, self.side, self.times),
            _ => None,
        }
    }

    /// Takes rows; false where they have to go one by one.
    pub(super) fn push_in_runs(&mut self, rows: &Part<'_>) -> bool {
        let whole = match self.cut {
            Cut::Time(_) => self.whole(rows),
            Cut::Count { .. } => None,
        };
        let Some(whole) = whole else { return false };
        self.push_whole(&whole, 0..whole.time.len());
        true
    }

    fn push_whole(&mut self, whole: &WholeRows<'_>, rows: Range<usize>) {
        let mut row = rows.start;
        while row < rows.end {
            let (is_close, end) = self.bar_at(whole, row);
            let next = row + rows_before(&whole.time[row..rows.end], end).max(1);
            if let Some(now) = &mut self.now {
                whole.add(&whole.stretch(row..next), now, is_close);
            }
            row = next;
        }
    }

    /// Takes the rows of a stretch: at once where all of them lie in one bar.
    #[inline(always)]
    fn push_stretch(&mut self, whole: &WholeRows<'_>, stretch: &Stretch) {
        let (is_close, end) = self.bar_at(whole, stretch.rows.start);
        match &mut self.now {
            Some(now) if stretch.last < end => whole.add(stretch, now, is_close),
            _ => self.push_whole(whole, stretch.rows.clone()),
        }
    }

    /// Has the bar of a row open; tells whether prices count as closes, and until when rows go into it in that way.
    #[inline(always)]
    fn bar_at(&mut self, whole: &WholeRows<'_>, row: usize) -> (bool, Micros) {
        let time = whole.time[row];
        let (is_close, until) = self.close_counts(time);
        let end = match &self.now {
            Some(now) if now.span.holds(time) => now.span.to,
            _ => self.open_bar(&whole.first_row(row)).span.to,
        };
        (is_close, end.min(until))
    }
}
