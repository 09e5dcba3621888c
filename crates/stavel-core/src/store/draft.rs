//! A new edition while it is written.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::thread::JoinHandle;

use rayon::prelude::*;

use super::about::{FileAbout, Origin};
use super::commit::{NewEdition, commit_edition};
use super::editions::{self, SegmentInfo};
use super::home::{self, Home};
use super::partition::Partition;
use super::scan::Scan;
use super::segment::{Encoded, Group, SegmentWriter, SharedRows, WrittenFile};
use super::{Shelf, catalog};
use crate::model::{Columns, Field, Made, Micros, Scale, SeriesName, Span};
use crate::{Error, Result};

/// Rows go in, in order of time; nothing is to be seen on the shelf before [`Draft::commit`].
///
/// A draft that is dropped leaves only unnamed files, which it removes.
pub struct Draft<'a> {
    shelf: &'a mut Shelf,
    /// As the series is stored: bars that are built are marked so.
    name: SeriesName,
    origin: Origin,
    /// The edition's id. It makes the names of this draft's files unlike those of any other.
    id: i64,
    about: FileAbout,
    kept: Vec<SegmentInfo>,
    /// Partitions begun and not yet closed, in order; the last takes rows, those before wait for their
    /// row groups to be encoded.
    open: Vec<OpenFile>,
    /// Files begun so far.
    begun: usize,
    /// True where the next rows may not go into the file of the rows before.
    split: bool,
    /// Files on their way to the disk.
    syncing: Vec<(String, Partition, Syncing)>,
    last: Micros,
}

struct OpenFile {
    /// Counted from 0 within the draft.
    number: usize,
    partition: Partition,
    /// Relative to `data/`.
    path: String,
    writer: SegmentWriter,
    /// Row groups handed out.
    out: usize,
    /// Row groups written.
    done: usize,
    /// Row groups that came back before those that go before them.
    early: BTreeMap<usize, Encoded>,
}

/// A row group to encode on any thread and to give back to [`Draft::accept`].
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
struct Syncing(Option<JoinHandle<Result<WrittenFile>>>);

impl Syncing {
    /// Waits until the disk holds the file.
    fn settled(&mut self, path: &str) -> Result<WrittenFile> {
        match self.0.take().map(JoinHandle::join) {
            Some(Ok(written)) => written,
            _ => Err(Error::storage(format!("Writing {path} failed."))),
        }
    }
}

impl<'a> Draft<'a> {
    pub(super) fn begin(shelf: &'a mut Shelf, name: &SeriesName, origin: Origin) -> Result<Draft<'a>> {
        let name = shelf.stored_name_for(name, &origin.provenance.made)?;
        let id = catalog::take_edition_id(&shelf.db)?;
        let about = FileAbout::of(shelf, &name, id, &origin)?;
        Ok(Draft {
            shelf,
            name,
            origin,
            id,
            about,
            kept: Vec::new(),
            open: Vec::new(),
            begun: 0,
            split: false,
            syncing: Vec::new(),
            last: Micros::MIN,
        })
    }

    /// Changes what the edition says of how it was made, once its outcome is known.
    pub fn set_made(&mut self, made: Made) {
        self.origin.provenance.made = made;
    }

    /// The fields of its rows.
    pub fn fields(&self) -> &[Field] {
        &self.origin.fields
    }

    /// The scale of its rows.
    pub fn scale(&self) -> Scale {
        self.origin.scale
    }

    /// Takes over, unread, the files of the current edition whose whole span passes `keep`; gives the
    /// spans of those that did not.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn keep_files(&mut self, keep: impl Fn(Micros, Micros) -> bool) -> Result<Vec<(Micros, Micros)>> {
        let current = editions::exactly(&self.shelf.db, &self.name, self.name.built)?;
        let Some(current) = current else { return Ok(Vec::new()) };
        let (kept, rest): (Vec<_>, Vec<_>) = editions::segments(&self.shelf.db, current.edition.id)?
            .into_iter()
            .partition(|s| keep(s.first, s.last));
        self.kept.extend(kept);
        Ok(rest.iter().map(|s| (s.first, s.last)).collect())
    }

