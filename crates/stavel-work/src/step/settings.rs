//! The settings of each act: one table for what may be typed, what a recipe may say, and their docs.
//!
//! A field is an argument of the command (its doc comment is the help) and a key of the recipe's `[[step]]` table
//! under the same name. [`Step::command_line`](super::Step::command_line) and the table of keys in `docs/recipes.md`
//! are made from the same fields.

use std::path::PathBuf;

use clap::Args;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use serde::{Deserialize, Serialize};

use stavel_core::check::{Against, Mend};
use stavel_core::deliver::FileFormat;
use stavel_core::model::provenance::EmptyBars;
use stavel_core::model::{Clock, DateOrder, Frame, SeriesName, SeriesPattern, Stamp, Weight};
use stavel_core::splice::{Level, SpliceRule};
use stavel_draw::{BarStyle, Ground};
use stavel_feed::client::Tells;

use super::wanted::{FramesWanted, SidesWanted};

/// Files to take in.
#[derive(Debug, Clone, Default, PartialEq, Args, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct IntakeStep {
    /// Files, folders, archives (.zip .gz .zst), or patterns with * and ?.
    #[arg(required_unless_present = "rejects", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// The identifier of rows that an earlier intake rejected, instead of paths.
    #[arg(long, value_name = "ID", conflicts_with = "paths")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rejects: Option<String>,
    /// Where they come from: a vendor or broker.
    #[arg(long, required_unless_present = "rejects", default_value = "", hide_default_value = true)]
    pub source: String,
    /// The instrument; else told from names or columns.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instrument: Option<String>,
    /// The clock of the times, as UTC, UTC+3, Europe/Oslo or America/New_York+7h; or afloat.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clock: Option<String>,
    /// ticks, 1m, 1h, …; else told from the times.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub frame: Option<Frame>,
    /// The price of bars, or of a single price: bid, ask, mid or last.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub side: Option<String>,
    /// Decimals of the prices; else told from the file.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub decimals: Option<u8>,
    /// Order of dates; else told from the file.
    #[arg(long, value_parser = one_of::<DateOrder>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dates: Option<DateOrder>,
    /// Which end of a bar its time names; else found.
    #[arg(long, value_parser = one_of::<Stamp>())]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stamp: Option<Stamp>,
    /// A saved layout, or a file with one; else found in each file.
    #[arg(long)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// How file names are made, as "{instrument}-{frame}.csv".
    #[arg(long, value_name = "PATTERN")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub names: Option<String>,
    /// What the files tell of dates: events, holidays, actions or statements; else histories, and iCalendars as they say.
    #[arg(long, value_parser = one_of::<Tells>(), value_name = "WHAT")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tells: Option<Tells>,
    /// Replace the span that the new rows cover; else they are added.
    #[arg(long)]
    #[serde(skip_serializing_if = "is_default")]
    pub replace: bool,
    /// Which of two bars at one time with other values is kept.
    #[arg(long, value_parser = one_of::<Prefer>(), default_value = "old")]
    #[serde(skip_serializing_if = "is_default")]
    pub prefer: Prefer,
}

/// Which of two bars at one time with other values is kept.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, strum::EnumString, strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Prefer {
    /// The one on the shelf.
    #[default]
    Old,
    /// The one taken in now.
    New,
}

/// A series to check, and kinds of findings to mend.
#[derive(Debug, Clone, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CheckStep {
    /// The series.
    pub series: SeriesName,
    /// Check from this moment on.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Check up to this moment.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// What to mend, divided by commas: kinds of findings, filler, conflicting_time=last or =median,
    /// move=FROM/TO=-1h, rescale=FROM/TO=0.1.
    #[arg(long, value_delimiter = ',', value_name = "MEND")]
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mend: Vec<Mend>,
    /// A file with a list of mends, done before those named here.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mends: Option<PathBuf>,
    /// Save the mends as a list, for other series.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub save_mends: Option<PathBuf>,
    /// Compare it with another series, or with an edition of itself.
    #[arg(long, value_name = "SERIES|EDITION")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<Against>,
    /// Read the session week off the rows.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub learn: bool,
    /// Write a page to keep with the data, .html or .pdf.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<PathBuf>,
}

