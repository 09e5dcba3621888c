//! Rows of a file that is not in order of time, or that holds many instruments: sorted in pieces on the
//! disk, then merged.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap};
use std::path::{Path, PathBuf};

use crate::model::{Columns, Field, Micros, Scale, Span};
use crate::store::{Cursor, ScanFile, SegmentWriter};
use crate::{Error, Result};

/// Rows that wait in memory before they are sorted and written out.
const WAITING: usize = 1 << 20;
/// Rows of a run that are in memory while runs are merged.
const STEP: usize = 8 * 1024;
/// Runs merged at once; more are merged in turns.
const AT_ONCE: usize = 256;

/// Sorted pieces on the disk, for each key (an instrument) its own.
pub struct SortedRuns {
    folder: tempfile::TempDir,
    fields: Vec<Field>,
    scale: Scale,
    waiting: BTreeMap<String, Columns>,
    waiting_rows: usize,
    runs: BTreeMap<String, Vec<SortedRun>>,
    written: usize,
    most: usize,
}

struct SortedRun {
    path: PathBuf,
    first: Micros,
    rows: u64,
}

impl SortedRuns {
    /// No rows yet; the pieces are written below `shelf`.
    pub fn new(shelf: &Path, fields: &[Field], scale: Scale) -> Result<SortedRuns> {
        let folder = tempfile::Builder::new()
            .prefix("sorting-")
            .tempdir_in(shelf)
            .map_err(|e| Error::io("Cannot make a folder in", shelf, &e))?;
        Ok(SortedRuns {
            folder,
            fields: fields.to_vec(),
            scale,
            waiting: BTreeMap::new(),
            waiting_rows: 0,
            runs: BTreeMap::new(),
            written: 0,
            most: WAITING,
        })
    }

    /// The same with fewer rows in memory.
    #[cfg(test)]
    pub fn with_waiting(mut self, rows: usize) -> SortedRuns {
        self.most = rows;
        self
    }

    /// Adds rows in any order.
    pub fn push(&mut self, key: &str, rows: &Columns) -> Result<()> {
        self.waiting_rows += rows.len();
        match self.waiting.get_mut(key) {
            Some(waiting) => waiting.append(rows),
            None => {
                self.waiting.insert(key.to_owned(), rows.clone());
            }
        }
        if self.waiting_rows >= self.most { self.write_out() } else { Ok(()) }
    }

    fn write_out(&mut self) -> Result<()> {
        self.waiting_rows = 0;
        for (key, mut rows) in std::mem::take(&mut self.waiting) {
            rows.sort();
            let path = self.next_path();
            let mut writer =
                SegmentWriter::create(&path, &self.fields, self.scale, false)?.with_group_rows(STEP);
            let (first, count) = (rows.ends().map_or(0, |e| e.0), rows.len() as u64);
            writer.push(rows)?;
            writer.end()?;
            self.runs.entry(key).or_default().push(SortedRun { path, first, rows: count });
        }
        Ok(())
    }

    fn next_path(&mut self) -> PathBuf {
        self.written += 1;
        self.folder.path().join(format!("{:06}", self.written))
    }

    /// The keys met, with the number of rows of each.
    pub fn keys(&mut self) -> Result<Vec<(String, u64)>> {
        self.write_out()?;
        Ok(self.runs.iter().map(|(k, runs)| (k.clone(), runs.iter().map(|r| r.rows).sum())).collect())
    }

    /// The rows of a key in order of time, piece by piece; rows at one time in the order they were added.
    pub fn sorted(&mut self, key: &str) -> Result<Merged> {
        let mut runs = self.runs.remove(key).unwrap_or_default();
        while runs.len() > AT_ONCE {
            let some: Vec<SortedRun> = runs.drain(..AT_ONCE).collect();
            let (first, rows) =
                (some.iter().map(|r| r.first).min().unwrap_or(0), some.iter().map(|r| r.rows).sum());
            let path = self.next_path();
            let mut writer =
                SegmentWriter::create(&path, &self.fields, self.scale, false)?.with_group_rows(STEP);
            for piece in self.merged(some) {
                writer.push(piece?)?;
            }
            writer.end()?;
            runs.insert(0, SortedRun { path, first, rows });
        }
        Ok(self.merged(runs))
    }

