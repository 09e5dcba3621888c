//! Time: the way back, several histories in one time, and nothing of what lies ahead.

use proptest::prelude::*;
use stavel_core::model::time::{MINUTE, SECOND, parse};
use stavel_core::model::{ABSENT, Columns, Field, Frame, Micros, Scale, Side, Span};
use stavel_core::rehearse::{
    BookTape, BookUnits, DeskAct, DeskRules, Direction, Exit, FillPrice, HeldRows, LOT, Pieces, Replay,
    ReplayAct, RowSource, SpreadsUsed, Tape, Ticket, TradeQuote, WithAsk,
};

use crate::desks::{ends, rule, tape, traded};

/// Rows that come in small pieces.
struct Cut(Columns, usize);

impl RowSource for Cut {
    fn rows_from(&self, from: Micros) -> stavel_core::Result<Pieces> {
        let at = self.0.time.partition_point(|t| *t < from);
        let (rows, size) = (self.0.clone(), self.1);
        let pieces =
            (at..rows.len()).step_by(size).map(move |i| Ok(rows.rows(i..(i + size).min(rows.len()))));
        Ok(Box::new(pieces))
    }

    fn last_before(&self, before: Micros) -> stavel_core::Result<Option<Micros>> {
        HeldRows(self.0.clone()).last_before(before)
    }
}

fn start() -> Micros {
    parse("2024-03-05 10:00").unwrap()
}

/// Bars of a minute with holes, of which some say no spread.
fn bars(moves: &[(i64, i64, i64)]) -> Columns {
    let mut data = vec![Vec::new(); 5];
    let mut time = Vec::new();
    let (mut at, mut price) = (start(), 100_000);
    for (gap, step, spread) in moves {
        at += MINUTE * (1 + gap / 8);
        let close = price + step;
        let bar = [
            price,
            price.max(close) + 5,
            price.min(close) - 5,
            close,
            if *spread > 0 { *spread } else { ABSENT },
        ];
        time.push(at);
        data.iter_mut().zip(bar).for_each(|(column, value)| column.push(value));
        price = close + step / 3;
    }
    let fields = vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Spread];
    Columns { time, fields, data, scale: Scale { price: 5, volume: 0 } }
}

/// Quotes of which either side may be absent, and several may have one time.
fn ticks(moves: &[(i64, i64, i64)]) -> Columns {
    let (mut bid, mut time) = (100_000, start());
    let (mut times, mut bids, mut asks) = (Vec::new(), Vec::new(), Vec::new());
    for (gap, step, spread) in moves {
        bid += step;
        time += gap / 3 * 10 * SECOND;
        times.push(time);
        bids.push(if gap % 5 == 1 { ABSENT } else { bid });
        asks.push(if gap % 5 == 2 { ABSENT } else { bid + spread });
    }
    let fields = vec![Field::Bid, Field::Ask];
    Columns { time: times, fields, data: vec![bids, asks], scale: Scale { price: 5, volume: 0 } }
}

/// A book beside ticks: now and then a whole side, elsewhere changes of single levels.
fn book(ticks: &Columns) -> Columns {
    use Field::*;
    let mut out = Columns::empty(&[Taker, Level, Price, Size, Act], Scale { price: 5, volume: 0 });
    let (mut bid, mut ask) = (0, 0);
    for (i, time) in ticks.time.iter().enumerate() {
        bid = ticks.cells(Bid).get(i).unwrap_or(bid);
        ask = ticks.cells(Ask).get(i).unwrap_or(ask);
        let whole = (0..3).flat_map(|l| [[1, l, bid - 2 * l, 1, ABSENT], [2, l, ask + 3 * l, 1, ABSENT]]);
        let rows = match i % 4 {
            0 => whole.collect(),
            1 => vec![[2, 0, ask, 0, 3]],
            2 => vec![[1, 0, bid + 1, 2, 1], [1, 2, bid - 7, 1, 2]],
            _ => Vec::new(),
        };
        for row in rows {
            // Between two ticks, too.
            out.time.push(time + if i % 2 == 0 { 0 } else { SECOND });
            out.data.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
        }
    }
    let order: Vec<usize> = {
        let mut order: Vec<usize> = (0..out.len()).collect();
        order.sort_by_key(|row| out.time[*row]);
        order
    };
    let sorted = |column: &Vec<i64>| order.iter().map(|row| column[*row]).collect();
    Columns { time: sorted(&out.time), data: out.data.iter().map(sorted).collect(), ..out }
}

