//! The handwriting of vendor and broker: how each lays out its files.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use stavel_core::model::price::push_scaled;
use stavel_core::model::time::written::push_padded;
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, SECOND, civil_from_days, day_of};

use crate::market::{MarketQuote, MinuteBar};
use crate::truth::{Defects, LATE, REPEATED};

/// A file that is opened with its first row and named by a part of time.
struct FileByPeriod<W: Write> {
    open: Option<(i64, W)>,
}

impl<W: Write> FileByPeriod<W> {
    fn at(
        &mut self,
        part: i64,
        open: impl FnOnce() -> io::Result<W>,
        close: impl FnOnce(W) -> io::Result<()>,
    ) -> io::Result<&mut W> {
        if self.open.as_ref().is_some_and(|(p, _)| *p != part)
            && let Some((_, old)) = self.open.take()
        {
            close(old)?;
        }
        if self.open.is_none() {
            self.open = Some((part, open()?));
        }
        match &mut self.open {
            Some((_, w)) => Ok(w),
            None => Err(io::Error::other("no file is open")),
        }
    }
}

fn create(path: &Path) -> io::Result<BufWriter<File>> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    Ok(BufWriter::new(File::create(path)?))
}

/// `2024-03-05 13:45` with the date's marks as given.
fn push_wall(line: &mut Vec<u8>, t: Micros, mark: u8) {
    let (y, m, d) = civil_from_days(day_of(t));
    push_padded(line, y, 4);
    line.push(mark);
    push_padded(line, m, 2);
    line.push(mark);
    push_padded(line, d, 2);
}

fn push_time(line: &mut Vec<u8>, t: Micros, seconds: bool) {
    let within = t.rem_euclid(DAY);
    push_padded(line, within / HOUR, 2);
    line.push(b':');
    push_padded(line, within / MINUTE % 60, 2);
    if seconds {
        line.push(b':');
        push_padded(line, within / SECOND % 60, 2);
    }
}

fn push_prices(line: &mut Vec<u8>, bar: &MinuteBar, mark: u8, decimals: u8) {
    for price in [bar.open, bar.high, bar.low, bar.close] {
        line.push(mark);
        push_scaled(line, price, decimals);
    }
}

/// Quill's minutes: one comma-separated file a year, times in UTC, a header, defects where planted.
pub struct QuillMinutes {
    folder: PathBuf,
    name: &'static str,
    defects: Option<Defects>,
    files: FileByPeriod<BufWriter<File>>,
    /// Lines that will be written again, and lines that will be written late.
    again: Vec<u8>,
    late: Vec<u8>,
    late_after: i64,
    line: Vec<u8>,
}

impl QuillMinutes {
    pub fn new(folder: &Path, name: &'static str, defects: Option<Defects>) -> QuillMinutes {
        QuillMinutes {
            folder: folder.into(),
            name,
            defects,
            files: FileByPeriod { open: None },
            again: Vec::new(),
            late: Vec::new(),
            late_after: 0,
            line: Vec::new(),
        }
    }

    /// Writes one bar; `bar.time` is the time as Quill writes it.
    pub fn bar(&mut self, mut bar: MinuteBar) -> io::Result<()> {
        let within = |from: Micros, length: Micros| (from..from + length).contains(&bar.time);
        let defects = self.defects;
        if defects.is_some_and(|d| within(d.missing_day, DAY) || within(d.missing_hour, HOUR)) {
            return Ok(());
        }
        let repeated = defects.is_some_and(|d| within(d.repeated, REPEATED * MINUTE));
        let late = defects.is_some_and(|d| within(d.late, LATE.0 * MINUTE));
        if defects.is_some_and(|d| d.bad_bar == bar.time) {
            bar.high = bar.low - 7;
        }
        if defects.is_some_and(|d| d.spike == bar.time) {
            bar.high += bar.high * 3 / 100;
            bar.close = bar.high - 2;
        }
        let mut line = std::mem::take(&mut self.line);
        line.clear();
        push_minute(&mut line, &bar, 5);
        self.put(bar.time, &line, repeated, late)?;
        self.line = line;
        Ok(())
    }

    fn put(&mut self, time: Micros, line: &[u8], repeated: bool, late: bool) -> io::Result<()> {
        if late {
            self.late.extend_from_slice(line);
            return Ok(());
        }
        let year = civil_from_days(day_of(time)).0;
        let path = self.folder.join(format!("{}_1m_{year}.csv", self.name));
        let open = || {
            let mut out = create(&path)?;
            out.write_all(b"Time (UTC),Open,High,Low,Close,Volume\n")?;
            Ok(out)
        };
        let out = self.files.at(year, open, |mut w| w.flush())?;
        out.write_all(line)?;
        if repeated {
            self.again.extend_from_slice(line);
        } else if !self.again.is_empty() {
            out.write_all(&self.again)?;
            self.again.clear();
        }
        if !self.late.is_empty() {
            self.late_after += 1;
            if self.late_after == LATE.1 {
                out.write_all(&self.late)?;
                self.late.clear();
            }
        }
        Ok(())
    }

    pub fn finish(self) -> io::Result<()> {
        self.files.open.map_or(Ok(()), |(_, mut w)| w.flush())
    }
}

