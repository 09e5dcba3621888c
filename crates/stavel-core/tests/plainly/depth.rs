//! Orders against a recorded book: what they cost, what waits on, and what becomes of brackets.

use rust_decimal::Decimal;
use stavel_core::model::time::{MINUTE, SECOND, parse};
use stavel_core::model::{Columns, Field, Micros, Scale};
use stavel_core::rehearse::{
    BookTape, BookUnits, DealDepth, DeskAct, DeskRules, Direction, Exit, HeldRows, LOT, OrderKind, OrderRole,
    Replay, ReplayAct, Ticket, TradeQuote, trades_of,
};

use crate::desks::{tape, traded};

fn start() -> Micros {
    parse("2024-03-05 10:00").unwrap()
}

/// A book as rows of side, level, price and size, told at seconds after the start.
fn book(told: &[(i64, &[[i64; 4]])], deals: bool) -> BookTape {
    let fields = vec![Field::Taker, Field::Level, Field::Price, Field::Size];
    let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
    for (second, levels) in told {
        for level in *levels {
            rows.time.push(start() + second * SECOND);
            rows.data.iter_mut().zip(level).for_each(|(column, value)| column.push(*value));
        }
    }
    let units = BookUnits { price: (1, 1), size: (i128::from(LOT), 1), deals };
    BookTape::new(Box::new(HeldRows(rows)), units)
}

/// Two asks of two and three lots, two bids of one and four.
const BOOK: &[[i64; 4]] = &[[1, 0, 1000, 1], [1, 1, 990, 4], [2, 0, 1010, 2], [2, 1, 1013, 3]];

/// A replay of quotes at seconds, beside a book.
fn replay(quotes: &[(i64, i64)], book: BookTape, sheet: &[(&str, &str)]) -> Replay {
    let quote = |(second, bid): &(i64, i64)| {
        let time = start() + second * SECOND;
        TradeQuote { time, bid: *bid, ask: bid + 10 }
    };
    let quotes: Vec<TradeQuote> = quotes.iter().map(quote).collect();
    Replay::new(vec![tape(&quotes)], vec![traded("NOKSEK", sheet)], DeskRules::default())
        .and_then(|replay| replay.with_books(vec![Some(book)]))
        .unwrap()
}

fn give(replay: &mut Replay, second: i64, ticket: Ticket) {
    let now = start() + second * SECOND;
    replay.play_to(now, u64::MAX).unwrap();
    replay.act(now, ReplayAct::Give(DeskAct::Order(ticket))).unwrap();
}

/// Lots, price and the book's part in every deal so far.
fn dealt(replay: &Replay) -> Vec<(i64, i64, DealDepth)> {
    replay.desk().deals().map(|deal| (deal.lots / LOT, deal.price, deal.depth)).collect()
}

#[test]
fn a_large_order_takes_level_after_level_and_is_one_trade_with_one_bracket() {
    use DealDepth::{Beyond, Recorded};
    let sheet = [("commission", "0.10 min 3")];
    let mut replay = replay(&[(0, 1000), (5, 1000)], book(&[(0, BOOK)], true), &sheet);
    let bracket = Ticket { stop: Some(Exit::Away(20)), ..Ticket::market(0, Direction::Buy, 6 * LOT) };
    give(&mut replay, 1, bracket);
    assert_eq!(dealt(&replay), [(2, 1010, Recorded), (3, 1013, Recorded), (1, 1013, Beyond)]);
    // Six lots at 1012 in the mean; the least commission is of the order, not of its parts.
    let stops: Vec<_> = replay.desk().orders().iter().map(|o| (o.role, o.price(), o.lots)).collect();
    assert_eq!(stops, [(OrderRole::Stop, Some(992), 6 * LOT)]);
    assert_eq!(replay.desk().account().costs(), Decimal::from(3));
    let doubtful: Vec<bool> = replay.desk().deals().map(|deal| deal.doubtful).collect();
    assert_eq!(doubtful, [false, false, true]);
    // What was taken is gone until the book tells it again.
    give(&mut replay, 2, Ticket::market(0, Direction::Buy, LOT));
    assert_eq!(dealt(&replay)[3], (1, 1013, Beyond));
    replay.act(start() + 2 * SECOND, ReplayAct::Give(DeskAct::Flat { of: Some(0) })).unwrap();
    let trades = trades_of(replay.desk());
    assert_eq!((trades.len(), trades[0].lots, trades[0].proceeds), (1, 7 * LOT, i128::from(LOT) * 6940));
    assert!(trades[0].doubtful && trades[0].exit() < 992.0);
}

