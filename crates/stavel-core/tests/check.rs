//! Checks and mends over rows in memory.

use stavel_core::check::{
    CheckReport, CheckSubject, Checker, FindingDetail, FindingKind, Keep, Mend, MendSubject, Mended, Mender,
    SeriesComparer,
};
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, parse};
use stavel_core::model::{Columns, Field, Frame, Scale, Session, Span, columns::FILLED};

fn session() -> Session {
    Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
        clock: "America/New_York+7h".parse().unwrap(),
        ..Session::always()
    }
}

/// Two winter weeks of clean minutes, UTC.
fn clean() -> Columns {
    let span = Span::new(parse("2024-01-07").unwrap(), parse("2024-01-20").unwrap());
    let mut rows = Columns::empty(
        &[Field::Open, Field::High, Field::Low, Field::Close, Field::Volume],
        Scale { price: 5, volume: 0 },
    );
    let mut rng = fastrand::Rng::with_seed(5);
    let mut price = 102_000;
    for open in session().open_spans(span) {
        let mut t = open.from;
        while t < open.to {
            let close = price + rng.i64(-9..=9);
            let values = [
                price,
                price.max(close) + rng.i64(0..4),
                price.min(close) - rng.i64(0..4),
                close,
                rng.i64(1..90),
            ];
            rows.time.push(t);
            rows.data.iter_mut().zip(values).for_each(|(c, v)| c.push(v));
            price = close;
            t += MINUTE;
        }
    }
    rows
}

fn check(rows: &Columns) -> CheckReport {
    let (first, last) = rows.ends().unwrap();
    let subject = CheckSubject {
        session: &session(),
        frame: Frame::M1,
        span: Span::new(first, last + 1),
        is_positive: true,
        disorder: vec![],
    };
    let mut checker = Checker::new(subject);
    // In uneven pieces: what straddles two pieces must not be lost.
    let mut from = 0;
    while from < rows.len() {
        let to = (from + 997).min(rows.len());
        checker.push(rows.rows(from..to));
        from = to;
    }
    checker.finish()
}

/// Mends in uneven pieces too: rows at one time may lie in two of them.
fn mend(rows: &Columns, report: &CheckReport, mends: &[Mend]) -> (Columns, Mended) {
    let (first, last) = rows.ends().unwrap();
    let session = session();
    let subject = MendSubject { session: &session, frame: Frame::M1, span: Span::new(first, last) };
    let mut mender = Mender::new(&subject, report, mends, Span::ALL).unwrap();
    for span in mender.spans_moved() {
        mender.take_moved(rows.rows(rows.range_of(span)));
    }
    let mut out: Option<Columns> = None;
    let mut add = |rows: Columns| match &mut out {
        Some(out) if !rows.fields.is_empty() => out.append(&rows),
        Some(_) => {}
        None => out = Some(rows),
    };
    let mut from = 0;
    while from < rows.len() {
        let to = (from + 1009).min(rows.len());
        add(mender.push(rows.rows(from..to)));
        from = to;
    }
    add(mender.finish());
    (out.unwrap(), mender.counts())
}

fn all(kinds: &[FindingKind]) -> Vec<Mend> {
    kinds.iter().map(|k| Mend::Kind(*k)).collect()
}

fn kinds(report: &CheckReport) -> Vec<(FindingKind, u64)> {
    report.findings.iter().map(|f| (f.kind, f.rows)).collect()
}

fn row_at(rows: &Columns, time: &str) -> usize {
    rows.time.iter().position(|&t| t == parse(time).unwrap()).unwrap()
}

#[test]
fn a_clean_series_has_no_findings_and_is_full() {
    let report = check(&clean());
    assert_eq!(kinds(&report), []);
    assert_eq!((report.rows, report.coverage), (14_400, Some(1.0)));
    assert_eq!(report.days.len(), 10);
}

#[test]
fn a_hole_a_day_and_a_weekend_are_told_apart() {
    let mut rows = clean();
    let (a, b) = (parse("2024-01-10").unwrap(), parse("2024-01-16 10:00").unwrap());
    let times = rows.time.clone();
    rows.retain(|i| !(a..a + DAY).contains(&times[i]) && !(b..b + HOUR).contains(&times[i]));
    let report = check(&rows);
    assert_eq!(kinds(&report), [(FindingKind::Missing, 0), (FindingKind::Missing, 0)]);
    assert_eq!(report.gaps.iter().map(|g| g.open / HOUR).collect::<Vec<_>>(), [24, 1]);
    assert!((report.coverage.unwrap() - (1.0 - 25.0 / 240.0)).abs() < 1e-9);
    assert_eq!(report.missing_days().count(), 1);
}

