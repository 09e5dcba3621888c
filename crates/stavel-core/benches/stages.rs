//! Intake, check, frames, align and splice on made-up histories: `cargo bench -p stavel-core`.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use divan::Bencher;
use stavel_core::align;
use stavel_core::bars::Builder;
use stavel_core::check::{CheckSubject, Checker, check_series};
use stavel_core::frames::{FrameSettings, build_rows, build_series};
use stavel_core::intake::{Hints, plan, take};
use stavel_core::job::Job;
use stavel_core::model::price::push_scaled;
use stavel_core::model::time::{DAY, HOUR, MINUTE, SECOND, parse, wall};
use stavel_core::model::{
    Clock, Columns, Field, Frame, Made, Micros, Provenance, Scale, SeriesName, Session, Side, Span, Unit,
};
use stavel_core::rehearse::{
    BarEnds, DeskRules, Direction, Exit, LOT, RateRule, Replay, ShelfRows, SpreadRule, Tape, Ticket, Traded,
    run_orders,
};
use stavel_core::splice::{
    JoinSettings, Source, SplicePlan, SpliceRule, SpliceWishes, measure, splice_series,
};
use stavel_core::store::{GROUP_ROWS, Origin, Shelf};

fn main() {
    divan::main();
}

const TICKS: usize = 1_000_000;

fn session() -> Session {
    Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().expect("a session week"),
        clock: "America/New_York+7h".parse().expect("a clock"),
        ..Session::always()
    }
}

/// Ten years of minutes: 3.7 million rows.
fn minutes() -> Columns {
    let at = |t: &str| parse(t).expect("a time");
    let fields = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume];
    let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
    let mut rng = fastrand::Rng::with_seed(1);
    let mut price = 102_000;
    for open in session().open_spans(Span::new(at("2014-01-01"), at("2024-01-01"))) {
        for t in (open.from..open.to).step_by(MINUTE as usize) {
            let close = price + rng.i64(-9..=9);
            rows.time.push(t);
            let values = [price, price.max(close) + 2, price.min(close) - 2, close, rng.i64(1..90)];
            rows.data.iter_mut().zip(values).for_each(|(c, v)| c.push(v));
            price = close;
        }
    }
    rows
}

/// A file of ticks: `2024-01-01 00:00:01.418,11.49992,11.50009,2.2,4.0`, or the same day first.
fn tick_file(folder: &Path, day_first: bool) -> PathBuf {
    let path = folder.join(if day_first { "TICKS_d.csv" } else { "TICKS_y.csv" });
    let mut out = std::io::BufWriter::new(std::fs::File::create(&path).expect("a file"));
    let mut rng = fastrand::Rng::with_seed(2);
    let (mut t, mut bid) = (parse("2024-01-13").expect("a time"), 1_149_992);
    let mut line = Vec::new();
    for _ in 0..TICKS {
        t += rng.i64(1..900) * 1000;
        bid += rng.i64(-3..=3);
        line.clear();
        line.extend_from_slice(moment(t, day_first).as_bytes());
        for (value, decimals) in
            [(bid, 5), (bid + rng.i64(8..25), 5), (rng.i64(1..90), 1), (rng.i64(1..90), 1)]
        {
            line.push(b',');
            push_scaled(&mut line, value, decimals);
        }
        line.push(b'\n');
        out.write_all(&line).expect("to write");
    }
    out.flush().expect("to write");
    path
}

fn moment(t: Micros, day_first: bool) -> String {
    let text = wall(t / SECOND * SECOND + 1);
    let (date, time) = (&text[..10], &text[11..19]);
    let date =
        if day_first { format!("{}.{}.{}", &date[8..10], &date[5..7], &date[..4]) } else { date.to_owned() };
    format!("{date} {time}.{:03}", t % SECOND / 1000)
}

