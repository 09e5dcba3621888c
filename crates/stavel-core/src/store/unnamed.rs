//! Data files of an edition that the catalog does not know yet.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::thread::JoinHandle;

use super::home::{self, Home};
use super::levels::{LevelFiles, LevelMaker};
use super::partition::Partition;
use super::segment::{Encoded, Group, SegmentWriter, SharedRows, WrittenFile};
use crate::model::{Field, Frame, Scale};
use crate::{Error, Result};

/// The files of one edition while they are written. Those that are left when it is dropped are removed: no catalog
/// names them.
pub(super) struct UnnamedFiles {
    root: PathBuf,
    /// Begun and not yet closed, in order; the last takes rows, those before wait for their row groups to be encoded.
    open: Vec<OpenFile>,
    /// Files begun so far.
    begun: usize,
    /// Files on their way to the disk.
    syncing: Vec<SyncingFile>,
}

struct OpenFile {
    /// Counted from 0 within the edition.
    number: usize,
    partition: Partition,
    /// Relative to `data/`.
    path: String,
    writer: SegmentWriter,
    /// Makes its levels; none where its rows have none.
    levels: Option<LevelMaker>,
    is_anchored: bool,
    /// Row groups handed out.
    out: usize,
    /// Row groups written.
    done: usize,
    /// Row groups that came back before those that go before them.
    early: BTreeMap<usize, Encoded>,
}

/// What the rows of a file are.
pub struct RowShape<'a> {
    pub frame: Frame,
    pub fields: &'a [Field],
    pub scale: Scale,
    pub is_anchored: bool,
}

/// A row group to encode on any thread and to give back to [`super::Draft::accept`].
pub struct Work {
    /// Where the row group belongs.
    pub place: GroupPlace,
    /// Its rows.
    pub group: Group,
}

/// Where a row group belongs: the file and its place in it, both counted from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GroupPlace {
    file: usize,
    group: usize,
}

impl OpenFile {
    fn hand_out(&mut self, group: Group) -> Work {
        self.out += 1;
        Work { place: GroupPlace { file: self.number, group: self.out - 1 }, group }
    }
}

/// A file whose thread waits for the disk.
struct SyncingFile {
    path: String,
    partition: Partition,
    thread: Option<JoinHandle<Result<WrittenFile>>>,
}

impl SyncingFile {
    /// Waits until the disk holds the file.
    fn settled(&mut self) -> Result<WrittenFile> {
        match self.thread.take().map(JoinHandle::join) {
            Some(Ok(written)) => written,
            _ => Err(Error::storage(format!("Writing {} failed.", self.path))),
        }
    }
}

impl UnnamedFiles {
    /// No files yet, of a shelf.
    pub fn of(root: PathBuf) -> UnnamedFiles {
        UnnamedFiles { root, open: Vec::new(), begun: 0, syncing: Vec::new() }
    }

    /// Files begun so far.
    pub fn begun(&self) -> usize {
        self.begun
    }

    /// The partition of the file that takes rows.
    pub fn partition(&self) -> Option<Partition> {
        self.open.last().map(|file| file.partition)
    }

    /// Files of a partition that were begun before.
    pub fn of_partition(&self, partition: Partition) -> usize {
        let open = self.open.iter().filter(|f| f.partition == partition).count();
        open + self.syncing.iter().filter(|f| f.partition == partition).count()
    }

    /// Begins a file, which takes the rows that follow.
    ///
    /// # Errors
    /// Where it cannot be made.
    pub fn begin(&mut self, partition: Partition, path: String, rows: &RowShape<'_>) -> Result<()> {
        let unfinished = Home::Writing.path(&self.root, &(path.clone() + ".tmp"));
        let RowShape { frame, fields, scale, is_anchored } = *rows;
        let writer = SegmentWriter::create(&unfinished, fields, scale, is_anchored)?;
        let levels = LevelMaker::of(frame, fields, scale);
        let (number, early) = (self.begun, BTreeMap::new());
        self.open.push(OpenFile {
            number,
            partition,
            path,
            writer,
            levels,
            is_anchored,
            out: 0,
            done: 0,
            early,
        });
        self.begun += 1;
        Ok(())
    }

