//! The rules of a desk, case by case.

use rust_decimal::Decimal;
use stavel_core::model::Micros;
use stavel_core::model::time::{DAY, MINUTE, SECOND, parse};
use stavel_core::rehearse::{
    BarReach, DealReason, Desk, DeskAct, DeskRules, Direction, Entry, Exit, Gone, LOT, Order, OrderKind,
    Queue, Size, Ticket, TradeQuote, Until,
};

use crate::desks::{desk, desk_with, traded};

const START: &str = "2024-03-05 10:00";

fn at(seconds: i64, bid: i64) -> TradeQuote {
    TradeQuote { time: parse(START).unwrap() + seconds * SECOND, bid, ask: bid + 10 }
}

fn order(direction: Direction, kind: OrderKind) -> Ticket {
    Ticket { kind, ..Ticket::market(0, direction, LOT) }
}

fn give(desk: &mut Desk, ticket: Ticket) {
    desk.give(desk.now(), DeskAct::Order(ticket));
}

/// Every deal: reason, price, size with its sign.
fn deals(desk: &Desk) -> Vec<(DealReason, i64, i64)> {
    desk.deals().map(|d| (d.reason, d.price, d.lots * d.direction.sign())).collect()
}

fn refused(desk: &Desk) -> String {
    match desk.journal().last() {
        Some(Entry::Refused(refusal)) => refusal.why.clone(),
        other => panic!("not refused: {other:?}"),
    }
}

#[test]
fn buys_fill_at_the_ask_and_sales_at_the_bid() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    give(&mut desk, Ticket::market(0, Direction::Buy, LOT));
    give(&mut desk, Ticket::market(0, Direction::Sell, LOT));
    assert_eq!(deals(&desk), [(DealReason::Market, 1010, LOT), (DealReason::Market, 1000, -LOT)]);
    assert_eq!(desk.account().realised(), Decimal::from(-10));
}

#[test]
fn what_is_given_between_two_quotes_is_dealt_at_its_own_moment_and_pays_no_night_before_it() {
    let mut desk = desk(&[("swap_long", "-5")]);
    let evening = parse("2024-03-05 23:59").unwrap();
    desk.take(0, TradeQuote { time: evening, bid: 1000, ask: 1010 });
    desk.give(evening + 2 * MINUTE, DeskAct::Order(Ticket::market(0, Direction::Buy, LOT)));
    desk.take(0, TradeQuote { time: evening + 3 * MINUTE, bid: 1000, ask: 1010 });
    let deal = desk.deals().next().unwrap();
    assert_eq!((deal.time, deal.price), (evening + 2 * MINUTE, 1010));
    assert_eq!(desk.account().costs(), Decimal::ZERO);
    assert!(desk.journal().is_sorted_by_key(Entry::time));
}

#[test]
fn a_quote_from_before_a_hole_is_dealt_at_no_more() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 100));
    let patience = desk.traded()[0].patience;
    let before = at(0, 0).time + patience;
    desk.give(before, DeskAct::Order(Ticket::market(0, Direction::Buy, LOT)));
    assert_eq!(deals(&desk), [(DealReason::Market, 110, LOT)]);
    // A second later nobody knows what the price is: the order waits for the first quote after the hole.
    desk.give(before + SECOND, DeskAct::Flat { of: None });
    assert_eq!(deals(&desk).len(), 1);
    desk.take(0, TradeQuote { time: before + 2 * SECOND, bid: 70, ask: 80 });
    assert_eq!(deals(&desk)[1], (DealReason::Close, 70, -LOT));
}

#[test]
fn a_stop_gets_the_next_price_and_a_limit_its_own_or_better() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    give(&mut desk, order(Direction::Buy, OrderKind::Stop(1050)));
    give(&mut desk, order(Direction::Buy, OrderKind::Limit(970)));
    desk.take(0, at(1, 1039));
    assert_eq!(deals(&desk), [], "an ask of 1049 is neither");
    desk.take(0, at(2, 1080));
    desk.take(0, at(3, 940));
    assert_eq!(deals(&desk), [(DealReason::Stop, 1090, LOT), (DealReason::Limit, 950, LOT)]);
}

