//! Doing what was typed.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context, Result, bail};
use serde_json::json;
use stavel_core::Error;
use stavel_core::deliver::FileFormat;
use stavel_core::job::Job;
use stavel_core::model::time::parse;
use stavel_core::splice::{SpliceWishes, ask_of};
use stavel_core::store::Shelf;
use stavel_work::{AccountWish, DeliverStep, Done, IntakeStep, Recipe, SpliceStep, Step, StepReport};

use crate::args::*;
use crate::bench::options_of;
use crate::output::{Ending, print_json, print_lines, quietly, tell};
use crate::progress::ProgressLine;
use crate::{costs, demo, extras, feeds, frame_sets, handed_on, layouts, record, served, shelf};

/// The shelf that is meant: as typed, else the user data folder.
fn shelf_folder(args: &Args) -> Result<PathBuf> {
    if let Some(dir) = &args.shelf {
        return Ok(dir.clone());
    }
    let folders = directories::BaseDirs::new();
    let folders = folders.context("There is no home folder to keep the shelf in; say --shelf DIR")?;
    Ok(folders.data_dir().join("stavel"))
}

/// Has everything that is told to the log go to the end of a file.
fn log_to(path: &Path) -> Result<()> {
    let file = std::fs::OpenOptions::new().create(true).append(true).open(path);
    let file = file.with_context(|| format!("The log {} cannot be written", path.display()))?;
    tracing_subscriber::fmt()
        .with_writer(std::sync::Mutex::new(file))
        .with_ansi(false)
        .with_max_level(tracing::Level::DEBUG)
        .init();
    Ok(())
}

/// A splice as it was asked for, or as the joined series says it was made.
fn splice_step(a: &SpliceArgs, folder: &Path) -> Result<SpliceStep> {
    if !a.refresh {
        return Ok(a.step.clone());
    }
    let [joined] = a.step.series.as_slice() else {
        bail!(Error::arguments("--refresh takes one joined series."));
    };
    let (series, ask) = ask_of(&Shelf::open(folder)?.find(joined)?)?;
    let SpliceWishes { rule, level, carry_spread, layered, .. } = ask;
    let (into, anew) = (joined.source.clone(), a.step.anew);
    Ok(SpliceStep { series, into, rule, level, carry_spread, layered, anew })
}

/// Runs the command.
pub fn run(args: &Args) -> Result<Ending> {
    if let Some(path) = &args.log {
        log_to(path)?;
    }
    let folder = shelf_folder(args)?;
    tracing::info!(version = env!("CARGO_PKG_VERSION"), shelf = %folder.display(), "stavel");
    let step = match &args.command {
        None => {
            stavel_tui::run(&folder, options_of(args)?)?;
            return Ok(Ending::Done);
        }
        Some(Command::Demo(a)) => return demo::run(a, args),
        Some(Command::Feeds { add }) => return feeds::run(&folder, add.as_deref(), args.json),
        Some(Command::StandIn(a)) => return feeds::stand_in(a),
        Some(Command::Record(a)) => return record::run(&folder, a, args.json),
        Some(Command::Shelf(a)) if !a.changes() => return shelf::show(&folder, a, args.json),
        Some(Command::Sheet { name, account, at, csv }) => {
            let at = at.as_deref().map(parse).transpose()?;
            let account = account.clone().map(|currency| AccountWish { currency, at });
            return shelf::show_sheet(&folder, name, account.as_ref(), *csv, args.json);
        }
        Some(Command::Costs { name, account, at, weight, csv, xlsx }) => {
            let at = at.as_deref().map(parse).transpose()?;
            let account = account.clone().map(|currency| AccountWish { currency, at });
            let form = match xlsx {
                Some(path) => costs::CostForm::Workbook(path),
                None if *csv => costs::CostForm::Csv,
                None if args.json => costs::CostForm::Json,
                None => costs::CostForm::Lines,
            };
            return costs::show(&folder, name, account.as_ref(), *weight, form);
        }
        Some(Command::Convert(wish)) => return handed_on::convert(wish, args.json),
        Some(Command::Bundle { out, recipe }) => {
            return handed_on::bundle(&folder, out, recipe.as_deref(), args.json);
        }
        Some(Command::Unbundle { bundle, to }) => return handed_on::unbundle(bundle, to, args.json),
        Some(Command::Completions { shell }) => return extras::completions(*shell),
        Some(Command::Man { out }) => return extras::man(out.as_deref()),
        Some(Command::Layout { act }) => return layouts::run(&folder, act, args.json),
        Some(Command::FrameSet { act }) => return frame_sets::run(&folder, act, args.json),
        Some(Command::Run { recipe, dry_run }) => return run_recipe(&folder, recipe, *dry_run, args.json),
        Some(Command::Intake(a)) if a.dry_run => return layouts::preview(&folder, &a.step, args.json),
        Some(Command::Intake(IntakeArgs {
            step: IntakeStep { rejects: Some(id), .. },
            retake: false,
            ..
        })) => {
            return layouts::show_rejects(&folder, id, args.json);
        }
        Some(Command::Rehearse(RehearseArgs { step, serve: Some(address), pace })) => {
            return served::run(&folder, step, address, pace.unwrap_or_default(), args.json);
        }
        Some(Command::Rehearse(RehearseArgs { step, pace, .. })) if !step.is_without_screen() => {
            stavel_tui::rehearse(&folder, step, *pace, options_of(args)?)?;
            return Ok(Ending::Done);
        }
        Some(Command::Deliver(a)) if a.out == Path::new("-") => return deliver_to_stdout(&folder, a),
        Some(command) => step_of(command, &folder)?,
    };
    let report = do_step(&folder, &step)?;
    let is_verbose = matches!(&args.command, Some(Command::Auto(typed)) if typed.verbose);
    match is_verbose && !args.json {
        true => print_lines(&report.details)?,
        false => tell(&report, args.json)?,
    }
    Ok(ending_of(&report))
}

