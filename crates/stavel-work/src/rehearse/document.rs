//! A rehearsal as JSON: RFC 3339 times; lots, prices and money as exact text.

use serde_json::{Map, Value, json};
use stavel_core::model::price::scaled;
use stavel_core::model::time::rfc3339;
use stavel_core::rehearse::{
    Deal, Desk, Direction, Entry, Figures, Gone, Order, OrderFate, OrderKind, Outcome, Trade, TradeSum,
    lots_text, money,
};
use stavel_core::store::SeriesInfo;

use super::depth::DepthBeside;
use super::opening::Opened;
use super::words::{journal_lines, order_in_words, remark_in_words};

/// The whole of it.
pub(super) fn outcome_json(outcome: &Outcome, opened: &Opened, figures: &Figures) -> Value {
    let desk = opened.replay.desk();
    let account = desk.account();
    let used = outcome.spreads;
    let position = match desk.traded() {
        [_] => json!(lots_text(account.position(0))),
        all => {
            let each = all.iter().enumerate();
            each.map(|(of, traded)| (traded.name.clone(), json!(lots_text(account.position(of)))))
                .collect::<Map<String, Value>>()
                .into()
        }
    };
    let last = (0..desk.traded().len()).filter_map(|of| desk.quote(of)).map(|q| q.time).max();
    let mut refused: Vec<Value> = Vec::new();
    for remark in &outcome.remarks {
        let why = match &remark.fate {
            OrderFate::BeforeRows(_) | OrderFate::AfterRows => remark_in_words(remark),
            OrderFate::Refused(why) => why.clone(),
            _ => continue,
        };
        let mut refusal = json!({"time": rfc3339(remark.given), "why": why});
        if let Some(ticket) = &remark.ticket {
            refusal["instrument"] = json!(desk.traded()[ticket.of].name);
            refusal["side"] = json!(ticket.direction);
        }
        refused.push(refusal);
    }
    json!({
        "quotes": outcome.quotes,
        "currency": opened.currency,
        "ask": opened.played.iter().filter_map(|one| one.ask.as_ref()).map(ask_json).collect::<Vec<_>>(),
        "depth": opened.played.iter().filter_map(|one| one.depth.as_ref()).map(depth_json).collect::<Vec<_>>(),
        "fills": desk.deals().map(|deal| deal_json(desk, deal)).collect::<Vec<_>>(),
        "refused": refused,
        "expired": desk.journal().iter().filter_map(|entry| expired_json(desk, entry)).collect::<Vec<_>>(),
        "waiting": desk.orders().iter().map(|order| order_json(desk, order)).collect::<Vec<_>>(),
        "spreads": {"own": used.own, "measured": used.measured, "sheet": used.sheet},
        "unfilled": outcome.unfilled(),
        "remarks": outcome.remarks.iter().map(remark_in_words).collect::<Vec<_>>(),
        "position": position,
        "realised": money(account.realised()),
        "costs": money(account.costs()),
        "open": desk.open_profit().map(money),
        "equity": desk.equity().map(money),
        "last": last.map(rfc3339),
        "statistics": figures_json(figures),
        "journal": journal_lines(desk, &opened.currency, 2),
    })
}

fn ask_json(ask: &SeriesInfo) -> Value {
    json!({"series": ask.name, "edition": ask.edition.number})
}

/// A recorded order book that was played beside a series; without what its sizes count orders are filled without it.
pub fn depth_json(depth: &DepthBeside) -> Value {
    json!({"series": depth.info.name, "edition": depth.info.edition.number, "sizes": depth.sizes})
}

fn deal_json(desk: &Desk, deal: &Deal) -> Value {
    let traded = &desk.traded()[deal.of];
    let price = |points: i64| scaled(points, traded.decimals);
    json!({
        "time": rfc3339(deal.time), "instrument": traded.name, "side": deal.direction, "lots": lots_text(deal.lots),
        "price": price(deal.price), "commission": money(deal.commission), "profit": money(deal.profit),
        "reason": deal.reason, "order": deal.order, "bid": price(deal.seen.0), "ask": price(deal.seen.1),
        "doubtful": deal.doubtful, "depth": deal.depth,
        "closed": deal.closed.iter().map(|trade| trade_json(desk, trade)).collect::<Vec<_>>(),
    })
}

/// A mean price: exact where it is a price, else with one more decimal.
pub(super) fn mean_in_words(sum: i128, lots: i64, decimals: u8) -> String {
    let whole =
        i64::try_from(sum / i128::from(lots.max(1))).ok().filter(|_| sum % i128::from(lots.max(1)) == 0);
    whole.map_or_else(
        || {
            format!(
                "{:.*}",
                usize::from(decimals) + 1,
                sum as f64 / lots as f64 / stavel_core::model::price::unit(decimals) as f64
            )
        },
        |points| scaled(points, decimals),
    )
}

/// A trade: excursions in points of the price.
fn trade_json(desk: &Desk, trade: &Trade) -> Value {
    let decimals = desk.traded()[trade.of].decimals;
    json!({
        "opened": rfc3339(trade.opened), "side": trade.direction, "lots": lots_text(trade.lots),
        "entry": format!("{:.*}", usize::from(decimals) + 1, trade.entry() / stavel_core::model::price::unit(decimals) as f64),
        "exit": mean_in_words(trade.proceeds, trade.lots, decimals), "profit": money(trade.profit), "costs": money(trade.costs),
        "net": money(trade.net()), "best": trade.best, "worst": trade.worst, "tag": trade.tag,
        "reason": trade.reason, "doubtful": trade.doubtful,
    })
}

