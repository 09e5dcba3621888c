//! Ticks of several legs, each as of its last one.

use std::collections::BTreeMap;

use crate::Result;
use crate::formula::{Interval, LegPrice};
use crate::model::price::unit;
use crate::model::provenance::LegsLeft;
use crate::model::time::{DAY, civil_from_days, day_of, days_from_civil};
use crate::model::{ABSENT, Columns, Field, Micros, Span};
use crate::store::{ReadAhead, SeriesInfo, Shelf, ahead};

/// The two prices of a leg at many moments; the same where it has one.
#[derive(Debug, Clone, Default)]
pub(super) struct LegPrices {
    pub bid: Vec<f64>,
    pub ask: Vec<f64>,
}

impl LegPrices {
    /// The span that a price lies in, in a row. A crossed quote leaves it open which side is which.
    pub fn span(&self, row: usize, price: LegPrice) -> Interval {
        let (bid, ask) = (self.bid[row], self.ask[row]);
        match price {
            LegPrice::Both => Interval::new(bid.min(ask), bid.max(ask)),
            LegPrice::Bid | LegPrice::Last | LegPrice::Close => Interval::of(bid),
            LegPrice::Ask => Interval::of(ask),
            LegPrice::Mid => Interval::of((bid + ask) / 2.0),
        }
    }
}

/// Moments at which every leg has a price that holds.
#[derive(Debug, Clone, Default)]
pub(super) struct Joined {
    pub time: Vec<Micros>,
    /// Of ticks one set; of bars those of open, high, low and close. In each a leg after the other.
    pub sets: Vec<Vec<LegPrices>>,
}

impl Joined {
    pub fn of(sets: usize, legs: usize) -> Joined {
        Joined { time: Vec::new(), sets: vec![vec![LegPrices::default(); legs]; sets] }
    }
}

/// What made no row, by the month.
pub(super) struct LeftByMonth {
    months: BTreeMap<String, LegsLeft>,
    month: Span,
    now: LegsLeft,
    legs: usize,
    /// Moments before this were counted already.
    from: Micros,
    counted: LegsLeft,
}

/// The month of the world's time that a moment lies in.
pub(super) fn month_of(time: Micros) -> Span {
    let (year, month, _) = civil_from_days(day_of(time));
    let (next_year, next_month) = if month == 12 { (year + 1, 1) } else { (year, month + 1) };
    Span::new(days_from_civil(year, month, 1) * DAY, days_from_civil(next_year, next_month, 1) * DAY)
}

/// The name of a month: `2024-03`.
pub(super) fn name_of_month(time: Micros) -> String {
    let (year, month, _) = civil_from_days(day_of(time));
    format!("{year:04}-{month:02}")
}

impl LeftByMonth {
    /// Of so many legs, from a moment on; the months before it are known.
    pub fn after(months: BTreeMap<String, LegsLeft>, from: Micros, legs: usize) -> LeftByMonth {
        let none = || LegsLeft::of(legs);
        LeftByMonth { months, month: Span::new(0, 0), now: none(), legs, from, counted: none() }
    }

    /// The count that a moment belongs to.
    #[inline]
    pub fn at(&mut self, time: Micros) -> &mut LegsLeft {
        if time < self.from {
            return &mut self.counted;
        }
        if !self.month.holds(time) {
            self.turn_to(time);
        }
        &mut self.now
    }

    #[cold]
    fn turn_to(&mut self, time: Micros) {
        self.put_away();
        self.month = month_of(time);
    }

    fn put_away(&mut self) {
        let now = std::mem::replace(&mut self.now, LegsLeft::of(self.legs));
        if now.sum() > 0 {
            let month = name_of_month(self.month.from);
            self.months.entry(month).or_insert_with(|| LegsLeft::of(self.legs)).add(&now);
        }
    }

    /// With those that were counted elsewhere.
    pub fn and(mut self, other: LeftByMonth) -> LeftByMonth {
        for (month, more) in other.finish() {
            self.months.entry(month).or_insert_with(|| LegsLeft::of(self.legs)).add(&more);
        }
        self
    }

    /// What made no row in each month.
    pub fn finish(mut self) -> BTreeMap<String, LegsLeft> {
        self.put_away();
        self.months
    }
}

/// The ticks of a leg, with its last prices.
struct TickStream {
    pieces: ReadAhead,
    fields: [Field; 2],
    time: Vec<Micros>,
    bids: Vec<i64>,
    asks: Vec<i64>,
    at: usize,
    /// The time of its next row; [`Micros::MAX`] where none follows.
    next: Micros,
    /// Points in one.
    unit: f64,
    bid: f64,
    ask: f64,
    /// When each side was last told; [`Micros::MIN`] before that.
    bid_time: Micros,
    ask_time: Micros,
    /// From its first row to its last.
    span: Span,
}

