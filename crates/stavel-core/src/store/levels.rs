//! Levels: longer bars of each large data file, kept beside it, so that a picture of years does not read all its rows.
//!
//! They lie in `levels/`, one file a length, named by the hash of the data file they were made of. So editions that
//! share a file share its levels, and one that was undone finds them again. They are made while the data file is
//! written, take at most a twentieth of its bytes, and can be made anew at any time: [`Shelf::tidy`] takes those away
//! whose data file is gone.
//!
//! A bar of a level begins at a whole multiple of its length in UTC (on the written wall while the clock is not known).
//! Where two data files meet within a bar, each has its part of it.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use super::editions::SegmentInfo;
use super::scan::ScanFile;
use super::segment::{SegmentWriter, SharedRows, WrittenFile};
use super::{EditionInfo, SeriesInfo, Shelf, editions};
use crate::bars::{Builder, can_build};
use crate::job::Job;
use crate::model::time::MINUTE;
use crate::model::{Columns, Field, Frame, Micros, Scale, Session, Side, Span};
use crate::{Error, Result};

/// The folder of levels in a shelf.
pub const LEVELS: &str = "levels";

/// The lengths of bars that levels have, in minutes, from long to short.
const LENGTHS: [u16; 4] = [60, 15, 5, 1];

/// A data file with fewer rows is read itself.
const FEW_ROWS: u64 = 20_000;

/// The part of the bytes of a data file that its levels take at most: one in so many.
const PART: u64 = 20;

/// Rows in a row group of a level: a chart of a few hundred bars reads one or two.
const GROUP: usize = 8 * 1024;

fn frame_of(minutes: u16) -> Frame {
    Frame::of_length(Micros::from(minutes) * MINUTE).unwrap_or(Frame::M1)
}

/// The bars that rows of a frame have as their shortest level; none where they have no levels.
fn shortest_of(rows: Frame) -> Option<Frame> {
    if !rows.is_ticks() && !rows.is_bars() {
        return None;
    }
    LENGTHS.iter().rev().map(|minutes| frame_of(*minutes)).find(|level| can_build(rows, *level))
}

/// Makes the levels of a data file out of its rows, which come in order.
pub(super) struct LevelMaker {
    builder: Builder,
    frame: Frame,
    rows: u64,
}

/// Where the levels of a data file go.
pub(super) struct LevelFiles<'a> {
    pub root: &'a Path,
    /// Of the data file.
    pub hash: &'a str,
    /// Length of the data file.
    pub bytes: u64,
    pub is_anchored: bool,
}

impl LevelMaker {
    /// For rows of a frame; none where these have no levels.
    pub fn of(rows: Frame, fields: &[Field], scale: Scale) -> Option<LevelMaker> {
        let frame = shortest_of(rows)?;
        let builder = Builder::new(rows, frame, Side::Bid, fields, scale, &Session::always()).ok()?;
        // How many ticks and the first spread tell longer bars how to weigh the mean spreads.
        Some(LevelMaker { builder: builder.with_details(fields), frame, rows: 0 })
    }

    pub fn push(&mut self, rows: &SharedRows) {
        self.rows += rows.range.len() as u64;
        self.builder.push_range(&rows.rows, rows.range.clone());
    }

    /// The bars of its shortest level.
    fn finish(self) -> Columns {
        let bars = self.builder.finish().bars;
        let kept = fields_kept(&bars.fields);
        bars.with_fields(&kept)
    }

    /// The same; where they cannot be written the data file is as good without them, so it is only noted.
    pub fn write_or_tell(self, files: &LevelFiles<'_>) {
        if let Err(error) = self.write(files) {
            tracing::warn!(hash = files.hash, %error, "levels not written");
        }
    }

