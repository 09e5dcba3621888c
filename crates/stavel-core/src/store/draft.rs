//! A new edition while it is written.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::thread::JoinHandle;

use super::Shelf;
use super::catalog::{self, NewEdition, SegmentInfo};
use super::scan::Scan;
use super::segment::{Encoded, Group, Piece, SegmentWriter, Written};
use crate::model::time::{civil_from_days, day_of};
use crate::model::{Clock, Columns, Field, Micros, Scale, SeriesName, Span};
use crate::{Error, Result};

/// Where an edition comes from and what its columns are.
pub struct Origin {
    /// The stage that makes it.
    pub act: &'static str,
    /// What that stage has to say: files, settings, counts.
    pub detail: serde_json::Value,
    /// The clock its times were written in; none for afloat.
    pub clock: Option<Clock>,
    pub fields: Vec<Field>,
    pub scale: Scale,
}

/// Rows go in, in order of time; nothing is to be seen on the shelf before [`Draft::commit`].
///
/// A draft that is dropped leaves only unnamed files, which it removes.
pub struct Draft<'a> {
    shelf: &'a mut Shelf,
    name: SeriesName,
    origin: Origin,
    /// Makes the names of this draft's files unlike those of any edition before.
    stem: String,
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
    pub place: Place,
    pub group: Group,
}

/// Where a row group belongs: the file and its place in it, both counted from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    file: usize,
    group: usize,
}

impl OpenFile {
    fn hand_out(&mut self, group: Group) -> Work {
        self.out += 1;
        Work { place: Place { file: self.number, group: self.out - 1 }, group }
    }
}

/// A file whose thread waits for the disk.
struct Syncing(Option<JoinHandle<Result<Written>>>);

impl Syncing {
    /// Waits until the disk holds the file.
    fn settled(&mut self, path: &str) -> Result<Written> {
        match self.0.take().map(JoinHandle::join) {
            Some(Ok(written)) => written,
            _ => Err(Error::storage(format!("Writing {path} failed."))),
        }
    }
}

/// A year of bars or a month of ticks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Partition {
    year: i64,
    /// 0 for a whole year.
    month: i64,
}

impl Partition {
    fn of(t: Micros, bars: bool) -> Partition {
        let (year, month, _) = civil_from_days(day_of(t));
        Partition { year, month: if bars { 0 } else { month } }
    }

    fn folder(&self) -> String {
        if self.month == 0 {
            format!("year={:04}", self.year)
        } else {
            format!("year={:04}/month={:02}", self.year, self.month)
        }
    }

    /// The first time after the partition.
    fn end(&self) -> Micros {
        let (year, month) = match self.month {
            0 | 12 => (self.year + 1, 1),
            m => (self.year, m + 1),
        };
        crate::model::time::days_from_civil(year, month, 1) * crate::model::time::DAY
    }
}

impl<'a> Draft<'a> {
    pub(super) fn begin(shelf: &'a mut Shelf, name: &SeriesName, origin: Origin) -> Result<Draft<'a>> {
        let number = shelf.next_edition(name)?;
        Ok(Draft {
            shelf,
            name: name.clone(),
            origin,
            stem: format!("{number:06}"),
            kept: Vec::new(),
            open: Vec::new(),
            begun: 0,
            split: false,
            syncing: Vec::new(),
            last: Micros::MIN,
        })
    }

    /// Changes what the edition says of itself, once that is known.
    pub fn set_detail(&mut self, detail: serde_json::Value) {
        self.origin.detail = detail;
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
    pub fn keep_files(&mut self, keep: impl Fn(Micros, Micros) -> bool) -> Result<Vec<(Micros, Micros)>> {
        let Some(current) = self.shelf.current(&self.name)? else { return Ok(Vec::new()) };
        let (kept, rest): (Vec<_>, Vec<_>) = catalog::segments(&self.shelf.db, current.edition.id)?
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
    pub fn push(&mut self, rows: impl Into<Arc<Columns>>) -> Result<()> {
        for work in self.queue(rows.into())? {
            let encoded = work.group.encode()?;
            self.accept(work.place, encoded)?;
        }
        Ok(())
    }

    /// Adds rows at or after all rows added before and gives the row groups they filled, to be encoded
    /// and given to [`Draft::accept`].
    pub fn queue(&mut self, rows: Arc<Columns>) -> Result<Vec<Work>> {
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
                let groups = file.writer.queue(Piece { rows: rows.clone(), range: from..to });
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
        let part = if again == 0 { String::new() } else { format!("-{again}") };
        let folder = catalog::folder_of(&self.name);
        let path = format!("{folder}/{}/{}{part}.parquet", partition.folder(), self.stem);
        let unfinished = self.shelf.root.join("data").join(path.clone() + ".tmp");
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
    pub fn accept(&mut self, place: Place, encoded: Encoded) -> Result<()> {
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
            self.close_first()?;
        }
        Ok(())
    }

    fn close_first(&mut self) -> Result<()> {
        let file = self.open.remove(0);
        let home = self.shelf.root.join("data").join(&file.path);
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
            self.close_first()?;
        }
        let mut written = Vec::new();
        for (path, _, state) in &mut self.syncing {
            let w = state.settled(path)?;
            let (rows, first, last, bytes, days) = (w.rows, w.first, w.last, w.bytes, w.days);
            written.push(SegmentInfo {
                id: 0,
                path: path.clone(),
                rows,
                first,
                last,
                bytes,
                hash: Some(w.hash),
                days,
            });
        }
        if self.kept.is_empty() && written.is_empty() {
            return Err(Error::input(format!(
                "Nothing would be left of {}; the shelf is as it was.",
                self.name
            )));
        }
        let like = Columns::empty(&self.origin.fields, self.origin.scale);
        let new = NewEdition {
            name: &self.name,
            act: self.origin.act,
            detail: &self.origin.detail,
            clock: self.origin.clock.as_ref(),
            like: &like,
            kept: &self.kept,
            written: &written,
        };
        let series = catalog::commit_edition(&mut self.shelf.db, &new)?;
        self.syncing.clear();
        self.shelf.settle(series)?;
        self.shelf.find(&self.name)
    }
}

impl Drop for Draft<'_> {
    fn drop(&mut self) {
        // What is left here was never named. Failing to remove it is harmless: the next writer sweeps.
        let data = self.shelf.root.join("data");
        let mut left: Vec<std::path::PathBuf> = Vec::new();
        for file in std::mem::take(&mut self.open) {
            left.push(data.join(file.path + ".tmp"));
        }
        for (path, _, mut state) in std::mem::take(&mut self.syncing) {
            let _ = state.settled(&path);
            left.extend([data.join(&path), data.join(path + ".tmp")]);
        }
        for path in left {
            let _ = std::fs::remove_file(&path);
            super::remove_empty_folders(&path, &self.shelf.root);
        }
    }
}
