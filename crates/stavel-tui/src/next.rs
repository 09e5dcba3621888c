//! What an instrument needs next, and how far each stage of the work is.

use std::collections::HashSet;

use stavel_core::model::{Made, SeriesName};
use stavel_core::store::SeriesInfo;

use crate::data::{CheckedEditions, Snapshot};

/// A kind of work that the hint proposes, in the order of the work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Task {
    Intake,
    /// Look at what the feeds have; the shelf is empty.
    Feeds,
    Check,
    Align,
    Splice,
    Frames,
    Deliver,
    Rehearse,
    /// Fetch what is new from all feeds.
    Fetch,
    /// Go on with another instrument.
    Instrument,
    /// Nothing is left to do: look at the history.
    Look,
}

impl Task {
    /// The lens in which it is done, or `None` if it needs no lens of its own.
    pub fn lens(self) -> Option<&'static str> {
        Some(match self {
            Task::Intake => return None,
            Task::Feeds | Task::Fetch | Task::Instrument => "shelf",
            Task::Check => "check",
            Task::Align => "align",
            Task::Splice => "splice",
            Task::Frames => "frames",
            Task::Deliver => "deliver",
            Task::Rehearse => "rehearse",
            Task::Look => "chart",
        })
    }
}

/// The next thing to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NextStep {
    pub task: Task,
    pub words: String,
    /// The series it is about, if it is about one.
    pub series: Option<SeriesName>,
}

impl NextStep {
    fn of(task: Task, words: impl Into<String>, series: &SeriesInfo) -> NextStep {
        NextStep { task, words: words.into(), series: Some(series.name.clone()) }
    }

    fn general(task: Task, words: impl Into<String>) -> NextStep {
        NextStep { task, words: words.into(), series: None }
    }
}

/// How far a stage is for an instrument.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StageState {
    Done,
    /// The next thing to do.
    Due,
    /// Due, and only the user can decide it.
    Decision,
    /// To be done after what is due.
    Later,
    /// The instrument does not need it.
    None,
}

impl StageState {
    /// Its mark on the lens bar.
    pub fn mark(self) -> &'static str {
        match self {
            StageState::Done => "✓",
            StageState::Due => "▸",
            StageState::Decision => "?",
            StageState::Later => "·",
            StageState::None => " ",
        }
    }
}

/// What was done on this bench that the catalog does not record.
#[derive(Debug, Default)]
pub struct WorkLog {
    /// Editions that were delivered and proved.
    pub delivered: HashSet<i64>,
    /// Instruments that were replayed.
    pub rehearsed: HashSet<String>,
    /// Whether the feeds were asked for new data.
    pub updated: bool,
}

/// Says what is next, from the catalog and from what was done on this bench.
#[derive(Clone, Copy)]
pub struct Guide<'a> {
    pub snapshot: &'a Snapshot,
    pub checked: &'a CheckedEditions,
    pub log: &'a WorkLog,
}

/// The stages that have a lens and an end, in the order of the work.
const STAGES: [(Task, &str); 7] = [
    (Task::Intake, "shelf"),
    (Task::Check, "check"),
    (Task::Align, "align"),
    (Task::Splice, "splice"),
    (Task::Frames, "frames"),
    (Task::Deliver, "deliver"),
    (Task::Rehearse, "rehearse"),
];

impl<'a> Guide<'a> {
    /// What is next if this instrument is selected; the selected series comes first.
    pub fn next(&self, instrument: &str, chosen: Option<&SeriesName>) -> NextStep {
        if self.snapshot.series.is_empty() {
            return match self.snapshot.feeds.first() {
                Some(feed) => {
                    NextStep::general(Task::Feeds, format!("see what {feed} has (f), fetch it (n)"))
                }
                None => NextStep::general(Task::Intake, "import files"),
            };
        }
        self.of_instrument(instrument, chosen)
            .or_else(|| self.fetch())
            .or_else(|| self.other_instrument(instrument))
            .unwrap_or_else(|| NextStep::general(Task::Look, "all is done: see the history on the chart"))
    }

    /// What this instrument still needs, or `None` if every stage is done.
    pub fn of_instrument(&self, instrument: &str, chosen: Option<&SeriesName>) -> Option<NextStep> {
        let roots: Vec<&SeriesInfo> = self.snapshot.roots_of(instrument).collect();
        let sources = worked_on(&roots, chosen);
        let has_reference = roots.iter().any(|s| !s.is_afloat());
        sources
            .iter()
            .find_map(|s| self.check(s, has_reference))
            .or_else(|| sources.iter().find_map(|s| clock(s, &roots)))
            .or_else(|| unanchored(&roots).first().and_then(|s| clock(s, &roots)))
            .or_else(|| self.splice(&roots))
            .or_else(|| self.frames(instrument, &roots))
            .or_else(|| self.deliver(&roots))
            .or_else(|| self.rehearse(instrument, &roots))
    }