#[divan::bench(args = [false, true], sample_count = 5)]
fn intake_of_a_million_ticks(bencher: Bencher, day_first: bool) {
    let files = tempfile::tempdir().expect("a folder");
    let path = tick_file(files.path(), day_first);
    bencher.with_inputs(|| tempfile::tempdir().expect("a folder")).bench_local_values(|dir| {
        let mut shelf = Shelf::open_to_write(dir.path()).expect("a shelf");
        let hints = Hints { source: "quill".into(), ..Hints::default() };
        let plans = plan(&shelf, std::slice::from_ref(&path), &hints).expect("a plan").plans;
        let taken = take(&mut shelf, &plans[0], &Job::unwatched()).expect("to be taken");
        assert_eq!(taken[0].rows_kept as usize, TICKS);
        dir
    });
}

#[divan::bench(sample_count = 5)]
fn check_of_ten_years_of_minutes(bencher: Bencher) {
    let rows = minutes();
    let span = rows.ends().map(|(a, b)| Span::new(a, b + 1)).expect("rows");
    // In pieces of the size in which the shelf gives them.
    let piece = |from: usize| Arc::new(rows.rows(from..(from + GROUP_ROWS).min(rows.len())));
    let pieces: Vec<Arc<Columns>> = (0..rows.len()).step_by(GROUP_ROWS).map(piece).collect();
    bencher.bench_local(|| {
        let session = session();
        let mut checker = Checker::new(CheckSubject {
            session: &session,
            frame: Frame::M1,
            span,
            is_positive: true,
            disorder: vec![],
        });
        pieces.iter().for_each(|piece| checker.push(piece.clone()));
        checker.finish()
    });
}

/// Fifty million ticks on a shelf: two years and a half of a busy pair.
fn ticks_on_a_shelf(dir: &Path) -> SeriesName {
    let mut shelf = Shelf::open_to_write(dir).expect("a shelf");
    let name: SeriesName = "NOKSEK@quill:ticks".parse().expect("a name");
    let fields = vec![Field::Bid, Field::Ask, Field::BidVolume, Field::AskVolume];
    let scale = Scale { price: 5, volume: 1 };
    let origin = Origin {
        provenance: Provenance::of(Made::Unknown),
        clock: Some(Clock::utc()),
        fields: fields.clone(),
        scale,
    };
    let mut draft = shelf.draft(&name, origin).expect("a draft");
    let mut rng = fastrand::Rng::with_seed(3);
    let mut bid = 1_149_992;
    let mut rows = Columns::empty(&fields, scale);
    let mut left = 50_000_000;
    let from = parse("2021-01-03").expect("a time");
    for open in session().open_spans(Span::new(from, from + 4 * 365 * DAY)) {
        let mut t = open.from;
        while t < open.to && left > 0 {
            t += rng.i64(1..2400) * 1000;
            bid += rng.i64(-3..=3);
            rows.time.push(t);
            let values = [bid, bid + rng.i64(8..25), rng.i64(1..90), rng.i64(1..90)];
            rows.data.iter_mut().zip(values).for_each(|(c, v)| c.push(v));
            left -= 1;
            if rows.len() == 1 << 20 {
                draft.push(std::mem::replace(&mut rows, Columns::empty(&fields, scale))).expect("to write");
            }
        }
    }
    draft.push(rows).expect("to write");
    draft.commit().expect("to commit");
    name
}

#[divan::bench(sample_count = 3)]
fn check_of_fifty_million_ticks_on_the_shelf(bencher: Bencher) {
    let dir = tempfile::tempdir().expect("a folder");
    let name = ticks_on_a_shelf(dir.path());
    let shelf = Shelf::open(dir.path()).expect("a shelf");
    bencher.bench_local(|| check_series(&shelf, &name, Span::ALL, &Job::unwatched()).expect("a report"));
}

