//! How long the bench takes to draw each lens, and to answer a key while a job runs: `cargo bench -p stavel-tui`.
//!
//! On a shelf with 100 million ticks and on one with 2,000 series, which are made once below `target/bench-shelves`
//! (some 1 GB). `TICKS` and `SERIES` in the environment say other numbers.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use stavel_core::job::Job;
use stavel_core::model::time::{DAY, MINUTE, parse, wall};
use stavel_core::model::{Clock, Columns, Field, Made, Provenance, Scale, SeriesName, Span};
use stavel_core::store::{Origin, Shelf};
use stavel_tui::measure::UnseenBench;
use stavel_work::{ChartStep, Step, apply};

const SIZES: [(u16, u16); 2] = [(160, 47), (240, 67)];
/// How often the chart goes through all scales.
const ROUNDS: usize = 10;
/// Draws of each lens.
const DRAWS: usize = 300;

fn main() {
    let number =
        |name: &str, usual: u64| std::env::var(name).ok().and_then(|n| n.parse().ok()).unwrap_or(usual);
    let (ticks, series) = (number("TICKS", 100_000_000), number("SERIES", 2_000));
    let shelves = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/bench-shelves");
    let of_ticks = made(shelves.join(format!("ticks-{ticks}")), |shelf| write_ticks(shelf, ticks));
    let of_series = made(shelves.join(format!("series-{series}")), |shelf| write_series(shelf, series));
    for (name, shelf) in
        [(format!("{ticks} ticks"), of_ticks.clone()), (format!("{series} series"), of_series)]
    {
        for size in SIZES {
            draws(&name, &shelf, size);
        }
        pans(&name, &shelf);
        keys_beside_a_job(&name, &shelf);
        if shelf == of_ticks {
            files(&name, &shelf);
            plays(&name, &shelf, ticks);
        }
    }
}

/// All ticks through the rehearsal lens, as fast as it goes.
fn plays(name: &str, shelf: &Path, ticks: u64) {
    let mut bench = UnseenBench::open(shelf, SIZES[0]);
    bench.settle();
    bench.press("09");
    bench.settle();
    bench.press(&format!("b{} ", ">".repeat(12)));
    let took = bench.play_to_the_end();
    let rate = ticks as f64 / took.as_secs_f64() / 1e6;
    println!(
        "{name}: rehearsed on the bench with a position in {:.1} s, {rate:.1} million ticks a second",
        took.as_secs_f64()
    );
}

/// A shelf that is made where it is not there yet.
fn made(folder: PathBuf, write: impl FnOnce(&mut Shelf)) -> PathBuf {
    let ready = folder.with_extension("ready");
    if !ready.exists() {
        let _ = std::fs::remove_dir_all(&folder);
        write(&mut Shelf::open_to_write(&folder).expect("a shelf"));
        std::fs::write(&ready, "").expect("to write");
    }
    folder
}

fn write_rows(shelf: &mut Shelf, name: &SeriesName, fields: &[Field], rows: impl Iterator<Item = Columns>) {
    shelf.ensure_instrument(&name.instrument).expect("an instrument");
    let origin = Origin {
        provenance: Provenance::of(Made::Unknown),
        clock: Some(Clock::utc()),
        fields: fields.to_vec(),
        scale: Scale { price: 5, volume: 0 },
    };
    let mut draft = shelf.draft(name, origin).expect("a draft");
    rows.for_each(|rows| draft.push(rows).expect("to write"));
    draft.commit().expect("to commit");
}

fn write_ticks(shelf: &mut Shelf, count: u64) {
    let fields = [Field::Bid, Field::Ask];
    let piece = 1_000_000;
    let mut rng = fastrand::Rng::with_seed(1);
    let (mut time, mut bid) = (parse("2015-01-05").expect("a time"), 102_000i64);
    let pieces = (0..count.div_ceil(piece)).map(|_| {
        let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
        for _ in 0..piece {
            time += rng.i64(1..6_000_000);
            bid = (bid + rng.i64(-2..=2)).max(50_000);
            rows.time.push(time);
            rows.data[0].push(bid);
            rows.data[1].push(bid + rng.i64(8..25));
        }
        rows
    });
    write_rows(shelf, &"NOKSEK@quill:ticks".parse().expect("a name"), &fields, pieces);
}

fn write_series(shelf: &mut Shelf, count: u64) {
    let fields = [Field::Open, Field::High, Field::Low, Field::Close];
    let start = parse("2024-01-08").expect("a time");
    for i in 0..count {
        let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
        for minute in 0..2 * DAY / MINUTE {
            let price = 100_000 + (minute * 7 + i as i64) % 97;
            rows.time.push(start + minute * MINUTE);
            [price, price + 3, price - 3, price + 1]
                .into_iter()
                .zip(&mut rows.data)
                .for_each(|(v, c)| c.push(v));
        }
        let name = format!("N{:03}@s{}:1m", i / 4, i % 4);
        write_rows(shelf, &name.parse().expect("a name"), &fields, std::iter::once(rows));
    }
}

