//! A rehearsal as tables: its fills, its trades, and the journal line by line.

use stavel_core::deliver::TimedKind::{Flag, Number, Text, Time};
use stavel_core::deliver::{TimedCell, TimedTable};
use stavel_core::model::price::scaled;
use stavel_core::rehearse::{Deal, Desk, Direction, Entry, Order, OrderKind, lots_text, money, trades_of};

use super::document::mean_in_words;
use super::opening::Opened;
use super::words::{happened_in_words, order_in_words};
use crate::step::RehearsalTable;

/// A table of a rehearsal.
pub fn table_of(opened: &Opened, which: RehearsalTable) -> TimedTable {
    match which {
        RehearsalTable::Fills => fills(opened),
        RehearsalTable::Trades => trades(opened),
        RehearsalTable::Journal => journal(opened, &[]),
    }
}

fn side(direction: Direction) -> TimedCell {
    if direction == Direction::Buy { "buy" } else { "sell" }.into()
}

fn number(text: String) -> TimedCell {
    TimedCell::Number(text)
}

fn price(desk: &Desk, of: usize, points: i64) -> TimedCell {
    number(scaled(points, desk.traded()[of].decimals))
}

fn fills(opened: &Opened) -> TimedTable {
    let desk = opened.replay.desk();
    let row = |deal: &Deal| {
        vec![
            TimedCell::Time(deal.time),
            desk.traded()[deal.of].name.as_str().into(),
            side(deal.direction),
            number(lots_text(deal.lots)),
            price(desk, deal.of, deal.price),
            number(money(deal.commission)),
            number(money(deal.profit)),
            TimedCell::Text(deal.reason.to_string()),
            number(deal.order.to_string()),
            TimedCell::Flag(deal.doubtful),
            TimedCell::Text(deal.depth.to_string()),
            price(desk, deal.of, deal.seen.0),
            price(desk, deal.of, deal.seen.1),
        ]
    };
    TimedTable {
        name: "fills",
        columns: vec![
            ("time", Time),
            ("instrument", Text),
            ("side", Text),
            ("lots", Number),
            ("price", Number),
            ("commission", Number),
            ("profit", Number),
            ("reason", Text),
            ("order", Number),
            ("doubtful", Flag),
            ("depth", Text),
            ("bid", Number),
            ("ask", Number),
        ],
        rows: desk.deals().map(row).collect(),
    }
}

fn trades(opened: &Opened) -> TimedTable {
    let desk = opened.replay.desk();
    let row = |trade: &stavel_core::rehearse::Trade| {
        let decimals = desk.traded()[trade.of].decimals;
        vec![
            TimedCell::Time(trade.opened),
            TimedCell::Time(trade.closed),
            desk.traded()[trade.of].name.as_str().into(),
            side(trade.direction),
            number(lots_text(trade.lots)),
            number(mean_in_words(trade.cost, trade.lots, decimals)),
            number(mean_in_words(trade.proceeds, trade.lots, decimals)),
            number(money(trade.profit)),
            number(money(trade.costs)),
            number(money(trade.net())),
            number(format!("{:.1}", trade.best)),
            number(format!("{:.1}", trade.worst)),
            TimedCell::Text(trade.reason.to_string()),
            trade.tag.as_str().into(),
            TimedCell::Flag(trade.doubtful),
        ]
    };
    TimedTable {
        name: "trades",
        columns: vec![
            ("opened", Time),
            ("closed", Time),
            ("instrument", Text),
            ("side", Text),
            ("lots", Number),
            ("entry", Number),
            ("exit", Number),
            ("profit", Number),
            ("costs", Number),
            ("net", Number),
            ("best_points", Number),
            ("worst_points", Number),
            ("reason", Text),
            ("tag", Text),
            ("doubtful", Flag),
        ],
        rows: trades_of(desk).iter().map(row).collect(),
    }
}