fn ending_of(report: &StepReport) -> Ending {
    if report.wants_person { Ending::WantsPerson } else { Ending::Done }
}

/// The step a command asks for.
pub fn step_of(command: &Command, folder: &Path) -> Result<Step> {
    Ok(match command {
        Command::Auto(typed) => Step::Auto(typed.step.clone()),
        Command::Intake(a) => Step::Intake(a.step.clone()),
        Command::Fetch(step) => Step::Fetch(step.clone()),
        Command::Update(step) => Step::Update(step.clone()),
        Command::Undo(step) => Step::Undo(step.clone()),
        Command::Redo(step) => Step::Redo(step.clone()),
        Command::Check(step) => Step::Check(step.clone()),
        Command::Align(step) => Step::Align(step.clone()),
        Command::Splice(a) => Step::Splice(splice_step(a, folder)?),
        Command::Frames(step) => Step::Frames(step.clone()),
        Command::Compose(step) => Step::Compose(step.clone()),
        Command::Deliver(step) => Step::Deliver(step.clone()),
        Command::Chart(step) => Step::Chart(step.clone()),
        Command::Draw(step) => Step::Draw(step.clone()),
        Command::Dossier(step) => Step::Dossier(step.clone()),
        Command::Rehearse(args) => Step::Rehearse(args.step.clone()),
        Command::Shelf(a) => Step::Shelf(a.step.clone()),
        Command::Demo(_)
        | Command::Feeds { .. }
        | Command::StandIn(_)
        | Command::Record(_)
        | Command::Sheet { .. }
        | Command::Costs { .. }
        | Command::Convert(_)
        | Command::Bundle { .. }
        | Command::Unbundle { .. }
        | Command::Layout { .. }
        | Command::FrameSet { .. }
        | Command::Run { .. }
        | Command::Completions { .. }
        | Command::Man { .. } => bail!("This command is no step."),
    })
}

/// Opens a shelf to change it, and tells what was set aside then.
fn open_to_write(folder: &Path) -> Result<Shelf> {
    let shelf = Shelf::open_to_write(folder)?;
    for path in &shelf.set_aside {
        let place = stavel_core::error::printable(&shelf.root().join(path).display().to_string());
        eprintln!("stavel: a data file that the catalog does not name was set aside: {place}");
    }
    Ok(shelf)
}

