//! The tape: quotes of one history in order of time, piece by piece.

use super::quote::{BarReach, TradeQuote};
use super::spreads::{SpreadFrom, SpreadRule, SpreadsUsed};
use crate::model::time::{DAY, HOUR, SECOND};
use crate::model::{Columns, Field, Frame, Micros, Session, Shape, Span, present};
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

/// Pieces of rows, in order of time.
pub type Pieces = Box<dyn Iterator<Item = Result<Columns>> + Send>;

/// Where a tape has its rows from.
pub trait RowSource: Send {
    /// The rows at or after a moment, piece by piece.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn rows_from(&self, from: Micros) -> Result<Pieces>;

    /// The time of the last row before a moment.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn last_before(&self, before: Micros) -> Result<Option<Micros>>;
}

/// Rows that are all in memory.
pub struct HeldRows(pub Columns);

impl RowSource for HeldRows {
    fn rows_from(&self, from: Micros) -> Result<Pieces> {
        let at = self.0.time.partition_point(|t| *t < from);
        Ok(Box::new(std::iter::once(Ok(self.0.rows(at..self.0.len())))))
    }

    fn last_before(&self, before: Micros) -> Result<Option<Micros>> {
        let at = self.0.time.partition_point(|t| *t < before);
        Ok(at.checked_sub(1).map(|i| self.0.time[i]))
    }
}

/// A history that plays forward. A tick is one quote; a bar is two, its open when it begins and its
/// close just before it ends, so that nothing is known of a bar before it is over. One piece of rows is held.
pub struct Tape {
    source: Box<dyn RowSource>,
    length: Micros,
    /// For rows that do not say their spread.
    spreads: SpreadRule,
    used: SpreadsUsed,
    pieces: Pieces,
    /// The rows after those at hand: a bar that is cut there closes before.
    next: Option<Columns>,
    piece: TapePiece,
    at: usize,
    last: KnownSides,
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
}

/// The last price of each side: feeds may write only the one that changed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct KnownSides {
    bid: Option<i64>,
    ask: Option<i64>,
}

/// A piece of rows as quotes.
#[derive(Debug, Default)]
pub struct TapePiece {
    /// The rows.
    pub rows: Columns,
    /// When each quote stands.
    pub time: Vec<Micros>,
    /// In points.
    pub bid: Vec<i64>,
    /// In points.
    pub ask: Vec<i64>,
    /// For each quote the row that it is of; empty where each row is one quote.
    row: Vec<u32>,
    /// Of a bar's close, the lowest and the highest bid since its open; empty where no row is a bar.
    reach: Vec<Option<BarReach>>,
    /// Where the spread of each quote comes from; empty where every row says its own.
    from: Vec<SpreadFrom>,
    /// Quotes of rows before this piece that have the time of its first row.
    before: usize,
    /// The last prices before this piece, and the quote from which on the ask is one that a row said.
    entered: KnownSides,
    asks_from: usize,
}

impl TapePiece {
    fn row_of(&self, quote: usize) -> usize {
        self.row.get(quote).map_or(quote, |row| *row as usize)
    }

    /// What lies between the open and the close of a bar, where a quote is its close.
    pub fn reach_of(&self, quote: usize) -> Option<BarReach> {
        self.reach.get(quote).copied().flatten()
    }

    /// True where rows may be bars.
    pub fn has_bars(&self) -> bool {
        !self.reach.is_empty()
    }

    /// The rows that are over once so many quotes were played.
    pub fn rows_over(&self, quotes: usize) -> usize {
        if quotes == self.time.len() { self.rows.len() } else { self.row_of(quotes) }
    }
}

