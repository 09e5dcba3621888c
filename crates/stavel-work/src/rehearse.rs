//! Doing a rehearse step.

use serde_json::{Value, json};

use crate::report::StepReport;
use crate::span::span_between;
use crate::step::RehearseStep;
use stavel_core::job::Job;
use stavel_core::model::columns::shape_of;
use stavel_core::model::price::scaled;
use stavel_core::model::time::{length_in_words, rfc3339, wall};
use stavel_core::model::{Instrument, Shape, Span};
use stavel_core::rehearse::{
    Account, AccountEntry, Deal, Direction, OrderFate, OrderRemark, Played, ScriptOutcome, SpreadFrom,
    SpreadRule, money, money_sheet, money_to, read_orders, run_orders,
};
use stavel_core::store::{EditionInfo, Shelf};
use stavel_core::{Error, Result};

/// What orders came to.
pub struct PlayedOrders {
    pub outcome: ScriptOutcome,
    instrument: Instrument,
    /// True where nobody has said what a step of the price is worth.
    in_points: bool,
    currency: String,
}

/// Plays a list of orders.
///
/// # Errors
/// Where the series cannot be played, or the orders cannot be read.
pub fn play_orders(shelf: &Shelf, step: &RehearseStep, job: &Job) -> Result<PlayedOrders> {
    let info = shelf.find(&step.series)?;
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{} is afloat: its session days are not known; align it first.",
            step.series
        )));
    }
    let edition = &info.edition;
    if shape_of(&edition.fields) == Shape::Depth {
        return Err(Error::input(
            "Depth rows alone cannot be played; name the ticks or bars of the instrument.",
        ));
    }
    let orders = step.orders.as_deref().ok_or_else(|| {
        Error::arguments("A rehearsal without a screen needs orders: a CSV file of time,side,lots.")
    })?;
    let orders = read_orders(orders)?;
    let instrument = shelf.instrument(&step.series.instrument)?;
    let (sheet, in_points) = money_sheet(&instrument, edition.scale.price);
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let spreads = SpreadRule::of(shelf, &info, &instrument.sheet)?;
    job.begin(format!("rehearse {}", step.series), edition.rows);
    let played = Played { frame: step.series.frame, decimals: edition.scale.price, spreads };
    let rows = shelf.scan(edition, span, None)?;
    if !has_rows(shelf, edition, span)? {
        let nearest = if span.to <= edition.first { edition.first } else { edition.last };
        return Err(Error::input(format!(
            "{} has nothing to play in that span; the nearest data are at {}.",
            step.series,
            rfc3339(nearest)
        )));
    }
    let currency = sheet.quote.clone();
    let outcome = run_orders(rows, &played, &orders, sheet, job)?;
    Ok(PlayedOrders { outcome, instrument, in_points, currency })
}

/// Plays a list of orders without a screen.
pub fn rehearse(shelf: &Shelf, step: &RehearseStep, job: &Job) -> Result<StepReport> {
    let PlayedOrders { outcome, instrument, in_points, currency } = play_orders(shelf, step, job)?;
    let mut json = outcome_json(&outcome);
    json["series"] = json!(step.series);
    json["currency"] = json!(currency);
    let a = &outcome.account;
    let mut lines = vec![format!(
        "{}: {} quotes, {} fills, realised {} {currency} after costs of {}, position {}",
        step.series,
        outcome.quotes,
        a.deals().len(),
        money(a.realised()),
        money(a.costs()),
        scaled(a.position(), 2)
    )];
    lines.extend(journal_lines(a, 2));
    lines.extend(outcome.remarks.iter().map(|remark| format!("  ▲ {}", remark_in_words(remark))));
    if in_points {
        lines.push(format!(
            "  nobody has said what a step of its price is worth, so this is in points, without costs: stavel compose {} --set tick_size=… --set tick_value=…",
            instrument.name
        ));
    }
    let used = outcome.spreads;
    if used.measured > 0 {
        lines.push(format!(
            "  the spread of {} quotes is the usual one of their hour of the week: their rows say none",
            used.measured
        ));
    }
    if used.sheet > 0 {
        lines.push(format!(
            "  the spread of {} quotes is that of the spec sheet: their rows say none",
            used.sheet
        ));
    }
    let doubts = if in_points { Vec::new() } else { instrument.doubts() };
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    let wants_person = !outcome.remarks.is_empty() || !doubts.is_empty();
    Ok(StepReport { wants_person, ..StepReport::new(json, lines) })
}

