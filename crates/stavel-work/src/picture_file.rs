//! Writing a picture into a file.

use std::path::Path;

use stavel_core::{Error, Result};
use stavel_draw::{Picture, to_pdf, to_svg};

use crate::page::write_file;

/// Writes a picture as the ending of the file says; gives its bytes.
///
/// # Errors
/// Where the ending is another one, or the file cannot be written.
pub fn write_picture(picture: &impl Picture, out: &Path) -> Result<usize> {
    let bytes = match out.extension().and_then(|e| e.to_str()) {
        Some("svg") => to_svg(picture)?.into_bytes(),
        Some("pdf") => to_pdf(picture)?,
        _ => return Err(Error::arguments(format!("{} must end in .svg or .pdf.", out.display()))),
    };
    write_file(out, &bytes)?;
    Ok(bytes.len())
}
