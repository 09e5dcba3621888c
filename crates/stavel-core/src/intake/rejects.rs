//! The file of rows that could not be taken.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::{Path, PathBuf};

use crate::{Error, Result};

/// One row that was not taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rejected {
    /// The file it stood in.
    pub file: String,
    /// From 1; 0 where the row is not a line of a file.
    pub line: u64,
    /// From 0.
    pub byte: u64,
    /// Why it was rejected.
    pub reason: String,
    /// The row as it came, without its line end.
    pub raw: Vec<u8>,
}

/// Longest part of a raw line that is kept.
const RAW: usize = 4096;

/// Writes rejected rows below the shelf as CSV: file, line, byte, reason, raw.
///
/// The file is begun with the first row and gets its name at the end; what is dropped before leaves
/// nothing.
pub struct Rejects {
    folder: PathBuf,
    stem: String,
    out: Option<csv::Writer<File>>,
    temporary: PathBuf,
    pub reasons: BTreeMap<String, u64>,
    pub rows: u64,
    /// The first of them, for messages.
    pub first: Option<Rejected>,
}

impl Rejects {
    /// No rows yet; `stem` names the file.
    pub fn new(shelf: &Path, stem: &str) -> Rejects {
        let folder = shelf.join("rejects");
        let (stem, temporary) = (stem.to_owned(), PathBuf::new());
        Rejects { folder, stem, out: None, temporary, reasons: BTreeMap::new(), rows: 0, first: None }
    }

    /// The first name no file has yet: what an earlier intake rejected is never written over.
    fn free_name(&self) -> PathBuf {
        let names = (2..).map(|n| format!("{}.{n}.csv", self.stem));
        let mut paths =
            std::iter::once(format!("{}.csv", self.stem)).chain(names).map(|n| self.folder.join(n));
        paths.find(|p| !p.exists()).unwrap_or_default().with_extension("csv.tmp")
    }

    /// Adds a row; of a very long line only the beginning is kept.
    pub fn add(&mut self, row: Rejected) -> Result<()> {
        if self.out.is_none() {
            self.temporary = self.free_name();
        }
        let failed =
            |e: csv::Error| Error::storage(format!("Cannot write {}: {e}.", self.temporary.display()));
        if self.out.is_none() {
            std::fs::create_dir_all(&self.folder).map_err(|e| Error::io("Cannot make", &self.folder, &e))?;
            let mut out = csv::Writer::from_path(&self.temporary).map_err(failed)?;
            out.write_record(["file", "line", "byte", "reason", "raw"]).map_err(failed)?;
            self.out = Some(out);
        }
        if let Some(out) = &mut self.out {
            let (line, byte) = (row.line.to_string(), row.byte.to_string());
            let raw = &row.raw[..row.raw.len().min(RAW)];
            out.write_record([
                row.file.as_bytes(),
                line.as_bytes(),
                byte.as_bytes(),
                row.reason.as_bytes(),
                raw,
            ])
            .map_err(failed)?;
        }
        *self.reasons.entry(row.reason.clone()).or_default() += 1;
        self.rows += 1;
        self.first.get_or_insert(row);
        Ok(())
    }

    /// Ends the file and gives its path; none without rows.
    pub fn finish(&mut self) -> Result<Option<PathBuf>> {
        let Some(mut out) = self.out.take() else { return Ok(None) };
        let path = self.temporary.with_extension("");
        out.flush()
            .and_then(|()| std::fs::rename(&self.temporary, &path))
            .map_err(|e| Error::io("Cannot write", &path, &e))?;
        Ok(Some(path))
    }
}

impl Drop for Rejects {
    fn drop(&mut self) {
        if self.out.take().is_some() {
            // Never named; failing to remove it harms nobody.
            let _ = std::fs::remove_file(&self.temporary);
        }
    }
}

/// Reads a file of rejected rows.
///
/// # Errors
/// Where there is none of that name, a sentence that names those there are.
pub fn read(shelf: &Path, id: &str) -> Result<Vec<Rejected>> {
    let folder = shelf.join("rejects");
    let name = id.strip_suffix(".csv").unwrap_or(id);
    let path = folder.join(format!("{name}.csv"));
    if name.contains(['/', '\\']) || !path.is_file() {
        let mut there: Vec<String> = std::fs::read_dir(&folder)
            .into_iter()
            .flatten()
            .flatten()
            .filter_map(|e| e.file_name().to_str()?.strip_suffix(".csv").map(str::to_owned))
            .collect();
        there.sort();
        return Err(Error::input(match there.is_empty() {
            true => format!("The shelf has no rejected rows '{id}', nor any others."),
            false => format!("The shelf has no rejected rows '{id}'; it has {}.", there.join(", ")),
        }));
    }
    let failed = |e: csv::Error| Error::storage(format!("Cannot read {}: {e}.", path.display()));
    let mut rows = Vec::new();
    for record in csv::Reader::from_path(&path).map_err(failed)?.byte_records() {
        let record = record.map_err(failed)?;
        let text = |i: usize| String::from_utf8_lossy(record.get(i).unwrap_or_default()).into_owned();
        rows.push(Rejected {
            file: text(0),
            line: text(1).parse().unwrap_or(0),
            byte: text(2).parse().unwrap_or(0),
            reason: text(3),
            raw: record.get(4).unwrap_or_default().to_vec(),
        });
    }
    Ok(rows)
}
