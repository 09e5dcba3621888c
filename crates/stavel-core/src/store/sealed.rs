//! A new edition whose rows are all there.

use super::about::{FileAbout, Origin};
use super::commit::{NewEdition, commit_edition};
use super::compact::{FileShape, join_small};
use super::editions::SegmentInfo;
use super::home::Home;
use super::unnamed::UnnamedFiles;
use super::{SeriesInfo, Shelf};
use crate::model::{Columns, SeriesName};
use crate::{Error, Result};

/// Rows that are on their way to the disk and that no one sees before [`SealedDraft::commit`]. One that is dropped
/// removes its files.
pub struct SealedDraft {
    pub(super) name: SeriesName,
    pub(super) origin: Origin,
    pub(super) id: i64,
    pub(super) about: FileAbout,
    pub(super) kept: Vec<SegmentInfo>,
    pub(super) files: UnnamedFiles,
}

impl SealedDraft {
    /// Makes the edition current and puts the files of the one before aside.
    ///
    /// # Errors
    /// Where there is not one row: an empty edition would hide the series. Where the disk or the catalog refuses.
    pub fn commit(mut self, shelf: &mut Shelf) -> Result<SeriesInfo> {
        let mut written: Vec<SegmentInfo> =
            self.files.settled()?.iter().map(|(path, file)| file.as_segment(path)).collect();
        if self.kept.is_empty() && written.is_empty() {
            return Err(Error::input(format!(
                "Nothing would be left of {}; the shelf is as it was.",
                self.name
            )));
        }
        let mut kept = std::mem::take(&mut self.kept);
        let spare = join_small(shelf, &self.shape(), &mut kept, &mut written)?;
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
        let act = shelf.act_id()?;
        let series = commit_edition(&mut shelf.db, act, &new)?;
        self.files.are_named();
        for path in spare {
            // They were only parts of what was just written as one.
            let _ = std::fs::remove_file(Home::Writing.path(&shelf.root, &path));
        }
        shelf.settle(series)?;
        let files = written.len();
        tracing::info!(series = %self.name, edition = self.id, files, kept = kept.len(), "edition written");
        shelf.current_by_id(series, &self.name)
    }

    /// What files of this edition are written with.
    fn shape(&self) -> FileShape<'_> {
        FileShape {
            name: &self.name,
            id: self.id,
            fields: &self.origin.fields,
            scale: self.origin.scale,
            is_anchored: self.origin.clock.is_some(),
            told: self.about.told(&self.origin.provenance, true),
        }
    }
}