impl CheckStep {
    /// A check of a whole series that mends nothing.
    pub fn of(series: SeriesName) -> CheckStep {
        CheckStep {
            series,
            from: None,
            to: None,
            mend: Vec::new(),
            mends: None,
            save_mends: None,
            against: None,
            learn: false,
            report: None,
        }
    }

    /// True where rows are changed.
    pub fn mends_something(&self) -> bool {
        !self.mend.is_empty() || self.mends.is_some()
    }
}

/// A series whose clock is to be found, and the anchored one to find it with.
#[derive(Debug, Clone, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AlignStep {
    /// The series whose clock is to be found.
    pub series: SeriesName,
    /// The anchored series to compare it with; not needed where the clock is said.
    #[arg(long, value_name = "SERIES", required_unless_present = "clock")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<SeriesName>,
    /// Take this clock instead of finding one.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<Clock>,
    /// Which end of a bar its time names; found where it is not said.
    #[arg(long, value_parser = one_of::<Stamp>())]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stamp: Option<Stamp>,
    /// Tell the score of every rule that was tried.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub scan: bool,
    /// Store the series in UTC with the clock found, or chosen.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub anchor: bool,
    /// Take the clock found even where weeks speak against it.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub accept: bool,
}

impl AlignStep {
    /// The clock is to be found; nothing is written.
    pub fn of(series: SeriesName, to: Option<SeriesName>) -> AlignStep {
        AlignStep { series, to, anchor: false, clock: None, stamp: None, scan: false, accept: false }
    }
}

/// Series to join, in order of precedence.
#[derive(Debug, Clone, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SpliceStep {
    /// Sources in order of precedence.
    #[arg(required = true)]
    pub series: Vec<SeriesName>,
    /// The source the joined series gets.
    #[arg(long, value_name = "SOURCE", required_unless_present = "refresh")]
    #[arg(default_value = "", hide_default_value = true)]
    pub into: String,
    /// Who owns which time: span, holes, grade, cut=TIME, or hours=WEEK as in
    /// 'hours=mon-fri 08:00-17:00 Europe/Oslo'.
    #[arg(long, default_value = "span")]
    #[serde(default = "span_rule", skip_serializing_if = "is_span_rule")]
    pub rule: SpliceRule,
    /// Bring later series to the level of the first: none, shift or ratio.
    #[arg(long, default_value = "none")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub level: Level,
    /// Put the first one's spread by hour of the week on rows that do not know theirs.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub carry_spread: bool,
    /// Keep ticks where there are ticks and minutes elsewhere, as layers of one series.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub layered: bool,
    /// Measure levels and spreads again, though rows of the past then change.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub anew: bool,
}

impl SpliceStep {
    /// The first owns its span, prices stay as they are.
    pub fn of(series: Vec<SeriesName>, into: &str) -> SpliceStep {
        SpliceStep {
            series,
            into: into.into(),
            rule: SpliceRule::Span,
            level: Level::None,
            carry_spread: false,
            layered: false,
            anew: false,
        }
    }
}