/// A minute as Quill writes it.
pub(crate) fn push_minute(line: &mut Vec<u8>, bar: &MinuteBar, decimals: u8) {
    push_wall(line, bar.time, b'-');
    line.push(b' ');
    push_time(line, bar.time, false);
    push_prices(line, bar, b',', decimals);
    line.push(b',');
    push_scaled(line, bar.volume / 10, 1);
    line.push(b'\n');
}

/// Quill's ticks: one zipped file a month, day first, milliseconds, no header, UTC.
pub struct QuillTicks {
    folder: PathBuf,
    name: &'static str,
    files: FileByPeriod<zip::ZipWriter<File>>,
    line: Vec<u8>,
}

impl QuillTicks {
    pub fn new(folder: &Path, name: &'static str) -> QuillTicks {
        QuillTicks { folder: folder.into(), name, files: FileByPeriod { open: None }, line: Vec::new() }
    }

    pub fn quotes(&mut self, quotes: &[MarketQuote]) -> io::Result<()> {
        let Some(first) = quotes.first() else { return Ok(()) };
        let (year, month, _) = civil_from_days(day_of(first.time));
        let stem = format!("{}_ticks_{year:04}-{month:02}", self.name);
        let path = self.folder.join(format!("{stem}.zip"));
        let open = || {
            create(&path)?;
            let mut zip = zip::ZipWriter::new(File::create(&path)?);
            // A fixed date: archives must not depend on when they are made.
            let options = zip::write::SimpleFileOptions::default()
                .compression_method(zip::CompressionMethod::Deflated)
                .last_modified_time(zip::DateTime::default());
            zip.start_file(format!("{stem}.csv"), options).map_err(io::Error::other)?;
            Ok(zip)
        };
        let out =
            self.files.at(year * 12 + month, open, |zip| zip.finish().map(drop).map_err(io::Error::other))?;
        self.line.clear();
        for q in quotes {
            push_tick(&mut self.line, q, 5);
        }
        out.write_all(&self.line)
    }

    pub fn finish(self) -> io::Result<()> {
        self.files.open.map_or(Ok(()), |(_, zip)| zip.finish().map(drop).map_err(io::Error::other))
    }
}

/// A tick as Quill writes it: day first, milliseconds, UTC.
pub(crate) fn push_tick(line: &mut Vec<u8>, q: &MarketQuote, decimals: u8) {
    let (y, m, d) = civil_from_days(day_of(q.time));
    push_padded(line, d, 2);
    line.push(b'.');
    push_padded(line, m, 2);
    line.push(b'.');
    push_padded(line, y, 4);
    line.push(b' ');
    push_time(line, q.time, true);
    line.push(b'.');
    push_padded(line, q.time.rem_euclid(SECOND) / 1000, 3);
    for (value, places) in [(q.bid, decimals), (q.ask, decimals), (q.bid_volume, 2), (q.ask_volume, 2)] {
        line.push(b',');
        push_scaled(line, value, places);
    }
    line.push(b'\n');
}

/// Tarn's minutes: date and time apart, semicolons, a spread in points, its own clock and no word about it.
pub struct TarnMinutes {
    out: BufWriter<File>,
    line: Vec<u8>,
}

impl TarnMinutes {
    pub fn new(path: &Path) -> io::Result<TarnMinutes> {
        let mut out = create(path)?;
        out.write_all(b"Date;Time;Open;High;Low;Close;Volume;Spread\n")?;
        Ok(TarnMinutes { out, line: Vec::new() })
    }

    /// Writes one bar; `bar.time` is on Tarn's wall.
    pub fn bar(&mut self, bar: &MinuteBar) -> io::Result<()> {
        self.line.clear();
        push_broker_minute(&mut self.line, bar);
        self.out.write_all(&self.line)
    }

    pub fn finish(mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// A bar as Tarn writes it; its time is on Tarn's wall.
pub(crate) fn push_broker_minute(line: &mut Vec<u8>, bar: &MinuteBar) {
    push_wall(line, bar.time, b'/');
    line.push(b';');
    push_time(line, bar.time, false);
    push_prices(line, bar, b';', 5);
    line.push(b';');
    push_scaled(line, bar.volume / 100, 0);
    line.push(b';');
    push_scaled(line, bar.spread, 0);
    line.push(b'\n');
}

/// Contract minutes: last price, whole lots, the exchange's own wall time.
pub struct ContractMinutes {
    out: BufWriter<File>,
    line: Vec<u8>,
}

impl ContractMinutes {
    pub fn new(path: &Path) -> io::Result<ContractMinutes> {
        let mut out = create(path)?;
        out.write_all(b"Time,Open,High,Low,Close,Volume\n")?;
        Ok(ContractMinutes { out, line: Vec::new() })
    }

    pub fn bar(&mut self, bar: &MinuteBar) -> io::Result<()> {
        self.line.clear();
        push_wall(&mut self.line, bar.time, b'-');
        self.line.push(b' ');
        push_time(&mut self.line, bar.time, true);
        push_prices(&mut self.line, bar, b',', 2);
        self.line.push(b',');
        push_scaled(&mut self.line, bar.volume, 0);
        self.line.push(b'\n');
        self.out.write_all(&self.line)
    }

    pub fn finish(mut self) -> io::Result<()> {
        self.out.flush()
    }
}
