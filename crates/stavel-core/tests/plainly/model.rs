//! Columns, spans, sessions and clocks, row by row and minute by minute.

use proptest::prelude::*;
use stavel_core::model::time::{self, DAY, HOUR, MINUTE};
use stavel_core::model::{ABSENT, Clock, Columns, Field, Micros, Scale, Session, Span, Wall};

const FIELDS: [Field; 3] = [Field::Bid, Field::Ask, Field::BidVolume];

/// Rows as a list: time and values.
type Rows = Vec<(Micros, [i64; 3])>;

fn rows() -> impl Strategy<Value = Rows> {
    let value = || prop_oneof![4 => -50i64..50, 1 => Just(ABSENT)];
    proptest::collection::vec((0i64..30, [value(), value(), value()]), 0..40)
}

fn columns(rows: &Rows) -> Columns {
    let mut out = Columns::empty(&FIELDS, Scale { price: 2, volume: 1 });
    for (time, values) in rows {
        out.time.push(*time);
        out.data.iter_mut().zip(values).for_each(|(column, value)| column.push(*value));
    }
    out
}

fn listed(columns: &Columns) -> Rows {
    let row = |i: usize| [columns.data[0][i], columns.data[1][i], columns.data[2][i]];
    (0..columns.len()).map(|i| (columns.time[i], row(i))).collect()
}

