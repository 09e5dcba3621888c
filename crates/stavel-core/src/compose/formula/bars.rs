//! Bars of several legs that begin at one time.

use super::join::{Joined, LeftByMonth};
use crate::Result;
use crate::model::price::unit;
use crate::model::{Bar, BarView, Field, Micros, Span};
use crate::store::{Cursor, ReadAhead, SeriesInfo, Shelf, ahead};

/// A bar and how far its ask lies above it.
#[derive(Clone, Copy)]
struct LegBar {
    bar: Bar,
    spread: Option<i64>,
}

struct BarStream {
    rows: Cursor<ReadAhead>,
    /// The time of its next bar; [`Micros::MAX`] where none follows.
    next: Micros,
    unit: f64,
    /// True where both its sides are wanted.
    wants_spread: bool,
    last: Option<(Micros, LegBar)>,
    /// From its first row to its last.
    span: Span,
}

impl BarStream {
    /// The bar of a moment, where it has one with all its prices.
    fn take(&mut self, moment: Micros) -> Result<Option<LegBar>> {
        let mut taken = None;
        while self.next == moment {
            let (view, at) = (BarView::new(self.rows.rows()), self.rows.at());
            taken = view.bar(at).map(|bar| LegBar { bar, spread: view.spread.get(at) });
            self.rows.pass(1);
            self.next = self.rows.time()?.unwrap_or(Micros::MAX);
        }
        if let Some(bar) = taken {
            self.last = Some((moment, bar));
        }
        Ok(taken)
    }

    /// A flat bar at the last close, while that holds.
    fn carried(&self, moment: Micros, stale: Micros) -> Option<LegBar> {
        let (_, last) = self.last.filter(|(time, _)| moment - time <= stale)?;
        Some(LegBar { bar: Bar::flat(last.bar.close), spread: last.spread })
    }
}

/// Goes through the bars of all legs together, in order of time.
pub(super) struct BarJoin {
    streams: Vec<BarStream>,
    /// How long a close stands in for bars that are missing.
    stale: Micros,
}

impl BarJoin {
    /// From a moment on; `two_sided` tells the legs of which both sides are wanted.
    pub fn of(
        shelf: &Shelf,
        legs: &[SeriesInfo],
        two_sided: &[bool],
        from: Micros,
        stale: Micros,
    ) -> Result<BarJoin> {
        let stream = |(leg, wants_spread): (&SeriesInfo, &bool)| {
            let fields = [Field::Open, Field::High, Field::Low, Field::Close, Field::Spread];
            let has = |field: &Field| leg.edition.fields.contains(field);
            let fields: Vec<Field> = fields.into_iter().filter(has).collect();
            let rows = shelf.scan(&leg.edition, Span::new(from, Micros::MAX), Some(&fields))?;
            let mut rows = Cursor::new(ahead(rows));
            Ok(BarStream {
                next: rows.time()?.unwrap_or(Micros::MAX),
                rows,
                unit: unit(leg.edition.scale.price) as f64,
                wants_spread: *wants_spread,
                last: None,
                span: Span::new(leg.edition.first, leg.edition.last.saturating_add(1)),
            })
        };
        let streams = legs.iter().zip(two_sided).map(stream).collect::<Result<_>>()?;
        Ok(BarJoin { streams, stale })
    }

    /// The next bars, up to so many; those before `from` only set what is carried. Empty at the end.
    ///
    /// # Errors
    /// Where the rows cannot be read.
    pub fn next(&mut self, most: usize, from: Micros, left: &mut LeftByMonth) -> Result<Joined> {
        let mut out = Joined::of(4, self.streams.len());
        let mut bars: Vec<Option<LegBar>> = vec![None; self.streams.len()];
        let mut is_carried = vec![false; self.streams.len()];
        while out.time.len() < most {
            let moment = self.streams.iter().map(|s| s.next).min().unwrap_or(Micros::MAX);
            if moment == Micros::MAX {
                break;
            }
            for ((stream, bar), is_carried) in self.streams.iter_mut().zip(&mut bars).zip(&mut is_carried) {
                let own = stream.take(moment)?;
                *is_carried = own.is_none();
                *bar = own.or_else(|| stream.carried(moment, self.stale));
            }
            if moment < from {
                continue;
            }
            if let Some(leg) = bars.iter().position(Option::is_none) {
                let left = left.at(moment);
                match self.streams[leg].span.holds(moment) {
                    true => left.missing[leg] += 1,
                    false => left.outside[leg] += 1,
                }
                continue;
            }
            let lacks_spread = |(s, bar): (&BarStream, &Option<LegBar>)| {
                s.wants_spread && bar.is_some_and(|b| b.spread.is_none())
            };
            if let Some(leg) = self.streams.iter().zip(&bars).position(lacks_spread) {
                left.at(moment).one_sided[leg] += 1;
                continue;
            }
            out.time.push(moment);
            for leg in (0..is_carried.len()).filter(|leg| is_carried[*leg]) {
                left.at(moment).carried[leg] += 1;
            }
            for (leg, (stream, bar)) in self.streams.iter().zip(&bars).enumerate() {
                let Some(LegBar { bar, spread }) = *bar else { continue };
                let above = spread.filter(|_| stream.wants_spread).unwrap_or(0) as f64 / stream.unit;
                for (set, price) in out.sets.iter_mut().zip([bar.open, bar.high, bar.low, bar.close]) {
                    let price = price as f64 / stream.unit;
                    set[leg].bid.push(price);
                    set[leg].ask.push(price + above);
                }
            }
        }
        Ok(out)
    }
}
