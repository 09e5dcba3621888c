//! What may be typed. The arguments of steps are those of their settings in `stavel-work`; here is what the
//! commands take beside them.

use std::path::PathBuf;

use clap::{Parser, Subcommand};
use stavel_core::model::{Frame, SeriesPattern, Weight};
use stavel_core::store::fact_kind;
use stavel_work::{
    AlignStep, AutoStep, ChartStep, CheckStep, ComposeStep, ConvertWish, DeliverStep, DossierStep, DrawStep,
    FetchStep, FramesStep, IntakeStep, PlayPace, RehearseStep, ShelfStep, SpliceStep, UndoStep, UpdateStep,
};

/// One honest history out of vendor and broker data, for people who backtest.
///
/// Without a command, the bench opens.
#[derive(Parser)]
#[command(name = "stavel", version = env!("STAVEL_BUILD"), arg_required_else_help = false, disable_help_subcommand = true)]
pub struct Args {
    /// The folder that holds everything; else the user data folder.
    #[arg(long, global = true, env = "STAVEL_SHELF", value_name = "DIR")]
    pub shelf: Option<PathBuf>,
    /// Print one JSON document on standard output and nothing else there.
    #[arg(long, global = true)]
    pub json: bool,
    /// Write what is done, and how long it takes, to the end of this file.
    #[arg(long, global = true, value_name = "FILE")]
    pub log: Option<PathBuf>,
    /// The colours of the bench: dark, light or none; else as settled, or as the terminal says.
    #[arg(long, global = true, value_name = "THEME", value_parser = ["dark", "light", "none"])]
    pub theme: Option<String>,
    /// The settings of the bench; else settings.toml in the user configuration folder.
    #[arg(long, global = true, env = "STAVEL_SETTINGS", value_name = "FILE")]
    pub settings: Option<PathBuf>,
    #[command(subcommand)]
    pub command: Option<Command>,
}

/// The whole job, and how much of it is reported.
#[derive(Debug, Clone, clap::Args)]
pub struct AutoArgs {
    #[command(flatten)]
    pub step: AutoStep,
    /// Print every step with its report, not only the summary.
    #[arg(long)]
    pub verbose: bool,
}

/// What is played, and for whom.
#[derive(Debug, Clone, clap::Args)]
pub struct RehearseArgs {
    #[command(flatten)]
    pub step: RehearseStep,
    /// Serve it to programs: an address and port for WebSocket (0 takes any), or - for standard input and output.
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["orders", "script"])]
    pub serve: Option<String>,
    /// How time runs for a program: so many times as fast, or max; else as the program acknowledges. On the bench the pace to
    /// begin with.
    #[arg(long, value_name = "PACE")]
    pub pace: Option<PlayPace>,
}

/// Which streams are recorded.
#[derive(Debug, Clone, clap::Args)]
pub struct RecordArgs {
    /// The series, as NOKSEK@tarn:ticks or BLY-2024-05@tarn:depth, or patterns of them.
    #[arg(required = true)]
    pub series: Vec<SeriesPattern>,
    /// Seconds after which to end; else until the program is ended.
    #[arg(long = "for", value_name = "SECONDS")]
    pub seconds: Option<u32>,
}

/// How the stand-ins are to be.
#[derive(Debug, Clone, clap::Args)]
pub struct StandInArgs {
    /// The port on this machine; 0 for any that is free.
    #[arg(long, default_value = "0")]
    pub port: u16,
    /// How many replies in a hundred go wrong.
    #[arg(long, value_name = "PERCENT", default_value = "0", value_parser = clap::value_parser!(u32).range(0..=100))]
    pub faults: u32,
    /// Requests a second that are permitted.
    #[arg(long, value_name = "NUMBER", default_value = "20", value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub per_second: u32,
    /// The first day of the histories.
    #[arg(long, value_name = "DAY", default_value = "2024-02-01")]
    pub first: String,
    /// The moment up to which there are histories.
    #[arg(long, value_name = "TIME", default_value = "2024-04-05")]
    pub now: String,
    /// The folder for the texts of the feeds and their token; else one among the temporary ones.
    #[arg(long, value_name = "DIR")]
    pub dir: Option<PathBuf>,
}

