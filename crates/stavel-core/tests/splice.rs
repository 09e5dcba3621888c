//! Joining rows in memory.

use proptest::prelude::*;
use stavel_core::model::time::{DAY, HOUR, MINUTE, parse};
use stavel_core::model::{Clock, Columns, Field, Scale, Session};
use stavel_core::splice::{
    How, Level, MonthGrades, Rule, SideGuess, Spliced, carry_spread, measure, set_level, splice,
};

fn bars(rows: &[(i64, i64)]) -> Columns {
    let prices: Vec<i64> = rows.iter().map(|r| r.1).collect();
    Columns {
        time: rows.iter().map(|r| r.0 * MINUTE).collect(),
        fields: vec![Field::Open, Field::Close],
        data: vec![prices.clone(), prices],
        scale: Scale { price: 5, volume: 0 },
    }
}

fn join(sources: &[Columns], rule: Rule) -> Spliced {
    let session = Session::always();
    splice(sources.to_vec(), &How { rule: &rule, grades: &[], session: &session, bar: MINUTE }).unwrap()
}

fn times(rows: &Columns) -> Vec<i64> {
    rows.time.iter().map(|t| t / MINUTE).collect()
}

#[test]
fn the_first_owns_its_span_and_the_seams_are_told() {
    let broker = bars(&[(10, 100), (12, 102), (13, 101)]);
    let vendor = bars(&[(8, 90), (9, 95), (10, 100), (11, 99), (12, 103), (13, 101), (14, 110)]);
    let joined = join(&[broker.clone(), vendor.clone()], Rule::Span);
    assert_eq!(times(&joined.rows), [8, 9, 10, 12, 13, 14]);
    let pieces: Vec<(usize, u64)> = joined.pieces.iter().map(|p| (p.source, p.rows)).collect();
    assert_eq!(pieces, [(1, 2), (0, 3), (1, 1)]);
    let steps: Vec<(i64, i64)> = joined.seams.iter().map(|s| (s.at / MINUTE, s.step)).collect();
    assert_eq!(steps, [(10, 5), (14, 9)]);
    assert_eq!((joined.overlap.rows, joined.overlap.equal, joined.overlap.histogram[4]), (3, 2, 1));
    let holes = join(&[broker.clone(), vendor.clone()], Rule::Holes);
    assert_eq!(times(&holes.rows), [8, 9, 10, 11, 12, 13, 14]);
    let cut = join(&[broker, vendor], Rule::Cut(12 * MINUTE));
    assert_eq!(times(&cut.rows), [8, 9, 10, 11, 12, 13]);
    assert_eq!(cut.pieces.len(), 2);
}

proptest! {
    #[test]
    fn every_row_comes_from_its_owner_and_the_counts_add_up(
        a in proptest::collection::btree_set(0i64..60, 1..40),
        b in proptest::collection::btree_set(0i64..60, 1..40),
        holes: bool,
    ) {
        let make = |set: &std::collections::BTreeSet<i64>, p| bars(&set.iter().map(|t| (*t, p)).collect::<Vec<_>>());
        let rule = if holes { Rule::Holes } else { Rule::Span };
        let joined = join(&[make(&a, 1), make(&b, 2)], rule);
        let (first, last) = (*a.first().unwrap(), *a.last().unwrap());
        let expected: Vec<(i64, i64)> = (0..60)
            .filter_map(|t| match (a.contains(&t), b.contains(&t)) {
                (true, _) => Some((t, 1)),
                (false, true) if holes || t < first || t > last => Some((t, 2)),
                _ => None,
            })
            .collect();
        let got: Vec<(i64, i64)> =
            times(&joined.rows).into_iter().zip(joined.rows.column(Field::Close).iter().copied()).collect();
        prop_assert_eq!(got, expected);
        prop_assert_eq!(joined.pieces.iter().map(|p| p.rows).sum::<u64>(), joined.rows.len() as u64);
        prop_assert_eq!(joined.seams.len() + 1, joined.pieces.len());
    }
}

/// Minutes of some days with a spread that is wide in one hour, walking a little.
fn minutes(days: i64, spread: bool) -> Columns {
    let mut fields = vec![Field::Open, Field::High, Field::Low, Field::Close];
    fields.extend(spread.then_some(Field::Spread));
    let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
    let start = parse("2024-01-01").unwrap();
    let mut rng = fastrand::Rng::with_seed(2);
    let mut price = 100_000;
    for i in 0..days * 1440 {
        price += rng.i64(-3..=3);
        rows.time.push(start + i * MINUTE);
        let wide = if i / 60 % 24 == 22 { 60 } else { 12 };
        let values = [price, price + 2, price - 2, price, wide];
        rows.data.iter_mut().zip(values).for_each(|(c, v)| c.push(v));
    }
    rows
}

