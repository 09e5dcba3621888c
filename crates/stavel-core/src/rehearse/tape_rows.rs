//! The rows of a tape as quotes.

use super::bar_ends::BarEnds;
use super::quote::{BarReach, TradeQuote};
use super::spreads::{SpreadFrom, SpreadRule};
use super::with_ask::{ask_of_bar, without_ask};
use crate::Result;
use crate::model::time::{MINUTE, SECOND};
use crate::model::{Columns, Field, Micros, Shape, present};

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
    pub(super) row: Vec<u32>,
    /// Of a bar's close, the lowest and the highest bid since its open; empty where no row is a bar.
    pub(super) reach: Vec<Option<BarReach>>,
    /// Where the spread of each quote comes from; empty where every row says its own.
    pub(super) from: Vec<SpreadFrom>,
    /// The rows that are over once all quotes were played; a bar may end after the last moment that is played.
    pub(super) over: usize,
    /// Quotes of rows before this piece that have the time of its first row.
    pub(super) before: usize,
    /// The last prices before this piece, and the quote from which on the ask is one that a row said.
    pub(super) entered: KnownSides,
    pub(super) asks_from: usize,
}

impl TapePiece {
    pub(super) fn row_of(&self, quote: usize) -> usize {
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
        if quotes == self.time.len() { self.over } else { self.row_of(quotes) }
    }

    /// Without the quotes from a moment on.
    pub(super) fn until(mut self, until: Micros) -> TapePiece {
        let quotes = self.time.partition_point(|time| *time < until);
        self.over = if quotes < self.time.len() { self.row_of(quotes) } else { self.rows.len() };
        for prices in [&mut self.time, &mut self.bid, &mut self.ask] {
            prices.truncate(quotes);
        }
        self.row.truncate(quotes);
        self.reach.truncate(quotes);
        self.from.truncate(quotes);
        self
    }

    fn add(&mut self, row: usize, quote: TradeQuote, from: SpreadFrom, reach: Option<BarReach>) {
        self.time.push(quote.time);
        self.bid.push(quote.bid);
        self.ask.push(quote.ask);
        self.row.push(row as u32);
        self.from.push(from);
        self.reach.push(reach);
    }
}

/// The last price of each side: feeds may write only the one that changed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct KnownSides {
    pub bid: Option<i64>,
    pub ask: Option<i64>,
}

/// Makes quotes of rows.
#[derive(Debug)]
pub(super) struct QuoteMaker {
    /// When bars are over.
    pub ends: BarEnds,
    /// For rows that do not say their spread.
    pub spreads: SpreadRule,
    /// What was known before the rows that come next.
    pub last: KnownSides,
    /// The spread of the quarter of an hour asked for last: no hour of a wall begins within one.
    quarter: Option<(i64, (i64, SpreadFrom))>,
}

impl QuoteMaker {
    pub fn new(ends: BarEnds, spreads: SpreadRule) -> QuoteMaker {
        QuoteMaker { ends, spreads, last: KnownSides::default(), quarter: None }
    }

    /// Rows as quotes; `next` is the time of the row after them.
    pub(super) fn quotes_of(&mut self, rows: Columns, next: Option<Micros>) -> Result<TapePiece> {
        if rows.has(Field::Close) { self.of_bars(rows, next) } else { self.of_quotes(rows) }
    }

    /// The spread of a row that says none.
    fn spread_at(&mut self, time: Micros) -> Result<(i64, SpreadFrom)> {
        let quarter = time.div_euclid(15 * MINUTE);
        if let Some((_, spread)) = self.quarter.filter(|(of, _)| *of == quarter) {
            return Ok(spread);
        }
        let spread = self.spreads.at(time).ok_or_else(|| self.spreads.question())?;
        self.quarter = Some((quarter, spread));
        Ok(spread)
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
        let (bids, asks) = (rows.cells(price), rows.cells(Field::Ask));
        let mut keep = Vec::with_capacity(rows.len());
        for row in 0..rows.len() {
            // Rows before the first quote say a side that it has.
            if piece.time.is_empty() && row > 0 && rows.time[row] > rows.time[row - 1] {
                piece.entered = self.last;
            }
            let (bid, ask) = (bids.get(row), asks.get(row));
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
        if keep.contains(&false) {
            rows.retain(|row| keep[row]);
        }
        Ok(TapePiece { rows, ..piece })
    }

    /// Bars, and layers of bars and ticks, as quotes.
    fn of_bars(&mut self, rows: Columns, next: Option<Micros>) -> Result<TapePiece> {
        let is_layered = rows.shape() == Shape::Layered;
        let mut piece = TapePiece { entered: self.last, ..TapePiece::default() };
        let value = |field: Field, row: usize| rows.column(field).get(row).copied().and_then(present);
        for row in 0..rows.len() {
            let time = rows.time[row];
            let covers = value(Field::Covers, row);
            let is_bar = !is_layered || covers.unwrap_or(self.ends.frame().length()) > 0;
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
            let next = rows.time.get(row + 1).copied().or(next);
            let close = self.ends.end(time, covers, next) - SECOND;
            let close = next.map_or(close, |next| close.min(next - 1)).max(time);
            let asks = ask_of_bar(&rows, row);
            for (time, field, is_close) in [(time, Field::Open, false), (close, Field::Close, true)] {
                let Some(price) = value(field, row) else { continue };
                let (spread, from) = match (asks, value(Field::Spread, row)) {
                    (Some([open, .., close]), _) => {
                        (if is_close { close } else { open } - price, SpreadFrom::Rows)
                    }
                    (None, Some(spread)) => (spread, SpreadFrom::Rows),
                    (None, None) => self.spread_at(time)?,
                };
                let reach = || {
                    let sides = |field: Field| Some(self.spreads.sides(value(field, row)?, spread));
                    let (low, high) = (sides(Field::Low)?, sides(Field::High)?);
                    let (ask_low, ask_high) = asks.map_or((low.1, high.1), |[_, low, high, _]| (low, high));
                    Some(BarReach { from: rows.time[row], low: low.0, high: high.0, ask_low, ask_high })
                };
                let (bid, ask) = self.spreads.sides(price, spread);
                piece.add(row, TradeQuote { time, bid, ask }, from, if is_close { reach() } else { None });
                self.last.bid = Some(bid);
            }
        }
        Ok(TapePiece { rows: without_ask(rows), ..piece })
    }
}
