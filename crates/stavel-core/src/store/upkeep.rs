//! Upkeep of a shelf: taking series off it, renaming them, tidying, verifying.

use std::io::Read;
use std::path::Path;

use rayon::prelude::*;
use rusqlite::{Connection, params};
use twox_hash::XxHash3_128;

use super::act::{self, ChangedThing, SubjectState, record};
use super::editions::{self, SegmentInfo};
use super::home::{self, Home, LOST};
use super::scan::ScanFile;
use super::{Shelf, catalog, drawings, records};
use crate::job::Job;
use crate::model::{Field, OwnValues, SeriesName, Span};
use crate::{Error, Result};

/// What verifying found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Verified {
    /// Files that were read.
    pub files: u64,
    /// Rows in them.
    pub rows: u64,
    /// Bytes of the files.
    pub bytes: u64,
    /// Sentences, one for each file that is not as the catalog has it.
    pub faults: Vec<String>,
    /// Files the catalog does not name, relative to the shelf: those set aside before, and data files that
    /// the next writer will set aside.
    pub lost: Vec<String>,
    /// Other files among the data, which Stavel leaves alone.
    pub strangers: Vec<String>,
}

/// What tidying did away with.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Tidied {
    /// Older editions that are gone.
    pub editions: u64,
    /// Files that are gone.
    pub files: u64,
    /// Bytes that are free again.
    pub bytes: u64,
    /// Files spared by joining small ones.
    pub joined: u64,
}

impl Shelf {
    /// Takes a series off the shelf; [`Shelf::undo`] brings it back until the shelf is tidied.
    ///
    /// # Errors
    /// Where there is no such series.
    pub fn remove(&mut self, name: &SeriesName) -> Result<()> {
        self.must_write()?;
        let info = self.find(name)?;
        let act = self.act_id()?;
        let stored = editions::stored_name(&self.db, info.id)?;
        let state = |current| SubjectState::Series { name: stored.clone(), current };
        let tx = self.db.transaction()?;
        tx.execute("UPDATE series SET current = NULL WHERE id = ?1", [info.id])?;
        let (before, after) = (state(Some(info.edition.id)), state(None));
        record(&tx, act, &ChangedThing::Series(info.id), Some(&before), Some(&after))?;
        tx.commit()?;
        self.settle(info.id)
    }

    /// Gives a series another name, with all its editions.
    ///
    /// # Errors
    /// Where there is no such series, or the new name is taken or has another frame.
    pub fn rename(&mut self, from: &SeriesName, to: &SeriesName) -> Result<()> {
        self.must_write()?;
        let info = self.find(from)?;
        if from.frame != to.frame {
            return Err(Error::arguments(format!(
                "{from} holds {}; a new name does not change that.",
                from.frame
            )));
        }
        let was = editions::stored_name(&self.db, info.id)?;
        let to = to.with_built(was.built);
        if was == to {
            return Err(Error::arguments(format!("{from} has that name already.")));
        }
        let act = self.act_id()?;
        let tx = self.db.transaction()?;
        if !records::has_instrument(&tx, &to.instrument)? {
            let own = records::own_values(&tx, &was.instrument)?.unwrap_or_default();
            records::write_instrument(&tx, &to.instrument, &own)?;
            let subject = ChangedThing::Instrument(to.instrument.clone());
            record(&tx, act, &subject, None, Some(&SubjectState::Instrument(own)))?;
        }
        act::rename(&tx, info.id, &was, &to)?;
        drawings::rename_drawings(&tx, act, &was, &to)?;
        let state =
            |name: &SeriesName| SubjectState::Series { name: name.clone(), current: Some(info.edition.id) };
        record(&tx, act, &ChangedThing::Series(info.id), Some(&state(&was)), Some(&state(&to)))?;
        tx.commit()?;
        self.finish_renames()
    }

    /// Writes an instrument's own values and what it is like.
    ///
    /// # Errors
    /// Where a value makes no sense or what it is like is not there.
    pub fn put_instrument(&mut self, name: &str, own: &OwnValues) -> Result<crate::model::Instrument> {
        self.must_write()?;
        crate::model::series::check_name("instrument", name)?;
        let act = self.act_id()?;
        let tx = self.db.transaction()?;
        let before = records::own_values(&tx, name)?.map(SubjectState::Instrument);
        let made = records::put_instrument(&tx, name, own)?;
        let after = SubjectState::Instrument(own.clone());
        record(&tx, act, &ChangedThing::Instrument(name.to_owned()), before.as_ref(), Some(&after))?;
        tx.commit()?;
        Ok(made)
    }

    /// Does away with all editions but the current ones, of one series or of all, and with removed series, and
    /// joins the small files of those that stay: there is no undo after this.
    ///
    /// # Errors
    /// Where the catalog cannot be written, or the person stops it.
    pub fn tidy(&mut self, only: Option<&SeriesName>, job: &Job) -> Result<Tidied> {
        self.must_write()?;
        let series = match only {
            Some(name) => vec![self.find(name)?.id],
            None => editions::series_ids(&self.db)?,
        };
        let tx = self.db.transaction()?;
        let gone = forget_past(&tx, &series)?;
        let doomed = doom_unheld(&tx)?;
        tx.commit()?;
        let mut tidied = Tidied {
            editions: gone,
            files: doomed.len() as u64,
            bytes: doomed.iter().map(|g| g.bytes).sum(),
            joined: 0,
        };
        self.remove_doomed()?;
        let bytes = self.series()?.iter().filter(|s| series.contains(&s.id)).map(|s| s.edition.bytes).sum();
        job.begin("tidy", bytes);
        for id in series {
            tidied.joined += self.join_files(id, job)?;
        }
        self.sweep_levels()?;
        Ok(tidied)
    }