fn replay_of(a: &Columns, b: &Columns, size: usize) -> Replay {
    with_book(a, b, &book(b), size)
}

fn with_book(a: &Columns, b: &Columns, book: &Columns, size: usize) -> Replay {
    let tape = |rows: &Columns, frame: Frame| {
        Tape::new(Box::new(Cut(rows.clone(), size)), ends(frame), rule(Some(7)), Span::ALL).unwrap()
    };
    let tapes = vec![tape(a, Frame::M1), tape(b, Frame::Ticks)];
    let units = BookUnits { price: (1, 1), size: (3_000, 1), deals: true };
    let book = BookTape::new(Box::new(Cut(book.clone(), size)), units);
    let traded = vec![traded("NOKSEK", &[]), traded("NZDSEK", &[])];
    let replay = Replay::new(tapes, traded, DeskRules::default()).unwrap();
    replay.with_books(vec![None, Some(book)]).unwrap()
}

/// Acts at some of the moments.
fn play(replay: &mut Replay, acts: &[(i64, u8)], until: Micros) {
    let (mut at, mut landed) = (start(), Micros::MIN);
    for (gap, what) in acts {
        at += gap * 20 * SECOND;
        if at > until {
            break;
        }
        if at < landed {
            continue;
        }
        replay.play_to(at, u64::MAX).unwrap();
        let direction = if what % 2 == 0 { Direction::Buy } else { Direction::Sell };
        let of = usize::from(what / 2 % 2);
        let bracket = Ticket {
            stop: Some(Exit::Trail(30)),
            target: Some(Exit::Away(45)),
            ..Ticket::market(of, direction, LOT)
        };
        let done = match what / 4 {
            0 => ReplayAct::Give(DeskAct::Order(bracket)),
            1 => ReplayAct::Submit(DeskAct::Order(bracket)),
            2 => ReplayAct::Give(DeskAct::Flat { of: None }),
            _ => {
                landed = (at + 3 * MINUTE).min(until);
                ReplayAct::Jump(landed)
            }
        };
        replay.act(at, done).unwrap();
    }
    replay.play_to(until, u64::MAX).unwrap();
}

