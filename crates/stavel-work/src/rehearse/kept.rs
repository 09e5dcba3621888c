//! Rehearsals that are kept, so that they can be taken up again exactly as they were, also after a kill.
//!
//! A rehearsal is a file of JSON lines in the folder `rehearsals` of the shelf: the first says what is played and by which rules, then there
//! is a line for each thing that was done, with its place among the quotes, and lines that say how far time had come. What
//! follows from them (deals, money, the journal) is not in the file: it is played again.

use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use stavel_core::model::{Micros, SeriesName};
use stavel_core::rehearse::{DeskRules, Logged, PriceFactor};
use stavel_core::{Error, Result};

/// The folder within the shelf.
pub(super) const FOLDER: &str = "rehearsals";

/// What is played, as the first line says it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KeptHead {
    /// The series and the numbers of their editions: of other rows another result would come.
    pub series: Vec<(SeriesName, i64)>,
    /// The bars of the ask and the recorded order books beside them, likewise.
    #[serde(default, alias = "depth", skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<(SeriesName, i64)>,
    /// The moment that it began with.
    pub begin: Micros,
    /// Nothing from this moment on is played; none plays as far as there are rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Micros>,
    pub rules: DeskRules,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// For practice of which instrument and day are not shown: what its prices are multiplied with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blind: Option<PriceFactor>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
enum KeptLine {
    Rehearsal(KeptHead),
    Done(Logged),
    Reached(Micros),
    Mark(KeptMark),
}

/// A moment that a person wanted to find again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KeptMark {
    pub at: Micros,
    /// So many things were done before: several may be done at one moment.
    pub done: usize,
    pub words: String,
}

/// A rehearsal as it was kept.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptRehearsal {
    pub head: KeptHead,
    pub log: Vec<Logged>,
    /// The moment that it had come to.
    pub reached: Micros,
    /// Moments that a person wanted to find again.
    pub marks: Vec<KeptMark>,
}

/// The file of a rehearsal that is on.
pub struct RehearsalFile {
    path: PathBuf,
    file: File,
    head: KeptHead,
    log: Vec<Logged>,
    marks: Vec<KeptMark>,
}

