//! Ticks of several legs, each as of its last one.

use std::collections::BTreeMap;

use crate::Result;
use crate::model::columns::shape_of;
use crate::model::price::unit;
use crate::model::provenance::LegsLeft;
use crate::model::time::{DAY, civil_from_days, day_of, days_from_civil};
use crate::model::{ABSENT, Columns, Field, Micros, Shape, Span};
use crate::store::{ReadAhead, SeriesInfo, Shelf, ahead};

/// The two prices of a leg at many moments; the same where it has one.
#[derive(Debug, Clone, Default)]
pub(super) struct LegPrices {
    pub bid: Vec<f64>,
    pub ask: Vec<f64>,
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
    has_bid: bool,
    has_ask: bool,
    /// When it last had a price.
    last: Micros,
    /// From its first row to its last.
    span: Span,
}

impl TickStream {
    fn of(shelf: &Shelf, info: &SeriesInfo, from: Micros) -> Result<TickStream> {
        let has = |field: Field| info.edition.fields.contains(&field);
        let fields = match shape_of(&info.edition.fields) {
            Shape::Trades => [Field::Last, Field::Last],
            _ if !has(Field::Ask) => [Field::Bid, Field::Bid],
            _ => [Field::Bid, Field::Ask],
        };
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
            has_bid: false,
            has_ask: false,
            last: Micros::MIN,
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
                (self.bid, self.has_bid) = (bid as f64 / self.unit, true);
            }
            if ask != ABSENT {
                (self.ask, self.has_ask) = (ask as f64 / self.unit, true);
            }
            if bid != ABSENT || ask != ABSENT {
                self.last = moment;
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
    /// From a moment on.
    pub fn of(shelf: &Shelf, legs: &[SeriesInfo], from: Micros, stale: Micros) -> Result<TickJoin> {
        let streams = legs.iter().map(|leg| TickStream::of(shelf, leg, from)).collect::<Result<_>>()?;
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
            let (has_both, is_stale) =
                (stream.has_bid && stream.has_ask, moment.saturating_sub(stream.last) > self.stale);
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
