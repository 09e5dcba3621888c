//! Two editions of a series side by side.

use super::{Cursor, EditionInfo, SegmentInfo, Shelf};
use crate::Result;
use crate::job::Job;
use crate::model::{Columns, Field, Micros, Span};

/// How two editions differ. Rows are compared with the fields both have.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct EditionDiff {
    /// Rows that both have.
    pub same: u64,
    /// Rows of one at whose time the other has other values.
    pub changed: u64,
    /// Rows that only the first has.
    pub only_first: u64,
    /// Rows that only the second has.
    pub only_second: u64,
    /// From the first to the last difference.
    pub differs: Option<(Micros, Micros)>,
}

impl Shelf {
    /// Compares two editions (of one series, or of two).
    ///
    /// # Errors
    /// Where a file cannot be read, or the person stops it.
    pub fn compare(&self, first: &EditionInfo, second: &EditionInfo, job: &Job) -> Result<EditionDiff> {
        let fields: Vec<Field> = first.fields.iter().copied().filter(|f| second.fields.contains(f)).collect();
        let scale = first.scale.finer(&second.scale);
        job.begin("compare", first.rows + second.rows);
        let side = |e: &EditionInfo| -> Result<_> {
            let rows = self.scan(e, Span::ALL, Some(&fields))?;
            Ok(Cursor::new(rows.map(move |piece| Ok(piece?.rescaled(scale)))))
        };
        let (mut a, mut b) = (side(first)?, side(second)?);
        let mut found = EditionDiff::default();
        let (mut left, mut right): (Vec<Vec<i64>>, Vec<Vec<i64>>) = Default::default();
        loop {
            let (x, y) = (a.time()?, b.time()?);
            let Some(time) = x.into_iter().chain(y).min() else { break };
            take_at(&mut a, time, &mut left)?;
            take_at(&mut b, time, &mut right)?;
            job.advance((left.len() + right.len()) as u64)?;
            found.count(time, &mut left, &mut right);
        }
        Ok(found)
    }
}

impl Shelf {
    /// The time of the first row in which two editions differ; none where they hold the same rows. Files that
    /// both have are not read.
    ///
    /// # Errors
    /// Where a file cannot be read.
    pub fn first_difference(&self, a: &EditionInfo, b: &EditionInfo) -> Result<Option<Micros>> {
        if a.id == b.id {
            return Ok(None);
        }
        if a.fields != b.fields || a.scale != b.scale {
            return Ok(Some(a.first.min(b.first)));
        }
        let (here, there) = (self.segments(a)?, self.segments(b)?);
        let same = |x: &SegmentInfo, y: &SegmentInfo| x.id == y.id || x.hash.is_some() && x.hash == y.hash;
        let only = |x: &[SegmentInfo], y: &[SegmentInfo]| {
            x.iter().find(|f| !y.iter().any(|g| same(f, g))).map(|f| f.first)
        };
        let Some(from) = only(&here, &there).into_iter().chain(only(&there, &here)).min() else {
            return Ok(None);
        };
        let side = |e: &EditionInfo| -> Result<_> {
            Ok(Cursor::new(self.scan(e, Span::new(from, Micros::MAX), None)?))
        };
        let (mut a, mut b) = (side(a)?, side(b)?);
        loop {
            let (x, y) = (a.time()?, b.time()?);
            if x.is_none() && y.is_none() {
                return Ok(None);
            }
            if x != y || !a.rows().same_values(a.at(), b.rows(), b.at()) {
                return Ok(x.into_iter().chain(y).min());
            }
            a.pass(1);
            b.pass(1);
        }
    }
}

impl EditionDiff {
    /// Counts the rows at one time, of either side.
    fn count(&mut self, time: Micros, left: &mut Vec<Vec<i64>>, right: &mut Vec<Vec<i64>>) {
        let before = left.len();
        left.retain(|row| match right.iter().position(|r| r == row) {
            Some(at) => {
                right.swap_remove(at);
                false
            }
            None => true,
        });
        self.same += (before - left.len()) as u64;
        let changed = left.len().min(right.len());
        self.changed += changed as u64;
        self.only_first += (left.len() - changed) as u64;
        self.only_second += (right.len() - changed) as u64;
        if !left.is_empty() || !right.is_empty() {
            self.differs = Some((self.differs.map_or(time, |d| d.0), time));
        }
    }
}

/// Takes the values of all rows at a time.
fn take_at<I: Iterator<Item = Result<Columns>>>(
    from: &mut Cursor<I>,
    time: Micros,
    out: &mut Vec<Vec<i64>>,
) -> Result<()> {
    out.clear();
    while from.time()? == Some(time) {
        out.push(from.rows().data.iter().map(|c| c[from.at()]).collect());
        from.pass(1);
    }
    Ok(())
}