#[test]
fn a_limit_beyond_the_market_fills_at_once_and_a_queue_has_to_be_passed() {
    let rules = DeskRules { queue: Queue::Through, ..DeskRules::default() };
    let mut desk = desk_with(&[], rules);
    desk.take(0, at(0, 1000));
    give(&mut desk, order(Direction::Buy, OrderKind::Limit(1010)));
    assert_eq!(deals(&desk), [], "the ask touches it only");
    desk.take(0, at(1, 999));
    give(&mut desk, order(Direction::Sell, OrderKind::Limit(900)));
    assert_eq!(deals(&desk), [(DealReason::Limit, 1009, LOT), (DealReason::Limit, 999, -LOT)]);
}

#[test]
fn one_end_of_a_bracket_takes_the_other_back() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    let bracket = Ticket {
        stop: Some(Exit::Away(50)),
        target: Some(Exit::At(1110)),
        ..Ticket::market(0, Direction::Buy, LOT)
    };
    give(&mut desk, bracket);
    assert_eq!(desk.orders().iter().map(Order::price).collect::<Vec<_>>(), [Some(960), Some(1110)]);
    desk.take(0, at(1, 1115));
    assert_eq!(deals(&desk)[1..], [(DealReason::Target, 1115, -LOT)]);
    assert!(desk.orders().is_empty());
    let trade = &desk.deals().last().unwrap().closed[0];
    assert_eq!((trade.best, trade.worst), (105.0, -10.0));
    assert!(matches!(desk.journal().last(), Some(Entry::Gone { why: Gone::Paired, .. })));
}

#[test]
fn a_bracket_goes_with_its_part_and_is_gone_when_nothing_is_held() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    for _ in 0..2 {
        give(&mut desk, Ticket { stop: Some(Exit::Away(50)), ..Ticket::market(0, Direction::Buy, LOT) });
    }
    let holding = desk.account().holdings()[0].id;
    desk.give(desk.now(), DeskAct::Close { holding, lots: Some(LOT + LOT / 2) });
    assert_eq!((desk.account().position(0), desk.orders().len()), (LOT / 2, 2));
    // Both stops are for a lot, but half a lot is left.
    desk.take(0, at(1, 900));
    assert_eq!(desk.account().position(0), 0);
    assert!(desk.orders().is_empty());
    assert_eq!(deals(&desk).last(), Some(&(DealReason::BracketStop, 900, -LOT / 2)));
}

#[test]
fn a_trailing_stop_follows_and_never_goes_back() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    give(&mut desk, Ticket { stop: Some(Exit::Trail(30)), ..Ticket::market(0, Direction::Buy, LOT) });
    for (i, bid) in [1020, 1060, 1040, 1031].into_iter().enumerate() {
        desk.take(0, at(1 + i as i64, bid));
    }
    assert_eq!(desk.orders()[0].price(), Some(1030));
    desk.take(0, at(9, 1029));
    assert_eq!(deals(&desk)[1..], [(DealReason::Trailing, 1029, -LOT)]);
}

#[test]
fn a_stop_limit_wakes_and_then_waits_for_its_price() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    give(&mut desk, order(Direction::Buy, OrderKind::StopLimit { stop: 1050, limit: 1055 }));
    desk.take(0, at(1, 1060));
    assert_eq!((deals(&desk).len(), desk.orders()[0].kind), (0, OrderKind::Limit(1055)));
    desk.take(0, at(2, 1044));
    assert_eq!(deals(&desk), [(DealReason::Limit, 1054, LOT)]);
}

#[test]
fn orders_end_with_their_day_or_their_time() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    give(&mut desk, Ticket { until: Until::Day, ..order(Direction::Buy, OrderKind::Limit(900)) });
    let until = Until::Time(at(60, 0).time);
    give(&mut desk, Ticket { until, ..order(Direction::Buy, OrderKind::Limit(900)) });
    desk.take(0, at(60, 800));
    assert_eq!(deals(&desk).len(), 1, "the one of the minute is over when the minute is");
    give(&mut desk, Ticket { until: Until::Day, ..order(Direction::Buy, OrderKind::Limit(700)) });
    desk.take(0, TradeQuote { time: parse("2024-03-06 00:00").unwrap(), bid: 500, ask: 510 });
    assert_eq!((deals(&desk).len(), desk.orders().len()), (1, 0));
}

