//! Logs of a live stream: what arrived stands in a file of lines before a second has passed, whatever ends the program.

use std::fs::File;
use std::io::{BufWriter, Seek, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use stavel_core::model::time::Micros;
use stavel_core::model::time::written::push_zoneless;
use stavel_core::model::{Frame, SeriesName};
use stavel_core::{Error, Result};
use stavel_feed::client::LiveValues;

/// How long rows are held back in memory.
const HELD_BACK: Duration = Duration::from_millis(200);
/// How often the disk is made to have them.
const SYNCED: Duration = Duration::from_secs(1);

/// The ending of a log that is being written.
const OPEN: &str = "open";

/// A log of one series.
pub struct Log {
    folder: PathBuf,
    pub series: SeriesName,
    file: BufWriter<File>,
    path: PathBuf,
    pub rows: u64,
    line: Vec<u8>,
    flushed: Instant,
    synced: Instant,
    /// The time of the last row on the wall of the feed, and when it arrived.
    pub last: Option<(Micros, Micros)>,
}

/// The name of the files of a series: one that every file system takes.
fn stem(series: &SeriesName) -> String {
    series.to_string().replace(':', ".")
}

impl Log {
    /// Begins a log.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn begin(folder: &Path, series: &SeriesName, now: Micros) -> Result<Log> {
        let path = folder.join(format!("{}-{now}.{OPEN}", stem(series)));
        let failed = |e: std::io::Error| Error::io("Cannot write", &path, &e);
        let file = File::create_new(&path).map_err(failed)?;
        let mut log = Log {
            folder: folder.to_path_buf(),
            series: series.clone(),
            file: BufWriter::with_capacity(1 << 16, file),
            path: path.clone(),
            rows: 0,
            line: Vec::with_capacity(256),
            flushed: Instant::now(),
            synced: Instant::now(),
            last: None,
        };
        let head = match series.frame {
            Frame::Depth => "time,side,level,price,size,arrived\n",
            _ => "time,bid,ask,bid_volume,ask_volume,arrived\n",
        };
        log.file.write_all(head.as_bytes()).map_err(failed)?;
        Ok(log)
    }

    /// Adds what a row says; `time` on the wall of the feed, `arrived` in UTC.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn add(&mut self, time: Micros, what: &LiveValues, arrived: Micros) -> Result<()> {
        self.line.clear();
        let begin = |line: &mut Vec<u8>| push_zoneless(line, time);
        match what {
            LiveValues::Quote(values) => {
                begin(&mut self.line);
                for value in values {
                    self.line.push(b',');
                    self.line.extend_from_slice(value.as_bytes());
                }
                self.line.extend_from_slice(format!(",{arrived}\n").as_bytes());
                self.rows += 1;
            }
            LiveValues::Book { bids, asks } => {
                for (side, levels) in [("bid", bids), ("ask", asks)] {
                    for (level, [price, size]) in levels.iter().enumerate() {
                        begin(&mut self.line);
                        self.line.extend_from_slice(
                            format!(",{side},{level},{price},{size},{arrived}\n").as_bytes(),
                        );
                        self.rows += 1;
                    }
                }
            }
        }
        self.last = Some((time, arrived));
        self.file.write_all(&self.line).map_err(|e| Error::io("Cannot write", &self.path, &e))
    }

    /// Hands on what was held back for long enough.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn keep(&mut self) -> Result<()> {
        let failed = |e: std::io::Error| Error::io("Cannot write", &self.path, &e);
        if self.flushed.elapsed() >= HELD_BACK {
            self.file.flush().map_err(failed)?;
            self.flushed = Instant::now();
        }
        if self.synced.elapsed() >= SYNCED {
            self.file.get_ref().sync_data().map_err(failed)?;
            self.synced = Instant::now();
        }
        Ok(())
    }

    /// Ends the log; gives its file, ready to be taken in. None where it has no row.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn end(self) -> Result<Option<PathBuf>> {
        let Log { folder, series, file, path, rows, last, .. } = self;
        let failed = |e: std::io::Error| Error::io("Cannot write", &path, &e);
        let file = file.into_inner().map_err(|e| failed(e.into_error()))?;
        if rows == 0 {
            drop(file);
            std::fs::remove_file(&path).map_err(failed)?;
            return Ok(None);
        }
        file.sync_all().map_err(failed)?;
        if let Some((time, arrived)) = last {
            remember_last(&folder, &series, time, arrived)?;
        }
        let whole = path.with_extension("csv");
        std::fs::rename(&path, &whole).map_err(failed)?;
        Ok(Some(whole))
    }
}

fn last_path(folder: &Path, series: &SeriesName) -> PathBuf {
    folder.join(format!("{}.last", stem(series)))
}

fn remember_last(folder: &Path, series: &SeriesName, time: Micros, arrived: Micros) -> Result<()> {
    let path = last_path(folder, series);
    std::fs::write(&path, format!("{time} {arrived}")).map_err(|e| Error::io("Cannot write", &path, &e))
}

/// The last row that was recorded of a series: its time on the wall of the feed, and when it arrived.
pub fn last_of(folder: &Path, series: &SeriesName) -> Option<(Micros, Micros)> {
    let text = std::fs::read_to_string(last_path(folder, series)).ok()?;
    let (time, arrived) = text.split_once(' ')?;
    Some((time.parse().ok()?, arrived.trim().parse().ok()?))
}

