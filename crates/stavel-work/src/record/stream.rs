//! Listening to the stream of one feed: rows into logs, gaps noted, connected again after it was away.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::mpsc::Sender;
use std::time::{Duration, Instant};

use stavel_core::job::Job;
use stavel_core::model::time::Micros;
use stavel_core::model::{Clock, Frame, SeriesName};
use stavel_core::{Error, Result};
use stavel_feed::client::{Feed, FeedLive, Heard, LiveConnection, LiveValues, NotConnected};

use super::gaps::{StreamGap, note_gap};
use super::log::{Log, last_of};

/// A log is ended and taken in after so many rows, or so long. More rows at once would take more memory than a program
/// that runs for months should.
const LOG_ROWS: u64 = 50_000;
const LOG_TIME: Duration = Duration::from_secs(300);

/// The pauses before connecting again: twice as long each time, up to the last.
const FIRST_PAUSE: Duration = Duration::from_millis(250);
const LAST_PAUSE: Duration = Duration::from_secs(30);

/// A series of a stream.
#[derive(Debug, Clone)]
pub struct WantedStream {
    pub series: SeriesName,
    /// The instrument as the service names it.
    pub symbol: String,
}

/// What was heard of a stream.
#[derive(Debug, Clone, Default)]
pub struct HeardTally {
    /// Rows by series.
    pub rows: BTreeMap<SeriesName, u64>,
    /// Gaps by series.
    pub gaps: BTreeMap<SeriesName, u64>,
    /// Entries that were no quotes.
    pub junk: u64,
    /// Quotes that nobody asked for.
    pub others: u64,
}

/// What is listened to, and where it is kept.
pub struct Listener<'l> {
    pub feed: &'l Feed,
    pub live: &'l FeedLive,
    pub wanted: &'l [WantedStream],
    pub folder: PathBuf,
    /// Until when, where it is to end by itself.
    pub until: Option<Instant>,
    pub job: &'l Job,
    /// Gets each log that is ended.
    pub ended: Sender<(SeriesName, PathBuf)>,
}

struct Listening<'l> {
    on: &'l Listener<'l>,
    /// That of the feed; none where it is not known.
    clock: Option<Clock>,
    logs: BTreeMap<SeriesName, (Log, Instant)>,
    /// The last row of each series, and why what follows it is missing, where it is.
    last: BTreeMap<SeriesName, (Micros, Micros, Option<String>)>,
    tally: HeardTally,
}

impl Listener<'_> {
    /// Listens until the time is over, the job is stopped, or nothing more can come.
    ///
    /// # Errors
    /// Where the service cannot be used, is not there from the beginning, or a log cannot be written.
    pub fn listen(&self) -> Result<HeardTally> {
        let mut listening = Listening {
            on: self,
            clock: self.feed.known_clock()?,
            logs: BTreeMap::new(),
            last: BTreeMap::new(),
            tally: HeardTally::default(),
        };
        for stream in self.wanted {
            let before = last_of(&self.folder, &stream.series);
            let before =
                before.map(|(time, arrived)| (time, arrived, Some("nothing was recorded".to_owned())));
            listening.last.extend(before.map(|last| (stream.series.clone(), last)));
        }
        let outcome = listening.go_on();
        // Whatever ended it: what was heard is kept.
        let kept = listening.end_all();
        outcome.and(kept)?;
        Ok(listening.tally)
    }

    fn is_over(&self) -> bool {
        self.until.is_some_and(|until| Instant::now() >= until) || self.job.advance(0).is_err()
    }

    /// Sleeps, unless it is over before.
    fn rest(&self, pause: Duration) {
        let until = Instant::now() + pause;
        while !self.is_over() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(50).min(pause));
        }
    }
}

