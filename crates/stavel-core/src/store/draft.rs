//! A new edition while it is written.

use std::sync::Arc;

use rayon::prelude::*;

use super::about::{FileAbout, Origin};
use super::editions::{self, SegmentInfo};
use super::partition::Partition;
use super::scan::Scan;
use super::sealed::SealedDraft;
use super::segment::{Encoded, SharedRows};
use super::unnamed::{GroupPlace, RowShape, UnnamedFiles, Work};
use super::{SeriesInfo, Shelf, catalog};
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
    files: UnnamedFiles,
    /// True where the next rows may not go into the file of the rows before.
    split: bool,
    last: Micros,
}

impl<'a> Draft<'a> {
    pub(super) fn begin(shelf: &'a mut Shelf, name: &SeriesName, origin: Origin) -> Result<Draft<'a>> {
        let name = shelf.stored_name_for(name, &origin.provenance.made)?;
        let id = catalog::take_edition_id(&shelf.db)?;
        let about = FileAbout::of(shelf, &name, id, &origin)?;
        let files = UnnamedFiles::of(shelf.root.clone());
        let (kept, split, last) = (Vec::new(), false, Micros::MIN);
        Ok(Draft { shelf, name, origin, id, about, kept, files, split, last })
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
            if std::mem::take(&mut self.split) || self.files.partition() != Some(partition) {
                work.extend(self.rest());
                self.close_finished()?;
                self.begin_file(partition)?;
            }
            work.extend(self.files.queue(SharedRows { rows: rows.clone(), range: from..to }));
            from = to;
        }
        Ok(work)
    }

    /// The rows that wait for more of their partition; nothing may be added to it after this.
    pub fn rest(&mut self) -> Option<Work> {
        self.files.rest()
    }

    fn begin_file(&mut self, partition: Partition) -> Result<()> {
        let path = partition.path(&self.name, self.id, self.files.of_partition(partition));
        let Origin { fields, scale, clock, .. } = &self.origin;
        let frame = self.name.frame;
        let rows = RowShape { frame, fields, scale: *scale, is_anchored: clock.is_some() };
        self.files.begin(partition, path, &rows)
    }

    /// Writes a row group that was encoded elsewhere, once those before it are written.
    ///
    /// # Errors
    /// Where a file cannot be written.
    pub fn accept(&mut self, place: GroupPlace, encoded: Encoded) -> Result<()> {
        self.files.accept(place, encoded)?;
        self.close_finished()
    }

    fn close_finished(&mut self) -> Result<()> {
        self.files.close_finished(|| self.about.told(&self.origin.provenance, false))
    }

    /// True where nothing was added and nothing taken over.
    pub fn is_empty(&self) -> bool {
        self.files.begun() == 0 && self.kept.is_empty()
    }

    /// Ends the rows and leaves the disk to write them: other editions may be made meanwhile.
    ///
    /// # Errors
    /// Where a file cannot be written.
    pub fn seal(self) -> Result<SealedDraft> {
        Ok(self.sealed()?.1)
    }

    /// Makes the edition current and puts the files of the one before aside.
    ///
    /// # Errors
    /// Where there is not one row: an empty edition would hide the series.
    pub fn commit(self) -> Result<SeriesInfo> {
        let (shelf, sealed) = self.sealed()?;
        sealed.commit(shelf)
    }

    fn sealed(mut self) -> Result<(&'a mut Shelf, SealedDraft)> {
        self.files.close_all(&self.about.told(&self.origin.provenance, true))?;
        let Draft { shelf, name, origin, id, about, kept, files, .. } = self;
        Ok((shelf, SealedDraft { name, origin, id, about, kept, files }))
    }
}
