//! Rows written behind those of an earlier delivery, where these have not changed.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

use super::manifest::{FileState, ManifestFile};
use super::{PlannedFiles, edition_key};
use stavel_core::deliver::{Begun, PriceSides, partial_ends};
use stavel_core::model::layout::TextEncoding;
use stavel_core::model::{Layout, Micros};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// Bytes that are looked through at once.
const PIECE: u64 = 1 << 16;

/// What of a delivered file stays, where it was written by the same command from an edition that is still known; none
/// where the file is to be written anew.
///
/// # Errors
/// Where the shelf or the file cannot be read.
pub fn begun(
    shelf: &Shelf,
    plan: &PlannedFiles,
    entry: &ManifestFile,
    (to, folder, command): (&Path, &Path, &str),
) -> Result<Option<Begun>> {
    let order = &plan.order;
    let layout = order.layout.as_ref().map(Layout::to_toml);
    let is_alike = entry.command == command && entry.layout == layout && entry.proved && entry.rounded == 0;
    // Beside rows that are there already, the other side or an event may be another one by now.
    let has_more = order.sides == PriceSides::Together || order.events.is_some();
    if !is_alike || !plan.prepared.can_go_on() || has_more {
        return Ok(None);
    }
    let now = shelf.find(&order.series)?;
    let mut known = shelf.editions(&order.series)?.into_iter();
    let Some(then) = known.find(|e| edition_key(shelf, order, e).is_ok_and(|key| key == entry.edition_key))
    else {
        return Ok(None);
    };
    let mut was = now.clone();
    was.edition = then;
    if order.complete_only && partial_ends(&was).0 != partial_ends(&now).0 {
        return Ok(None);
    }
    let path = folder.join(&entry.path);
    let differs = shelf.first_difference(&was.edition, &now.edition)?;
    let from = differs.unwrap_or(Micros::MAX);
    let rows = plan.prepared.rows_before(to, &path, from)?.min(entry.rows);
    if rows == 0 || !entry.is_untouched(folder) && entry.state(folder)? != FileState::Same {
        return Ok(None);
    }
    let gone = entry.rows - rows;
    let is_bytes = order.layout.as_ref().is_none_or(|l| l.writing.encoding != TextEncoding::Utf16);
    if gone > 0 && !is_bytes {
        return Ok(None);
    }
    let unread = |e: std::io::Error| Error::io("Cannot read", &path, &e);
    let bytes = without_last_lines(&path, entry.bytes, gone).map_err(unread)?;
    Ok(Some(Begun { bytes, sha256: entry.sha256.clone(), rows, from }))
}

/// The length of a file without its last lines, each of which has an end.
fn without_last_lines(path: &Path, length: u64, lines: u64) -> std::io::Result<u64> {
    if lines == 0 {
        return Ok(length);
    }
    let mut file = File::open(path)?;
    // The end of the line before those that go.
    let mut ends_left = lines + 1;
    let mut to = length;
    while to > 0 {
        let from = to.saturating_sub(PIECE);
        let mut bytes = vec![0; (to - from) as usize];
        file.seek(SeekFrom::Start(from))?;
        file.read_exact(&mut bytes)?;
        for at in memchr::memrchr_iter(b'\n', &bytes) {
            ends_left -= 1;
            if ends_left == 0 {
                return Ok(from + at as u64 + 1);
            }
        }
        to = from;
    }
    Ok(0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn lines_are_counted_from_the_end(lengths in proptest::collection::vec(0usize..40_000, 1..9), gone in 0u64..9) {
            let dir = tempfile::tempdir().unwrap();
            let path = dir.path().join("rows.csv");
            let lines: Vec<String> = lengths.iter().map(|n| "x".repeat(*n) + "\r\n").collect();
            let gone = gone.min(lines.len() as u64);
            std::fs::write(&path, lines.concat()).unwrap();
            let left = lines[..lines.len() - gone as usize].concat().len() as u64;
            let length = lines.concat().len() as u64;
            prop_assert_eq!(without_last_lines(&path, length, gone).unwrap(), left);
        }
    }
}
