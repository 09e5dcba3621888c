//! Each act by its settings: what it does to a shelf, what it says, and what it leaves alone where it fails.

mod answers;
mod charts;
mod journal;
mod recording;
mod serving;
mod words;
mod working;

use std::path::PathBuf;

use serde_json::Value;
use stavel_core::job::Job;
use stavel_core::model::SeriesName;
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_work::{Step, StepReport, apply};

/// A shelf of its own with files beside it.
pub(crate) struct Desk {
    pub dir: tempfile::TempDir,
    pub shelf: Shelf,
}

impl Desk {
    pub(crate) fn new() -> Desk {
        let dir = tempfile::tempdir().unwrap();
        let shelf = Shelf::open_to_write(&dir.path().join("shelf")).unwrap();
        Desk { dir, shelf }
    }

    /// A path beside the shelf.
    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// Does a step that is written as in a recipe; `~` in it is the folder beside the shelf.
    pub fn act(&mut self, step: &str) -> Result<StepReport> {
        let text = step.replace('~', &self.dir.path().display().to_string());
        let step: Step = toml::from_str(&text).map_err(|e| Error::arguments(e.to_string()))?;
        apply(&mut self.shelf, &step, &Job::unwatched())
    }

    /// The document of a step that must be done.
    pub fn done(&mut self, step: &str) -> Value {
        self.act(step).unwrap_or_else(|e| panic!("{step}: {e}")).document()
    }

    /// The sentence of a step that must fail.
    pub fn fails(&mut self, step: &str) -> String {
        match self.act(step) {
            Ok(report) => panic!("{step}: {:?}", report.lines),
            Err(e) => stavel_work::with_advice(e.to_string(), &e),
        }
    }

    /// Takes minutes of a source in.
    pub fn minutes(&mut self, source: &str, rows: &str) -> Value {
        std::fs::write(self.path("NOKSEK.csv"), format!("Time (UTC),Open,High,Low,Close,Volume\n{rows}"))
            .unwrap();
        self.done(&format!(
            "act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = '{source}'\nclock = 'UTC'\nframe = '1m'"
        ))
    }

    /// Series and number of the current edition of all that is on the shelf.
    pub fn editions(&self) -> Vec<(String, i64)> {
        let series = self.shelf.series().unwrap();
        series.into_iter().map(|s| (s.name.to_string(), s.edition.number)).collect()
    }

    /// A field of every row of a series, in points.
    pub fn column(&self, series: &str, field: stavel_core::model::Field) -> Vec<i64> {
        let info = self.shelf.find(&series.parse::<SeriesName>().unwrap()).unwrap();
        let rows = self.shelf.read(&info.edition, stavel_core::model::Span::ALL).unwrap();
        rows.column(field).to_vec()
    }
}

/// Minutes of a quiet market on some days of March 2024, moved by some points.
pub fn quiet(days: std::ops::Range<usize>, moved: i64) -> String {
    let mut out = String::new();
    for day in days {
        for minute in 0..24 * 60 {
            let wave = ((minute + 7 * day) % 97) as i64 - 48;
            let (open, close) = (98_000 + moved + wave, 98_000 + moved + wave + (minute as i64 % 3) - 1);
            let price = |points: i64| format!("{}.{:05}", points / 100_000, points % 100_000);
            out += &format!(
                "2024-03-{day:02} {:02}:{:02},{},{},{},{},{}\n",
                minute / 60,
                minute % 60,
                price(open),
                price(open.max(close) + 2),
                price(open.min(close) - 2),
                price(close),
                1 + minute % 9
            );
        }
    }
    out
}
