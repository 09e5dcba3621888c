use super::*;
use crate::model::columns::{CARRIED_SPREAD, FILLED};
use crate::model::price::LIMIT;
use crate::model::time::{DAY, HOUR, MINUTE, parse, wall};
use crate::model::{ABSENT, Columns, Field, Frame, Micros, Scale, Session, Side, Span};

fn session(hours: &str, clock: &str) -> Session {
    Session { week: hours.parse().unwrap(), clock: clock.parse().unwrap(), ..Session::always() }
}

fn forex(clock: &str) -> Session {
    session("sun 17:00 - fri 17:00 America/New_York", clock)
}

const SCALE: Scale = Scale { price: 5, volume: 1 };

fn minutes(session: &Session, from: &str, to: &str) -> Columns {
    let fields = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread];
    let mut rows = Columns::empty(&fields, SCALE);
    let mut rng = fastrand::Rng::with_seed(11);
    for open in session.open_spans(Span::new(parse(from).unwrap(), parse(to).unwrap())) {
        for t in (open.from..open.to).step_by(MINUTE as usize) {
            if rng.f64() < 0.05 {
                continue;
            }
            let (o, c) = (rng.i64(1000..2000), rng.i64(1000..2000));
            let mut values =
                [o, o.max(c) + rng.i64(0..9), o.min(c) - rng.i64(0..9), c, rng.i64(0..50), rng.i64(0..4)];
            // Some values are not known, a price here and there too; a spread of 0 is one.
            for (value, share) in values.iter_mut().zip([0.02, 0.02, 0.02, 0.0, 0.6, 0.7]) {
                if rng.f64() < share {
                    *value = ABSENT;
                }
            }
            rows.time.push(t);
            rows.data.iter_mut().zip(values).for_each(|(column, v)| column.push(v));
        }
    }
    rows
}

fn build(rows: &Columns, frame: &str, session: &Session) -> Built {
    let mut builder =
        Builder::new(Frame::M1, frame.parse().unwrap(), Side::Bid, &rows.fields, SCALE, session).unwrap();
    let mut from = 0;
    while from < rows.len() {
        let to = (from + 1013).min(rows.len());
        builder.push(&rows.rows(from..to));
        from = to;
    }
    builder.finish()
}

fn starts(session: &Session, frame: &str, from: &str, to: &str) -> Vec<String> {
    let mut grid = Grid::new(frame.parse().unwrap(), session);
    let span = Span::new(parse(from).unwrap(), parse(to).unwrap());
    grid.bars_in(span).iter().map(|b| wall(b.from)).collect()
}

#[test]
fn days_weeks_and_months_follow_the_session_day() {
    let fx = forex("America/New_York+7h");
    let days = starts(&fx, "1d", "2024-03-07", "2024-03-13");
    assert_eq!(
        days,
        ["2024-03-06 22:00", "2024-03-07 22:00", "2024-03-10 21:00", "2024-03-11 21:00", "2024-03-12 21:00"]
    );
    assert_eq!(starts(&fx, "1w", "2024-03-07", "2024-03-13"), ["2024-03-03 22:00", "2024-03-10 21:00"]);
    // 1 and 2 June 2024 are a weekend: the month opens with Monday's session day.
    assert_eq!(starts(&fx, "1mo", "2024-05-30", "2024-06-05"), ["2024-04-30 21:00", "2024-06-02 21:00"]);
    assert_eq!(starts(&fx, "3mo", "2024-03-29", "2024-04-02"), ["2023-12-31 22:00", "2024-03-31 21:00"]);
}

#[test]
fn a_wrong_clock_makes_a_stub_on_sunday_and_the_right_one_does_not() {
    let stub = starts(&forex("UTC"), "1d", "2024-01-12", "2024-01-16");
    assert_eq!(stub, ["2024-01-12 00:00", "2024-01-14 22:00", "2024-01-15 00:00"]);
}

