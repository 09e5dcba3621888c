//! A rehearsal as files: a report, a table, or a folder with all of it and a picture of each moment.

use std::path::{Path, PathBuf};

use stavel_core::deliver::{TimedTable, is_folder, write_tables};
use stavel_core::job::Job;
use stavel_core::model::layout::general;
use stavel_core::model::time::wall;
use stavel_core::model::{Clock, Layout};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

use super::moments::moment_svg;
use super::opening::Opened;
use super::report::report_of;
use super::tables::{journal, table_of};
use crate::deliver::room::set_aside;
use crate::page::write_file;
use crate::step::RehearsalTable;

/// Pictures of moments in a folder, at most.
const MOST_PICTURES: usize = 2_000;

/// What is written of a rehearsal, and how.
pub struct RehearsalOut {
    /// A file, or a folder that is new or empty: a name that ends in a slash.
    pub path: PathBuf,
    /// What a table holds.
    pub table: RehearsalTable,
    /// How the lines of a table are written; else with commas and times as RFC 3339.
    pub layout: Option<Layout>,
    /// The clock of times in tables, unless the layout has its own.
    pub clock: Clock,
}

impl RehearsalOut {
    /// A file as its ending says, with the fills where it is a table.
    pub fn of(path: &Path) -> RehearsalOut {
        RehearsalOut {
            path: path.to_owned(),
            table: RehearsalTable::Fills,
            layout: None,
            clock: Clock::utc(),
        }
    }

    fn text(&self, table: &TimedTable) -> Result<Vec<u8>> {
        let usual = || general("rfc3339").unwrap_or_else(|| Layout::plain(&[]));
        table.to_text(&self.layout.clone().unwrap_or_else(usual), &self.clock)
    }
}

/// What was written.
#[derive(Debug, Default)]
pub struct RehearsalFiles {
    /// The files, with their sizes.
    pub files: Vec<(PathBuf, u64)>,
    /// What a person should know of them.
    pub told: Vec<String>,
}

impl RehearsalFiles {
    /// What was written, as lines: a folder is told by what it holds.
    pub fn in_words(&self) -> Vec<String> {
        let one = |(path, bytes): &(PathBuf, u64)| format!("{}: {bytes} bytes", path.display());
        let mut lines: Vec<String> = match self.files.as_slice() {
            [] => Vec::new(),
            few if few.len() <= 4 => few.iter().map(one).collect(),
            all => {
                let mut lines: Vec<String> = all.iter().take(4).map(one).collect();
                lines.push(format!("and {} pictures of moments", all.len() - 4));
                lines
            }
        };
        lines.extend(self.told.iter().cloned());
        lines
    }

    /// Writes a file; another one that lies there is moved aside.
    fn write(&mut self, path: &Path, bytes: &[u8]) -> Result<()> {
        if std::fs::read(path).is_ok_and(|there| there == bytes) {
            self.files.push((path.to_owned(), bytes.len() as u64));
            return Ok(());
        }
        self.make_way(path)?;
        write_file(path, bytes)?;
        self.files.push((path.to_owned(), bytes.len() as u64));
        Ok(())
    }

    fn make_way(&mut self, path: &Path) -> Result<()> {
        if let Some(aside) = set_aside(path, None, Path::new("."))? {
            self.told.push(format!("what was {} before is kept as {}", path.display(), aside.display()));
        }
        Ok(())
    }
}

