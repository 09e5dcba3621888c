//! Playing a list of orders without a screen.

use std::path::Path;

use super::account::{Account, Direction};
use super::spreads::{SpreadRule, SpreadsUsed};
use super::tape::Tape;
use crate::job::Job;
use crate::model::price::parse_scaled;
use crate::model::time::{self, HOUR, MINUTE};
use crate::model::{Columns, Frame, Micros, instrument::SpecSheet};
use crate::{Error, Result};

/// A market order to be given at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ScriptOrder {
    /// When it is given.
    pub time: Micros,
    /// Buy or sell.
    pub direction: Direction,
    /// Hundredths of a lot.
    pub lots: i64,
}

/// How a scripted rehearsal ended.
pub struct ScriptOutcome {
    /// The account at the end.
    pub account: Account,
    /// Quotes that were played.
    pub quotes: u64,
    /// The last quote.
    pub last: super::TradeQuote,
    /// Where spreads came from.
    pub spreads: SpreadsUsed,
    /// Orders that were not filled.
    pub unfilled: usize,
    /// What a person should know of orders: those that were not filled, with the reason, and those that waited.
    pub remarks: Vec<OrderRemark>,
}

/// What a person should know of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OrderRemark {
    /// When the order was given.
    pub order: Micros,
    /// What became of it.
    pub fate: OrderFate,
}

/// What became of an order that was not filled at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OrderFate {
    /// Refused: the rows begin so much later.
    BeforeRows(Micros),
    /// Expired: the first quote came so much later.
    Expired(Micros),
    /// Filled at the first quote, which came so much later.
    Waited(Micros),
    /// Not filled: the rows end before it.
    AfterRows,
}

/// A market order waits so long for a quote, or one bar where that is longer; then it expires.
const PATIENCE: Micros = HOUR;
/// A wait longer than this, or than a bar, is told.
const PROMPT: Micros = MINUTE;

/// Reads orders from CSV with the columns `time,side,lots`: UTC, buy or sell, at least 0.01.
///
/// # Errors
/// A sentence with the line that makes no sense.
pub fn read_orders(path: &Path) -> Result<Vec<ScriptOrder>> {
    let file = std::fs::File::open(path)
        .map_err(|e| Error::input(format!("The orders {} cannot be read: {e}.", path.display())))?;
    orders_in(std::io::BufReader::new(file), &path.display().to_string())
}

/// Reads orders from the text of such a file, which lies at `place`.
///
/// # Errors
/// As [`read_orders`].
pub fn orders_in(text: impl std::io::Read, place: &str) -> Result<Vec<ScriptOrder>> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text);
    let mut orders = Vec::new();
    let cannot = |e: csv::Error| Error::input(format!("The orders {place} cannot be read: {e}."));
    let names: Vec<String> = reader.headers().map_err(cannot)?.iter().map(str::to_ascii_lowercase).collect();
    let wanted = ["time", "side", "lots"];
    if let Some(odd) = names.iter().find(|n| !wanted.contains(&n.as_str())) {
        return Err(Error::input(format!(
            "The orders {} have a column '{}' that is not understood, and an order may not be played without what it says; its columns are time, side and lots.",
            place,
            crate::error::printable(odd)
        )));
    }
    let column = |name: &str| names.iter().position(|n| n == name);
    let [Some(at_time), Some(at_side), Some(at_lots)] = wanted.map(column) else {
        return Err(Error::input(format!(
            "The orders {place} need a line of names with the columns time, side and lots."
        )));
    };
    for record in reader.records() {
        let record = record.map_err(|e| Error::input(format!("The orders {place} cannot be read: {e}.")))?;
        let line = record.position().map_or(0, csv::Position::line);
        let bad = |what: &str| Error::input(format!("{place}, line {line}: {what}."));
        let cell = |i: usize| record.get(i).unwrap_or_default();
        let direction = match cell(at_side) {
            "buy" => Direction::Buy,
            "sell" => Direction::Sell,
            _ => return Err(bad("the side must be buy or sell")),
        };
        let time =
            time::parse(cell(at_time)).map_err(|_| bad("the time must be written as 2024-03-05T10:00Z"))?;
        let lots = parse_scaled(cell(at_lots).as_bytes(), 2).ok().filter(|l| (1..=10_000_000).contains(l));
        orders.push(ScriptOrder {
            time,
            direction,
            lots: lots.ok_or_else(|| bad("the lots must be 0.01 to 100000"))?,
        });
    }
    orders.sort_by_key(|o| o.time);
    Ok(orders)
}

/// What is played, and the spread of rows that do not say theirs.
pub struct Played {
    /// The frame of the rows.
    pub frame: Frame,
    /// Decimals of the prices.
    pub decimals: u8,
    /// The spread of rows that do not say theirs.
    pub spreads: SpreadRule,
}

/// Plays rows piece by piece from their start. Each order is filled at the first quote at or after its time; an
/// order more than a minute, or a bar, before the first quote of all is refused, one that finds no quote for an hour, as in a hole or in
/// closed hours, expires. No more than a piece is held.
///
/// # Errors
/// Where the rows cannot be read, there are none, or the person stops it.
pub fn run_orders(
    rows: impl Iterator<Item = Result<Columns>>,
    played: &Played,
    orders: &[ScriptOrder],
    sheet: SpecSheet,
    job: &Job,
) -> Result<ScriptOutcome> {
    let mut account = Account::new(sheet, played.decimals);
    let mut waiting = orders.iter().peekable();
    let (mut quotes, mut last) = (0, None);
    let mut spreads = SpreadsUsed::default();
    let bar = played.frame.length();
    let mut remarks = Vec::new();
    let mut unfilled = 0;
    // The last bar of a piece may be cut short by the first of the next.
    let mut rows = rows.filter(|piece| piece.as_ref().map_or(true, |p| !p.is_empty())).peekable();
    while let Some(piece) = rows.next() {
        let piece = piece?;
        job.advance(piece.len() as u64)?;
        let next = rows.peek().and_then(|p| p.as_ref().ok()?.time.first().copied());
        let mut tape = Tape::new(piece, played.frame, played.spreads.clone())?.followed_by(next);
        while let Some(quote) = tape.step() {
            account.pass(quote.time);
            while let Some(order) = waiting.next_if(|o| o.time <= quote.time) {
                let waited = quote.time - order.time;
                let mut remark = |fate| remarks.push(OrderRemark { order: order.time, fate });
                if quotes == 0 && waited > PROMPT.max(bar) {
                    unfilled += 1;
                    remark(OrderFate::BeforeRows(waited));
                } else if waited > PATIENCE.max(bar) {
                    unfilled += 1;
                    remark(OrderFate::Expired(waited));
                } else {
                    if waited > PROMPT.max(bar) {
                        remark(OrderFate::Waited(waited));
                    }
                    account.deal(order.direction, order.lots, &quote);
                }
            }
            quotes += 1;
            last = Some(quote);
        }
        let used = tape.spreads_used();
        spreads.own += used.own;
        spreads.measured += used.measured;
        spreads.sheet += used.sheet;
    }
    let last = last.ok_or_else(|| Error::input("There is nothing to play in that span."))?;
    for order in waiting {
        unfilled += 1;
        remarks.push(OrderRemark { order: order.time, fate: OrderFate::AfterRows });
    }
    Ok(ScriptOutcome { account, quotes, last, spreads, unfilled, remarks })
}