/// All that can be seen of a replay.
fn seen(replay: &Replay) -> String {
    let desk = replay.desk();
    let quotes: Vec<Option<TradeQuote>> = (0..2).map(|of| desk.quote(of)).collect();
    let used: Vec<SpreadsUsed> = replay.tapes().iter().map(Tape::spreads_used).collect();
    format!(
        "{} {} {quotes:?} {:?} {:?} {:?} {:?} {:?} {used:?} {:?}",
        desk.now(),
        desk.played(),
        desk.account(),
        desk.orders(),
        desk.journal(),
        replay.log(),
        replay.next_time(),
        desk.book(1)
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn going_back_is_playing_from_the_start(
        a in proptest::collection::vec((0i64..12, -40i64..41, 0i64..9), 1..40),
        b in proptest::collection::vec((0i64..12, -20i64..21, 1i64..9), 1..60),
        acts in proptest::collection::vec((0i64..9, 0u8..16), 0..14),
        size in 1usize..9, end in 0i64..40, back in 0i64..40,
    ) {
        let (a, b) = (bars(&a), ticks(&b));
        let mut there = replay_of(&a, &b, size);
        // What is given before the first quote is given at it.
        let began = there.desk().now();
        let end = (start() + end.max(back) * MINUTE + 31 * SECOND).max(began);
        play(&mut there, &acts, end);
        let last = seen(&there);
        let to = (start() + back * MINUTE + 7 * SECOND).max(began);
        there.back(to).unwrap();
        let mut anew = replay_of(&a, &b, size + 1);
        let moments: Vec<Micros> = acts.iter().scan(start(), |at, (gap, _)| { *at += gap * 20 * SECOND; Some(*at) }).collect();
        let kept = moments.iter().take_while(|at| **at <= to).count();
        play(&mut anew, &acts[..kept], to);
        prop_assert_eq!(seen(&there), seen(&anew));
        // And on again from there, with the rest of the acts, it ends as it did.
        if !acts.iter().any(|(_, what)| what / 4 == 3) {
            let rest: Vec<(i64, u8)> = acts.iter().zip(&moments).filter(|(_, at)| **at > to).map(|(act, _)| *act).collect();
            let first = moments.iter().find(|at| **at > to);
            if let Some(first) = first {
                let mut rest = rest;
                rest[0].0 = (first - start()) / (20 * SECOND);
                play(&mut there, &rest, end);
            } else {
                there.play_to(end, u64::MAX).unwrap();
            }
            prop_assert_eq!(seen(&there), last);
        }
    }

    #[test]
    fn a_log_that_is_played_again_from_the_start_comes_to_the_same(
        a in proptest::collection::vec((0i64..12, -40i64..41, 0i64..9), 1..40),
        b in proptest::collection::vec((0i64..12, -20i64..21, 1i64..9), 1..60),
        acts in proptest::collection::vec((0i64..9, 0u8..16), 0..14),
        size in 1usize..9, end in 0i64..40,
    ) {
        let (a, b) = (bars(&a), ticks(&b));
        let mut once = replay_of(&a, &b, size);
        let end = start() + end * MINUTE + 31 * SECOND;
        play(&mut once, &acts, end);
        let mut again = replay_of(&a, &b, size + 1);
        again.replay_log(once.log().to_vec(), Micros::MAX).unwrap();
        again.play_to(end, u64::MAX).unwrap();
        prop_assert_eq!(seen(&once), seen(&again));
    }

    #[test]
    fn nothing_that_can_be_seen_depends_on_what_comes_later(
        a in proptest::collection::vec((0i64..12, -40i64..41, 0i64..9), 2..40),
        b in proptest::collection::vec((0i64..12, -20i64..21, 1i64..9), 2..60),
        acts in proptest::collection::vec((0i64..9, 0u8..12), 0..14),
        end in 1i64..30, by in -900i64..900, size in 1usize..9,
    ) {
        let (a, b) = (bars(&a), ticks(&b));
        let end = start() + end * MINUTE;
        let (mut other_a, mut other_b) = (a.clone(), b.clone());
        for (rows, over) in [(&mut other_a, MINUTE - SECOND), (&mut other_b, 0)] {
            let from = rows.time.partition_point(|t| *t + over <= end);
            for (field, column) in rows.fields.iter().zip(&mut rows.data) {
                // The open of a bar is known when it begins.
                let opens = usize::from(*field == Field::Open || *field == Field::Spread);
                for value in column.iter_mut().skip(from + opens).filter(|value| **value != ABSENT) {
                    *value += if *field == Field::Spread { by.abs() } else { by };
                }
            }
        }
        let told = book(&b);
        let mut other_book = told.clone();
        // Until the first quote time stands there; what the book tells by then is known from the beginning.
        let known = end.max(replay_of(&a, &b, size).desk().now());
        let from = other_book.time.partition_point(|t| *t <= known);
        let later = other_book.data.iter_mut().zip([0, 0, 900, 3, 0]);
        later.for_each(|(column, by)| column[from..].iter_mut().for_each(|value| *value += by));
        let mut one = with_book(&a, &b, &told, size);
        let mut other = with_book(&other_a, &other_b, &other_book, size);
        play(&mut one, &acts, end);
        play(&mut other, &acts, end);
        prop_assert_eq!(seen(&one), seen(&other));
    }

    #[test]
    fn a_span_has_the_quotes_of_the_whole_history_that_lie_in_it(
        a in proptest::collection::vec((0i64..24, -40i64..41, 0i64..9), 1..30),
        b in proptest::collection::vec((0i64..12, -20i64..21, 1i64..9), 1..50),
        from in 0i64..2_400, length in 0i64..2_400, size in 1usize..9, jumps: bool,
    ) {
        let whole = |quote: &(i64, i64, i64)| (if quote.0 % 5 < 3 { 3 } else { quote.0 }, quote.1, quote.2);
        let b: Vec<(i64, i64, i64)> = b.iter().map(whole).collect();
        let span = Span::new(start() + from * SECOND, start() + (from + length) * SECOND);
        for (rows, frame) in [(bars(&a), Frame::M1), (bars(&a), "5m".parse().unwrap()), (ticks(&b), Frame::Ticks)] {
            let tape = |span: Span| {
                Tape::new(Box::new(Cut(rows.clone(), size)), ends(frame), rule(Some(7)), span).unwrap()
            };
            let rest = |mut tape: Tape| {
                let (mut quotes, mut over) = (Vec::new(), Vec::new());
                while let Some(quote) = tape.next() {
                    let (piece, at) = tape.piece();
                    let rows = piece.rows_over(at)..piece.rows_over(at + 1);
                    over.extend(piece.rows.time[rows].iter().copied());
                    quotes.push(quote);
                    tape.pass(1).unwrap();
                }
                (quotes, over)
            };
            let (all, rows_over) = rest(tape(Span::ALL));
            prop_assert_eq!(rows_over, rows.time.clone());
            let inside: Vec<TradeQuote> = all.into_iter().filter(|quote| span.holds(quote.time)).collect();
            let mut part = tape(if jumps { Span::new(Micros::MIN, span.to) } else { span });
            if jumps {
                part.seek(span.from).unwrap();
            }
            let (quotes, over) = rest(part);
            prop_assert_eq!(&quotes, &inside);
            // Of a bar whose close is not played nothing is known but its open.
            let ended = |time: &Micros| frame.is_ticks() || quotes.iter().any(|q| q.time >= (*time + MINUTE - SECOND).min(span.to - 1));
            prop_assert!(over.iter().all(ended), "{:?} over by {:?}", over, quotes);
        }
    }

    #[test]
    fn quotes_of_several_histories_come_in_order_however_they_are_played(
        a in proptest::collection::vec((0i64..12, -40i64..41, 0i64..9), 1..30),
        b in proptest::collection::vec((0i64..12, -20i64..21, 1i64..9), 1..50),
        size in 1usize..9, most in 1u64..7,
    ) {
        let (a, b) = (bars(&a), ticks(&b));
        let (mut steps, mut runs) = (replay_of(&a, &b, size), replay_of(&a, &b, 100));
        let mut last = (Micros::MIN, 0);
        while let Some(of) = steps.step().unwrap() {
            let now = (steps.desk().quote(of).unwrap().time, of);
            prop_assert!(now >= last, "{:?} after {:?}", now, last);
            last = now;
        }
        while runs.play_to(Micros::MAX, most).unwrap() > 0 {}
        prop_assert_eq!(seen(&steps), seen(&runs));
    }
}

#[test]
fn orders_that_wait_are_filled_on_the_way_of_a_jump_and_quotes_that_stand_there_are_known() {
    let quotes: Vec<TradeQuote> =
        (0..60).map(|i| TradeQuote { time: start() + i * MINUTE, bid: 100 - i, ask: 110 - i }).collect();
    let other = TradeQuote { time: start() + 7 * MINUTE, bid: 500, ask: 510 };
    let tapes = || vec![tape(&quotes), tape(&[TradeQuote { time: start(), ..other }, other])];
    let traded = || vec![traded("NOKSEK", &[]), traded("NZDSEK", &[])];
    let mut replay = Replay::new(tapes(), traded(), DeskRules::default()).unwrap();
    replay.play_to(start(), u64::MAX).unwrap();
    replay.act(start(), ReplayAct::Jump(start() + 10 * MINUTE + SECOND)).unwrap();
    // Nothing waited: nothing was played, and what the last rows say stands.
    assert_eq!(replay.desk().played(), 2);
    assert_eq!([0, 1].map(|of| replay.desk().quote(of).unwrap().bid), [90, 500]);
    let bracket = Ticket { stop: Some(Exit::Away(25)), ..Ticket::market(0, Direction::Buy, LOT) };
    let now = start() + 10 * MINUTE + SECOND;
    replay.act(now, ReplayAct::Give(DeskAct::Order(bracket))).unwrap();
    replay.act(now, ReplayAct::Jump(start() + 40 * MINUTE)).unwrap();
    let stopped = replay.desk().deals().last().unwrap();
    assert_eq!((stopped.time, stopped.price), (start() + 25 * MINUTE, 75));
    assert_eq!(replay.next_time(), Some(start() + 40 * MINUTE));
    // Back to the middle of the way it is held still, and the log ends there.
    replay.back(start() + 20 * MINUTE).unwrap();
    assert_eq!((replay.desk().deals().count(), replay.desk().account().position(0)), (1, LOT));
    assert_eq!(replay.log().last().unwrap().what, ReplayAct::Jump(start() + 20 * MINUTE));
    assert_eq!(replay.next_time(), Some(start() + 21 * MINUTE));
}

#[test]
fn a_bar_is_its_open_and_then_its_close_and_time_never_runs_backwards() {
    // Bars of four hours, the second cut after one.
    let hour = 60 * MINUTE;
    let rows = Columns {
        time: [0, 4, 5].map(|h| start() + h * hour).to_vec(),
        fields: vec![Field::Open, Field::High, Field::Low, Field::Close],
        data: vec![vec![10; 3], vec![15; 3], vec![5; 3], vec![12; 3]],
        scale: Scale { price: 5, volume: 0 },
    };
    let frame: Frame = "4h".parse().unwrap();
    let silent = Tape::new(Box::new(HeldRows(rows.clone())), ends(frame), rule(None), Span::ALL);
    assert!(silent.is_err_and(|e| e.is_undecided()));
    let mut tape = Tape::new(Box::new(Cut(rows, 1)), ends(frame), rule(Some(3)), Span::ALL).unwrap();
    let mut seen = Vec::new();
    while let Some(quote) = tape.next() {
        seen.push((quote.time - start(), quote.bid, quote.ask));
        tape.pass(1).unwrap();
    }
    let close = |end: Micros| end * hour - SECOND;
    let times = [0, close(4), 4 * hour, 5 * hour - 1, 5 * hour, close(9)];
    assert_eq!(seen.iter().map(|(t, ..)| *t).collect::<Vec<_>>(), times);
    assert!(seen.iter().all(|(_, bid, ask)| ask - bid == 3));
    assert_eq!(tape.spreads_used(), SpreadsUsed { measured: 6, ..SpreadsUsed::default() });
}

#[test]
fn bars_of_the_ask_and_of_the_middle_are_quotes_of_both_sides() {
    let rows = Columns {
        time: vec![start()],
        fields: vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Spread],
        data: [100, 105, 95, 101, 5].map(|value| vec![value]).to_vec(),
        scale: Scale { price: 5, volume: 0 },
    };
    let quotes = |side: Side| {
        let rule = rule(None).for_side(side);
        let mut tape = Tape::new(Box::new(HeldRows(rows.clone())), ends(Frame::M1), rule, Span::ALL).unwrap();
        let open = tape.next().unwrap();
        tape.pass(1).unwrap();
        let (close, reach) = (tape.next().unwrap(), tape.piece().0.reach_of(1).unwrap());
        assert_eq!((reach.ask_low - reach.low, reach.ask_high - reach.high), (5, 5));
        [(open.bid, open.ask), (close.bid, close.ask), (reach.low, reach.high)]
    };
    assert_eq!(quotes(Side::Bid), [(100, 105), (101, 106), (95, 105)]);
    assert_eq!(quotes(Side::Ask), [(95, 100), (96, 101), (90, 100)]);
    // Half a point goes to the bid.
    assert_eq!(quotes(Side::Mid), [(97, 102), (98, 103), (92, 102)]);
}