/// Fifty million ticks read and played: with nothing to do, with a bracket far away, and with a stop that follows the price.
#[divan::bench(args = ["nothing", "bracket", "trailing"], sample_count = 3)]
fn rehearsal_of_fifty_million_ticks_on_the_shelf(bencher: Bencher, held: &str) {
    let dir = tempfile::tempdir().expect("a folder");
    let name = ticks_on_a_shelf(dir.path());
    let shelf = Shelf::open(dir.path()).expect("a shelf");
    let info = shelf.find(&name).expect("the ticks");
    let sheet = shelf.instrument("NOKSEK").expect("an instrument").sheet;
    let far = Some(Exit::Away(1_000_000));
    let ticket = Ticket::market(0, Direction::Buy, LOT);
    let ticket = match held {
        "bracket" => Some(Ticket { stop: far, target: far, ..ticket }),
        "trailing" => Some(Ticket { stop: Some(Exit::Trail(1_000_000)), ..ticket }),
        _ => None,
    };
    bencher.bench_local(|| {
        let source = ShelfRows::prices_only(shelf.reader(&info.edition).expect("a reader"), Span::ALL);
        let spreads = SpreadRule::of(&shelf, &info, None, &sheet, None).expect("a rule");
        let tape =
            Tape::new(Box::new(source), BarEnds::new(Frame::Ticks, &Session::always()), spreads, Span::ALL)
                .expect("a tape");
        let traded = Traded {
            name: "NOKSEK".into(),
            sheet: sheet.clone(),
            decimals: 5,
            rate: RateRule::Same,
            patience: tape.patience(),
        };
        let mut replay = Replay::new(vec![tape], vec![traded], DeskRules::default()).expect("a replay");
        let orders: Vec<_> = ticket.clone().map(|ticket| (info.edition.first, ticket)).into_iter().collect();
        let outcome = run_orders(&mut replay, &orders, i64::MAX, &Job::unwatched()).expect("an outcome");
        assert_eq!((outcome.quotes, replay.desk().deals().count()), (50_000_000, orders.len()));
    });
}

/// Read, built and written.
#[divan::bench(args = ["1m", "1m 5m 15m 30m 1h 4h 1d 1w 1mo"], sample_count = 3)]
fn frames_of_fifty_million_ticks_on_the_shelf(bencher: Bencher, frames: &str) {
    let dir = tempfile::tempdir().expect("a folder");
    let name = ticks_on_a_shelf(dir.path());
    build_on_shelf(bencher, dir.path(), &name, frames);
}

/// Ten years of minutes read, eight frames built and written.
#[divan::bench(sample_count = 5)]
fn all_frames_of_ten_years_of_minutes_on_the_shelf(bencher: Bencher) {
    let dir = tempfile::tempdir().expect("a folder");
    let mut shelf = Shelf::open_to_write(dir.path()).expect("a shelf");
    let name: SeriesName = "NOKSEK@quill:1m".parse().expect("a name");
    put(&mut shelf, &name, minutes());
    drop(shelf);
    build_on_shelf(bencher, dir.path(), &name, "5m 15m 30m 1h 4h 1d 1w 1mo");
}

/// The same without writing.
#[divan::bench(sample_count = 5)]
fn all_frames_of_ten_years_of_minutes_read_and_built(bencher: Bencher) {
    let dir = tempfile::tempdir().expect("a folder");
    let mut shelf = Shelf::open_to_write(dir.path()).expect("a shelf");
    let name: SeriesName = "NOKSEK@quill:1m".parse().expect("a name");
    put(&mut shelf, &name, minutes());
    let info = shelf.find(&name).expect("the series");
    let frames = "5m 15m 30m 1h 4h 1d 1w 1mo".split(' ').map(|f| f.parse().expect("a frame"));
    let frames: Vec<Frame> = frames.collect();
    bencher.bench_local(|| {
        build_rows(&shelf, &info, &frames, &FrameSettings::default(), &Job::unwatched()).expect("bars")
    });
}

fn build_on_shelf(bencher: Bencher, dir: &Path, name: &SeriesName, frames: &str) {
    let frames: Vec<Frame> = frames.split(' ').map(|f| f.parse().expect("a frame")).collect();
    let mut shelf = Shelf::open_to_write(dir).expect("a shelf");
    bencher.bench_local(|| {
        build_series(&mut shelf, name, &frames, &FrameSettings::default(), &Job::unwatched()).expect("bars")
    });
}

fn put(shelf: &mut Shelf, name: &SeriesName, rows: Columns) {
    let (fields, scale) = (rows.fields.clone(), rows.scale);
    let origin =
        Origin { provenance: Provenance::of(Made::Unknown), clock: Some(Clock::utc()), fields, scale };
    let mut draft = shelf.draft(name, origin).expect("a draft");
    draft.push(rows).expect("rows");
    draft.commit().expect("an edition");
}

