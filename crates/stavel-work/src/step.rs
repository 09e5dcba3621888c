//! One act with all its settings.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use stavel_core::check::{Against, Mend};
use stavel_core::deliver::Format;
use stavel_core::model::{Clock, Frame, SeriesName};
use stavel_core::model::{DateOrder, Stamp};
use stavel_core::splice::{Level, Rule};

/// An act on a shelf. In a recipe: a `[[step]]` table whose `act` names it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "act", rename_all = "lowercase")]
pub enum Step {
    Intake(IntakeStep),
    Check(CheckStep),
    Align(AlignStep),
    Splice(SpliceStep),
    Frames(FramesStep),
    Compose(ComposeStep),
    Deliver(DeliverStep),
    Chart(ChartStep),
    Rehearse(RehearseStep),
    Undo(UndoStep),
    Redo(UndoStep),
    Shelf(ShelfStep),
}

/// Files to take in.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct IntakeStep {
    #[serde(default)]
    pub paths: Vec<PathBuf>,
    #[serde(default)]
    pub source: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instrument: Option<String>,
    /// A clock, or `afloat`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub frame: Option<Frame>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decimals: Option<u8>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dates: Option<DateOrder>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stamp: Option<Stamp>,
    /// The name of a saved layout, or a file that holds one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// A pattern of file names with `{instrument}` in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub names: Option<String>,
    #[serde(default, skip_serializing_if = "is_default")]
    pub replace: bool,
    #[serde(default, skip_serializing_if = "is_default")]
    pub prefer_new: bool,
    /// The rows an earlier intake rejected, instead of paths.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rejects: Option<String>,
}

/// A series to check, and kinds of findings to mend.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CheckStep {
    pub series: SeriesName,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mend: Vec<Mend>,
    /// A file with a list of mends, done before those of `mend`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mends: Option<PathBuf>,
    /// A file the mends are saved to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub save_mends: Option<PathBuf>,
    /// Another series, or an edition of this one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<Against>,
    /// Read the session week off the rows.
    #[serde(default, skip_serializing_if = "is_default")]
    pub learn: bool,
    /// An HTML or PDF page to keep with the data.
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
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AlignStep {
    pub series: SeriesName,
    /// None where the clock is said and nothing is to be compared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<SeriesName>,
    #[serde(default, skip_serializing_if = "is_default")]
    pub anchor: bool,
    /// The clock a person chose, instead of the one that is found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<Clock>,
    /// Whether bars are stamped where they open or close, where a person knows it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stamp: Option<Stamp>,
    /// Tell the score of every rule.
    #[serde(default, skip_serializing_if = "is_default")]
    pub scan: bool,
    /// Take the clock found even where weeks speak against it.
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
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SpliceStep {
    pub series: Vec<SeriesName>,
    pub into: String,
    #[serde(default = "span_rule", skip_serializing_if = "is_span_rule")]
    pub rule: Rule,
    #[serde(default, skip_serializing_if = "is_default")]
    pub level: Level,
    /// Put the first one's spread by hour of the week on rows that do not know theirs.
    #[serde(default, skip_serializing_if = "is_default")]
    pub carry_spread: bool,
    /// Keep ticks and minutes as layers of one series.
    #[serde(default, skip_serializing_if = "is_default")]
    pub layered: bool,
    /// Measure levels and spreads again, where it was joined like this before.
    #[serde(default, skip_serializing_if = "is_default")]
    pub anew: bool,
}

impl SpliceStep {
    /// The first owns its span, prices stay as they are.
    pub fn of(series: Vec<SeriesName>, into: &str) -> SpliceStep {
        SpliceStep {
            series,
            into: into.into(),
            rule: Rule::Span,
            level: Level::None,
            carry_spread: false,
            layered: false,
            anew: false,
        }
    }
}

/// Frames to build of a series.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FramesStep {
    pub series: SeriesName,
    pub frames: Vec<Frame>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<Clock>,
    /// Of ticks: bid, ask or mid.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<String>,
}

/// An instrument to make or change.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ComposeStep {
    pub name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<SeriesName>,
    /// Own values of the spec sheet.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub set: BTreeMap<String, String>,
    /// Added to every time of the rows, as `1h` or `-30m`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shift: Option<String>,
}

/// Series to write to files.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DeliverStep {
    pub series: Vec<SeriesName>,
    /// A file, or a folder (ending in `/` where it is not there yet).
    pub out: PathBuf,
    #[serde(default = "csv_format")]
    pub format: Format,
    /// The name of a saved layout, or a file that holds one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<Clock>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<u64>,
    /// Write of each row where it comes from, in text formats too.
    #[serde(default, skip_serializing_if = "is_default")]
    pub origin: bool,
    /// Deliver stale series without asking.
    #[serde(default, skip_serializing_if = "is_default")]
    pub stale_ok: bool,
}

