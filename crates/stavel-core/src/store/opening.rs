//! Opening a shelf, and putting its files in order.

use std::path::Path;

use rayon::prelude::*;

use super::about::FileAbout;
use super::catalog;
use super::home::{self, Home, make_folders};
use super::lock::WriterLock;
use super::marker::Marker;
use super::tables;
use super::{Shelf, editions};
use crate::{Advice, Error, Result};

/// The catalog of an earlier version, kept when it is brought up.
const BEFORE: &str = "catalog-before-3.db";

impl Shelf {
    /// Opens a shelf to read. A new one is made where the folder is new or empty; one of an earlier version is
    /// brought up.
    ///
    /// # Errors
    /// Fails where the folder holds other things, where its catalog is lost, or where a newer version wrote it.
    pub fn open(root: &Path) -> Result<Shelf> {
        Self::open_with(root, None)
    }

    /// Opens a shelf to change it: takes the writer's lock and puts its files in order.
    ///
    /// # Errors
    /// Also fails, as [`Error::is_locked`], while another writer holds the shelf, and where the catalog is older
    /// than the data or of another shelf.
    pub fn open_to_write(root: &Path) -> Result<Shelf> {
        // Nothing is made in a folder that is no shelf, not even a lock.
        refuse_other_folders(root)?;
        make_folders(root)?;
        let lock = WriterLock::take(root)?;
        let mut shelf = Self::open_with(root, Some(lock))?;
        shelf.put_in_order()?;
        Ok(shelf)
    }

    fn open_with(root: &Path, lock: Option<WriterLock>) -> Result<Shelf> {
        refuse_other_folders(root)?;
        let has_catalog = root.join(catalog::NAME).exists();
        let marker = Marker::read(root)?;
        if !has_catalog && has_segments(root) {
            return Err(Error::storage(format!(
                "The catalog of the shelf {} is not there, but its data files are; put it back from a copy, or have it made anew from the files.",
                root.display()
            )).advise(Advice::RebuildCatalog));
        }
        make_folders(root)?;
        let (db, version) = catalog::connect(&root.join(catalog::NAME))?;
        let shelf = |db, lock| {
            let root = root.to_owned();
            Shelf { root, db, lock, act: None, depth: 0, set_aside: Vec::new() }
        };
        match (marker, version) {
            (_, 1..tables::VERSION) | (None, tables::VERSION) => {
                // A shelf of an earlier version, or one whose bringing up was cut short. That changes it, so a
                // reader holds the lock as long as it takes.
                let for_now = if lock.is_none() { Some(WriterLock::take(root)?) } else { None };
                drop(db);
                let shelf = shelf(bring_up(root)?, lock);
                drop(for_now);
                Ok(shelf)
            }
            (Some(marker), _) => {
                catalog::make(&db, &marker.id)?;
                let shelf = shelf(db, lock);
                // Files of a series that was just named otherwise are where nobody looks until they are moved. A
                // writer that was stopped then leaves that to whoever comes next.
                if shelf.lock.is_none()
                    && !catalog::renamings(&shelf.db)?.is_empty()
                    && let Ok(_lock) = WriterLock::take(root)
                {
                    shelf.finish_renames()?;
                }
                if shelf.lock.is_some() && catalog::shelf_id(&shelf.db)? != marker.id {
                    return Err(Error::storage(format!(
                        "The catalog in {} is of another shelf, so nothing is written; put the right one back, or have it made anew from the data files.",
                        root.display()
                    )).advise(Advice::RebuildCatalog));
                }
                Ok(shelf)
            }
            (None, _) => {
                let marker = Marker::fresh().put(root)?;
                catalog::make(&db, &marker.id)?;
                Ok(shelf(db, lock))
            }
        }
    }

    /// Finishes moves that were cut short, removes Stavel's own unfinished files, and sets data files aside that
    /// the catalog does not name.
    fn put_in_order(&mut self) -> Result<()> {
        self.finish_renames()?;
        self.remove_doomed()?;
        let named = editions::all_standings(&self.db)?;
        let mut unnamed = Vec::new();
        for home in [Home::Data, Home::Afloat, Home::Past] {
            let files = home::files_in(&self.root, home.name());
            unnamed.extend(files.into_iter().filter(|f| !named.contains_key(f)).map(|f| (home, f)));
        }
        self.refuse_older_catalog(&unnamed)?;
        for path in home::files_in(&self.root, Home::Writing.name()) {
            if !named.contains_key(&path) {
                remove_own(&self.root, &Home::Writing.path(&self.root, &path))?;
            }
        }
        for entry in std::fs::read_dir(&self.root).into_iter().flatten().flatten() {
            if entry.file_name().to_string_lossy().starts_with("sorting-") {
                std::fs::remove_dir_all(entry.path())
                    .map_err(|e| Error::io("Cannot remove", &entry.path(), &e))?;
            }
        }
        for (path, standing) in &named {
            home::bring(&self.root, path, home_of(*standing))?;
        }
        for (home, path) in unnamed {
            if home::is_segment(&path) {
                let aside = home::set_aside(&self.root, home, &path)?;
                tracing::warn!(path, aside, "a file that the catalog does not name is set aside");
                self.set_aside.push(aside);
            } else if path.ends_with(".parquet.tmp") && path.starts_with("instrument=") {
                // Earlier versions wrote beside the data.
                remove_own(&self.root, &home.path(&self.root, &path))?;
            }
        }
        if !self.set_aside.is_empty() {
            let text = format!(
                "{} data files that the catalog does not name were set aside in lost/",
                self.set_aside.len()
            );
            self.note("", "", &text)?;
        }
        Ok(())
    }