/// A quantile of some times, in milliseconds.
fn quantile(times: &[Duration], share: f64) -> f64 {
    let mut sorted = times.to_vec();
    sorted.sort_unstable();
    let at = ((sorted.len() - 1) as f64 * share).round() as usize;
    sorted.get(at).map_or(0.0, |t| t.as_secs_f64() * 1e3)
}

fn draws(name: &str, shelf: &Path, size: (u16, u16)) {
    let mut bench = UnseenBench::open(shelf, size);
    bench.wait(Duration::from_secs(4));
    for (place, lens) in bench.lenses().into_iter().enumerate() {
        bench.press(&(place + 1).to_string());
        bench.wait(Duration::from_secs(2));
        let times: Vec<Duration> = (0..DRAWS)
            .map(|i| {
                // A cursor or a choice that moves, so that nothing can be kept from the draw before.
                bench.press(if i % 2 == 0 { "." } else { "," });
                let begun = Instant::now();
                bench.draw();
                let took = begun.elapsed();
                // As between the keys of a person: what threads read meanwhile does not wait for the loop here.
                std::thread::sleep(Duration::from_millis(4));
                took
            })
            .collect();
        println!(
            "{name:>18} {:>3}x{} {lens:<9} draw p50 {:6.2} ms  p99 {:6.2} ms",
            size.0,
            size.1,
            quantile(&times, 0.5),
            quantile(&times, 0.99)
        );
    }
}

/// How long the whole history takes to be seen on the chart, and then each step of panning and zooming.
fn pans(name: &str, shelf: &Path) {
    let mut bench = UnseenBench::open(shelf, SIZES[0]);
    bench.settle();
    let begun = Instant::now();
    bench.press("2");
    bench.settle();
    bench.draw();
    println!("{name:>18} chart of all time: {:.0} ms", begun.elapsed().as_secs_f64() * 1e3);
    let mut times = Vec::new();
    // Eleven steps in, with a look to the left at each scale, and out again, so often that one in a hundred can be told.
    for key in "+←+←+←+←+←+←+←+←+←+←+←-←-←-←-←-←-←-←-←-←-←-←".repeat(ROUNDS).chars()
    {
        let begun = Instant::now();
        bench.press(&key.to_string());
        bench.settle();
        bench.draw();
        times.push(begun.elapsed());
    }
    println!(
        "{name:>18} key to the chart of another window: p50 {:.1} ms  p99 {:.1} ms  most {:.1} ms",
        quantile(&times, 0.5),
        quantile(&times, 0.99),
        quantile(&times, 1.0)
    );
}

/// How long a chart takes as a file, of spans from all time to an hour, and what its levels take on the disk.
fn files(name: &str, folder: &Path) {
    let mut shelf = Shelf::open_to_write(folder).expect("a shelf");
    let all = shelf.series().expect("series");
    let info = all.iter().max_by_key(|s| s.edition.rows).expect("a series").clone();
    let levels = shelf.levels(&info).expect("levels");
    println!(
        "{name:>18} levels take {:.2} % of {:.0} MB",
        levels.bytes() as f64 * 100.0 / info.edition.bytes as f64,
        info.edition.bytes as f64 / 1e6
    );
    let whole = Span::new(info.edition.first, info.edition.last + 1);
    let mut times = Vec::new();
    for part in [1, 2, 5, 10, 30, 100, 300, 1_000, 3_000, 10_000, 30_000] {
        let from = whole.from + whole.length() / 3;
        let to = from + whole.length() / 3 / part;
        let (from, to) = if part == 1 { (whole.from, whole.to) } else { (from, to) };
        let out = folder.with_extension("svg");
        let step =
            ChartStep { from: Some(wall(from)), to: Some(wall(to)), ..ChartStep::of(info.name.clone(), out) };
        let begun = Instant::now();
        apply(&mut shelf, &Step::Chart(step), &Job::unwatched()).expect("a chart");
        times.push(begun.elapsed());
    }
    println!(
        "{name:>18} a chart file: p50 {:.0} ms  most {:.0} ms",
        quantile(&times, 0.5),
        quantile(&times, 1.0)
    );
}

/// Frames are built as a job; meanwhile keys are pressed, each answered by a picture.
fn keys_beside_a_job(name: &str, shelf: &Path) {
    let mut bench = UnseenBench::open(shelf, SIZES[0]);
    bench.wait(Duration::from_secs(4));
    bench.press("6\n");
    let mut times = Vec::new();
    for i in 0..400 {
        let key = ["2", "+", "-", "1", "3", "0", "6", "]"][i % 8];
        let begun = Instant::now();
        bench.press(key);
        bench.draw();
        times.push(begun.elapsed());
        std::thread::sleep(Duration::from_millis(5));
    }
    let beside = if bench.is_busy() { "beside a job" } else { "beside a job that ended" };
    println!(
        "{name:>18} {beside}: key to picture p50 {:.2} ms  p99 {:.2} ms  most {:.2} ms",
        quantile(&times, 0.5),
        quantile(&times, 0.99),
        quantile(&times, 1.0)
    );
    bench.press("qq");
}