#[test]
fn the_ask_of_bars_beside_those_of_the_bid_is_the_ask_at_the_open_at_the_close_and_between() {
    let fields = vec![Field::Open, Field::High, Field::Low, Field::Close];
    let bars = |first: i64, data: [[i64; 4]; 2]| Columns {
        time: (first..first + 2).map(|i| start() + i * MINUTE).collect(),
        fields: fields.clone(),
        data: (0..4).map(|i| data.iter().map(|bar| bar[i]).collect()).collect(),
        scale: Scale { price: 5, volume: 0 },
    };
    let bid = bars(0, [[100, 105, 95, 101], [101, 110, 90, 100]]);
    let ask = bars(1, [[103, 119, 93, 109], [1, 1, 1, 1]]);
    let scale = bid.scale;
    let both = WithAsk::new((HeldRows(bid), scale), (HeldRows(ask), scale)).unwrap();
    let mut tape = Tape::new(Box::new(both), ends(Frame::M1), rule(Some(7)), Span::ALL).unwrap();
    let mut seen = Vec::new();
    while let Some(quote) = tape.next() {
        let (piece, at) = tape.piece();
        let reach = piece.reach_of(at).map(|reach| (reach.low, reach.high, reach.ask_low, reach.ask_high));
        assert_eq!(piece.rows.fields, fields, "what is shown are the bars of the bid");
        seen.push((quote.bid, quote.ask, reach));
        tape.pass(1).unwrap();
    }
    let first = [(100, 107, None), (101, 108, Some((95, 105, 102, 112)))];
    assert_eq!(seen, [first[0], first[1], (101, 103, None), (100, 109, Some((90, 110, 93, 119)))]);
    assert_eq!(tape.spreads_used(), SpreadsUsed { own: 2, measured: 2, sheet: 0 });
}