    /// Takes over one file of an edition, unread. Rows that follow go into another file than those before:
    /// the spans of files do not overlap.
    pub fn keep(&mut self, file: SegmentInfo) {
        self.kept.push(file);
        self.split = true;
    }

    /// Rows of one file of an edition with the fields and scale it was written with.
    pub fn scan_file(&self, file: &SegmentInfo, edition: &super::EditionInfo, span: Span) -> Scan {
        Scan::new(&self.shelf.root, vec![file.clone()], edition, span, None)
    }

    /// Adds rows at or after all rows added before.
    ///
    /// # Errors
    /// Where rows come out of order, or a file cannot be written.
    pub fn push(&mut self, rows: impl Into<Arc<Columns>>) -> Result<()> {
        let work = self.queue(&rows.into())?;
        let encode = |work: Work| work.group.encode().map(|encoded| (work.place, encoded));
        let encoded: Vec<(GroupPlace, Encoded)> = work.into_par_iter().map(encode).collect::<Result<_>>()?;
        encoded.into_iter().try_for_each(|(place, encoded)| self.accept(place, encoded))
    }

    /// Adds rows at or after all rows added before and gives the row groups they filled, to be encoded
    /// and given to [`Draft::accept`].
    ///
    /// # Errors
    /// Where rows come out of order, or a file cannot be written.
    pub fn queue(&mut self, rows: &Arc<Columns>) -> Result<Vec<Work>> {
        let Some((first, last)) = rows.ends() else { return Ok(Vec::new()) };
        if first < self.last || !rows.is_sorted() {
            return Err(Error::storage(format!("Rows for {} arrived out of order.", self.name)));
        }
        self.last = last;
        let mut work = Vec::new();
        let mut from = 0;
        while from < rows.len() {
            let partition = Partition::of(rows.time[from], self.name.frame.is_bars());
            let to = from + rows.time[from..].partition_point(|&t| t < partition.end());
            if std::mem::take(&mut self.split) || self.open.last().is_none_or(|f| f.partition != partition) {
                work.extend(self.rest());
                self.close_finished()?;
                self.begin_file(partition)?;
            }
            if let Some(file) = self.open.last_mut() {
                let groups = file.writer.queue(SharedRows { rows: rows.clone(), range: from..to });
                work.extend(groups.into_iter().map(|group| file.hand_out(group)));
            }
            from = to;
        }
        Ok(work)
    }

    /// The rows that wait for more of their partition; nothing may be added to it after this.
    pub fn rest(&mut self) -> Option<Work> {
        let file = self.open.last_mut()?;
        let group = file.writer.rest()?;
        Some(file.hand_out(group))
    }

    fn begin_file(&mut self, partition: Partition) -> Result<()> {
        let again = self.open.iter().filter(|f| f.partition == partition).count()
            + self.syncing.iter().filter(|(_, p, _)| *p == partition).count();
        let path = partition.path(&self.name, self.id, again);
        let unfinished = Home::Writing.path(&self.shelf.root, &(path.clone() + ".tmp"));
        let anchored = self.origin.clock.is_some();
        let writer = SegmentWriter::create(&unfinished, &self.origin.fields, self.origin.scale, anchored)?;
        self.open.push(OpenFile {
            number: self.begun,
            partition,
            path,
            writer,
            out: 0,
            done: 0,
            early: BTreeMap::new(),
        });
        self.begun += 1;
        Ok(())
    }

    /// Writes a row group that was encoded elsewhere, once those before it are written.
    ///
    /// # Errors
    /// Where a file cannot be written.
    pub fn accept(&mut self, place: GroupPlace, encoded: Encoded) -> Result<()> {
        if let Some(file) = self.open.iter_mut().find(|f| f.number == place.file) {
            file.early.insert(place.group, encoded);
            while let Some(next) = file.early.remove(&file.done) {
                file.done += 1;
                file.writer.append(next)?;
            }
        }
        self.close_finished()
    }