    /// Writes at most two levels, as far as there is room: one whose bars are a quarter of an hour or an hour, for pictures of
    /// years, then one of shorter bars, for pictures of days.
    ///
    /// # Errors
    /// Where a file cannot be written.
    fn write(self, files: &LevelFiles<'_>) -> Result<()> {
        if self.rows < FEW_ROWS {
            return Ok(());
        }
        let (shortest, room) = (self.frame, files.bytes / PART);
        let bars = self.finish();
        let of =
            |frame: Frame| if frame == shortest { Ok(bars.clone()) } else { longer(&bars, shortest, frame) };
        let frames: Vec<Frame> =
            LENGTHS.iter().map(|m| frame_of(*m)).filter(|f| f.length() >= shortest.length()).collect();
        let is_long = |frame: &&Frame| frame.length() >= 15 * MINUTE;
        let mut used = 0;
        // Of each the shortest bars that fit. Rows that are bars themselves serve for days, so the one for years has all the
        // room then.
        let for_years = if shortest == Frame::M1 { room / 2 } else { room };
        for (kind, room) in [(true, for_years), (false, room)] {
            for frame in frames.iter().rev().filter(|frame| is_long(frame) == kind) {
                let taken = files.write(*frame, &of(*frame)?, room.saturating_sub(used))?;
                used += taken.unwrap_or(0);
                if taken.is_some() {
                    break;
                }
            }
        }
        Ok(())
    }
}

/// What of the fields of bars a level keeps.
fn fields_kept(fields: &[Field]) -> Vec<Field> {
    use Field::{AskVolume, BidVolume, SpreadHigh, SpreadLow};
    let left_out = [BidVolume, AskVolume, SpreadHigh, SpreadLow];
    fields.iter().copied().filter(|field| !left_out.contains(field)).collect()
}

fn longer(bars: &Columns, from: Frame, to: Frame) -> Result<Columns> {
    let mut builder = Builder::new(from, to, Side::Bid, &bars.fields, bars.scale, &Session::always())?
        .with_details(&bars.fields);
    builder.push(bars);
    let longer = builder.finish().bars;
    let kept = fields_kept(&longer.fields);
    Ok(longer.with_fields(&kept))
}

impl<'a> LevelFiles<'a> {
    /// Of a data file that was just written.
    pub fn of(root: &'a Path, written: &'a WrittenFile, is_anchored: bool) -> LevelFiles<'a> {
        LevelFiles { root, hash: &written.hash, bytes: written.bytes, is_anchored }
    }

    /// Writes one level; gives its bytes, none where it would take more than there is room for.
    fn write(&self, frame: Frame, bars: &Columns, room: u64) -> Result<Option<u64>> {
        // No bar takes less than a few bytes: what cannot fit is not encoded.
        if 4 * bars.len() as u64 > room {
            return Ok(None);
        }
        let path = path_of(self.root, self.hash, frame);
        let unfinished = path.with_extension(format!("{}.tmp", std::process::id()));
        let mut writer = SegmentWriter::create(&unfinished, &bars.fields, bars.scale, self.is_anchored)?
            .with_group_rows(GROUP);
        writer.push(bars.clone())?;
        let ended = writer.end()?;
        if ended.about.bytes > room {
            let _ = std::fs::remove_file(&unfinished);
            return Ok(None);
        }
        Ok(Some(ended.settle(&path)?.bytes))
    }
}

fn path_of(root: &Path, hash: &str, frame: Frame) -> PathBuf {
    root.join(LEVELS).join(name_of(hash, frame))
}

fn name_of(hash: &str, frame: Frame) -> String {
    format!("{hash}-{frame}.parquet")
}

/// The levels of an edition.
#[derive(Debug, Clone)]
pub struct Levels {
    root: PathBuf,
    rows: Frame,
    edition: EditionInfo,
    files: Vec<LevelledFile>,
}

/// A data file and the bars that are kept of it.
#[derive(Debug, Clone)]
struct LevelledFile {
    segment: SegmentInfo,
    frames: Vec<Frame>,
}

impl Shelf {
    /// The levels that are kept of a series' edition.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn levels(&self, series: &SeriesInfo) -> Result<Levels> {
        let there = names_there(&self.root);
        let files = editions::segments(&self.db, series.edition.id)?.into_iter().map(|segment| {
            let frames = frames_of(&there, &segment);
            LevelledFile { segment, frames }
        });
        let (root, edition) = (self.root.clone(), series.edition.clone());
        Ok(Levels { root, rows: series.name.frame, edition, files: files.collect() })
    }

    /// Removes the levels of data files that the catalog does not know any more, and what was never finished.
    pub(super) fn sweep_levels(&self) -> Result<()> {
        let segments = editions::all_segments(&self.db, None)?;
        let hashes: HashSet<String> = segments.into_iter().filter_map(|segment| segment.hash).collect();
        for name in names_there(&self.root) {
            let Some((hash, rest)) = name.split_once('-') else { continue };
            let is_ours = hash.len() == 32 && (rest.ends_with(".parquet") || rest.ends_with(".tmp"));
            if is_ours && (!hashes.contains(hash) || rest.ends_with(".tmp")) {
                let _ = std::fs::remove_file(self.root.join(LEVELS).join(name));
            }
        }
        Ok(())
    }
}

