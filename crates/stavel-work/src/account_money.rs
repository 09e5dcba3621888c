//! The money of a spec sheet in the currency of an account, through the pairs on the shelf.

use rust_decimal::Decimal;
use serde_json::{Value, json};
use stavel_core::Result;
use stavel_core::crosses::{CrossLeg, cross_rate, last_price};
use stavel_core::model::costs::SwapKind;
use stavel_core::model::time::{DAY, rfc3339, wall};
use stavel_core::model::{Instrument, Micros, Standing};
use stavel_core::store::Shelf;

/// A price that is older than this is not that of the day: more than a weekend lies between.
const FRESH: Micros = 4 * DAY;

/// Money in the currency of an account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccountWish {
    /// The currency.
    pub currency: String,
    /// As of when; none means the last prices there are.
    pub at: Option<Micros>,
}

/// What is told of it.
pub struct AccountMoney {
    /// As a document.
    pub json: Value,
    /// As lines for people.
    pub lines: Vec<String>,
    /// What a careful person would look at.
    pub doubts: Vec<String>,
}

/// Tick value, commission and swaps of one lot in the currency of an account.
///
/// # Errors
/// Where the shelf cannot be read.
pub fn in_account(shelf: &Shelf, instrument: &Instrument, wish: &AccountWish) -> Result<AccountMoney> {
    let (sheet, to) = (&instrument.sheet, &wish.currency);
    let quote = &sheet.quote;
    let mut doubts = Vec::new();
    if quote.is_empty() {
        doubts
            .push(format!("nobody has said in which currency {} is priced: --set quote=…", instrument.name));
        return Ok(AccountMoney { json: Value::Null, lines: Vec::new(), doubts });
    }
    let Some(cross) = cross_rate(shelf, quote, to, wish.at)? else {
        doubts.push(format!(
            "no pair on the shelf leads from {quote} to {to}, so its money in {to} is not known"
        ));
        return Ok(AccountMoney { json: Value::Null, lines: Vec::new(), doubts });
    };
    let latest = cross.legs.iter().map(|leg| leg.time).max();
    let due = wish.at.or(latest);
    for leg in &cross.legs {
        if due.is_some_and(|due| due - leg.time > FRESH) {
            doubts.push(format!(
                "the price of {} is of {}, which is long before",
                leg.series,
                wall(leg.time)
            ));
        }
    }
    let price = last_price(shelf, instrument, wish.at)?.map(|(_, _, price)| price);
    let value = price.map(|price| price / sheet.tick_size * sheet.tick_value);
    let a_point = sheet.money(1, sheet.decimals);
    let known = |key: &str| instrument.standing(key) != Standing::Assumed;
    let there = |amount: Option<Decimal>| amount.map(|amount| (amount * cross.rate).round_dp(6).normalize());
    let needs_value = |text: &str| instrument.values.get(text).is_some_and(|v| v.contains('%'));
    let commission = match (known("commission"), value) {
        (true, Some(value)) => Some(sheet.commission.of_side(Decimal::ONE, value)),
        (true, None) if !needs_value("commission") => {
            Some(sheet.commission.of_side(Decimal::ONE, Decimal::ZERO))
        }
        _ => None,
    };
    // A rate is of a value; where no price is known there is none.
    let swap = |key: &str, swap: Decimal| match (sheet.swap_kind, value) {
        _ if !known(key) => None,
        (SwapKind::Rate, None) => None,
        (kind, value) => Some(kind.money(swap, a_point, value.unwrap_or_default())),
    };
    let margin = value.and_then(|value| sheet.margin.of(Decimal::ONE, value));
    let amounts = [
        ("tick_value", "a tick of a lot", there(Some(sheet.tick_value))),
        ("commission", "commission a lot and side", there(commission)),
        ("swap_long", "a night long", there(swap("swap_long", sheet.swap_long))),
        ("swap_short", "a night short", there(swap("swap_short", sheet.swap_short))),
        ("margin", "margin of a lot", there(margin)),
    ];
    let mut json = json!({
        "currency": to, "rate": cross.rate.round_dp(10).normalize().to_string(), "at": due.map(rfc3339),
        "legs": cross.legs.iter().map(leg_json).collect::<Vec<_>>(),
    });
    let mut lines = vec![format!("in {to}, one {quote} being {}:", cross.rate.round_dp(6).normalize())];
    lines.extend(cross.legs.iter().map(|leg| {
        let turned = if leg.is_turned { ", turned over" } else { "" };
        format!("  {} {} of {}{turned}", leg.series, leg.price, wall(leg.time))
    }));
    for (key, words, amount) in amounts {
        json[key] = json!(amount.map(|a| a.to_string()));
        lines.extend(amount.map(|amount| format!("  {words:<26} {amount} {to}")));
    }
    Ok(AccountMoney { json, lines, doubts })
}

fn leg_json(leg: &CrossLeg) -> Value {
    json!({"series": leg.series, "time": rfc3339(leg.time), "price": leg.price.to_string(), "turned": leg.is_turned})
}