/// Does one step on the shelf in a folder, with a progress line.
pub fn do_step(folder: &Path, step: &Step) -> Result<StepReport> {
    let mut shelf = if step.writes() { open_to_write(folder)? } else { Shelf::open(folder)? };
    let job = Arc::new(Job::unwatched());
    let line = ProgressLine::watch(job.clone());
    let report = stavel_work::apply(&mut shelf, step, &job);
    drop(line);
    Ok(report?)
}

/// Prints a report for a person, or its document.
fn deliver_to_stdout(folder: &Path, a: &DeliverStep) -> Result<Ending> {
    let format = a.format.first().copied().unwrap_or(FileFormat::Csv);
    if a.series.len() != 1 || a.layout.len() > 1 || a.format.len() > 1 || a.split.is_some() {
        return Err(Error::arguments("Only one file at a time goes to standard output.").into());
    }
    if format == FileFormat::Dataset {
        return Err(Error::arguments("A dataset is a folder; say --out DIR/.").into());
    }
    // Even what goes to standard output is proved first, in a file of its own.
    let room = tempfile::tempdir()?;
    let temporary = room.path().join("rows").with_extension(format.ending());
    let report =
        do_step(folder, &Step::Deliver(Box::new(DeliverStep { out: temporary.clone(), ..a.clone() })))?;
    // What could not be proved is not passed off as the series.
    if report.files.first() != Some(&temporary) {
        bail!(Error::storage("What was read back is not what the series holds; nothing was delivered."));
    }
    let mut file = std::fs::File::open(&temporary)?;
    quietly(std::io::copy(&mut file, &mut std::io::stdout().lock()).map(drop))?;
    // The rows go to standard output, so what is to be said goes beside it.
    for line in report.lines.iter().filter(|l| l.contains("assumed")) {
        eprintln!("{}", stavel_core::error::printable(line.trim()));
    }
    Ok(ending_of(&report))
}

