//! Recording live streams: what arrives is kept as ticks and depth with the time of its arrival, and taken in now and then.

mod gaps;
mod log;
mod stream;
mod take_in;

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};

use fs4::fs_std::FileExt;
use serde_json::{Value, json};
use stavel_core::job::Job;
use stavel_core::model::{Frame, Micros, SeriesName, SeriesPattern, Side};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_feed::client::{Feed, Listed, Service, listing};

use crate::fetch::feeds;
use crate::report::{StepReport, counted};
use stream::{HeardTally, Listener, WantedStream};
pub use take_in::take_in_left;
use take_in::{LogTaker, TakenLogs};

/// What to record.
#[derive(Debug, Clone)]
pub struct RecordWish {
    /// Ticks or depth, by the names of feeds: `NOKSEK@tarn:ticks`. Patterns name instruments that the feed lists.
    pub series: Vec<SeriesPattern>,
    /// How long; else until the job is stopped.
    pub time: Option<Duration>,
}

/// The time now, UTC.
fn now() -> Micros {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.map_or(0, |since| since.as_micros() as Micros)
}

/// Where logs lie.
fn folder_of(root: &Path) -> PathBuf {
    root.join("feeds").join("record")
}

/// The lock of whoever records a feed; it is let go when the program ends.
fn lock(folder: &Path, feed: &str) -> Result<Option<File>> {
    std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
    let path = folder.join(format!("{feed}.lock"));
    let file = File::options().create(true).truncate(false).write(true).open(&path);
    let file = file.map_err(|e| Error::io("Cannot open", &path, &e))?;
    let is_free = file.try_lock_exclusive().map_err(|e| Error::io("Cannot lock", &path, &e))?;
    Ok(is_free.then_some(file))
}

/// A feed whose stream is recorded.
struct Station {
    feed: Feed,
    wanted: Vec<WantedStream>,
    /// Held while it is recorded.
    _lock: File,
}

/// Records streams onto the shelf in a folder, until the time is over or the job is stopped. The shelf is written to only
/// now and then: others may use it meanwhile.
///
/// # Errors
/// Where no feed has such a stream, one cannot be used or is recorded already, or a log cannot be written. What was heard is
/// kept and taken in all the same.
pub fn record(root: &Path, wish: &RecordWish, job: &Job) -> Result<StepReport> {
    let stations = stations(root, wish, job)?;
    let folder = folder_of(root);
    // What an earlier recording left is taken in first.
    let mut taken = TakenLogs::default();
    for station in &stations {
        for stream in &station.wanted {
            let mut taker = LogTaker::new(root, &folder, &station.feed);
            taker.take_left(&stream.series, &mut taken)?;
        }
    }
    let left: u64 = taken.rows.values().sum();
    job.begin("record", 0);
    let until = wish.time.map(|time| Instant::now() + time);
    let mut outcomes: Vec<Result<HeardTally>> = Vec::new();
    std::thread::scope(|scope| {
        let workers: Vec<_> = stations
            .iter()
            .map(|station| {
                let (send, receive) = channel();
                let folder = folder.clone();
                let listener = scope.spawn({
                    let folder = folder.clone();
                    move || {
                        let live = station.feed.live.as_ref().ok_or_else(|| no_stream(&station.feed.name))?;
                        let (feed, wanted) = (&station.feed, station.wanted.as_slice());
                        Listener { feed, live, wanted, folder, until, job, ended: send }.listen()
                    }
                });
                let taker =
                    scope.spawn(move || LogTaker::new(root, &folder, &station.feed).take_all(&receive));
                (listener, taker)
            })
            .collect();
        for (listener, taker) in workers {
            let died = || {
                Error::storage(
                    "Recording ended unexpectedly; what was heard lies in feeds/record of the shelf.",
                )
            };
            outcomes.push(listener.join().unwrap_or_else(|_| Err(died())));
            match taker.join().unwrap_or_else(|_| Err(died())) {
                Ok(more) => taken.add(more),
                Err(error) => outcomes.push(Err(error)),
            }
        }
    });
    let mut heard = Vec::new();
    for outcome in outcomes {
        heard.push(outcome?);
    }
    Ok(told(&stations, &heard, &taken, left))
}

fn no_stream(feed: &str) -> Error {
    Error::input(format!("The feed {feed} has no stream; [live] in its text says where one is."))
}

