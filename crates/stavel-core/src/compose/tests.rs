use super::variant::{NewSpread, Variant, decimals_for};
use crate::model::columns::{CARRIED_SPREAD, SHEET_SPREAD};
use crate::model::time::{HOUR, MINUTE, parse};
use crate::model::variation::Variation;
use crate::model::{ABSENT, Clock, Columns, Field, Scale, Session, Side};

const SCALE: Scale = Scale { price: 5, volume: 0 };

fn oslo() -> Session {
    Session {
        week: "mon-fri 08:00-12:00 Europe/Oslo".parse().unwrap(),
        clock: "Europe/Oslo".parse().unwrap(),
        ..Session::always()
    }
}

fn variant(variation: Variation, spread: NewSpread) -> Variant {
    let finer = u8::from(variation.side == Some(Side::Mid));
    let scale = Scale { price: SCALE.price + finer, ..SCALE };
    Variant {
        variation,
        session: Session::always(),
        spread,
        scale,
        decimals: SCALE.price,
        actions: None,
        stress: None,
    }
}

fn bars(values: &[[i64; 5]]) -> Columns {
    let fields = vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Spread];
    let data = (0..5).map(|i| values.iter().map(|v| v[i]).collect()).collect();
    Columns { time: (0..values.len() as i64).map(|i| i * MINUTE).collect(), fields, data, scale: SCALE }
}

#[test]
fn rows_are_moved_cut_to_hours_and_given_a_spread() {
    let from = parse("2024-03-05 05:00").unwrap();
    let rows = Columns {
        time: (0..600).map(|i| from + i * MINUTE).collect(),
        fields: vec![Field::Open, Field::Close],
        data: vec![(0..600).collect(), (0..600).collect()],
        scale: SCALE,
    };
    let day = Variant { session: oslo(), ..variant(Variation::moved(HOUR), NewSpread::Fixed(18)) };
    let (cut, left) = day.rows(rows);
    assert_eq!((cut.len(), left.outside), (240, 360));
    assert_eq!(cut.time[0], parse("2024-03-05 07:00").unwrap());
    assert_eq!(cut.column(Field::Open)[0], 60);
    assert!(cut.column(Field::Spread).iter().all(|s| *s == 18));
    assert!(cut.column(Field::Origin).iter().all(|o| *o == SHEET_SPREAD), "it is told as an estimate");
}

#[test]
fn days_and_spans_are_those_of_the_session_days() {
    // Every hour of a week from Monday on, in UTC.
    let monday = parse("2024-03-04").unwrap();
    let rows = Columns {
        time: (0..168).map(|i| monday + i * HOUR).collect(),
        fields: vec![Field::Close],
        data: vec![(0..168).collect()],
        scale: SCALE,
    };
    let session = Session { clock: "America/New_York+7h".parse().unwrap(), ..Session::always() };
    let of =
        |variation: Variation| Variant { session: session.clone(), ..variant(variation, NewSpread::Kept) };
    let days = of(Variation { days: Some("tue,thu".parse().unwrap()), ..Variation::default() });
    let (kept, left) = days.rows(rows.clone());
    // Tuesday's session day begins at 22:00 on Monday.
    assert_eq!((kept.time[0], kept.len(), left.outside), (monday + 22 * HOUR, 48, 120));
    let span = Variation {
        since: Some(monday + 10 * HOUR),
        until: Some(monday + 12 * HOUR),
        shift: HOUR,
        ..Variation::default()
    };
    let (kept, _) = of(span).rows(rows);
    assert_eq!(
        (kept.time, kept.data[0].clone()),
        (vec![monday + 10 * HOUR, monday + 11 * HOUR], vec![9, 10])
    );
    assert!("mon-payday".parse::<crate::model::session::Weekdays>().is_err());
    assert_eq!("fri-mon".parse::<crate::model::session::Weekdays>().unwrap().to_string(), "mon,fri,sat,sun");
}

#[test]
fn a_pair_turned_over_has_its_bid_from_the_ask() {
    let turned = Variation { inverse: true, ..Variation::default() };
    // 0.80000 / 0.80010 turned over is 1.24984 / 1.25000.
    let (rows, left) = variant(turned.clone(), NewSpread::Kept)
        .rows(bars(&[[80_000, 80_400, 79_600, 80_000, 10], [0, 80_400, 0, 80_000, 10]]));
    let row = |i: usize| rows.data.iter().map(|c| c[i]).collect::<Vec<_>>();
    assert_eq!(row(0), [124_984, 125_612, 124_363, 124_984, 16]);
    assert_eq!((left.unpriced, left.bid_alone, rows.len()), (0, 0, 2));
    let (_, left) =
        variant(turned.clone(), NewSpread::Kept).rows(bars(&[[80_000, 80_400, 79_600, 80_000, ABSENT]]));
    assert_eq!(left.bid_alone, 1, "a spread that is not known is not 0");
    assert_eq!(row(1)[1], 1_000_000_000, "one divided by the spread alone: a bid of 0 has an ask");
    let quotes = Columns {
        time: vec![0, 1, 2],
        fields: vec![Field::Bid, Field::Ask, Field::BidVolume, Field::AskVolume],
        data: vec![vec![80_000, ABSENT, -5], vec![80_010, 80_000, 0], vec![3, ABSENT, 1], vec![4, 5, 1]],
        scale: SCALE,
    };
    let (rows, left) = variant(turned, NewSpread::Kept).rows(quotes);
    assert_eq!(rows.fields, [Field::Bid, Field::Ask, Field::BidVolume, Field::AskVolume]);
    assert_eq!(rows.data, [vec![124_984, 125_000], vec![125_000, ABSENT], vec![4, 5], vec![3, ABSENT]]);
    assert_eq!(left.unpriced, 1, "what is not above 0 cannot be turned over");
}

