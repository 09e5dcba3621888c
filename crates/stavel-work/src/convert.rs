//! Straight conversion: files in one form to files in another, without a shelf of one's own.
//!
//! The files go through a shelf in a folder for temporary files, which is taken away again: so they are
//! understood, asked about, built and proved just as on a shelf, and a file larger than memory converts.

use std::path::{Path, PathBuf};

use clap::Args;
use serde_json::{Value, json};

use stavel_core::deliver::FileFormat;
use stavel_core::job::Job;
use stavel_core::model::{Clock, DateOrder, Frame, Layout, SeriesPattern, Stamp, Use};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result, intake};

use crate::apply;
use crate::intake::{layout_named, plan_of};
use crate::report::StepReport;
use crate::step::{DeliverStep, FramesStep, FramesWanted, IntakeStep, Step, one_of};

/// Files to convert.
#[derive(Debug, Clone, Default, PartialEq, Args)]
pub struct ConvertWish {
    /// Files, folders, archives, or - for standard input.
    #[arg(required = true, value_name = "IN")]
    pub inputs: Vec<PathBuf>,
    /// A file, a folder (ending in / where it is not there yet), or - for standard output.
    #[arg(long, value_name = "OUT")]
    pub out: PathBuf,
    /// How the files are read: a general or a saved layout, or a file with one; else found in each file.
    #[arg(long)]
    pub layout: Option<String>,
    /// How lines are written: a general layout, or a file with one.
    #[arg(long, value_name = "LAYOUT")]
    pub layout_out: Option<String>,
    /// The clock of the times in the files; else found in them.
    #[arg(long)]
    pub clock: Option<Clock>,
    /// The clock of the times that are written; UTC if left away.
    #[arg(long, value_name = "CLOCK")]
    pub clock_out: Option<Clock>,
    /// The frame that is written; else that of the files.
    #[arg(long)]
    pub frame: Option<Frame>,
    /// The format of the files that are written; else as the ending of --out says, or CSV.
    #[arg(long, value_parser = one_of::<FileFormat>())]
    pub format: Option<FileFormat>,
    /// The instrument; else told from names or columns.
    #[arg(long)]
    pub instrument: Option<String>,
    /// The price of bars, or of a single price: bid, ask, mid or last.
    #[arg(long)]
    pub side: Option<String>,
    /// Order of dates; else told from the files.
    #[arg(long, value_parser = one_of::<DateOrder>())]
    pub dates: Option<DateOrder>,
    /// Which end of a bar its time names in the files; else found.
    #[arg(long, value_parser = one_of::<Stamp>())]
    pub stamp: Option<Stamp>,
}

/// Converts files; `room` is a folder for what is only needed meanwhile.
///
/// # Errors
/// As intake, frames and deliver; a question where a clock is wanted and that of the files is not known.
pub fn convert(wish: &ConvertWish, room: &Path, job: &Job) -> Result<StepReport> {
    let mut shelf = Shelf::open_to_write(&room.join("shelf"))?;
    let mut taking = IntakeStep {
        paths: wish.inputs.clone(),
        source: "file".into(),
        instrument: wish.instrument.clone(),
        clock: wish.clock.as_ref().map(ToString::to_string),
        side: wish.side.clone(),
        dates: wish.dates,
        stamp: wish.stamp,
        layout: wish.layout.clone(),
        ..IntakeStep::default()
    };
    let as_written = takes_times_as_written(&shelf, wish, &mut taking, room)?;
    let taken = apply(&mut shelf, &Step::Intake(taking), job)?;
    let mut series: Vec<_> = taken.changed.clone();
    if series.is_empty() {
        return Err(Error::input("The files hold no prices; there is nothing to convert."));
    }
    let mut wants_person = taken.wants_person;
    let mut lines = read_lines(&taken.json);
    if let Some(frame) = wish.frame {
        for name in series.iter_mut().filter(|name| name.frame != frame) {
            let step = FramesStep::of(name.clone(), vec![FramesWanted::One(frame)]);
            let built = apply(&mut shelf, &Step::Frames(step), job)?;
            wants_person |= built.wants_person;
            let made = built.changed.into_iter().find(|made| made.frame == frame && made.side == name.side);
            *name =
                made.ok_or_else(|| Error::input(format!("Bars of {frame} cannot be built of {name}.")))?;
        }
    }
    let layout_out = wish.layout_out.clone().or_else(|| {
        // Times that nobody knows the clock of do not say that they are UTC.
        (as_written && format_of(wish) == FileFormat::Csv).then(|| "plain-times".to_owned())
    });
    let step = DeliverStep {
        series: series.into_iter().map(SeriesPattern::from).collect(),
        out: wish.out.clone(),
        format: vec![format_of(wish)],
        layout: layout_out.into_iter().collect(),
        clock: wish.clock_out.clone(),
        ..DeliverStep::default()
    };
    let done = apply(&mut shelf, &Step::Deliver(Box::new(step)), job)?;
    lines.extend(done.lines.clone());
    if as_written {
        lines.push(
            "  ○ the clock of the files is not known: their times were written as they stand there".into(),
        );
    }
    let rejected = keep_rejects(&shelf, &taken.json, &wish.out)?;
    lines.extend(rejected.iter().map(|p| format!("  the rejected rows are in {}", p.display())));
    let mut json = done.json.clone();
    json["read"] = taken.json["series"].clone();
    if as_written {
        json["clock_known"] = json!(false);
    }
    let mut report = StepReport::new(json, lines);
    report.assumed = taken.assumed.clone();
    if !report.assumed.is_empty() {
        let list = |d: &stavel_core::model::Decision| json!({"what": d.what, "value": d.value, "why": d.why});
        report.json["assumed"] = report.assumed.iter().map(list).collect();
    }
    report.files = done.files;
    report.files.extend(rejected);
    report.wants_person = wants_person || done.wants_person;
    Ok(report)
}

