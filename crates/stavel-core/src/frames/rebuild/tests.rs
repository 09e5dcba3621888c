use super::*;
use crate::bars::Builder;
use crate::model::time::{DAY, MINUTE, parse};
use crate::model::{Scale, Side, present};

const SCALE: Scale = Scale { price: 5, volume: 1 };

fn forex() -> Session {
    Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
        clock: "America/New_York+7h".parse().unwrap(),
        ..Session::always()
    }
}

const FIELDS: [Field; 7] =
    [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread, Field::TickCount];

/// Bars of every shape: flat, opened or closed at an end, of few ticks and of many, some values absent.
fn bars(count: usize, seed: u64) -> Columns {
    let mut rng = fastrand::Rng::with_seed(seed);
    let mut rows = Columns::empty(&FIELDS, SCALE);
    let mut t = parse("2024-03-05 10:00").unwrap();
    for _ in 0..count {
        t += rng.i64(1..4) * MINUTE;
        let (low, range) = (rng.i64(99_000..101_000), rng.i64(0..4) * rng.i64(0..40));
        let within = |rng: &mut fastrand::Rng| low + [0, range, rng.i64(0..=range)][rng.usize(0..3)];
        let (open, close) = (within(&mut rng), within(&mut rng));
        // As many ticks as its turns need, at least.
        let ticks = rng.i64(4..60);
        let absent = |rng: &mut fastrand::Rng, v: i64| if rng.u8(0..9) == 0 { ABSENT } else { v };
        let volume = rng.i64(0..3) * rng.i64(0..500);
        let values = [open, low + range, low, close, volume, rng.i64(0..30), ticks];
        rows.time.push(t);
        for (i, (column, value)) in rows.data.iter_mut().zip(values).enumerate() {
            column.push(if i < 4 { value } else { absent(&mut rng, value) });
        }
    }
    rows
}

fn framed(ticks: &Columns, session: &Session) -> Columns {
    let side = if ticks.has(Field::Last) { Side::Last } else { Side::Bid };
    let builder = Builder::new(Frame::Ticks, Frame::M1, side, &ticks.fields, ticks.scale, session).unwrap();
    let mut builder = builder.with_details(&ticks.fields);
    builder.push(ticks);
    builder.finish().bars
}

#[test]
fn ticks_give_back_their_bars_exactly_for_every_seed() {
    let session = forex();
    for seed in 0..40 {
        let bars = bars(400, seed);
        for step in [1, 5] {
            let mut rebuilder =
                Rebuilder::new(Frame::M1, &bars.fields, &session, PathShape::default(), step, seed * 7);
            let ticks = rebuilder.ticks(&bars, None);
            assert!(ticks.is_sorted());
            assert!(ticks.time.windows(2).all(|w| w[0] < w[1]), "each tick has a time of its own");
            let back = framed(&ticks, &session);
            assert_eq!(back.time, bars.time);
            for field in FIELDS {
                let (was, is) = (bars.column(field), back.column(field));
                for i in 0..bars.len() {
                    // How many ticks there were is made up where nothing says it.
                    let is_said = present(was[i]).is_some() || field != Field::TickCount;
                    assert!(
                        !is_said || was[i] == is[i],
                        "{field:?} of bar {i}, seed {seed}: {} {}",
                        was[i],
                        is[i]
                    );
                }
            }
            assert!(back.column(Field::Origin).iter().all(|o| crate::model::columns::is_rebuilt(*o)));
        }
    }
}

#[test]
fn the_ends_of_spreads_and_both_volumes_come_back_too() {
    let session = forex();
    let details =
        [Field::SpreadOpen, Field::SpreadHigh, Field::SpreadLow, Field::BidVolume, Field::AskVolume];
    let mut fields: Vec<Field> = FIELDS.into_iter().chain(details).collect();
    fields.sort_by_key(|f| Field::ALL.iter().position(|x| x == f));
    let mut bars = Columns::empty(&fields, SCALE);
    for i in 0..50 {
        bars.time.push(parse("2024-03-05 10:00").unwrap() + i * MINUTE);
        for (field, column) in fields.iter().zip(&mut bars.data) {
            column.push(match field {
                Field::Open | Field::Close => 100,
                Field::High => 110,
                Field::Low => 90,
                Field::Volume | Field::BidVolume => 77,
                Field::AskVolume => 123,
                Field::TickCount => 20 + i,
                Field::Spread => 15,
                Field::SpreadOpen => 14,
                Field::SpreadHigh => 30,
                _ => 9,
            });
        }
    }
    let mut rebuilder = Rebuilder::new(Frame::M1, &fields, &session, PathShape::default(), 1, 3);
    let back = framed(&rebuilder.ticks(&bars, None), &session);
    for field in &fields {
        assert_eq!(back.column(*field), bars.column(*field), "{field:?}");
    }
}

