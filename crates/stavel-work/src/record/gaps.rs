//! Times in which a stream was away: written down where they are found, and told on the shelf as dated facts.

use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use fs4::fs_std::FileExt;
use serde::{Deserialize, Serialize};
use stavel_core::model::time::{Micros, rfc3339};
use stavel_core::model::{Clock, SeriesName};
use stavel_core::store::{InstrumentFact, Shelf, fact_kind};
use stavel_core::{Error, Result};

/// A time in which nothing was recorded of a series.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StreamGap {
    pub series: SeriesName,
    /// The last row before it and the first after it, on the wall of the feed.
    pub from: Micros,
    pub to: Micros,
    /// When these arrived, UTC.
    pub left: Micros,
    pub back: Micros,
    pub why: String,
}

fn path(folder: &Path, feed: &str) -> PathBuf {
    folder.join(format!("{feed}.gaps"))
}

/// The file of gaps, locked: whoever writes one down, and whoever brings them onto the shelf, waits for the other.
fn locked(path: &Path) -> std::io::Result<File> {
    let file = File::options().create(true).read(true).append(true).open(path)?;
    file.lock_exclusive()?;
    Ok(file)
}

/// Writes a gap down.
///
/// # Errors
/// Where it cannot be written.
pub fn note_gap(folder: &Path, gap: &StreamGap) -> Result<()> {
    let path = path(folder, &gap.series.source);
    let failed = |e: std::io::Error| Error::io("Cannot write", &path, &e);
    let text = serde_json::to_string(gap).map_err(|e| failed(e.into()))?;
    let mut file = locked(&path).map_err(failed)?;
    // A line that was cut before does not spoil this one.
    file.write_all(format!("\n{text}\n").as_bytes()).map_err(failed)?;
    file.sync_data().map_err(failed)
}

/// Brings the gaps that were written down onto the shelf; gives how many there were. `clock_of` gives the clock of a series,
/// none where it is not known.
///
/// # Errors
/// Where they cannot be read, or the shelf not be written. They are still written down then.
pub fn bring_gaps(
    shelf: &mut Shelf,
    folder: &Path,
    feed: &str,
    clock_of: impl Fn(&Shelf, &SeriesName) -> Result<Option<Clock>>,
) -> Result<u64> {
    let path = path(folder, feed);
    if !path.exists() {
        return Ok(0);
    }
    let failed = |e: std::io::Error| Error::io("Cannot read", &path, &e);
    let mut file = locked(&path).map_err(failed)?;
    let mut text = String::new();
    file.read_to_string(&mut text).map_err(failed)?;
    let mut count = 0;
    // A line that was cut is of a gap that was not over.
    for gap in text.lines().filter_map(|line| serde_json::from_str::<StreamGap>(line).ok()) {
        let clock = clock_of(shelf, &gap.series)?;
        count += shelf.put_facts(&gap.series.instrument, &[fact_of(&gap, feed, clock.as_ref())])?;
    }
    file.set_len(0).map_err(failed)?;
    Ok(count)
}

/// A gap as a dated fact; its times as they were written where the clock is not known.
fn fact_of(gap: &StreamGap, feed: &str, clock: Option<&Clock>) -> InstrumentFact {
    let utc = |wall: Micros| clock.map_or(wall, |clock| clock.from_wall(wall).settle());
    let of_gap = |wall: Micros| match clock {
        Some(_) => rfc3339(utc(wall)),
        None => rfc3339(wall).trim_end_matches('Z').to_owned(),
    };
    let values = [
        ("series", gap.series.to_string()),
        ("from", of_gap(gap.from)),
        ("to", of_gap(gap.to)),
        ("left", rfc3339(gap.left)),
        ("back", rfc3339(gap.back)),
        ("name", gap.why.clone()),
    ];
    InstrumentFact {
        source: feed.to_owned(),
        time: utc(gap.from),
        kind: fact_kind::GAP.into(),
        values: values.map(|(key, value)| (key.to_owned(), value)).into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_gap_is_told_once_by_the_clock_of_its_series_and_a_cut_line_spoils_no_other() {
        let dir = tempfile::tempdir().unwrap();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        let gap = |series: &str, from| StreamGap {
            series: series.parse().unwrap(),
            from,
            to: from + 5,
            left: 1,
            back: 2,
            why: "the connection broke off".into(),
        };
        let clock_of = |_: &Shelf, series: &SeriesName| -> Result<Option<Clock>> {
            if series.instrument == "NOKSEK" { Ok(Some("UTC+2".parse()?)) } else { Ok(None) }
        };
        assert_eq!(bring_gaps(&mut shelf, dir.path(), "tarn", clock_of).unwrap(), 0);
        let hours = stavel_core::model::time::HOUR;
        note_gap(dir.path(), &gap("NOKSEK@tarn:ticks", 10 * hours)).unwrap();
        // The program ended in the middle of a line.
        File::options()
            .append(true)
            .open(path(dir.path(), "tarn"))
            .unwrap()
            .write_all(b"{\"series\":")
            .unwrap();
        note_gap(dir.path(), &gap("NZDSEK@tarn:ticks", 10 * hours)).unwrap();
        assert_eq!(bring_gaps(&mut shelf, dir.path(), "tarn", clock_of).unwrap(), 2);
        let of = |name: &str| shelf.facts(name).unwrap();
        assert_eq!((of("NOKSEK")[0].time, of("NZDSEK")[0].time), (8 * hours, 10 * hours));
        assert_eq!(of("NZDSEK")[0].values["from"], "1970-01-01T10:00:00");
        assert_eq!(bring_gaps(&mut shelf, dir.path(), "tarn", clock_of).unwrap(), 0);
    }
}
