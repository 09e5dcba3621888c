//! Where the files of a shelf are, and moving them.
//!
//! A segment has one path, which does not change while its series keeps its name, and lies below one
//! of four folders: `data/` where it belongs to a current edition whose clock is known, `afloat/` where
//! the clock is not known, `past/` where only older editions hold it, and `writing/` until the catalog
//! names it. So whoever reads `data/` as one dataset sees each current row once, in UTC.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::time::Duration;

use crate::model::SeriesName;
use crate::{Advice, Error, Result};

/// A folder of segments.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Home {
    Data,
    Afloat,
    Past,
    Writing,
}

impl Home {
    /// Every folder, those that are looked into first in front.
    pub const ALL: [Home; 4] = [Home::Data, Home::Afloat, Home::Past, Home::Writing];

    /// The folder's name.
    pub fn name(self) -> &'static str {
        match self {
            Home::Data => "data",
            Home::Afloat => "afloat",
            Home::Past => "past",
            Home::Writing => "writing",
        }
    }

    /// A path in this folder.
    pub fn path(self, root: &Path, path: &str) -> PathBuf {
        root.join(self.name()).join(path)
    }
}

/// Where files go that nobody knows.
pub const LOST: &str = "lost";

/// The folder of a series' segments: `instrument=NOKSEK/source=quill/frame=1m`. Bars that were built are
/// kept apart from the source's own: `frame=1d.built`.
pub fn folder_of(name: &SeriesName) -> String {
    format!("instrument={}/source={}/frame={}", name.instrument, name.source, name.frame_text())
}

/// The series whose segments a folder holds.
pub fn series_of_path(path: &str) -> Option<SeriesName> {
    let mut parts = path.split('/');
    let mut part = |key: &str| parts.next()?.strip_prefix(key);
    let (instrument, source, frame) = (part("instrument=")?, part("source=")?, part("frame=")?);
    format!("{instrument}@{source}:{frame}").parse().ok()
}

/// The path of today for a file of an earlier version, which kept a month of ticks in a folder of its own.
pub fn path_of_today(name: &SeriesName, path: &str) -> String {
    let parts: Vec<&str> = path.split('/').collect();
    let file = parts.last().copied().unwrap_or_default();
    let part = |key: &str| parts.iter().find_map(|p| p.strip_prefix(key));
    let Some(year) = part("year=") else { return path.to_owned() };
    let month = part("month=").map_or(String::new(), |m| format!("{m}-"));
    let begun = format!("{year}-");
    let begun = if file.starts_with(&begun) { String::new() } else { format!("{begun}{month}") };
    format!("{}/year={year}/{begun}{file}", folder_of(name))
}

/// The folder a segment lies in now.
pub fn find(root: &Path, path: &str) -> Option<Home> {
    Home::ALL.into_iter().find(|home| home.path(root, path).is_file())
}

/// Where a segment is; where it is nowhere, where it should be.
pub fn place_of(root: &Path, path: &str) -> PathBuf {
    find(root, path).unwrap_or(Home::Data).path(root, path)
}

/// Opens a segment to read. A writer may move it at that moment, so it is looked for again a few times.
///
/// # Errors
/// Where it stays away: it was tidied away, or its series has another name now.
pub fn open_segment(root: &Path, path: &str) -> Result<(PathBuf, File)> {
    for pause in [0, 1, 5, 20, 50] {
        std::thread::sleep(Duration::from_millis(pause));
        for home in Home::ALL {
            let place = home.path(root, path);
            match File::open(&place) {
                Ok(file) => return Ok((place, file)),
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
                Err(e) => return Err(Error::io("Cannot read", &place, &e)),
            }
        }
    }
    Err(Error::input(format!(
        "The rows in {path} were moved or tidied away while they were read; do it again, and if that does not help, compare the files with the catalog."
    )).advise(Advice::VerifyShelf))
}

/// Puts a segment into a folder, wherever it lies now; gives true where it was moved.
pub fn bring(root: &Path, path: &str, to: Home) -> Result<bool> {
    let Some(from) = find(root, path).filter(|from| *from != to) else { return Ok(false) };
    move_file(root, &from.path(root, path), &to.path(root, path))?;
    Ok(true)
}

/// Moves a file within the shelf and does away with the folders that are empty now.
pub fn move_file(root: &Path, from: &Path, to: &Path) -> Result<()> {
    if let Some(folder) = to.parent() {
        make_folders(folder)?;
    }
    std::fs::rename(from, to).map_err(|e| Error::io("Cannot move", from, &e))?;
    to.parent().map_or(Ok(()), sync_folder)?;
    remove_empty_folders(from, root);
    Ok(())
}