proptest! {
    #[test]
    fn columns_do_what_lists_of_rows_do(a in rows(), b in rows(), keep in any::<u64>(), from in 0usize..40, len in 0usize..40) {
        let kept = |i: usize| keep >> (i % 64) & 1 == 1;
        let (left, right) = (columns(&a), columns(&b));
        let mut both = left.clone();
        both.append(&right);
        prop_assert_eq!(listed(&both), [a.clone(), b.clone()].concat());

        let mut some = left.clone();
        some.retain(kept);
        let plain: Rows = a.iter().enumerate().filter(|(i, _)| kept(*i)).map(|(_, r)| *r).collect();
        prop_assert_eq!(listed(&some), plain);

        let range = from.min(a.len())..(from + len).min(a.len());
        prop_assert_eq!(listed(&left.rows(range.clone())), a[range.clone()].to_vec());
        let mut appended = right.clone();
        appended.append_range(&left, range.clone());
        prop_assert_eq!(listed(&appended), [b.clone(), a[range].to_vec()].concat());

        let mut sorted = left.clone();
        sorted.sort();
        let mut plain = a.clone();
        plain.sort_by_key(|r| r.0);
        prop_assert_eq!(listed(&sorted), plain.clone(), "rows of one time keep their order");
        prop_assert!(sorted.is_sorted());
        prop_assert_eq!(left.is_sorted(), a.windows(2).all(|w| w[0].0 <= w[1].0));

        let span = Span::new(from as i64, (from + len) as i64);
        let within: Rows = plain.iter().filter(|r| span.holds(r.0)).copied().collect();
        prop_assert_eq!(listed(&sorted.rows(sorted.range_of(span))), within);

        let mut cut = left.clone();
        cut.truncate(from);
        prop_assert_eq!(listed(&cut), a.iter().take(from).copied().collect::<Rows>());
        prop_assert_eq!(left.ends(), a.first().zip(a.last()).map(|(x, y)| (x.0, y.0)));
    }

    #[test]
    fn a_finer_scale_is_exact_and_comes_back(a in rows(), price in 2u8..8, volume in 1u8..4) {
        let finer = Scale { price, volume };
        let there = columns(&a).rescaled(finer);
        let (p, v) = (10i64.pow(u32::from(price) - 2), 10i64.pow(u32::from(volume) - 1));
        let times = |value: i64, factor: i64| if value == ABSENT { ABSENT } else { value * factor };
        let plain: Rows = a.iter().map(|(t, [x, y, z])| (*t, [times(*x, p), times(*y, p), times(*z, v)])).collect();
        prop_assert_eq!(listed(&there), plain);
        prop_assert_eq!(listed(&there.coarsened(Scale { price: 2, volume: 1 })), a);
    }

    #[test]
    fn spans_are_sets_of_moments(a in proptest::collection::vec((0i64..60, 0i64..12), 0..6), b in proptest::collection::vec((0i64..60, 0i64..12), 0..6)) {
        let spans = |list: &[(i64, i64)]| {
            let mut spans: Vec<Span> = list.iter().map(|(f, l)| Span::new(*f, f + l)).collect();
            spans.sort_by_key(|s| s.from);
            Span::joined(spans)
        };
        let (x, y) = (spans(&a), spans(&b));
        let is_in = |spans: &[Span], t: i64| spans.iter().any(|s| s.holds(t));
        let (shared, outside) = (Span::shared(&x, &y), Span::outside(&x));
        for t in -5..80 {
            prop_assert_eq!(is_in(&x, t), a.iter().any(|(f, l)| *f <= t && t < f + l), "joined at {}", t);
            prop_assert_eq!(is_in(&shared, t), is_in(&x, t) && is_in(&y, t), "shared at {}", t);
            prop_assert_eq!(is_in(&outside, t), !is_in(&x, t), "outside at {}", t);
        }
        for pair in x.windows(2) {
            prop_assert!(pair[0].to < pair[1].from, "spans that touch are one");
        }
    }

    #[test]
    fn a_session_is_open_minute_by_minute(week in proptest::sample::select(&WEEKS[..]), day in 0i64..40, hours in 1i64..60) {
        let (text, closed) = week;
        let session = Session { week: text.parse().unwrap(), clock: Clock::utc(), ..Session::always() };
        // Around the change of summer time in spring 2024.
        let from = time::parse("2024-03-04").unwrap() + day * DAY;
        let spans = session.open_spans(Span::new(from, from + hours * HOUR));
        for pair in spans.windows(2) {
            prop_assert!(pair[0].to < pair[1].from, "{:?}", pair);
        }
        for minute in 0..hours * 60 {
            let t = from + minute * MINUTE;
            let wall = session.week.zone.to_wall(t);
            let of_week = (wall.div_euclid(DAY) + 3).rem_euclid(7) * 1440 + wall.rem_euclid(DAY) / MINUTE;
            let is_open = session.week.is_open_at_minute(of_week as u32);
            let within = spans.iter().any(|s| s.holds(t));
            prop_assert_eq!(within, is_open, "{} at {}", text, time::rfc3339(t));
        }
        let saturday_noon = time::parse("2024-03-09 12:00").unwrap();
        let weekend = session.open_spans(Span::new(saturday_noon, saturday_noon + MINUTE));
        prop_assert_eq!(weekend.is_empty(), closed);
    }

    #[test]
    fn walls_and_moments_agree_in_every_zone(zone in proptest::sample::select(&ZONES[..]), minutes in 0i64..20 * 365 * 1440, shift in -12i64..13) {
        let text = match (zone, shift) {
            (_, 0) => zone.to_owned(),
            ("UTC", _) => format!("UTC{shift:+}"),
            _ => format!("{zone}{shift:+}h"),
        };
        let clock: Clock = text.parse().unwrap();
        let utc = time::parse("2010-01-01").unwrap() + minutes * MINUTE;
        let wall = clock.to_wall(utc);
        let plainly = jiff::Timestamp::from_microsecond(utc).unwrap().to_zoned(jiff::tz::TimeZone::get(zone).unwrap());
        let offset = i64::from(plainly.offset().seconds()) * 1_000_000 + shift * HOUR;
        prop_assert_eq!(wall - utc, offset, "{} at {}", clock, time::rfc3339(utc));
        match clock.from_wall(wall) {
            Wall::Once(t) => prop_assert_eq!(t, utc),
            Wall::Twice { first, second } => {
                prop_assert!(first == utc || second == utc);
                prop_assert!(first < second && clock.to_wall(first) == wall && clock.to_wall(second) == wall);
            }
            Wall::Never { .. } => prop_assert!(false, "a wall time that was shown"),
        }
    }

    #[test]
    fn lengths_and_times_read_as_they_are_written(seconds in -700_000i64..700_000, utc in -2_000_000_000i64..4_000_000_000) {
        let length = seconds * 1_000_000;
        if length != 0 {
            prop_assert_eq!(time::parse_length(&time::length_as_typed(length)).unwrap(), length);
        }
        let moment = utc * 1_000_000;
        prop_assert_eq!(time::parse(&time::rfc3339(moment)).unwrap(), moment);
    }
}

const ZONES: [&str; 6] =
    ["Europe/Oslo", "America/New_York", "UTC", "Australia/Sydney", "Asia/Kathmandu", "America/Sao_Paulo"];

/// Weeks, and whether the market rests on Saturday noon (UTC).
const WEEKS: [(&str, bool); 5] = [
    ("sun 17:00 - fri 17:00 America/New_York", true),
    ("mon-fri 08:00-17:00 Europe/Oslo", true),
    ("mon-fri 07:00-12:00, mon-fri 13:00-16:30 Europe/Oslo", true),
    ("mon-sun 00:00-24:00 UTC", false),
    ("sun 22:00 - fri 21:00 UTC", true),
];