/// Writes a rehearsal: a report as `.html` or `.pdf`, a table as `.csv` or `.txt` (by a layout), `.json`, `.ndjson` or `.parquet`, all
/// tables as `.xlsx`, or all of it into a folder with a picture for each line of the journal.
///
/// # Errors
/// Where the ending is another, the layout does not fit, or something cannot be written.
pub fn write_rehearsal(
    shelf: &Shelf,
    opened: &Opened,
    out: &RehearsalOut,
    job: &Job,
) -> Result<RehearsalFiles> {
    let mut files = RehearsalFiles::default();
    if is_folder(&out.path) {
        write_folder(shelf, opened, out, &mut files, job)?;
        return Ok(files);
    }
    let table = || table_of(opened, out.table);
    let ending = out.path.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
    if out.layout.is_some() && !matches!(ending.as_str(), "csv" | "txt") {
        return Err(Error::arguments("A layout is for lines of text: end the name in .csv or .txt."));
    }
    let bytes = match ending.as_str() {
        "csv" | "txt" => out.text(&table())?,
        "json" => table().to_json(false),
        "ndjson" => table().to_json(true),
        "parquet" => table().to_parquet()?,
        "html" => report_of(shelf, opened, job)?.to_html()?.into_bytes(),
        "pdf" => report_of(shelf, opened, job)?.to_pdf()?,
        "xlsx" => {
            files.make_way(&out.path)?;
            let all = [RehearsalTable::Trades, RehearsalTable::Fills, RehearsalTable::Journal];
            let sheets: Vec<_> =
                all.iter().map(|which| table_of(opened, *which).to_side_table(&out.clock)).collect();
            write_tables(&out.path, &sheets)?;
            let bytes = std::fs::metadata(&out.path).map_or(0, |about| about.len());
            files.files.push((out.path.clone(), bytes));
            return Ok(files);
        }
        _ => {
            return Err(Error::arguments(format!(
                "{} must end in .html or .pdf for a report, in .csv, .txt, .json, .ndjson, .parquet or .xlsx for tables, or in / for a folder with all of it.",
                out.path.display()
            )));
        }
    };
    files.write(&out.path, &bytes)?;
    Ok(files)
}

/// Writes a picture of a moment; another file that lies there is moved aside. Tells what was done.
///
/// # Errors
/// Where its name does not end in `.svg`, or it cannot be written.
pub fn write_beside(path: &Path, svg: &[u8]) -> Result<String> {
    if path.extension().is_none_or(|ending| !ending.eq_ignore_ascii_case("svg")) {
        return Err(Error::arguments(format!("{} must end in .svg.", path.display())));
    }
    let mut files = RehearsalFiles::default();
    files.write(path, svg)?;
    Ok(files.in_words().join("; "))
}

fn write_folder(
    shelf: &Shelf,
    opened: &Opened,
    out: &RehearsalOut,
    files: &mut RehearsalFiles,
    job: &Job,
) -> Result<()> {
    if std::fs::read_dir(&out.path).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(Error::arguments(format!(
            "The folder {} is not empty; name one that is new.",
            out.path.display()
        )));
    }
    // What the layout cannot hold is refused before anything is written.
    let lines = opened.replay.desk().journal();
    out.text(&journal(opened, &[]))?;
    let mut pictures: Vec<Option<String>> = Vec::new();
    let mut drawn: Vec<(PathBuf, u64)> = Vec::new();
    for (line, entry) in lines.iter().enumerate().take(MOST_PICTURES) {
        job.advance(0)?;
        let svg = moment_svg(shelf, opened, line, job)?;
        let moment = wall(entry.time()).replace(['-', ':'], "").replace(' ', "T");
        let name = format!("pictures/{:04}-{moment}.svg", line + 1);
        if let Some(svg) = &svg {
            write_file(&out.path.join(&name), svg.as_bytes())?;
            drawn.push((out.path.join(&name), svg.len() as u64));
        }
        pictures.push(svg.map(|_| name));
    }
    if lines.len() > MOST_PICTURES {
        files.told.push(format!(
            "the first {MOST_PICTURES} of {} lines of the journal have a picture",
            lines.len()
        ));
    }
    let report = report_of(shelf, opened, job)?.to_html()?;
    files.write(&out.path.join("report.html"), report.as_bytes())?;
    for table in [
        table_of(opened, RehearsalTable::Trades),
        table_of(opened, RehearsalTable::Fills),
        journal(opened, &pictures),
    ] {
        files.write(&out.path.join(format!("{}.csv", table.name)), &out.text(&table)?)?;
    }
    files.files.extend(drawn);
    Ok(())
}