#[test]
fn hours_count_from_the_opening_and_begin_anew_each_day() {
    let floor = session("mon-fri 08:00-17:00 Europe/Oslo", "Europe/Oslo");
    let bars = starts(&floor, "4h", "2024-03-05", "2024-03-06");
    assert_eq!(bars, ["2024-03-05 07:00", "2024-03-05 11:00", "2024-03-05 15:00"]);
    let fx = forex("America/New_York+7h");
    assert_eq!(
        starts(&fx, "9h", "2024-03-05 00:00", "2024-03-05 23:00"),
        ["2024-03-04 22:00", "2024-03-05 07:00", "2024-03-05 16:00", "2024-03-05 22:00"]
    );
}

#[test]
fn a_day_with_a_clock_change_has_an_hour_less_or_more() {
    let always = session("mon-sun 00:00-24:00 UTC", "Europe/Oslo");
    assert_eq!(starts(&always, "1h", "2024-03-30 23:00", "2024-03-31 22:00").len(), 23);
    assert_eq!(starts(&always, "1h", "2024-10-26 22:00", "2024-10-27 23:00").len(), 25);
    assert_eq!(
        starts(&always, "4h", "2024-03-30 23:00", "2024-03-31 22:00").last().unwrap(),
        "2024-03-31 19:00"
    );
}

/// The slow plain way: every bar by filtering all rows.
fn plainly(rows: &Columns, frame: &str, session: &Session) -> Vec<(Micros, [i64; 6])> {
    let mut grid = Grid::new(frame.parse().unwrap(), session);
    let mut bars: Vec<GridBar> = rows.time.iter().map(|&t| grid.bar_at(t)).collect();
    bars.dedup();
    let there = |f: Field, i: usize| Some(rows.column(f)[i]).filter(|v| *v != ABSENT);
    const PRICES: [Field; 4] = [Field::Open, Field::High, Field::Low, Field::Close];
    let prices = |i: usize| PRICES.into_iter().filter_map(move |f| there(f, i));
    bars.into_iter()
        .map(|GridBar { stamp, span: s, .. }| {
            let at: Vec<usize> = (0..rows.len()).filter(|&i| s.holds(rows.time[i])).collect();
            let spreads: Vec<i64> = at.iter().filter_map(|&i| there(Field::Spread, i)).collect();
            let mean = spreads.iter().sum::<i64>() as f64 / spreads.len() as f64;
            let volumes: Vec<i64> = at.iter().filter_map(|&i| there(Field::Volume, i)).collect();
            let values = [
                there(Field::Open, at[0]).unwrap_or(rows.column(Field::Close)[at[0]]),
                at.iter().flat_map(|&i| prices(i)).max().unwrap(),
                at.iter().flat_map(|&i| prices(i)).min().unwrap(),
                rows.column(Field::Close)[*at.last().unwrap()],
                if volumes.is_empty() { ABSENT } else { volumes.iter().sum() },
                if spreads.is_empty() { ABSENT } else { (mean + 0.5).floor() as i64 },
            ];
            (stamp, values)
        })
        .collect()
}

#[test]
fn the_builder_agrees_with_the_plain_way() {
    let sessions = [
        forex("America/New_York+7h"),
        forex("UTC"),
        session("mon-fri 08:00-17:30 Europe/Oslo", "Europe/Oslo"),
    ];
    for session in sessions {
        let rows = minutes(&session, "2024-03-27", "2024-04-03");
        for frame in ["5m", "7m", "1h", "4h", "9h", "1d", "2d", "1w", "1mo"] {
            let bars = build(&rows, frame, &session).bars;
            let fast: Vec<(Micros, [i64; 6])> =
                (0..bars.len()).map(|i| (bars.time[i], std::array::from_fn(|c| bars.data[c][i]))).collect();
            assert!(fast == plainly(&rows, frame, &session), "{frame} in {}", session.clock);
        }
    }
}