#[derive(Subcommand)]
pub enum Command {
    /// Make the demo shelf and open the bench on it.
    #[command(after_help = "Examples:\n  stavel demo\n  stavel demo --headless --dir demo")]
    Demo(DemoArgs),
    /// The whole job in one go: take a vendor's and a broker's files in, find the clock, join, build frames, deliver.
    #[command(
        after_help = "Examples:\n  stavel auto quill/NOKSEK_1m --broker tarn/NOKSEK_1m.csv --source quill --as tarn --out out/"
    )]
    Auto(AutoArgs),
    /// Take files of a vendor or broker in.
    #[command(alias = "import")]
    #[command(
        after_help = "Examples:\n  stavel intake quill/NOKSEK_1m --source quill --clock UTC\n  stavel intake 'tarn/*.csv' --source tarn --dates day-first --dry-run"
    )]
    Intake(IntakeArgs),
    /// Feeds: services of vendors and brokers, what they have and what of it is here.
    #[command(after_help = "Examples:\n  stavel feeds --add quill.toml\n  stavel feeds")]
    Feeds {
        /// Add the feed that a text describes, or say it anew.
        #[arg(long, value_name = "FILE")]
        add: Option<PathBuf>,
    },
    /// Fetch series from their feeds.
    #[command(
        after_help = "Examples:\n  stavel fetch NOKSEK@quill:ticks --from 2024-03-01 --to 2024-03-08\n  stavel fetch '*@quill:1m' --new\n  stavel fetch NOKSEK@quill:ticks --last 5 --dry-run"
    )]
    Fetch(FetchStep),
    /// Bring instruments up to date: fetch what is new, and make again what is made of it.
    #[command(
        after_help = "Examples:\n  stavel update\n  stavel update NOKSEK --dry-run\n  stavel update --recipe noksek.toml"
    )]
    Update(UpdateStep),
    /// All that is known of a history in one document: is it fit to test on?
    #[command(
        after_help = "Examples:\n  stavel dossier NOKSEK@joined:1m --out noksek.html\n  stavel dossier NOKSEK@joined:1m --out noksek.pdf"
    )]
    Dossier(DossierStep),
    /// Keep live streams of feeds as ticks and depth, until ended.
    #[command(
        after_help = "Examples:\n  stavel record NOKSEK@tarn:ticks\n  stavel record '*@tarn:ticks' BLY-2024-05@tarn:depth --for 3600"
    )]
    Record(RecordArgs),
    /// Stand-ins of a vendor's, a broker's and a calendar's services on this machine, until ended.
    #[command(
        after_help = "Examples:\n  stavel stand-in\n  stavel stand-in --port 0 --faults 10 --dir feeds/"
    )]
    StandIn(StandInArgs),
    /// What is on the shelf, and its upkeep.
    #[command(
        after_help = "Examples:\n  stavel shelf\n  stavel shelf NOKSEK@quill:1m --editions\n  stavel shelf --verify"
    )]
    Shelf(ShelfArgs),
    /// Layouts: how the columns of files are to be understood.
    #[command(after_help = "Examples:\n  stavel layout test quill/NOKSEK_1m.csv\n  stavel layout list")]
    Layout {
        #[command(subcommand)]
        act: LayoutAct,
    },
    /// Frame sets: frames that are often built together, saved under a name.
    #[command(
        after_help = "Examples:\n  stavel frame-set save swing 4h 1d 1w\n  stavel frames 'NOK*@joined' swing"
    )]
    FrameSet {
        #[command(subcommand)]
        act: FrameSetAct,
    },
    /// Step a series back over its last change; without one, the last whole act.
    #[command(after_help = "Examples:\n  stavel undo\n  stavel undo NOKSEK@quill:1m")]
    Undo(UndoStep),
    /// Step a series forth over what was undone last; without one, the last whole act.
    #[command(after_help = "Examples:\n  stavel redo NOKSEK@quill:1m")]
    Redo(UndoStep),
    /// Find what is wrong in a series, and mend it.
    #[command(
        after_help = "Examples:\n  stavel check NOKSEK@quill:1m\n  stavel check NOKSEK@quill:1m --mend safe,spike\n  stavel check NOKSEK@quill:1m --against NOKSEK@tarn:1m"
    )]
    Check(CheckStep),
    /// Find the clock of a series by comparing it with an anchored one.
    #[command(
        after_help = "Examples:\n  stavel align NOKSEK@tarn:1m --to NOKSEK@quill:1m\n  stavel align NOKSEK@tarn:1m --to NOKSEK@quill:1m --anchor"
    )]
    Align(AlignStep),
    /// Merge sources into one history, in order of precedence.
    #[command(alias = "merge")]
    #[command(
        after_help = "Examples:\n  stavel splice NOKSEK@tarn:1m NOKSEK@quill:1m --into joined\n  stavel splice NOKSEK@joined:1m --refresh"
    )]
    Splice(SpliceArgs),
    /// Build bars of other frames.
    #[command(alias = "resample")]
    #[command(
        after_help = "Examples:\n  stavel frames NOKSEK@joined:1m 5m 1h 4h 1d\n  stavel frames NOKSEK@joined:1m all\n  stavel frames NOKSEK@quill:ticks 500t 25r 1h --side both\n  stavel frames 'NOK*@joined' 4h 1d"
    )]
    Frames(FramesStep),
    /// Make an instrument of your own, or change one's spec sheet.
    #[command(
        after_help = "Examples:\n  stavel compose NOKSEK --set commission=35\n  stavel compose NOKSEK.day --like NOKSEK --from NOKSEK@joined:1m --hours 'mon-fri 08:00-17:00 Europe/Oslo'"
    )]
    Compose(Box<ComposeStep>),
    /// The spec sheet of an instrument: each value, how it is known, from where and since when.
    #[command(
        after_help = "Examples:\n  stavel sheet NOKSEK\n  stavel sheet NOKSEK --csv\n  stavel sheet NOKSEK --account NOK --at 2024-03-05"
    )]
    Sheet {
        /// The instrument.
        name: String,
        /// Also its money in the currency of an account, through the pairs on the shelf.
        #[arg(long, value_name = "CURRENCY")]
        account: Option<String>,
        /// As of this moment; else of the last prices there are.
        #[arg(long, value_name = "TIME", requires = "account")]
        at: Option<String>,
        /// As CSV: key, value, standing, from, since.
        #[arg(long, conflicts_with = "json")]
        csv: bool,
    },
    /// What trading an instrument costs: spreads as measured, commission, swaps, a round turn by hour.
    #[command(
        after_help = "Examples:\n  stavel costs NOKSEK\n  stavel costs NOKSEK@tarn:1m --account NOK\n  stavel costs NOKSEK --xlsx costs.xlsx"
    )]
    Costs {
        /// The instrument, or a series of it whose spreads are to be measured.
        name: String,
        /// Money in this currency, through the pairs on the shelf.
        #[arg(long, value_name = "CURRENCY")]
        account: Option<String>,
        /// As of this moment; else of the last prices there are.
        #[arg(long, value_name = "TIME", requires = "account")]
        at: Option<String>,
        /// Only events of at least this weight count as such: low, medium or high.
        #[arg(long, value_name = "WEIGHT")]
        weight: Option<Weight>,
        /// As CSV: tables one below the other.
        #[arg(long, conflicts_with = "json")]
        csv: bool,
        /// Into a workbook.
        #[arg(long, value_name = "FILE", conflicts_with_all = ["json", "csv"])]
        xlsx: Option<PathBuf>,
    },
    /// Convert files to another form, without a shelf.
    #[command(
        after_help = "Examples:\n  stavel convert noksek.csv --out noksek.parquet\n  stavel convert vendor/ --out out/ --layout-out dotted-minutes --clock-out America/New_York+7h\n  zcat ticks.csv.gz | stavel convert - --instrument NOKSEK --frame 5m --out -"
    )]
    Convert(Box<ConvertWish>),
    /// Put the shelf, or a recipe with the files it reads, into one file for a colleague.
    #[command(
        after_help = "Examples:\n  stavel bundle --out shelf.zip\n  stavel bundle --recipe noksek.toml --out noksek.zip"
    )]
    Bundle {
        /// The file to write; none is written over.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
        /// A recipe, instead of the shelf.
        #[arg(long, value_name = "RECIPE")]
        recipe: Option<PathBuf>,
    },
    /// Take a bundle apart into a folder that is new or empty, and compare every file with what was put in.
    #[command(after_help = "Examples:\n  stavel unbundle shelf.zip --to histories/")]
    Unbundle {
        /// The bundle.
        bundle: PathBuf,
        /// The folder.
        #[arg(long, value_name = "DIR")]
        to: PathBuf,
    },
    /// Write series to files and prove them by reading back.
    #[command(alias = "export")]
    #[command(
        after_help = "Examples:\n  stavel deliver NOKSEK@joined:1h --out out/\n  stavel deliver NOKSEK@joined:1m --out NOKSEK.parquet --format parquet\n  stavel deliver 'NOK*@joined:*' --out out/ --layout decimal-comma --split year\n  stavel deliver --verify out/_manifest.json"
    )]
    Deliver(Box<DeliverStep>),
    /// Draw a chart into an SVG or PDF file.
    #[command(
        after_help = "Examples:\n  stavel chart NOKSEK@joined:1h --from 2024-03-10 --ma 30 --out noksek.svg"
    )]
    Chart(ChartStep),
    /// Draw on the chart of an instrument, or list what is drawn on it.
    #[command(
        after_help = "Examples:\n  stavel draw NOKSEK@joined:1m\n  stavel draw NOKSEK@joined:1m level --at '2024-03-13 12:30, 0.9815' --text 'high of the day'\n  stavel draw NOKSEK@joined:1m line --at '2024-03-11 08:00, 0.975' --to '2024-03-15 16:00, 0.985' --colour green\n  stavel draw NOKSEK@joined:1m --change 2 --to '2024-03-18 16:00, 0.990'\n  stavel draw NOKSEK@joined:1m --remove 2"
    )]
    Draw(DrawStep),
    /// Play histories in one time; with orders or a script without a screen, or served to a program of one's own.
    #[command(alias = "replay")]
    #[command(
        after_help = "Examples:\n  stavel rehearse NOKSEK@quill:ticks --from 2024-03-27\n  stavel rehearse NOKSEK@quill:ticks --orders orders.csv --json\n  stavel rehearse NOKSEK@quill:ticks --serve 127.0.0.1:8790"
    )]
    Rehearse(RehearseArgs),
    /// Print the completions for a shell.
    #[command(
        after_help = "Examples:\n  stavel completions bash > ~/.local/share/bash-completion/completions/stavel"
    )]
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Print the man page, or write one for each command into a folder.
    #[command(after_help = "Examples:\n  stavel man | man -l -\n  stavel man --out ~/.local/share/man/man1")]
    Man {
        /// The folder to write a page for each command to.
        #[arg(long, value_name = "DIR")]
        out: Option<PathBuf>,
    },
    /// Do the steps of a recipe; a step that would change nothing is not done again.
    #[command(after_help = "Examples:\n  stavel run recipe.toml --dry-run\n  stavel run recipe.toml")]
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
    #[command(flatten)]
    pub step: ShelfStep,
    /// All editions of the series, with what each was made from.
    #[arg(long, requires = "series", group = "what")]
    pub editions: bool,
    /// How an older edition of the series differs from the current one.
    #[arg(long, value_name = "EDITION", requires = "series", group = "what")]
    pub compare: Option<i64>,
    /// Dated facts that concern an instrument or a currency: dividends, splits, statements, events, holidays, specs.
    #[arg(long, value_name = "NAME", conflicts_with = "series", group = "what")]
    pub facts: Option<String>,
    /// Only facts of this kind: event, holiday, split, dividend, statement, sheet or gap.
    #[arg(long, requires = "facts", value_name = "KIND", value_parser = clap::builder::PossibleValuesParser::new(fact_kind::ALL))]
    pub kind: Option<String>,
    /// Only events of at least this weight: low, medium or high.
    #[arg(long, requires = "facts", value_name = "WEIGHT")]
    pub weight: Option<Weight>,
    /// Compare every file with what the catalog says of it.
    #[arg(long, group = "what")]
    pub verify: bool,
    /// Print SQL that makes the shelf's series views of an engine: bars, ticks and instruments.
    #[arg(long, group = "what", value_name = "ENGINE", conflicts_with = "series", value_parser = clap::builder::PossibleValuesParser::new(<stavel_work::SqlDialect as strum::VariantNames>::VARIANTS))]
    pub sql: Option<String>,
    /// Where the engine finds the shelf, where that is not its folder: s3a://bucket/shelf.
    #[arg(long, requires = "sql", value_name = "PLACE")]
    pub root: Option<String>,
    /// Make the catalog anew from the data files; the one that is there is set aside.
    #[arg(long, conflicts_with = "series", group = "what")]
    pub rebuild: bool,
}

