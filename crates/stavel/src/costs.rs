//! Showing what trading an instrument costs.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use anyhow::Result;
use stavel_core::job::Job;
use stavel_core::model::Weight;
use stavel_core::store::Shelf;
use stavel_work::{AccountWish, cost_sheet, costs_csv, costs_report, costs_tables};

use crate::output::{Ending, print_lines, quietly, tell};
use crate::progress::ProgressLine;

/// What a cost sheet is shown as.
#[derive(Clone, Copy)]
pub enum CostForm<'a> {
    Lines,
    Json,
    Csv,
    Workbook(&'a Path),
}

/// Shows the cost sheet of an instrument, or of one of its series.
pub fn show(
    folder: &Path,
    name: &str,
    account: Option<&AccountWish>,
    weight: Option<Weight>,
    form: CostForm<'_>,
) -> Result<Ending> {
    let shelf = Shelf::open(folder)?;
    let job = Arc::new(Job::unwatched());
    let line = ProgressLine::watch(job.clone());
    let sheet = cost_sheet(&shelf, name, account, weight, &job);
    drop(line);
    let sheet = sheet?;
    let report = costs_report(&sheet)?;
    match form {
        CostForm::Lines => tell(&report, false)?,
        CostForm::Json => tell(&report, true)?,
        CostForm::Csv => quietly(std::io::stdout().lock().write_all(costs_csv(&sheet)?.as_bytes()))?,
        CostForm::Workbook(path) => {
            stavel_core::deliver::write_tables(path, &costs_tables(&sheet))?;
            print_lines(&[format!("{}: what trading {} costs", path.display(), sheet.instrument.name)])?;
        }
    }
    // What is doubtful is told also beside a file or a table for programs.
    if matches!(form, CostForm::Csv | CostForm::Workbook(_)) {
        sheet.doubts.iter().for_each(|doubt| eprintln!("stavel: {}", stavel_core::error::printable(doubt)));
    }
    Ok(if report.wants_person { Ending::WantsPerson } else { Ending::Done })
}
