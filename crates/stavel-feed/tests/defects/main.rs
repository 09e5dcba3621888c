//! Every kind of defect planted into other markets: all are found, and next to nothing else.

mod innocents;

use std::collections::BTreeMap;

use fastrand::Rng;
use stavel_core::check::{CheckReport, CheckSubject, Checker, FindingKind};
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, parse};
use stavel_core::model::{Columns, Field, Frame, Scale, Session, Span};
use stavel_feed::market::{Character, Market, MarketQuote, MinuteBar};

const SEEDS: u64 = 20;
const WEEKS: i64 = 6;
const BARS: [Field; 6] = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread];
const QUOTES: [Field; 4] = [Field::Bid, Field::Ask, Field::BidVolume, Field::AskVolume];

fn session() -> Session {
    Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
        clock: "America/New_York+7h".parse().unwrap(),
        ..Session::always()
    }
}

/// Minutes of six weeks and the ticks of their first four days.
fn market(seed: u64) -> (Columns, Columns) {
    let character =
        Character { level: 102_300.0, move_a_minute: 7.0, spread: 14.0, ticks_a_minute: 11.0, step: 1 };
    let mut market = Market::new(character, seed);
    let start = parse("2024-04-07").unwrap();
    let scale = Scale { price: 5, volume: 2 };
    let (mut bars, mut ticks) = (Columns::empty(&BARS, scale), Columns::empty(&QUOTES, scale));
    let mut quotes: Vec<MarketQuote> = Vec::new();
    for open in session().open_spans(Span::new(start, start + WEEKS * 7 * DAY)) {
        let mut t = open.from;
        while t < open.to {
            market.minute(t, &mut quotes);
            if let Some(b) = MinuteBar::of(t, &quotes) {
                push(&mut bars, t, &[b.open, b.high, b.low, b.close, b.volume, b.spread]);
            }
            if t < start + 5 * DAY {
                quotes
                    .iter()
                    .for_each(|q| push(&mut ticks, q.time, &[q.bid, q.ask, q.bid_volume, q.ask_volume]));
            }
            t += MINUTE;
        }
    }
    (bars, ticks)
}

fn push(rows: &mut Columns, time: Micros, values: &[i64]) {
    rows.time.push(time);
    rows.data.iter_mut().zip(values).for_each(|(c, v)| c.push(*v));
}

fn check(rows: &Columns, frame: Frame) -> CheckReport {
    let (first, last) = rows.ends().unwrap();
    let session = session();
    let span = Span::new(first, last + 1);
    let mut checker =
        Checker::new(CheckSubject { session: &session, frame, span, is_positive: true, disorder: vec![] });
    checker.push(rows.clone());
    checker.finish()
}

type Planted = Vec<(FindingKind, Span)>;

/// The rows from a moment on, `n` of them.
fn at(rows: &Columns, time: Micros, n: usize) -> std::ops::Range<usize> {
    let from = rows.time.partition_point(|t| *t < time);
    from..(from + n).min(rows.len())
}

fn span_of(rows: &Columns, range: std::ops::Range<usize>) -> Span {
    Span::new(rows.time[range.start], rows.time[range.end - 1] + 1)
}