#[test]
fn hours_of_the_week_and_months_have_their_owners_and_rows_know_where_they_come_from() {
    let (a, b) = (minutes(40, false), minutes(40, false));
    let rule: Rule = "hours=mon-fri 08:00-17:00 Europe/Oslo".parse().unwrap();
    assert_eq!(rule.to_string(), "hours=mon-fri 08:00-17:00 Europe/Oslo");
    let joined = join(&[a.clone(), b.clone()], rule);
    assert_eq!(joined.rows.len(), 40 * 1440);
    let origin = joined.rows.column(Field::Origin);
    let at = |t: &str| origin[joined.rows.time.binary_search(&parse(t).unwrap()).unwrap()];
    let owners =
        ["2024-01-02 06:59", "2024-01-02 07:00", "2024-01-02 15:59", "2024-01-02 16:00", "2024-01-06 12:00"];
    assert_eq!(owners.map(at), [2, 1, 1, 2, 2]);
    let grades = [[((2024, 1), 99.0), ((2024, 2), 90.0)], [((2024, 1), 99.0), ((2024, 2), 95.0)]];
    let grades: Vec<MonthGrades> = grades.into_iter().map(MonthGrades::from).collect();
    let session = Session::always();
    let how = How { rule: &Rule::Grade, grades: &grades, session: &session, bar: MINUTE };
    let joined = splice(vec![a, b], &how).unwrap();
    let seams: Vec<i64> = joined.seams.iter().map(|s| s.at).collect();
    assert_eq!(seams, [parse("2024-02-01").unwrap()]);
    assert_eq!(joined.pieces.iter().map(|p| p.source).collect::<Vec<_>>(), [0, 1]);
}

#[test]
fn levels_are_measured_named_and_mended_and_spreads_carried() {
    let broker = minutes(10, true);
    let mut vendor = minutes(20, false);
    vendor.data.iter_mut().for_each(|c| c.iter_mut().for_each(|v| *v -= 6));
    let gap = measure(&broker, &vendor).unwrap();
    assert_eq!(
        (gap.median, gap.side, gap.months.as_slice()),
        (-6, Some(SideGuess::BidBelowMid), &[((2024, 1), -6)][..])
    );
    for level in [Level::Shift, Level::Ratio] {
        let mut mended = vendor.clone();
        set_level(&mut mended, &gap, level);
        let apart = measure(&broker, &mended).unwrap().median;
        assert_eq!(apart, 0, "{level}");
    }
    let carried = carry_spread(&broker, &mut vendor, &Clock::utc());
    assert_eq!(carried as usize, vendor.len());
    let at = |t: &str| vendor.column(Field::Spread)[vendor.time.binary_search(&parse(t).unwrap()).unwrap()];
    // The vendor's later week has the hours of the broker's.
    assert_eq!([at("2024-01-15 12:00"), at("2024-01-15 22:30")], [12, 60]);
    assert!(measure(&broker.rows(0..10), &vendor.rows(9000..9010)).is_none());
}

#[test]
fn a_seam_in_a_storm_is_flagged_and_a_calm_place_named() {
    let vendor = minutes(20, false);
    let mut broker = vendor.rows(10 * 1440..20 * 1440);
    // The broker's first hours are a storm that the vendor did not see.
    let mut rng = fastrand::Rng::with_seed(8);
    for i in 0..180 {
        let jump = rng.i64(-300..=300);
        broker.data.iter_mut().for_each(|c| c[i] += jump);
    }
    let joined = join(&[broker, vendor], Rule::Span);
    let (seam, judged) = (joined.seams[0], joined.judged[0]);
    let trouble = judged.trouble(&seam, joined.usual_step, MINUTE).unwrap();
    assert!(trouble.contains("volatile hour"), "{trouble}: {judged:?}");
    let better = judged.better.unwrap() - seam.at;
    assert!((3 * HOUR..DAY).contains(&better), "{better}");
    let calm = join(&[minutes(20, false).rows(14_400..28_800), minutes(20, false)], Rule::Span);
    assert_eq!(calm.judged[0].trouble(&calm.seams[0], calm.usual_step, MINUTE), None);
    assert_eq!((calm.judged[0].gap, calm.judged[0].apart), (0, Some(0)));
}
