//! Upkeep of a shelf: taking series off it, renaming them, tidying, verifying.

use std::io::Read;
use std::path::Path;

use rayon::prelude::*;
use twox_hash::XxHash3_128;

use super::catalog::{self, SegmentInfo};
use super::scan::{ScanFile, home_of};
use super::{Shelf, remove_empty_folders};
use crate::job::Job;
use crate::model::{Field, SeriesName, Span};
use crate::{Error, Result};

/// What verifying found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Verified {
    pub files: u64,
    pub rows: u64,
    pub bytes: u64,
    /// Sentences, one for each file that is not as the catalog has it.
    pub faults: Vec<String>,
}

/// What tidying did away with.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Tidied {
    pub editions: u64,
    pub files: u64,
    pub bytes: u64,
}

impl Shelf {
    /// Takes a series off the shelf; [`Shelf::undo`] brings it back until the shelf is tidied.
    ///
    /// # Errors
    /// Where there is no such series.
    pub fn remove(&mut self, name: &SeriesName) -> Result<()> {
        self.must_write()?;
        let info = self.find(name)?;
        catalog::set_removed(&self.db, info.id, true)?;
        self.settle(info.id)
    }

    /// Gives a series another name, with all its editions.
    ///
    /// # Errors
    /// Where there is no such series, or the new name is taken or has another frame.
    pub fn rename(&mut self, from: &SeriesName, to: &SeriesName) -> Result<()> {
        self.must_write()?;
        let info = self.find(from)?;
        if from.frame != to.frame {
            return Err(Error::arguments(format!(
                "{from} holds {}; a new name does not change that.",
                from.frame
            )));
        }
        if catalog::series_id(&self.db, to)?.is_some() {
            return Err(Error::input(format!(
                "The shelf has a {to} already, or had one until it is tidied; choose another name."
            )));
        }
        if !self.has_instrument(&to.instrument)? {
            let old = self.instrument(&from.instrument)?;
            self.put_instrument(&to.instrument, old.like.as_deref(), &old.own)?;
        }
        // The files get their new names beside the old ones first; the catalog then says which count, and
        // whatever it does not name is swept.
        let (old, new) = (catalog::folder_of(from), catalog::folder_of(to));
        let mut moved = Vec::new();
        for (path, _) in catalog::homes(&self.db, info.id)? {
            let Some(rest) = path.strip_prefix(&old) else { continue };
            let renamed = format!("{new}{rest}");
            let here = home_of(&self.root, &path);
            let there = self
                .root
                .join(if here.starts_with(self.root.join("data")) { "data" } else { "past" })
                .join(&renamed);
            if let Some(folder) = there.parent() {
                std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
            }
            std::fs::hard_link(&here, &there)
                .or_else(|_| std::fs::copy(&here, &there).map(|_| ()))
                .map_err(|e| Error::io("Cannot write", &there, &e))?;
            moved.push((path, renamed, here));
        }
        catalog::rename_series(&mut self.db, info.id, to, &moved)?;
        for (_, _, old) in moved {
            std::fs::remove_file(&old).map_err(|e| Error::io("Cannot remove", &old, &e))?;
            remove_empty_folders(&old, &self.root);
        }
        Ok(())
    }

    /// Does away with all editions but the current ones, of one series or of all, and with removed series:
    /// there is no undo after this.
    pub fn tidy(&mut self, only: Option<&SeriesName>) -> Result<Tidied> {
        self.must_write()?;
        let series = match only {
            Some(name) => vec![self.find(name)?.id],
            None => catalog::series_ids(&self.db)?,
        };
        let (editions, gone) = catalog::forget_past(&mut self.db, &series)?;
        let mut tidied =
            Tidied { editions, files: gone.len() as u64, bytes: gone.iter().map(|g| g.bytes).sum() };
        for segment in gone {
            let path = home_of(&self.root, &segment.path);
            // Swept at the next start if it cannot be removed now.
            if std::fs::remove_file(&path).is_err() {
                tidied.bytes -= segment.bytes;
            }
            remove_empty_folders(&path, &self.root);
        }
        Ok(tidied)
    }

    /// Compares every file of every edition, of one series or of all, with what the catalog says of it:
    /// that it is there, its size and hash, its rows, their order and their ends.
    pub fn verify(&self, only: Option<&SeriesName>, job: &Job) -> Result<Verified> {
        let files = catalog::all_segments(&self.db, only)?;
        job.begin("verify", files.iter().map(|f| f.bytes).sum());
        let root = self.root.as_path();
        let looked: Vec<Result<Option<String>>> = files
            .par_iter()
            .map(|file| {
                let fault = fault_of(&home_of(root, &file.path), file);
                job.advance(file.bytes).map(|()| fault.err().map(|e| e.to_string()))
            })
            .collect();
        let mut verified = Verified {
            files: files.len() as u64,
            rows: files.iter().map(|f| f.rows).sum(),
            bytes: files.iter().map(|f| f.bytes).sum(),
            faults: Vec::new(),
        };
        for fault in looked {
            verified.faults.extend(fault?);
        }
        Ok(verified)
    }
}

/// Says in what way a file is not as the catalog has it.
fn fault_of(path: &Path, about: &SegmentInfo) -> Result<()> {
    let bad = |what: String| Err(Error::storage(format!("{} {what}.", path.display())));
    if !path.is_file() {
        return bad("is not there".into());
    }
    let (bytes, hash) = hash_of(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    if bytes != about.bytes {
        return bad(format!("has {bytes} bytes where the catalog has {}", about.bytes));
    }
    if about.hash.as_ref().is_some_and(|h| *h != hash) {
        return bad("was changed since it was written: its hash is another".into());
    }
    let (mut rows, mut first, mut last) = (0, None, i64::MIN);
    for piece in ScanFile::open(path, &[] as &[Field], Default::default(), Span::ALL)? {
        let piece = piece?;
        if !piece.is_sorted() || piece.time.first().is_some_and(|t| *t < last) {
            return bad("has rows out of order".into());
        }
        rows += piece.len() as u64;
        first = first.or(piece.time.first().copied());
        last = piece.time.last().copied().unwrap_or(last);
    }
    if (rows, first.unwrap_or(0), last) != (about.rows, about.first, about.last) {
        return bad(format!("has {rows} rows where the catalog has {}, or other ends", about.rows));
    }
    Ok(())
}

fn hash_of(path: &Path) -> std::io::Result<(u64, String)> {
    let mut file = std::fs::File::open(path)?;
    let mut hash = XxHash3_128::new();
    let mut buffer = vec![0; 1 << 18];
    let mut bytes = 0;
    loop {
        let got = file.read(&mut buffer)?;
        if got == 0 {
            return Ok((bytes, format!("{:032x}", hash.finish_128())));
        }
        hash.write(&buffer[..got]);
        bytes += got as u64;
    }
}
