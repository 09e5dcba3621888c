//! The manifest of a delivery: what each file holds, so that it can be checked later and told apart from files of
//! other people.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use stavel_core::deliver::{is_folder, with_ending};
use stavel_core::{Error, Result, fingerprint};

/// A file of a delivery. Times are RFC 3339 in UTC.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ManifestFile {
    /// Where it lies, from the manifest.
    pub path: String,
    /// The series it holds.
    pub series: String,
    /// The number of the series' edition, and what tells it from those of other shelves.
    pub edition: i64,
    pub edition_key: String,
    /// Rows in it, and the times of the first and the last.
    pub rows: u64,
    pub first: String,
    pub last: String,
    pub bytes: u64,
    pub sha256: String,
    /// When the file was written, in microseconds since 1970, as its folder tells it.
    #[serde(default)]
    pub written: u64,
    pub proved: bool,
    pub format: String,
    /// How its lines are written, as TOML.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// The clock of its times.
    pub clock: String,
    /// Values that have fewer decimals in it.
    #[serde(default)]
    pub rounded: u64,
    /// What the rows rest on that nobody said and nothing shows.
    #[serde(default)]
    pub assumed: Vec<String>,
    /// The command that wrote it.
    pub command: String,
}

/// The files that were delivered to a place.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    /// Tells it from other documents, and what it is written in.
    pub stavel_manifest: u32,
    pub files: Vec<ManifestFile>,
}

/// What manifests are written in now.
const VERSION: u32 = 1;

/// What has become of a delivered file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum FileState {
    /// It is as it was delivered.
    Same,
    /// Its bytes are others.
    Changed,
    /// It is not there.
    Missing,
}

impl Manifest {
    /// Where the manifest of a delivery lies: in its folder, or beside its one file. Engines that read a folder pass
    /// over names that begin with an underscore.
    pub fn path_for(out: &Path) -> PathBuf {
        match is_folder(out) {
            true => out.join("_manifest.json"),
            false => with_ending(out, "manifest.json"),
        }
    }

    /// Reads a manifest; none where there is no such file.
    ///
    /// # Errors
    /// Where the file is no manifest.
    pub fn read(path: &Path) -> Result<Option<Manifest>> {
        let text = match std::fs::read_to_string(path) {
            Ok(text) => text,
            // A folder that is none is told when it is to be written to.
            Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => return Ok(None),
            Err(e) => return Err(Error::io("Cannot read", path, &e)),
        };
        let is_ours = |m: &Manifest| m.stavel_manifest >= 1;
        match serde_json::from_str::<Manifest>(&text).ok().filter(is_ours) {
            Some(manifest) if manifest.stavel_manifest > VERSION => Err(Error::input(format!(
                "{} was written by a newer Stavel; update this one to read it.",
                path.display()
            ))),
            Some(manifest) => Ok(Some(manifest)),
            None => Err(Error::input(format!(
                "{} is no manifest of a delivery; choose another folder, or move it away.",
                path.display()
            ))),
        }
    }

    /// The entry of a file, by its path from the manifest.
    pub fn file(&self, path: &str) -> Option<&ManifestFile> {
        self.files.iter().find(|f| f.path == path)
    }

    /// Puts files in the place of those of the same paths, and keeps the others.
    pub fn put(&mut self, files: Vec<ManifestFile>) {
        self.stavel_manifest = VERSION;
        self.files.retain(|old| !files.iter().any(|new| new.path == old.path));
        self.files.extend(files);
        self.files.sort_by(|a, b| a.path.cmp(&b.path));
    }

    /// Writes the manifest, whole or not at all.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn write(&self, path: &Path) -> Result<()> {
        let failed = |e: std::io::Error| Error::io("Cannot write", path, &e);
        let text = serde_json::to_string_pretty(self)
            .map_err(|e| Error::storage(format!("The manifest cannot be written: {e}.")))?;
        let unfinished = with_ending(path, "unfinished");
        std::fs::write(&unfinished, text + "\n").map_err(failed)?;
        std::fs::rename(&unfinished, path).map_err(failed)
    }
}

