//! The tape: quotes of one history in order of time, piece by piece.

use super::bar_ends::BarEnds;
use super::quote::TradeQuote;
use super::row_source::{Pieces, RowSource};
use super::spreads::{SpreadFrom, SpreadRule, SpreadsUsed};
use super::tape_rows::{KnownSides, QuoteMaker, TapePiece};
use crate::model::time::{DAY, HOUR, SECOND};
use crate::model::{Columns, Field, Micros, Session, Shape, Span};
use crate::{Error, Result};

/// Where a jump ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FillPrice {
    /// At a quote, this time at or just after the moment asked for.
    At(Micros),
    /// There is nothing to play near the moment; the nearest time with data is this.
    Nothing {
        /// The nearest moment that has a quote.
        nearest: Micros,
    },
}

/// A history that plays forward. A tick is one quote; a bar is two, its open when it begins and its
/// close just before it ends, so that nothing is known of a bar before it is over. One piece of rows is held.
pub struct Tape {
    source: Box<dyn RowSource>,
    maker: QuoteMaker,
    /// From this moment on nothing is played.
    until: Micros,
    used: SpreadsUsed,
    pieces: Pieces,
    /// The rows after those at hand: a bar that is cut there closes before.
    next: Option<Columns>,
    piece: TapePiece,
    at: usize,
    /// The row whose close is not played any more.
    cut: Option<Micros>,
}

/// A place on a tape to which it can go back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TapePlace {
    /// The time of the row that the next quote is of; none at the end.
    row: Option<Micros>,
    /// Quotes of rows of that very time that were played already.
    skip: usize,
    last: KnownSides,
    used: SpreadsUsed,
    cut: Option<Micros>,
}

impl Tape {
    /// A tape of the quotes within a span. What rows do not say of their spread, the rule does. Of a bar that is open when the
    /// span begins the close is played, of one that is open when it ends only the open.
    ///
    /// # Errors
    /// Where rows cannot be read or played; a question, where nothing says a spread that is needed.
    pub fn new(source: Box<dyn RowSource>, ends: BarEnds, spreads: SpreadRule, span: Span) -> Result<Tape> {
        let frame = ends.frame();
        if frame.is_counted() {
            return Err(Error::input(format!(
                "Bars of {frame} know no time of their own and cannot be played; name the ticks they are made of."
            )));
        }
        let mut tape = Tape {
            source,
            maker: QuoteMaker::new(ends, spreads),
            until: span.to,
            used: SpreadsUsed::default(),
            pieces: Box::new(std::iter::empty()),
            next: None,
            piece: TapePiece::default(),
            at: 0,
            cut: None,
        };
        tape.seek(span.from)?;
        Ok(tape)
    }

    /// How many quotes played so far had their spread from where.
    pub fn spreads_used(&self) -> SpreadsUsed {
        self.used
    }

    /// What is done where rows do not say their spread.
    pub fn spreads(&self) -> &SpreadRule {
        &self.maker.spreads
    }

    /// The piece at hand and the place of the next quote in it.
    pub fn piece(&self) -> (&TapePiece, usize) {
        (&self.piece, self.at)
    }

    /// The time of the first row that is not over; none where all of them are.
    pub fn not_over(&self) -> Option<Micros> {
        self.piece.rows.time.get(self.piece.rows_over(self.at)).copied().or(self.cut)
    }

    /// When the next quote comes; none at the end.
    pub fn next_time(&self) -> Option<Micros> {
        self.piece.time.get(self.at).copied()
    }

    /// The next quote.
    pub fn next(&self) -> Option<TradeQuote> {
        let i = self.at;
        Some(TradeQuote { time: *self.piece.time.get(i)?, bid: self.piece.bid[i], ask: self.piece.ask[i] })
    }