impl RehearsalFile {
    /// Begins a file under a name that is not taken yet.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn begin(shelf: &Path, name: &str, head: KeptHead) -> Result<RehearsalFile> {
        let folder = shelf.join(FOLDER);
        std::fs::create_dir_all(&folder).map_err(|e| Error::io("Cannot make", &folder, &e))?;
        for count in 1..10_000 {
            let path = folder.join(if count == 1 {
                format!("{name}.jsonl")
            } else {
                format!("{name}-{count}.jsonl")
            });
            match OpenOptions::new().write(true).create_new(true).open(&path) {
                Ok(mut file) => {
                    write_line(&mut file, &path, &KeptLine::Rehearsal(head.clone()))?;
                    return Ok(RehearsalFile { path, file, head, log: Vec::new(), marks: Vec::new() });
                }
                Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
                Err(e) => return Err(Error::io("Cannot write", &path, &e)),
            }
        }
        Err(Error::storage(format!("There are too many rehearsals named {name} in {}.", folder.display())))
    }

    /// Goes on with a file that was read.
    ///
    /// # Errors
    /// Where it cannot be opened.
    pub fn go_on(path: &Path, kept: &KeptRehearsal) -> Result<RehearsalFile> {
        let file =
            OpenOptions::new().append(true).open(path).map_err(|e| Error::io("Cannot write", path, &e))?;
        let mut on = RehearsalFile {
            path: path.to_owned(),
            file,
            head: kept.head.clone(),
            log: kept.log.clone(),
            marks: kept.marks.clone(),
        };
        // A last line that a kill cut short must not grow together with the next.
        on.write_anew(kept.reached)?;
        Ok(on)
    }

    /// Its name.
    pub fn name(&self) -> String {
        self.path.file_stem().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
    }

    /// Keeps what was done so far and how far time has come: only what is new is written, unless something was taken back.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn keep(&mut self, log: &[Logged], marks: &[KeptMark], reached: Micros) -> Result<()> {
        if !log.starts_with(&self.log) || !marks.starts_with(&self.marks) {
            (self.log, self.marks) = (log.to_vec(), marks.to_vec());
            return self.write_anew(reached);
        }
        for done in &log[self.log.len()..] {
            write_line(&mut self.file, &self.path, &KeptLine::Done(done.clone()))?;
        }
        for mark in &marks[self.marks.len()..] {
            write_line(&mut self.file, &self.path, &KeptLine::Mark(mark.clone()))?;
        }
        (self.log, self.marks) = (log.to_vec(), marks.to_vec());
        write_line(&mut self.file, &self.path, &KeptLine::Reached(reached))?;
        self.file.sync_data().map_err(|e| Error::io("Cannot write", &self.path, &e))
    }

    /// Writes the whole file beside itself and puts it in its place.
    fn write_anew(&mut self, reached: Micros) -> Result<()> {
        let beside = self.path.with_extension("jsonl.new");
        let mut file = File::create(&beside).map_err(|e| Error::io("Cannot write", &beside, &e))?;
        write_line(&mut file, &beside, &KeptLine::Rehearsal(self.head.clone()))?;
        for done in &self.log {
            write_line(&mut file, &beside, &KeptLine::Done(done.clone()))?;
        }
        for mark in &self.marks {
            write_line(&mut file, &beside, &KeptLine::Mark(mark.clone()))?;
        }
        write_line(&mut file, &beside, &KeptLine::Reached(reached))?;
        file.sync_all().map_err(|e| Error::io("Cannot write", &beside, &e))?;
        std::fs::rename(&beside, &self.path).map_err(|e| Error::io("Cannot write", &self.path, &e))?;
        self.file = OpenOptions::new()
            .append(true)
            .open(&self.path)
            .map_err(|e| Error::io("Cannot write", &self.path, &e))?;
        Ok(())
    }
}

fn write_line(file: &mut File, path: &Path, line: &KeptLine) -> Result<()> {
    let text = serde_json::to_string(line)
        .map_err(|e| Error::storage(format!("A rehearsal cannot be kept: {e}.")))?;
    file.write_all(format!("{text}\n").as_bytes()).map_err(|e| Error::io("Cannot write", path, &e))
}

/// The rehearsals of a shelf, the latest first: their names and files.
pub fn kept_rehearsals(shelf: &Path) -> Vec<(String, PathBuf)> {
    let Ok(entries) = std::fs::read_dir(shelf.join(FOLDER)) else { return Vec::new() };
    let mut all: Vec<(std::time::SystemTime, String, PathBuf)> = entries
        .filter_map(|entry| {
            let entry = entry.ok()?;
            let path = entry.path();
            let name = path.file_stem()?.to_string_lossy().into_owned();
            let is_one = path.extension().is_some_and(|e| e == "jsonl");
            Some((entry.metadata().ok()?.modified().ok()?, name, path)).filter(|_| is_one)
        })
        .collect();
    all.sort_by(|a, b| b.cmp(a));
    all.into_iter().map(|(_, name, path)| (name, path)).collect()
}