/// A chart to draw.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChartStep {
    pub series: SeriesName,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with: Option<SeriesName>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Bars in the moving average.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ma: Option<usize>,
    pub out: PathBuf,
}

/// A history to play with a list of orders.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RehearseStep {
    pub series: SeriesName,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    pub orders: PathBuf,
}

/// A series to step back or forth; without one the last whole act.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UndoStep {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub series: Option<SeriesName>,
}

/// Upkeep of the shelf.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ShelfStep {
    #[serde(rename = "do")]
    pub what: Upkeep,
    /// All series, where none is named and that makes sense.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub series: Option<SeriesName>,
    /// The new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<SeriesName>,
}

/// What is done to the shelf.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Upkeep {
    Rename,
    Remove,
    Tidy,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

fn span_rule() -> Rule {
    Rule::Span
}

fn is_span_rule(rule: &Rule) -> bool {
    *rule == Rule::Span
}

fn csv_format() -> Format {
    Format::Csv
}

impl Step {
    /// The stage's word.
    pub fn act(&self) -> &'static str {
        match self {
            Step::Intake(_) => "intake",
            Step::Check(_) => "check",
            Step::Align(_) => "align",
            Step::Splice(_) => "splice",
            Step::Frames(_) => "frames",
            Step::Compose(_) => "compose",
            Step::Deliver(_) => "deliver",
            Step::Chart(_) => "chart",
            Step::Rehearse(_) => "rehearse",
            Step::Undo(_) => "undo",
            Step::Redo(_) => "redo",
            Step::Shelf(_) => "shelf",
        }
    }

    /// True where the step changes the shelf.
    pub fn writes(&self) -> bool {
        match self {
            Step::Check(s) => s.mends_something(),
            Step::Align(s) => s.anchor,
            Step::Deliver(_) | Step::Chart(_) | Step::Rehearse(_) => false,
            Step::Intake(_)
            | Step::Splice(_)
            | Step::Frames(_)
            | Step::Compose(_)
            | Step::Undo(_)
            | Step::Redo(_)
            | Step::Shelf(_) => true,
        }
    }

    /// The command that does the same.
    pub fn command_line(&self) -> String {
        let mut words = vec!["stavel".to_owned(), self.act().to_owned()];
        match self {
            Step::Intake(s) => intake_words(s, &mut words),
            Step::Check(s) => {
                words.push(s.series.to_string());
                opt(&mut words, "from", s.from.clone());
                opt(&mut words, "to", s.to.clone());
                let mends: Vec<String> = s.mend.iter().map(Mend::to_string).collect();
                opt(&mut words, "mend", (!mends.is_empty()).then(|| mends.join(",")));
                let path = |p: &Option<PathBuf>| p.as_ref().map(|p| p.to_string_lossy().into_owned());
                opt(&mut words, "mends", path(&s.mends));
                opt(&mut words, "save-mends", path(&s.save_mends));
                opt(&mut words, "against", s.against.as_ref().map(Against::to_string));
                words.extend(s.learn.then(|| "--learn".into()));
                opt(&mut words, "report", path(&s.report));
            }
            Step::Align(s) => {
                words.push(s.series.to_string());
                opt(&mut words, "to", s.to.as_ref().map(SeriesName::to_string));
                opt(&mut words, "clock", s.clock.as_ref().map(Clock::to_string));
                opt(&mut words, "stamp", s.stamp.map(|s| s.word().to_owned()));
                words.extend(s.scan.then(|| "--scan".into()));
                words.extend(s.anchor.then(|| "--anchor".into()));
                words.extend(s.accept.then(|| "--accept".into()));
            }
            Step::Splice(s) => {
                words.extend(s.series.iter().map(SeriesName::to_string));
                opt(&mut words, "into", Some(s.into.clone()));
                opt(&mut words, "rule", (s.rule != Rule::Span).then(|| s.rule.to_string()));
                opt(&mut words, "level", (s.level != Level::None).then(|| s.level.to_string()));
                words.extend(s.carry_spread.then(|| "--carry-spread".into()));
                words.extend(s.layered.then(|| "--layered".into()));
                words.extend(s.anew.then(|| "--anew".into()));
            }
            Step::Frames(s) => {
                words.push(s.series.to_string());
                words.extend(s.frames.iter().map(Frame::to_string));
                opt(&mut words, "clock", s.clock.as_ref().map(Clock::to_string));
                opt(&mut words, "side", s.side.clone());
            }
            Step::Compose(s) => {
                words.push(s.name.clone());
                opt(&mut words, "like", s.like.clone());
                opt(&mut words, "from", s.from.as_ref().map(SeriesName::to_string));
                for (key, value) in &s.set {
                    opt(&mut words, "set", Some(format!("{key}={value}")));
                }
                opt(&mut words, "shift", s.shift.clone());
            }
            Step::Deliver(s) => {
                words.extend(s.series.iter().map(SeriesName::to_string));
                opt(&mut words, "out", Some(s.out.to_string_lossy().into_owned()));
                opt(&mut words, "layout", s.layout.clone());
                opt(&mut words, "format", (s.format != Format::Csv).then(|| s.format.word().into()));
                opt(&mut words, "clock", s.clock.as_ref().map(Clock::to_string));
                opt(&mut words, "from", s.from.clone());
                opt(&mut words, "to", s.to.clone());
                opt(&mut words, "last", s.last.map(|n| n.to_string()));
                words.extend(s.origin.then(|| "--origin".into()));
                words.extend(s.stale_ok.then(|| "--stale-ok".into()));
            }
            Step::Chart(s) => {
                words.push(s.series.to_string());
                opt(&mut words, "with", s.with.as_ref().map(SeriesName::to_string));
                opt(&mut words, "from", s.from.clone());
                opt(&mut words, "to", s.to.clone());
                opt(&mut words, "ma", s.ma.map(|n| n.to_string()));
                opt(&mut words, "out", Some(s.out.to_string_lossy().into_owned()));
            }
            Step::Rehearse(s) => {
                words.push(s.series.to_string());
                opt(&mut words, "from", s.from.clone());
                opt(&mut words, "to", s.to.clone());
                opt(&mut words, "orders", Some(s.orders.to_string_lossy().into_owned()));
            }
            Step::Undo(s) | Step::Redo(s) => words.extend(s.series.iter().map(SeriesName::to_string)),
            Step::Shelf(s) => {
                words.extend(s.series.iter().map(SeriesName::to_string));
                opt(&mut words, "rename", s.to.as_ref().map(SeriesName::to_string));
                words.extend((s.what == Upkeep::Remove).then(|| "--remove".into()));
                words.extend((s.what == Upkeep::Tidy).then(|| "--tidy".into()));
            }
        }
        words.join(" ")
    }

    /// The series whose rows the step reads, as far as the step names them.
    pub fn reads(&self) -> Vec<SeriesName> {
        match self {
            Step::Check(s) => {
                let other = s.against.iter().filter_map(|a| match a {
                    Against::Series(name) => Some(name),
                    Against::Edition(_) => None,
                });
                std::iter::once(&s.series).chain(other).cloned().collect()
            }
            Step::Align(s) => std::iter::once(&s.series).chain(&s.to).cloned().collect(),
            Step::Splice(s) => s.series.clone(),
            Step::Frames(s) => vec![s.series.clone()],
            Step::Compose(s) => s.from.iter().cloned().collect(),
            Step::Deliver(s) => s.series.clone(),
            Step::Chart(s) => std::iter::once(&s.series).chain(&s.with).cloned().collect(),
            Step::Rehearse(s) => vec![s.series.clone()],
            Step::Intake(_) | Step::Undo(_) | Step::Redo(_) | Step::Shelf(_) => Vec::new(),
        }
    }
}