/// What was read, from the document of the intake: its lines tell of the shelf, which is taken away.
fn read_lines(taken: &Value) -> Vec<String> {
    let mut lines = Vec::new();
    for series in taken["series"].as_array().into_iter().flatten() {
        let count = |key: &str| series[key].as_u64().unwrap_or_default();
        let name = series["series"].as_str().unwrap_or_default();
        lines.push(format!(
            "{}: {} rows read = {} kept + {} rejected + {} that came twice",
            name.split('@').next().unwrap_or_default(),
            count("rows_read"),
            count("rows_kept"),
            count("rows_rejected"),
            count("rows_already_there")
        ));
        let odd = [
            ("tails", "prices ended in the tail of a binary fraction and were rounded to what they mean"),
            (
                "cells_lost",
                "cells beside the prices are no numbers that fit; their rows were taken without them",
            ),
        ];
        lines.extend(
            odd.iter()
                .filter(|(key, _)| count(key) > 0)
                .map(|(key, what)| format!("  {} {what}", count(key))),
        );
    }
    lines
}

/// The format that is written.
fn format_of(wish: &ConvertWish) -> FileFormat {
    wish.format.or_else(|| FileFormat::of_name(&wish.out)).unwrap_or(FileFormat::Csv)
}

/// Where the clock of the files is not known and none is wanted, their times are written as they stand: true then.
fn takes_times_as_written(
    shelf: &Shelf,
    wish: &ConvertWish,
    taking: &mut IntakeStep,
    room: &Path,
) -> Result<bool> {
    if wish.clock.is_some() {
        return Ok(false);
    }
    let planned = plan_of(shelf, taking, room)?;
    let Some(silent) = planned.plans.iter().find(|plan| plan.clock.is_none()) else { return Ok(false) };
    if let Some(known) = planned.plans.iter().find(|plan| plan.clock.is_some()) {
        return Err(Error::undecided(format!(
            "The clock of {} is known and that of {} is not, so their times would not be written alike; convert them apart, or say --clock.",
            known.series, silent.series
        )));
    }
    let place = silent.files.first().map_or_else(|| silent.series.to_string(), |(member, _)| member.place());
    let ask = |why: &str| {
        Err(Error::undecided(format!("Nothing tells the clock of {place}, so its times {why}; say --clock.")))
    };
    if wish.clock_out.is_some() {
        return ask("cannot be moved to another one");
    }
    let layout = wish.layout_out.as_deref().map(|name| layout_named(shelf, name)).transpose()?;
    let names_moments = |l: &Layout| l.writing.offsets || l.columns.iter().any(|u| matches!(u, Use::Unix(_)));
    if !matches!(format_of(wish), FileFormat::Csv | FileFormat::Xlsx)
        || layout.is_some_and(|l| names_moments(&l))
    {
        return ask("cannot be written as moments of UTC");
    }
    taking.clock = Some("UTC".into());
    Ok(true)
}

/// Lays the rows that were rejected beside what was written: the shelf they wait on is taken away.
fn keep_rejects(shelf: &Shelf, taken: &Value, out: &Path) -> Result<Vec<PathBuf>> {
    let mut kept = Vec::new();
    for id in taken["series"].as_array().into_iter().flatten().filter_map(|s| s["rejects"].as_str()) {
        let stem = Path::new(id).file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let rows = intake::read_rejects(shelf.root(), &stem)?;
        let folder = if out.is_dir() { out } else { out.parent().unwrap_or(Path::new("")) };
        let name = out.file_name().filter(|_| !out.is_dir()).map_or("rows".into(), |n| n.to_string_lossy());
        let path = (1..)
            .map(|n| {
                folder.join(if n == 1 {
                    format!("{name}.rejected.txt")
                } else {
                    format!("{name}.rejected-{n}.txt")
                })
            })
            .find(|path| !path.exists());
        let Some(path) = path else { continue };
        let mut text = Vec::new();
        for row in rows {
            text.extend(format!("line {}: {}: ", row.line, row.reason).bytes());
            text.extend_from_slice(&row.raw);
            text.push(b'\n');
        }
        crate::page::write_file(&path, &text)?;
        kept.push(path);
    }
    Ok(kept)
}
