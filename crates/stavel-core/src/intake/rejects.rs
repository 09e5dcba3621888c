//! The file of rows that could not be taken.

use std::path::{Path, PathBuf};

use crate::{Error, Result};

/// One row that was not taken.
#[derive(Debug, Clone)]
pub struct Rejected {
    pub file: String,
    /// From 1.
    pub line: u64,
    /// From 0.
    pub byte: u64,
    pub reason: String,
    pub raw: Vec<u8>,
}

/// Longest part of a raw line that is kept.
const RAW: usize = 4096;

impl Rejected {
    /// A rejected row; of a very long line only the beginning is kept.
    pub fn new(file: String, line: u64, byte: u64, reason: String, raw: &[u8]) -> Rejected {
        Rejected { file, line, byte, reason, raw: raw[..raw.len().min(RAW)].to_vec() }
    }
}

/// Writes rejected rows below the shelf as CSV: file, line, byte, reason, raw.
pub fn write(shelf: &Path, stem: &str, rows: &[Rejected]) -> Result<PathBuf> {
    let folder = shelf.join("rejects");
    std::fs::create_dir_all(&folder).map_err(|e| Error::io("Cannot make", &folder, &e))?;
    let path = folder.join(format!("{stem}.csv"));
    let failed = |e: &dyn std::fmt::Display| Error::storage(format!("Cannot write {}: {e}.", path.display()));
    let mut out = csv::Writer::from_path(&path).map_err(|e| failed(&e))?;
    out.write_record(["file", "line", "byte", "reason", "raw"]).map_err(|e| failed(&e))?;
    for r in rows {
        let (line, byte) = (r.line.to_string(), r.byte.to_string());
        let record = [r.file.as_bytes(), line.as_bytes(), byte.as_bytes(), r.reason.as_bytes(), &r.raw];
        out.write_record(record).map_err(|e| failed(&e))?;
    }
    out.flush().map_err(|e| failed(&e))?;
    Ok(path)
}
