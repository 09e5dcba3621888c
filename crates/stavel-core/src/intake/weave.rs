//! New rows woven into those already on the shelf, piece by piece.
//!
//! A file of the series that gets no new row is taken over unread or, where new rows had to be compared
//! with its own, unwritten.

use std::collections::VecDeque;
use std::ops::Range;
use std::sync::Arc;

use crate::Result;
use crate::model::{Columns, Field, Micros, Scale, Span};
use crate::store::{Cursor, Draft, EditionInfo, Encoded, GroupPlace, SegmentInfo, Work};

/// Rows gathered before they go to the draft as one piece.
const GATHER: usize = 32 * 1024;

/// Row groups that may wait to be encoded.
const MOST_WORK: usize = 8;

/// What becomes of rows whose time is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WeaveSettings {
    /// One row for each time.
    pub bars: bool,
    /// New rows take the place of all old ones between the first and the last of them.
    pub replace: bool,
    /// Of two bars at one time the new one is kept.
    pub prefer_new: bool,
}

/// What became of the rows. `kept + already + conflicts` is the number of new rows; with
/// [`WeaveSettings::prefer_new`] a conflict is a kept row that took the place of an old one.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct WeaveCounts {
    pub kept: u64,
    pub already: u64,
    /// New bars that were left away because an older one has their time.
    pub conflicts: u64,
    /// Old rows that gave way.
    pub replaced: u64,
}

/// Weaves new rows, given in order of time, into an edition.
pub struct Weave<'a> {
    draft: Draft<'a>,
    old: VecDeque<SegmentInfo>,
    edition: Option<EditionInfo>,
    /// True where old files can be taken over as they are.
    same: bool,
    open: Option<OldFile>,
    /// New rows at the latest time, held back until it is known that no more follow.
    carry: Columns,
    manner: WeaveSettings,
    /// Rows to be written, gathered.
    out: Columns,
    first_new: Option<Micros>,
    pub counts: WeaveCounts,
    /// New rows that were left away, with their times; the caller takes them.
    pub conflicts: Columns,
    work: Vec<Work>,
}

/// A file of the old edition whose span new rows reach into.
struct OldFile {
    file: SegmentInfo,
    rows: Cursor<OldRows>,
    /// Rows that were passed, all of them unchanged while the file is.
    passed: u64,
    changed: bool,
}

/// Rows of an old file with the fields and scale of the new edition.
type OldRows = Box<dyn Iterator<Item = Result<Columns>> + Send>;