#[test]
fn prices_are_scaled_to_the_nearest_point_and_keep_their_digits() {
    let scaled = |factor: &str| Variation { scale: Some(factor.parse().unwrap()), ..Variation::default() };
    assert_eq!(
        [("0.01", 7), ("100", 3), ("1", 5), ("2", 5)].map(|(f, _)| decimals_for(&scaled(f), 5, 102_500)),
        [7, 3, 5, 5]
    );
    let turned = Variation { inverse: true, ..Variation::default() };
    assert_eq!((decimals_for(&turned, 5, 102_500), decimals_for(&turned, 3, 150_250)), (6, 8));
    assert_eq!(decimals_for(&scaled("0.01"), 5, -3), 5, "without a usual price nothing is told");
    let rows = || bars(&[[102_500, 102_533, 102_400, -102_533, 13]]);
    let exact = Variant {
        scale: Scale { price: 7, volume: 0 },
        decimals: 7,
        ..variant(scaled("0.01"), NewSpread::Kept)
    };
    assert_eq!(exact.rows(rows()).0.data.concat(), [102_500, 102_533, 102_400, -102_533, 13]);
    let coarse = Variant {
        scale: Scale { price: 6, volume: 0 },
        decimals: 6,
        ..variant(scaled("0.01"), NewSpread::Kept)
    };
    assert_eq!(coarse.rows(rows()).0.data.concat(), [10_250, 10_253, 10_240, -10_253, 1]);
    for bad in ["0", "-1", "x", ""] {
        assert!(bad.parse::<crate::model::variation::Factor>().is_err(), "{bad}");
    }
}

#[test]
fn spreads_are_added_to_multiplied_and_taken_by_the_hour() {
    let rows = || bars(&[[100, 110, 90, 105, 4], [100, 110, 90, 105, ABSENT], [100, 110, 90, 105, 0]]);
    let spreads = |spread: NewSpread| {
        let (rows, left) = variant(Variation::default(), spread).rows(rows());
        (rows.column(Field::Spread).to_vec(), left.no_spread, left.below_zero)
    };
    assert_eq!(spreads(NewSpread::Added(3)), (vec![7, ABSENT, 3], 1, 0));
    assert_eq!(spreads(NewSpread::Added(-3)), (vec![1, ABSENT, 0], 1, 1));
    assert_eq!(spreads(NewSpread::Times("1.5".parse().unwrap())), (vec![6, ABSENT, 0], 1, 0));
    assert_eq!(spreads(NewSpread::Fixed(9)), (vec![9, 9, 9], 0, 0));
    // 1 January 1970 is a Thursday: its first hour is the 73rd of the week.
    let mut hours = vec![None; 168];
    hours[72] = Some(21);
    let by_hour = NewSpread::OfHour(crate::hour_spreads::HourSpreads(hours), Clock::utc());
    let mut late = rows();
    late.time[2] = HOUR;
    let (rows, left) = variant(Variation::default(), by_hour).rows(late);
    assert_eq!((rows.column(Field::Spread), left.no_spread), (&[21, 21, 0][..], 0));
    assert_eq!(rows.column(Field::Origin), [CARRIED_SPREAD, CARRIED_SPREAD, 0], "no hour, no mark");
    let quotes = Columns {
        time: vec![0, 1],
        fields: vec![Field::Bid, Field::Ask],
        data: vec![vec![100, ABSENT], vec![104, 120]],
        scale: SCALE,
    };
    let (rows, _) = variant(Variation::default(), NewSpread::Added(2)).rows(quotes);
    assert_eq!(rows.data, [vec![100, ABSENT], vec![106, 120]], "the ask is moved, and an ask alone stays");
}

#[test]
fn one_side_of_bars_and_of_quotes() {
    let side = |side: Side| Variation { side: Some(side), ..Variation::default() };
    let rows = bars(&[[100, 110, 90, 105, 4], [100, 110, 90, 105, ABSENT]]);
    let (ask, left) = variant(side(Side::Ask), NewSpread::Kept).rows(rows.clone());
    assert_eq!((ask.data.concat(), left.unpriced), (vec![104, 114, 94, 109, 4], 1));
    let (mid, _) = variant(side(Side::Mid), NewSpread::Kept).rows(rows);
    assert_eq!((mid.data[3].as_slice(), mid.scale.price), (&[1070][..], 6), "half a point has its place");
    let quotes = Columns {
        time: vec![0, 1],
        fields: vec![Field::Bid, Field::Ask, Field::BidVolume, Field::AskVolume],
        data: vec![vec![100, 100], vec![104, ABSENT], vec![1, 2], vec![3, ABSENT]],
        scale: SCALE,
    };
    let (middle, _) = variant(side(Side::Mid), NewSpread::Added(1)).rows(quotes.clone());
    assert_eq!(middle.column(Field::Last), [1025], "halfway between 100 and 105");
    let (last, left) = variant(side(Side::Ask), NewSpread::Kept).rows(quotes);
    assert_eq!(
        (last.fields, last.data, left.unpriced),
        (vec![Field::Volume, Field::Last], vec![vec![3], vec![104]], 1)
    );
}