    /// Goes over quotes at hand, and takes the next piece in where they are done.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn pass(&mut self, quotes: usize) -> Result<()> {
        match self.piece.from.get(self.at..self.at + quotes) {
            Some(from) => from.iter().for_each(|from| self.used.count(*from, 1)),
            None => self.used.count(SpreadFrom::Rows, quotes as u64),
        }
        self.at += quotes;
        if self.at >= self.piece.time.len() { self.load() } else { Ok(()) }
    }

    /// Goes to the first quote at or after a moment; the bar that is open then comes with its close. Gives the quote that stands
    /// until then, where the row before says one.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn seek(&mut self, to: Micros) -> Result<Option<TradeQuote>> {
        // The row before may be a bar that is open then, or a quote that says the side which the next one leaves out.
        let from = self.source.last_before(to)?.unwrap_or(to);
        self.pieces = self.source.rows_from(from)?;
        (self.next, self.piece, self.at, self.maker.last) =
            (None, TapePiece::default(), 0, KnownSides::default());
        self.cut = None;
        let (used, mut standing) = (self.used, None);
        self.load()?;
        while let Some(quote) = self.next().filter(|quote| quote.time < to) {
            standing = Some(quote);
            self.pass(1)?;
        }
        self.used = used;
        Ok(standing)
    }

    /// The place that it is at.
    pub fn place(&self) -> TapePlace {
        let row = self
            .piece
            .rows
            .time
            .get(self.piece.row_of(self.at))
            .copied()
            .filter(|_| self.next_time().is_some());
        let is_of = |quote: &usize| Some(self.piece.rows.time[self.piece.row_of(*quote)]) == row;
        let here = (0..self.at).rev().take_while(is_of).count();
        let is_all = here == self.at && self.piece.rows.time.first().copied() == row;
        let skip = if is_all { here + self.piece.before } else { here };
        // What was known before the first row of that time.
        let last = match (self.at - here).checked_sub(1) {
            Some(i) => KnownSides {
                bid: Some(self.piece.bid[i]),
                ask: Some(self.piece.ask[i]).filter(|_| i >= self.piece.asks_from),
            },
            None => self.piece.entered,
        };
        TapePlace { row, skip, last, used: self.used, cut: self.cut }
    }

    /// Goes back, or on, to a place that it was at.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn go_to(&mut self, place: TapePlace) -> Result<()> {
        let Some(row) = place.row else {
            (self.next, self.piece, self.at) = (None, TapePiece::default(), 0);
            self.pieces = Box::new(std::iter::empty());
            (self.maker.last, self.used, self.cut) = (place.last, place.used, place.cut);
            return Ok(());
        };
        self.pieces = self.source.rows_from(row)?;
        (self.next, self.piece, self.at, self.maker.last) = (None, TapePiece::default(), 0, place.last);
        self.cut = None;
        self.load()?;
        for _ in 0..place.skip {
            self.pass(1)?;
        }
        self.used = place.used;
        Ok(())
    }

    /// Whether there is something to play within a week of a moment (a weekend and holidays may lie between); else the
    /// nearest time with data.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn look(&self, to: Micros) -> Result<FillPrice> {
        let mut after = None;
        for piece in self.source.rows_from(to)? {
            after = piece?.time.first().copied();
            if after.is_some() {
                break;
            }
        }
        let before = self.source.last_before(to)?;
        let close = before.map(|row| self.maker.ends.clone().end(row, None, after) - SECOND);
        let next = close.filter(|close| *close >= to && *close < self.until).or(after);
        if let Some(t) = next.filter(|t| t - to <= 7 * DAY + self.bar()) {
            return Ok(FillPrice::At(after.map_or(t, |after| t.min(after))));
        }
        let nearest = [before, after].into_iter().flatten().min_by_key(|t| (t - to).abs());
        Ok(FillPrice::Nothing { nearest: nearest.unwrap_or(to) })
    }

    /// The first opening of the session after a moment.
    pub fn next_opening(session: &Session, now: Micros) -> Option<Micros> {
        session.open_spans(Span::new(now, now + 15 * DAY)).iter().map(|s| s.from).find(|&from| from > now)
    }

    /// The length of a bar; 0 for ticks.
    pub fn bar(&self) -> Micros {
        self.maker.ends.frame().length()
    }

    /// A bar and its quotes are apart no longer than this: an hour, or the length of a bar.
    pub fn patience(&self) -> Micros {
        self.bar().max(HOUR)
    }

    fn read(&mut self) -> Result<Option<Columns>> {
        for piece in self.pieces.by_ref() {
            let piece = piece?;
            if piece.shape() == Shape::Depth {
                return Err(Error::input(
                    "Depth rows alone cannot be played; name the ticks or bars of the instrument.",
                ));
            }
            let piece = piece.with_whole_bars();
            if !piece.is_empty() {
                return Ok(Some(piece));
            }
        }
        Ok(None)
    }

    fn load(&mut self) -> Result<()> {
        loop {
            let rows = match self.next.take() {
                Some(rows) => rows,
                None => match self.read()? {
                    Some(rows) => rows,
                    None => {
                        (self.piece, self.at) = (TapePiece::default(), 0);
                        return Ok(());
                    }
                },
            };
            // Only a bar may be cut short by what follows.
            self.next = if rows.has(Field::Close) { self.read()? } else { None };
            let before = match (self.piece.rows.ends(), rows.time.first()) {
                (Some((_, last)), Some(first)) if last == *first => {
                    let of_last = |quote: &usize| self.piece.rows.time[self.piece.row_of(*quote)] == last;
                    let here = (0..self.piece.time.len()).rev().take_while(of_last).count();
                    here + if here == self.piece.time.len() { self.piece.before } else { 0 }
                }
                _ => 0,
            };
            let next = self.next.as_ref().and_then(|rows| rows.time.first().copied());
            let piece = self.maker.quotes_of(rows, next)?;
            (self.piece, self.at) = (TapePiece { before, ..piece }.until(self.until), 0);
            self.cut = self.piece.rows.time.get(self.piece.over).copied();
            if !self.piece.time.is_empty() {
                return Ok(());
            }
        }
    }
}