    /// Adds rows to the last file and gives the row groups they filled.
    pub fn queue(&mut self, rows: SharedRows) -> Vec<Work> {
        let Some(file) = self.open.last_mut() else { return Vec::new() };
        if let Some(levels) = &mut file.levels {
            levels.push(&rows);
        }
        let groups = file.writer.queue(rows);
        groups.into_iter().map(|group| file.hand_out(group)).collect()
    }

    /// The rows of the last file that wait for more; it takes none after this.
    pub fn rest(&mut self) -> Option<Work> {
        let file = self.open.last_mut()?;
        let group = file.writer.rest()?;
        Some(file.hand_out(group))
    }

    /// Writes a row group that was encoded elsewhere, once those before it are written.
    ///
    /// # Errors
    /// Where a file cannot be written.
    pub fn accept(&mut self, place: GroupPlace, encoded: Encoded) -> Result<()> {
        let Some(file) = self.open.iter_mut().find(|f| f.number == place.file) else { return Ok(()) };
        file.early.insert(place.group, encoded);
        while let Some(next) = file.early.remove(&file.done) {
            file.done += 1;
            file.writer.append(next)?;
        }
        Ok(())
    }

    /// Ends the files whose row groups have all come back, all but the last; `about` tells what they hold. The disk takes
    /// its time, so another thread waits for it.
    ///
    /// # Errors
    /// Where a file cannot be ended.
    pub fn close_finished(&mut self, about: impl Fn() -> String) -> Result<()> {
        while self.open.len() > 1 && self.open[0].out == self.open[0].done {
            self.close_first(&about())?;
        }
        Ok(())
    }

    /// Ends all files.
    ///
    /// # Errors
    /// Where a file cannot be ended.
    pub fn close_all(&mut self, about: &str) -> Result<()> {
        while !self.open.is_empty() {
            self.close_first(about)?;
        }
        Ok(())
    }

    fn close_first(&mut self, about: &str) -> Result<()> {
        let mut file = self.open.remove(0);
        let home = Home::Writing.path(&self.root, &file.path);
        file.writer.say(about);
        let ended = file.writer.end()?;
        let (root, levels, is_anchored) = (self.root.clone(), file.levels, file.is_anchored);
        let thread = Some(std::thread::spawn(move || {
            let written = ended.settle(&home)?;
            if let Some(levels) = levels {
                levels.write_or_tell(&LevelFiles::of(&root, &written, is_anchored));
            }
            Ok(written)
        }));
        self.syncing.push(SyncingFile { path: file.path, partition: file.partition, thread });
        Ok(())
    }

    /// Waits until the disk holds each closed file; gives their paths and what they hold.
    ///
    /// # Errors
    /// Where one could not be written.
    pub fn settled(&mut self) -> Result<Vec<(String, WrittenFile)>> {
        self.syncing.iter_mut().map(|file| Ok((file.path.clone(), file.settled()?))).collect()
    }

    /// The catalog names them now: they stay.
    pub fn are_named(&mut self) {
        self.syncing.clear();
    }
}

impl Drop for UnnamedFiles {
    fn drop(&mut self) {
        // What is left here was never named. Failing to remove it is harmless: the next writer sweeps.
        let mut left: Vec<String> = self.open.drain(..).map(|file| file.path + ".tmp").collect();
        for mut file in std::mem::take(&mut self.syncing) {
            let _ = file.settled();
            left.extend([file.path.clone(), file.path + ".tmp"]);
        }
        for path in left {
            let place = Home::Writing.path(&self.root, &path);
            let _ = std::fs::remove_file(&place);
            home::remove_empty_folders(&place, &self.root);
        }
    }
}
