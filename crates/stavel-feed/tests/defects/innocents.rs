//! What looks like a defect and is none: it may be doubted, but nothing is certain of it and nothing is mended
//! unasked.

use stavel_core::check::{CheckReport, FindingKind, Mend, check_series, learn_hours, mend_series};
use stavel_core::intake::{ClockHint, Hints, plan, take};
use stavel_core::job::Job;
use stavel_core::model::{Clock, Made, Provenance, SeriesName};
use stavel_core::store::{Origin, Shelf};

use super::*;

/// A shelf with one series, and the folder it lies in.
struct Desk {
    shelf: Shelf,
    series: SeriesName,
    _dir: tempfile::TempDir,
}

impl Desk {
    fn with(name: &str, rows: &Columns) -> Desk {
        let dir = tempfile::tempdir().unwrap();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        let name: SeriesName = name.parse().unwrap();
        let origin = Origin {
            provenance: Provenance::of(Made::Unknown),
            clock: Some(Clock::utc()),
            fields: rows.fields.clone(),
            scale: rows.scale,
        };
        let mut draft = shelf.draft(&name, origin).unwrap();
        draft.push(rows.clone()).unwrap();
        draft.commit().unwrap();
        Desk { shelf, series: name, _dir: dir }
    }

    /// What is found; nothing of it is certain, and nothing is mended by all that is safe.
    fn judge(&mut self, what: &str) -> CheckReport {
        let Desk { shelf, series: name, .. } = self;
        let job = Job::unwatched();
        let rows = shelf.find(name).unwrap().edition.rows;
        let (_, report) = check_series(shelf, name, Span::ALL, &job).unwrap();
        let certain: Vec<_> = report.findings.iter().filter(|f| report.is_certain(f)).collect();
        assert!(certain.is_empty(), "{what}: {certain:?}");
        let mended = mend_series(shelf, name, &[Mend::Safe], Span::ALL, &job).unwrap();
        assert!(mended.iter().all(|(_, n)| *n == 0), "{what}: {mended:?}");
        assert_eq!(shelf.find(name).unwrap().edition.rows, rows, "{what}");
        report
    }
}

fn count(report: &CheckReport, kind: FindingKind) -> usize {
    report.count(kind).0
}

/// Minutes of a market that never closes, round about zero.
fn always_open(seed: u64, weeks: i64) -> Columns {
    let mut rows = Columns::empty(&BARS, Scale { price: 5, volume: 2 });
    let mut rng = Rng::with_seed(seed);
    let start = parse("2024-04-08").unwrap();
    let mut price = rng.i64(-200..200);
    for minute in 0..weeks * 7 * 1440 {
        let open = price;
        price += rng.i64(-7..=7) - price / 200;
        let (high, low) = (open.max(price) + rng.i64(0..6), open.min(price) - rng.i64(0..6));
        push(&mut rows, start + minute * MINUTE, &[open, high, low, price, rng.i64(1..900), 12]);
    }
    rows
}

#[test]
fn wicks_with_volume_are_doubted_and_stay() {
    let mut doubted = 0;
    for seed in 1..=SEEDS {
        let (mut bars, _) = market(seed);
        let mut rng = Rng::with_seed(seed);
        for _ in 0..12 {
            let i = rng.usize(1000..bars.len() - 1000);
            // A run of stops: far out within the minute and back, on many times the usual volume.
            let reach = rng.i64(60..400);
            bars.data[if rng.bool() { 1 } else { 2 }][i] += reach * if rng.bool() { 1 } else { 0 };
            bars.data[2][i] -= reach;
            bars.data[4][i] *= 20;
        }
        let report = Desk::with("NOKSEK@quill:1m", &bars).judge("wicks");
        doubted += count(&report, FindingKind::Spike);
        assert_eq!(count(&report, FindingKind::BadOhlc) + count(&report, FindingKind::NonPositive), 0);
    }
    println!("{doubted} of {} wicks are doubted, none is certain", SEEDS * 12);
}

