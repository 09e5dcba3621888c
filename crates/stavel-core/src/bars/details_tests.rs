//! Everything a bar says, against a plain way that looks at one row after the other and one field after the other.

use super::*;
use crate::model::time::{DAY, MINUTE, SECOND, parse, wall};
use crate::model::{ABSENT, Columns, Field, Frame, Scale, Session, Side, Span, present};

const SCALE: Scale = Scale { price: 5, volume: 1 };

fn session(hours: &str, clock: &str, settlement: &str) -> Session {
    Session {
        week: hours.parse().unwrap(),
        clock: clock.parse().unwrap(),
        settlement: (!settlement.is_empty()).then(|| settlement.parse().unwrap()),
        ..Session::always()
    }
}

fn build(rows: &Columns, from: Frame, to: &str, side: Side, session: &Session) -> Built {
    let builder = Builder::new(from, to.parse().unwrap(), side, &rows.fields, rows.scale, session).unwrap();
    let mut builder = builder.with_details(&rows.fields);
    // In pieces that end within bars.
    for at in (0..rows.len()).step_by(997) {
        builder.push(&rows.rows(at..rows.len().min(at + 997)));
    }
    builder.finish()
}

/// Quotes with several in a minute; `lacks` of a hundred cells are absent.
fn quotes(lacks: u32, seed: u64) -> Columns {
    let fields = [Field::Bid, Field::Ask, Field::BidVolume, Field::AskVolume, Field::Origin];
    let mut rows = Columns::empty(&fields, SCALE);
    let mut rng = fastrand::Rng::with_seed(seed);
    let (mut t, mut bid) = (parse("2024-03-04 06:59").unwrap(), 100_000);
    for i in 0..20_000 {
        t += rng.i64(0..25) * SECOND;
        bid += rng.i64(-9..=9);
        let mut values = [bid, bid + rng.i64(-2..30), rng.i64(0..50), rng.i64(0..50)];
        values.iter_mut().filter(|_| rng.u32(0..100) < lacks).for_each(|v| *v = ABSENT);
        let origin = if i % 3000 < 1500 { 1 } else { 2 };
        rows.time.push(t);
        rows.data.iter_mut().zip(values.into_iter().chain([origin])).for_each(|(c, v)| c.push(v));
    }
    rows
}

/// What a bar of quotes says, field by field, from the rows in it; every price ten times finer for the middle.
fn plain_bar(rows: &Columns, of: &[usize], side: Side, field: Field) -> i64 {
    let finer = if side == Side::Mid { 10 } else { 1 };
    let at = |field: Field, i: usize| present(rows.column(field)[i]);
    let price = |i: usize| match side {
        Side::Ask => at(Field::Ask, i),
        Side::Mid => Some((at(Field::Bid, i)? + at(Field::Ask, i)?) * 5),
        _ => at(Field::Bid, i),
    };
    let ticks: Vec<usize> = of.iter().copied().filter(|i| price(*i).is_some()).collect();
    let prices: Vec<i64> = ticks.iter().filter_map(|i| price(*i)).collect();
    let spreads: Vec<i64> =
        ticks.iter().filter_map(|i| Some((at(Field::Ask, *i)? - at(Field::Bid, *i)?) * finer)).collect();
    // What comes before the first tick of the bar's side has no bar yet.
    let from = ticks[0];
    let total = |field: Field| {
        let there: Vec<i64> = of.iter().filter(|i| **i >= from).filter_map(|i| at(field, *i)).collect();
        (!there.is_empty()).then(|| there.iter().sum::<i64>())
    };
    let (bid, ask) = (total(Field::BidVolume), total(Field::AskVolume));
    let said = match field {
        Field::Open => prices.first().copied(),
        Field::High => prices.iter().max().copied(),
        Field::Low => prices.iter().min().copied(),
        Field::Close => prices.last().copied(),
        Field::TickCount => Some(prices.len() as i64),
        Field::BidVolume => bid,
        Field::AskVolume => ask,
        Field::Volume => match side {
            Side::Ask => ask,
            Side::Mid => bid.zip(ask).map(|(a, b)| a + b).or(bid).or(ask),
            _ => bid,
        },
        Field::SpreadOpen => spreads.first().copied(),
        Field::SpreadHigh => spreads.iter().max().copied(),
        Field::SpreadLow => spreads.iter().min().copied(),
        Field::Spread => {
            let count = spreads.len() as i64;
            (count > 0).then(|| (spreads.iter().sum::<i64>() + count / 2).div_euclid(count))
        }
        Field::Origin => {
            let origins: Vec<i64> = ticks.iter().filter_map(|i| at(Field::Origin, *i)).collect();
            Some(if origins.iter().all(|o| *o == origins[0]) { origins[0] } else { 0 })
        }
        _ => None,
    };
    said.unwrap_or(ABSENT)
}