/// When a file was written last, in microseconds since 1970; 0 where nothing tells.
pub fn modified(path: &Path) -> u64 {
    let time = std::fs::metadata(path).and_then(|about| about.modified()).ok();
    let since = time.and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok());
    since.map_or(0, |since| since.as_micros() as u64)
}

impl ManifestFile {
    /// True where the file is as long, and was written when it was delivered: nobody has touched it since.
    pub fn is_untouched(&self, folder: &Path) -> bool {
        let path = folder.join(&self.path);
        self.written > 0
            && std::fs::metadata(&path).is_ok_and(|about| about.len() == self.bytes)
            && modified(&path) == self.written
    }

    /// What has become of the file below a folder, by its bytes.
    ///
    /// # Errors
    /// Where it is there and cannot be read.
    pub fn state(&self, folder: &Path) -> Result<FileState> {
        let path = folder.join(&self.path);
        match std::fs::metadata(&path) {
            Err(e) if e.kind() == ErrorKind::NotFound => Ok(FileState::Missing),
            Err(e) => Err(Error::io("Cannot read", &path, &e)),
            Ok(about) if about.len() != self.bytes => Ok(FileState::Changed),
            Ok(_) => {
                let (_, sha256) =
                    fingerprint::sha256_of(&path).map_err(|e| Error::io("Cannot read", &path, &e))?;
                Ok(if sha256 == self.sha256 { FileState::Same } else { FileState::Changed })
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(path: &str, bytes: &[u8], folder: &Path) -> ManifestFile {
        std::fs::write(folder.join(path), bytes).unwrap();
        let (bytes, sha256) = fingerprint::sha256_of(&folder.join(path)).unwrap();
        ManifestFile {
            path: path.into(),
            series: "NOKSEK@joined:1m".into(),
            edition: 1,
            edition_key: "k".into(),
            rows: 1,
            first: "2024-03-05T00:00:00Z".into(),
            last: "2024-03-05T00:00:00Z".into(),
            bytes,
            sha256,
            written: modified(&folder.join(path)),
            proved: true,
            format: "csv".into(),
            layout: None,
            clock: "UTC".into(),
            rounded: 0,
            assumed: Vec::new(),
            command: "stavel deliver".into(),
        }
    }

    #[test]
    fn a_manifest_knows_its_files_again_and_tells_what_became_of_them() {
        let dir = tempfile::tempdir().unwrap();
        let path = Manifest::path_for(dir.path());
        assert_eq!(Manifest::read(&path).unwrap(), None);
        let mut manifest = Manifest::default();
        manifest.put(vec![file("b.csv", b"2", dir.path()), file("a.csv", b"1", dir.path())]);
        manifest.put(vec![file("a.csv", b"11", dir.path())]);
        manifest.write(&path).unwrap();
        let manifest = Manifest::read(&path).unwrap().unwrap();
        assert_eq!(manifest.files.iter().map(|f| f.path.as_str()).collect::<Vec<_>>(), ["a.csv", "b.csv"]);
        let states = || manifest.files.iter().map(|f| f.state(dir.path()).unwrap()).collect::<Vec<_>>();
        assert_eq!(states(), [FileState::Same, FileState::Same]);
        assert!(manifest.files[0].is_untouched(dir.path()));
        std::fs::write(dir.path().join("a.csv"), "12").unwrap();
        std::fs::remove_file(dir.path().join("b.csv")).unwrap();
        assert_eq!(states(), [FileState::Changed, FileState::Missing]);
    }

    #[test]
    fn a_document_of_other_people_is_no_manifest_and_stays() {
        let dir = tempfile::tempdir().unwrap();
        let path = Manifest::path_for(dir.path());
        std::fs::write(&path, "{\"files\": []}").unwrap();
        assert!(Manifest::read(&path).unwrap_err().to_string().contains("no manifest"));
        std::fs::write(&path, "{\"stavel_manifest\": 99, \"files\": []}").unwrap();
        assert!(Manifest::read(&path).unwrap_err().to_string().contains("newer"));
    }
}