/// Plants one defect of each kind that bars can have, each in a day of its own, at an hour by chance.
fn spoil_bars(rows: &mut Columns, rng: &mut Rng) -> Planted {
    let mut days: Vec<i64> = (0..WEEKS * 7).filter(|d| (1..=4).contains(&(d % 7)) && d / 7 != 3).collect();
    rng.shuffle(&mut days);
    let start = parse("2024-04-07").unwrap();
    let mut places: Vec<Micros> =
        days.into_iter().map(|d| start + d * DAY + rng.i64(7 * 60..16 * 60) * MINUTE).collect();
    let mut place = || places.pop().unwrap();
    let mut planted = Planted::new();
    // What changes values first, what moves or drops rows after it.
    let spike = at(rows, place(), 1);
    rows.data[1][spike.start] += rows.data[1][spike.start] * 2 / 100;
    planted.push((FindingKind::Spike, span_of(rows, spike)));
    let burst = at(rows, place(), 3);
    for i in burst.clone() {
        (0..4).for_each(|c| rows.data[c][i] -= 1900);
    }
    planted.push((FindingKind::Spike, span_of(rows, burst)));
    let bad = at(rows, place(), 1);
    rows.data[1][bad.start] = rows.data[2][bad.start] - 5;
    planted.push((FindingKind::BadOhlc, span_of(rows, bad)));
    let zero = at(rows, place(), 2);
    zero.clone().for_each(|i| rows.data[2][i] = 0);
    planted.push((FindingKind::NonPositive, span_of(rows, zero.clone())));
    planted.push((FindingKind::Spike, span_of(rows, zero)));
    let still = at(rows, place(), 150);
    let price = rows.data[3][still.start - 1];
    for i in still.clone() {
        (0..4).for_each(|c| rows.data[c][i] = price);
    }
    planted.push((FindingKind::Frozen, span_of(rows, still)));
    let wide = at(rows, place(), 4);
    wide.clone().for_each(|i| rows.data[5][i] = 900);
    planted.push((FindingKind::WideSpread, span_of(rows, wide)));
    // Of two equal blocks the later is the copy.
    let (one, other) = (place(), place());
    let (source, copy) = (at(rows, one.min(other), 240), at(rows, one.max(other), 240));
    for (i, j) in copy.clone().zip(source) {
        (0..6).for_each(|c| rows.data[c][i] = rows.data[c][j]);
    }
    planted.push((FindingKind::RepeatedBlock, span_of(rows, copy)));
    let tenfold = at(rows, place(), 700);
    for i in tenfold.clone() {
        (0..4).for_each(|c| rows.data[c][i] *= 10);
    }
    planted.push((FindingKind::ScaleJump, span_of(rows, tenfold)));
    let (hole, day) = (place(), place() / DAY * DAY);
    let gone = [Span::new(hole, hole + rng.i64(45..200) * MINUTE), Span::new(day, day + DAY)];
    let times = rows.time.clone();
    rows.retain(|i| !gone.iter().any(|g| g.holds(times[i])));
    planted.extend(gone.map(|g| (FindingKind::Missing, g)));
    let monday = start + 3 * 7 * DAY;
    let week = Span::new(monday, monday + 7 * DAY);
    let slip = if rng.bool() { HOUR } else { -HOUR };
    rows.time.iter_mut().filter(|t| week.holds(**t)).for_each(|t| *t += slip);
    planted.push((FindingKind::ClockSlip, week));
    let twice = at(rows, place(), 20);
    let again = rows.rows(twice.clone());
    planted.push((FindingKind::DuplicateTime, span_of(rows, twice)));
    let other = at(rows, place(), 2);
    let mut conflict = rows.rows(other.clone());
    conflict.data[4].iter_mut().for_each(|v| *v += 1);
    planted.push((FindingKind::ConflictingTime, span_of(rows, other)));
    let saturday = start + 13 * DAY + rng.i64(6..18) * HOUR;
    let mut closed = rows.rows(0..30);
    closed.time.iter_mut().enumerate().for_each(|(i, t)| *t = saturday + i as i64 * MINUTE);
    planted.push((FindingKind::ClosedMarket, Span::new(saturday, saturday + 30 * MINUTE)));
    for extra in [again, conflict, closed] {
        rows.append(&extra);
    }
    rows.sort();
    planted
}

/// The same for what only ticks can have, and what they have too.
fn spoil_ticks(rows: &mut Columns, rng: &mut Rng) -> Planted {
    let start = parse("2024-04-08").unwrap();
    let mut places: Vec<Micros> = (0..5).map(|i| start + (i * 12 + rng.i64(7..11)) * HOUR).collect();
    let mut place = || places.pop().unwrap();
    let mut planted = Planted::new();
    let crossed = at(rows, place(), 3);
    crossed.clone().for_each(|i| rows.data[1][i] = rows.data[0][i] - 3);
    planted.push((FindingKind::Crossed, span_of(rows, crossed)));
    let spike = at(rows, place(), 2);
    spike.clone().for_each(|i| (0..2).for_each(|c| rows.data[c][i] += 600));
    planted.push((FindingKind::Spike, span_of(rows, spike)));
    let wide = at(rows, place(), 5);
    wide.clone().for_each(|i| rows.data[1][i] += 700);
    planted.push((FindingKind::WideSpread, span_of(rows, wide)));
    let still = at(rows, place(), 900);
    let (bid, ask) = (rows.data[0][still.start], rows.data[1][still.start]);
    still.clone().for_each(|i| (rows.data[0][i], rows.data[1][i]) = (bid, ask));
    planted.push((FindingKind::Frozen, span_of(rows, still)));
    // Equal ticks of one moment are trades, and innocent.
    let again = rows.rows(at(rows, place(), 40));
    rows.append(&again);
    rows.sort();
    planted
}