/// The names of all levels of a shelf.
fn names_there(root: &Path) -> HashSet<String> {
    let entries = std::fs::read_dir(root.join(LEVELS)).into_iter().flatten().flatten();
    entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect()
}

/// The levels there are of a data file, from long to short.
fn frames_of(there: &HashSet<String>, segment: &SegmentInfo) -> Vec<Frame> {
    let Some(hash) = segment.hash.as_deref().filter(|_| segment.rows >= FEW_ROWS) else { return Vec::new() };
    LENGTHS.iter().map(|m| frame_of(*m)).filter(|frame| there.contains(&name_of(hash, *frame))).collect()
}

impl Levels {
    /// The bars of levels that longer bars in a span are made of with the least reading; none where the rows themselves
    /// are read as fast, or where a session day begins within a bar of every level.
    pub fn best_for(&self, frame: Frame, session: &Session, span: Span) -> Option<Frame> {
        let span = Span::new(self.edition.first, self.edition.last + 1).overlap(&span)?;
        let rows: f64 = self.files.iter().map(|file| file.rows_in(span)).sum();
        let fits = |level: &Frame| can_build(*level, frame) && session.is_on_grid(level.length(), span);
        LENGTHS
            .iter()
            .map(|minutes| frame_of(*minutes))
            .filter(|level| can_build(self.rows, *level) && fits(level))
            .map(|level| (level, self.files.iter().map(|file| file.bars_in(level, span)).sum::<f64>()))
            .filter(|(_, bars)| *bars < rows)
            .min_by(|a, b| a.1.total_cmp(&b.1))
            .map(|(level, _)| level)
    }

    /// The longest level that longer bars in a span can be made of, whether it is kept of all files or not; none where a
    /// session day begins within a bar of every level.
    pub fn longest_for(&self, frame: Frame, session: &Session, span: Span) -> Option<Frame> {
        let fits = |level: &Frame| {
            can_build(self.rows, *level)
                && can_build(*level, frame)
                && session.is_on_grid(level.length(), span)
                && self
                    .files
                    .iter()
                    .any(|file| file.frames.iter().any(|kept| kept.length() <= level.length()))
        };
        let kept = LENGTHS.iter().map(|minutes| frame_of(*minutes)).find(fits);
        // What no file has a level of is made of the rows, in bars that are short enough for every day.
        kept.or_else(|| shortest_of(self.rows).filter(|level| session.is_on_grid(level.length(), span)))
    }

    /// Bars of a level in a span, in order of time; two have the same time where data files meet within a bar. The first
    /// is whole, also where the span begins within it. The last has only the rows before the end of the span.
    ///
    /// # Errors
    /// Where a file cannot be read, or the person stops it.
    pub fn bars(&self, level: Frame, span: Span, job: &Job) -> Result<Columns> {
        let (whole, cut) = self.whole_and_cut(level, span);
        let mut all = self.maker()?.finish();
        let like = all.clone();
        for file in self.files_in(whole) {
            let kept = file.frames.iter().copied().find(|kept| *kept == level || can_build(*kept, level));
            let bars = match (kept, file.segment.hash.as_deref()) {
                // One that is damaged is as good as none: the rows are there.
                (Some(kept), Some(hash)) => {
                    let bars = self.kept_bars(hash, kept, level, &like, whole);
                    bars.or_else(|_| self.made_bars(file, level, whole, job))?
                }
                _ => self.made_bars(file, level, whole, job)?,
            };
            job.advance(file.rows_in(whole) as u64)?;
            all.append(&bars);
        }
        all.append(&self.bars_of_rows(level, cut, job)?);
        Ok(all)
    }

    /// The part of a span that bars of a level fill, from the beginning of the first; and what is left behind it of a bar
    /// that the span ends in. Behind the last row there is nothing to be left out.
    pub fn whole_and_cut(&self, level: Frame, span: Span) -> (Span, Span) {
        let begin = |t: Micros| t.div_euclid(level.length()) * level.length();
        let cut = if span.to > self.edition.last { span.to } else { begin(span.to) };
        (Span::new(begin(span.from), cut), Span::new(cut, span.to))
    }

