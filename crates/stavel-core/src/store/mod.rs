//! The shelf: a folder with a catalog (SQLite) and data files (Parquet).
//!
//! A series is a chain of *editions*. An edition names the segments (files) that hold its rows; a
//! segment belongs to one year of bars or one month of ticks and is shared by the editions that did
//! not change it. Files are written in `writing/`, synced and named in one catalog transaction; only
//! then are they moved to where engines and readers look for them (see [`home`]).
//!
//! Nothing is deleted but Stavel's own unfinished files and what [`Shelf::tidy`] was asked to take.
//! Data files that the catalog does not name are set aside in `lost/`; a catalog that is older than
//! the data, or of another shelf, is not written to.

mod about;
mod act;
mod ahead;
mod bring_up;
mod catalog;
mod checked;
mod commit;
mod compact;
mod compare;
mod contracts;
mod cursor;
mod days;
mod descent;
mod draft;
mod drawings;
mod editions;
pub mod fact_kind;
mod facts;
mod feed_pieces;
mod frame_sets;
mod home;
mod levels;
mod lock;
mod marker;
mod opening;
mod partition;
mod rebuild;
mod records;
mod scan;
mod sealed;
mod segment;
mod shared_file;
mod sql;
mod staleness;
mod tables;
mod unnamed;
mod upkeep;

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};

use rusqlite::Connection;

pub use about::{FileAbout, Origin};
pub use act::{Stepped, SteppedAct};
pub use ahead::{ReadAhead, ahead};
pub use checked::CheckMark;
pub use compare::EditionDiff;
pub use cursor::Cursor;
pub use days::RowsByDay;
pub use draft::Draft;
pub use drawings::drawings_in;
pub use editions::{EditionInfo, SegmentFormat, SegmentInfo, SeriesInfo};
pub use facts::{FACT_ID, FACT_WHOLE_DAY, FactFilter, FactsBrought, fact_names_of, own_fact_names};
pub use feed_pieces::{FeedPiece, PieceState};
pub use levels::{LEVELS, Levels};
pub use rebuild::{Rebuilt, rebuild};
pub use records::{InstrumentFact, JournalLine};
pub use scan::{Reader, Scan, ScanFile, read_file};
pub use sealed::SealedDraft;
pub use segment::{Encoded, GROUP_ROWS, Group, SegmentWriter, SharedRows, WrittenFile};
pub use staleness::StaleBecause;
pub use unnamed::{GroupPlace, Work};
pub use upkeep::{Tidied, Verified};

use act::{ChangedThing, SubjectState, record};

use crate::model::Layout;
use crate::model::{Columns, Field, Instrument, Made, Micros, SeriesName, Span};
use crate::{Error, Result};

/// An open shelf. Reading needs nothing else; what changes it needs [`Shelf::open_to_write`].
pub struct Shelf {
    root: PathBuf,
    db: Connection,
    lock: Option<lock::WriterLock>,
    /// The act that changes belong to, and how many acts were begun within one another.
    act: Option<i64>,
    depth: u32,
    /// Files that were set aside when it was opened, relative to its folder.
    pub set_aside: Vec<String>,
}

