//! `shelf.toml`, which marks a folder as a shelf.

use std::hash::{BuildHasher, Hasher, RandomState};
use std::io::Write;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::home::sync_folder;
use crate::{Error, Result};

/// Version of a shelf's folders and files; a shelf with a higher one was made by a newer Stavel.
pub const VERSION: u32 = 3;
const NAME: &str = "shelf.toml";

/// What a shelf says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Marker {
    /// Tells this shelf from every other; its catalog and its data files carry it too.
    pub id: String,
    pub version: u32,
}

impl Marker {
    /// A marker of a shelf that is new.
    pub fn fresh() -> Marker {
        // Every `RandomState` has keys of its own from the system's source of random numbers.
        let random = || RandomState::new().build_hasher().finish();
        Marker { id: format!("{:016x}{:016x}", random(), random()), version: VERSION }
    }

    /// The marker in a folder, if there is one.
    ///
    /// # Errors
    /// Where it cannot be read or was written by a newer Stavel.
    pub fn read(root: &Path) -> Result<Option<Marker>> {
        let path = root.join(NAME);
        let text = match std::fs::read_to_string(&path) {
            Ok(text) => text,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(Error::io("Cannot read", &path, &e)),
        };
        let marker: Marker = toml::from_str(&text).map_err(|e| {
            Error::storage(format!(
                "{} is not the mark of a shelf ({}); put it back from a copy.",
                path.display(),
                e.message().trim_end_matches('.')
            ))
        })?;
        if marker.version > VERSION {
            return Err(Error::storage(format!(
                "The shelf {} was written by a newer Stavel (version {}, this one knows {VERSION}); update Stavel to open it.",
                root.display(),
                marker.version
            )));
        }
        Ok(Some(marker))
    }

    /// Marks a folder; where another process has just marked it, that mark stands.
    pub fn put(self, root: &Path) -> Result<Marker> {
        let (path, unfinished) = (root.join(NAME), root.join(format!("{NAME}.{}.tmp", std::process::id())));
        let failed = |e: std::io::Error| Error::io("Cannot write", &path, &e);
        let text = format!(
            "# This folder is a shelf of Stavel: it keeps price histories. Do not change this file.\nid = \"{}\"\nversion = {}\n",
            self.id, self.version
        );
        let mut file = std::fs::File::create(&unfinished).map_err(failed)?;
        file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(failed)?;
        // A link, unlike a rename, never takes the place of a file that is there.
        let linked = std::fs::hard_link(&unfinished, &path);
        match linked {
            Ok(()) => std::fs::remove_file(&unfinished).map_err(failed)?,
            Err(_) if path.exists() => std::fs::remove_file(&unfinished).map_err(failed)?,
            Err(_) => std::fs::rename(&unfinished, &path).map_err(failed)?,
        }
        sync_folder(root)?;
        Ok(Marker::read(root)?.unwrap_or(self))
    }
}