#[test]
fn partial_ends_are_told() {
    let fx = forex("America/New_York+7h");
    let mut rows = minutes(&fx, "2024-03-04 22:00", "2024-03-06 22:00");
    let whole = build(&rows, "1h", &fx);
    assert!(!whole.partial_first || rows.time[0] > parse("2024-03-04 22:00").unwrap());
    let (from, to) = (parse("2024-03-05 10:30").unwrap(), parse("2024-03-06 10:30").unwrap());
    let times = rows.time.clone();
    rows.retain(|i| times[i] >= from && times[i] < to);
    let cut = build(&rows, "4h", &fx);
    assert!(cut.partial_first && cut.partial_last);
    assert_eq!(cut.bars.time[0], parse("2024-03-05 10:00").unwrap());
}

#[test]
fn ticks_become_minutes_of_either_side() {
    let mut ticks = Columns::empty(&[Field::Bid, Field::Ask, Field::BidVolume, Field::AskVolume], SCALE);
    let t = parse("2024-03-05 10:00").unwrap();
    for (offset, bid, ask) in
        [(0, 100, 110), (30_000_000, 120, 126), (59_999_000, 90, 97), (60_000_000, 95, 99)]
    {
        ticks.time.push(t + offset);
        [bid, ask, 5, 7].into_iter().zip(&mut ticks.data).for_each(|(v, c)| c.push(v));
    }
    for (side, expected) in [(Side::Bid, [100, 120, 90, 90, 15, 8]), (Side::Ask, [110, 126, 97, 97, 21, 8])] {
        let mut builder =
            Builder::new(Frame::Ticks, Frame::M1, side, &ticks.fields, SCALE, &forex("UTC")).unwrap();
        builder.push(&ticks);
        let bars = builder.finish().bars;
        assert_eq!(bars.time, [t, t + MINUTE]);
        assert_eq!(bars.data.iter().map(|c| c[0]).collect::<Vec<_>>(), expected);
    }
}

#[test]
fn quotes_of_one_side_make_bars_of_that_side_and_no_spread() {
    let t = parse("2024-03-05 10:00").unwrap();
    let quotes = Columns {
        time: vec![t, t + 1, t + MINUTE],
        fields: vec![Field::Bid, Field::Ask],
        data: vec![vec![100, ABSENT, 90], vec![ABSENT, 110, 90]],
        scale: SCALE,
    };
    for (side, expected) in [(Side::Bid, [100, ABSENT]), (Side::Ask, [110, ABSENT]), (Side::Mid, [900, 0])] {
        let mut builder =
            Builder::new(Frame::Ticks, Frame::M1, side, &quotes.fields, SCALE, &forex("UTC")).unwrap();
        builder.push(&quotes);
        let bars = builder.finish().bars;
        assert_eq!([bars.column(Field::Open)[0], bars.column(Field::Spread)[0]], expected, "{side}");
    }
}

#[test]
fn estimates_in_the_rows_of_a_bar_are_told_of_the_bar() {
    let t = parse("2024-03-05 10:00").unwrap();
    let origins = [1, 1, 1 + CARRIED_SPREAD, 2, FILLED, FILLED];
    let rows = Columns {
        time: (0..6).map(|i| t + i * MINUTE).collect(),
        fields: vec![Field::Close, Field::Spread, Field::Origin],
        data: vec![vec![5; 6], vec![9, 9, 7, 9, ABSENT, ABSENT], origins.to_vec()],
        scale: SCALE,
    };
    let bars = build(&rows, "2m", &forex("UTC")).bars;
    assert_eq!(bars.column(Field::Origin), [1, CARRIED_SPREAD, FILLED]);
    assert_eq!(bars.column(Field::Spread), [9, 8, ABSENT]);
}

#[test]
fn only_what_divides_can_be_built() {
    let can = |a: &str, b: &str| can_build(a.parse().unwrap(), b.parse().unwrap());
    assert!(
        can("ticks", "1m")
            && can("1m", "7m")
            && can("1h", "4h")
            && can("30m", "1d")
            && can("1d", "1w")
            && can("1d", "3mo")
    );
    assert!(
        !can("1h", "90m")
            && !can("1m", "1m")
            && !can("1d", "4h")
            && !can("1m", "ticks")
            && !can("9h", "1d")
            && !can("1w", "1mo")
    );
}