/// Reads a rehearsal. A last line that was cut short by a kill is left away.
///
/// # Errors
/// Where it cannot be read, or a line makes no sense.
pub fn read_rehearsal(path: &Path) -> Result<KeptRehearsal> {
    let file = File::open(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    let lines: Vec<String> = BufReader::new(file)
        .lines()
        .collect::<std::io::Result<_>>()
        .map_err(|e| Error::io("Cannot read", path, &e))?;
    let bad = |line: usize, why: &dyn std::fmt::Display| {
        Error::input(format!("The rehearsal {}, line {line}: {why}.", path.display()))
    };
    let mut kept: Option<KeptRehearsal> = None;
    for (i, text) in lines.iter().enumerate() {
        let line = match serde_json::from_str(text) {
            Ok(line) => line,
            Err(_) if i + 1 == lines.len() && i > 0 => break,
            Err(e) => return Err(bad(i + 1, &e)),
        };
        match (line, &mut kept) {
            (KeptLine::Rehearsal(head), None) => {
                let reached = head.begin;
                kept = Some(KeptRehearsal { head, log: Vec::new(), reached, marks: Vec::new() });
            }
            (KeptLine::Done(done), Some(kept)) => {
                kept.reached = kept.reached.max(done.now);
                kept.log.push(done);
            }
            (KeptLine::Reached(at), Some(kept)) => kept.reached = kept.reached.max(at),
            (KeptLine::Mark(mark), Some(kept)) => kept.marks.push(mark),
            (KeptLine::Rehearsal(_), Some(_)) => return Err(bad(i + 1, &"it begins a second time")),
            (_, None) => return Err(bad(i + 1, &"what is played is not said before")),
        }
    }
    kept.ok_or_else(|| bad(1, &"it is empty"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::rehearse::{DeskAct, Direction, LOT, ReplayAct, Ticket};

    fn head() -> KeptHead {
        let series = vec![("NOKSEK@quill:ticks".parse().unwrap(), 7)];
        KeptHead {
            series,
            beside: Vec::new(),
            begin: 100,
            until: None,
            rules: DeskRules::default(),
            account: None,
            blind: None,
        }
    }

    fn done(played: u64) -> Logged {
        let ticket = Ticket::market(0, Direction::Buy, LOT);
        Logged { played, now: 100 + played as i64, what: ReplayAct::Give(DeskAct::Order(ticket)) }
    }

    #[test]
    fn what_is_kept_is_read_as_it_was_also_after_steps_back_and_a_cut_line() {
        let dir = tempfile::tempdir().unwrap();
        let mut file = RehearsalFile::begin(dir.path(), "NOKSEK", head()).unwrap();
        assert_eq!(RehearsalFile::begin(dir.path(), "NOKSEK", head()).unwrap().name(), "NOKSEK-2");
        let marks = [KeptMark { at: 105, done: 2, words: "here".to_owned() }];
        file.keep(&[done(1), done(2)], &[], 110).unwrap();
        file.keep(&[done(1), done(2), done(9)], &marks, 120).unwrap();
        let path = dir.path().join("rehearsals/NOKSEK.jsonl");
        let kept = read_rehearsal(&path).unwrap();
        assert_eq!((kept.log.len(), kept.reached, &kept.marks[..]), (3, 120, &marks[..]));
        // Back, and on another way.
        file.keep(&[done(1), done(5)], &[], 106).unwrap();
        let kept = read_rehearsal(&path).unwrap();
        assert_eq!((kept.log.clone(), kept.reached), (vec![done(1), done(5)], 106));
        assert_eq!(kept.head, head());
        let mut raw = OpenOptions::new().append(true).open(&path).unwrap();
        raw.write_all(b"{\"done\":{\"pla").unwrap();
        let cut = read_rehearsal(&path).unwrap();
        assert_eq!(cut, kept);
        let mut on = RehearsalFile::go_on(&path, &cut).unwrap();
        on.keep(&[done(1), done(5), done(6)], &[], 130).unwrap();
        assert_eq!(read_rehearsal(&path).unwrap().log.len(), 3);
        assert_eq!(kept_rehearsals(dir.path()).len(), 2);
    }

    #[test]
    fn a_file_that_is_none_is_told_with_its_line() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x.jsonl");
        for (text, why) in [
            ("", "it is empty"),
            ("{}\n{}\n", "line 1"),
            ("{\"reached\":1}\n{\"reached\":1}\n", "is not said before"),
        ] {
            std::fs::write(&path, text).unwrap();
            let err = read_rehearsal(&path).unwrap_err().to_string();
            assert!(err.contains(why), "{err}");
        }
    }
}
