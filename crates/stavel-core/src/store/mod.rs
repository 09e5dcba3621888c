//! The shelf: a folder with a catalog (SQLite) and data files (Parquet).
//!
//! A series is a chain of *editions*. An edition names the segments (files) that hold its rows; a
//! segment belongs to one year of bars or one month of ticks and is shared by the editions that did
//! not change it. Files are written under a temporary name, synced, renamed, and only then named in
//! one catalog transaction; whatever no edition names is swept when the next writer opens the shelf.
//!
//! `data/` holds the files of current editions only, so that any engine can query it as it is; the
//! files of older editions wait in `past/` for an undo.

mod ahead;
mod catalog;
mod compare;
mod days;
mod draft;
mod lock;
mod records;
mod scan;
mod segment;
mod upkeep;

use std::path::{Path, PathBuf};

use rusqlite::Connection;

pub use ahead::{Ahead, ahead};
pub use catalog::{EditionInfo, SegmentInfo, SeriesInfo};
pub use compare::Compared;
pub use days::Days;
pub use draft::{Draft, Origin, Place, Work};
pub use records::{Fact, JournalLine};
pub use scan::{Reader, Scan, ScanFile, read_file};
pub use segment::{Encoded, GROUP_ROWS, Group, Piece, SegmentWriter, Written};
pub use upkeep::{Tidied, Verified};

use crate::intake::Layout;
use crate::model::{Columns, Field, Instrument, SeriesName, Span};
use crate::{Error, Result};

/// An open shelf. Reading needs nothing else; what changes it needs [`Shelf::open_to_write`].
pub struct Shelf {
    root: PathBuf,
    db: Connection,
    lock: Option<lock::WriterLock>,
}

impl Shelf {
    /// Opens a shelf to read; an empty one is made where there is none.
    ///
    /// # Errors
    /// Fails where the folder cannot be used or a newer version wrote the catalog.
    pub fn open(root: &Path) -> Result<Shelf> {
        std::fs::create_dir_all(root.join("data"))
            .map_err(|e| Error::io("Cannot make the shelf", root, &e))?;
        let db = catalog::open(&root.join("catalog.db"))?;
        Ok(Shelf { root: root.to_owned(), db, lock: None })
    }

    /// Opens a shelf to change it: takes the writer's lock and sweeps what no edition names.
    ///
    /// # Errors
    /// Also fails, as [`Error::is_locked`], while another writer holds the shelf.
    pub fn open_to_write(root: &Path) -> Result<Shelf> {
        let mut shelf = Shelf::open(root)?;
        shelf.lock = Some(lock::WriterLock::take(root)?);
        shelf.sweep()?;
        Ok(shelf)
    }

    /// The folder it lives in.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Every series that has a current edition, by name.
    pub fn series(&self) -> Result<Vec<SeriesInfo>> {
        catalog::all_series(&self.db)
    }

    /// A number that grows with every change of the catalog.
    pub fn version(&self) -> Result<i64> {
        catalog::version(&self.db)
    }