    /// A catalog put back from an earlier day does not know the editions made since: their files must not be
    /// taken for strangers.
    fn refuse_older_catalog(&self, unnamed: &[(Home, String)]) -> Result<()> {
        let (id, given) = (catalog::shelf_id(&self.db)?, catalog::last_edition_id(&self.db)?);
        let is_newer = |(home, path): &&(Home, String)| {
            let about = FileAbout::read(&home.path(&self.root, path)).ok().flatten();
            home::is_segment(path) && about.is_some_and(|a| a.shelf == id && a.edition > given)
        };
        let newer = unnamed.iter().filter(is_newer).count();
        if newer == 0 {
            return Ok(());
        }
        Err(Error::storage(format!(
            "The catalog of the shelf {} is older than its data: {newer} data files were written after it. Nothing is written; put the newer catalog back, or have it made anew from the data files.",
            self.root.display()
        )).advise(Advice::RebuildCatalog))
    }

    /// Moves the files of a series to where they belong, those of the edition before out of the way first, so
    /// that no reader of `data/` sees a row twice.
    pub(super) fn settle(&self, series: i64) -> Result<()> {
        let files = editions::standings(&self.db, series)?;
        let (current, past): (Vec<_>, Vec<_>) =
            files.into_iter().partition(|(_, standing)| standing.is_some());
        // What makes way goes first, so that no folder is made and emptied at one time; within each lot the order
        // does not matter, and a disk moves several files in the time of one.
        let root = &self.root;
        for lot in [past, current] {
            lot.par_iter()
                .try_for_each(|(path, standing)| home::bring(root, path, home_of(*standing)).map(drop))?;
        }
        Ok(())
    }

    /// Moves the files of series that were given another name.
    pub(super) fn finish_renames(&self) -> Result<()> {
        for (old, new) in catalog::renamings(&self.db)? {
            if let Some(home) = home::find(&self.root, &old) {
                home::move_file(&self.root, &home.path(&self.root, &old), &home.path(&self.root, &new))?;
            }
            catalog::renamed(&self.db, &old)?;
        }
        Ok(())
    }
}

fn home_of(standing: editions::SeriesStanding) -> Home {
    match standing {
        Some(true) => Home::Data,
        Some(false) => Home::Afloat,
        None => Home::Past,
    }
}

fn remove_own(root: &Path, path: &Path) -> Result<()> {
    std::fs::remove_file(path).map_err(|e| Error::io("Cannot remove", path, &e))?;
    home::remove_empty_folders(path, root);
    Ok(())
}

fn has_segments(root: &Path) -> bool {
    [Home::Data, Home::Afloat, Home::Past]
        .iter()
        .any(|home| home::files_in(root, home.name()).iter().any(|p| home::is_segment(p)))
}

/// A shelf is made only in a folder that is new or empty: whatever else is in one is a person's own.
fn refuse_other_folders(root: &Path) -> Result<()> {
    let is_shelf = Marker::read(root)?.is_some() || root.join(catalog::NAME).exists() || has_segments(root);
    if is_shelf || !root.exists() {
        return Ok(());
    }
    let entries = std::fs::read_dir(root).map_err(|e| Error::io("Cannot use as a shelf", root, &e))?;
    // What is left of a shelf that was just begun, and what systems put into every folder.
    let harmless = |name: &str| {
        matches!(name, "writer.lock" | ".DS_Store" | "lost+found") || name.starts_with("shelf.toml.")
    };
    let other =
        entries.flatten().map(|e| e.file_name().to_string_lossy().into_owned()).find(|n| !harmless(n));
    other.map_or(Ok(()), |name| {
        Err(Error::input(format!(
            "{} is not a shelf, and it is not empty (there is {name}); name a new or empty folder.",
            root.display()
        ))
        .advise(Advice::OtherShelf))
    })
}

/// Brings a shelf of an earlier version up: its catalog, its files and its mark, in that order, so that a
/// bringing up that is cut short goes on when it is opened again.
fn bring_up(root: &Path) -> Result<rusqlite::Connection> {
    let path = root.join(catalog::NAME);
    let (db, version) = catalog::connect(&path)?;
    let marker = match (Marker::read(root)?, version) {
        (Some(marker), _) => marker,
        (None, tables::VERSION) => Marker { id: catalog::shelf_id(&db)?, ..Marker::fresh() },
        (None, _) => Marker::fresh(),
    };
    if version < tables::VERSION {
        let copy = root.join(BEFORE);
        if !copy.exists() {
            db.execute("VACUUM INTO ?1", [copy.to_string_lossy()])?;
        }
        catalog::bring_up(&db, &marker.id)?;
    }
    let root_path = root.to_owned();
    let lock = None;
    let shelf = Shelf { root: root_path, db, lock, act: None, depth: 0, set_aside: Vec::new() };
    shelf.finish_renames()?;
    for (path, standing) in editions::all_standings(&shelf.db)? {
        home::bring(root, &path, home_of(standing))?;
    }
    marker.put(root)?;
    Ok(shelf.db)
}