/// The journal; where pictures of its moments were made, with the name of each.
pub(super) fn journal(opened: &Opened, pictures: &[Option<String>]) -> TimedTable {
    let desk = opened.replay.desk();
    let row = |(i, entry): (usize, &Entry)| {
        let line = JournalCells::of(desk, entry);
        // A table has a line for everything, also for what goes without saying in the journal.
        let words = happened_in_words(desk, entry, &opened.currency, 2).or(match entry {
            Entry::Given(order) => Some(order_in_words(desk, order)),
            Entry::Gone { order, .. } => {
                Some(format!("{}: its pair was filled", order_in_words(desk, order)))
            }
            _ => None,
        });
        vec![
            TimedCell::Time(entry.time()),
            line.event.into(),
            line.of.map_or(TimedCell::Absent, |of| desk.traded()[of].name.as_str().into()),
            line.order.map_or(TimedCell::Absent, |id| number(id.to_string())),
            line.direction.map_or(TimedCell::Absent, side),
            line.lots.map_or(TimedCell::Absent, |lots| number(lots_text(lots))),
            line.of.zip(line.price).map_or(TimedCell::Absent, |(of, points)| price(desk, of, points)),
            line.of.zip(line.seen).map_or(TimedCell::Absent, |(of, seen)| price(desk, of, seen.0)),
            line.of.zip(line.seen).map_or(TimedCell::Absent, |(of, seen)| price(desk, of, seen.1)),
            words.map_or(TimedCell::Absent, TimedCell::Text),
            line.tag.into(),
            pictures.get(i).cloned().flatten().map_or(TimedCell::Absent, TimedCell::Text),
        ]
    };
    TimedTable {
        name: "journal",
        columns: vec![
            ("time", Time),
            ("event", Text),
            ("instrument", Text),
            ("order", Number),
            ("side", Text),
            ("lots", Number),
            ("price", Number),
            ("bid", Number),
            ("ask", Number),
            ("words", Text),
            ("tag", Text),
            ("picture", Text),
        ],
        rows: desk.journal().iter().enumerate().map(row).collect(),
    }
}

/// What a line of the journal has for the columns of a table.
#[derive(Default)]
struct JournalCells<'a> {
    event: &'static str,
    of: Option<usize>,
    order: Option<u32>,
    direction: Option<Direction>,
    lots: Option<i64>,
    price: Option<i64>,
    seen: Option<(i64, i64)>,
    tag: &'a str,
}

impl<'a> JournalCells<'a> {
    fn of(desk: &Desk, entry: &'a Entry) -> JournalCells<'a> {
        let of_order = |event: &'static str, order: &'a Order| JournalCells {
            event,
            of: Some(order.of),
            order: Some(order.id),
            direction: Some(order.direction),
            lots: Some(order.lots),
            price: order.price().filter(|_| order.kind != OrderKind::Market),
            seen: order.seen.filter(|_| event != "gone"),
            tag: &order.tag,
        };
        match entry {
            Entry::Given(order) => of_order("given", order),
            Entry::Changed { order, .. } => of_order("changed", order),
            Entry::Gone { order, .. } => of_order("gone", order),
            Entry::Refused(refusal) => {
                let ticket = refusal.ticket.as_ref().filter(|ticket| ticket.of < desk.traded().len());
                JournalCells {
                    event: "refused",
                    of: ticket.map(|ticket| ticket.of),
                    direction: ticket.map(|ticket| ticket.direction),
                    ..JournalCells::default()
                }
            }
            Entry::Deal(deal) => JournalCells {
                event: "fill",
                of: Some(deal.of),
                order: Some(deal.order),
                direction: Some(deal.direction),
                lots: Some(deal.lots),
                price: Some(deal.price),
                seen: Some(deal.seen),
                tag: "",
            },
            Entry::Swap(swap) => JournalCells { event: "swap", of: Some(swap.of), ..JournalCells::default() },
            Entry::MarginCall { .. } => JournalCells { event: "margin-call", ..JournalCells::default() },
            Entry::Note { tag, .. } => JournalCells { event: "note", tag, ..JournalCells::default() },
        }
    }
}
