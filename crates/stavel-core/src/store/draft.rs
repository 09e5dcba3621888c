//! A new edition while it is written.

use super::Shelf;
use super::catalog::{self, NewEdition, SegmentInfo};
use super::segment::SegmentWriter;
use crate::model::time::{civil_from_days, day_of};
use crate::model::{Clock, Columns, Field, Micros, Scale, SeriesName};
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
    written: Vec<SegmentInfo>,
    open: Option<(Partition, SegmentWriter)>,
    last: Micros,
}

/// A year of bars or a month of ticks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Partition {
    year: i64,
    /// 0 for a whole year.
    month: i64,
}

impl Partition {
    fn of(t: Micros, ticks: bool) -> Partition {
        let (year, month, _) = civil_from_days(day_of(t));
        Partition { year, month: if ticks { month } else { 0 } }
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
        shelf.ensure_instrument(&name.instrument)?;
        let number = shelf.editions(name)?.first().map_or(0, |e| e.number) + 1;
        let stem = format!("{number:06}");
        Ok(Draft {
            shelf,
            name: name.clone(),
            origin,
            stem,
            kept: Vec::new(),
            written: Vec::new(),
            open: None,
            last: Micros::MIN,
        })
    }

    /// Changes what the edition says of itself, once that is known.
    pub fn set_detail(&mut self, detail: serde_json::Value) {
        self.origin.detail = detail;
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

    /// Adds rows at or after all rows added before.
    pub fn push(&mut self, rows: &Columns) -> Result<()> {
        let Some((first, last)) = rows.ends() else { return Ok(()) };
        if first < self.last || !rows.is_sorted() {
            return Err(Error::storage(format!("Rows for {} arrived out of order.", self.name)));
        }
        self.last = last;
        let ticks = self.name.frame.is_ticks();
        let mut from = 0;
        while from < rows.len() {
            let partition = Partition::of(rows.time[from], ticks);
            let to = from + rows.time[from..].partition_point(|&t| t < partition.end());
            if self.open.as_ref().is_some_and(|(p, _)| *p != partition) {
                self.close()?;
            }
            if self.open.is_none() {
                let path = self.path_of(partition);
                let unfinished = self.shelf.root.join("data").join(path + ".tmp");
                let anchored = self.origin.clock.is_some();
                let writer =
                    SegmentWriter::create(&unfinished, &self.origin.fields, self.origin.scale, anchored)?;
                self.open = Some((partition, writer));
            }
            if let Some((_, writer)) = &mut self.open {
                if from == 0 && to == rows.len() {
                    writer.push(rows)?
                } else {
                    writer.push(&rows.rows(from..to))?
                }
            }
            from = to;
        }
        Ok(())
    }

    fn path_of(&self, partition: Partition) -> String {
        format!("{}/{}/{}.parquet", catalog::folder_of(&self.name), partition.folder(), self.stem)
    }

    fn close(&mut self) -> Result<()> {
        if let Some((partition, writer)) = self.open.take() {
            let path = self.path_of(partition);
            let (rows, first, last, bytes) = writer.finish(&self.shelf.root.join("data").join(&path))?;
            self.written.push(SegmentInfo { id: 0, path, rows, first, last, bytes });
        }
        Ok(())
    }

    /// Makes the edition current and puts the files of the one before aside.
    ///
    /// # Errors
    /// Where there is not one row: an empty edition would hide the series.
    pub fn commit(mut self) -> Result<super::SeriesInfo> {
        self.close()?;
        if self.kept.is_empty() && self.written.is_empty() {
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
            written: &self.written,
        };
        let series = catalog::commit_edition(&mut self.shelf.db, &new)?;
        self.written.clear();
        self.shelf.settle(series)?;
        self.shelf.find(&self.name)
    }
}

impl Drop for Draft<'_> {
    fn drop(&mut self) {
        // What is left here was never named. Failing to remove it is harmless: the next writer sweeps.
        let data = self.shelf.root.join("data");
        if let Some((partition, writer)) = self.open.take() {
            drop(writer);
            let path = data.join(self.path_of(partition) + ".tmp");
            let _ = std::fs::remove_file(&path);
            super::remove_empty_folders(&path, &self.shelf.root);
        }
        for segment in &self.written {
            let path = data.join(&segment.path);
            let _ = std::fs::remove_file(&path);
            super::remove_empty_folders(&path, &self.shelf.root);
        }
    }
}