    /// One series.
    ///
    /// # Errors
    /// Where it is not there, a sentence that names what the instrument has.
    pub fn find(&self, name: &SeriesName) -> Result<SeriesInfo> {
        if let Some(info) = catalog::one_series(&self.db, name)? {
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
    pub fn current(&self, name: &SeriesName) -> Result<Option<SeriesInfo>> {
        catalog::one_series(&self.db, name)
    }

    /// All editions of a series, newest first.
    pub fn editions(&self, name: &SeriesName) -> Result<Vec<EditionInfo>> {
        catalog::editions(&self.db, name)
    }

    /// Every instrument, by name.
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

    /// Writes an instrument's own values and what it is like.
    ///
    /// # Errors
    /// Where a value makes no sense or what it is like is not there.
    pub fn put_instrument(
        &mut self,
        name: &str,
        like: Option<&str>,
        own: &std::collections::BTreeMap<String, String>,
    ) -> Result<Instrument> {
        self.must_write()?;
        crate::model::series::check_name("instrument", name)?;
        records::put_instrument(&self.db, name, like, own)
    }

    /// Makes an instrument with default values where there is none of that name.
    pub fn ensure_instrument(&mut self, name: &str) -> Result<Instrument> {
        match records::instrument(&self.db, name)? {
            Some(found) => Ok(found),
            None => self.put_instrument(name, None, &Default::default()),
        }
    }

    /// Rows of an edition piece by piece, in order; only `fields` are read (all where none are given).
    pub fn scan(&self, edition: &EditionInfo, span: Span, fields: Option<&[Field]>) -> Result<Scan> {
        Ok(self.reader(edition)?.scan(span, fields))
    }

    /// An edition to be read from any thread.
    pub fn reader(&self, edition: &EditionInfo) -> Result<Reader> {
        Ok(Reader::new(&self.root, catalog::segments(&self.db, edition.id)?, edition))
    }

    /// All rows of an edition within a span, in one piece.
    pub fn read(&self, edition: &EditionInfo, span: Span) -> Result<Columns> {
        let mut all = Columns::empty(&edition.fields, edition.scale);
        for piece in self.scan(edition, span, None)? {
            all.append(&piece?);
        }
        Ok(all)
    }

    /// True where the shelf has an instrument of that name.
    pub fn has_instrument(&self, name: &str) -> Result<bool> {
        records::has_instrument(&self.db, name)
    }

    /// Adds the SHA-256 of a file to what an edition says of the files it was made from.
    pub fn add_fingerprint(
        &mut self,
        name: &SeriesName,
        edition: i64,
        path: &Path,
        sha256: &str,
    ) -> Result<()> {
        self.must_write()?;
        catalog::add_fingerprint(&self.db, name, edition, &path.display().to_string(), sha256)
    }

    /// The number the next edition of a series gets.
    pub fn next_edition(&self, name: &SeriesName) -> Result<i64> {
        catalog::next_edition(&self.db, name)
    }

    /// The files of an edition, in order of time.
    pub fn segments(&self, edition: &EditionInfo) -> Result<Vec<SegmentInfo>> {
        catalog::segments(&self.db, edition.id)
    }

    /// Begins a new edition of a series.
    pub fn draft(&mut self, name: &SeriesName, origin: Origin) -> Result<Draft<'_>> {
        self.must_write()?;
        Draft::begin(self, name, origin)
    }

    /// Goes back to the edition before; a first edition's undo takes the series off the shelf, and a removed
    /// series comes back.
    ///
    /// # Errors
    /// Where there is no such series.
    pub fn undo(&mut self, name: &SeriesName) -> Result<Option<EditionInfo>> {
        self.must_write()?;
        let id = match (self.current(name)?, catalog::removed_series(&self.db, name)?) {
            (None, Some(id)) => {
                catalog::set_removed(&self.db, id, false)?;
                id
            }
            _ => {
                let info = self.find(name)?;
                catalog::set_current(&mut self.db, info.id, info.edition.before)?;
                info.id
            }
        };
        self.settle(id)?;
        Ok(self.current(name)?.map(|s| s.edition))
    }

    /// The saved layouts, by name.
    pub fn layouts(&self) -> Result<Vec<Layout>> {
        let all = records::layouts(&self.db)?.into_iter();
        // A layout that a newer Stavel wrote and this one cannot read is passed over.
        Ok(all
            .filter_map(|(name, text)| Some(Layout { name: Some(name), ..Layout::from_toml(&text).ok()? }))
            .collect())
    }

    /// Saves a layout under a name; one of that name is replaced.
    ///
    /// # Errors
    /// Where the name is none.
    pub fn save_layout(&mut self, name: &str, layout: &Layout) -> Result<()> {
        self.must_write()?;
        crate::model::series::check_name("layout", name)?;
        records::put_layout(&self.db, name, &layout.to_toml())
    }

    /// Adds dated facts of an instrument; gives the number of those that were not there before.
    pub fn put_facts(&mut self, instrument: &str, facts: &[Fact]) -> Result<u64> {
        self.must_write()?;
        self.ensure_instrument(instrument)?;
        records::put_facts(&mut self.db, instrument, facts)
    }

    /// The dated facts of an instrument, in order of time.
    pub fn facts(&self, instrument: &str) -> Result<Vec<Fact>> {
        records::facts(&self.db, instrument)
    }

    /// The series of one instrument.
    pub fn series_of(&self, instrument: &str) -> Result<Vec<SeriesInfo>> {
        catalog::series_of_instrument(&self.db, instrument)
    }

    /// The latest lines of the journal, newest first.
    pub fn journal(&self, lines: usize) -> Result<Vec<JournalLine>> {
        records::journal(&self.db, lines)
    }

    /// Writes a line into the journal.
    pub fn note(&mut self, series: &str, step: &str, text: &str) -> Result<()> {
        self.must_write()?;
        records::note(&self.db, series, step, text)
    }

    /// What a step with this key gave when it was done before.
    pub fn done_before(&self, key: &str) -> Result<Option<String>> {
        records::done_before(&self.db, key)
    }

    /// Remembers what a step gave.
    pub fn remember_done(&mut self, key: &str, report: &str) -> Result<()> {
        self.must_write()?;
        records::remember_done(&self.db, key, report)
    }

    fn must_write(&self) -> Result<()> {
        match self.lock {
            Some(_) => Ok(()),
            None => Err(Error::storage("The shelf was opened to read only.")),
        }
    }

    /// Puts the files of the current edition into `data/` and the others of the series into `past/`.
    fn settle(&self, series: i64) -> Result<()> {
        let files = catalog::homes(&self.db, series)?;
        files.iter().try_for_each(|(path, is_current)| self.bring_home(path, *is_current))
    }

    fn bring_home(&self, path: &str, is_current: bool) -> Result<()> {
        let (data, past) = (self.root.join("data").join(path), self.root.join("past").join(path));
        let (from, to) = if is_current { (past, data) } else { (data, past) };
        if from.exists() {
            if let Some(folder) = to.parent() {
                std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
            }
            std::fs::rename(&from, &to).map_err(|e| Error::io("Cannot move", &from, &e))?;
            remove_empty_folders(&from, &self.root);
        }
        Ok(())
    }

    /// Removes files that no edition names and finishes moves that were cut short.
    fn sweep(&self) -> Result<()> {
        for entry in std::fs::read_dir(&self.root).into_iter().flatten().flatten() {
            if entry.file_name().to_string_lossy().starts_with("sorting-") {
                std::fs::remove_dir_all(entry.path())
                    .map_err(|e| Error::io("Cannot remove", &entry.path(), &e))?;
            }
        }
        let named = catalog::all_homes(&self.db)?;
        for (is_data, home) in [(true, "data"), (false, "past")] {
            let home = self.root.join(home);
            for file in files_below(&home) {
                let inside = file.strip_prefix(&home).unwrap_or(&file).to_string_lossy().into_owned();
                match named.get(&inside) {
                    None => {
                        std::fs::remove_file(&file).map_err(|e| Error::io("Cannot remove", &file, &e))?;
                        remove_empty_folders(&file, &self.root);
                    }
                    Some(&is_current) if is_current != is_data => self.bring_home(&inside, is_current)?,
                    Some(_) => {}
                }
            }
        }
        Ok(())
    }
}

/// Removes the folders above a file that are empty now, up to the shelf's own two.
fn remove_empty_folders(file: &Path, root: &Path) {
    let mut folder = file.parent();
    while let Some(f) = folder.filter(|f| f.parent().is_some_and(|p| p != root) && *f != root) {
        if std::fs::remove_dir(f).is_err() {
            break;
        }
        folder = f.parent();
    }
}

fn files_below(folder: &Path) -> Vec<PathBuf> {
    let mut out = Vec::new();
    let mut todo = vec![folder.to_owned()];
    while let Some(folder) = todo.pop() {
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            match entry.file_type() {
                Ok(t) if t.is_dir() => todo.push(entry.path()),
                Ok(_) => out.push(entry.path()),
                Err(_) => {}
            }
        }
    }
    out
}

#[cfg(test)]
mod tests;