#[test]
fn rows_outside_the_hours_of_a_day_fall_into_its_bar_and_stamps_are_unique() {
    let barley = session("mon-fri 08:00-15:30 Europe/Oslo", "Europe/Oslo");
    let mut rows = Columns::empty(&[Field::Close], SCALE);
    // Ten days from Monday on, every ten minutes from 06:00 to 22:00 in Oslo, and Saturday at 02:00.
    for day in (0..12).filter(|day| day % 7 < 5) {
        let midnight = parse("2024-03-03 23:00").unwrap() + day * DAY;
        rows.time.extend((36..132).map(|i| midnight + i * 10 * MINUTE));
        rows.time.extend((day % 7 == 4).then_some(midnight + 23 * HOUR));
    }
    rows.data[0] = (0..rows.time.len() as i64).collect();
    let days = build(&rows, "1d", &barley);
    let opens: Vec<String> = days.bars.time.iter().map(|t| wall(*t)[11..].to_owned()).collect();
    assert_eq!(opens, ["07:00"; 10], "each is stamped at the opening");
    assert!(days.bars.time.windows(2).all(|w| w[0] < w[1]));
    assert_eq!(days.on_closed_days, 0);
    // A whole Saturday is no straggler: it is told.
    rows.time.extend((0..60).map(|i| parse("2024-03-16 08:00").unwrap() + i * MINUTE));
    rows.data[0].resize(rows.time.len(), 1);
    let days = build(&rows, "1d", &barley);
    assert_eq!((days.bars.len(), days.on_closed_days), (11, 1));
}

#[test]
fn the_middle_keeps_its_half_point_and_counts_are_carried() {
    let fx = forex("UTC");
    let mut quotes = Columns::empty(&[Field::Bid, Field::Ask], SCALE);
    quotes.time = vec![0, 1];
    quotes.data = vec![vec![100, 101], vec![103, 103]];
    let mut builder = Builder::new(Frame::Ticks, Frame::M1, Side::Mid, &quotes.fields, SCALE, &fx).unwrap();
    builder.push(&quotes);
    let bars = builder.finish().bars;
    assert_eq!(bars.scale.price, 6);
    let value = |f: Field| bars.column(f)[0];
    assert_eq!((value(Field::Open), value(Field::Close), value(Field::Spread)), (1015, 1020, 25));

    let mut rows = Columns::empty(&[Field::Close, Field::TickCount, Field::OpenInterest], SCALE);
    rows.time = (0..5).map(|i| i * MINUTE).collect();
    rows.data = vec![vec![7; 5], vec![2, ABSENT, 3, 4, ABSENT], vec![90, 91, ABSENT, ABSENT, ABSENT]];
    let bars = build(&rows, "5m", &session("mon-sun 00:00-24:00 UTC", "UTC")).bars;
    assert_eq!((bars.column(Field::TickCount), bars.column(Field::OpenInterest)), (&[9][..], &[91][..]));
}

