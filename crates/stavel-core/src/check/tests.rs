use super::*;
use crate::model::time::{DAY, HOUR, MINUTE, parse};
use crate::model::{Columns, Field, Frame, Scale, Session, Span};

fn session() -> Session {
    Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
        clock: "America/New_York+7h".parse().unwrap(),
        holidays: vec![],
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

fn check(rows: &Columns) -> Report {
    let (first, last) = rows.ends().unwrap();
    let subject =
        Subject { session: &session(), frame: Frame::M1, span: Span::new(first, last + 1), disorder: vec![] };
    let mut checker = Checker::new(subject);
    // In uneven pieces: what straddles two pieces must not be lost.
    let mut from = 0;
    while from < rows.len() {
        let to = (from + 997).min(rows.len());
        checker.push(&rows.rows(from..to));
        from = to;
    }
    checker.finish()
}

fn kinds(report: &Report) -> Vec<(Kind, u64)> {
    report.findings.iter().map(|f| (f.kind, f.rows)).collect()
}

fn row_at(rows: &Columns, time: &str) -> usize {
    rows.time.iter().position(|&t| t == parse(time).unwrap()).unwrap()
}

#[test]
fn a_clean_series_has_no_findings_and_is_full() {
    let report = check(&clean());
    assert_eq!(kinds(&report), []);
    assert_eq!((report.rows, report.coverage), (14_400, 1.0));
    assert_eq!(report.days.len(), 10);
}

#[test]
fn a_hole_a_day_and_a_weekend_are_told_apart() {
    let mut rows = clean();
    let (a, b) = (parse("2024-01-10").unwrap(), parse("2024-01-16 10:00").unwrap());
    let times = rows.time.clone();
    rows.retain(|i| !(a..a + DAY).contains(&times[i]) && !(b..b + HOUR).contains(&times[i]));
    let report = check(&rows);
    assert_eq!(kinds(&report), [(Kind::Missing, 0), (Kind::Missing, 0)]);
    assert_eq!(report.gaps.iter().map(|g| g.open / HOUR).collect::<Vec<_>>(), [24, 1]);
    assert!((report.coverage - (1.0 - 25.0 / 240.0)).abs() < 1e-9);
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
        (Kind::Spike, 1),
        (Kind::BadOhlc, 1),
        (Kind::DuplicateTime, 30),
        (Kind::ConflictingTime, 1),
        (Kind::ClosedMarket, 1),
    ];
    assert_eq!(kinds(&report), expected, "{:?}", report.findings);
    let kinds: Vec<Kind> = expected.iter().map(|(k, _)| *k).collect();
    let mended = mend(rows, &report, &kinds, &session()).unwrap();
    assert_eq!(mended.counts, expected);
    let mut left = clean.clone();
    left.data[1][bad] = left.data[0][bad].max(left.data[3][bad]);
    let times = left.time.clone();
    left.retain(|i| times[i] != parse("2024-01-11 12:34").unwrap());
    assert!(mended.rows == left, "only what was wrong is changed");
    assert!(mend(mended.rows, &report, &[Kind::Missing], &session()).is_err());
}

#[test]
fn a_slipped_week_is_one_finding() {
    let mut rows = clean();
    let monday = parse("2024-01-14").unwrap();
    rows.time.iter_mut().filter(|t| **t >= monday).for_each(|t| *t += HOUR);
    let report = check(&rows);
    assert_eq!(kinds(&report), [(Kind::ClockSlip, 0)], "the hour after the close is part of it");
    assert_eq!(report.findings[0].detail, "trade begins and ends 1 h late");
    assert_eq!(report.findings[0].span.from, parse("2024-01-14 23:00").unwrap());
}