impl<'a> Weave<'a> {
    /// Weaves into `edition`, if there is one, whose files are `old`.
    pub fn new(
        draft: Draft<'a>,
        edition: Option<EditionInfo>,
        old: Vec<SegmentInfo>,
        manner: WeaveSettings,
    ) -> Weave<'a> {
        let empty = Columns::empty(draft.fields(), draft.scale());
        let same = edition.as_ref().is_none_or(|e| e.fields == draft.fields() && e.scale == draft.scale());
        Weave {
            old: old.into(),
            edition,
            same,
            open: None,
            carry: empty.clone(),
            manner,
            out: empty.clone(),
            first_new: None,
            counts: WeaveCounts::default(),
            conflicts: empty,
            work: Vec::new(),
            draft,
        }
    }

    /// Adds new rows, none of them before those added earlier, with the fields and scale of the draft.
    pub fn push(&mut self, rows: Columns) -> Result<()> {
        let Some((first, _)) = rows.ends() else { return Ok(()) };
        self.first_new.get_or_insert(first);
        if self.old.is_empty() && self.open.is_none() && self.carry.is_empty() {
            self.counts.kept += rows.len() as u64;
            self.gather()?;
            return self.queue(&Arc::new(rows));
        }
        let mut rows = if self.carry.is_empty() {
            rows
        } else {
            let mut all = std::mem::replace(&mut self.carry, Columns::empty(&[], rows.scale));
            all.append(&rows);
            all
        };
        let last = rows.time[rows.len() - 1];
        let cut = rows.time.partition_point(|&t| t < last);
        self.carry = rows.rows(cut..rows.len());
        rows.truncate(cut);
        self.weave(&rows)
    }

    /// The fields rows must have.
    pub fn fields(&self) -> &[Field] {
        self.draft.fields()
    }

    /// The scale rows must have.
    pub fn scale(&self) -> Scale {
        self.draft.scale()
    }

    /// The row groups that are full, to be encoded and given back to [`Weave::accept`].
    pub fn work(&mut self) -> Vec<Work> {
        std::mem::take(&mut self.work)
    }

    /// Takes an encoded row group.
    pub fn accept(&mut self, place: GroupPlace, encoded: Encoded) -> Result<()> {
        self.draft.accept(place, encoded)
    }

    /// Weaves what is held back and carries over the rest of the old rows. The draft is whole after this,
    /// but for the work that is still to be taken and given back.
    pub fn end(&mut self) -> Result<()> {
        let carry = std::mem::replace(&mut self.carry, Columns::empty(&[], Default::default()));
        self.weave(&carry)?;
        if self.open.is_some() {
            self.pass(Micros::MAX)?;
            self.close()?;
        }
        while let Some(file) = self.old.pop_front() {
            self.carry_over(file)?;
        }
        self.gather()?;
        self.work.extend(self.draft.rest());
        Ok(())
    }

    /// The draft and whether it differs from the edition it began with.
    pub fn finish(self) -> (Draft<'a>, bool) {
        let changed = self.counts.kept + self.counts.replaced > 0;
        (self.draft, changed)
    }

    fn weave(&mut self, new: &Columns) -> Result<()> {
        let mut at = 0;
        while at < new.len() {
            let time = new.time[at];
            if self.open.is_none() {
                while let Some(file) = self.old.front().filter(|f| f.last < time).cloned() {
                    // Where rows are replaced, those since the first new row give way.
                    if self.manner.replace && self.first_new.is_some_and(|first| file.last >= first) {
                        self.open_next()?;
                        break;
                    }
                    self.old.pop_front();
                    self.carry_over(file)?;
                }
                if self.open.is_some() {
                    continue;
                }
                // Whatever comes before the next old file meets nobody.
                let until = self.old.front().map_or(Micros::MAX, |f| f.first);
                let clear = at + new.time[at..].partition_point(|&t| t < until);
                self.keep(new, at..clear)?;
                at = clear;
                if at < new.len() {
                    self.open_next()?;
                }
                continue;
            }
            let end = self.open.as_ref().map_or(Micros::MAX, |o| o.file.last);
            if time > end {
                self.pass(time)?;
                self.close()?;
                continue;
            }
            let passed = self.pass_equal(new, at)?;
            at += passed;
            if passed == 0 {
                self.pass(time)?;
                at += self.one_time(new, at)?;
            }
        }
        Ok(())
    }

    /// Runs over rows that are the same on both sides, whole groups of one time only.
    fn pass_equal(&mut self, new: &Columns, at: usize) -> Result<usize> {
        if self.manner.replace {
            return Ok(0);
        }
        let Some(open) = &mut self.open else { return Ok(0) };
        open.rows.load()?;
        let (old, first) = (open.rows.rows(), open.rows.at());
        let room = (new.len() - at).min(old.len() - first).min(GATHER);
        let (mine, theirs) = (first..first + room, at..at + room);
        let mut same = room;
        for (a, b) in std::iter::once((&old.time, &new.time)).chain(old.data.iter().zip(&new.data)) {
            let (a, b) = (&a[mine.start..mine.start + same], &b[theirs.start..theirs.start + same]);
            if a != b {
                same = a.iter().zip(b).position(|(x, y)| x != y).unwrap_or(same);
            }
        }
        let breaks = |times: &[Micros], i: usize| times.get(i).is_none_or(|t| times[i - 1] != *t);
        // At the end of a loaded piece more rows of the same time may follow.
        while same > 0
            && !(breaks(&new.time, at + same) && first + same < old.len() && breaks(&old.time, first + same))
        {
            same -= 1;
        }
        self.counts.already += same as u64;
        self.emit_old(same)?;
        Ok(same)
    }

    /// Settles the new rows at one time, whose first is `at`, against the old rows at that time; gives
    /// how many there are. The old rows before that time were passed.
    fn one_time(&mut self, new: &Columns, at: usize) -> Result<usize> {
        let time = new.time[at];
        let here = at..at + new.time[at..].partition_point(|&t| t <= time);
        let count = here.len();
        let there = self.old_at(time)?;
        if there.is_empty() {
            self.keep(new, here)?;
            return Ok(count);
        }
        if self.manner.replace {
            self.drop_old(there.len())?;
            self.keep(new, here)?;
            return Ok(count);
        }
        let Some(open) = &self.open else { return Ok(count) };
        let (mut fresh, mut already): (Vec<usize>, u64) = (Vec::new(), 0);
        for i in here {
            match there.clone().any(|o| open.rows.rows().same_values(o, new, i)) {
                true => already += 1,
                false => fresh.push(i),
            }
        }
        self.counts.already += already;
        match (fresh.is_empty(), self.manner.bars, self.manner.prefer_new && already == 0) {
            (true, ..) => self.emit_old(there.len())?,
            // Two quotes at one time are two quotes.
            (false, false, _) => {
                self.emit_old(there.len())?;
                fresh.iter().try_for_each(|&i| self.keep(new, i..i + 1))?;
            }
            (false, true, true) => {
                self.drop_old(there.len())?;
                fresh.iter().try_for_each(|&i| self.keep(new, i..i + 1))?;
            }
            (false, true, false) => {
                self.emit_old(there.len())?;
                self.counts.conflicts += fresh.len() as u64;
                fresh.iter().for_each(|&i| self.conflicts.push_from(new, i));
            }
        }
        Ok(count)
    }

    /// The rows of the open file at a time, all of them loaded.
    fn old_at(&mut self, time: Micros) -> Result<Range<usize>> {
        let Some(open) = &mut self.open else { return Ok(0..0) };
        open.rows.load()?;
        loop {
            let (rows, at) = (open.rows.rows(), open.rows.at());
            let end = at + rows.time[at..].partition_point(|&t| t <= time);
            // At the end of what is loaded more rows of the same time may follow.
            if end < rows.len() || open.rows.is_ended() || !open.rows.load_more()? {
                return Ok(at..end);
            }
        }
    }

    /// Goes over old rows before a time.
    fn pass(&mut self, before: Micros) -> Result<()> {
        loop {
            let Some(open) = &mut self.open else { return Ok(()) };
            if !open.rows.load()? {
                return Ok(());
            }
            let times = &open.rows.rows().time[open.rows.left()];
            let count = times.partition_point(|&t| t < before);
            // Of the old rows before a new one, those since the first new row give way where rows are replaced.
            let from = self.first_new.filter(|_| self.manner.replace && before != Micros::MAX);
            let stay = from.map_or(count, |from| times[..count].partition_point(|&t| t < from));
            let is_whole = count == times.len();
            self.emit_old(stay)?;
            self.drop_old(count - stay)?;
            if !is_whole {
                return Ok(());
            }
        }
    }

    fn open_next(&mut self) -> Result<()> {
        let (Some(file), Some(edition)) = (self.old.pop_front(), &self.edition) else { return Ok(()) };
        let (fields, scale) = (self.draft.fields().to_vec(), self.draft.scale());
        let scan = self.draft.scan_file(&file, edition, Span::ALL);
        let rows: OldRows = Box::new(scan.map(move |piece| Ok(piece?.with_fields(&fields).rescaled(scale))));
        self.open = Some(OldFile { file, rows: Cursor::new(rows), passed: 0, changed: !self.same });
        Ok(())
    }

    /// Old rows that stay: written only where their file changed.
    fn emit_old(&mut self, count: usize) -> Result<()> {
        let Some(open) = &mut self.open else { return Ok(()) };
        if open.changed {
            let at = open.rows.at();
            self.out.append_range(open.rows.rows(), at..at + count);
        }
        open.rows.pass(count);
        open.passed += count as u64;
        self.gather_if_full()
    }

    fn drop_old(&mut self, count: usize) -> Result<()> {
        if count == 0 {
            return Ok(());
        }
        self.change()?;
        self.counts.replaced += count as u64;
        if let Some(open) = &mut self.open {
            open.rows.pass(count);
        }
        Ok(())
    }

    /// New rows that are kept.
    fn keep(&mut self, new: &Columns, range: Range<usize>) -> Result<()> {
        if range.is_empty() {
            return Ok(());
        }
        self.change()?;
        self.counts.kept += range.len() as u64;
        self.gather_range(new, range)
    }

    /// From here on the open file is written anew: first the rows of it that were passed so far.
    fn change(&mut self) -> Result<()> {
        let (Some(open), Some(edition)) = (&mut self.open, &self.edition) else { return Ok(()) };
        if std::mem::replace(&mut open.changed, true) {
            return Ok(());
        }
        let (file, edition) = (open.file.clone(), edition.clone());
        let mut left = open.passed as usize;
        self.gather()?;
        for piece in self.draft.scan_file(&file, &edition, Span::ALL) {
            let mut piece = piece?;
            if left == 0 {
                break;
            }
            piece.truncate(left);
            left -= piece.len();
            self.queue(&Arc::new(piece))?;
        }
        Ok(())
    }

    fn close(&mut self) -> Result<()> {
        if let Some(open) = self.open.take().filter(|o| !o.changed) {
            self.gather()?;
            self.draft.keep(open.file);
        }
        Ok(())
    }

    /// Takes over a file no new row meets.
    fn carry_over(&mut self, file: SegmentInfo) -> Result<()> {
        self.gather()?;
        if self.same {
            self.draft.keep(file);
            return Ok(());
        }
        let Some(edition) = self.edition.clone() else { return Ok(()) };
        for piece in self.draft.scan_file(&file, &edition, Span::ALL) {
            let piece = piece?.with_fields(self.draft.fields()).rescaled(self.draft.scale());
            self.queue(&Arc::new(piece))?;
        }
        Ok(())
    }

    fn gather_range(&mut self, rows: &Columns, range: Range<usize>) -> Result<()> {
        self.out.append_range(rows, range);
        self.gather_if_full()
    }

    fn gather_if_full(&mut self) -> Result<()> {
        if self.out.len() >= GATHER { self.gather() } else { Ok(()) }
    }

    /// Sends the gathered rows to the draft.
    fn gather(&mut self) -> Result<()> {
        if self.out.is_empty() {
            return Ok(());
        }
        let empty = Columns::empty(&self.out.fields, self.out.scale);
        let rows = std::mem::replace(&mut self.out, empty);
        self.queue(&Arc::new(rows))
    }

    fn queue(&mut self, rows: &Arc<Columns>) -> Result<()> {
        self.work.extend(self.draft.queue(rows)?);
        // Old rows may come faster than they are asked for: they are encoded here before they fill the memory.
        if self.work.len() > MOST_WORK {
            for work in std::mem::take(&mut self.work) {
                let encoded = work.group.encode()?;
                self.draft.accept(work.place, encoded)?;
            }
        }
        Ok(())
    }
}