impl Tape {
    /// A tape from a moment on. What rows do not say of their spread, the rule does.
    ///
    /// # Errors
    /// Where rows cannot be read or played; a question, where nothing says a spread that is needed.
    pub fn new(source: Box<dyn RowSource>, frame: Frame, spreads: SpreadRule, from: Micros) -> Result<Tape> {
        if frame.is_counted() {
            return Err(Error::input(format!(
                "Bars of {frame} know no time of their own and cannot be played; name the ticks they are made of."
            )));
        }
        let mut tape = Tape {
            source,
            length: frame.length(),
            spreads,
            used: SpreadsUsed::default(),
            pieces: Box::new(std::iter::empty()),
            next: None,
            piece: TapePiece::default(),
            at: 0,
            last: KnownSides::default(),
        };
        tape.seek(from)?;
        Ok(tape)
    }

    /// How many quotes played so far had their spread from where.
    pub fn spreads_used(&self) -> SpreadsUsed {
        self.used
    }

    /// What is done where rows do not say their spread.
    pub fn spreads(&self) -> &SpreadRule {
        &self.spreads
    }

    /// The piece at hand and the place of the next quote in it.
    pub fn piece(&self) -> (&TapePiece, usize) {
        (&self.piece, self.at)
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

    /// Goes to the first quote of the first row at or after a moment.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn seek(&mut self, from: Micros) -> Result<()> {
        self.pieces = self.source.rows_from(from)?;
        (self.next, self.piece, self.at, self.last) = (None, TapePiece::default(), 0, KnownSides::default());
        self.load()
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
        TapePlace { row, skip, last, used: self.used }
    }

