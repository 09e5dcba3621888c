//! Making the catalog anew from the data files.

use std::collections::BTreeMap;
use std::path::Path;

use rusqlite::Connection;

use super::about::FileAbout;
use super::act::{ChangedThing, SubjectState, record};
use super::commit::{NewEdition, commit_edition};
use super::days::RowsByDay;
use super::editions::{SegmentFormat, SegmentInfo};
use super::home::{self, Home, LOST};
use super::marker::Marker;
use super::scan::{FileColumns, ScanFile};
use super::sql;
use super::tables;
use super::upkeep::hash_of;
use super::{Shelf, catalog, lock, records};
use crate::job::Job;
use crate::model::{Clock, Columns, Field, Made, OwnValues, Provenance, Scale, SeriesName, Span};
use crate::{Error, Result};

/// What was made anew.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Rebuilt {
    /// Series that are in the catalog again.
    pub series: u64,
    /// Files that were read.
    pub files: u64,
    /// Rows in them.
    pub rows: u64,
    /// Where the catalog that was there is now.
    pub old_catalog: Option<String>,
    /// Files of older editions and others that no current edition holds; they were set aside.
    pub set_aside: u64,
    /// Sentences about what could not be found in the files.
    pub notes: Vec<String>,
}

/// What one data file says and holds.
struct RebuiltFile {
    segment: SegmentInfo,
    about: Option<FileAbout>,
    columns: FileColumns,
}

/// Makes the catalog of a shelf anew from its data files. The catalog that is there, readable or not, is set
/// aside in `lost/`; spec sheets, layouts, dated facts and the journal are taken over from it where they can be
/// read. Older editions are not: their files are set aside.
///
/// # Errors
/// Where another writer holds the shelf, a newer Stavel wrote it, or a data file cannot be read.
pub fn rebuild(root: &Path, job: &Job) -> Result<Rebuilt> {
    if !root.join(Home::Data.name()).is_dir() && Marker::read(root)?.is_none() {
        return Err(Error::input(format!(
            "{} is not a shelf: it has no data files of Stavel's.",
            root.display()
        )));
    }
    let lock = lock::WriterLock::take(root)?;
    let marker = match Marker::read(root)? {
        Some(marker) => marker,
        None => Marker::fresh().put(root)?,
    };
    let mut rebuilt = Rebuilt::default();
    let found = look_at_files(root, &mut rebuilt, job)?;
    // The new catalog takes its place only when it is whole: a rebuild that is cut short has changed nothing.
    let unfinished = Home::Writing.path(root, "catalog.db");
    home::make_folders(&root.join(Home::Writing.name()))?;
    remove_database(&unfinished)?;
    let (mut db, _) = catalog::connect(&unfinished)?;
    db.execute_batch("PRAGMA journal_mode = DELETE")?;
    catalog::make(&db, &marker.id)?;
    let path = root.join(catalog::NAME);
    let old = if path.exists() { catalog::connect(&path).ok() } else { None };
    let old = old.filter(|(_, version)| *version == tables::VERSION).map(|(db, _)| db);
    // Ids in files that are set aside are not given again either.
    let highest = found.values().flatten().filter_map(|f| f.about.as_ref().map(|a| a.edition)).max();
    let given = old.as_ref().and_then(|old| catalog::last_edition_id(old).ok());
    let floor = highest.into_iter().chain(given).chain([highest_in_names(root)]).max().unwrap_or(0);
    db.execute("UPDATE counter SET value = ?1 WHERE name = 'edition'", [floor])?;
    match &old {
        Some(old) => take_over(old, &db, &mut rebuilt.notes)?,
        None => rebuilt.notes.push("saved layouts, dated facts and the journal are not in the files".into()),
    }
    for (name, files) in found {
        job.advance(0)?;
        add_series(&mut db, &name, files, &mut rebuilt)?;
    }
    db.close().map_err(|(_, e)| e)?;
    if let Some(old) = old {
        // What waits beside it belongs to it.
        old.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))?;
    }
    rebuilt.old_catalog = set_catalog_aside(root)?;
    home::move_file(root, &unfinished, &path)?;
    drop(lock);
    let shelf = Shelf::open_to_write(root)?;
    rebuilt.set_aside = shelf.set_aside.len() as u64;
    Ok(rebuilt)
}