/// The series of a feed of which logs wait.
pub fn series_waiting(folder: &Path, feed: &str) -> Vec<SeriesName> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut out: Vec<SeriesName> = entries
        .flatten()
        .filter_map(|entry| {
            let name = entry.file_name().to_string_lossy().into_owned();
            let (stem, _) = name.strip_suffix(".csv").or(name.strip_suffix(".open"))?.rsplit_once('-')?;
            let (before, frame) = stem.rsplit_once('.')?;
            format!("{before}:{frame}").parse().ok()
        })
        .filter(|series: &SeriesName| series.source == feed)
        .collect();
    out.sort();
    out.dedup();
    out
}

/// Logs of a series that wait to be taken in, in order of time. One that was broken off is ended first: its last line may be
/// cut, and counts only where it is whole.
///
/// # Errors
/// Where a file cannot be read or written.
pub fn waiting(folder: &Path, series: &SeriesName) -> Result<Vec<PathBuf>> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Ok(Vec::new()) };
    let begins = format!("{}-", stem(series));
    let mut out = Vec::new();
    for path in entries.flatten().map(|entry| entry.path()) {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let ending = path.extension().unwrap_or_default().to_string_lossy();
        let is_numbered = name
            .strip_prefix(&begins)
            .and_then(|rest| rest.split('.').next())
            .is_some_and(|number| !number.is_empty() && number.bytes().all(|c| c.is_ascii_digit()));
        match &*ending {
            "csv" if is_numbered => out.push(path),
            OPEN if is_numbered => out.extend(end_broken_off(folder, series, &path)?),
            _ => {}
        }
    }
    out.sort();
    Ok(out)
}

/// Ends a log that was broken off; none where it has no whole row.
fn end_broken_off(folder: &Path, series: &SeriesName, path: &Path) -> Result<Option<PathBuf>> {
    let failed = |e: std::io::Error| Error::io("Cannot read", path, &e);
    let mut file = File::options().read(true).write(true).open(path).map_err(failed)?;
    let (whole, lines, last) = whole_lines(&mut file).map_err(failed)?;
    file.set_len(whole).map_err(failed)?;
    file.sync_all().map_err(failed)?;
    drop(file);
    if lines < 2 {
        std::fs::remove_file(path).map_err(failed)?;
        return Ok(None);
    }
    let cells: Vec<&str> = last.split(',').collect();
    let time = cells.first().and_then(|text| stavel_core::model::time::parse(text).ok());
    let arrived = cells.last().and_then(|text| text.trim().parse().ok());
    if let (Some(time), Some(arrived)) = (time, arrived) {
        remember_last(folder, series, time, arrived)?;
    }
    let to = path.with_extension("csv");
    std::fs::rename(path, &to).map_err(failed)?;
    Ok(Some(to))
}

/// The bytes of the whole lines of a file, how many there are, and the last of them.
fn whole_lines(file: &mut File) -> std::io::Result<(u64, u64, String)> {
    use std::io::BufRead;
    file.rewind()?;
    let mut reader = std::io::BufReader::new(file);
    let (mut whole, mut lines, mut line, mut last) = (0, 0, Vec::new(), Vec::new());
    loop {
        line.clear();
        let read = reader.read_until(b'\n', &mut line)?;
        if read == 0 || !line.ends_with(b"\n") {
            return Ok((whole, lines, String::from_utf8_lossy(&last).into_owned()));
        }
        whole += read as u64;
        lines += 1;
        std::mem::swap(&mut line, &mut last);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::time::parse;

    #[test]
    fn a_log_that_is_broken_off_has_every_whole_row() {
        let dir = tempfile::tempdir().unwrap();
        let series: SeriesName = "NOKSEK@tarn:ticks".parse().unwrap();
        let other: SeriesName = "NOKSEK@tarn:depth".parse().unwrap();
        let quote = |bid: &str| LiveValues::Quote([bid.into(), "1.2".into(), String::new(), "3".into()]);
        let time = parse("2024-03-05 10:00:00.25").unwrap();
        let mut log = Log::begin(dir.path(), &series, 7).unwrap();
        log.add(time, &quote("1.1"), 100).unwrap();
        log.add(time + 1, &quote(""), 101).unwrap();
        log.file.flush().unwrap();
        let path = log.path.clone();
        // The program ends in the middle of a line.
        std::mem::forget(log);
        std::fs::OpenOptions::new().append(true).open(&path).unwrap().write_all(b"2024-03-05T10:00").unwrap();
        assert!(waiting(dir.path(), &other).unwrap().is_empty());
        let logs = waiting(dir.path(), &series).unwrap();
        assert_eq!(logs.len(), 1);
        let text = std::fs::read_to_string(&logs[0]).unwrap();
        assert_eq!(
            text,
            "time,bid,ask,bid_volume,ask_volume,arrived\n2024-03-05T10:00:00.250,1.1,1.2,,3,100\n2024-03-05T10:00:00.250001,,1.2,,3,101\n"
        );
        assert_eq!(last_of(dir.path(), &series), Some((time + 1, 101)));
        // What has no row leaves nothing.
        let empty = Log::begin(dir.path(), &other, 8).unwrap();
        assert_eq!(empty.end().unwrap(), None);
        let mut book = Log::begin(dir.path(), &other, 9).unwrap();
        let level = |price: &str| [price.to_owned(), "4".to_owned()];
        book.add(time, &LiveValues::Book { bids: vec![level("231.25")], asks: vec![level("231.5")] }, 5)
            .unwrap();
        assert_eq!(book.rows, 2);
        let text = std::fs::read_to_string(book.end().unwrap().unwrap()).unwrap();
        assert!(
            text.ends_with(
                "2024-03-05T10:00:00.250,bid,0,231.25,4,5\n2024-03-05T10:00:00.250,ask,0,231.5,4,5\n"
            ),
            "{text}"
        );
    }
}
