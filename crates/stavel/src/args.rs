//! What may be typed.

use std::path::PathBuf;

use clap::{ArgAction, Parser, Subcommand};
use stavel_core::Result;
use stavel_core::check::{Against, Mend};
use stavel_core::deliver::Format;
use stavel_core::model::{Clock, SeriesName};
use stavel_core::model::{DateOrder, Stamp};
use stavel_core::splice::{Level, Rule};
use stavel_work::*;

/// One honest history out of vendor and broker data, for people who backtest.
///
/// Without a command, the bench opens.
#[derive(Parser)]
#[command(name = "stavel", version, arg_required_else_help = false, disable_help_subcommand = true)]
pub struct Args {
    /// The folder that holds everything; else the user data folder.
    #[arg(long, global = true, env = "STAVEL_SHELF", value_name = "DIR")]
    pub shelf: Option<PathBuf>,
    /// Print one JSON document on standard output and nothing else there.
    #[arg(long, global = true)]
    pub json: bool,
    #[command(subcommand)]
    pub command: Option<Command>,
}

#[derive(Subcommand)]
pub enum Command {
    /// Make the demo shelf and open the bench on it.
    Demo(DemoArgs),
    /// Take files of a vendor or broker in.
    #[command(alias = "import")]
    Intake(IntakeArgs),
    /// What is on the shelf, and its upkeep.
    Shelf(ShelfArgs),
    /// Layouts: how the columns of files are to be understood.
    Layout {
        #[command(subcommand)]
        act: LayoutAct,
    },
    /// Step a series back over its last change; without one, the last whole act.
    Undo { series: Option<SeriesName> },
    /// Step a series forth over what was undone last; without one, the last whole act.
    Redo { series: Option<SeriesName> },
    /// Find what is wrong in a series, and mend it.
    Check(CheckArgs),
    /// Find the clock of a series by comparing it with an anchored one.
    Align {
        series: SeriesName,
        /// The anchored series to compare it with; not needed where the clock is said.
        #[arg(long, value_name = "SERIES", required_unless_present = "clock")]
        to: Option<SeriesName>,
        /// Store the series in UTC with the clock found, or chosen.
        #[arg(long)]
        anchor: bool,
        /// Take the clock found even where weeks speak against it.
        #[arg(long)]
        accept: bool,
        /// Take this clock instead of finding one.
        #[arg(long)]
        clock: Option<Clock>,
        /// Bars are stamped where they open or where they close; found where it is not said.
        #[arg(long, value_parser = ["open", "close"])]
        stamp: Option<String>,
        /// Tell the score of every rule that was tried.
        #[arg(long)]
        scan: bool,
    },
    /// Merge sources into one history, in order of precedence.
    #[command(alias = "merge")]
    Splice(SpliceArgs),
    /// Build bars of other frames.
    #[command(alias = "resample")]
    Frames {
        series: SeriesName,
        /// As 5m, 4h, 1d, 1w, 1mo; all for the usual ones.
        #[arg(required = true)]
        frames: Vec<String>,
        /// Clock of the session days; else the instrument's.
        #[arg(long)]
        clock: Option<Clock>,
        /// Of ticks: bid, ask or mid.
        #[arg(long)]
        side: Option<String>,
    },
    /// Make an instrument of your own, or change one's spec sheet.
    Compose(ComposeArgs),
    /// Write series to files and prove them by reading back.
    #[command(alias = "export")]
    Deliver(DeliverArgs),
    /// Draw a chart into an SVG or PDF file.
    Chart {
        series: SeriesName,
        /// A second series, drawn as a line.
        #[arg(long, value_name = "SERIES")]
        with: Option<SeriesName>,
        #[arg(long)]
        from: Option<String>,
        #[arg(long)]
        to: Option<String>,
        /// Bars in a moving average.
        #[arg(long, value_name = "BARS")]
        ma: Option<usize>,
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
    /// Play a history; with orders, without a screen.
    #[command(alias = "replay")]
    Rehearse {
        series: SeriesName,
        #[arg(long)]
        from: Option<String>,
        #[arg(long)]
        to: Option<String>,
        /// A CSV file of time,side,lots.
        #[arg(long, value_name = "FILE")]
        orders: Option<PathBuf>,
    },
    /// Do the steps of a recipe; a step that would change nothing is not done again.
    Run {
        recipe: PathBuf,
        /// Only say what would be done.
        #[arg(long)]
        dry_run: bool,
    },
}

#[derive(clap::Args)]
pub struct DemoArgs {
    /// Run the full example without a screen and say what it did and proved.
    #[arg(long)]
    pub headless: bool,
    /// Where to make the demo; else stavel-demo in the folder for temporary files.
    #[arg(long, value_name = "DIR")]
    pub dir: Option<PathBuf>,
    /// Years of minutes.
    #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u32).range(1..=60))]
    pub years: u32,
}

#[derive(clap::Args)]
pub struct ShelfArgs {
    pub series: Option<SeriesName>,
    /// All editions of the series, with what each was made from.
    #[arg(long, requires = "series", group = "what")]
    pub editions: bool,
    /// How an older edition of the series differs from the current one.
    #[arg(long, value_name = "EDITION", requires = "series", group = "what")]
    pub compare: Option<i64>,
    /// Dated facts of an instrument: dividends, splits, statements, events.
    #[arg(long, value_name = "INSTRUMENT", conflicts_with = "series", group = "what")]
    pub facts: Option<String>,
    /// Compare every file with what the catalog says of it.
    #[arg(long, group = "what")]
    pub verify: bool,
    /// Make the catalog anew from the data files; the one that is there is set aside.
    #[arg(long, conflicts_with = "series", group = "what")]
    pub rebuild: bool,
    /// Do away with older editions and removed series; there is no undo after this.
    #[arg(long, group = "what")]
    pub tidy: bool,
    /// Give the series another name.
    #[arg(long, value_name = "SERIES", requires = "series", group = "what")]
    pub rename: Option<SeriesName>,
    /// Take the series off the shelf; undo brings it back.
    #[arg(long, requires = "series", group = "what")]
    pub remove: bool,
}

#[derive(Subcommand)]
pub enum LayoutAct {
    /// The saved layouts.
    List,
    /// A saved layout as text.
    Show { name: String },
    /// Save a layout under a name: the one in a layout file, or the one found in a file of prices.
    Save {
        name: String,
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Take a saved layout away; undo brings it back.
    Remove { name: String },
    /// Say what is understood of a file, by a layout or as found.
    Test {
        #[arg(value_name = "FILE")]
        file: PathBuf,
        #[arg(long)]
        layout: Option<String>,
    },
}

#[derive(clap::Args)]
pub struct IntakeArgs {
    /// Files, folders, archives (.zip .gz .zst), or patterns with * and ?.
    #[arg(required_unless_present = "rejects", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// Where they come from: a vendor or broker.
    #[arg(long, required_unless_present = "rejects", default_value = "", hide_default_value = true)]
    pub source: String,
    /// Show the rows an earlier intake rejected; with --retake, take them again.
    #[arg(long, value_name = "ID", conflicts_with = "paths")]
    pub rejects: Option<String>,
    /// Take rejected rows again, with --layout or other settings that now fit.
    #[arg(long, requires = "rejects")]
    pub retake: bool,
    /// A saved layout, or a file with one; else found in each file.
    #[arg(long)]
    pub layout: Option<String>,
    /// How file names are made, as "{instrument}-{frame}.csv".
    #[arg(long, value_name = "PATTERN")]
    pub names: Option<String>,
    /// Of two bars at one time with other values keep the old (the default) or the new.
    #[arg(long, value_parser = ["old", "new"], default_value = "old")]
    pub prefer: String,
    #[arg(long)]
    pub instrument: Option<String>,
    /// The clock of the times, as UTC, UTC+3, Europe/Oslo or America/New_York+7h; or afloat.
    #[arg(long)]
    pub clock: Option<String>,
    /// ticks, 1m, 1h, …; else told from the times.
    #[arg(long)]
    pub frame: Option<String>,
    /// Which end of a bar its time names: open or close.
    #[arg(long, value_parser = ["open", "close"])]
    pub stamp: Option<String>,
    /// bid, ask, mid or last.
    #[arg(long)]
    pub side: Option<String>,
    /// Decimals of the prices; else told from the file.
    #[arg(long)]
    pub decimals: Option<u8>,
    /// Order of dates: day-first, month-first or year-first; else told from the file.
    #[arg(long, value_parser = ["day-first", "month-first", "year-first"])]
    pub dates: Option<String>,
    /// Add to what is there (the default).
    #[arg(long, action = ArgAction::SetTrue, conflicts_with = "replace")]
    pub add: bool,
    /// Replace the span that the new rows cover.
    #[arg(long)]
    pub replace: bool,
    /// Only say what would be done and show the first rows as understood.
    #[arg(long)]
    pub dry_run: bool,
}

#[derive(clap::Args)]
pub struct SpliceArgs {
    /// Sources in order of precedence; with --refresh one joined series.
    #[arg(required = true)]
    pub series: Vec<SeriesName>,
    #[arg(long, value_name = "SOURCE", required_unless_present = "refresh")]
    pub into: Option<String>,
    /// Who owns which time: span, holes, grade, cut=TIME, or hours=WEEK as in
    /// 'hours=mon-fri 08:00-17:00 Europe/Oslo'.
    #[arg(long, default_value = "span")]
    pub rule: Rule,
    /// Bring later series to the level of the first: none, shift or ratio.
    #[arg(long, default_value = "none")]
    pub level: Level,
    /// Put the first one's spread by hour of the week on rows that do not know theirs.
    #[arg(long)]
    pub carry_spread: bool,
    /// Keep ticks where there are ticks and minutes elsewhere, as one series.
    #[arg(long)]
    pub layered: bool,
    /// Join a joined series again as it was joined, from where its sources have changed.
    #[arg(long, conflicts_with_all = ["into", "rule", "level", "carry_spread", "layered"])]
    pub refresh: bool,
    /// Measure levels and spreads again, though rows of the past then change.
    #[arg(long)]
    pub anew: bool,
}

#[derive(clap::Args)]
pub struct CheckArgs {
    pub series: SeriesName,
    #[arg(long)]
    pub from: Option<String>,
    #[arg(long)]
    pub to: Option<String>,
    /// What to mend, divided by commas: kinds of findings, filler, conflicting_time=last or =median,
    /// move=FROM/TO=-1h, rescale=FROM/TO=0.1.
    #[arg(long, value_delimiter = ',', value_name = "MEND")]
    pub mend: Vec<Mend>,
    /// A file with a list of mends.
    #[arg(long, value_name = "FILE")]
    pub mends: Option<PathBuf>,
    /// Save the mends as a list, for other series.
    #[arg(long, value_name = "FILE")]
    pub save_mends: Option<PathBuf>,
    /// Hold it against another series, or an edition of itself.
    #[arg(long, value_name = "SERIES|EDITION")]
    pub against: Option<Against>,
    /// Read the session week off the rows.
    #[arg(long)]
    pub learn: bool,
    /// Write a page to keep with the data, .html or .pdf.
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
}

#[derive(clap::Args)]
pub struct ComposeArgs {
    pub name: String,
    /// The instrument it takes its values from.
    #[arg(long, value_name = "INSTRUMENT")]
    pub like: Option<String>,
    /// The series its rows come from.
    #[arg(long, value_name = "SERIES")]
    pub from: Option<SeriesName>,
    /// A value of the spec sheet of its own.
    #[arg(long, value_name = "KEY=VALUE")]
    pub set: Vec<String>,
    /// Session week, as 'mon-fri 08:00-17:00 Europe/Oslo'.
    #[arg(long)]
    pub hours: Option<String>,
    /// Fixed spread in points.
    #[arg(long, value_name = "POINTS")]
    pub spread: Option<String>,
    /// Added to every time of the rows, as 1h or -30m.
    #[arg(long, allow_hyphen_values = true)]
    pub shift: Option<String>,
}

#[derive(clap::Args)]
pub struct DeliverArgs {
    #[arg(required = true)]
    pub series: Vec<SeriesName>,
    /// A file, a folder (ending in /), or - for standard output.
    #[arg(long, value_name = "PATH")]
    pub out: PathBuf,
    /// How lines are written: a saved layout, or a file with one.
    #[arg(long)]
    pub layout: Option<String>,
    /// csv, json, ndjson or parquet.
    #[arg(long, default_value = "csv")]
    pub format: Format,
    /// Clock of the times in text formats.
    #[arg(long)]
    pub clock: Option<Clock>,
    #[arg(long)]
    pub from: Option<String>,
    #[arg(long)]
    pub to: Option<String>,
    /// Only so many rows, the last ones.
    #[arg(long)]
    pub last: Option<u64>,
    /// Write of each row where it comes from: what was filled, and which spreads are estimates.
    #[arg(long)]
    pub origin: bool,
    /// Deliver series as they are, even where their sources have changed since.
    #[arg(long)]
    pub stale_ok: bool,
}

impl ShelfArgs {
    /// True where the shelf is changed.
    pub fn changes(&self) -> bool {
        self.tidy || self.remove || self.rename.is_some()
    }

