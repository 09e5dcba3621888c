//! Joining small files, so that a history that grows by a day at a time stays in a handful of them.

use std::sync::Arc;

use super::editions::{self, SegmentInfo};
use super::home::Home;
use super::levels::{LevelFiles, LevelMaker};
use super::partition::Partition;
use super::scan::ScanFile;
use super::segment::{SegmentWriter, SharedRows};
use super::{FileAbout, Shelf, catalog};
use crate::Result;
use crate::job::Job;
use crate::model::{Field, Scale, SeriesName, Span};

/// Files of one year of bars or month of ticks that are left as they are.
const FEW: usize = 4;

/// How much larger the earlier of two neighbours may be for both to be joined. So a row is written again only
/// as often as the file it is in multiplies, and the files of a partition grow like powers of this.
const LARGER: u64 = 3;

/// What the files of an edition are written with.
pub struct FileShape<'a> {
    /// As the series is stored.
    pub name: &'a SeriesName,
    /// The id in the files' names.
    pub id: i64,
    pub fields: &'a [Field],
    pub scale: Scale,
    pub is_anchored: bool,
    /// What the files say of themselves.
    pub told: String,
}

/// Files of one partition in order of time.
type Neighbours = Vec<SegmentInfo>;

/// Joins small neighbours among the files of an edition that is about to be named, in every partition that
/// has more than a few. Gives the paths of files just written that are not needed any more.
pub fn join_small(
    shelf: &Shelf,
    shape: &FileShape<'_>,
    kept: &mut Vec<SegmentInfo>,
    written: &mut Vec<SegmentInfo>,
) -> Result<Vec<String>> {
    let mut taken: Vec<String> = written.iter().map(|s| s.path.clone()).collect();
    let all = kept.iter().chain(&*written).cloned().collect();
    let mut spare = Vec::new();
    for part in partitions(all, shape.name) {
        if part.len() <= FEW {
            continue;
        }
        for run in runs(part).into_iter().filter(|run| run.len() > 1) {
            let joined = write_joined(shelf, shape, &run, &mut taken)?;
            let is_in = |s: &SegmentInfo| run.iter().any(|r| r.path == s.path);
            spare.extend(written.iter().filter(|s| is_in(s)).map(|s| s.path.clone()));
            kept.retain(|s| !is_in(s));
            written.retain(|s| !is_in(s));
            written.push(joined);
        }
    }
    Ok(spare)
}

fn partitions(mut all: Vec<SegmentInfo>, name: &SeriesName) -> Vec<Neighbours> {
    all.sort_by_key(|s| (s.first, s.last, s.id));
    let of = |s: &SegmentInfo| Partition::of(s.first, name.frame.is_bars());
    all.chunk_by(|a, b| of(a) == of(b)).map(<[SegmentInfo]>::to_vec).collect()
}

/// Neighbours gathered into runs to be joined; a run of one stays as it is.
fn runs(part: Neighbours) -> Vec<Neighbours> {
    let rows = |run: &Neighbours| run.iter().map(|s| s.rows).sum::<u64>();
    let mut runs: Vec<Neighbours> = Vec::new();
    for segment in part {
        runs.push(vec![segment]);
        while let [.., before, last] = runs.as_slice()
            && rows(before) < LARGER * rows(last)
        {
            let last = runs.pop().unwrap_or_default();
            if let Some(before) = runs.last_mut() {
                before.extend(last);
            }
        }
    }
    runs
}

fn write_joined(
    shelf: &Shelf,
    shape: &FileShape<'_>,
    run: &[SegmentInfo],
    taken: &mut Vec<String>,
) -> Result<SegmentInfo> {
    let partition = Partition::of(run[0].first, shape.name.frame.is_bars());
    let mut again = 0;
    let path = loop {
        let path = partition.path(shape.name, shape.id, again);
        if !taken.contains(&path) {
            break path;
        }
        again += 1;
    };
    let place = Home::Writing.path(shelf.root(), &path);
    let unfinished = Home::Writing.path(shelf.root(), &(path.clone() + ".tmp"));
    let mut writer = SegmentWriter::create(&unfinished, shape.fields, shape.scale, shape.is_anchored)?;
    let mut levels = LevelMaker::of(shape.name.frame, shape.fields, shape.scale);
    for segment in run {
        for rows in ScanFile::of_shelf(shelf.root(), segment, shape.fields, shape.scale, Span::ALL)? {
            let rows = Arc::new(rows?);
            if let Some(levels) = &mut levels {
                levels.push(&SharedRows { rows: rows.clone(), range: 0..rows.len() });
            }
            writer.push(rows)?;
        }
    }
    writer.say(&shape.told);
    let written = writer.finish(&place)?;
    if let Some(levels) = levels {
        levels.write_or_tell(&LevelFiles::of(shelf.root(), &written, shape.is_anchored));
    }
    let segment = written.as_segment(&path);
    taken.push(path);
    Ok(segment)
}