    /// A check, or safe mends, that a series needs. Mends of an unanchored series wait for its clock.
    fn check(&self, info: &SeriesInfo, has_reference: bool) -> Option<NextStep> {
        let short = info.name.short();
        match self.checked.get(&info.edition.id) {
            // Without any clock, the clock comes first.
            None if info.is_afloat() && !has_reference => None,
            None => Some(NextStep::of(Task::Check, format!("check {short}"), info)),
            Some(known) if known.has_safe_mends && !info.is_afloat() => {
                Some(NextStep::of(Task::Check, format!("mend what is safe in {short}"), info))
            }
            Some(_) => None,
        }
    }

    fn splice(&self, roots: &[&SeriesInfo]) -> Option<NextStep> {
        let mut joins = roots.iter().filter(|s| s.edition.provenance.made.is_joined()).peekable();
        let has_join = joins.peek().is_some();
        if let Some((join, why)) = joins.find_map(|s| Some((s, self.snapshot.stale(s)?))) {
            return Some(NextStep::of(
                Task::Splice,
                format!("{why}: join {} again", join.name.short()),
                join,
            ));
        }
        let bars = || roots.iter().filter(|s| is_source(s) && s.name.frame.is_bars());
        let shortest = bars().map(|s| s.name.frame.length()).min()?;
        let two = bars().find(|s| {
            let is_partner = |o: &&&SeriesInfo| {
                o.name.source != s.name.source && o.name.frame == s.name.frame && o.name.side == s.name.side
            };
            s.name.frame.length() == shortest && bars().any(|o| is_partner(&o))
        })?;
        (!has_join).then(|| NextStep::of(Task::Splice, "join the sources", two))
    }

    fn frames(&self, instrument: &str, roots: &[&SeriesInfo]) -> Option<NextStep> {
        let base = base_of(roots)?;
        let frames = || self.snapshot.series_of(instrument).filter(|s| s.edition.provenance.made.is_framed());
        if let Some(stale) = frames().find(|s| self.snapshot.stale(s).is_some()) {
            let words = format!("{} is stale: build the frames again", stale.name.short());
            return Some(NextStep::of(Task::Frames, words, base));
        }
        let is_built = frames().any(|s| s.name.source == base.name.source);
        (!is_built)
            .then(|| NextStep::of(Task::Frames, format!("build frames of {}", base.name.short()), base))
    }

    fn deliver(&self, roots: &[&SeriesInfo]) -> Option<NextStep> {
        let base = base_of(roots)?;
        (!self.is_delivered(base))
            .then(|| NextStep::of(Task::Deliver, format!("deliver {} and prove it", base.name.short()), base))
    }

    fn rehearse(&self, instrument: &str, roots: &[&SeriesInfo]) -> Option<NextStep> {
        let base = base_of(roots)?;
        (!self.is_rehearsed(instrument))
            .then(|| NextStep::of(Task::Rehearse, format!("replay {}", base.name.short()), base))
    }

    /// New data of the feeds, for all instruments at once.
    fn fetch(&self) -> Option<NextStep> {
        let has_source = |feed: &&String| self.snapshot.series.iter().any(|s| s.name.source == **feed);
        let feeds: Vec<&str> = self.snapshot.feeds.iter().filter(has_source).map(String::as_str).collect();
        (!feeds.is_empty() && !self.log.updated)
            .then(|| NextStep::general(Task::Fetch, format!("fetch new data from {}", feeds.join(", "))))
    }

    /// The first other instrument that still needs something.
    fn other_instrument(&self, instrument: &str) -> Option<NextStep> {
        let mut before = instrument;
        for info in self.snapshot.series.iter() {
            let name = info.name.instrument.as_str();
            if name == instrument || name == std::mem::replace(&mut before, name) {
                continue;
            }
            if let Some(next) = self.of_instrument(name, None) {
                let words = format!("{name}: {}", next.words);
                let series = next.series.or_else(|| Some(info.name.clone()));
                return Some(NextStep { task: Task::Instrument, words, series });
            }
        }
        None
    }

    fn is_delivered(&self, info: &SeriesInfo) -> bool {
        self.log.delivered.contains(&info.edition.id) || self.snapshot.is_delivered(info)
    }

    fn is_rehearsed(&self, instrument: &str) -> bool {
        self.log.rehearsed.contains(instrument) || self.snapshot.is_rehearsed(instrument)
    }