#[test]
fn wrong_rows_are_found_and_mended_and_nothing_else_is_touched() {
    let clean = clean();
    let mut rows = clean.clone();
    let (spike, bad, twice) = (
        row_at(&rows, "2024-01-11 12:34"),
        row_at(&rows, "2024-01-12 15:20"),
        row_at(&rows, "2024-01-15 09:00"),
    );
    rows.data[1][spike] += 3000;
    rows.data[1][bad] = rows.data[2][bad] - 7;
    let again = rows.rows(twice..twice + 30);
    rows.append(&again);
    let mut conflict = rows.rows(100..101);
    conflict.data[4][0] += 1;
    rows.append(&conflict);
    let mut filler = rows.rows(0..1);
    filler.time[0] = parse("2024-01-13 12:00").unwrap();
    rows.append(&filler);
    rows.sort();
    let report = check(&rows);
    let expected = [
        (FindingKind::Spike, 1),
        (FindingKind::BadOhlc, 1),
        (FindingKind::DuplicateTime, 30),
        (FindingKind::ConflictingTime, 1),
        (FindingKind::ClosedMarket, 1),
    ];
    assert_eq!(kinds(&report), expected, "{:?}", report.findings);
    let mends: Vec<Mend> = expected.iter().map(|(k, _)| Mend::Kind(*k)).collect();
    let (mended, counts) = mend(&rows, &report, &mends);
    assert_eq!(counts.iter().map(|(_, n)| *n).collect::<Vec<_>>(), expected.map(|e| e.1));
    let mut left = clean.clone();
    left.data[1][bad] = left.data[0][bad].max(left.data[3][bad]);
    let times = left.time.clone();
    left.retain(|i| times[i] != parse("2024-01-11 12:34").unwrap());
    assert!(mended == left, "only what was wrong is changed");
}

#[test]
fn a_slipped_week_is_one_finding() {
    let mut rows = clean();
    let monday = parse("2024-01-14").unwrap();
    rows.time.iter_mut().filter(|t| **t >= monday).for_each(|t| *t += HOUR);
    let report = check(&rows);
    assert_eq!(kinds(&report), [(FindingKind::ClockSlip, 0)], "the hour after the close is part of it");
    assert_eq!(report.findings[0].detail, FindingDetail::SessionLate(HOUR));
    assert_eq!(report.findings[0].span.from, parse("2024-01-14 23:00").unwrap());
}

/// Changes rows from `from` on, for `minutes` rows.
fn change(rows: &mut Columns, from: &str, minutes: usize, with: impl Fn(&mut Columns, usize)) {
    let first = row_at(rows, from);
    (first..first + minutes).for_each(|i| with(rows, i));
}

#[test]
fn frozen_rows_repeated_blocks_and_other_scales_are_found_exactly_and_mended() {
    let clean = clean();
    let mut rows = clean.clone();
    let price = rows.data[3][row_at(&rows, "2024-01-09 07:59")];
    change(&mut rows, "2024-01-09 08:00", 90, |rows, i| (0..4).for_each(|c| rows.data[c][i] = price));
    let source = row_at(&rows, "2024-01-10 10:00");
    change(&mut rows, "2024-01-16 10:00", 200, |rows, i| {
        let from = source + i - row_at(&clean, "2024-01-16 10:00");
        (0..5).for_each(|c| rows.data[c][i] = clean.data[c][from]);
    });
    change(&mut rows, "2024-01-18 00:00", 600, |rows, i| (0..4).for_each(|c| rows.data[c][i] *= 10));
    let report = check(&rows);
    let found: Vec<(FindingKind, Span)> = report.findings.iter().map(|f| (f.kind, f.span)).collect();
    let span =
        |from: &str, minutes: i64| Span::new(parse(from).unwrap(), parse(from).unwrap() + minutes * MINUTE);
    let kinds = [FindingKind::ScaleJump, FindingKind::Frozen, FindingKind::RepeatedBlock];
    assert_eq!(found.iter().map(|f| f.0).collect::<Vec<_>>(), kinds, "{:?}", report.findings);
    assert_eq!(found[0].1, span("2024-01-18 00:00", 600));
    // The last row before the price stood still shows it too.
    assert!(
        found[1].1.from <= parse("2024-01-09 08:00").unwrap()
            && found[1].1.to == span("2024-01-09 08:00", 90).to
    );
    let block = span("2024-01-16 10:00", 200);
    assert!(found[2].1.overlap(&block) == Some(found[2].1) && found[2].1.length() > 150 * MINUTE);
    let (mended, counts) = mend(&rows, &report, &all(&kinds));
    assert_eq!(counts[0].1, 600);
    let thursday = |rows: &Columns| rows.rows(rows.range_of(span("2024-01-18 00:00", 1440)));
    assert!(thursday(&mended) == thursday(&clean), "divided by ten again");
    assert_eq!(mended.len(), rows.len() - (counts[1].1 + counts[2].1) as usize);
}

