//! Where fetched pieces lie until they are taken in, so that none is fetched twice, whatever ends the work.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use stavel_core::deliver::with_ending;
use stavel_core::model::SeriesName;
use stavel_core::{Error, Result};

use super::{FeedSeries, Piece};

/// A folder of pieces.
#[derive(Debug, Clone)]
pub struct Spool {
    root: PathBuf,
}

/// What is known of a piece beside its bytes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AboutPiece {
    pub etag: Option<String>,
    /// SHA-256 of its bytes, where the service has said it.
    pub sha256: Option<String>,
}

impl Spool {
    /// A spool in a folder, which is made when the first piece comes.
    pub fn new(root: PathBuf) -> Spool {
        Spool { root }
    }

    /// Where the file of a piece lies, or will.
    pub fn path(&self, series: &SeriesName, kind: &FeedSeries, piece: &Piece) -> PathBuf {
        let folder = self.root.join(&series.source).join(&series.instrument).join(series.frame_and_side());
        folder.join(format!("{}_{}_{}.{}", series.instrument, series.frame, piece.label, kind.ending))
    }

    /// Where what is known of a file stands.
    fn about_path(path: &Path) -> PathBuf {
        with_ending(path, "about")
    }

    /// Where the beginning of a file lies that is not whole yet.
    pub fn part_path(path: &Path) -> PathBuf {
        with_ending(path, "part")
    }

    /// What is known of a piece that lies there whole, or is begun; none where it is not there.
    pub fn about(path: &Path) -> Option<AboutPiece> {
        let text = std::fs::read_to_string(Self::about_path(path)).ok()?;
        serde_json::from_str(&text).ok()
    }

    /// Remembers what is known of a piece, before its bytes come.
    ///
    /// # Errors
    /// Where the spool cannot be written.
    pub fn remember(path: &Path, about: &AboutPiece) -> Result<()> {
        let to = Self::about_path(path);
        if let Some(folder) = to.parent() {
            std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
        }
        let unfinished = with_ending(&to, "unfinished");
        let text = serde_json::to_string(about).unwrap_or_default();
        std::fs::write(&unfinished, text).map_err(|e| Error::io("Cannot write", &to, &e))?;
        std::fs::rename(&unfinished, &to).map_err(|e| Error::io("Cannot write", &to, &e))
    }

    /// Gives the beginning of a file the name of a whole one.
    ///
    /// # Errors
    /// Where the spool cannot be written.
    pub fn complete(path: &Path) -> Result<()> {
        std::fs::rename(Self::part_path(path), path).map_err(|e| Error::io("Cannot name", path, &e))
    }

    /// Takes a piece away that was taken in, or is of no use.
    pub fn forget(path: &Path) {
        for path in [path.to_owned(), Self::part_path(path), Self::about_path(path)] {
            // What is left is overwritten by the next fetch of the piece.
            let _ = std::fs::remove_file(path);
        }
    }
}
