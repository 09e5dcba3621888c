//! Tables of an instrument beside the files of a delivery.

use std::path::{Path, PathBuf};

use stavel_core::Result;
use stavel_core::deliver::{is_folder, with_ending};

use super::room;
use crate::page::write_file;

/// Writes a table of an instrument, `NAME_WHAT.csv` in a folder, unless it is there as it is; what was there before is kept.
///
/// # Errors
/// Where it cannot be written, or what is there not be set aside.
pub fn write_table(to: &Path, name: &str, what: &str, text: &str) -> Result<PathBuf> {
    let path = match is_folder(to) {
        true => to.join(format!("{name}_{what}.csv")),
        false => with_ending(to, &format!("{what}.csv")),
    };
    let is_same = std::fs::read(&path).is_ok_and(|there| there == text.as_bytes());
    if !is_same {
        room::set_aside(&path, None, Path::new(""))?;
        write_file(&path, text.as_bytes())?;
    }
    Ok(path)
}
