//! Joining rows in memory.

use proptest::prelude::*;
use stavel_core::hour_spreads::SpreadCounter;
use stavel_core::model::time::{DAY, HOUR, MINUTE, SECOND, parse};
use stavel_core::model::{ABSENT, Clock, Columns, Field, Micros, Scale, Session, Span};
use stavel_core::splice::{
    JoinSettings, Level, LevelGap, MonthGrades, Overlap, RowAdapter, SideGuess, Source, SplicePlan,
    SpliceRule, Spliced, claims, measure, set_level,
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

/// Rows of a length each as sources of a market that never closes.
fn sources(rows: &[(Columns, Micros)]) -> Vec<Source> {
    let session = Session::always();
    rows.iter().map(|(r, length)| Source::held(r.clone(), *length, &session).unwrap()).collect()
}

fn plan(rows: &[(Columns, Micros)], rule: &SpliceRule, grades: &[MonthGrades]) -> SplicePlan {
    SplicePlan::new(sources(rows), &JoinSettings { rule, grades, session: &Session::always() }).unwrap()
}

fn join(rows: &[Columns], rule: &SpliceRule) -> (Columns, Spliced) {
    let minutes: Vec<(Columns, Micros)> = rows.iter().map(|r| (r.clone(), MINUTE)).collect();
    plan(&minutes, rule, &[]).rows().unwrap()
}

fn meeting(first: &Columns, second: &Columns) -> Option<(Overlap, LevelGap)> {
    let both = sources(&[(first.clone(), MINUTE), (second.clone(), MINUTE)]);
    let adapter = |place| RowAdapter::plain(place, first.scale);
    measure((&both[0], &adapter(0)), (&both[1], &adapter(1))).unwrap()
}

fn times(rows: &Columns) -> Vec<i64> {
    rows.time.iter().map(|t| t / MINUTE).collect()
}

#[test]
fn the_first_owns_its_span_and_the_seams_are_told() {
    let broker = bars(&[(10, 100), (12, 102), (13, 101)]);
    let vendor = bars(&[(8, 90), (9, 95), (10, 100), (11, 99), (12, 103), (13, 101), (14, 110)]);
    let (rows, told) = join(&[broker.clone(), vendor.clone()], &SpliceRule::Span);
    assert_eq!(times(&rows), [8, 9, 10, 12, 13, 14]);
    let pieces: Vec<(usize, u64)> = told.pieces.iter().map(|p| (p.source, p.rows)).collect();
    assert_eq!(pieces, [(1, 2), (0, 3), (1, 1)]);
    let steps: Vec<(i64, i64)> = told.seams.iter().map(|s| (s.at / MINUTE, s.step)).collect();
    assert_eq!(steps, [(10, 5), (14, 9)]);
    let (overlap, _) = meeting(&broker, &vendor).unwrap();
    assert_eq!((overlap.rows, overlap.equal, overlap.histogram[4]), (3, 2, 1));
    let (holes, _) = join(&[broker.clone(), vendor.clone()], &SpliceRule::Holes);
    assert_eq!(times(&holes), [8, 9, 10, 11, 12, 13, 14]);
    let (cut, told) = join(&[broker, vendor], &SpliceRule::Cut(12 * MINUTE));
    assert_eq!(times(&cut), [8, 9, 10, 11, 12, 13]);
    assert_eq!(told.pieces.len(), 2);
}

/// Minutes in hours of the week, all within the first weeks of 1970.
fn some_minutes() -> impl Strategy<Value = Vec<i64>> {
    proptest::collection::btree_set(0i64..80, 1..60).prop_map(|s| s.into_iter().collect())
}

fn rules() -> impl Strategy<Value = SpliceRule> {
    let cut = (0i64..80).prop_map(|m| SpliceRule::Cut(m * MINUTE));
    let week = "thu 00:10-00:30, thu 00:50-01:00 UTC".parse().unwrap();
    prop_oneof![Just(SpliceRule::Span), Just(SpliceRule::Holes), cut, Just(SpliceRule::Hours(week))]
}

/// Plainly, for one row: whether source `s` serves minute `m`.
fn serves(rule: &SpliceRule, all: &[Vec<i64>], s: usize, m: i64) -> bool {
    let within = |j: usize| (all[j][0]..=*all[j].last().unwrap()).contains(&m);
    let outside = (0..s).all(|j| !within(j));
    match rule {
        SpliceRule::Span => outside,
        SpliceRule::Holes => (0..s).all(|j| !all[j].contains(&m)),
        SpliceRule::Cut(at) if s == 0 => m >= at / MINUTE,
        SpliceRule::Cut(at) => m < at / MINUTE && (1..s).all(|j| !within(j)),
        SpliceRule::Hours(_) => {
            let inside = (10..30).contains(&m) || (50..60).contains(&m);
            match s {
                0 => inside || !within(1),
                1 => !inside || !within(0),
                _ => outside,
            }
        }
        SpliceRule::Grade => unreachable!(),
    }
}

proptest! {
    #[test]
    fn every_row_comes_from_its_owner_and_the_counts_add_up(
        all in proptest::collection::vec(some_minutes(), 2..4),
        rule in rules(),
    ) {
        let rows: Vec<Columns> =
            (1..).zip(&all).map(|(p, set)| bars(&set.iter().map(|t| (*t, p)).collect::<Vec<_>>())).collect();
        let expected: Vec<(i64, i64)> = (0..80)
            .flat_map(|m| (0..all.len()).map(move |s| (m, s)))
            .filter(|(m, s)| all[*s].contains(m) && serves(&rule, &all, *s, *m))
            .map(|(m, s)| (m, s as i64 + 1))
            .collect();
        prop_assume!(!expected.is_empty());
        let (rows, told) = join(&rows, &rule);
        let got: Vec<(i64, i64)> =
            times(&rows).into_iter().zip(rows.column(Field::Close).iter().copied()).collect();
        prop_assert_eq!(got, expected);
        prop_assert_eq!(rows.column(Field::Origin), rows.column(Field::Close));
        prop_assert_eq!(told.pieces.iter().map(|p| p.rows).sum::<u64>(), rows.len() as u64);
        prop_assert_eq!(told.seams.len() + 1, told.pieces.len());
    }

    /// Ticks and minutes: a minute with a tick of its own is never there twice.
    #[test]
    fn layers_hold_ticks_and_the_minutes_without_any(
        seconds in proptest::collection::btree_set(0i64..4800, 1..60),
        minutes in some_minutes(),
        holes: bool,
    ) {
        let ticks = Columns {
            time: seconds.iter().map(|s| s * SECOND).collect(),
            fields: vec![Field::Bid, Field::Ask],
            data: vec![vec![7; seconds.len()], vec![9; seconds.len()]],
            scale: Scale { price: 5, volume: 0 },
        };
        let minute_rows = bars(&minutes.iter().map(|m| (*m, 5)).collect::<Vec<_>>());
        let rule = if holes { SpliceRule::Holes } else { SpliceRule::Span };
        let (rows, told) = plan(&[(ticks, 0), (minute_rows, MINUTE)], &rule, &[]).rows().unwrap();
        let (first, last) = (*seconds.first().unwrap(), *seconds.last().unwrap());
        let free = |m: &&i64| match holes {
            true => !seconds.iter().any(|s| s / 60 == **m),
            false => (**m + 1) * 60 <= first || **m * 60 > last,
        };
        let expected: Vec<i64> = minutes.iter().filter(free).copied().collect();
        let covers = rows.column(Field::Covers);
        let got: Vec<i64> =
            (0..rows.len()).filter(|i| covers[*i] == MINUTE).map(|i| rows.time[i] / MINUTE).collect();
        prop_assert_eq!(&got, &expected);
        prop_assert_eq!(rows.len(), seconds.len() + expected.len());
        prop_assert!(rows.is_sorted());
        for (i, covers) in covers.iter().enumerate() {
            let is_tick = *covers == 0;
            let values = [Field::Bid, Field::Close, Field::Origin].map(|f| rows.column(f)[i]);
            prop_assert_eq!(values, if is_tick { [7, ABSENT, 1] } else { [ABSENT, 5, 2] });
        }
        prop_assert_eq!(told.rows, rows.len() as u64);
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
    let rule: SpliceRule = "hours=mon-fri 08:00-17:00 Europe/Oslo".parse().unwrap();
    assert_eq!(rule.to_string(), "hours=mon-fri 08:00-17:00 Europe/Oslo");
    let (rows, _) = join(&[a.clone(), b.clone()], &rule);
    assert_eq!(rows.len(), 40 * 1440);
    let origin = rows.column(Field::Origin);
    let at = |t: &str| origin[rows.time.binary_search(&parse(t).unwrap()).unwrap()];
    let owners =
        ["2024-01-02 06:59", "2024-01-02 07:00", "2024-01-02 15:59", "2024-01-02 16:00", "2024-01-06 12:00"];
    assert_eq!(owners.map(at), [2, 1, 1, 2, 2]);
    let grades = [[((2024, 1), 99.0), ((2024, 2), 90.0)], [((2024, 1), 99.0), ((2024, 2), 95.0)]];
    let grades: Vec<MonthGrades> = grades.into_iter().map(MonthGrades::from).collect();
    let (_, told) = plan(&[(a, MINUTE), (b, MINUTE)], &SpliceRule::Grade, &grades).rows().unwrap();
    let seams: Vec<i64> = told.seams.iter().map(|s| s.at).collect();
    assert_eq!(seams, [parse("2024-02-01").unwrap()]);
    assert_eq!(told.pieces.iter().map(|p| p.source).collect::<Vec<_>>(), [0, 1]);
}

#[test]
fn a_month_nobody_graded_goes_to_the_first_that_reaches_over_it() {
    let day = |d: i64| Span::new(d * DAY, (d + 20) * DAY);
    let graded = [MonthGrades::from([((1970, 2), 50.0)]), MonthGrades::from([((1970, 2), 60.0)])];
    let got = claims(&SpliceRule::Grade, &[day(20), day(25)], &graded, &Session::always());
    let span = |a: i64, b: i64| Span::new(a * DAY, b * DAY);
    assert_eq!(got, [vec![span(20, 31)], vec![span(31, 45)]]);
}

#[test]
fn levels_are_measured_named_and_mended_and_spreads_carried() {
    let broker = minutes(10, true);
    let mut vendor = minutes(20, false);
    vendor.data.iter_mut().for_each(|c| c.iter_mut().for_each(|v| *v -= 6));
    let (overlap, gap) = meeting(&broker, &vendor).unwrap();
    assert_eq!(
        (gap.median, gap.side, gap.months.as_slice()),
        (-6, Some(SideGuess::BidBelowMid), &[((2024, 1), -6)][..])
    );
    assert_eq!((overlap.rows as usize, overlap.p95_diff, overlap.histogram[0]), (14_400, 6, 14_400));
    for level in [Level::Shift, Level::Ratio] {
        let mut mended = vendor.clone();
        set_level(&mut mended, &gap, level);
        assert_eq!(meeting(&broker, &mended).unwrap().1.median, 0, "{level}");
    }
    let mut plan = plan(&[(broker.clone(), MINUTE), (vendor.clone(), MINUTE)], &SpliceRule::Span, &[]);
    let mut counter = SpreadCounter::new(&Clock::utc());
    counter.add(&broker);
    let spreads = counter.finish();
    plan.spreads = Some((spreads, Clock::utc()));
    let mut rows = Columns::empty(&plan.fields(), broker.scale);
    let mut carried = 0;
    for block in plan.join(&plan.fields(), Span::ALL).unwrap() {
        let block = block.unwrap();
        rows.append(&block.rows);
        carried += block.carried;
    }
    assert_eq!(carried, 14_400, "only rows that are joined are counted");
    let at = |t: &str| rows.column(Field::Spread)[rows.time.binary_search(&parse(t).unwrap()).unwrap()];
    // The vendor's later week has the hours of the broker's.
    assert_eq!([at("2024-01-15 12:00"), at("2024-01-15 22:30")], [12, 60]);
    assert!(meeting(&broker.rows(0..10), &vendor.rows(9000..9010)).is_none());
}

#[test]
fn a_level_moves_the_prices_a_row_of_layers_has_and_no_others() {
    let ticks = Columns {
        time: (10..20).map(|m| m * MINUTE).collect(),
        fields: vec![Field::Bid, Field::Ask],
        data: vec![vec![100; 10], vec![102; 10]],
        scale: Scale { price: 5, volume: 0 },
    };
    let minutes = bars(&(0..20).map(|m| (m, 90)).collect::<Vec<_>>());
    let mut plan = plan(&[(ticks, 0), (minutes, MINUTE)], &SpliceRule::Span, &[]);
    let of = |s: usize| (&plan.sources[s], &plan.adapters[s]);
    let (_, gap) = measure(of(0), of(1)).unwrap().unwrap();
    assert_eq!(gap.median, -10);
    plan.adapters[1].level = Some((Level::Shift, gap));
    let (rows, _) = plan.rows().unwrap();
    let column = |f: Field| (rows.column(f)[9], rows.column(f)[10]);
    assert_eq!((column(Field::Close), column(Field::Bid)), ((100, ABSENT), (ABSENT, 100)));
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
    let (_, told) = join(&[broker.clone(), vendor.clone()], &SpliceRule::Span);
    let (seam, judged) = (told.seams[0], told.judged[0]);
    let trouble = judged.trouble(&seam, told.usual_step, MINUTE).unwrap();
    assert!(trouble.contains("volatile hour"), "{trouble}: {judged:?}");
    let better = judged.better.unwrap() - seam.at;
    assert!((3 * HOUR..DAY).contains(&better), "{better}");
    let (_, calm) = join(&[minutes(20, false).rows(14_400..28_800), minutes(20, false)], &SpliceRule::Span);
    assert_eq!(calm.judged[0].trouble(&calm.seams[0], calm.usual_step, MINUTE), None);
    assert_eq!((calm.judged[0].gap, calm.judged[0].apart), (0, Some(0)));
    // A cut tried beforehand tells what the cut itself gives.
    let rows = [(broker, MINUTE), (vendor, MINUTE)];
    let at = seam.at + 5 * HOUR;
    let trial = plan(&rows, &SpliceRule::Span, &[]).try_cut(at, (told.usual_step, told.usual_hour)).unwrap();
    let (_, cut) = plan(&rows, &SpliceRule::Cut(at), &[]).rows().unwrap();
    assert_eq!(trial.rows, [cut.pieces[1].rows, cut.pieces[0].rows]);
    let (tried, judged) = trial.seam.unwrap();
    assert_eq!((tried, judged.apart, judged.gap), (cut.seams[0], cut.judged[0].apart, cut.judged[0].gap));
    assert_eq!(judged.trouble(&tried, told.usual_step, MINUTE), None);
}