#[test]
fn a_side_that_a_row_leaves_out_stays_as_it_was_and_is_never_zero() {
    let rows = Columns {
        time: (0..5).map(|i| start() + i * SECOND).collect(),
        fields: vec![Field::Bid, Field::Ask],
        data: vec![vec![ABSENT, 100, ABSENT, 104, 105], vec![90, ABSENT, 112, ABSENT, ABSENT]],
        scale: Scale { price: 5, volume: 0 },
    };
    let mut tape = Tape::new(Box::new(HeldRows(rows)), ends(Frame::Ticks), rule(None), Span::ALL).unwrap();
    let mut seen = Vec::new();
    while let Some(quote) = tape.next() {
        seen.push((quote.bid, quote.ask));
        tape.pass(1).unwrap();
    }
    // Before the first bid nothing could be sold: that row is no quote.
    assert_eq!(seen, [(100, 90), (100, 112), (104, 112), (105, 112)]);
}

#[test]
fn jumps_land_or_name_the_nearest_data() {
    let quote = |minutes: i64| TradeQuote { time: start() + minutes * MINUTE, bid: 100, ask: 110 };
    let tape = tape(&[quote(0), quote(1), quote(2), quote(30 * 24 * 60)]);
    let day = 24 * 60 * MINUTE;
    assert_eq!(tape.look(start() + MINUTE - 1), Ok(FillPrice::At(start() + MINUTE)));
    assert_eq!(tape.look(start() + 10 * day), Ok(FillPrice::Nothing { nearest: start() + 2 * MINUTE }));
    assert_eq!(tape.look(start() + 60 * day), Ok(FillPrice::Nothing { nearest: start() + 30 * day }));
}
