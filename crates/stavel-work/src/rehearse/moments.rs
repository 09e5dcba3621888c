//! Pictures of the moments of a journal: what could be seen when something was done, and nothing of what came after it.

use stavel_core::job::Job;
use stavel_core::model::price::as_float;
use stavel_core::model::time::{DAY, SECOND, wall};
use stavel_core::model::{Columns, DrawingColour, DrawingKind, DrawnPoint, Field, Frame, Micros, Span};
use stavel_core::rehearse::{BarEnds, Desk, Direction, Entry, Order, OrderRole, lots_text};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_draw::{DealAt, DrawingAt, Scene, SceneRequest, scene, to_svg};

use super::opening::{Opened, PlayedSeries};
use super::words::happened_in_words;
use crate::chart_bars::{ChartRoom, ChartSource, bars_for_chart};

/// Bars of a picture.
const BARS: usize = 120;
/// Fewer bars than this show too little: days before are added, a weekend may lie between.
const FEW: usize = 40;

/// The picture of a line of the journal as SVG: the bars until then, the deals until then, and the orders that waited. None
/// where there were no two bars yet.
///
/// # Errors
/// Where rows cannot be read, or it cannot be drawn.
pub fn moment_svg(shelf: &Shelf, opened: &Opened, line: usize, job: &Job) -> Result<Option<String>> {
    let made = moment_scene(shelf, opened, line, job)?;
    made.map(|scene| to_svg(&scene).map_err(|e| Error::storage(e.to_string()))).transpose()
}

fn moment_scene(shelf: &Shelf, opened: &Opened, line: usize, job: &Job) -> Result<Option<Scene>> {
    let desk = opened.replay.desk();
    let Some(entry) = desk.journal().get(line) else { return Ok(None) };
    let of = instrument_of(entry).filter(|of| *of < opened.played.len()).unwrap_or(0);
    let one = &opened.played[of];
    let (bars, frame) = bars_until(shelf, opened, one, entry.time(), job)?;
    if bars.len() < 2 {
        return Ok(None);
    }
    let decimals = one.info.edition.scale.price;
    let before = &desk.journal()[..=line];
    let deals: Vec<DealAt> = before
        .iter()
        .filter_map(|entry| match entry {
            Entry::Deal(deal) if deal.of == of && deal.time >= bars.time[0] => Some(DealAt {
                time: deal.time,
                price: as_float(deal.price, decimals),
                is_buy: deal.direction == Direction::Buy,
            }),
            _ => None,
        })
        .collect();
    let at = bars.time.last().copied().unwrap_or_default();
    let drawings: Vec<DrawingAt> =
        waiting(before, of).iter().filter_map(|order| order_line(desk, order, at)).collect();
    let clock = &one.instrument.sheet.session.clock;
    let words = happened_in_words(desk, entry, &opened.currency, 2).unwrap_or_default();
    let title = format!("{} UTC  {} {frame}  {words}", wall(entry.time()), one.info.name);
    let mut made =
        scene(&SceneRequest { title, deals: &deals, drawings: &drawings, ..SceneRequest::of(&bars, clock) });
    if let Some(pane) = made.panes.first_mut() {
        for price in drawings.iter().flat_map(|drawing| &drawing.points).map(|point| point.price) {
            let more = (pane.high - pane.low) * 0.03;
            (pane.low, pane.high) = (pane.low.min(price - more), pane.high.max(price + more));
        }
    }
    Ok(Some(made))
}

fn instrument_of(entry: &Entry) -> Option<usize> {
    match entry {
        Entry::Given(order) | Entry::Changed { order, .. } | Entry::Gone { order, .. } => Some(order.of),
        Entry::Refused(refusal) => refusal.ticket.as_ref().map(|ticket| ticket.of),
        Entry::Deal(deal) => Some(deal.of),
        Entry::Swap(swap) => Some(swap.of),
        Entry::MarginCall { .. } | Entry::Note { .. } => None,
    }
}