/// The feeds that have what is wanted, with the instruments as they name them.
fn stations(root: &Path, wish: &RecordWish, job: &Job) -> Result<Vec<Station>> {
    let shelf = Shelf::open(root)?;
    let all = feeds(&shelf)?;
    drop(shelf);
    let mut out = Vec::new();
    let mut is_found = vec![false; wish.series.len()];
    for feed in all.into_iter().filter(|feed| feed.live.is_some()) {
        let listed = match feed.instruments {
            Some(_) => listing(&Service::of(&feed)?, &|| job.advance(0).is_err())?,
            None => Vec::new(),
        };
        let mut wanted = Vec::new();
        for (pattern, found) in wish.series.iter().zip(&mut is_found) {
            let streams = streams_of(pattern, &feed, &listed);
            *found |= !streams.is_empty();
            wanted.extend(streams);
        }
        wanted.sort_by(|a, b| a.series.cmp(&b.series));
        wanted.dedup_by(|a, b| a.series == b.series);
        if wanted.is_empty() {
            continue;
        }
        let name = feed.name.clone();
        let lock = lock(&folder_of(root), &name)?.ok_or_else(|| {
            Error::locked(format!("The feed {name} is being recorded already; end that recording first."))
        })?;
        out.push(Station { feed, wanted, _lock: lock });
    }
    match is_found.iter().position(|found| !found) {
        Some(at) => Err(Error::input(format!(
            "No feed has a stream of {}; a stream is of ticks or depth, as NOKSEK@tarn:ticks, and [live] in the text of the feed says where it is.",
            wish.series[at]
        ))),
        None => Ok(out),
    }
}

/// The streams of a feed that a pattern names.
fn streams_of(pattern: &SeriesPattern, feed: &Feed, listed: &[Listed]) -> Vec<WantedStream> {
    let has_book = feed.live.as_ref().is_some_and(|live| live.bids.is_some());
    let name = |instrument: &str, frame| SeriesName::new(instrument, &feed.name, frame);
    let frames = [Some(Frame::Ticks), has_book.then_some(Frame::Depth)];
    let mut out = Vec::new();
    for frame in frames.into_iter().flatten() {
        for one in listed {
            let series = name(&one.name, frame);
            // Without a frame, ticks are meant.
            if pattern.matches(&series) && (pattern.has_frame() || frame == Frame::Ticks) {
                out.push(WantedStream { series, symbol: one.symbol.clone() });
            }
        }
        // A service that lists nothing is taken by its word.
        let exact = pattern.exact().filter(|exact| listed.is_empty() && exact.side == Side::Bid);
        if let Some(exact) = exact.filter(|exact| exact.frame == frame && exact.source == feed.name) {
            out.push(WantedStream { symbol: exact.instrument.clone(), series: exact });
        }
    }
    out
}

fn told(stations: &[Station], heard: &[HeardTally], taken: &TakenLogs, left: u64) -> StepReport {
    let mut report = StepReport::new(Value::Null, Vec::new());
    let mut recorded = Vec::new();
    for stream in stations.iter().flat_map(|station| &station.wanted) {
        let sum = |of: fn(&HeardTally) -> &std::collections::BTreeMap<SeriesName, u64>| -> u64 {
            heard.iter().filter_map(|tally| of(tally).get(&stream.series)).sum()
        };
        let (rows, gaps) = (sum(|tally| &tally.rows), sum(|tally| &tally.gaps));
        let on_shelf = taken.rows.get(&stream.series).copied().unwrap_or(0);
        let gaps_told = if gaps > 0 { format!(", {}", counted(gaps, "gap")) } else { String::new() };
        report.lines.push(format!("{}: {} recorded{gaps_told}", stream.series, counted(rows, "row")));
        recorded.push(json!({ "series": stream.series, "rows": rows, "gaps": gaps, "on_shelf": on_shelf }));
        if taken.rows.contains_key(&stream.series) {
            report.changed.push(stream.series.clone());
        }
    }
    let junk: u64 = heard.iter().map(|tally| tally.junk).sum();
    let others: u64 = heard.iter().map(|tally| tally.others).sum();
    let more = [
        (left, "rows that an earlier recording left were taken in"),
        (junk, "messages were no quotes, and are passed over"),
        (others, "quotes were of instruments that nobody asked for"),
        (taken.rejected, "rows were rejected by intake; stavel shelf shows them"),
    ];
    report.lines.extend(more.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("  {n} {what}")));
    report.lines.extend(taken.waiting.iter().map(|path| {
        format!(
            "  ▲ {} waits to be taken in: the shelf was in use; the next recording or update takes it",
            path.display()
        )
    }));
    report.lines.extend(taken.refused.iter().map(|why| format!("  ▲ {why}")));
    report.wants_person = taken.rejected > 0 || !taken.waiting.is_empty() || !taken.refused.is_empty();
    report.json = json!({
        "recorded": recorded, "junk": junk, "others": others, "rejected": taken.rejected,
        "waiting": taken.waiting, "refused": taken.refused,
    });
    report
}