#[test]
fn what_is_on_its_way_meets_the_price_that_is_there_when_it_arrives() {
    let rules = DeskRules { latency: 2 * SECOND, slippage: 3, ..DeskRules::default() };
    let mut desk = desk_with(&[], rules);
    desk.take(0, at(0, 1000));
    give(&mut desk, Ticket::market(0, Direction::Buy, LOT));
    desk.take(0, at(1, 1001));
    assert_eq!(deals(&desk), []);
    desk.take(0, at(2, 1020));
    assert_eq!(deals(&desk), [(DealReason::Market, 1033, LOT)]);
    // A limit is never worse than its price.
    give(&mut desk, order(Direction::Sell, OrderKind::Limit(1020)));
    desk.take(0, at(4, 1020));
    assert_eq!(deals(&desk)[1], (DealReason::Limit, 1020, -LOT));
}

#[test]
fn both_sides_are_held_beside_each_other_where_that_is_the_rule() {
    let mut desk = desk_with(&[], DeskRules { hedged: true, ..DeskRules::default() });
    desk.take(0, at(0, 1000));
    give(&mut desk, Ticket::market(0, Direction::Buy, LOT));
    give(&mut desk, Ticket { stop: Some(Exit::Away(40)), ..Ticket::market(0, Direction::Sell, LOT) });
    assert_eq!((desk.account().holdings().len(), desk.account().position(0)), (2, 0));
    desk.take(0, at(1, 1060));
    assert_eq!(desk.account().position(0), LOT, "only the sale was stopped");
    assert_eq!(desk.open_profit(), Some(Decimal::from(50)));
    desk.give(desk.now(), DeskAct::Reverse { of: 0 });
    assert_eq!(desk.account().position(0), -LOT);
}

#[test]
fn bad_orders_are_refused_in_words() {
    let sheet = [("lot_min", "0.10"), ("lot_step", "0.10"), ("lot_max", "5"), ("tick_size", "0.00005")];
    let mut desk = desk(&sheet);
    give(&mut desk, Ticket::market(0, Direction::Buy, LOT));
    assert_eq!(refused(&desk), "NOKSEK has no price yet");
    desk.take(0, at(0, 1000));
    let size = |lots: i64| Ticket { size: Size::Lots(lots), ..Ticket::market(0, Direction::Buy, LOT) };
    let exits = |stop: Option<Exit>, target: Option<Exit>| Ticket {
        stop,
        target,
        ..Ticket::market(0, Direction::Buy, LOT)
    };
    let cases = [
        (size(500), "0.05 lots are less than the least of NOKSEK, 0.10"),
        (size(60_000), "6.00 lots are more than the most of NOKSEK, 5.00"),
        (size(1_500), "0.15 lots are no whole number of steps of 0.10"),
        (size(0), "a size must be above zero"),
        (order(Direction::Buy, OrderKind::Limit(903)), "0.00903 is no whole number of steps of 0.00005"),
        (
            order(Direction::Buy, OrderKind::Stop(1005)),
            "a stop that buys at 0.01005 must lie above the ask, which is 0.01010",
        ),
        (
            order(Direction::Sell, OrderKind::Stop(1005)),
            "a stop that sells at 0.01005 must lie below the bid, which is 0.01000",
        ),
        (
            exits(Some(Exit::At(1020)), None),
            "the stop 0.01020 must lie below 0.01010, where the position is opened",
        ),
        (
            exits(None, Some(Exit::At(900))),
            "the target 0.00900 must lie above 0.01010, where the position is opened",
        ),
        (exits(Some(Exit::Away(0)), None), "a distance must be above zero"),
        (
            exits(Some(Exit::Away(50)), Some(Exit::Away(52))),
            "a distance of 52 points is no whole number of steps of 0.00005, which is 5 points",
        ),
        (
            order(Direction::Sell, OrderKind::Trailing(7)),
            "a distance of 7 points is no whole number of steps of 0.00005, which is 5 points",
        ),
        (Ticket { of: 3, ..size(LOT) }, "no instrument 3 is played"),
        (
            Ticket { size: Size::Risk(Decimal::ONE), ..exits(Some(Exit::Away(50)), None) },
            "size by risk needs to know what is in the account: say its balance",
        ),
    ];
    for (ticket, why) in cases {
        give(&mut desk, ticket);
        assert_eq!(refused(&desk), why);
    }
    for (act, why) in [
        (DeskAct::Move { order: 9, price: 1000 }, "no order 9 waits"),
        (DeskAct::Close { holding: 9, lots: None }, "nothing is held under number 9"),
        (DeskAct::Flat { of: None }, "there is no position to close"),
        (DeskAct::Reverse { of: 0 }, "there is no position to turn round"),
    ] {
        desk.give(desk.now(), act);
        assert_eq!(refused(&desk), why);
    }
    desk.give(desk.now() + 3 * DAY, DeskAct::Order(size(LOT)));
    assert_eq!(refused(&desk), "NOKSEK has had no price for 3 d");
    assert_eq!((deals(&desk).len(), desk.orders().len()), (0, 0));
}

