//! Comparing files of an earlier delivery with their manifest.

use std::path::Path;

use serde_json::{Value, json};

use super::manifest::{FileState, Manifest};
use crate::report::StepReport;
use stavel_core::model::SeriesName;
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// Compares every file of a manifest with what was written of it, and tells which series have a newer edition on
/// the shelf.
///
/// # Errors
/// Where there is no such manifest, or a file cannot be read.
pub fn verify(shelf: &Shelf, path: &Path) -> Result<StepReport> {
    let path = if path.is_dir() { Manifest::path_for(path) } else { path.to_owned() };
    let manifest = Manifest::read(&path)?.ok_or_else(|| {
        Error::input(format!("{} is not there; name the manifest of a delivery.", path.display()))
    })?;
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut report = StepReport::new(json!({}), Vec::new());
    let (mut files, mut same) = (Vec::<Value>::new(), 0);
    for file in &manifest.files {
        let state = file.state(folder)?;
        let newer =
            file.series.parse::<SeriesName>().ok().and_then(|name| shelf.current(&name).ok().flatten());
        let is_newer = newer.is_some_and(|info| info.edition.number > file.edition);
        let mut told =
            json!({"path": file.path, "series": file.series, "state": state, "proved": file.proved});
        if is_newer {
            told["newer_on_shelf"] = json!(true);
        }
        files.push(told);
        let words = match state {
            FileState::Same if file.proved => {
                same += 1;
                None
            }
            FileState::Same => Some("was never proved"),
            FileState::Changed => Some("is not what was delivered: its bytes are others"),
            FileState::Missing => Some("is missing"),
        };
        if let Some(words) = words {
            report.wants_person = true;
            report.lines.push(format!("▲ {} {words}", file.path));
        }
        if is_newer {
            report.lines.push(format!("  {}: the shelf has a newer edition of {}", file.path, file.series));
        }
    }
    let all = manifest.files.len();
    report.lines.insert(0, format!("{}: {same} of {all} files are as they were delivered", path.display()));
    report.json = json!({ "manifest": path, "files": files });
    Ok(report)
}