/// Frames to build of a series.
#[derive(Debug, Clone, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FramesStep {
    /// The series to build from, or a pattern of them as NOK*@joined.
    pub series: SeriesPattern,
    /// As 5m, 4h, 1d, 1w, 1mo; 500t, 1000v or 25r of ticks; all for the usual ones; the name of a frame set; ticks to
    /// rebuild ticks from bars.
    #[arg(required_unless_present = "compare")]
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub frames: Vec<FramesWanted>,
    /// Clock of the session days; else the instrument's.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<Clock>,
    /// Which price of ticks makes the bars: bid, ask, mid, or both for bid and ask at once.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<SidesWanted>,
    /// What becomes of bars in open time that have no rows: they are skipped, or filled flat and marked.
    #[arg(long, value_parser = one_of::<EmptyBars>())]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub empty: Option<EmptyBars>,
    /// Build frames that are there by what they were built by: clock, side, empty bars.
    #[arg(long, conflicts_with_all = ["clock", "side", "empty"])]
    #[serde(default, skip_serializing_if = "is_default")]
    pub again: bool,
    /// Build nothing: hold the longer bars that the source itself has against those built from the series.
    #[arg(long, conflicts_with_all = ["frames", "clock", "side", "empty", "again"])]
    #[serde(default, skip_serializing_if = "is_default")]
    pub compare: bool,
    /// Of ticks that are rebuilt: where their chances begin; the same number gives the same ticks.
    #[arg(long, value_name = "N")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
    /// Of ticks that are rebuilt: the real ticks to learn from; else those of the instrument that there are most of.
    #[arg(long, value_name = "SERIES")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<SeriesName>,
}

impl FramesStep {
    /// Frames of a series, by its instrument's clock.
    pub fn of(series: SeriesName, frames: Vec<FramesWanted>) -> FramesStep {
        FramesStep {
            series: series.into(),
            frames,
            clock: None,
            side: None,
            empty: None,
            again: false,
            compare: false,
            seed: None,
            like: None,
        }
    }
}

/// The files of a vendor and of a broker, for one history by the shortest way.
#[derive(Debug, Clone, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AutoStep {
    /// Files, folders or archives of the vendor.
    #[arg(required = true, value_name = "VENDOR-FILES")]
    pub files: Vec<PathBuf>,
    /// Files, folders or archives of the broker, whose clock is found.
    #[arg(long, required = true, num_args = 1.., value_name = "BROKER-FILES")]
    pub broker: Vec<PathBuf>,
    /// What the vendor is called on the shelf.
    #[arg(long, default_value = "vendor", value_name = "NAME")]
    #[serde(default = "vendor_name")]
    pub source: String,
    /// What the broker is called on the shelf.
    #[arg(id = "as", long = "as", default_value = "broker", value_name = "NAME")]
    #[serde(rename = "as", default = "broker_name")]
    pub broker_source: String,
    /// The instrument of all files; else told from names or columns.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instrument: Option<String>,
    /// The folder that the joined history, its frames and the recipe are written to.
    #[arg(long, value_name = "DIR")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub out: Option<PathBuf>,
    /// Frames to build, as 1h,4h,1d; all for the usual ones.
    #[arg(long, default_value = "all", value_delimiter = ',', value_name = "FRAMES")]
    #[serde(default = "usual_frames")]
    pub frames: Vec<FramesWanted>,
    /// The format of the files.
    #[arg(long, default_value = "csv", value_parser = one_of::<FileFormat>())]
    #[serde(default = "csv_format")]
    pub format: FileFormat,
}

impl AutoStep {
    /// The files of both, with the names and settings that are usual.
    pub fn of(files: Vec<PathBuf>, broker: Vec<PathBuf>) -> AutoStep {
        AutoStep {
            files,
            broker,
            source: vendor_name(),
            broker_source: broker_name(),
            instrument: None,
            out: None,
            frames: usual_frames(),
            format: csv_format(),
        }
    }
}

fn vendor_name() -> String {
    "vendor".into()
}

fn broker_name() -> String {
    "broker".into()
}

fn usual_frames() -> Vec<FramesWanted> {
    vec![FramesWanted::Usual]
}

