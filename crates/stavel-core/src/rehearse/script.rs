//! Playing a list of orders without a screen.

use std::path::Path;

use serde_json::json;

use super::account::{Account, Direction, money};
use super::tape::Tape;
use crate::job::Job;
use crate::model::price::{parse_scaled, scaled};
use crate::model::time::{self, rfc3339};
use crate::model::{Columns, Frame, Micros, instrument::Sheet};
use crate::{Error, Result};

/// A market order to be given at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ScriptOrder {
    pub time: Micros,
    pub direction: Direction,
    /// Hundredths of a lot.
    pub lots: i64,
}

/// How a scripted rehearsal ended.
pub struct Outcome {
    pub account: Account,
    pub quotes: u64,
    pub last: super::Quote,
    /// Orders whose time lies after the end of the data.
    pub unfilled: usize,
}

impl Outcome {
    /// Fills, P&L and journal.
    pub fn to_json(&self) -> serde_json::Value {
        let a = &self.account;
        json!({
            "quotes": self.quotes,
            "fills": a.deals().iter().map(|d| a.deal_json(d)).collect::<Vec<_>>(),
            "unfilled": self.unfilled,
            "position": scaled(a.position(), 2),
            "realised": money(a.realised()),
            "costs": money(a.costs()),
            "open": money(a.open_profit(&self.last)),
            "last": rfc3339(self.last.time),
            "journal": a.journal_lines(),
        })
    }
}

/// Reads orders from CSV with the columns `time,side,lots`: UTC, buy or sell, at least 0.01.
///
/// # Errors
/// A sentence with the line that makes no sense.
pub fn read_orders(path: &Path) -> Result<Vec<ScriptOrder>> {
    let mut reader = csv::ReaderBuilder::new()
        .trim(csv::Trim::All)
        .from_path(path)
        .map_err(|e| Error::input(format!("The orders {} cannot be read: {e}.", path.display())))?;
    let mut orders = Vec::new();
    for record in reader.records() {
        let record = record
            .map_err(|e| Error::input(format!("The orders {} cannot be read: {e}.", path.display())))?;
        let line = record.position().map_or(0, csv::Position::line);
        let bad = |what: &str| Error::input(format!("{}, line {line}: {what}.", path.display()));
        let cell = |i: usize| record.get(i).unwrap_or_default();
        let direction = match cell(1) {
            "buy" => Direction::Buy,
            "sell" => Direction::Sell,
            _ => return Err(bad("the side must be buy or sell")),
        };
        let time = time::parse(cell(0)).map_err(|_| bad("the time must be written as 2024-03-05T10:00Z"))?;
        let lots = parse_scaled(cell(2).as_bytes(), 2).ok().filter(|l| (1..=10_000_000).contains(l));
        orders.push(ScriptOrder {
            time,
            direction,
            lots: lots.ok_or_else(|| bad("the lots must be 0.01 to 100000"))?,
        });
    }
    orders.sort_by_key(|o| o.time);
    Ok(orders)
}

/// What is played, and the spread of rows that do not say theirs, in points.
pub struct Played {
    pub frame: Frame,
    /// Decimals of the prices.
    pub decimals: u8,
    pub spread: Option<i64>,
}

/// Plays rows piece by piece from their start, giving each order at the first quote at or after its time. No
/// more than a piece is held.
///
/// # Errors
/// Where the rows cannot be read, there are none, or the person stops it.
pub fn run_orders(
    rows: impl Iterator<Item = Result<Columns>>,
    played: &Played,
    orders: &[ScriptOrder],
    sheet: Sheet,
    job: &Job,
) -> Result<Outcome> {
    let mut account = Account::new(sheet, played.decimals);
    let mut waiting = orders.iter().peekable();
    let (mut quotes, mut last) = (0, None);
    for piece in rows {
        let piece = piece?;
        job.advance(piece.len() as u64)?;
        if piece.is_empty() {
            continue;
        }
        let mut tape = Tape::with_spread(piece, played.frame, played.spread)?;
        while let Some(quote) = tape.step() {
            account.pass(quote.time);
            while let Some(order) = waiting.next_if(|o| o.time <= quote.time) {
                account.deal(order.direction, order.lots, &quote);
            }
            quotes += 1;
            last = Some(quote);
        }
    }
    let last = last.ok_or_else(|| Error::input("There is nothing to play in that span."))?;
    Ok(Outcome { account, quotes, last, unfilled: waiting.count() })
}
