//! Watched bars against bars that are built at once: all of them, in order, and none before it is over.

use proptest::prelude::*;
use stavel_core::bars::Builder;
use stavel_core::model::time::{MINUTE, SECOND, parse};
use stavel_core::model::{BarView, Columns, Field, Frame, Micros, Scale, Session, Side, Span};
use stavel_core::rehearse::{DeskRules, HeldRows, Replay, Tape, Watch, WatchedBar};

use crate::desks::{ends, rule, traded};

fn start() -> Micros {
    parse("2024-03-05 10:00").unwrap()
}

fn ticks(moves: &[(i64, i64)]) -> Columns {
    let (mut time, mut bid) = (start(), 100_000);
    let mut rows = Columns::empty(&[Field::Bid, Field::Ask], Scale { price: 5, volume: 0 });
    for (gap, step) in moves {
        time += gap * 7 * SECOND;
        bid += step;
        rows.time.push(time);
        rows.data[0].push(bid);
        rows.data[1].push(bid + 9);
    }
    rows
}

fn minutes(moves: &[(i64, i64)]) -> Columns {
    let (mut time, mut price) = (start() - MINUTE, 100_000);
    let fields = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume];
    let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
    for (gap, step) in moves {
        time += MINUTE * (1 + gap / 9);
        let close = price + step;
        rows.time.push(time);
        let values = [price, price.max(close) + 1, price.min(close) - 1, close, gap + 1];
        rows.data.iter_mut().zip(values).for_each(|(column, value)| column.push(value));
        price = close + 1;
    }
    rows
}

/// The bars that are built at once.
fn built(rows: &Columns, from: Frame, frame: Frame, of: usize) -> Vec<WatchedBar> {
    let bars = match from == frame {
        true => rows.clone(),
        false => {
            let session = Session::always();
            let mut builder =
                Builder::new(from, frame, Side::Bid, &rows.fields, rows.scale, &session).unwrap();
            builder.push(rows);
            builder.finish().bars
        }
    };
    let view = BarView::new(&bars);
    (0..bars.len())
        .map(|row| {
            let bar = view.bar(row).unwrap();
            let (open, high, low, close) = (bar.open, bar.high, bar.low, bar.close);
            let volume = bars.cells(Field::Volume).get(row);
            WatchedBar { of, frame, time: bars.time[row], open, high, low, close, volume }
        })
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    #[test]
    fn watched_bars_are_those_that_are_built_at_once_and_none_comes_early(
        a in proptest::collection::vec((0i64..30, -9i64..10), 1..120),
        b in proptest::collection::vec((0i64..30, -9i64..10), 1..60),
        frames in proptest::sample::subsequence(vec!["1m", "2m", "5m", "1h"], 1..4),
        one_by_one: bool,
    ) {
        let (a, b) = (ticks(&a), minutes(&b));
        let tape = |rows: &Columns, frame: Frame| {
            Tape::new(Box::new(HeldRows(rows.clone())), ends(frame), rule(Some(5)), Span::ALL).unwrap()
        };
        let tapes = vec![tape(&a, Frame::Ticks), tape(&b, Frame::M1)];
        let traded = vec![traded("NOKSEK", &[]), traded("NZDSEK", &[])];
        let mut replay = Replay::new(tapes, traded, DeskRules::default()).unwrap();
        let frames: Vec<Frame> = frames.iter().map(|f| f.parse().unwrap()).collect();
        let mut watch = Watch::default();
        for frame in &frames {
            watch.add(0, &a, Frame::Ticks, *frame, &Session::always()).unwrap();
            watch.add(1, &b, Frame::M1, *frame, &Session::always()).unwrap();
        }
        let mut told: Vec<WatchedBar> = Vec::new();
        while replay.next_time().is_some() {
            let over = match one_by_one {
                true => replay.play_one(&mut watch).unwrap(),
                false => replay.play_to_bar(&mut watch, Micros::MAX).unwrap(),
            };
            for bar in over {
                let now = replay.desk().quote(bar.of).unwrap().time;
                // The close of a minute stands a second before its end.
                let end = bar.time + bar.frame.length() - if bar.of == 1 { SECOND } else { 0 };
                prop_assert!(now >= end, "{:?} told at {}", bar, now);
                told.push(bar);
            }
        }
        for frame in frames {
            for (of, rows, from) in [(0, &a, Frame::Ticks), (1, &b, Frame::M1)] {
                let mine: Vec<WatchedBar> = told.iter().filter(|bar| bar.of == of && bar.frame == frame).copied().collect();
                let all = built(rows, from, frame, of);
                // The last may be open still.
                prop_assert!(mine.len() + 1 >= all.len(), "{} of {} bars", mine.len(), all.len());
                prop_assert_eq!(&all[..mine.len()], &mine[..]);
            }
        }
    }
}

#[test]
fn bars_that_cannot_be_made_are_not_watched() {
    let rows = minutes(&[(0, 0)]);
    let mut watch = Watch::default();
    for (frame, why) in [("500t", "cannot be watched"), ("ticks", "cannot be watched"), ("7m", "")] {
        let added = watch.add(0, &rows, Frame::M1, frame.parse().unwrap(), &Session::always());
        match why {
            "" => assert!(added.is_ok()),
            why => assert!(added.unwrap_err().to_string().contains(why), "{frame}"),
        }
    }
}
