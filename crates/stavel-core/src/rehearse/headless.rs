//! Playing orders of a file without a screen.

use std::collections::HashMap;

use super::desk::{Desk, Entry};
use super::order::{DeskAct, OrderKind, Ticket};
use super::replay::{Replay, ReplayAct};
use super::spreads::SpreadsUsed;
use crate::Result;
use crate::job::Job;
use crate::model::Micros;
use crate::model::time::MINUTE;

/// A wait longer than this, or than a bar, is told.
const PROMPT: Micros = MINUTE;
/// Quotes that are played before a person may stop it.
const AT_A_TIME: u64 = 1_000_000;

/// How it ended, beside what the journal has.
#[derive(Debug, Clone, Default)]
pub struct Outcome {
    /// Quotes that were played.
    pub quotes: u64,
    /// Where spreads came from.
    pub spreads: SpreadsUsed,
    /// What a person should know of orders: those that were not filled, with the reason, and those that waited.
    pub remarks: Vec<OrderRemark>,
}

impl Outcome {
    /// Orders that were not filled.
    pub fn unfilled(&self) -> usize {
        self.remarks.iter().filter(|r| !matches!(r.fate, OrderFate::Waited(_))).count()
    }
}

/// What a person should know of an order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderRemark {
    /// When the order was given.
    pub given: Micros,
    /// What it asked for, where that is known.
    pub ticket: Option<Ticket>,
    /// What became of it.
    pub fate: OrderFate,
}

impl OrderFate {
    /// True for what a careful person looks at; that an order waits, or is over when its time is, was asked for.
    pub fn is_doubtful(&self) -> bool {
        !matches!(self, OrderFate::Expired | OrderFate::Waiting)
    }
}

/// What became of an order that was not filled at once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OrderFate {
    /// Refused: the rows begin so much later.
    BeforeRows(Micros),
    /// Refused, and why.
    Refused(String),
    /// Expired: the first quote came so much later.
    NoQuote(Micros),
    /// Expired: its time was over.
    Expired,
    /// Filled at the first quote, which came so much later.
    Waited(Micros),
    /// Not filled: the rows end before it.
    AfterRows,
    /// It waits still where the rows end.
    Waiting,
}

/// Plays orders, in order of time, to the end. Each is taken between quotes and waits for the next. An order more than a minute,
/// or a bar, before the first quote of all is refused: nobody knows what came between.
///
/// # Errors
/// Where the rows cannot be read, or the person stops it.
pub fn run_orders(
    replay: &mut Replay,
    orders: &[(Micros, Ticket)],
    until: Micros,
    job: &Job,
) -> Result<Outcome> {
    let mut outcome = Outcome::default();
    let begins = |replay: &Replay| replay.next_time().filter(|_| replay.desk().played() == 0);
    let first = begins(replay).unwrap_or(Micros::MIN);
    let bar = |of: usize| replay.tapes().get(of).map_or(0, super::Tape::bar);
    let prompts: Vec<Micros> = orders.iter().map(|(_, ticket)| PROMPT.max(bar(ticket.of))).collect();
    for ((time, ticket), prompt) in orders.iter().zip(&prompts) {
        let remark = |fate| OrderRemark { given: *time, ticket: Some(ticket.clone()), fate };
        if first.saturating_sub(*time) > *prompt {
            outcome.remarks.push(remark(OrderFate::BeforeRows(first - time)));
            continue;
        }
        play(replay, (time - 1).min(until), job)?;
        if replay.next_time().is_none_or(|t| t > until) || *time > until {
            outcome.remarks.push(remark(OrderFate::AfterRows));
            continue;
        }
        replay.act(*time, ReplayAct::Submit(DeskAct::Order(ticket.clone())))?;
    }
    play(replay, until, job)?;
    outcome.remarks.extend(remarks_of(replay.desk(), |of| PROMPT.max(replay.tapes()[of].bar())));
    outcome.remarks.sort_by_key(|remark| remark.given);
    outcome.quotes = replay.desk().played();
    for used in replay.tapes().iter().map(super::Tape::spreads_used) {
        outcome.spreads.own += used.own;
        outcome.spreads.measured += used.measured;
        outcome.spreads.sheet += used.sheet;
    }
    Ok(outcome)
}

fn play(replay: &mut Replay, until: Micros, job: &Job) -> Result<()> {
    loop {
        let played = replay.play_to(until, AT_A_TIME)?;
        job.advance(played)?;
        if played < AT_A_TIME {
            return Ok(());
        }
    }
}

fn market_order(entry: &Entry) -> Option<(u32, Micros)> {
    match entry {
        Entry::Given(order) if order.kind == OrderKind::Market => Some((order.id, order.given)),
        _ => None,
    }
}

/// What a journal has to tell of orders that were not filled, or not at once.
fn remarks_of(desk: &Desk, prompt: impl Fn(usize) -> Micros) -> Vec<OrderRemark> {
    let latency = desk.rules().latency;
    let given: HashMap<u32, Micros> = desk.journal().iter().filter_map(market_order).collect();
    let mut remarks = Vec::new();
    for entry in desk.journal() {
        let (time, ticket, fate) = match entry {
            Entry::Refused(refusal) => {
                (refusal.time, refusal.ticket.clone(), OrderFate::Refused(refusal.why.clone()))
            }
            Entry::Gone { order, why: super::Gone::Expired, .. } => (order.given, None, OrderFate::Expired),
            Entry::Gone { order, why: super::Gone::NoQuote(waited), .. } => {
                (order.given, None, OrderFate::NoQuote(*waited))
            }
            Entry::Deal(deal) => {
                let Some(given) = given.get(&deal.order) else { continue };
                let waited = deal.time - given - latency;
                if waited <= prompt(deal.of) {
                    continue;
                }
                (*given, None, OrderFate::Waited(waited))
            }
            _ => continue,
        };
        remarks.push(OrderRemark { given: time, ticket, fate });
    }
    for order in desk.orders().iter().filter(|o| o.closes.is_none()) {
        let fate = if order.kind == OrderKind::Market { OrderFate::AfterRows } else { OrderFate::Waiting };
        remarks.push(OrderRemark { given: order.given, ticket: None, fate });
    }
    remarks
}