#[test]
fn bars_of_ticks_say_what_the_plain_way_says_of_every_field_and_side() {
    let session = session("mon-fri 00:00-24:00 UTC", "UTC", "");
    for (lacks, seed) in [(0, 1), (20, 2)] {
        let rows = quotes(lacks, seed);
        for side in [Side::Bid, Side::Ask, Side::Mid] {
            let bars = build(&rows, Frame::Ticks, "1m", side, &session).bars;
            assert_eq!(bars.fields.len(), 13, "{:?}", bars.fields);
            for (i, stamp) in bars.time.iter().enumerate() {
                let of: Vec<usize> = rows.range_of(Span::new(*stamp, stamp + MINUTE)).collect();
                for (field, column) in bars.fields.iter().zip(&bars.data) {
                    let expected = plain_bar(&rows, &of, side, *field);
                    assert_eq!(column[i], expected, "{field:?} of {side} at {}", wall(*stamp));
                }
            }
        }
    }
}

#[test]
fn bars_of_bars_of_ticks_have_the_same_ends_counts_and_means_as_bars_of_the_ticks() {
    let session = session("mon-fri 00:00-24:00 UTC", "UTC", "");
    let rows = quotes(0, 3);
    let minutes = build(&rows, Frame::Ticks, "1m", Side::Bid, &session).bars;
    let two_ways = [
        build(&minutes, Frame::M1, "1h", Side::Bid, &session),
        build(&rows, Frame::Ticks, "1h", Side::Bid, &session),
    ];
    let [by_minutes, by_ticks] = two_ways.map(|built| built.bars);
    assert_eq!(by_minutes.time, by_ticks.time);
    for (field, column) in by_ticks.fields.iter().zip(&by_ticks.data) {
        let other = by_minutes.column(*field);
        // A mean of rounded means, each weighed by its ticks, is at most a point off.
        let most = i64::from(*field == Field::Spread);
        assert!(column.iter().zip(other).all(|(a, b)| (a - b).abs() <= most), "{field:?}");
    }
}

#[test]
fn the_close_of_a_day_is_the_last_price_before_its_settlement() {
    let pit = |settlement: &str| session("mon-fri 08:00-16:00 Europe/Oslo", "Europe/Oslo", settlement);
    let mut ticks = Columns::empty(&[Field::Last], SCALE);
    for (time, price) in [
        ("2024-03-05 07:00", 10),
        ("2024-03-05 13:29:59.999", 14),
        ("2024-03-05 13:30", 90),
        ("2024-03-05 14:50", 5),
        // A day that trades only after its settlement closes with what there is.
        ("2024-03-06 14:00", 20),
        ("2024-03-06 14:40", 21),
        ("2024-03-07 07:30", 30),
    ] {
        ticks.time.push(parse(time).unwrap());
        ticks.data[0].push(price);
    }
    let days = |settlement: &str| build(&ticks, Frame::Ticks, "1d", Side::Last, &pit(settlement)).bars;
    let settled = days("14:30");
    assert_eq!(settled.column(Field::Close), [14, 21, 30]);
    assert_eq!((settled.column(Field::High)[0], settled.column(Field::Low)[0]), (90, 5), "all that traded");
    assert_eq!(days("08:30 America/New_York").column(Field::Close), [14, 21, 30], "a wall of its own");
    assert_eq!(days("").column(Field::Close), [5, 21, 30]);
    // The week closes with the settlement of its last day, an hour with its last price.
    let of = |frame: &str| build(&ticks, Frame::Ticks, frame, Side::Last, &pit("14:30")).bars;
    assert_eq!((of("1w").column(Field::Close), of("8h").column(Field::Close)[0]), (&[30][..], 5));
    // Of minutes the one that ends at the settlement counts, the one that begins with it does not.
    let minutes = of("1m");
    let by_minutes = build(&minutes, Frame::M1, "1d", Side::Last, &pit("14:30")).bars;
    assert_eq!(by_minutes.column(Field::Close), [14, 21, 30]);
    let mut with_gap = minutes.rows(0..minutes.len());
    with_gap.retain(|i| minutes.column(Field::Close)[i] != 14);
    assert_eq!(build(&with_gap, Frame::M1, "1d", Side::Last, &pit("14:30")).bars.column(Field::Close)[0], 10);
}

#[test]
fn a_settlement_at_the_end_of_the_session_day_is_that_days() {
    // The day of 17:00 New York settles as it ends.
    let session = session("sun 17:00 - fri 17:00 America/New_York", "America/New_York+7h", "17:00");
    let day = parse("2024-03-05").unwrap().div_euclid(DAY);
    assert_eq!(wall(session.settlement_of(day).unwrap()), "2024-03-05 22:00");
    let summer = parse("2024-07-05").unwrap().div_euclid(DAY);
    assert_eq!(wall(session.settlement_of(summer).unwrap()), "2024-07-05 21:00");
}

