//! Times in which a stream was away: written down where they are found, and told on the shelf as dated facts.

use std::io::Write;
use std::path::{Path, PathBuf};

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

/// Writes a gap down.
///
/// # Errors
/// Where it cannot be written.
pub fn note_gap(folder: &Path, gap: &StreamGap) -> Result<()> {
    let path = path(folder, &gap.series.source);
    let failed = |e: std::io::Error| Error::io("Cannot write", &path, &e);
    let mut file = std::fs::OpenOptions::new().create(true).append(true).open(&path).map_err(failed)?;
    writeln!(file, "{}", serde_json::to_string(gap).unwrap_or_default()).map_err(failed)?;
    file.sync_data().map_err(failed)
}

/// Brings the gaps that were written down onto the shelf; gives how many there were.
///
/// # Errors
/// Where the shelf cannot be written. They are still written down then.
pub fn bring_gaps(shelf: &mut Shelf, folder: &Path, feed: &str, clock: Option<&Clock>) -> Result<u64> {
    let path = path(folder, feed);
    let Ok(text) = std::fs::read_to_string(&path) else { return Ok(0) };
    let mut count = 0;
    // A line that was cut is of a gap that was not over.
    for gap in text.lines().filter_map(|line| serde_json::from_str::<StreamGap>(line).ok()) {
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
        let fact = InstrumentFact {
            source: feed.to_owned(),
            time: utc(gap.from),
            kind: fact_kind::GAP.into(),
            values: values.map(|(key, value)| (key.to_owned(), value)).into(),
        };
        count += shelf.put_facts(&gap.series.instrument, &[fact])?;
    }
    std::fs::remove_file(&path).map_err(|e| Error::io("Cannot remove", &path, &e))?;
    Ok(count)
}
