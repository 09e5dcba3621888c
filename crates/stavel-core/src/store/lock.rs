//! One writer at a time, by a lock on a file that the system lets go when the process ends.

use std::fs::File;
use std::io::{Read, Seek, Write};
use std::path::Path;

use fs4::fs_std::FileExt;

use crate::{Error, Result};

/// Held while a shelf is open to write; dropping it lets go.
pub struct WriterLock {
    _file: File,
}

impl WriterLock {
    /// Takes the lock of the shelf in `root`, or says who has it.
    pub fn take(root: &Path) -> Result<WriterLock> {
        let path = root.join("writer.lock");
        let mut file = File::options()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .open(&path)
            .map_err(|e| Error::io("Cannot open", &path, &e))?;
        if !file.try_lock_exclusive().map_err(|e| Error::io("Cannot lock", &path, &e))? {
            let mut holder = String::new();
            let _ = file.read_to_string(&mut holder);
            return Err(Error::locked(format!(
                "The shelf {} is being written by another Stavel (process {}); wait until it is done or close it.",
                root.display(),
                holder.trim()
            )));
        }
        // Who holds it is only a courtesy to the next one; the lock itself does not need it.
        let _ = file
            .set_len(0)
            .and_then(|()| file.rewind())
            .and_then(|()| write!(file, "{}", std::process::id()));
        Ok(WriterLock { _file: file })
    }
}