impl Listening<'_> {
    fn go_on(&mut self) -> Result<()> {
        let (on, mut pause, mut is_first) = (self.on, FIRST_PAUSE, true);
        let mut symbols: Vec<String> = on.wanted.iter().map(|stream| stream.symbol.clone()).collect();
        symbols.dedup();
        while !on.is_over() {
            match LiveConnection::open(on.feed, on.live, &symbols) {
                Ok(connection) => {
                    let begun = Instant::now();
                    let Some(why) = self.hear(connection)? else { return Ok(()) };
                    self.mark_away(&why);
                    // A connection that held for a while was no failed try.
                    if begun.elapsed() > Duration::from_secs(10) {
                        pause = FIRST_PAUSE;
                    }
                }
                Err(NotConnected::Final(why)) => return Err(why),
                Err(NotConnected::Away(why)) if is_first => {
                    return Err(Error::input(format!(
                        "The stream of the feed {} is not there: {}; is it running?",
                        on.feed.name,
                        why.trim_end_matches('.')
                    )));
                }
                Err(NotConnected::Away(why)) => tracing::warn!(feed = on.feed.name, why, "not connected"),
            }
            is_first = false;
            // Many who lost the same service are not to come back in the same moment.
            on.rest(pause.mul_f64(0.75 + fastrand::f64() / 2.0));
            pause = (pause * 2).min(LAST_PAUSE);
        }
        Ok(())
    }

    /// Hears one connection to its end; why it ended, none where the time is over.
    fn hear(&mut self, mut connection: LiveConnection) -> Result<Option<String>> {
        loop {
            match connection.hear() {
                Heard::Text(text) => self.take(&text)?,
                Heard::Other => self.tally.junk += 1,
                Heard::Nothing => {}
                Heard::Away(why) => return Ok(Some(why)),
            }
            self.keep()?;
            if self.on.is_over() {
                connection.end();
                return Ok(None);
            }
        }
    }

    /// Takes the rows of a message.
    fn take(&mut self, text: &str) -> Result<()> {
        let arrived = super::now();
        let heard = self.on.live.rows(text, self.clock.as_ref());
        self.tally.junk += heard.junk;
        for row in &heard.rows {
            let is_book = matches!(row.what, LiveValues::Book { .. });
            let is_it = |stream: &&WantedStream| {
                stream.symbol == row.symbol && (stream.series.frame == Frame::Depth) == is_book
            };
            let Some(stream) = self.on.wanted.iter().find(is_it) else {
                // The book of an instrument whose ticks alone are wanted is nothing to tell of.
                self.tally.others += u64::from(!self.on.wanted.iter().any(|s| s.symbol == row.symbol));
                continue;
            };
            self.put(&stream.series.clone(), row.time, &row.what, arrived)?;
        }
        Ok(())
    }

    fn put(&mut self, series: &SeriesName, time: Micros, what: &LiveValues, arrived: Micros) -> Result<()> {
        if let Some((from, left, Some(why))) = self.last.get(series).cloned() {
            let gap = StreamGap { series: series.clone(), from, to: time, left, back: arrived, why };
            note_gap(&self.on.folder, &gap)?;
            *self.tally.gaps.entry(series.clone()).or_default() += 1;
        }
        self.last.insert(series.clone(), (time, arrived, None));
        if !self.logs.contains_key(series) {
            let log = Log::begin(&self.on.folder, series, super::now())?;
            self.logs.insert(series.clone(), (log, Instant::now()));
        }
        let Some((log, _)) = self.logs.get_mut(series) else { return Ok(()) };
        let before = log.rows;
        log.add(time, what, arrived)?;
        let added = log.rows - before;
        *self.tally.rows.entry(series.clone()).or_default() += added;
        // Whether it is to end is asked elsewhere.
        let _ = self.on.job.advance(added);
        Ok(())
    }

    fn mark_away(&mut self, why: &str) {
        tracing::warn!(feed = self.on.feed.name, why, "the stream is away");
        for (_, _, away) in self.last.values_mut() {
            away.get_or_insert_with(|| why.to_owned());
        }
    }

    /// Keeps what was heard, and ends logs that are long enough.
    fn keep(&mut self) -> Result<()> {
        let mut long = Vec::new();
        for (series, (log, begun)) in &mut self.logs {
            log.keep()?;
            if log.rows >= LOG_ROWS || log.rows > 0 && begun.elapsed() >= LOG_TIME {
                long.push(series.clone());
            }
        }
        long.iter().try_for_each(|series| self.end_log(series))
    }

    fn end_log(&mut self, series: &SeriesName) -> Result<()> {
        let Some((log, _)) = self.logs.remove(series) else { return Ok(()) };
        if let Some(path) = log.end()? {
            // Where nobody takes it in, it waits for the next recording.
            let _ = self.on.ended.send((series.clone(), path));
        }
        Ok(())
    }

    fn end_all(&mut self) -> Result<()> {
        let all: Vec<SeriesName> = self.logs.keys().cloned().collect();
        all.iter().try_for_each(|series| self.end_log(series))
    }
}
