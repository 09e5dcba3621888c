//! What a command prints, and how it ended.

use std::io::Write;

use anyhow::Result;
use serde_json::Value;
use stavel_work::StepReport;

/// How a command ended that did not fail.
#[derive(PartialEq, Eq)]
pub enum Ending {
    Done,
    WantsPerson,
}

/// Prints what a step did: as a document, or in lines.
pub fn tell(report: &StepReport, as_json: bool) -> Result<()> {
    if as_json { print_json(&report.document()) } else { print_lines(&report.lines) }
}

/// Prints a document.
pub fn print_json(value: &Value) -> Result<()> {
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    let written = serde_json::to_writer_pretty(&mut out, value).map_err(std::io::Error::from);
    quietly(written.and_then(|()| writeln!(out)).and_then(|()| out.flush()))
}

/// A reader that goes away (`| head`) is no failure.
pub fn quietly(written: std::io::Result<()>) -> Result<()> {
    match written {
        Err(e) if e.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        other => Ok(other?),
    }
}

/// Prints lines made safe for a terminal; a reader that goes away is no failure.
pub fn print_lines(lines: &[String]) -> Result<()> {
    let mut out = std::io::stdout().lock();
    for line in lines {
        let text = format!("{}\n", stavel_core::error::printable(line));
        match out.write_all(text.as_bytes()) {
            Err(e) if e.kind() == std::io::ErrorKind::BrokenPipe => return Ok(()),
            other => other?,
        }
    }
    Ok(())
}
