//! The page that tells of a check, and files in general.

use std::path::Path;

use crate::findings::{finding_in_words, loss_in_words};
use stavel_core::check;
use stavel_core::store::SeriesInfo;
use stavel_core::{Error, Result};
use stavel_draw::{report, to_pdf};

/// Whether a page can be written into a file of this name.
///
/// # Errors
/// Where its ending is neither `.html` nor `.pdf`.
pub fn is_page(path: &Path) -> Result<()> {
    match path.extension().and_then(|e| e.to_str()) {
        Some("html" | "pdf") => Ok(()),
        _ => Err(Error::arguments(format!("{} must end in .html or .pdf.", path.display()))),
    }
}

/// Writes the report of a check.
///
/// # Errors
/// Where it cannot be drawn or written.
pub fn write_page(info: &SeriesInfo, found: &check::CheckReport, path: &Path) -> Result<()> {
    let page = report::ReportPage {
        series: &info.name,
        edition: info.edition.number,
        clock: if info.is_afloat() { "as written, its clock is not known".into() } else { "UTC".into() },
        decimals: info.edition.scale.price,
        report: found,
        finding_words: finding_in_words,
        loss_words: loss_in_words,
    };
    let bytes = match path.extension().and_then(|e| e.to_str()) {
        Some("pdf") => to_pdf(&page)?,
        _ => report::html(&page)?.into_bytes(),
    };
    write_file(path, &bytes)
}

/// Writes a file, and the folder it goes to.
///
/// # Errors
/// Where it cannot be written.
pub fn write_file(path: &Path, bytes: &[u8]) -> Result<()> {
    if let Some(folder) = path.parent().filter(|p| !p.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
    }
    std::fs::write(path, bytes).map_err(|e| Error::io("Cannot write", path, &e))
}