#[test]
fn a_closed_market_says_when_it_opens() {
    let mut desk = desk(&[("hours", "mon-fri 08:00-17:00 UTC")]);
    let evening = parse("2024-03-08 16:59").unwrap();
    desk.take(0, TradeQuote { time: evening, bid: 1000, ask: 1010 });
    desk.give(evening + 4 * 60 * MINUTE, DeskAct::Order(Ticket::market(0, Direction::Buy, LOT)));
    assert_eq!(refused(&desk), "NOKSEK is closed; it opens at 2024-03-11 08:00");
}

#[test]
fn moved_orders_keep_their_side_and_a_moved_stop_limit_its_distance() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    give(&mut desk, order(Direction::Buy, OrderKind::StopLimit { stop: 1050, limit: 1055 }));
    desk.give(desk.now(), DeskAct::Move { order: 1, price: 1030 });
    assert_eq!(desk.orders()[0].kind, OrderKind::StopLimit { stop: 1030, limit: 1035 });
    desk.give(desk.now(), DeskAct::Move { order: 1, price: 900 });
    assert!(refused(&desk).contains("must lie above the ask"));
    desk.give(desk.now(), DeskAct::Resize { order: 1, lots: 3 * LOT });
    desk.take(0, at(1, 1021));
    assert_eq!(deals(&desk), [(DealReason::Limit, 1031, 3 * LOT)]);
}

#[test]
fn size_by_risk_loses_what_was_said_and_margin_is_looked_at() {
    let rules = DeskRules { balance: Some(Decimal::from(10_000)), ..DeskRules::default() };
    let mut desk = desk_with(&[("margin", "2000")], rules);
    desk.take(0, at(0, 100_000));
    // One per cent is 100 SEK; a lot loses 80 at a stop 80 points away.
    let risky = Ticket {
        size: Size::Risk(Decimal::ONE),
        stop: Some(Exit::Away(80)),
        ..Ticket::market(0, Direction::Buy, LOT)
    };
    give(&mut desk, risky);
    assert_eq!(desk.account().position(0), LOT * 125 / 100);
    assert_eq!(desk.margin(), Some(Decimal::from(2500)));
    give(&mut desk, Ticket::market(0, Direction::Buy, 4 * LOT));
    assert_eq!(refused(&desk), "order 3 needs 8000.00 of margin and 7487.50 is free");
    assert_eq!(desk.account().position(0), LOT * 125 / 100);
}

#[test]
fn a_margin_call_closes_everything_at_the_market() {
    let rules = DeskRules { balance: Some(Decimal::from(3_000)), ..DeskRules::default() };
    let mut desk = desk_with(&[("margin", "2000")], rules);
    desk.take(0, at(0, 100_000));
    give(&mut desk, Ticket::market(0, Direction::Buy, LOT));
    // 1,000 SEK of room: 990 points further down the equity is what the margin asks for.
    let times: Vec<Micros> = (1..=200).map(|i| at(i, 0).time).collect();
    let bids: Vec<i64> = (1..=200).map(|i| 100_000 - i * 10).collect();
    let asks: Vec<i64> = bids.iter().map(|b| b + 10).collect();
    desk.run(0, &times, &bids, &asks);
    assert_eq!(deals(&desk)[1..], [(DealReason::MarginCall, 99_000, -LOT)]);
    let calls = desk.journal().iter().filter(|e| matches!(e, Entry::MarginCall { .. })).count();
    assert_eq!(calls, 1);
}

