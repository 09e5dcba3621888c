//! A history whose days or weeks stand in each other's places: another way it could have gone, with the same week.
//!
//! It is a block bootstrap that draws without putting back, the balanced bootstrap of A. C. Davison, D. V. Hinkley and
//! E. Schechtman ("Efficient bootstrap simulation", Biometrika 73, 1986): every stretch is used once, so each hour of the week
//! has the movement, the spreads and the volumes it had. Prices are carried on from stretch to stretch by their differences.

use std::cell::Cell;

use crate::chance::Chance;
use crate::model::stress::Stretches;
use crate::model::time::{monday_of, weekday};
use crate::model::{ABSENT, Columns, Field, Session, Span, present};
use crate::store::{Reader, SeriesInfo, Shelf};
use crate::{Error, Result};

/// A stretch of the history, with the price before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct HistoryStretch {
    span: Span,
    /// The weekday of a day; 0 for a week.
    kind: i64,
    /// The last price before it, or its first one; in points.
    before: i64,
    /// Its last price.
    last: i64,
    /// Its lowest price.
    least: i64,
}

/// The stretches of a history in their new order.
pub struct Shuffle {
    stretches: Vec<HistoryStretch>,
    /// For each place, the stretch that stands there.
    order: Vec<usize>,
    /// Rows that did not fit into the place where their stretch stands.
    cut: Cell<u64>,
}

impl Shuffle {
    /// Finds the stretches of a series, and draws their order.
    ///
    /// # Errors
    /// Where there are too few of them, prices would fall to 0, or rows cannot be read.
    pub fn of(
        shelf: &Shelf,
        source: &SeriesInfo,
        session: &Session,
        of: Stretches,
        seed: u64,
    ) -> Result<Shuffle> {
        let stretches = find_stretches(shelf, source, session, of)?;
        if stretches.len() < 2 {
            return Err(Error::input(format!(
                "{} has too few {of} that could stand in each other's places.",
                source.name
            )));
        }
        let order = draw_order(&stretches, seed);
        let shuffle = Shuffle { stretches, order, cut: Cell::new(0) };
        shuffle.refuse_below_zero(source)?;
        Ok(shuffle)
    }

    /// How far the prices of each place are from those of the stretch that stands there.
    fn moves(&self) -> Vec<i64> {
        let mut level = self.stretches.first().map_or(0, |first| first.before);
        let by = |at: &usize| {
            let of = &self.stretches[*at];
            let moved = level - of.before;
            level = of.last + moved;
            moved
        };
        self.order.iter().map(by).collect()
    }

    fn refuse_below_zero(&self, source: &SeriesInfo) -> Result<()> {
        let was_above = self.stretches.iter().all(|s| s.least > 0);
        let lows = self.order.iter().zip(self.moves()).map(|(at, moved)| self.stretches[*at].least + moved);
        match lows.min() {
            Some(least) if was_above && least <= 0 => Err(Error::input(format!(
                "Carried on by differences, the prices of {} would fall to 0 or below in that order; take another --seed, or make a variant of a shorter span first and shuffle that.",
                source.name
            ))),
            _ => Ok(()),
        }
    }

    /// How many rows did not fit: a day of 25 hours in the place of one of 24.
    pub fn cut(&self) -> u64 {
        self.cut.get()
    }

    /// The rows in their new order, stretch by stretch. Each stretch keeps the time since its beginning; what goes beyond the
    /// place it stands in is left away.
    pub fn rows(&self, reader: Reader) -> impl Iterator<Item = Result<Columns>> + '_ {
        let moves = self.moves();
        (0..self.order.len()).map(move |place| {
            let (from, to) = (self.stretches[self.order[place]].span, self.stretches[place].span);
            let mut out: Option<Columns> = None;
            for piece in reader.scan(from, None) {
                let piece = piece?;
                match &mut out {
                    Some(rows) => rows.append(&piece),
                    None => out = Some(piece),
                }
            }
            let mut rows = out.unwrap_or_default();
            rows.time.iter_mut().for_each(|t| *t = *t - from.from + to.from);
            let end = rows.time.partition_point(|t| *t < to.to);
            self.cut.set(self.cut.get() + (rows.len() - end) as u64);
            rows.truncate(end);
            for (_, column) in rows.fields.iter().zip(&mut rows.data).filter(|(f, _)| f.is_price()) {
                let there = column.iter_mut().filter(|v| **v != ABSENT);
                there.for_each(|v| *v += moves[place]);
            }
            Ok(rows)
        })
    }
}

/// The session days, or weeks of them, that have rows.
fn find_stretches(
    shelf: &Shelf,
    source: &SeriesInfo,
    session: &Session,
    of: Stretches,
) -> Result<Vec<HistoryStretch>> {
    let has = |f: &Field| source.edition.fields.contains(f);
    let Some(field) = [Field::Close, Field::Bid, Field::Last].into_iter().find(has) else {
        return Err(Error::input(format!("{} has no prices that could be carried on.", source.name)));
    };
    let mut out: Vec<HistoryStretch> = Vec::new();
    let mut last: Option<i64> = None;
    let fields = if has(&Field::Low) { vec![field, Field::Low] } else { vec![field] };
    for rows in shelf.scan(&source.edition, Span::ALL, Some(&fields))? {
        let rows = rows?;
        let prices = rows.column(field);
        let lows = if has(&Field::Low) { rows.column(Field::Low) } else { prices };
        let mut row = 0;
        while row < rows.len() {
            let day = session.clock.day_of(rows.time[row]);
            let (first, end, kind) = match of {
                Stretches::Days => (day, day + 1, weekday(day)),
                Stretches::Weeks => (monday_of(day), monday_of(day) + 7, 0),
            };
            let span = Span::new(session.day_span(first).from, session.day_span(end).from);
            let until = row + rows.time[row..].partition_point(|t| *t < span.to).max(1);
            let known = || prices[row..until].iter().copied().filter_map(present);
            if let (Some(begin), Some(finish)) = (known().next(), known().next_back()) {
                let least = lows[row..until].iter().copied().filter_map(present).fold(finish, i64::min);
                match out.last_mut() {
                    Some(stretch) if stretch.span == span => {
                        (stretch.last, stretch.least) = (finish, stretch.least.min(least));
                    }
                    _ => {
                        let before = last.unwrap_or(begin);
                        out.push(HistoryStretch { span, kind, before, last: finish, least });
                    }
                }
                last = Some(finish);
            }
            row = until;
        }
    }
    Ok(out)
}

/// Stretches of one kind in each other's places (Fisher and Yates).
fn draw_order(stretches: &[HistoryStretch], seed: u64) -> Vec<usize> {
    let mut order: Vec<usize> = (0..stretches.len()).collect();
    let mut chance = Chance::of(seed);
    for kind in 0..7 {
        let places: Vec<usize> = (0..stretches.len()).filter(|at| stretches[*at].kind == kind).collect();
        for left in (1..places.len()).rev() {
            let other = chance.below(left as u64 + 1) as usize;
            order.swap(places[left], places[other]);
        }
    }
    order
}