    /// How far each stage is for an instrument, by the word of its lens.
    pub fn stages(&self, instrument: &str, chosen: Option<&SeriesName>) -> Vec<(&'static str, StageState)> {
        let roots: Vec<&SeriesInfo> = self.snapshot.roots_of(instrument).collect();
        if roots.is_empty() {
            return Vec::new();
        }
        let due = self.of_instrument(instrument, chosen);
        let sources = worked_on(&roots, chosen);
        let is_needed = |task: Task| match task {
            Task::Align => {
                !unanchored(&roots).is_empty() || roots.iter().any(|s| s.edition.provenance.made.is_aligned())
            }
            Task::Splice => {
                self.splice(&roots).is_some() || roots.iter().any(|s| s.edition.provenance.made.is_joined())
            }
            _ => true,
        };
        let is_open = |task: Task| match task {
            Task::Check => sources.iter().any(|s| {
                let known = self.checked.get(&s.edition.id);
                known.is_none_or(|k| k.has_safe_mends)
            }),
            Task::Align => !unanchored(&roots).is_empty(),
            Task::Splice => self.splice(&roots).is_some(),
            Task::Frames => self.frames(instrument, &roots).is_some(),
            Task::Deliver => base_of(&roots).is_none_or(|base| !self.is_delivered(base)),
            Task::Rehearse => !self.is_rehearsed(instrument),
            _ => false,
        };
        let state = |task: Task| match &due {
            _ if !is_needed(task) => StageState::None,
            Some(next) if next.task == task && needs_decision(next, &roots) => StageState::Decision,
            Some(next) if next.task == task => StageState::Due,
            _ if is_open(task) => StageState::Later,
            _ => StageState::Done,
        };
        STAGES.into_iter().map(|(task, word)| (word, state(task))).collect()
    }
}

/// The clock that a series needs.
fn clock(info: &SeriesInfo, roots: &[&SeriesInfo]) -> Option<NextStep> {
    if !info.is_afloat() {
        return None;
    }
    let short = info.name.short();
    if roots.iter().any(|s| !s.is_afloat()) {
        return Some(NextStep::of(Task::Align, format!("find the clock of {short}"), info));
    }
    let all: Vec<String> = unanchored(roots).iter().map(|s| s.name.short()).collect();
    let words = match all.as_slice() {
        [one] => format!("{one} has no clock: set it"),
        more => format!("{} have no clock: set one", more.join(", ")),
    };
    Some(NextStep::of(Task::Align, words, info))
}

/// Whether only the user can decide a step: a clock that no other series can show.
fn needs_decision(next: &NextStep, roots: &[&SeriesInfo]) -> bool {
    next.task == Task::Align && roots.iter().all(|s| s.is_afloat())
}

/// Whether the rows came from files or feeds, anchored and mended or not.
fn is_source(info: &SeriesInfo) -> bool {
    !matches!(
        info.edition.provenance.made,
        Made::Splice(_) | Made::Frames(_) | Made::Compose(_) | Made::Formula(_) | Made::Chain(_)
    )
}

/// The imported series whose clock is not known.
fn unanchored<'a>(roots: &[&'a SeriesInfo]) -> Vec<&'a SeriesInfo> {
    roots.iter().filter(|s| is_source(s) && s.is_afloat()).copied().collect()
}

/// The series that a history is built from: the selected one, then the shortest bars of each source, or its ticks if it
/// has no bars.
fn worked_on<'a>(roots: &[&'a SeriesInfo], chosen: Option<&SeriesName>) -> Vec<&'a SeriesInfo> {
    let mut out: Vec<&SeriesInfo> =
        roots.iter().filter(|s| is_source(s) && chosen == Some(&s.name)).copied().collect();
    let mut all: Vec<&SeriesInfo> = roots.iter().filter(|s| is_source(s)).copied().collect();
    all.sort_by_key(|s| (!s.name.frame.is_bars(), s.name.frame.length()));
    for info in all {
        let is_new = !out.iter().any(|o| {
            o.name.source == info.name.source && (o.name.frame.is_bars() || !info.name.frame.is_bars())
        });
        if is_new {
            out.push(info);
        }
    }
    out
}

/// The series that frames, files and replays are made from: the joined one, or else the anchored source with the
/// shortest bars, or else any anchored series.
fn base_of<'a>(roots: &[&'a SeriesInfo]) -> Option<&'a SeriesInfo> {
    let anchored = || roots.iter().filter(|s| !s.is_afloat()).copied();
    anchored()
        .find(|s| s.edition.provenance.made.is_joined())
        .or_else(|| anchored().filter(|s| s.name.frame.is_bars()).min_by_key(|s| s.name.frame.length()))
        .or_else(|| anchored().next())
}