/// The orders of an instrument that wait after some lines of the journal.
fn waiting(before: &[Entry], of: usize) -> Vec<Order> {
    let mut orders: Vec<Order> = Vec::new();
    for entry in before {
        match entry {
            Entry::Given(order) => orders.push(order.clone()),
            Entry::Changed { order, .. } => {
                orders.iter_mut().filter(|o| o.id == order.id).for_each(|o| o.clone_from(order));
            }
            Entry::Gone { order, .. } => orders.retain(|o| o.id != order.id),
            Entry::Deal(deal) => {
                for order in orders.iter_mut().filter(|o| o.id == deal.order) {
                    order.lots -= deal.lots;
                }
                orders.retain(|o| o.lots > 0);
            }
            _ => {}
        }
    }
    orders.retain(|order| order.of == of);
    orders
}

fn role_in_words(order: &Order) -> &'static str {
    match (order.role, order.direction) {
        (OrderRole::Stop, _) => "stop",
        (OrderRole::Target, _) => "target",
        (_, Direction::Buy) => "buy",
        (_, Direction::Sell) => "sell",
    }
}

fn order_line(desk: &Desk, order: &Order, at: Micros) -> Option<DrawingAt> {
    let traded = &desk.traded()[order.of];
    let colour = match order.role {
        OrderRole::Stop => DrawingColour::Red,
        OrderRole::Target => DrawingColour::Green,
        OrderRole::Entry | OrderRole::Close => DrawingColour::Violet,
    };
    Some(DrawingAt {
        id: u64::from(order.id),
        kind: DrawingKind::Level,
        points: vec![DrawnPoint { time: at, price: as_float(order.price()?, traded.decimals) }],
        text: format!("{} {}", role_in_words(order), lots_text(order.lots)),
        colour,
        is_chosen: false,
    })
}

/// The bars that could be seen at a moment: none of a bar that was not over.
fn bars_until(
    shelf: &Shelf,
    opened: &Opened,
    one: &PlayedSeries,
    at: Micros,
    job: &Job,
) -> Result<(Columns, Frame)> {
    let info = &one.info;
    let frame = if info.name.frame.length() > 0 { info.name.frame } else { Frame::M1 };
    let until = match shelf.reader(&info.edition)?.last_rows(Span::new(Micros::MIN, at + 1), None)? {
        Some(rows) => {
            let mut ends = BarEnds::new(info.name.frame, &one.instrument.sheet.session);
            let next = first_after(shelf, one, at)?;
            open_at(&rows, &mut ends, next, at).unwrap_or(at + 1)
        }
        None => at + 1,
    };
    let read = |days: i64| {
        let span = Span::new(until - frame.length() * BARS as Micros - days * DAY, until);
        bars_for_chart(shelf, ChartSource::rows(info), span, ChartRoom::Frame(frame), 0, job)
    };
    let mut bars = read(0)?.bars;
    if bars.len() < FEW {
        bars = read(4)?.bars;
    }
    let bars = bars.rows(bars.len().saturating_sub(BARS)..bars.len());
    Ok((opened.factor.map_or(bars.clone(), |factor| factor.rows(bars)), frame))
}

/// The time of the first row after a moment, where it is near enough to end the bar before it.
fn first_after(shelf: &Shelf, one: &PlayedSeries, at: Micros) -> Result<Option<Micros>> {
    if one.rebuilt().is_none() {
        return Ok(None);
    }
    let near = Span::new(at + 1, at + one.info.name.frame.length() + 2 * DAY);
    for rows in shelf.scan(&one.info.edition, near, Some(&[]))? {
        if let Some(first) = rows?.time.first() {
            return Ok(Some(*first));
        }
    }
    Ok(None)
}

/// When a bar began that is the last row at a moment and not over then. A bar ends a second before its time is up.
fn open_at(rows: &Columns, ends: &mut BarEnds, next: Option<Micros>, at: Micros) -> Option<Micros> {
    let last = rows.len().checked_sub(1)?;
    let begin = rows.time[last];
    let close = ends.end(begin, rows.cells(Field::Covers).get(last), next) - SECOND;
    let close = next.map_or(close, |next| close.min(next - 1));
    (close.max(begin) > at).then_some(begin)
}
