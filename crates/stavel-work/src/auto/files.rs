//! Which series hold the rows of which files.

use std::path::{Path, PathBuf};

use stavel_core::fingerprint::blake3_of;
use stavel_core::intake::members_of;
use stavel_core::model::provenance::TakenFile;
use stavel_core::model::{Made, SeriesName};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// Every file that an intake of these paths would read.
///
/// # Errors
/// As of the intake.
pub fn files_below(paths: &[PathBuf]) -> Result<Vec<PathBuf>> {
    let mut files: Vec<PathBuf> = members_of(paths)?.into_iter().map(|member| member.path).collect();
    files.dedup();
    Ok(files)
}

/// The series of a source that rows of any of the files went into.
pub fn series_of(shelf: &Shelf, source: &str, files: &[PathBuf]) -> Result<Vec<SeriesName>> {
    let is_one = |taken: &TakenFile| files.iter().any(|file| is_same(Path::new(&taken.path), file));
    let all = taken_from(shelf, source)?;
    let ours = all.into_iter().filter(|(_, taken)| taken.iter().any(is_one));
    Ok(ours.map(|(name, _)| name).collect())
}

/// The same, where every file was taken in as it is now, whatever was said of it then; none where one was not.
pub fn series_holding(shelf: &Shelf, source: &str, files: &[PathBuf]) -> Result<Option<Vec<SeriesName>>> {
    let known: Vec<TakenFile> = taken_from(shelf, source)?.into_iter().flat_map(|(_, taken)| taken).collect();
    for file in files {
        let mut taken = known.iter().filter(|t| is_same(Path::new(&t.path), file)).peekable();
        // Most files were never taken in: those need not be read.
        if taken.peek().is_none() {
            return Ok(None);
        }
        let (_, now) = blake3_of(file).map_err(|e| Error::io("Cannot read", file, &e))?;
        if !taken.any(|t| t.blake3.as_ref() == Some(&now)) {
            return Ok(None);
        }
    }
    Ok(if files.is_empty() { None } else { Some(series_of(shelf, source, files)?) })
}

/// The series of a source with the files that their editions were taken in from.
fn taken_from(shelf: &Shelf, source: &str) -> Result<Vec<(SeriesName, Vec<TakenFile>)>> {
    let mut out = Vec::new();
    for info in shelf.series()?.into_iter().filter(|s| s.name.source == source) {
        let mut files = Vec::new();
        for edition in shelf.editions(&info.name)? {
            if let Made::Intake(taken) = edition.provenance.made {
                files.extend(taken.files);
            }
        }
        out.push((info.name, files));
    }
    Ok(out)
}

fn is_same(a: &Path, b: &Path) -> bool {
    a == b || matches!((a.canonicalize(), b.canonicalize()), (Ok(a), Ok(b)) if a == b)
}