/// An order that waits.
fn order_json(desk: &Desk, order: &Order) -> Value {
    let traded = &desk.traded()[order.of];
    let price = |points: i64| scaled(points, traded.decimals);
    let (kind, at) = match order.kind {
        OrderKind::Market => ("market", None),
        OrderKind::Limit(at) => ("limit", Some(price(at))),
        OrderKind::Stop(at) => ("stop", Some(price(at))),
        OrderKind::StopLimit { stop, limit } => {
            ("stop-limit", Some(format!("{}/{}", price(stop), price(limit))))
        }
        OrderKind::Trailing(distance) => ("trailing", Some(format!("{distance}pt"))),
    };
    json!({
        "order": order.id, "instrument": traded.name, "given": rfc3339(order.given), "side": order.direction,
        "type": kind, "lots": lots_text(order.lots), "price": at, "stops_at": order.price().map(price),
        "until": order.until.map(rfc3339), "role": order.role, "pair": order.pair, "words": order_in_words(desk, order),
    })
}

fn expired_json(desk: &Desk, entry: &Entry) -> Option<Value> {
    match entry {
        Entry::Gone { order, why: Gone::Expired | Gone::NoQuote(_), time } => {
            let mut document = order_json(desk, order);
            document["time"] = json!(rfc3339(*time));
            Some(document)
        }
        _ => None,
    }
}

/// A line of the journal; one kind of document for each kind of line.
pub fn entry_json(desk: &Desk, entry: &Entry) -> Value {
    let time = rfc3339(entry.time());
    match entry {
        Entry::Given(order) => json!({"event": "given", "time": time, "order": order_json(desk, order)}),
        Entry::Changed { order, .. } => {
            json!({"event": "changed", "time": time, "order": order_json(desk, order)})
        }
        Entry::Gone { order, why, .. } => {
            let why = match why {
                Gone::Cancelled => "cancelled",
                Gone::Paired => "paired",
                Gone::Expired => "expired",
                Gone::NoQuote(_) => "no quote",
            };
            json!({"event": "gone", "time": time, "why": why, "order": order_json(desk, order)})
        }
        Entry::Refused(refusal) => json!({"event": "refused", "time": time, "why": refusal.why}),
        Entry::Deal(deal) => json!({"event": "fill", "fill": deal_json(desk, deal)}),
        Entry::Swap(swap) => json!({
            "event": "swap", "time": time, "instrument": desk.traded()[swap.of].name, "amount": money(swap.amount),
            "nights": swap.nights,
        }),
        Entry::MarginCall { equity, margin, .. } => {
            json!({"event": "margin call", "time": time, "equity": money(*equity), "margin": money(*margin)})
        }
        Entry::Note { text, tag, .. } => json!({"event": "note", "time": time, "text": text, "tag": tag}),
    }
}

/// What is held, waits and was earned, as of the last quotes.
pub fn account_json(desk: &Desk) -> Value {
    let account = desk.account();
    let holding = |h: &stavel_core::rehearse::Holding| {
        let traded = &desk.traded()[h.of];
        json!({
            "holding": h.id, "instrument": traded.name, "lots": lots_text(h.lots),
            "side": if h.direction == Direction::Buy { "buy" } else { "sell" }, "opened": rfc3339(h.opened),
            "price": format!("{:.*}", usize::from(traded.decimals) + 1, h.mean_price() / stavel_core::model::price::unit(traded.decimals) as f64),
        })
    };
    json!({
        "realised": money(account.realised()), "costs": money(account.costs()), "open": desk.open_profit().map(money),
        "equity": desk.equity().map(money), "margin": desk.margin().map(money),
        "holdings": account.holdings().iter().map(holding).collect::<Vec<_>>(),
        "orders": desk.orders().iter().map(|order| order_json(desk, order)).collect::<Vec<_>>(),
    })
}

/// What it all adds up to.
pub fn figures_json(figures: &Figures) -> Value {
    let sum = |sum: &TradeSum| json!({"trades": sum.trades, "won": sum.won, "net": money(sum.net)});
    let by_hour: Map<String, Value> =
        figures.by_hour.iter().map(|(hour, of)| (format!("{hour:02}"), sum(of))).collect();
    let by_tag: Map<String, Value> = figures.by_tag.iter().map(|(tag, of)| (tag.clone(), sum(of))).collect();
    json!({
        "trades": figures.all.trades, "won": figures.all.won, "net": money(figures.all.net),
        "gains": money(figures.gains), "losses": money(figures.losses), "costs": money(figures.costs),
        "expectancy": figures.expectancy.map(money), "drawdown": money(figures.drawdown), "deepest": money(figures.deepest),
        "seconds_in_market": figures.in_market / 1_000_000, "seconds_played": figures.played / 1_000_000,
        "doubtful": figures.doubtful, "by_hour": by_hour, "by_tag": by_tag,
        "curve": figures.curve.iter().map(|(time, sum)| json!([rfc3339(*time), money(*sum)])).collect::<Vec<_>>(),
    })
}