    /// Bars of a level out of the rows of a span themselves.
    ///
    /// # Errors
    /// Where a file cannot be read, or the person stops it.
    pub fn bars_of_rows(&self, level: Frame, span: Span, job: &Job) -> Result<Columns> {
        let mut all = self.maker()?.finish();
        for file in self.files_in(span) {
            all.append(&self.made_bars(file, level, span, job)?);
        }
        Ok(all)
    }

    fn files_in(&self, span: Span) -> impl Iterator<Item = &LevelledFile> {
        self.files.iter().filter(move |file| file.segment.last >= span.from && file.segment.first < span.to)
    }

    fn kept_bars(
        &self,
        hash: &str,
        kept: Frame,
        level: Frame,
        like: &Columns,
        span: Span,
    ) -> Result<Columns> {
        let mut bars = Columns::empty(&like.fields, like.scale);
        for piece in ScanFile::open(&path_of(&self.root, hash, kept), &like.fields, like.scale, span)? {
            bars.append(&piece?);
        }
        if kept == level { Ok(bars) } else { longer(&bars, kept, level) }
    }

    /// Bars of a level out of the rows of a data file.
    fn made_bars(&self, file: &LevelledFile, level: Frame, span: Span, job: &Job) -> Result<Columns> {
        let mut maker = self.maker()?;
        let (edition, shortest) = (&self.edition, maker.frame);
        for piece in ScanFile::of_shelf(&self.root, &file.segment, &edition.fields, edition.scale, span)? {
            job.advance(0)?;
            maker.builder.push(&piece?);
        }
        let bars = maker.finish();
        if shortest == level { Ok(bars) } else { longer(&bars, shortest, level) }
    }

    fn maker(&self) -> Result<LevelMaker> {
        LevelMaker::of(self.rows, &self.edition.fields, self.edition.scale)
            .ok_or_else(|| Error::input("Rows of this kind have no longer bars."))
    }

    /// Makes the levels of data files that have none, as those of an earlier version; where they cannot be written,
    /// they are not kept.
    ///
    /// # Errors
    /// Where rows cannot be read, or the person stops it.
    pub fn make_missing(&mut self, job: &Job) -> Result<()> {
        if shortest_of(self.rows).is_none() {
            return Ok(());
        }
        for at in 0..self.files.len() {
            let segment = self.files[at].segment.clone();
            let Some(hash) = segment.hash.as_deref() else { continue };
            if segment.rows < FEW_ROWS || !self.files[at].frames.is_empty() {
                continue;
            }
            let mut maker = self.maker()?;
            let edition = &self.edition;
            for piece in ScanFile::of_shelf(&self.root, &segment, &edition.fields, edition.scale, Span::ALL)?
            {
                let piece = piece?;
                job.advance(piece.len() as u64)?;
                let range = 0..piece.len();
                maker.push(&SharedRows { rows: piece.into(), range });
            }
            let is_anchored = edition.clock.is_some();
            let files = LevelFiles { root: &self.root, hash, bytes: segment.bytes, is_anchored };
            maker.write_or_tell(&files);
            self.files[at].frames = frames_of(&names_there(&self.root), &segment);
        }
        Ok(())
    }

    /// The bytes that its levels take.
    pub fn bytes(&self) -> u64 {
        let of = |file: &LevelledFile| {
            let hash = file.segment.hash.clone().unwrap_or_default();
            let size = |frame: &Frame| {
                std::fs::metadata(path_of(&self.root, &hash, *frame)).map_or(0, |about| about.len())
            };
            file.frames.iter().map(size).sum::<u64>()
        };
        self.files.iter().map(of).sum()
    }
}

impl LevelledFile {
    /// Its rows in a span, as if they were evenly spread.
    fn rows_in(&self, span: Span) -> f64 {
        let whole = Span::new(self.segment.first, self.segment.last + 1);
        let inside = whole.overlap(&span).map_or(0, |part| part.length());
        self.segment.rows as f64 * inside as f64 / whole.length().max(1) as f64
    }

    /// How many bars, or rows, are read of it for bars of a level in a span.
    fn bars_in(&self, level: Frame, span: Span) -> f64 {
        let whole = Span::new(self.segment.first, self.segment.last + 1);
        let inside = whole.overlap(&span).map_or(0, |part| part.length());
        match self.frames.iter().find(|kept| **kept == level || can_build(**kept, level)) {
            Some(kept) => (inside as f64 / kept.length() as f64).min(self.rows_in(span)),
            None => self.rows_in(span),
        }
    }
}