    /// Goes back, or on, to a place that it was at.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn go_to(&mut self, place: TapePlace) -> Result<()> {
        let Some(row) = place.row else {
            (self.next, self.piece, self.at) = (None, TapePiece::default(), 0);
            self.pieces = Box::new(std::iter::empty());
            (self.last, self.used) = (place.last, place.used);
            return Ok(());
        };
        self.pieces = self.source.rows_from(row)?;
        (self.next, self.piece, self.at, self.last) = (None, TapePiece::default(), 0, place.last);
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
        if let Some(t) = after.filter(|t| t - to <= 7 * DAY) {
            return Ok(FillPrice::At(t));
        }
        let before = self.source.last_before(to)?;
        let nearest = [before, after].into_iter().flatten().min_by_key(|t| (t - to).abs());
        Ok(FillPrice::Nothing { nearest: nearest.unwrap_or(to) })
    }

    /// The first opening of the session after a moment.
    pub fn next_opening(session: &Session, now: Micros) -> Option<Micros> {
        session.open_spans(Span::new(now, now + 15 * DAY)).iter().map(|s| s.from).find(|&from| from > now)
    }

    /// The length of a bar; 0 for ticks.
    pub fn bar(&self) -> Micros {
        self.length
    }

    /// A bar and its quotes are apart no longer than this: an hour, or the length of a bar.
    pub fn patience(&self) -> Micros {
        self.length.max(HOUR)
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
            let piece =
                if rows.has(Field::Close) { self.of_bars(rows, next)? } else { self.of_quotes(rows)? };
            (self.piece, self.at) = (TapePiece { before, ..piece }, 0);
            if !self.piece.time.is_empty() {
                return Ok(());
            }
        }
    }

    /// The spread of a row that says none.
    fn spread_at(&self, time: Micros) -> Result<(i64, SpreadFrom)> {
        self.spreads.at(time).ok_or_else(|| self.spreads.question())
    }

    /// Ticks as quotes: a side that a row does not say stays as it was.
    fn of_quotes(&mut self, mut rows: Columns) -> Result<TapePiece> {
        let is_whole = |field: Field| rows.has(field) && !rows.column(field).contains(&crate::model::ABSENT);
        if is_whole(Field::Bid) && is_whole(Field::Ask) {
            let (bid, ask) = (rows.column(Field::Bid).to_vec(), rows.column(Field::Ask).to_vec());
            let entered = self.last;
            self.last = KnownSides { bid: bid.last().copied(), ask: ask.last().copied() };
            return Ok(TapePiece {
                time: rows.time.clone(),
                bid,
                ask,
                rows,
                entered,
                ..TapePiece::default()
            });
        }
        let price = if rows.has(Field::Bid) || rows.has(Field::Ask) { Field::Bid } else { Field::Last };
        let says_asks = rows.has(Field::Ask);
        let mut piece = TapePiece { entered: self.last, ..TapePiece::default() };
        let mut keep = Vec::with_capacity(rows.len());
        for row in 0..rows.len() {
            // Rows before the first quote say a side that it has.
            if piece.time.is_empty() && row > 0 && rows.time[row] > rows.time[row - 1] {
                piece.entered = self.last;
            }
            let (bid, ask) = (rows.cells(price).get(row), rows.cells(Field::Ask).get(row));
            self.last = KnownSides {
                bid: bid.or(self.last.bid),
                ask: if says_asks { ask.or(self.last.ask) } else { None },
            };
            // Before the first bid nothing could be sold.
            keep.push(self.last.bid.is_some());
            let Some(bid) = self.last.bid else { continue };
            let (ask, from) = match self.last.ask {
                Some(ask) => (ask, SpreadFrom::Rows),
                None => {
                    piece.asks_from = piece.time.len() + 1;
                    let (spread, from) = self.spread_at(rows.time[row])?;
                    (bid + spread, from)
                }
            };
            piece.time.push(rows.time[row]);
            piece.bid.push(bid);
            piece.ask.push(ask);
            piece.from.push(from);
        }
        rows.retain(|row| keep[row]);
        Ok(TapePiece { rows, ..piece })
    }

    /// Bars, and layers of bars and ticks, as quotes.
    fn of_bars(&mut self, rows: Columns, next: Option<Micros>) -> Result<TapePiece> {
        let is_layered = rows.shape() == Shape::Layered;
        let mut piece = TapePiece { entered: self.last, ..TapePiece::default() };
        let value = |field: Field, row: usize| rows.column(field).get(row).copied().and_then(present);
        for row in 0..rows.len() {
            let time = rows.time[row];
            let length = value(Field::Covers, row).unwrap_or(self.length);
            let is_bar = !is_layered || length > 0;
            if !is_bar {
                let (bid, ask) = (value(Field::Bid, row), value(Field::Ask, row));
                let Some(bid) = bid.or(value(Field::Last, row)).or(self.last.bid) else { continue };
                let (ask, from) = match ask {
                    Some(ask) => (ask, SpreadFrom::Rows),
                    None => {
                        let (spread, from) = self.spread_at(time)?;
                        (bid + spread, from)
                    }
                };
                self.last.bid = Some(bid);
                piece.add(row, TradeQuote { time, bid, ask }, from, None);
                continue;
            }
            let close = time + (length - SECOND).max(0);
            let close = match rows.time.get(row + 1).copied().or(next) {
                Some(next) => close.min(next - 1).max(time),
                None => close,
            };
            for (time, field, is_close) in [(time, Field::Open, false), (close, Field::Close, true)] {
                let Some(bid) = value(field, row) else { continue };
                let (spread, from) = match value(Field::Spread, row) {
                    Some(spread) => (spread, SpreadFrom::Rows),
                    None => self.spread_at(time)?,
                };
                let reach = || {
                    let (low, high) = (value(Field::Low, row)?, value(Field::High, row)?);
                    Some(BarReach { from: rows.time[row], low, high })
                };
                let quote = TradeQuote { time, bid, ask: bid + spread };
                piece.add(row, quote, from, if is_close { reach() } else { None });
                self.last.bid = Some(bid);
            }
        }
        Ok(TapePiece { rows, ..piece })
    }
}

impl TapePiece {
    fn add(&mut self, row: usize, quote: TradeQuote, from: SpreadFrom, reach: Option<BarReach>) {
        self.time.push(quote.time);
        self.bid.push(quote.bid);
        self.ask.push(quote.ask);
        self.row.push(row as u32);
        self.from.push(from);
        self.reach.push(reach);
    }
}