#[test]
fn a_slipped_week_is_moved_back_and_holes_are_filled_with_marked_bars() {
    let clean = clean();
    let mut rows = clean.clone();
    let monday = parse("2024-01-14").unwrap();
    rows.time.iter_mut().filter(|t| **t >= monday).for_each(|t| *t += HOUR);
    let report = check(&rows);
    let (mended, counts) = mend(&rows, &report, &all(&[FindingKind::ClockSlip]));
    assert!(mended == clean && counts[0].1 == 7200);
    let hole = Span::new(parse("2024-01-10 10:00").unwrap(), parse("2024-01-10 11:00").unwrap());
    let times = clean.time.clone();
    rows = clean.clone();
    rows.retain(|i| !hole.holds(times[i]));
    let (filled, counts) = mend(&rows, &check(&rows), &all(&[FindingKind::Missing]));
    assert_eq!((filled.time.clone(), counts[0].1), (clean.time, 60));
    let marked: Vec<Micros> = (0..filled.len())
        .filter(|i| filled.column(Field::Origin)[*i] == FILLED)
        .map(|i| filled.time[i])
        .collect();
    assert_eq!((marked[0], marked[59]), (hole.from, hole.to - MINUTE));
    let at = row_at(&filled, "2024-01-10 10:30");
    let close = filled.column(Field::Close)[row_at(&filled, "2024-01-10 09:59")];
    assert!((0..4).all(|c| filled.data[c][at] == close) && filled.column(Field::Volume)[at] == 0);
}

#[test]
fn of_conflicting_rows_the_one_asked_for_is_kept() {
    let clean = clean();
    let mut rows = clean.rows(0..1500);
    // Three rows at one time, where a piece of the mender ends.
    for close in [500, -300] {
        let mut other = clean.rows(1008..1009);
        other.data[3][0] += close;
        other.data[1][0] = other.data[1][0].max(other.data[3][0]);
        other.data[2][0] = other.data[2][0].min(other.data[3][0]);
        rows.append(&other);
    }
    rows.sort();
    let report = check(&rows);
    assert_eq!(report.count(FindingKind::ConflictingTime), (1, 2));
    let own = clean.data[3][1008];
    for (keep, expected) in [(Keep::First, own), (Keep::Last, own - 300), (Keep::Median, own)] {
        let (mended, counts) = mend(&rows, &report, &[Mend::Conflicts(keep)]);
        assert_eq!((mended.data[3][1008], mended.len(), counts[0].1), (expected, 1500, 2), "{keep:?}");
    }
}

#[test]
fn two_series_are_held_against_each_other() {
    let here = clean();
    let mut there = here.clone();
    // Another side of the market, a point of noise, a bad hour and a missing day.
    let mut rng = fastrand::Rng::with_seed(3);
    there.data.iter_mut().take(4).for_each(|c| c.iter_mut().for_each(|v| *v += 7 + rng.i64(-1..=1)));
    change(&mut there, "2024-01-11 09:00", 60, |rows, i| rows.data[3][i] += 90);
    let day = parse("2024-01-17").unwrap();
    let times = there.time.clone();
    there.retain(|i| !(day..day + DAY).contains(&times[i]));
    let mut comparer = SeriesComparer::new(MINUTE, false);
    let prices = |rows: &Columns, i: usize| [0, 1, 2, 3].map(|c| rows.data[c][i]);
    for (i, t) in here.time.iter().enumerate() {
        match there.time.binary_search(t) {
            Ok(j) => comparer.both(*t, prices(&here, i), prices(&there, j)),
            Err(_) => comparer.alone(*t, true),
        }
    }
    let cross = comparer.finish();
    assert_eq!((cross.level, cross.all.only_here, cross.all.only_there, cross.all.apart), (7, 1440, 0, 60));
    assert_eq!(
        cross.findings.iter().map(|f| (f.span.from, f.rows)).collect::<Vec<_>>(),
        [(parse("2024-01-11 09:00").unwrap(), 60)]
    );
    assert_eq!(
        cross.worst_days.iter().map(|d| d.0 * DAY).collect::<Vec<_>>(),
        [day, parse("2024-01-11").unwrap()]
    );
    assert!(cross.all.correlation() > 0.9 && cross.months.len() == 1);
}