fn has_rows(shelf: &Shelf, edition: &EditionInfo, span: Span) -> Result<bool> {
    Ok(shelf.scan(edition, span, Some(&[]))?.next().transpose()?.is_some())
}

/// Fills, money and journal as JSON: RFC 3339 times, lots, prices and money as exact text.
fn outcome_json(outcome: &ScriptOutcome) -> Value {
    let a = &outcome.account;
    let deal_json = |deal: &Deal| {
        json!({
            "time": rfc3339(deal.time), "side": deal.direction, "lots": scaled(deal.lots, 2),
            "price": scaled(deal.price, a.decimals()), "commission": money(deal.commission),
            "profit": money(deal.profit),
        })
    };
    let used = outcome.spreads;
    json!({
        "quotes": outcome.quotes,
        "fills": a.deals().iter().map(deal_json).collect::<Vec<_>>(),
        "spreads": {"own": used.own, "measured": used.measured, "sheet": used.sheet},
        "unfilled": outcome.unfilled,
        "remarks": outcome.remarks.iter().map(remark_in_words).collect::<Vec<_>>(),
        "position": scaled(a.position(), 2),
        "realised": money(a.realised()),
        "costs": money(a.costs()),
        "open": money(a.open_profit(&outcome.last)),
        "last": rfc3339(outcome.last.time),
        "journal": journal_lines(a, 2),
    })
}

fn remark_in_words(remark: &OrderRemark) -> String {
    let of = format!("the order of {}", wall(remark.order));
    match remark.fate {
        OrderFate::BeforeRows(by) => format!("{of} is refused: the rows begin {} later", length_in_words(by)),
        OrderFate::Expired(by) => format!("{of} expired: no quote came for {}", length_in_words(by)),
        OrderFate::Waited(by) => format!("{of} waited {} for a quote", length_in_words(by)),
        OrderFate::AfterRows => format!("{of} is not filled: the rows end before it"),
    }
}

/// The journal of an account as lines of text, oldest first; money with so many decimals.
pub fn journal_lines(account: &Account, decimals: u32) -> Vec<String> {
    account.journal().iter().map(|entry| entry_in_words(account, entry, decimals)).collect()
}

fn entry_in_words(account: &Account, entry: &AccountEntry, decimals: u32) -> String {
    let money = |amount| money_to(amount, decimals);
    let currency = &account.sheet().quote;
    match entry {
        AccountEntry::Swap { time, amount, nights } => {
            let of = if *nights == 1 { String::new() } else { format!(" for {nights} nights") };
            format!("{} swap {} {currency}{of}", wall(*time), money(*amount))
        }
        AccountEntry::Deal(deal) => {
            let verb = if deal.direction == Direction::Buy { "bought" } else { "sold" };
            let price = scaled(deal.price, account.decimals());
            let mut text = format!("{} {verb} {} at {price}", wall(deal.time), scaled(deal.lots, 2));
            if !deal.profit.is_zero() {
                text.push_str(&format!(", profit {} {currency}", money(deal.profit)));
            }
            if !deal.commission.is_zero() {
                text.push_str(&format!(", commission {}", money(deal.commission)));
            }
            text
        }
    }
}

/// Where rows that say no spread have theirs from, in words.
pub fn spread_rule_in_words(from: SpreadFrom) -> &'static str {
    match from {
        SpreadFrom::Measured => "rows that say no spread get the usual one of their hour of the week",
        SpreadFrom::Sheet => "rows that say no spread get that of the spec sheet",
        SpreadFrom::Rows => "every row says its spread",
    }
}