/// Daily bars with a tiny one each Sunday.
fn daily(rng: &mut Rng, stubs: bool) -> (Columns, Planted) {
    let mut rows = Columns::empty(&BARS[..4], Scale { price: 5, volume: 0 });
    let start = parse("2024-01-01").unwrap();
    let mut price = 102_300;
    for day in (0..120).filter(|d| d % 7 < 5 || stubs && d % 7 == 6) {
        let range = if day % 7 == 6 { rng.i64(20..80) } else { rng.i64(400..900) };
        let close = price + rng.i64(-range / 3..=range / 3);
        // Stamped on New York's evening before, as UTC has it.
        let time = start + day * DAY - if stubs { 0 } else { 2 * HOUR };
        push(&mut rows, time, &[price, price.max(close) + range / 3, price.min(close) - range / 3, close]);
        price = close;
    }
    let span = Span::new(start, start + 120 * DAY);
    (rows, if stubs { vec![(FindingKind::StubDay, span)] } else { vec![] })
}

#[derive(Default)]
struct Score {
    planted: u32,
    hit: u32,
    found: u32,
    right: u32,
}

#[test]
fn every_planted_defect_is_found_and_next_to_nothing_else() {
    let mut scores: BTreeMap<FindingKind, Score> = BTreeMap::new();
    let mut judge = |report: &CheckReport, planted: &Planted, seed: u64, what: &str| {
        for (kind, span) in planted {
            let score = scores.entry(*kind).or_default();
            score.planted += 1;
            let hit = report.findings.iter().any(|f| f.kind == *kind && f.span.overlap(span).is_some());
            score.hit += u32::from(hit);
            assert!(hit, "seed {seed}, {what}: {} at {} was not found", kind.word(), span.from);
        }
        for f in &report.findings {
            let score = scores.entry(f.kind).or_default();
            score.found += 1;
            let right = planted.iter().any(|(k, s)| *k == f.kind && s.overlap(&f.span).is_some());
            score.right += u32::from(right);
            if !right {
                println!(
                    "seed {seed}, {what}: {} at {} was not planted: {:?}",
                    f.kind.word(),
                    stavel_core::model::time::wall(f.span.from),
                    f.detail
                );
            }
        }
    };
    for seed in 1..=SEEDS {
        let mut rng = Rng::with_seed(seed * 7919);
        let (mut bars, mut ticks) = market(seed);
        for (rows, frame) in [(&bars, Frame::M1), (&ticks, Frame::Ticks)] {
            judge(&check(rows, frame), &vec![], seed, "clean");
        }
        let planted = spoil_bars(&mut bars, &mut rng);
        judge(&check(&bars, Frame::M1), &planted, seed, "bars");
        let planted = spoil_ticks(&mut ticks, &mut rng);
        judge(&check(&ticks, Frame::Ticks), &planted, seed, "ticks");
        for stubs in [true, false] {
            let (rows, planted) = daily(&mut rng, stubs);
            judge(&check(&rows, Frame::D1), &planted, seed, "daily");
        }
    }
    println!("{:<17} {:>8} {:>8} {:>8} {:>10}", "kind", "planted", "recall", "found", "precision");
    for (kind, s) in &scores {
        let (recall, precision) =
            (s.hit as f64 / s.planted.max(1) as f64, s.right as f64 / s.found.max(1) as f64);
        println!(
            "{:<17} {:>8} {:>6.1} % {:>8} {:>8.1} %",
            kind.word(),
            s.planted,
            recall * 100.0,
            s.found,
            precision * 100.0
        );
        assert!(s.planted > 0 && recall == 1.0 && precision >= 0.95, "{}", kind.word());
    }
    // Disorder is known from files alone, and disagreement from a second series.
    let judged = |k: &&FindingKind| scores.contains_key(k);
    assert_eq!(
        FindingKind::ALL.iter().filter(|k| !judged(k)).collect::<Vec<_>>(),
        [&FindingKind::Disagrees, &FindingKind::OutOfOrder]
    );
}