impl TickStream {
    fn of(shelf: &Shelf, info: &SeriesInfo, fields: [Field; 2], from: Micros) -> Result<TickStream> {
        let rows = shelf.scan(&info.edition, Span::new(from, Micros::MAX), Some(&fields))?;
        let mut stream = TickStream {
            pieces: ahead(rows),
            fields,
            time: Vec::new(),
            bids: Vec::new(),
            asks: Vec::new(),
            at: 0,
            next: Micros::MAX,
            unit: unit(info.edition.scale.price) as f64,
            bid: 0.0,
            ask: 0.0,
            bid_time: Micros::MIN,
            ask_time: Micros::MIN,
            span: Span::new(info.edition.first, info.edition.last.saturating_add(1)),
        };
        stream.load()?;
        Ok(stream)
    }

    #[cold]
    fn load(&mut self) -> Result<()> {
        loop {
            let Some(piece) = self.pieces.next() else {
                self.next = Micros::MAX;
                return Ok(());
            };
            let piece: Columns = piece?;
            if let Some(first) = piece.time.first() {
                self.next = *first;
                let [bids, asks] = self.fields.map(|field| piece.column(field).to_vec());
                (self.time, self.bids, self.asks, self.at) = (piece.time, bids, asks, 0);
                return Ok(());
            }
        }
    }

    /// Takes its rows of a moment; the last one counts. A side that a row lacks stays as it was.
    #[inline]
    fn take(&mut self, moment: Micros) -> Result<()> {
        while self.next == moment {
            let (bid, ask) = (self.bids[self.at], self.asks[self.at]);
            if bid != ABSENT {
                (self.bid, self.bid_time) = (bid as f64 / self.unit, moment);
            }
            if ask != ABSENT {
                (self.ask, self.ask_time) = (ask as f64 / self.unit, moment);
            }
            self.at += 1;
            match self.time.get(self.at) {
                Some(next) => self.next = *next,
                None => self.load()?,
            }
        }
        Ok(())
    }
}

/// Goes through the ticks of all legs together, in order of time.
pub(super) struct TickJoin {
    streams: Vec<TickStream>,
    /// How long a price holds.
    stale: Micros,
}

impl TickJoin {
    /// From a moment on; `fields` are those of the bid and the ask of each leg, the same where one price is wanted.
    pub fn of(
        shelf: &Shelf,
        legs: &[SeriesInfo],
        fields: &[[Field; 2]],
        from: Micros,
        stale: Micros,
    ) -> Result<TickJoin> {
        let stream = |(leg, fields): (&SeriesInfo, &[Field; 2])| TickStream::of(shelf, leg, *fields, from);
        let streams = legs.iter().zip(fields).map(stream).collect::<Result<_>>()?;
        Ok(TickJoin { streams, stale })
    }

    /// The next moments, up to so many; those before `from` only set prices. Empty at the end.
    ///
    /// # Errors
    /// Where the rows cannot be read.
    pub fn next(&mut self, most: usize, from: Micros, left: &mut LeftByMonth) -> Result<Joined> {
        let mut out = Joined::of(1, self.streams.len());
        while out.time.len() < most {
            let moment = self.streams.iter().map(|s| s.next).min().unwrap_or(Micros::MAX);
            if moment == Micros::MAX {
                break;
            }
            for stream in &mut self.streams {
                stream.take(moment)?;
            }
            if moment < from || self.is_lacking(moment, left) {
                continue;
            }
            out.time.push(moment);
            for (stream, prices) in self.streams.iter().zip(&mut out.sets[0]) {
                prices.bid.push(stream.bid);
                prices.ask.push(stream.ask);
            }
        }
        Ok(out)
    }

    /// True where a leg has no price that holds, which is counted for the first such leg.
    #[inline]
    fn is_lacking(&self, moment: Micros, left: &mut LeftByMonth) -> bool {
        for (leg, stream) in self.streams.iter().enumerate() {
            // A side that was not told for long does not hold, however new the other is.
            let oldest = stream.bid_time.min(stream.ask_time);
            let (has_both, is_stale) = (oldest > Micros::MIN, moment.saturating_sub(oldest) > self.stale);
            if has_both && !is_stale {
                continue;
            }
            let left = left.at(moment);
            match (stream.span.holds(moment), has_both) {
                (false, _) => left.outside[leg] += 1,
                (true, false) => left.missing[leg] += 1,
                (true, true) => left.stale[leg] += 1,
            }
            return true;
        }
        false
    }
}