#[test]
fn a_limit_takes_what_there_is_and_waits_on_with_the_rest() {
    let mut replay = replay(&[(0, 1000), (5, 1000), (9, 1000)], book(&[(0, BOOK), (7, BOOK)], true), &[]);
    let limit = Ticket { kind: OrderKind::Limit(1012), ..Ticket::market(0, Direction::Buy, 3 * LOT) };
    give(&mut replay, 1, limit);
    assert_eq!((dealt(&replay).len(), replay.desk().orders()[0].lots), (1, LOT));
    replay.play_to(start() + 6 * SECOND, u64::MAX).unwrap();
    assert_eq!(dealt(&replay).len(), 1, "nothing was told since");
    replay.play_to(start() + 9 * SECOND, u64::MAX).unwrap();
    assert_eq!(dealt(&replay)[1], (1, 1010, DealDepth::Recorded));
    assert!(replay.desk().orders().is_empty());
}

#[test]
fn a_target_that_is_filled_in_part_leaves_a_stop_for_the_rest() {
    let quotes = [(0, 1000), (5, 1050), (6, 1050), (8, 900)];
    let mut replay = replay(&quotes, book(&[(0, BOOK)], true), &[]);
    let bracket = Ticket {
        stop: Some(Exit::Away(60)),
        target: Some(Exit::Away(40)),
        ..Ticket::market(0, Direction::Buy, 2 * LOT)
    };
    give(&mut replay, 1, bracket);
    replay.play_to(start() + 6 * SECOND, u64::MAX).unwrap();
    let waiting: Vec<_> = replay.desk().orders().iter().map(|o| (o.role, o.lots)).collect();
    assert_eq!(waiting, [(OrderRole::Stop, LOT), (OrderRole::Target, LOT)], "one lot was bid for");
    replay.play_to(Micros::MAX, u64::MAX).unwrap();
    assert_eq!(replay.desk().account().position(0), 0);
    assert!(replay.desk().orders().is_empty());
}

#[test]
fn a_book_that_is_old_unknown_or_of_unknown_sizes_is_not_taken_from() {
    let late = 61 + MINUTE / SECOND;
    for (second, deals, parts) in [(1, true, 2), (late, true, 1), (1, false, 1)] {
        let mut replay = replay(&[(0, 1000), (late, 1000)], book(&[(0, BOOK)], deals), &[]);
        give(&mut replay, second, Ticket::market(0, Direction::Buy, 4 * LOT));
        assert_eq!(dealt(&replay).len(), parts, "{second} {deals}");
        let depth = match (second, deals) {
            (1, true) => DealDepth::Recorded,
            (_, true) => DealDepth::Old,
            (_, false) => DealDepth::Absent,
        };
        assert_eq!(dealt(&replay)[0].2, depth);
        assert!(replay.desk().book(0).is_some(), "it is shown in any case");
    }
    let mut nothing = replay(&[(0, 1000)], book(&[], true), &[]);
    give(&mut nothing, 0, Ticket::market(0, Direction::Buy, 4 * LOT));
    assert_eq!(dealt(&nothing), [(4, 1010, DealDepth::Absent)]);
    assert_eq!(nothing.desk().book(0), None);
}

#[test]
fn a_jump_takes_the_book_up_as_it_was_there() {
    let other: &[[i64; 4]] = &[[1, 0, 1100, 9], [1, 1, 1090, 9], [2, 0, 1110, 9], [2, 1, 1120, 9]];
    let told = [(0, BOOK), (300, other)];
    let mut replay = replay(&[(0, 1000), (200, 1005), (400, 1100)], book(&told, true), &[]);
    for (second, best) in [(250, 1010), (350, 1110)] {
        replay.act(start(), ReplayAct::Jump(start() + second * SECOND)).unwrap();
        assert_eq!(replay.desk().book(0).unwrap().against(Direction::Buy)[0].price, best);
    }
    // Before the second jump.
    replay.back_before(start() + 260 * SECOND, 1).unwrap();
    assert_eq!(replay.desk().book(0).unwrap().against(Direction::Buy)[0].price, 1010);
}

#[test]
fn a_contract_is_dealt_in_whole_ones_where_nobody_says_otherwise() {
    let part = |sheet: &[(&str, &str)]| {
        let mut replay = replay(&[(0, 1000)], book(&[], true), sheet);
        give(&mut replay, 0, Ticket::market(0, Direction::Buy, LOT / 2));
        replay.desk().deals().count()
    };
    assert_eq!(part(&[]), 1);
    assert_eq!(part(&[("kind", "futures")]), 0);
    assert_eq!(part(&[("kind", "futures"), ("lot_step", "0.5")]), 1);
}
