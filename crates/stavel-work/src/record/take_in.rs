//! Taking logs in. The shelf is opened for each, so that it is free between them.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::mpsc::Receiver;
use std::time::{Duration, Instant};

use stavel_core::job::Job;
use stavel_core::model::{Clock, SeriesName};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_feed::client::Feed;

use super::gaps::bring_gaps;
use super::log::waiting;
use crate::fetch::feeds;
use crate::intake::intake_files;
use crate::step::IntakeStep;

/// How long a shelf that others write to is waited for, when the recording ends.
const PATIENCE: Duration = Duration::from_secs(20);

/// What became of logs.
#[derive(Debug, Clone, Default)]
pub struct TakenLogs {
    /// Rows on the shelf by series.
    pub rows: BTreeMap<SeriesName, u64>,
    pub rejected: u64,
    /// Logs that could not be taken in for now.
    pub waiting: Vec<PathBuf>,
    /// Why logs could not be taken in at all; they lie where they are.
    pub refused: Vec<String>,
}

impl TakenLogs {
    pub fn add(&mut self, more: TakenLogs) {
        for (series, rows) in more.rows {
            *self.rows.entry(series).or_default() += rows;
        }
        self.rejected += more.rejected;
        self.waiting.extend(more.waiting);
        self.refused.extend(more.refused);
    }
}

/// Takes the logs of a feed in.
pub struct LogTaker<'t> {
    root: &'t Path,
    folder: &'t Path,
    feed: &'t Feed,
    /// Logs that wait for the shelf.
    queue: Vec<(SeriesName, PathBuf)>,
}

impl<'t> LogTaker<'t> {
    pub fn new(root: &'t Path, folder: &'t Path, feed: &'t Feed) -> LogTaker<'t> {
        LogTaker { root, folder, feed, queue: Vec::new() }
    }

    /// Takes in what an earlier recording left of a series.
    ///
    /// # Errors
    /// Where it cannot be read, or the shelf not be written.
    pub fn take_left(&mut self, series: &SeriesName, taken: &mut TakenLogs) -> Result<()> {
        self.queue.extend(waiting(self.folder, series)?.into_iter().map(|path| (series.clone(), path)));
        self.try_all(taken)?;
        taken.waiting.extend(self.queue.drain(..).map(|(_, path)| path));
        Ok(())
    }

    /// Takes in each log as it is ended, until there are no more.
    ///
    /// # Errors
    /// Where the shelf cannot be written. The logs stay then.
    pub fn take_all(mut self, ended: &Receiver<(SeriesName, PathBuf)>) -> Result<TakenLogs> {
        let mut taken = TakenLogs::default();
        while let Ok(log) = ended.recv() {
            self.queue.push(log);
            self.try_all(&mut taken)?;
        }
        let until = Instant::now() + PATIENCE;
        while !self.queue.is_empty() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(200));
            self.try_all(&mut taken)?;
        }
        // Gaps at the end have no log behind them.
        if self.queue.is_empty() {
            self.gaps_alone()?;
        }
        taken.waiting.extend(self.queue.into_iter().map(|(_, path)| path));
        Ok(taken)
    }

    fn gaps_alone(&self) -> Result<()> {
        match Shelf::open_to_write(self.root) {
            Ok(mut shelf) => {
                shelf.begin_act("")?;
                let count = self.gaps(&mut shelf)?;
                shelf.end_act("", &format!("{count} gaps of the stream of {}", self.feed.name))
            }
            Err(error) if error.is_locked() => Ok(()),
            Err(error) => Err(error),
        }
    }

    /// Takes in what waits, where the shelf is free.
    fn try_all(&mut self, taken: &mut TakenLogs) -> Result<()> {
        if self.queue.is_empty() {
            return Ok(());
        }
        let mut shelf = match Shelf::open_to_write(self.root) {
            Ok(shelf) => shelf,
            Err(error) if error.is_locked() => return Ok(()),
            Err(error) => return Err(error),
        };
        for (series, path) in std::mem::take(&mut self.queue) {
            self.take(&mut shelf, &series, &path, taken)?;
        }
        Ok(())
    }

    fn take(&self, shelf: &mut Shelf, series: &SeriesName, path: &Path, taken: &mut TakenLogs) -> Result<()> {
        let clock = self.clock(shelf, series)?;
        let step = IntakeStep {
            paths: vec![path.to_owned()],
            source: series.source.clone(),
            instrument: Some(series.instrument.clone()),
            clock: Some(clock.as_ref().map_or_else(|| "afloat".to_owned(), Clock::to_string)),
            frame: Some(series.frame),
            ..IntakeStep::default()
        };
        shelf.begin_act("")?;
        let outcome = intake_files(shelf, &step, &Job::unwatched());
        let report = match outcome.and_then(|report| self.gaps(shelf).map(|_| report)) {
            Ok(report) => report,
            // A log that intake does not understand is no reason to stop recording: it stays where it is.
            Err(error) if !error.is_storage() => {
                shelf.abandon_act()?;
                taken.refused.push(format!("{} could not be taken in: {error}", path.display()));
                return Ok(());
            }
            Err(error) => {
                shelf.abandon_act()?;
                return Err(error);
            }
        };
        let count = |key: &str| -> u64 {
            report.json["series"].as_array().into_iter().flatten().filter_map(|s| s[key].as_u64()).sum()
        };
        let rows = count("rows_kept");
        shelf.end_act(&series.to_string(), &format!("{rows} rows of {series} recorded"))?;
        *taken.rows.entry(series.clone()).or_default() += rows;
        taken.rejected += count("rows_rejected");
        std::fs::remove_file(path).map_err(|e| Error::io("Cannot remove", path, &e))
    }

    /// Brings the gaps of the stream onto the shelf; gives how many there were.
    fn gaps(&self, shelf: &mut Shelf) -> Result<u64> {
        bring_gaps(shelf, self.folder, &self.feed.name, |shelf, series| self.clock(shelf, series))
    }

    /// The clock of the rows: that of the feed, else the one align has found since; none where it is not known.
    fn clock(&self, shelf: &Shelf, series: &SeriesName) -> Result<Option<Clock>> {
        let said = self.feed.known_clock()?;
        if said.is_some() {
            return Ok(said);
        }
        let info = shelf.current(series)?.filter(|info| !info.is_afloat());
        Ok(info.and_then(|info| info.edition.clock))
    }
}

/// Takes in what recordings left that are not running any more; what was taken, by series.
///
/// # Errors
/// Where it cannot be read, or the shelf not be written.
pub fn take_in_left(shelf: &mut Shelf) -> Result<BTreeMap<SeriesName, u64>> {
    let root = shelf.root().to_path_buf();
    let folder = super::folder_of(&root);
    let mut taken = TakenLogs::default();
    if !folder.is_dir() {
        return Ok(taken.rows);
    }
    for feed in feeds(shelf)?.iter().filter(|feed| feed.live.is_some()) {
        let Some(_lock) = super::lock(&folder, &feed.name)? else { continue };
        let taker = LogTaker::new(&root, &folder, feed);
        for series in super::log::series_waiting(&folder, &feed.name) {
            for path in waiting(&folder, &series)? {
                taker.take(shelf, &series, &path, &mut taken)?;
            }
        }
    }
    Ok(taken.rows)
}