#[test]
fn a_margin_call_comes_within_a_bar_too_though_its_close_is_harmless() {
    let rules = DeskRules { balance: Some(Decimal::from(3_000)), ..DeskRules::default() };
    let mut desk = desk_with(&[("margin", "2000")], rules);
    desk.take(0, at(0, 100_000));
    give(&mut desk, Ticket::market(0, Direction::Buy, LOT));
    let from = at(60, 0).time;
    desk.take(0, at(60, 100_000));
    let close = TradeQuote { time: from + 59 * SECOND, bid: 100_000, ask: 100_010 };
    desk.take_bar(0, reach(from, 98_500, 100_010, close.ask - close.bid), close);
    assert_eq!(deals(&desk)[1..], [(DealReason::MarginCall, 98_500, -LOT)]);
}

/// What lies in a bar of bids whose ask is always so far away.
fn reach(from: i64, low: i64, high: i64, spread: i64) -> BarReach {
    BarReach { from, low, high, ask_low: low + spread, ask_high: high + spread }
}

/// A bar from 1000 that ends at 1000, a minute long.
fn bar(desk: &mut Desk, low: i64, high: i64) {
    let from = at(60, 0).time;
    desk.take(0, at(60, 1000));
    desk.take_bar(
        0,
        reach(from, low, high, 10),
        TradeQuote { time: from + 59 * SECOND, bid: 1000, ask: 1010 },
    );
}

fn bought(stop: i64, target: i64) -> Desk {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    let exits = (Some(Exit::At(stop)), Some(Exit::At(target)));
    give(&mut desk, Ticket { stop: exits.0, target: exits.1, ..Ticket::market(0, Direction::Buy, LOT) });
    desk
}

#[test]
fn a_bar_that_touches_stop_and_target_takes_the_worse_and_is_in_doubt() {
    let mut desk = bought(950, 1100);
    bar(&mut desk, 900, 1200);
    let deal = desk.deals().last().unwrap();
    assert_eq!((deal.reason, deal.price, deal.doubtful), (DealReason::BracketStop, 950, true));
    assert!(deal.closed[0].doubtful);
}

#[test]
fn a_bar_that_touches_one_of_them_is_sure_and_fills_at_the_order() {
    for (low, high, reason, price) in
        [(940, 1050, DealReason::BracketStop, 950), (960, 1150, DealReason::Target, 1100)]
    {
        let mut desk = bought(950, 1100);
        bar(&mut desk, low, high);
        let deal = desk.deals().last().unwrap();
        assert_eq!((deal.reason, deal.price, deal.doubtful), (reason, price, false));
    }
}

#[test]
fn a_bar_that_opens_beyond_an_order_is_a_gap() {
    let mut desk = bought(950, 1100);
    desk.take(0, at(60, 920));
    assert_eq!(deals(&desk)[1..], [(DealReason::BracketStop, 920, -LOT)]);
}

#[test]
fn an_entry_within_a_bar_is_not_helped_by_what_may_have_been_before_it() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    let target = Some(Exit::Away(40));
    give(&mut desk, Ticket { target, ..order(Direction::Buy, OrderKind::Limit(960)) });
    // The high may have come before the low at which it was bought.
    bar(&mut desk, 900, 1200);
    assert_eq!(
        desk.account().position(0),
        0,
        "the close is beyond the target: that came after the low for sure"
    );
    let last = desk.deals().last().unwrap();
    assert_eq!((last.reason, last.price, last.doubtful), (DealReason::Target, 1000, false));

    let mut desk = crate::desks::desk(&[]);
    desk.take(0, at(0, 1000));
    let target = Some(Exit::Away(100));
    give(&mut desk, Ticket { target, ..order(Direction::Buy, OrderKind::Limit(960)) });
    bar(&mut desk, 900, 1200);
    assert_eq!(desk.account().position(0), LOT, "the worse way: first up, then down");
    assert!(desk.account().holdings()[0].doubtful);
}

#[test]
fn an_order_given_while_a_bar_is_open_meets_only_its_close() {
    let mut desk = desk(&[]);
    desk.take(0, at(60, 1000));
    let from = desk.now();
    desk.submit(from + 30 * SECOND, DeskAct::Order(order(Direction::Buy, OrderKind::Limit(960))));
    let close = TradeQuote { time: from + 59 * SECOND, bid: 1000, ask: 1010 };
    desk.take_bar(0, reach(from, 900, 1200, close.ask - close.bid), close);
    assert_eq!(deals(&desk), [], "whether the low came before the order or after it is not known");
    desk.take(0, at(120, 940));
    assert_eq!(deals(&desk), [(DealReason::Limit, 950, LOT)]);
}