fn remove_database(path: &Path) -> Result<()> {
    for ending in ["", "-journal", "-wal", "-shm"] {
        let mut file = path.as_os_str().to_owned();
        file.push(ending);
        match std::fs::remove_file(&file) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                return Err(Error::io("Cannot remove", Path::new(&file), &e));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Looks at every file of a current edition, by series.
fn look_at_files(
    root: &Path,
    rebuilt: &mut Rebuilt,
    job: &Job,
) -> Result<BTreeMap<SeriesName, Vec<RebuiltFile>>> {
    let mut paths = Vec::new();
    for home in [Home::Data, Home::Afloat] {
        let files = home::files_in(root, home.name()).into_iter().filter(|p| home::is_segment(p));
        paths.extend(files.map(|path| (home, path)));
    }
    job.begin("look at the data files", paths.len() as u64);
    let mut found: BTreeMap<SeriesName, Vec<RebuiltFile>> = BTreeMap::new();
    for (home, path) in paths {
        job.advance(1)?;
        let Some(name) = home::series_of_path(&path) else { continue };
        let today = home::path_of_today(&name, &path);
        if today != path {
            home::move_file(root, &home.path(root, &path), &home.path(root, &today))?;
        }
        let path = today;
        match look_at(&home.path(root, &path), &path) {
            Ok(file) => found.entry(name).or_default().push(file),
            Err(e) => rebuilt.notes.push(format!("{e} It is set aside.")),
        }
    }
    Ok(found)
}

fn look_at(place: &Path, path: &str) -> Result<RebuiltFile> {
    let about = FileAbout::read(place)?;
    let columns = FileColumns::read(place)?;
    let (bytes, hash) = hash_of(place).map_err(|e| Error::io("Cannot read", place, &e))?;
    let (mut rows, mut days, mut ends) = (0, RowsByDay::default(), None);
    for piece in ScanFile::open(place, &[], columns.scale, Span::ALL)? {
        let piece = piece?;
        rows += piece.len() as u64;
        days.count(&piece.time);
        if let Some((first, last)) = piece.ends() {
            ends = Some((ends.map_or(first, |e: (i64, i64)| e.0), last));
        }
    }
    let (first, last) = ends.ok_or_else(|| Error::storage(format!("{} holds no rows.", place.display())))?;
    let format = if columns.is_nullable { SegmentFormat::Nulls } else { SegmentFormat::Zeros };
    let path = path.to_owned();
    let segment = SegmentInfo { id: 0, path, rows, first, last, bytes, hash: Some(hash), days, format };
    Ok(RebuiltFile { segment, about, columns })
}

/// The highest edition id in the names of files below the shelf.
fn highest_in_names(root: &Path) -> i64 {
    let folders = Home::ALL.iter().map(|h| h.name()).chain([LOST]);
    let ids = folders.flat_map(|folder| home::files_in(root, folder)).filter_map(|path| {
        let stem = path.rsplit('/').next()?.strip_suffix(".parquet")?.to_owned();
        stem.split('-').filter(|part| part.len() >= 6).filter_map(|part| part.parse::<i64>().ok()).max()
    });
    ids.max().unwrap_or(0)
}

/// Moves the catalog away, with the files that go with it; gives its new path, relative to the shelf. Files
/// that were left of one without it are moved too: they must not be taken for the new one's.
fn set_catalog_aside(root: &Path) -> Result<Option<String>> {
    let is_there = root.join(catalog::NAME).exists();
    let aside = (1..).map(|n| format!("{LOST}/catalog-{n}.db")).find(|p| !root.join(p).exists());
    let aside = aside.unwrap_or_default();
    for ending in ["", "-wal", "-shm"] {
        let from = root.join(format!("{}{ending}", catalog::NAME));
        if from.exists() {
            home::move_file(root, &from, &root.join(format!("{aside}{ending}")))?;
        }
    }
    Ok(is_there.then_some(aside))
}

/// Takes over what only a catalog holds.
fn take_over(old: &Connection, new: &Connection, notes: &mut Vec<String>) -> Result<()> {
    let mut query = old.prepare("SELECT name FROM instrument ORDER BY name")?;
    let names = query.query_map([], |r| r.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>();
    for name in names.unwrap_or_default() {
        match records::own_values(old, &name) {
            Ok(Some(own)) => records::write_instrument(new, &name, &own)?,
            Ok(None) => {}
            Err(e) => notes.push(e.to_string()),
        }
    }
    for name in records::fact_names(old).unwrap_or_default() {
        match records::facts(old, &name) {
            Ok(facts) => drop(records::add_facts(new, &name, &facts)?),
            Err(e) => notes.push(e.to_string()),
        }
    }
    for (name, text) in records::layouts(old).unwrap_or_default() {
        records::put_layout(new, &name, &text)?;
    }
    for line in records::journal(old, 100_000).unwrap_or_default().iter().rev() {
        new.execute(
            "INSERT INTO journal (made, series, step, text) VALUES (?1, ?2, ?3, ?4)",
            rusqlite::params![line.made, line.series, line.step, line.text],
        )?;
    }
    Ok(())
}

/// Names a series whose current edition is held by these files.
fn add_series(
    db: &mut Connection,
    name: &SeriesName,
    mut files: Vec<RebuiltFile>,
    rebuilt: &mut Rebuilt,
) -> Result<()> {
    files.sort_by_key(|f| (f.segment.first, f.segment.last));
    // The newest file knows most; of one edition, the one that was closed last.
    let newest = files.iter().filter_map(|f| f.about.as_ref()).max_by_key(|a| (a.edition, a.is_whole));
    let act = sql::journal_line(db, &name.to_string(), "", "")?;
    // Fields may have been added over time; files without them hold no value of them.
    let has = |field: &Field| files.iter().any(|f| f.columns.fields.contains(field));
    let fields: Vec<Field> = Field::ALL.into_iter().filter(has).collect();
    let scale = files.iter().map(|f| f.columns.scale).fold(Scale::default(), |a, b| a.finer(&b));
    let is_utc = files.iter().all(|f| f.columns.is_utc);
    let (id, number, provenance, clock) = match newest {
        Some(about) => (about.edition, about.number, about.provenance.clone(), about.clock.clone()),
        None => {
            rebuilt.notes.push(format!(
                "{name}: its files were written by an earlier version and do not say how it was made"
            ));
            (catalog::take_edition_id(db)?, 1, Provenance::of(Made::Unknown), is_utc.then(Clock::utc))
        }
    };
    for (instrument, own) in newest.map(|a| &a.instruments).into_iter().flatten() {
        // A series that was given another instrument since is told apart by its folder only.
        let is_own = newest.is_some_and(|a| a.series.instrument == *instrument);
        add_instrument(db, act, if is_own { &name.instrument } else { instrument }, own)?;
    }
    let segments: Vec<SegmentInfo> = files.into_iter().map(|f| f.segment).collect();
    rebuilt.series += 1;
    rebuilt.files += segments.len() as u64;
    rebuilt.rows += segments.iter().map(|s| s.rows).sum::<u64>();
    let like = Columns::empty(&fields, scale);
    let new = NewEdition {
        id,
        name,
        provenance: &provenance,
        clock: clock.as_ref(),
        like: &like,
        kept: &[],
        written: &segments,
    };
    let series = commit_edition(db, act, &new)?;
    db.execute("UPDATE edition SET number = ?1 WHERE id = ?2", [number, id])?;
    db.execute("UPDATE series SET numbered = max(numbered, ?1) WHERE id = ?2", [number, series])?;
    // There is nothing to step back to.
    db.execute("DELETE FROM change WHERE act = ?1", [act])?;
    db.execute("DELETE FROM journal WHERE id = ?1", [act])?;
    Ok(())
}

fn add_instrument(db: &Connection, act: i64, name: &str, own: &OwnValues) -> Result<()> {
    if records::has_instrument(db, name)? {
        return Ok(());
    }
    records::write_instrument(db, name, own)?;
    record(
        db,
        act,
        &ChangedThing::Instrument(name.to_owned()),
        None,
        Some(&SubjectState::Instrument(own.clone())),
    )
}