/// Bars that are counted, one row after the other.
fn plain_counted(
    rows: &Columns,
    session: &Session,
    is_full: impl Fn(&[usize], usize) -> bool,
) -> Vec<Vec<usize>> {
    let mut bars: Vec<Vec<usize>> = Vec::new();
    let day = |i: usize| session.clock.day_of(rows.time[i]);
    for i in 0..rows.len() {
        match bars.last_mut() {
            Some(bar) if day(bar[0]) == day(i) && !is_full(bar, i) => bar.push(i),
            _ => bars.push(vec![i]),
        }
    }
    bars
}

#[test]
fn bars_of_ticks_volume_and_range_are_counted_anew_each_session_day() {
    let session = session("mon-fri 08:00-16:00 Europe/Oslo", "Europe/Oslo", "");
    let rows = quotes(0, 4);
    let (bid, volume) = (rows.column(Field::Bid), rows.column(Field::BidVolume));
    let of_ticks = |bar: &[usize], _: usize| bar.len() >= 70;
    let of_volume = |bar: &[usize], _: usize| bar.iter().map(|i| volume[*i]).sum::<i64>() >= 900;
    let of_range = |bar: &[usize], next: usize| {
        let prices = || bar.iter().chain([&next]).map(|i| bid[*i]);
        prices().max().unwrap() - prices().min().unwrap() > 25
    };
    type IsFull<'a> = &'a dyn Fn(&[usize], usize) -> bool;
    let ways: [(&str, IsFull<'_>); 3] = [("70t", &of_ticks), ("90v", &of_volume), ("25r", &of_range)];
    for (frame, is_full) in ways {
        let built = build(&rows, Frame::Ticks, frame, Side::Bid, &session);
        let expected = plain_counted(&rows, &session, is_full);
        let first = |bar: &Vec<usize>| bid[bar[0]];
        let count = |bar: &Vec<usize>| bar.len() as i64;
        assert_eq!(built.bars.column(Field::Open), expected.iter().map(first).collect::<Vec<_>>(), "{frame}");
        assert_eq!(
            built.bars.column(Field::TickCount),
            expected.iter().map(count).collect::<Vec<_>>(),
            "{frame}"
        );
        assert!(built.bars.time.windows(2).all(|w| w[0] < w[1]), "{frame}: each bar has a time of its own");
        assert!(built.partial_last, "{frame}: the last bar may still grow");
        // Begun at any session day, the bars from there on are the same.
        let cut =
            rows.time.partition_point(|t| session.clock.day_of(*t) <= session.clock.day_of(rows.time[0]));
        let later = build(&rows.rows(cut..rows.len()), Frame::Ticks, frame, Side::Bid, &session).bars;
        let same = built.bars.time.iter().position(|t| *t == later.time[0]).unwrap();
        assert_eq!(built.bars.rows(same..built.bars.len()), later, "{frame}");
    }
}

#[test]
fn ticks_within_one_stamp_make_bars_with_times_of_their_own() {
    let session = Session::always();
    let ticks =
        Columns { time: vec![5; 7], fields: vec![Field::Last], data: vec![(1..=7).collect()], scale: SCALE };
    let built = build(&ticks, Frame::Ticks, "3t", Side::Last, &session);
    assert_eq!((built.bars.time, built.partial_last), (vec![5, 6, 7], true));
    let whole = build(&ticks.rows(0..6), Frame::Ticks, "3t", Side::Last, &session);
    assert_eq!((whole.bars.column(Field::Close), whole.partial_last), (&[3, 6][..], false));
    // The session day is over: what its last bar has is all there will be.
    let pit = self::session("mon-fri 08:00-16:00 Europe/Oslo", "Europe/Oslo", "");
    let late = Columns { time: vec![parse("2024-03-05 14:59:59.999999").unwrap(); 7], ..ticks };
    assert!(!build(&late, Frame::Ticks, "3t", Side::Last, &pit).partial_last);
}

#[test]
fn what_cannot_be_counted_is_refused_in_one_sentence() {
    let told = |from: Frame, to: &str, fields: &[Field]| {
        let to = to.parse().unwrap();
        Builder::new(from, to, Side::Bid, fields, SCALE, &Session::always()).err().unwrap().to_string()
    };
    let quotes = [Field::Bid, Field::Ask];
    assert_eq!(told(Frame::Ticks, "10v", &quotes), "Bars of 10v cannot be made: its ticks have no volume.");
    assert!(told(Frame::Ticks, "10t", &[Field::Bid, Field::Covers]).contains("bars stand in for ticks"));
    assert!(told(Frame::M1, "10t", &[Field::Close]).contains("counted from ticks"));
    assert!(told("10t".parse().unwrap(), "1h", &[Field::Close]).contains("build them from the ticks"));
}