/// Makes a folder and those above it; each new name is on the disk when this returns.
pub fn make_folders(folder: &Path) -> Result<()> {
    if folder.is_dir() {
        return Ok(());
    }
    if let Some(above) = folder.parent().filter(|p| !p.as_os_str().is_empty()) {
        make_folders(above)?;
    }
    match std::fs::create_dir(folder) {
        Err(e) if e.kind() != std::io::ErrorKind::AlreadyExists => Err(Error::io("Cannot make", folder, &e)),
        _ => folder.parent().map_or(Ok(()), sync_folder),
    }
}

/// Has the disk hold the names in a folder.
pub fn sync_folder(folder: &Path) -> Result<()> {
    #[cfg(unix)]
    {
        let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        File::open(folder).and_then(|f| f.sync_all()).map_err(|e| Error::io("Cannot sync", folder, &e))?;
    }
    Ok(())
}

/// Removes the folders above a file that are empty now, up to those directly in the shelf.
pub fn remove_empty_folders(file: &Path, root: &Path) {
    let mut folder = file.parent();
    while let Some(f) = folder.filter(|f| f.parent().is_some_and(|p| p != root) && *f != root) {
        if std::fs::remove_dir(f).is_err() {
            break;
        }
        folder = f.parent();
    }
}

/// The files below a folder of the shelf, relative to it, in order.
pub fn files_in(root: &Path, folder: &str) -> Vec<String> {
    let home = root.join(folder);
    let (mut out, mut todo) = (Vec::new(), vec![home.clone()]);
    while let Some(folder) = todo.pop() {
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            match entry.file_type() {
                Ok(t) if t.is_dir() => todo.push(entry.path()),
                Ok(_) => {
                    let path = entry.path();
                    let inside = path.strip_prefix(&home).unwrap_or(&path);
                    let parts = inside.iter().map(|p| p.to_string_lossy());
                    out.push(parts.collect::<Vec<_>>().join("/"));
                }
                Err(_) => {}
            }
        }
    }
    out.sort_unstable();
    out
}

/// True for the path of a data file within one of the folders: one that an engine would read as part of the
/// dataset.
pub fn is_segment(path: &str) -> bool {
    path.starts_with("instrument=") && path.ends_with(".parquet")
}

/// Sets a file aside that the catalog does not name; gives where it is now, relative to the shelf.
pub fn set_aside(root: &Path, home: Home, path: &str) -> Result<String> {
    let mut aside = format!("{LOST}/{}/{path}", home.name());
    let mut again = 1;
    while root.join(&aside).exists() {
        again += 1;
        aside = format!("{LOST}/{}-{again}/{path}", home.name());
    }
    move_file(root, &home.path(root, path), &root.join(&aside))?;
    Ok(aside)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_folder_of_a_series_names_it_and_nothing_else_is_a_segment() {
        for text in ["NOKSEK@quill:ticks", "NOKSEK@tarn:1m.ask", "BLY@joined:1d.built"] {
            let name: SeriesName = text.parse().unwrap();
            let path = format!("{}/year=2024/2024-000001.parquet", folder_of(&name));
            assert_eq!(series_of_path(&path), Some(name));
            assert!(is_segment(&path));
        }
        for path in ["my.csv", "instrument=A/notes.txt", "x/instrument=A/source=b/frame=1m/a.parquet"] {
            assert!(series_of_path(path).is_none() && !is_segment(path), "{path}");
        }
    }

    #[test]
    fn files_of_earlier_versions_get_paths_of_one_depth() {
        let ticks: SeriesName = "NOKSEK@quill:ticks".parse().unwrap();
        let folder = folder_of(&ticks);
        for (old, new) in [
            ("year=2024/month=02/000007.parquet", "year=2024/2024-02-000007.parquet"),
            ("year=2024/000007-1.parquet", "year=2024/2024-000007-1.parquet"),
            ("year=2024/2024-02-000007.parquet", "year=2024/2024-02-000007.parquet"),
        ] {
            assert_eq!(path_of_today(&ticks, &format!("{folder}/{old}")), format!("{folder}/{new}"));
        }
    }

    #[test]
    fn a_segment_that_stays_away_is_told_in_a_sentence() {
        let dir = tempfile::tempdir().unwrap();
        let told = open_segment(dir.path(), "instrument=A/x.parquet").unwrap_err().to_string();
        assert!(told.contains("moved or tidied away"), "{told}");
    }

    #[test]
    fn files_set_aside_never_take_the_place_of_others() {
        let dir = tempfile::tempdir().unwrap();
        let mut asides = Vec::new();
        for text in ["one", "two", "three"] {
            let path = Home::Data.path(dir.path(), "instrument=A/x.parquet");
            make_folders(path.parent().unwrap()).unwrap();
            std::fs::write(&path, text).unwrap();
            asides.push(set_aside(dir.path(), Home::Data, "instrument=A/x.parquet").unwrap());
        }
        let read: Vec<String> =
            asides.iter().map(|a| std::fs::read_to_string(dir.path().join(a)).unwrap()).collect();
        assert_eq!(read, ["one", "two", "three"]);
        assert!(!dir.path().join("data/instrument=A").exists());
    }
}