#[test]
fn sums_that_no_column_holds_are_absent_and_counted() {
    let most = LIMIT - 1;
    let mut volume = vec![5; 130];
    volume[..3].fill(most / 2);
    let rows = Columns {
        time: (0..130).map(|m| m * MINUTE).collect(),
        fields: vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Volume],
        data: vec![vec![7; 130], vec![7; 130], vec![7; 130], vec![7; 130], volume],
        scale: SCALE,
    };
    let hours = build(&rows, "1h", &Session::always());
    assert_eq!(hours.too_large, 1, "three halves are too much for the first hour");
    assert_eq!(hours.bars.column(Field::Volume), [ABSENT, 300, 50]);
    let quotes = Columns {
        time: vec![0, 1, 2],
        fields: vec![Field::Bid, Field::Ask],
        data: vec![vec![most / 10, most, -most], vec![most / 10, most, most]],
        scale: SCALE,
    };
    let mid = |side: Side| {
        let mut builder =
            Builder::new(Frame::Ticks, Frame::M1, side, &quotes.fields, SCALE, &Session::always()).unwrap();
        builder.push(&quotes);
        builder.finish()
    };
    let (bid, half) = (mid(Side::Bid), mid(Side::Mid));
    assert_eq!((bid.bars.column(Field::Close)[0], bid.bars.column(Field::Low)[0]), (-most, -most));
    assert_eq!(half.bars.column(Field::High)[0], most / 10 * 10, "half points need another decimal");
    assert_eq!(half.bars.column(Field::Close)[0], 0, "the middle of -x and x");
    assert!(bid.too_large > 0 && half.too_large > bid.too_large, "{} {}", bid.too_large, half.too_large);
}

/// Every open time of a grid from one bar to another, by looking at each minute.
fn all_stamps(session: &Session, frame: &str, from: Micros, to: Micros) -> Vec<Micros> {
    let mut grid = Grid::new(frame.parse().unwrap(), session);
    // A bar may be stamped in a break, before its first open minute.
    let open = session.open_spans(Span::new(from, to + DAY));
    let minutes = open.iter().flat_map(|s| (s.from..s.to).step_by(MINUTE as usize));
    let mut stamps: Vec<Micros> = minutes.map(|t| grid.bar_at(t).stamp).filter(|t| *t <= to).collect();
    stamps.dedup();
    stamps
}

#[test]
fn empty_bars_are_filled_in_open_time_and_nowhere_else() {
    let mut barley = session("mon-fri 08:00-12:00, mon-fri 13:00-15:30 Europe/Oslo", "Europe/Oslo");
    barley.holidays = vec!["2024-03-29".parse().unwrap(), "2024-03-27 -12:00".parse().unwrap()];
    for session in [forex("America/New_York+7h"), forex("Europe/Oslo"), barley] {
        let mut rows = minutes(&session, "2024-03-20", "2024-04-06");
        // Holes of minutes, an hour, a day and over a weekend and a clock change.
        let holes = [
            ("2024-03-21 10:10", "2024-03-21 11:05"),
            ("2024-03-25", "2024-03-26"),
            ("2024-03-28", "2024-04-01 12:00"),
        ];
        let holes = holes.map(|(a, b)| Span::new(parse(a).unwrap(), parse(b).unwrap()));
        let times = rows.time.clone();
        rows.retain(|i| !holes.iter().any(|h| h.holds(times[i])));
        for frame in ["1m", "7m", "1h", "4h", "1d"] {
            let bars = if frame == "1m" {
                rows.clone().with_whole_bars()
            } else {
                build(&rows, frame, &session).bars
            };
            let (first, last) = bars.ends().unwrap();
            let (full, count) = filled(bars.clone(), frame.parse().unwrap(), &session);
            let name = format!("{frame} in {}", session.week);
            assert_eq!(full.time, all_stamps(&session, frame, first, last), "{name}");
            assert_eq!(full.len() as u64, bars.len() as u64 + count, "{name}");
            let column = |f: Field| full.column(f);
            for i in 0..full.len() {
                let was_there = bars.time.binary_search(&full.time[i]);
                assert_eq!(column(Field::Origin)[i] == FILLED, was_there.is_err(), "{name}");
                match was_there {
                    Ok(at) => assert_eq!(column(Field::Close)[i], bars.column(Field::Close)[at]),
                    Err(_) => {
                        let close = column(Field::Close)[i - 1];
                        let flat = [Field::Open, Field::High, Field::Low, Field::Close].map(|f| column(f)[i]);
                        assert_eq!(flat, [close; 4], "{name}");
                        assert_eq!((column(Field::Volume)[i], column(Field::Spread)[i]), (0, ABSENT));
                    }
                }
            }
        }
    }
}
