//! What is handed on to others: files converted, and bundles.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use anyhow::{Context, Result, bail};
use stavel_core::Error;
use stavel_core::job::Job;
use stavel_core::store::Shelf;
use stavel_work::{ConvertWish, StepReport};

use crate::output::{Ending, quietly, tell};
use crate::progress::ProgressLine;

fn watched(work: impl FnOnce(&Job) -> stavel_core::Result<StepReport>) -> Result<StepReport> {
    let job = Arc::new(Job::unwatched());
    let line = ProgressLine::watch(job.clone());
    let report = work(&job);
    drop(line);
    Ok(report?)
}

fn ending_of(report: &StepReport) -> Ending {
    if report.wants_person { Ending::WantsPerson } else { Ending::Done }
}

/// Converts files; `-` stands for standard input and standard output.
pub fn convert(wish: &ConvertWish, as_json: bool) -> Result<Ending> {
    let room = tempfile::tempdir()?;
    let mut wish = wish.clone();
    let dash = Path::new("-");
    for input in wish.inputs.iter_mut().filter(|p| *p == dash) {
        let path = room.path().join("standard-input.csv");
        let mut file = std::fs::File::create(&path)?;
        std::io::copy(&mut std::io::stdin().lock(), &mut file).context("Standard input cannot be read")?;
        *input = path;
    }
    if wish.out != dash {
        let report = watched(|job| stavel_work::convert(&wish, room.path(), job))?;
        tell(&report, as_json)?;
        return Ok(ending_of(&report));
    }
    let ending = wish.format.map_or("csv", stavel_core::deliver::FileFormat::ending);
    let out = room.path().join(format!("out.{ending}"));
    wish.out.clone_from(&out);
    let report = watched(|job| stavel_work::convert(&wish, room.path(), job))?;
    // What could not be proved is not passed off as what was converted.
    if report.files.first() != Some(&out) {
        bail!(Error::storage("What was read back is not what the files hold; nothing was written."));
    }
    let mut file = std::fs::File::open(&out)?;
    quietly(std::io::copy(&mut file, &mut std::io::stdout().lock()).map(drop))?;
    // The rows go to standard output, so what is to be said goes beside it.
    for line in
        report.lines.iter().filter(|l| !l.contains("read back, equal") && !l.contains("rejected rows are in"))
    {
        eprintln!("{}", stavel_core::error::printable(line.trim()));
    }
    for path in &report.files[1..] {
        std::io::stderr().lock().write_all(&std::fs::read(path)?)?;
    }
    Ok(ending_of(&report))
}

/// Puts the shelf, or a recipe with its files, into a bundle.
pub fn bundle(folder: &Path, out: &Path, recipe: Option<&Path>, as_json: bool) -> Result<Ending> {
    let report = match recipe {
        Some(recipe) => watched(|job| stavel_work::bundle_recipe(recipe, out, job))?,
        None => {
            // Open to write, so that nobody changes it meanwhile.
            let shelf = Shelf::open_to_write(folder)?;
            watched(|job| stavel_work::bundle_shelf(&shelf, out, job))?
        }
    };
    tell(&report, as_json)?;
    Ok(Ending::Done)
}

/// Takes a bundle apart.
pub fn unbundle(bundle: &Path, to: &Path, as_json: bool) -> Result<Ending> {
    let report = watched(|job| stavel_work::unbundle(bundle, to, job))?;
    tell(&report, as_json)?;
    Ok(Ending::Done)
}