#[divan::bench(args = ["5m", "1h", "1d"], sample_count = 5)]
fn frames_of_ten_years_of_minutes(bencher: Bencher, frame: &str) {
    let rows = minutes();
    let frame = frame.parse().expect("a frame");
    bencher.bench_local(|| {
        let session = session();
        let mut builder =
            Builder::new(Frame::M1, frame, Side::Bid, &rows.fields, rows.scale, &session).expect("a builder");
        builder.push(&rows);
        builder.finish().bars
    });
}

#[divan::bench(sample_count = 5)]
fn align_of_ten_years_of_minutes(bencher: Bencher) {
    let there = minutes();
    let mut here = there.clone();
    let clock = session().clock;
    here.time.iter_mut().for_each(|t| *t = clock.to_wall(*t));
    bencher.bench_local(|| {
        let weeks = align::correlate(&here, &there, MINUTE, false, &Job::unwatched()).expect("weeks");
        let fit = align::fit(&weeks, MINUTE, None);
        assert_eq!(fit.clock, clock);
    });
}

#[divan::bench(sample_count = 5)]
fn align_of_ten_years_of_hours(bencher: Bencher) {
    let hour = Frame::Bars { unit: Unit::Hour, count: 1 };
    let rows = minutes();
    let mut builder =
        Builder::new(Frame::M1, hour, Side::Bid, &rows.fields, rows.scale, &session()).expect("a builder");
    builder.push(&rows);
    let there = builder.finish().bars;
    let mut here = there.clone();
    let clock = session().clock;
    here.time.iter_mut().for_each(|t| *t = clock.to_wall(*t));
    bencher.bench_local(|| {
        let weeks = align::correlate(&here, &there, HOUR, false, &Job::unwatched()).expect("weeks");
        assert_eq!(align::fit(&weeks, HOUR, None).clock, clock);
    });
}

/// The broker's last year before ten years of a vendor; seams judged and levels measured.
#[divan::bench(sample_count = 7)]
fn splice_of_ten_years_of_minutes(bencher: Bencher) {
    splice_by(bencher, &SpliceRule::Span, 300_000);
}

/// Both have all ten years: every minute is looked for in both.
#[divan::bench(sample_count = 7)]
fn splice_of_ten_years_and_their_holes(bencher: Bencher) {
    splice_by(bencher, &SpliceRule::Holes, usize::MAX);
}

fn splice_by(bencher: Bencher, rule: &SpliceRule, of_broker: usize) {
    let vendor = minutes();
    let broker = vendor.rows(vendor.len() - of_broker.min(vendor.len())..vendor.len());
    let session = session();
    let held = |rows: Columns| Source::held(rows, MINUTE, &session).expect("rows");
    let sources = vec![held(broker), held(vendor)];
    bencher.bench_local(|| {
        let how = JoinSettings { rule, grades: &[], session: &session };
        let plan = SplicePlan::new(sources.clone(), &how).expect("a plan");
        let of = |s: usize| (&plan.sources[s], &plan.adapters[s]);
        let met = measure(of(0), of(1)).expect("a measure");
        (plan.rows().expect("a splice"), met)
    });
}

/// The same from the shelf to the shelf, written and synced; the broker has the last year.
#[divan::bench(sample_count = 3)]
fn splice_of_ten_years_on_the_shelf(bencher: Bencher) {
    let dir = tempfile::tempdir().expect("a folder");
    let mut shelf = Shelf::open_to_write(dir.path()).expect("a shelf");
    let vendor = minutes();
    let names: Vec<SeriesName> =
        ["NOKSEK@tarn:1m", "NOKSEK@quill:1m"].iter().map(|n| n.parse().expect("a name")).collect();
    shelf.ensure_instrument("NOKSEK").expect("an instrument");
    for (name, rows) in names.iter().zip([vendor.rows(vendor.len() - 300_000..vendor.len()), vendor]) {
        put(&mut shelf, name, rows);
    }
    let mut made = 0;
    bencher.bench_local(|| {
        made += 1;
        let ask = SpliceWishes::by(SpliceRule::Span);
        splice_series(&mut shelf, &names, &format!("joined{made}"), &ask, &Job::unwatched())
            .expect("a splice")
            .kept
    });
}
