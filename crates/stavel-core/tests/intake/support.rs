//! A desk with a shelf and files on it.

use std::path::{Path, PathBuf};

use stavel_core::Result;
use stavel_core::intake::{Hints, Taken, plan, take};
use stavel_core::job::Job;
use stavel_core::model::time::{MINUTE, parse, wall};
use stavel_core::model::{Columns, SeriesName, Span};
use stavel_core::store::Shelf;

pub struct Desk {
    pub dir: tempfile::TempDir,
    pub shelf: Shelf,
}

impl Desk {
    pub fn new() -> Desk {
        let dir = tempfile::tempdir().unwrap();
        let shelf = Shelf::open_to_write(&dir.path().join("shelf")).unwrap();
        Desk { dir, shelf }
    }

    pub fn file(&self, name: &str, text: impl AsRef<[u8]>) -> PathBuf {
        let path = self.dir.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, text).unwrap();
        path
    }

    pub fn take(&mut self, path: &Path, hints: impl std::borrow::Borrow<Hints>) -> Result<Taken> {
        Ok(self.take_all(path, hints.borrow())?.remove(0))
    }

    /// Takes every series of a path in.
    pub fn take_all(&mut self, path: &Path, hints: &Hints) -> Result<Vec<Taken>> {
        let planned = plan(&self.shelf, &[path.to_owned()], hints)?;
        let mut all = Vec::new();
        for plan in &planned.plans {
            all.extend(take(&mut self.shelf, plan, &Job::unwatched())?);
        }
        Ok(all)
    }

    pub fn rows(&self, series: &str) -> Columns {
        let info = self.shelf.find(&series.parse::<SeriesName>().unwrap()).unwrap();
        self.shelf.read(&info.edition, Span::ALL).unwrap()
    }
}

pub fn quill() -> Hints {
    Hints { source: "quill".into(), ..Hints::default() }
}

/// Minutes from a time on, with a price that tells them apart.
pub fn minutes(from: &str, rows: i64, price: i64) -> String {
    let start = parse(from).unwrap();
    let line = |i: i64| {
        let p = price + i;
        format!("{},1.{p:05},1.{:05},1.{:05},1.{p:05},{i}\n", wall(start + i * MINUTE), p + 9, p - 9)
    };
    "Time (UTC),Open,High,Low,Close,Volume\n".to_owned() + &(0..rows).map(line).collect::<String>()
}