#[test]
fn a_bounce_between_bid_and_ask_is_no_spike() {
    for seed in 1..=SEEDS {
        // A market whose step is large: trades jump between bid and ask by one of 25 points.
        let mut rng = Rng::with_seed(seed);
        let mut rows = Columns::empty(&[Field::Last, Field::Volume], Scale { price: 2, volume: 0 });
        let start = parse("2024-04-08 08:00").unwrap();
        let mut level = 40_000;
        for tick in 0..30_000 {
            if rng.u8(0..20) == 0 {
                level += 25 * rng.i64(-1..=1);
            }
            let side = if rng.u8(0..6) == 0 { 25 } else { 0 };
            push(&mut rows, start + tick * 900_000 + rng.i64(0..800) * 1000, &[level + side, rng.i64(1..9)]);
        }
        let report = Desk::with("BLY@quill:ticks", &rows).judge("bounces");
        assert_eq!(count(&report, FindingKind::Spike), 0, "seed {seed}");
    }
}

#[test]
fn prices_below_zero_and_weekends_are_innocent_where_the_market_has_them() {
    for seed in 1..=SEEDS {
        // No pair of currencies: a spread between two months may be anything, on any day.
        let rows = always_open(seed, 5);
        assert!(rows.data[3].iter().any(|p| *p < 0));
        let mut desk = Desk::with("SPREAD@quill:1m", &rows);
        let report = desk.judge("before hours are learned");
        assert_eq!(
            count(&report, FindingKind::ClosedMarket) + count(&report, FindingKind::NonPositive),
            0,
            "seed {seed}"
        );
        let learned = learn_hours(&mut desk.shelf, &desk.series, &Job::unwatched()).unwrap().unwrap();
        assert_eq!(learned.week.to_string(), "mon-sun 00:00-24:00 UTC");
        let report = desk.judge("weekends");
        let wrong: Vec<_> = report.findings.iter().map(|f| f.kind).collect();
        assert!(wrong.is_empty(), "seed {seed}: {wrong:?}");
    }
}

#[test]
fn ticks_that_write_only_the_side_that_changed_are_innocent() {
    for seed in 1..=SEEDS {
        let (_, ticks) = market(seed);
        let ticks = ticks.rows(0..20_000.min(ticks.len()));
        let mut text = String::from("time,bid,ask\n");
        let mut before = (0, 0);
        for i in 0..ticks.len() {
            let now = (ticks.data[0][i], ticks.data[1][i]);
            let cell = |value: i64, before: i64| match value == before {
                true => String::new(),
                false => format!("{}.{:05}", value / 100_000, value % 100_000),
            };
            if now != before {
                let time = stavel_core::model::time::rfc3339(ticks.time[i]);
                text += &format!("{time},{},{}\n", cell(now.0, before.0), cell(now.1, before.1));
            }
            before = now;
        }
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("NOKSEK_ticks.csv");
        std::fs::write(&path, text).unwrap();
        let mut shelf = Shelf::open_to_write(&dir.path().join("shelf")).unwrap();
        let hints =
            Hints { source: "quill".into(), clock: Some(ClockHint::Known(Clock::utc())), ..Hints::default() };
        let planned = plan(&shelf, &[path], &hints).unwrap();
        take(&mut shelf, &planned.plans[0], &Job::unwatched()).unwrap();
        let name = planned.plans[0].series.clone();
        let report = Desk { shelf, series: name, _dir: dir }.judge("one-sided ticks");
        let told = |kind| count(&report, kind);
        let all = [
            FindingKind::Crossed,
            FindingKind::Spike,
            FindingKind::WideSpread,
            FindingKind::NonPositive,
            FindingKind::RepeatedBlock,
        ];
        assert!(all.iter().all(|k| told(*k) == 0), "seed {seed}: {:?}", report.findings);
    }
}