    fn merged(&self, runs: Vec<SortedRun>) -> Merged {
        let waiting = runs.iter().enumerate().map(|(i, r)| Reverse((r.first, i))).collect();
        Merged {
            open: runs.iter().map(|_| None).collect(),
            paths: runs.into_iter().map(|r| r.path).collect(),
            waiting,
            fields: self.fields.clone(),
            scale: self.scale,
        }
    }
}

/// Runs merged into one. A run is opened when its first time is reached, so runs that follow one another
/// are not in memory together.
pub struct Merged {
    paths: Vec<PathBuf>,
    open: Vec<Option<Cursor<ScanFile>>>,
    /// The next time of each run that is not at its end.
    waiting: BinaryHeap<Reverse<(Micros, usize)>>,
    fields: Vec<Field>,
    scale: Scale,
}

impl Merged {
    fn step(&mut self) -> Result<Option<Columns>> {
        let mut out = Columns::empty(&self.fields, self.scale);
        while out.len() < STEP {
            let Some(Reverse((_, run))) = self.waiting.pop() else { break };
            let others = self.waiting.peek().map(|Reverse(next)| *next);
            let Some(open) = self.opened(run)? else { continue };
            // Everything before the next run's time, and at it where this run was added before that one.
            let times = &open.rows().time[open.left()];
            let count = match others {
                None => times.len(),
                Some((time, other)) if run < other => times.partition_point(|&t| t <= time),
                Some((time, _)) => times.partition_point(|&t| t < time),
            };
            out.append_range(open.rows(), open.at()..open.at() + count);
            open.pass(count);
            if let Some(next) = open.time()? {
                self.waiting.push(Reverse((next, run)));
            }
        }
        Ok((!out.is_empty()).then_some(out))
    }

    /// A run with its next row loaded; none at its end.
    fn opened(&mut self, run: usize) -> Result<Option<&mut Cursor<ScanFile>>> {
        if self.open[run].is_none() {
            let rows = ScanFile::open(&self.paths[run], &self.fields, self.scale, Span::ALL)?;
            self.open[run] = Some(Cursor::new(rows));
        }
        let Some(open) = &mut self.open[run] else { return Ok(None) };
        Ok(if open.load()? { Some(open) } else { None })
    }
}

impl Iterator for Merged {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Self::Item> {
        self.step().transpose()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20))]
        #[test]
        fn rows_come_out_sorted_and_stable(pieces in proptest::collection::vec(
            (0usize..2, proptest::collection::vec(0i64..60, 1..40)), 1..12)) {
            let dir = tempfile::tempdir().unwrap();
            let mut runs = SortedRuns::new(dir.path(), &[Field::Last], Scale::default()).unwrap().with_waiting(25);
            let mut plain: [Vec<(i64, i64)>; 2] = Default::default();
            let mut count = 0;
            for (key, times) in &pieces {
                let values: Vec<i64> = times.iter().map(|_| { count += 1; count }).collect();
                plain[*key].extend(times.iter().copied().zip(values.iter().copied()));
                let rows = Columns { time: times.clone(), fields: vec![Field::Last], data: vec![values], scale: Scale::default() };
                runs.push(["a", "b"][*key], &rows).unwrap();
            }
            runs.keys().unwrap();
            for (key, mut expected) in ["a", "b"].into_iter().zip(plain) {
                expected.sort_by_key(|r| r.0);
                let mut got = Vec::new();
                for piece in runs.sorted(key).unwrap() {
                    let piece = piece.unwrap();
                    got.extend(piece.time.iter().copied().zip(piece.data[0].iter().copied()));
                }
                prop_assert_eq!(got, expected);
            }
        }
    }
}