    /// Ends the files of all partitions but the last whose row groups have all come back. The disk takes
    /// its time, so another thread waits for it.
    fn close_finished(&mut self) -> Result<()> {
        while self.open.len() > 1 && self.open[0].out == self.open[0].done {
            self.close_first(false)?;
        }
        Ok(())
    }

    /// Ends the first open file; `is_last` where all is known of the edition by now.
    fn close_first(&mut self, is_last: bool) -> Result<()> {
        let mut file = self.open.remove(0);
        let home = Home::Writing.path(&self.shelf.root, &file.path);
        file.writer.say(&self.about.told(&self.origin.provenance, is_last));
        let ended = file.writer.end()?;
        let thread = std::thread::spawn(move || ended.settle(&home));
        self.syncing.push((file.path, file.partition, Syncing(Some(thread))));
        Ok(())
    }

    /// True where nothing was added and nothing taken over.
    pub fn is_empty(&self) -> bool {
        self.begun == 0 && self.kept.is_empty()
    }

    /// Makes the edition current and puts the files of the one before aside.
    ///
    /// # Errors
    /// Where there is not one row: an empty edition would hide the series.
    pub fn commit(mut self) -> Result<super::SeriesInfo> {
        while !self.open.is_empty() {
            self.close_first(true)?;
        }
        let mut written = Vec::new();
        for (path, _, state) in &mut self.syncing {
            written.push(state.settled(path)?.as_segment(path));
        }
        if self.kept.is_empty() && written.is_empty() {
            return Err(Error::input(format!(
                "Nothing would be left of {}; the shelf is as it was.",
                self.name
            )));
        }
        let mut kept = std::mem::take(&mut self.kept);
        let spare = super::compact::join_small(self.shelf, &self.shape(), &mut kept, &mut written)?;
        let like = Columns::empty(&self.origin.fields, self.origin.scale);
        let new = NewEdition {
            id: self.id,
            name: &self.name,
            provenance: &self.origin.provenance,
            clock: self.origin.clock.as_ref(),
            like: &like,
            kept: &kept,
            written: &written,
        };
        let act = self.shelf.act_id()?;
        let series = commit_edition(&mut self.shelf.db, act, &new)?;
        self.syncing.clear();
        for path in spare {
            // They were only parts of what was just written as one.
            let _ = std::fs::remove_file(Home::Writing.path(&self.shelf.root, &path));
        }
        self.shelf.settle(series)?;
        let files = written.len();
        tracing::info!(series = %self.name, edition = self.id, files, kept = kept.len(), "edition written");
        self.shelf.current_by_id(series, &self.name)
    }

    /// What files of this edition are written with.
    fn shape(&self) -> super::compact::FileShape<'_> {
        super::compact::FileShape {
            name: &self.name,
            id: self.id,
            fields: &self.origin.fields,
            scale: self.origin.scale,
            is_anchored: self.origin.clock.is_some(),
            told: self.about.told(&self.origin.provenance, true),
        }
    }
}

impl Drop for Draft<'_> {
    fn drop(&mut self) {
        // What is left here was never named. Failing to remove it is harmless: the next writer sweeps.
        let mut left: Vec<String> = Vec::new();
        for file in std::mem::take(&mut self.open) {
            left.push(file.path + ".tmp");
        }
        for (path, _, mut state) in std::mem::take(&mut self.syncing) {
            let _ = state.settled(&path);
            left.extend([path.clone(), path + ".tmp"]);
        }
        for path in left {
            let place = Home::Writing.path(&self.shelf.root, &path);
            let _ = std::fs::remove_file(&place);
            home::remove_empty_folders(&place, &self.shelf.root);
        }
    }
}
