//! The journal of a rehearsal in words.

use stavel_core::model::price::scaled;
use stavel_core::model::time::{length_in_words, wall};
use stavel_core::rehearse::{
    Deal, DealDepth, DealReason, Desk, Direction, Entry, Gone, Order, OrderFate, OrderKind, OrderRemark,
    OrderRole, SpreadFrom, lots_text, money_to,
};

/// The journal of a desk as lines of text, oldest first; money with so many decimals.
pub fn journal_lines(desk: &Desk, currency: &str, decimals: u32) -> Vec<String> {
    desk.journal().iter().filter_map(|entry| entry_in_words(desk, entry, currency, decimals)).collect()
}

/// A line of the journal in words; none for what goes without saying: a market order that is filled is told by its deal.
pub fn entry_in_words(desk: &Desk, entry: &Entry, currency: &str, decimals: u32) -> Option<String> {
    Some(format!("{} {}", wall(entry.time()), happened_in_words(desk, entry, currency, decimals)?))
}

/// The same without its time.
pub(super) fn happened_in_words(desk: &Desk, entry: &Entry, currency: &str, decimals: u32) -> Option<String> {
    let money = |amount| money_to(amount, decimals);
    let name = |of: usize| match desk.traded() {
        [_] => String::new(),
        all => format!("{} ", all[of].name),
    };
    Some(match entry {
        Entry::Given(order) if order.kind == OrderKind::Market => return None,
        Entry::Given(order) => format!("{}{}", name(order.of), order_in_words(desk, order)),
        Entry::Changed { order, .. } => {
            format!("{}order {} now: {}", name(order.of), order.id, order_in_words(desk, order))
        }
        // What goes with its pair is told by the deal that took it along.
        Entry::Gone { why: Gone::Paired, .. } => return None,
        Entry::Gone { order, why, .. } => {
            let what = order_in_words(desk, order);
            let why = match why {
                Gone::NoQuote(waited) => format!("expired: no quote came for {}", length_in_words(*waited)),
                Gone::Expired => "expired".to_owned(),
                Gone::Cancelled | Gone::Paired => "taken back".to_owned(),
            };
            format!("{}{what}: {why}", name(order.of))
        }
        Entry::Refused(refusal) => format!("refused: {}", refusal.why),
        Entry::Swap(swap) => {
            let of = if swap.nights == 1 { String::new() } else { format!(" for {} nights", swap.nights) };
            format!("{}swap {} {currency}{of}", name(swap.of), money(swap.amount))
        }
        Entry::MarginCall { equity, margin, .. } => {
            format!("margin call: equity {} for a margin of {} {currency}", money(*equity), money(*margin))
        }
        Entry::Note { text, tag, .. } if tag.is_empty() => format!("note: {text}"),
        Entry::Note { text, tag, .. } => format!("note ({tag}): {text}"),
        Entry::Deal(deal) => {
            format!("{}{}", name(deal.of), deal_in_words(desk, deal, currency, decimals))
        }
    })
}

fn deal_in_words(desk: &Desk, deal: &Deal, currency: &str, decimals: u32) -> String {
    let money = |amount| money_to(amount, decimals);
    let verb = if deal.direction == Direction::Buy { "bought" } else { "sold" };
    let price = scaled(deal.price, desk.traded()[deal.of].decimals);
    let mut text = format!("{verb} {} at {price}", lots_text(deal.lots));
    if let Some(by) = by_in_words(deal.reason) {
        text.push_str(by);
    }
    if !deal.closed.is_empty() {
        text.push_str(&format!(", profit {} {currency}", money(deal.profit)));
    }
    if !deal.commission.is_zero() {
        text.push_str(&format!(", commission {}", money(deal.commission)));
    }
    if deal.depth == DealDepth::Old {
        text.push_str(", no depth of the last minute");
    }
    if deal.depth == DealDepth::Beyond {
        text.push_str(" ▲ in doubt: the recorded depth had no more, this is dealt at its last level");
    } else if deal.doubtful {
        text.push_str(" ▲ in doubt: the bar does not tell what came first, the worse is taken");
    }
    text
}

fn by_in_words(reason: DealReason) -> Option<&'static str> {
    match reason {
        DealReason::Market | DealReason::Close => None,
        DealReason::Limit => Some(" by a limit"),
        DealReason::Stop => Some(" by a stop"),
        DealReason::Trailing => Some(" by a trailing stop"),
        DealReason::BracketStop => Some(" by the stop of the bracket"),
        DealReason::Target => Some(" by the target of the bracket"),
        DealReason::MarginCall => Some(" for the margin call"),
    }
}

/// An order in words.
pub fn order_in_words(desk: &Desk, order: &Order) -> String {
    let verb = if order.direction == Direction::Buy { "buy" } else { "sell" };
    let price = |points: i64| scaled(points, desk.traded()[order.of].decimals);
    let role = match order.role {
        OrderRole::Stop => " (stop of the bracket)",
        OrderRole::Target => " (target of the bracket)",
        OrderRole::Entry | OrderRole::Close => "",
    };
    let how = match order.kind {
        OrderKind::Market => "at the market".to_owned(),
        OrderKind::Limit(at) => format!("at {} or better", price(at)),
        OrderKind::Stop(at) => format!("by a stop at {}", price(at)),
        OrderKind::StopLimit { stop, limit } => {
            format!("by a stop at {}, at {} or better", price(stop), price(limit))
        }
        OrderKind::Trailing(distance) => format!("by a stop that follows at {distance} points"),
    };
    format!("{verb} {} {how}{role}", lots_text(order.lots))
}

/// What a person should know of an order, in words.
pub fn remark_in_words(remark: &OrderRemark) -> String {
    let of = format!("the order of {}", wall(remark.given));
    match &remark.fate {
        OrderFate::BeforeRows(by) => {
            format!("{of} is refused: the rows begin {} later", length_in_words(*by))
        }
        OrderFate::Refused(why) => format!("{of} is refused: {why}"),
        OrderFate::NoQuote(by) => format!("{of} expired: no quote came for {}", length_in_words(*by)),
        OrderFate::Expired => format!("{of} expired: its time was over before its price came"),
        OrderFate::Waited(by) => format!("{of} waited {} for a quote", length_in_words(*by)),
        OrderFate::AfterRows => format!("{of} is not filled: the rows end before it"),
        OrderFate::Waiting => format!("{of} waits still: the rows end before its price came"),
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