    pub fn step(&self) -> ShelfStep {
        let what = match (self.remove, self.tidy) {
            (true, _) => Upkeep::Remove,
            (_, true) => Upkeep::Tidy,
            _ => Upkeep::Rename,
        };
        ShelfStep { what, series: self.series.clone(), to: self.rename.clone() }
    }
}

impl IntakeArgs {
    pub fn step(&self) -> Result<IntakeStep> {
        Ok(IntakeStep {
            paths: self.paths.clone(),
            source: self.source.clone(),
            instrument: self.instrument.clone(),
            clock: self.clock.clone(),
            frame: self.frame.as_deref().map(str::parse).transpose()?,
            side: self.side.clone(),
            decimals: self.decimals,
            dates: self.dates.as_deref().map(|d| match d {
                "day-first" => DateOrder::DayFirst,
                "month-first" => DateOrder::MonthFirst,
                _ => DateOrder::YearFirst,
            }),
            stamp: self.stamp.as_deref().map(|s| if s == "close" { Stamp::Close } else { Stamp::Open }),
            layout: self.layout.clone(),
            names: self.names.clone(),
            replace: self.replace,
            prefer_new: self.prefer == "new",
            rejects: self.rejects.clone(),
        })
    }
}

impl ComposeArgs {
    pub fn step(&self) -> Result<ComposeStep> {
        let mut set = std::collections::BTreeMap::new();
        for pair in &self.set {
            let (key, value) = pair.split_once('=').ok_or_else(|| {
                stavel_core::Error::arguments(format!(
                    "'{pair}' is not KEY=VALUE; write --set commission=3.50."
                ))
            })?;
            set.insert(key.to_owned(), value.to_owned());
        }
        set.extend(self.hours.clone().map(|h| ("hours".to_owned(), h)));
        set.extend(self.spread.clone().map(|s| ("spread".to_owned(), s)));
        let (name, like, from) = (self.name.clone(), self.like.clone(), self.from.clone());
        Ok(ComposeStep { name, like, from, set, shift: self.shift.clone() })
    }
}