impl Shelf {
    /// Joins all files of each partition of a series' current edition into one; gives how many files that
    /// spares. The rows, and so the edition, stay what they are.
    pub(super) fn join_files(&mut self, series: i64, job: &Job) -> Result<u64> {
        let name = editions::stored_name(&self.db, series)?;
        let Some(info) = editions::exactly(&self.db, &name, name.built)? else { return Ok(0) };
        let edition = &info.edition;
        let parts = partitions(editions::segments(&self.db, edition.id)?, &name);
        if parts.iter().all(|p| p.len() < 2) {
            return Ok(0);
        }
        let id = catalog::take_edition_id(&self.db)?;
        let about = FileAbout {
            shelf: catalog::shelf_id(&self.db)?,
            series: name.clone(),
            edition: edition.id,
            number: edition.number,
            made: edition.made,
            clock: edition.clock.clone(),
            price_decimals: edition.scale.price,
            volume_decimals: edition.scale.volume,
            provenance: edition.provenance.clone(),
            is_whole: true,
            instruments: Default::default(),
        };
        let told = about.told(&edition.provenance, true);
        let (fields, is_anchored) = (edition.fields.as_slice(), edition.clock.is_some());
        let shape = FileShape { name: &name, id, fields, scale: edition.scale, is_anchored, told };
        let (mut held, mut taken, mut spared) = (Vec::new(), Vec::new(), 0);
        for part in parts {
            job.advance(part.iter().map(|s| s.bytes).sum())?;
            if let [one] = part.as_slice() {
                held.push(one.clone());
                continue;
            }
            held.push(write_joined(self, &shape, &part, &mut taken)?);
            spared += part.len() as u64 - 1;
        }
        let tx = self.db.transaction()?;
        for segment in held.iter_mut().filter(|s| s.id == 0) {
            segment.id = editions::add_segment(&tx, segment)?;
        }
        editions::set_holding(&tx, edition.id, &held.iter().map(|s| s.id).collect::<Vec<_>>())?;
        let bytes: i64 = held.iter().map(|s| s.bytes as i64).sum();
        tx.execute("UPDATE edition SET bytes = ?1 WHERE id = ?2", [bytes, edition.id])?;
        super::upkeep::doom_unheld(&tx)?;
        tx.commit()?;
        self.remove_doomed()?;
        self.settle(series)?;
        Ok(spared)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::editions::SegmentFormat;

    fn segment(day: i64, rows: u64) -> SegmentInfo {
        SegmentInfo {
            id: day,
            path: format!("{day}"),
            rows,
            first: day,
            last: day,
            bytes: 1,
            hash: None,
            days: Default::default(),
            format: SegmentFormat::Nulls,
        }
    }

    #[test]
    fn files_of_a_day_each_stay_few_and_a_row_is_seldom_written_again() {
        let (mut files, mut written, mut most): (Neighbours, u64, usize) = (Vec::new(), 0, 0);
        let days = 1000;
        for day in 0..days {
            files.push(segment(day, 10));
            if files.len() > FEW {
                files = runs(files)
                    .into_iter()
                    .map(|run| {
                        let rows = run.iter().map(|s| s.rows).sum();
                        if run.len() > 1 {
                            written += rows;
                        }
                        segment(run[0].first, rows)
                    })
                    .collect();
            }
            most = most.max(files.len());
        }
        assert!(most <= 8, "{most} files");
        assert_eq!(files.iter().map(|f| f.rows).sum::<u64>(), 10 * days as u64);
        assert!(written < 10 * 10 * days as u64, "{written} rows were written again for {}", 10 * days);
    }
}