fn opt(words: &mut Vec<String>, name: &str, value: Option<String>) {
    if let Some(value) = value {
        words.extend([format!("--{name}"), quoted(&value)]);
    }
}

fn intake_words(s: &IntakeStep, words: &mut Vec<String>) {
    words.extend(s.paths.iter().map(|p| quoted(&p.to_string_lossy())));
    opt(words, "rejects", s.rejects.clone());
    opt(words, "source", (!s.source.is_empty()).then(|| s.source.clone()));
    opt(words, "instrument", s.instrument.clone());
    opt(words, "clock", s.clock.clone());
    opt(words, "frame", s.frame.map(|f| f.to_string()));
    opt(words, "side", s.side.clone());
    opt(words, "decimals", s.decimals.map(|d| d.to_string()));
    opt(words, "dates", s.dates.map(|d| d.words().replace(" dates", "")));
    opt(words, "stamp", s.stamp.map(|s| s.word().to_owned()));
    opt(words, "layout", s.layout.clone());
    opt(words, "names", s.names.clone());
    words.extend(s.replace.then(|| "--replace".into()));
    opt(words, "prefer", s.prefer_new.then(|| "new".into()));
    words.extend(s.rejects.is_some().then(|| "--retake".into()));
}

/// A word as a shell would need it.
fn quoted(text: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "._-+=/@:,%".contains(c);
    if !text.is_empty() && text.chars().all(plain) {
        text.into()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}