/// A chart to draw.
#[derive(Debug, Clone, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChartStep {
    /// The series.
    pub series: SeriesName,
    /// What to draw: price, coverage (what is there, by source), days (how full each session day is), week (the hours of the
    /// session), costs (the usual spread of each hour of the week), trades (the fills of --orders on the bars), align (how
    /// alike it is to --with, week by week and offset by offset), or agreement (how far the closes of --with lie apart).
    #[arg(long, value_parser = one_of::<ChartView>(), default_value = "price")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub view: ChartView,
    /// A second series: a line on the bars, or what is compared.
    #[arg(long, value_name = "SERIES")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with: Option<SeriesName>,
    /// Draw the second series in a pane of its own, below the first.
    #[arg(long, requires = "with")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub beside: bool,
    /// How bars are drawn: candles, bars (strokes), or a line through the closes.
    #[arg(long, value_parser = one_of::<BarStyle>(), default_value = "candles")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub style: BarStyle,
    /// Equal heights are equal ratios of prices.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub ratio: bool,
    /// Also the true range of each bar, in a pane of its own.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub ranges: bool,
    /// Orders that are played, as stavel rehearse reads them; their fills are marked.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub orders: Option<PathBuf>,
    /// Leave away what is marked (findings, seams, events and other dates) and what is drawn.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub plain: bool,
    /// Of events only those of at least this weight: low, medium or high.
    #[arg(long, value_name = "WEIGHT")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<Weight>,
    /// The colours: dark as on the bench, or for paper.
    #[arg(long, value_parser = one_of::<Ground>(), default_value = "dark")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub ground: Ground,
    /// Width and height in points, as 1200x720.
    #[arg(long, value_name = "SIZE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<String>,
    /// Draw from this moment on.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Draw up to this moment.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Bars in a moving average.
    #[arg(long, value_name = "BARS")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ma: Option<usize>,
    /// The file, .svg or .pdf.
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
}

/// What a chart shows.
#[derive(
    Debug,
    Clone,
    Copy,
    Default,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum ChartView {
    /// Bars with their panes.
    #[default]
    Price,
    /// What is there of each source, along the time of the whole history.
    Coverage,
    /// How full each session day is.
    Days,
    /// The hours of the session week.
    Week,
    /// The usual spread of each hour of the week.
    Costs,
    /// Bars with the fills of orders.
    Trades,
    /// How alike two series are in each week, at each offset of an hour.
    Align,
    /// How far the closes of two series lie apart.
    Agreement,
}

impl ChartStep {
    /// A chart of a series as it comes, in a file.
    pub fn of(series: SeriesName, out: PathBuf) -> ChartStep {
        ChartStep {
            series,
            view: ChartView::Price,
            with: None,
            orders: None,
            beside: false,
            style: BarStyle::Candles,
            ratio: false,
            ranges: false,
            plain: false,
            weight: None,
            ground: Ground::Dark,
            size: None,
            from: None,
            to: None,
            ma: None,
            out,
        }
    }
}

/// A series to step back or forth; without one the last whole act.
#[derive(Debug, Clone, Default, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UndoStep {
    /// The series; else the last whole act.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub series: Option<SeriesName>,
}

/// Upkeep of the shelf: one of renaming, removing and tidying.
#[derive(Debug, Clone, Default, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ShelfStep {
    /// The series; all of them, where none is named and that makes sense.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub series: Option<SeriesName>,
    /// Give the series another name.
    #[arg(long, value_name = "SERIES", requires = "series", group = "what")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rename: Option<SeriesName>,
    /// Take the series off the shelf; undo brings it back.
    #[arg(long, requires = "series", group = "what")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub remove: bool,
    /// Do away with older editions and removed series; there is no undo after this.
    #[arg(long, group = "what")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub tidy: bool,
}

/// Reads one of the words of an enum, and offers them where another one is typed.
pub(crate) fn one_of<T>() -> impl TypedValueParser<Value = T>
where
    T: strum::VariantNames + std::str::FromStr + Clone + Send + Sync + 'static,
    T::Err: std::error::Error + Send + Sync + 'static,
{
    PossibleValuesParser::new(T::VARIANTS).try_map(|word| word.parse())
}

pub(super) fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

fn span_rule() -> SpliceRule {
    SpliceRule::Span
}

fn is_span_rule(rule: &SpliceRule) -> bool {
    *rule == SpliceRule::Span
}

fn csv_format() -> FileFormat {
    FileFormat::Csv
}