impl ShelfArgs {
    /// True where the shelf is changed.
    pub fn changes(&self) -> bool {
        self.step.tidy || self.step.remove || self.step.rename.is_some()
    }
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

#[derive(Subcommand)]
pub enum FrameSetAct {
    /// The saved frame sets.
    List,
    /// Save frames under a name; what stood under it before is replaced, and told.
    Save {
        /// What the set is called.
        name: String,
        /// As 4h, 1d, 500t.
        #[arg(required = true, value_name = "FRAME")]
        frames: Vec<Frame>,
    },
    /// Take a frame set away; what was built by it stays.
    Remove {
        /// What the set is called.
        name: String,
    },
}

#[derive(clap::Args)]
pub struct IntakeArgs {
    #[command(flatten)]
    pub step: IntakeStep,
    /// Take the rows of --rejects again, with a layout or settings that now fit; else they are shown.
    #[arg(long, requires = "rejects")]
    pub retake: bool,
    /// Add to what is there (the default).
    #[arg(long, conflicts_with = "replace")]
    pub add: bool,
    /// Only say what would be done and show the first rows as understood.
    #[arg(long)]
    pub dry_run: bool,
}

#[derive(clap::Args)]
pub struct SpliceArgs {
    #[command(flatten)]
    pub step: SpliceStep,
    /// Join one joined series again as it was joined, from where its sources have changed.
    #[arg(long, conflicts_with_all = ["into", "rule", "level", "carry_spread", "layered"])]
    pub refresh: bool,
}