impl Shelf {
    /// The folder it lives in.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Every series that has a current edition, by name.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn series(&self) -> Result<Vec<SeriesInfo>> {
        editions::all_series(&self.db)
    }

    /// A number that changes with every change of the catalog.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn version(&self) -> Result<i64> {
        catalog::version(&self.db)
    }

    /// One series: the source's own of that name, else the one that was built.
    ///
    /// # Errors
    /// Where it is not there, a sentence that names what the instrument has.
    pub fn find(&self, name: &SeriesName) -> Result<SeriesInfo> {
        if let Some(info) = editions::one_series(&self.db, name)? {
            return Ok(info);
        }
        let there: Vec<String> = self
            .series()?
            .iter()
            .filter(|s| s.name.instrument == name.instrument)
            .map(|s| s.name.to_string())
            .collect();
        Err(Error::input(if there.is_empty() {
            format!(
                "The shelf has no {name} and nothing of {}; take it in first (stavel intake).",
                name.instrument
            )
        } else {
            format!("The shelf has no {name}; it has {}.", there.join(", "))
        }))
    }

    /// A series' current edition, or none.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn current(&self, name: &SeriesName) -> Result<Option<SeriesInfo>> {
        editions::one_series(&self.db, name)
    }

    /// The current edition of what a source itself says, never of bars that were built; or none.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn current_own(&self, name: &SeriesName) -> Result<Option<SeriesInfo>> {
        editions::exactly(&self.db, name, false)
    }

    /// The current edition of bars that were built, or none.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn current_built(&self, name: &SeriesName) -> Result<Option<SeriesInfo>> {
        editions::exactly(&self.db, name, true)
    }

    /// All editions of a series, newest first.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn editions(&self, name: &SeriesName) -> Result<Vec<EditionInfo>> {
        let id = match self.current(name)? {
            Some(info) => Some(info.id),
            None => editions::series_id(&self.db, name, name.built)?,
        };
        id.map_or(Ok(Vec::new()), |id| editions::editions(&self.db, id))
    }

    /// An edition by its id, if it was not tidied away.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn edition(&self, id: i64) -> Result<Option<EditionInfo>> {
        Ok(editions::edition(&self.db, id)?.map(|found| found.1))
    }

    /// Every instrument, by name.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn instruments(&self) -> Result<Vec<Instrument>> {
        records::instruments(&self.db)
    }

    /// One instrument with its values resolved.
    ///
    /// # Errors
    /// Where there is none of that name.
    pub fn instrument(&self, name: &str) -> Result<Instrument> {
        records::instrument(&self.db, name)?.ok_or_else(|| {
            Error::input(format!("The shelf has no instrument {name}; stavel shelf lists them."))
        })
    }

    /// When each value that an instrument owns was said or found last, UTC; values from before the catalog kept its
    /// changes have no date.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn value_dates(&self, instrument: &str) -> Result<BTreeMap<String, Micros>> {
        act::value_dates(&self.db, instrument)
    }

    /// Makes an instrument with default values where there is none of that name.
    ///
    /// # Errors
    /// Where the name cannot be one, or the catalog cannot be written.
    pub fn ensure_instrument(&mut self, name: &str) -> Result<Instrument> {
        match records::instrument(&self.db, name)? {
            Some(found) => Ok(found),
            None => self.put_instrument(name, &Default::default()),
        }
    }

    /// Rows of an edition piece by piece, in order; only `fields` are read (all where none are given).
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn scan(&self, edition: &EditionInfo, span: Span, fields: Option<&[Field]>) -> Result<Scan> {
        Ok(self.reader(edition)?.scan(span, fields))
    }

    /// Where a segment lies now, from the shelf's folder.
    pub fn path_within(&self, segment: &SegmentInfo) -> String {
        let place = home::place_of(&self.root, &segment.path);
        place.strip_prefix(&self.root).unwrap_or(&place).to_string_lossy().replace('\\', "/")
    }

    /// Copies the catalog, whole and in one piece, into a file that is not there yet.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn copy_catalog(&self, to: &Path) -> Result<()> {
        self.db.execute("VACUUM INTO ?1", [to.to_string_lossy()])?;
        Ok(())
    }

    /// What tells this shelf from every other.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn id(&self) -> Result<String> {
        catalog::shelf_id(&self.db)
    }

    /// An edition to be read from any thread.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn reader(&self, edition: &EditionInfo) -> Result<Reader> {
        Ok(Reader::new(&self.root, editions::segments(&self.db, edition.id)?, edition))
    }

    /// All rows of an edition within a span, in one piece.
    ///
    /// # Errors
    /// Where a file cannot be read.
    pub fn read(&self, edition: &EditionInfo, span: Span) -> Result<Columns> {
        let mut all = Columns::empty(&edition.fields, edition.scale);
        for piece in self.scan(edition, span, None)? {
            all.append(&piece?);
        }
        Ok(all)
    }

    /// True where the shelf has an instrument of that name.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn has_instrument(&self, name: &str) -> Result<bool> {
        records::has_instrument(&self.db, name)
    }

    /// The number the next edition of a source's own series gets.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn next_edition(&self, name: &SeriesName) -> Result<i64> {
        editions::next_number(&self.db, name, false)
    }

    /// What of an edition lies before a moment: the files that do as a whole, and the rows of the file after them.
    ///
    /// # Errors
    /// Where the catalog or the file cannot be read.
    pub fn rows_before(&self, edition: &EditionInfo, until: Micros) -> Result<(Vec<SegmentInfo>, Columns)> {
        let files = self.segments(edition)?;
        let whole: Vec<SegmentInfo> = files.into_iter().take_while(|file| file.last < until).collect();
        let after = whole.last().map_or(Micros::MIN, |file| file.last + 1);
        let rest = self.read(edition, Span::new(after, until))?;
        Ok((whole, rest))
    }

    /// The files of an edition, in order of time.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn segments(&self, edition: &EditionInfo) -> Result<Vec<SegmentInfo>> {
        editions::segments(&self.db, edition.id)
    }

    /// Begins a new edition of a series. What is taken in, joined or composed is the source's own; what is
    /// framed is built and kept apart from it; a mend or a clock stays with the series it is of.
    ///
    /// # Errors
    /// Where a file cannot be made.
    pub fn draft(&mut self, name: &SeriesName, origin: Origin) -> Result<Draft<'_>> {
        self.must_write()?;
        Draft::begin(self, name, origin)
    }

    /// Keeps what a check of a whole edition found, with what it rests on beside the rows. Where the catalog cannot be
    /// written it is not kept: that is no reason to fail a check.
    pub fn keep_check(&self, edition: i64, basis: &str, mark: CheckMark) {
        let _ = checked::keep(&self.db, edition, basis, mark);
    }

    /// What checks of whole editions found, by edition, each with what it rested on.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn kept_checks(&self) -> Result<HashMap<i64, (String, CheckMark)>> {
        checked::kept(&self.db)
    }

    /// The saved layouts, by name.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn layouts(&self) -> Result<Vec<Layout>> {
        records::layouts(&self.db)?
            .into_iter()
            .map(|(name, text)| {
                let layout = Layout::from_toml(&text).map_err(|e| {
                    Error::storage(format!("The saved layout {name} cannot be read ({e}); save it again."))
                })?;
                Ok(Layout { name: Some(name), ..layout })
            })
            .collect()
    }

    /// Saves a layout under a name; one of that name is replaced.
    ///
    /// # Errors
    /// Where the name is none.
    pub fn save_layout(&mut self, name: &str, layout: &Layout) -> Result<()> {
        self.must_write()?;
        crate::model::series::check_name("layout", name)?;
        let act = self.act_id()?;
        let before =
            records::layouts(&self.db)?.into_iter().find(|l| l.0 == name).map(|l| SubjectState::Layout(l.1));
        let text = layout.to_toml();
        let tx = self.db.transaction()?;
        records::put_layout(&tx, name, &text)?;
        record(
            &tx,
            act,
            &ChangedThing::Layout(name.to_owned()),
            before.as_ref(),
            Some(&SubjectState::Layout(text)),
        )?;
        Ok(tx.commit()?)
    }

    /// Takes a saved layout away; undo brings it back.
    ///
    /// # Errors
    /// Where none of that name is saved.
    pub fn remove_layout(&mut self, name: &str) -> Result<()> {
        self.must_write()?;
        let act = self.act_id()?;
        let before = records::layouts(&self.db)?.into_iter().find(|l| l.0 == name);
        let (_, text) = before.ok_or_else(|| {
            Error::arguments(format!("No layout {name} is saved; stavel layout list names those that are."))
        })?;
        let tx = self.db.transaction()?;
        records::remove_layout(&tx, name)?;
        record(&tx, act, &ChangedThing::Layout(name.to_owned()), Some(&SubjectState::Layout(text)), None)?;
        Ok(tx.commit()?)
    }

    /// The series of one instrument.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn series_of(&self, instrument: &str) -> Result<Vec<SeriesInfo>> {
        editions::series_of_instrument(&self.db, instrument)
    }

    /// The latest lines of the journal, newest first.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn journal(&self, lines: usize) -> Result<Vec<JournalLine>> {
        records::journal(&self.db, lines)
    }

    /// Writes a line into the journal that is no act.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn note(&mut self, series: &str, step: &str, text: &str) -> Result<()> {
        self.must_write()?;
        sql::journal_line(&self.db, series, step, text).map(drop)
    }

    /// What a step with this key gave when it was done before.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn done_before(&self, key: &str) -> Result<Option<String>> {
        records::done_before(&self.db, key)
    }

    /// Remembers what a step gave.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn remember_done(&mut self, key: &str, report: &str) -> Result<()> {
        self.must_write()?;
        records::remember_done(&self.db, key, report)
    }

    pub(crate) fn must_write(&self) -> Result<()> {
        match self.lock {
            Some(_) => Ok(()),
            None => Err(Error::storage("The shelf was opened to read only.")),
        }
    }

    /// The name under which a new edition of a series is stored.
    fn stored_name_for(&self, name: &SeriesName, made: &Made) -> Result<SeriesName> {
        match made {
            Made::Frames(_) | Made::Rebuild(_) => Ok(name.with_built(true)),
            Made::Check(_) | Made::Align(_) => match self.current(name)? {
                Some(info) => editions::stored_name(&self.db, info.id),
                None => Ok(name.clone()),
            },
            Made::Intake(_) | Made::Splice(_) | Made::Unknown => Ok(name.with_built(false)),
            Made::Compose(_) | Made::Formula(_) | Made::Chain(_) => Ok(name.with_built(false)),
        }
    }

    /// The name by which people know a series of the shelf.
    fn short_name(&self, series: i64) -> Result<Option<SeriesName>> {
        let stored = editions::stored_name(&self.db, series)?;
        let of_it = self.series_of(&stored.instrument)?.into_iter().find(|s| s.id == series);
        Ok(of_it.map(|s| s.name))
    }

    /// A series that was just committed.
    fn current_by_id(&self, series: i64, stored: &SeriesName) -> Result<SeriesInfo> {
        let of_it = self.series_of(&stored.instrument)?.into_iter().find(|s| s.id == series);
        of_it.ok_or_else(|| Error::storage(format!("{stored} is not on the shelf after it was written.")))
    }
}

#[cfg(test)]
mod tests;