#[test]
fn bars_without_a_spread_become_trades_and_pieces_do_not_matter() {
    let session = Session::always();
    let rows = bars(300, 5).with_fields(&FIELDS[..5]);
    let mut rebuilder = Rebuilder::new(Frame::M1, &rows.fields, &session, PathShape::default(), 1, 1);
    assert_eq!(rebuilder.fields(), [Field::Volume, Field::Last, Field::Origin]);
    let whole = rebuilder.ticks(&rows, None);
    assert_eq!(framed(&whole, &session).column(Field::Volume), rows.column(Field::Volume));
    let mut pieces = rebuilder.ticks(&rows.rows(0..117), Some(rows.time[117]));
    pieces.append(&rebuilder.ticks(&rows.rows(117..300), None));
    assert_eq!(pieces, whole);
    let mut other = Rebuilder::new(Frame::M1, &rows.fields, &session, PathShape::default(), 1, 2);
    assert_ne!(other.ticks(&rows, None), whole, "another seed takes another way");
}

#[test]
fn a_volume_counts_ticks_only_where_there_can_be_so_many() {
    let session = Session::always();
    let rows = Columns {
        time: vec![0, MINUTE, 2 * MINUTE],
        fields: vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread],
        data: vec![
            vec![10; 3],
            vec![20; 3],
            vec![5; 3],
            vec![7; 3],
            vec![40, 900_000, ABSENT],
            vec![3, ABSENT, 3],
        ],
        scale: Scale { price: 5, volume: 0 },
    };
    let rebuilder = Rebuilder::new(Frame::M1, &rows.fields, &session, PathShape::default(), 1, 1);
    let mut rebuilder = rebuilder.with_volume_as_ticks(Frame::M1);
    let back = framed(&rebuilder.ticks(&rows, None), &session);
    assert_eq!(back.column(Field::TickCount), [40, 12, 12]);
    assert_eq!(back.column(Field::Volume), rows.column(Field::Volume), "whatever it counts, it comes back");
    assert_eq!((back.column(Field::Spread), rebuilder.no_spread()), (&[3, ABSENT, 3][..], 1));
}

#[test]
fn ticks_stay_in_the_open_hours_of_a_long_bar() {
    let session = Session {
        week: "mon-fri 08:00-12:00, mon-fri 13:00-15:30 Europe/Oslo".parse().unwrap(),
        clock: "Europe/Oslo".parse().unwrap(),
        ..Session::always()
    };
    let rows = Columns {
        time: vec![parse("2024-03-05 07:00").unwrap(), parse("2024-03-06 07:00").unwrap()],
        fields: vec![Field::Open, Field::High, Field::Low, Field::Close, Field::TickCount],
        data: vec![vec![10; 2], vec![20; 2], vec![5; 2], vec![7; 2], vec![900; 2]],
        scale: SCALE,
    };
    let mut rebuilder = Rebuilder::new(Frame::D1, &rows.fields, &session, PathShape::default(), 1, 1);
    let ticks = rebuilder.ticks(&rows, None);
    let mut open = OpenHours::new(&session, Span::new(rows.time[0], rows.time[1] + DAY));
    assert_eq!(ticks.len(), 1800);
    assert!(ticks.time.iter().all(|t| open.is_open(*t)));
}

#[test]
fn the_model_learns_the_order_of_the_ends_and_measures_its_error() {
    // Every bar opens and closes at 50 and goes up first, eight times in ten.
    let session = Session::always();
    let mut ticks = Columns::empty(&[Field::Last], SCALE);
    let mut rng = fastrand::Rng::with_seed(9);
    for bar in 0..8000i64 {
        let (up, t) = (rng.u8(0..10) < 8, bar * MINUTE);
        let ends = if up { [60, 40] } else { [40, 60] };
        for (i, price) in [50, 50 + (ends[0] - 50) / 2, ends[0], 50, ends[1], 50].into_iter().enumerate() {
            ticks.time.push(t + i as i64 * 9_000_000);
            ticks.data[0].push(price);
        }
    }
    let mut measure = PathMeasure::new(Frame::M1, &session);
    (0..ticks.len()).step_by(501).for_each(|i| measure.push(&ticks.rows(i..ticks.len().min(i + 501))));
    let (shape, error) = measure.finish(1, 4);
    let bar = Bar { open: 50, high: 60, low: 40, close: 50 };
    assert!((shape.high_first(&bar) - 0.8).abs() < 0.02, "{}", shape.high_first(&bar));
    assert_eq!((shape.bars(), shape.ticks_of_a_bar()), (8000, Some(6)));
    let error = error.unwrap();
    let right = error.order_right().unwrap();
    // By chance with the right odds: 0.8 * 0.8 + 0.2 * 0.2.
    assert!((right - 0.68).abs() < 0.04, "{right}");
    assert!(error.off > 0.0 && error.range == 20.0 && error.bars > 2000, "{error:?}");
    assert!(PathMeasure::new(Frame::M1, &session).finish(1, 4).1.is_none(), "nothing is known of nothing");
}