#[test]
fn a_trailing_stop_within_a_bar_takes_the_worse_way() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    give(&mut desk, Ticket { stop: Some(Exit::Trail(60)), ..Ticket::market(0, Direction::Buy, LOT) });
    // First down to 950, then up: not stopped on the way down, at 1040 on the way back; first up: stopped at 1040 too.
    bar(&mut desk, 950, 1100);
    let deal = desk.deals().last().unwrap();
    assert_eq!((deal.reason, deal.price), (DealReason::Trailing, 1040));
}

#[test]
fn money_of_two_instruments_is_counted_in_one_currency_or_the_order_is_refused() {
    use stavel_core::rehearse::RateRule;
    let mut other = traded("NZDNOK", &[]);
    other.rate = RateRule::Played { of: 0, decimals: 5, is_turned: false };
    let mut desk = Desk::new(vec![traded("NOKSEK", &[]), other], DeskRules::default());
    desk.take(1, at(0, 600_000));
    desk.give(desk.now(), DeskAct::Order(Ticket::market(1, Direction::Buy, LOT)));
    assert_eq!(refused(&desk), "no rate to the money of the account is known yet");
    desk.take(0, TradeQuote { time: desk.now(), bid: 99_990, ask: 100_010 });
    desk.give(desk.now(), DeskAct::Order(Ticket::market(1, Direction::Buy, LOT)));
    desk.take(0, TradeQuote { time: desk.now(), bid: 199_990, ask: 200_010 });
    desk.take(1, at(1, 600_110));
    assert_eq!(desk.open_profit(), Some(Decimal::from(200)), "100 points of one NOK, at 2 SEK each");
}

/// Bid and ask of a bar each have extremes of their own; a lone order is filled where its own side reaches it, at its price.
mod both_sides {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        #[test]
        fn an_order_is_filled_where_its_own_side_reaches_it(
            low in -40i64..1, high in 0i64..40, ask_low in -40i64..11, ask_high in 10i64..60,
            close in -5i64..6, spread in 0i64..30, buys: bool, is_stop: bool, away in 1i64..60,
        ) {
            let mut desk = desk(&[]);
            desk.take(0, at(60, 1000));
            let open = if buys { 1010 } else { 1000 };
            // Waiting orders stand on the far side of the market.
            let price = if buys == is_stop { open + away } else { open - away };
            let kind = if is_stop { OrderKind::Stop(price) } else { OrderKind::Limit(price) };
            let direction = if buys { Direction::Buy } else { Direction::Sell };
            give(&mut desk, order(direction, kind));
            let from = at(60, 0).time;
            let bar = BarReach { from, low: 1000 + low, high: 1000 + high, ask_low: 1000 + ask_low, ask_high: 1000 + ask_high };
            let end = TradeQuote { time: from + 59 * SECOND, bid: 1000 + close, ask: 1000 + close + spread };
            desk.take_bar(0, bar, end);
            let (least, most) = match buys {
                true => (bar.ask_low.min(end.ask), bar.ask_high.max(end.ask)),
                false => (bar.low.min(end.bid), bar.high.max(end.bid)),
            };
            let is_reached = if buys == is_stop { price <= most } else { price >= least };
            let expected = if is_reached { vec![price] } else { Vec::new() };
            let prices: Vec<i64> = deals(&desk).iter().map(|(_, price, _)| *price).collect();
            prop_assert_eq!(prices, expected);
        }
    }
}

/// A short position is closed by its ask: that this went further than the bid shows is in the bars of the ask only.
#[test]
fn a_stop_that_buys_back_goes_by_the_highest_ask() {
    let mut desk = desk(&[]);
    desk.take(0, at(0, 1000));
    let exit = Some(Exit::At(1060));
    give(&mut desk, Ticket { stop: exit, ..Ticket::market(0, Direction::Sell, LOT) });
    let from = at(60, 0).time;
    desk.take(0, at(60, 1000));
    let bar = BarReach { from, low: 995, high: 1005, ask_low: 1005, ask_high: 1080 };
    desk.take_bar(0, bar, TradeQuote { time: from + 59 * SECOND, bid: 1000, ask: 1010 });
    assert_eq!(deals(&desk).last(), Some(&(DealReason::BracketStop, 1060, LOT)));
    let trade = desk.deals().last().unwrap().closed[0].clone();
    assert_eq!(trade.worst, -60.0, "it was closed on the way");
}