    /// Removes the files that were tidied away; those that cannot be removed now are removed by a later writer.
    pub(super) fn remove_doomed(&self) -> Result<()> {
        for path in catalog::doomed(&self.db)? {
            let place = home::place_of(&self.root, &path);
            match std::fs::remove_file(&place) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => continue,
                _ => {}
            }
            home::remove_empty_folders(&place, &self.root);
            catalog::gone(&self.db, &path)?;
        }
        Ok(())
    }

    /// Compares every file of every edition, of one series or of all, with what the catalog says of it: that it
    /// is there, its size and hash, its rows, their order and their ends. Also names files nobody knows.
    ///
    /// # Errors
    /// Where the catalog cannot be read, or the person stops it; files that are not as they should be are told.
    pub fn verify(&self, only: Option<&SeriesName>, job: &Job) -> Result<Verified> {
        let stored = only.map(|name| self.find(name)).transpose()?;
        let stored = stored.map(|info| editions::stored_name(&self.db, info.id)).transpose()?;
        let files = editions::all_segments(&self.db, stored.as_ref())?;
        job.begin("verify", files.iter().map(|f| f.bytes).sum());
        let root = self.root.as_path();
        let looked: Vec<Result<Option<String>>> = files
            .par_iter()
            .map(|file| {
                let fault = fault_of(&home::place_of(root, &file.path), file);
                job.advance(file.bytes).map(|()| fault.err().map(|e| e.to_string()))
            })
            .collect();
        let mut verified = Verified {
            files: files.len() as u64,
            rows: files.iter().map(|f| f.rows).sum(),
            bytes: files.iter().map(|f| f.bytes).sum(),
            ..Verified::default()
        };
        for fault in looked {
            verified.faults.extend(fault?);
        }
        if only.is_none() {
            self.find_strangers(&mut verified)?;
        }
        Ok(verified)
    }

    fn find_strangers(&self, verified: &mut Verified) -> Result<()> {
        let named = editions::all_standings(&self.db)?;
        let doomed = catalog::doomed(&self.db)?;
        for home in [Home::Data, Home::Afloat, Home::Past] {
            for path in home::files_in(&self.root, home.name()) {
                if named.contains_key(&path) || doomed.contains(&path) {
                    continue;
                }
                let list = if home::is_segment(&path) { &mut verified.lost } else { &mut verified.strangers };
                list.push(format!("{}/{path}", home.name()));
            }
        }
        verified.lost.extend(home::files_in(&self.root, LOST).iter().map(|path| format!("{LOST}/{path}")));
        Ok(())
    }
}

/// Forgets all editions of some series but their current ones, and what could be undone of them; gives the
/// number of editions.
fn forget_past(db: &Connection, series: &[i64]) -> Result<u64> {
    let mut editions = 0;
    for id in series {
        db.execute("UPDATE edition SET before = NULL WHERE series = ?1", [id])?;
        let past = "SELECT e.id FROM edition e JOIN series s ON s.id = e.series WHERE s.id = ?1 AND e.id IS NOT s.current";
        db.execute(&format!("DELETE FROM holding WHERE edition IN ({past})"), [id])?;
        editions += db.execute(&format!("DELETE FROM edition WHERE id IN ({past})"), [id])? as u64;
    }
    act::forget(db, series)?;
    Ok(editions)
}

/// Forgets the segments that no edition holds and notes that their files are to be removed; gives them.
pub fn doom_unheld(db: &Connection) -> Result<Vec<SegmentInfo>> {
    let unheld = editions::unheld(db)?;
    for segment in &unheld {
        db.execute("INSERT OR IGNORE INTO doomed (path) VALUES (?1)", params![segment.path])?;
        db.execute("DELETE FROM segment WHERE id = ?1", [segment.id])?;
    }
    Ok(unheld)
}

/// Says in what way a file is not as the catalog has it.
fn fault_of(path: &Path, about: &SegmentInfo) -> Result<()> {
    let bad = |what: String| Err(Error::storage(format!("{} {what}.", path.display())));
    if !path.is_file() {
        return bad("is not there".into());
    }
    let (bytes, hash) = hash_of(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    if bytes != about.bytes {
        return bad(format!("has {bytes} bytes where the catalog has {}", about.bytes));
    }
    if about.hash.as_ref().is_some_and(|h| *h != hash) {
        return bad("was changed since it was written: its hash is another".into());
    }
    let (mut rows, mut first, mut last) = (0, None, i64::MIN);
    for piece in ScanFile::open(path, &[] as &[Field], Default::default(), Span::ALL)? {
        let piece = piece?;
        if !piece.is_sorted() || piece.time.first().is_some_and(|t| *t < last) {
            return bad("has rows out of order".into());
        }
        rows += piece.len() as u64;
        first = first.or(piece.time.first().copied());
        last = piece.time.last().copied().unwrap_or(last);
    }
    if (rows, first.unwrap_or(0), last) != (about.rows, about.first, about.last) {
        return bad(format!("has {rows} rows where the catalog has {}, or other ends", about.rows));
    }
    Ok(())
}

/// Size and XXH3 hash of a file, as the catalog keeps them.
pub fn hash_of(path: &Path) -> std::io::Result<(u64, String)> {
    let mut file = std::fs::File::open(path)?;
    let mut hash = XxHash3_128::new();
    let mut buffer = vec![0; 1 << 18];
    let mut bytes = 0;
    loop {
        let got = file.read(&mut buffer)?;
        if got == 0 {
            return Ok((bytes, format!("{:032x}", hash.finish_128())));
        }
        hash.write(&buffer[..got]);
        bytes += got as u64;
    }
}
