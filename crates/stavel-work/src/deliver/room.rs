//! Room for what is delivered: on the disk, and beside what lies there already.

use std::path::{Path, PathBuf};

use super::manifest::{FileState, ManifestFile};
use stavel_core::deliver::with_ending;
use stavel_core::{Error, Result};

/// Refuses to begin where the folder cannot be written to, or what is to be written would not fit on its disk.
///
/// # Errors
/// One sentence.
pub fn refuse_without(folder: &Path, bytes: u64) -> Result<()> {
    let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
    tempfile::tempfile_in(folder).map_err(|e| Error::io("Cannot write into", folder, &e))?;
    let free =
        stavel_core::deliver::free_bytes(folder).map_err(|e| Error::io("Cannot look at", folder, &e))?;
    if bytes > free {
        return Err(Error::storage(format!(
            "The files would have about {} MB, and the disk of {} has {} MB left; make room, or write to another one.",
            bytes / 1_000_000,
            folder.display(),
            free / 1_000_000
        )));
    }
    Ok(())
}

/// Moves a file out of the way that is not as a delivery left it; gives its new name.
///
/// # Errors
/// Where it cannot be read or named anew.
pub fn set_aside(path: &Path, delivered: Option<&ManifestFile>, folder: &Path) -> Result<Option<PathBuf>> {
    let is_other = match (std::fs::metadata(path), delivered) {
        (Err(_), _) => false,
        (Ok(about), _) if about.len() == 0 || !about.is_file() => false,
        (Ok(_), None) => true,
        (Ok(_), Some(entry)) => !entry.is_untouched(folder) && entry.state(folder)? != FileState::Same,
    };
    if !is_other {
        return Ok(None);
    }
    let name = |n: u32| {
        let ending = if n == 1 { "before".to_owned() } else { format!("before-{n}") };
        with_ending(path, &ending)
    };
    let free = (1..).map(name).find(|kept| !kept.exists()).unwrap_or_else(|| name(1));
    std::fs::rename(path, &free).map_err(|e| Error::io("Cannot move aside", path, &e))?;
    Ok(Some(free))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_of_other_people_is_kept_under_a_name_of_its_own() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("rows.csv");
        assert_eq!(set_aside(&path, None, dir.path()).unwrap(), None, "nothing is there");
        for (text, kept) in [("mine", "rows.csv.before"), ("mine too", "rows.csv.before-2")] {
            std::fs::write(&path, text).unwrap();
            let aside = set_aside(&path, None, dir.path()).unwrap().unwrap();
            assert_eq!(aside, dir.path().join(kept));
            assert_eq!(std::fs::read_to_string(aside).unwrap(), text);
        }
        std::fs::write(&path, "").unwrap();
        assert_eq!(set_aside(&path, None, dir.path()).unwrap(), None, "an empty file holds nothing");
    }

    #[test]
    fn more_than_the_disk_holds_is_refused_before_anything_is_written() {
        let dir = tempfile::tempdir().unwrap();
        assert!(refuse_without(dir.path(), 1000).is_ok());
        let told = refuse_without(dir.path(), u64::MAX).unwrap_err().to_string();
        assert!(told.contains("MB left; make room"), "{told}");
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 0);
    }
}