fn run_recipe(folder: &Path, path: &Path, dry_run: bool, as_json: bool) -> Result<Ending> {
    let recipe = Recipe::read(path)?;
    if dry_run {
        let lines: Vec<String> = recipe.step.iter().map(Step::command_line).collect();
        if as_json {
            print_json(&json!({ "would_do": lines }))?;
        } else {
            print_lines(&lines)?;
        }
        return Ok(Ending::Done);
    }
    let mut shelf = open_to_write(folder)?;
    let job = Arc::new(Job::unwatched());
    let line = ProgressLine::watch(job.clone());
    let mut documents = Vec::new();
    let mut lines = Vec::new();
    let mut ending = Ending::Done;
    let act = |shelf: &mut Shelf, step: &Step| stavel_work::apply(shelf, step, &job);
    // All steps together are one act: undone as they were done.
    let told = format!("run {}", path.display());
    shelf.begin_act(&recipe.to_text()?)?;
    let outcome = stavel_work::run(&mut shelf, &recipe, act, |number, step, done| {
        let number = number + 1;
        match done {
            Done::Now(report) => {
                lines.push(format!("{number} {}", step.command_line()));
                lines.extend(report.lines.iter().map(|l| format!("    {l}")));
                documents.push(
                    json!({"step": number, "act": step.act(), "done": "now", "report": report.document()}),
                );
                if report.wants_person {
                    ending = Ending::WantsPerson;
                }
            }
            Done::Before(_) => {
                lines.push(format!("{number} {}", step.command_line()));
                lines.push("    nothing has changed: not done again".into());
                documents.push(json!({"step": number, "act": step.act(), "done": "before"}));
            }
        }
    });
    // Steps that were done before one that failed stay done.
    let is_changed = documents.iter().any(|d| d["done"] == "now");
    shelf.end_act("", if is_changed { &told } else { "" })?;
    drop(line);
    if as_json {
        print_json(&json!({ "steps": documents }))?;
    } else {
        print_lines(&lines)?;
    }
    outcome?;
    Ok(ending)
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Parser;

    /// Every act with every setting.
    const STEPS: &str = "
[[step]]
act = 'intake'
paths = ['a b.csv', 'c.zip']
source = 'quill'
instrument = 'NOKSEK'
clock = 'America/New_York+7h'
frame = '1m'
side = 'ask'
decimals = 5
dates = 'day-first'
stamp = 'close'
replace = true
[[step]]
act = 'check'
series = 'NOKSEK@quill:1m'
from = '2024-03-01'
to = '2024-04-01'
mend = ['spike', 'bad_ohlc', 'conflicting_time=median', 'move=2024-03-04T00:00:00Z/2024-03-05T00:00:00Z=-1h30m']
mends = 'mends.toml'
save_mends = 'all.toml'
against = 'NOKSEK@tarn:1m'
learn = true
report = 'x.html'
[[step]]
act = 'align'
series = 'NOKSEK@tarn:1m'
to = 'NOKSEK@quill:1m'
clock = 'UTC+2, from 2023-06-04 America/New_York+7h'
stamp = 'close'
scan = true
anchor = true
[[step]]
act = 'splice'
series = ['NOKSEK@tarn:1m', 'NOKSEK@quill:1m.ask']
into = 'joined'
rule = 'cut=2023-06-01T00:00:00Z'
level = 'ratio'
carry_spread = true
layered = true
[[step]]
act = 'frames'
series = 'NOKSEK@quill:ticks'
frames = ['all', '9h']
clock = 'UTC+3'
side = 'mid'
[[step]]
act = 'compose'
name = 'NOKSEK.day'
like = 'NOKSEK'
from = 'NOKSEK@joined:1m'
shift = '-1h30m'
[step.set]
hours = 'mon-fri 08:00-17:00 Europe/Oslo'
spread = '18'
[[step]]
act = 'deliver'
series = ['NOKSEK@joined:1h']
out = 'out/'
format = 'json'
clock = 'UTC+3'
from = '2024-03-01 10:00'
last = 7
[[step]]
act = 'chart'
series = 'NOKSEK@joined:1h'
with = 'NOKSEK@tarn:1m'
ma = 30
out = 'x.svg'
[[step]]
act = 'rehearse'
series = 'NOKSEK@quill:ticks'
from = '2024-03-27'
orders = 'o.csv'
[[step]]
act = 'shelf'
series = 'NOKSEK@quill:ticks'
rename = 'NOKSEK@vendor:ticks'
[[step]]
act = 'shelf'
series = 'NOKSEK@quill:ticks'
remove = true
[[step]]
act = 'shelf'
tidy = true
[[step]]
act = 'intake'
paths = []
source = ''
rejects = 'NOKSEK-quill-1m-1'
layout = 'quill-bars'
stamp = 'close'
names = '{instrument}.csv'
prefer = 'new'
[[step]]
act = 'deliver'
series = ['NOKSEK@joined:1h']
out = 'x.csv'
layout = 'quill-bars'
[[step]]
act = 'intake'
paths = [\"-it's $HOME.csv\"]
source = 'quill'
[[step]]
act = 'undo'
series = 'NOKSEK@quill:ticks'
";

    /// What the bench shows as the command for a step must be that step when it is typed.
    #[test]
    fn every_step_is_told_as_the_command_that_does_it() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("r.toml");
        std::fs::write(&path, STEPS).unwrap();
        // Read where no folder is put before the paths.
        std::env::set_current_dir(dir.path()).unwrap();
        let recipe = Recipe::read(Path::new("r.toml")).unwrap();
        assert_eq!(recipe.step.len(), 16);
        for step in &recipe.step {
            let line = step.command_line();
            let args =
                Args::try_parse_from(shlex::split(&line).unwrap()).unwrap_or_else(|e| panic!("{line}: {e}"));
            let typed = step_of(&args.command.unwrap(), dir.path()).unwrap();
            assert_eq!(typed, *step, "{line}");
        }
    }

    #[test]
    fn the_commands_are_sound_and_plain_verbs_are_taken_too() {
        use clap::CommandFactory;
        Args::command().debug_assert();
        for (plain, ours) in [
            ("import", "intake"),
            ("resample", "frames"),
            ("merge", "splice"),
            ("export", "deliver"),
            ("replay", "rehearse"),
        ] {
            let help =
                |word: &str| Args::try_parse_from(["stavel", word, "--help"]).err().unwrap().to_string();
            assert_eq!(help(plain), help(ours));
        }
        let help = Args::try_parse_from(["stavel", "--help"]).err().unwrap().to_string();
        assert!(!help.contains("resample"), "they are not in the way of our words");
    }
}
