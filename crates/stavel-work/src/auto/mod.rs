//! The whole job in one go: two sources in, one proved history out, up to the first question that only a person can
//! answer.

mod ending;
mod files;
mod question;
mod summary;

use std::path::PathBuf;

use serde_json::{Value, json};
use stavel_core::check::{self, Mend};
use stavel_core::job::Job;
use stavel_core::model::time;
use stavel_core::model::{Decision, SeriesName, SeriesPattern, Span, Standing};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use self::files::{files_below, series_holding, series_of};
use self::question::{Stop, about_clock, about_files};
use crate::findings::{finding_in_words, mend_in_words};
use crate::question::{Answer, Question};
use crate::recipe::{Done, Recipe, do_unless_done, what_was_done};
use crate::report::StepReport;
use crate::step::{
    AlignStep, AutoStep, ChartStep, CheckStep, ComposeStep, DeliverStep, DossierStep, FramesStep, IntakeStep,
    SheetValues, SpliceStep, Step,
};

/// What the joined history is called on the shelf.
const JOINED: &str = "joined";

/// Does one step on a shelf.
pub type ActStep<'a> = dyn FnMut(&mut Shelf, &Step) -> Result<StepReport> + 'a;

/// What was done on the way, and what is to be told of it.
struct Way<'a, 'b> {
    /// Does one step.
    act: &'a mut ActStep<'b>,
    shelf: &'a mut Shelf,
    job: &'a Job,
    wish: &'a AutoStep,
    fresh: Vec<SeriesName>,
    steps: Vec<Step>,
    lines: Vec<String>,
    json: Vec<Value>,
    /// What was joined, the clock of each broker series, and what was delivered.
    joined: Vec<SeriesName>,
    /// How many rows each source gave to each join.
    rows_by_source: Vec<String>,
    clocks: Vec<String>,
    delivered: Vec<Value>,
    recipe: Option<PathBuf>,
    assumed: Vec<Decision>,
    changed: Vec<SeriesName>,
    files: Vec<PathBuf>,
    /// True where something that was done wants to be looked at.
    wants_person: bool,
}

/// Takes both in, mends what is safe, finds the clock, joins, builds frames, delivers and leaves the recipe. What was
/// done before a question stays done: the same command goes on from there.
pub fn auto_all(shelf: &mut Shelf, wish: &AutoStep, act: &mut ActStep<'_>, job: &Job) -> Result<StepReport> {
    if wish.source == wish.broker_source {
        return Err(Error::arguments("The vendor and the broker need names that differ."));
    }
    let earlier = what_was_done(shelf)?.step;
    let mut way = Way {
        act,
        shelf,
        job,
        wish,
        fresh: Vec::new(),
        steps: Vec::new(),
        lines: Vec::new(),
        json: Vec::new(),
        joined: Vec::new(),
        rows_by_source: Vec::new(),
        clocks: Vec::new(),
        delivered: Vec::new(),
        recipe: None,
        assumed: Vec::new(),
        changed: Vec::new(),
        files: Vec::new(),
        wants_person: false,
    };
    let question = match way.go() {
        Ok(()) => None,
        Err(Stop::Asks(question)) => Some(question),
        Err(Stop::Fails(error)) => return Err(error),
    };
    way.leave_recipe(earlier)?;
    // The journal keeps the steps themselves, so that a recipe of the shelf spells them out.
    let done = Recipe { title: None, step: way.steps.clone() };
    way.shelf.name_act(&done.to_text()?)?;
    way.report(question.as_ref())
}

impl Way<'_, '_> {
    fn go(&mut self) -> std::result::Result<(), Stop> {
        let wish = self.wish;
        let vendor = self.take_in(&wish.files, &wish.source)?;
        let broker = self.take_in(&wish.broker, &wish.broker_source)?;
        let pairs = self.pairs(vendor, broker)?;
        let mut wanted = Vec::new();
        for (vendor, broker) in &pairs {
            self.ask_for_clock(vendor)?;
            self.mend(vendor)?;
            self.find_clock(broker, vendor)?;
            self.mend(broker)?;
            let joined = SeriesName { source: JOINED.into(), ..broker.clone() };
            self.join(broker, vendor)?;
            self.joined.push(joined.clone());
            self.judge(&joined)?;
            wanted.push(joined.clone());
            wanted.extend(self.frames(&joined)?);
        }
        self.deliver(wanted)?;
        self.picture()
    }

    /// Does a step and tells of it; gives its report where it was done now.
    fn step(&mut self, step: Step) -> std::result::Result<Option<StepReport>, Stop> {
        let done = do_unless_done(self.shelf, &step, &mut self.fresh, &mut *self.act)?;
        let number = self.steps.len() + 1;
        self.lines.push(format!("{number} {}", step.command_line()));
        let first = match &done {
            Done::Now(report) => report.lines.first(),
            Done::Before(lines) => lines.first(),
        };
        if let (Step::Splice(_), Some(line)) = (&step, first) {
            self.rows_by_source.push(format!("  rows      {line}"));
        }
        let told = match done {
            Done::Now(report) => {
                self.lines.extend(report.lines.iter().map(|l| format!("    {l}")));
                self.json.push(json!({
                    "step": number, "act": step.act(), "command": step.command_line(), "done": "now",
                    "line": report.lines.first(), "report": report.document(),
                }));
                add_new(&mut self.changed, &report.changed);
                self.files.extend(report.files.iter().cloned());
                self.wants_person |= report.wants_person;
                add_new(&mut self.assumed, &report.assumed);
                Some(report)
            }
            Done::Before(lines) => {
                self.lines.push("    nothing has changed: not done again".into());
                self.json.push(json!({
                    "step": number, "act": step.act(), "command": step.command_line(), "done": "before",
                    "line": lines.first(),
                }));
                None
            }
        };
        self.steps.push(step);
        Ok(told)
    }

    /// Takes files of a source in, unless all of them lie on the shelf as they are now; gives their series.
    fn take_in(&mut self, paths: &[PathBuf], source: &str) -> std::result::Result<Vec<SeriesName>, Stop> {
        let files = files_below(paths)?;
        if let Some(series) = series_holding(self.shelf, source, &files)? {
            self.lines.push(format!("- the files of {source} are on the shelf"));
            return Ok(series);
        }
        let step = IntakeStep {
            paths: paths.to_vec(),
            source: source.into(),
            instrument: self.wish.instrument.clone(),
            ..IntakeStep::default()
        };
        let command = Step::Intake(step.clone()).command_line();
        match self.step(Step::Intake(step)) {
            Ok(_) => Ok(series_of(self.shelf, source, &files)?),
            Err(Stop::Fails(error)) if error.is_undecided() => Err(Stop::Asks(about_files(&error, &command))),
            Err(stop) => Err(stop),
        }
    }

    /// The bars to be joined: of each instrument that both have, the vendor's and the broker's of one frame and side.
    /// What has no partner is told; of the broker's a person should know.
    fn pairs(
        &mut self,
        vendor: Vec<SeriesName>,
        broker: Vec<SeriesName>,
    ) -> Result<Vec<(SeriesName, SeriesName)>> {
        let names = |all: &[SeriesName]| all.iter().map(SeriesName::to_string).collect::<Vec<_>>().join(", ");
        let told = (names(&vendor), names(&broker));
        let (vendor, broker) = (shortest_first(vendor), shortest_first(broker));
        let mut pairs: Vec<(SeriesName, SeriesName)> = Vec::new();
        let mut alone: Vec<&SeriesName> = Vec::new();
        for b in &broker {
            let like = |v: &&SeriesName| (&v.instrument, v.frame, v.side) == (&b.instrument, b.frame, b.side);
            let is_new = !pairs.iter().any(|(_, other)| other.instrument == b.instrument);
            match vendor.iter().find(like) {
                Some(v) if is_new => pairs.push((v.clone(), b.clone())),
                _ => alone.push(b),
            }
        }
        if pairs.is_empty() {
            return Err(Error::input(format!(
                "Vendor and broker have no bars of one instrument at one frame and side: the vendor has {}, the broker {}; \
                 name other files, or build the frame that is missing and join the two by hand.",
                told.0, told.1
            )));
        }
        self.wants_person |= !alone.is_empty();
        self.lines.extend(alone.iter().map(|name| format!("  ▲ {name} has no partner and is left as it is")));
        for v in vendor.iter().filter(|v| !pairs.iter().any(|(used, _)| used == *v)) {
            self.lines.push(format!("- {v} is not needed and is left as it is"));
        }
        Ok(pairs)
    }

    fn is_afloat(&self, name: &SeriesName) -> Result<bool> {
        Ok(self.shelf.find(name)?.is_afloat())
    }

    /// The vendor's clock is the one that all is held against: where no file says it, nothing can tell it.
    fn ask_for_clock(&mut self, vendor: &SeriesName) -> std::result::Result<(), Stop> {
        if !self.is_afloat(vendor)? {
            return Ok(());
        }
        let info = self.shelf.find(vendor)?;
        Err(Stop::Asks(about_clock(self.shelf, &info)?))
    }

    /// Mends what is safe without looking, where there is any.
    fn mend(&mut self, name: &SeriesName) -> std::result::Result<(), Stop> {
        let (_, found) = check::check_series(self.shelf, name, Span::ALL, self.job)?;
        let kinds: Vec<String> = check::FindingKind::ALL
            .iter()
            .map(|kind| (kind, found.count(*kind).0))
            .filter(|(_, n)| *n > 0)
            .map(|(kind, n)| format!("{} {n}", kind.word()))
            .collect();
        let told = if kinds.is_empty() { "nothing found".into() } else { kinds.join(", ") };
        self.lines.push(format!("- {name}: grade {}; {told}", found.grade.points));
        if !found.has_safe_mends() {
            return Ok(());
        }
        self.lines.push(format!("- safe without looking: {}", mend_in_words(&Mend::Safe)));
        self.step(Step::Check(CheckStep { mend: vec![Mend::Safe], ..CheckStep::of(name.clone()) })).map(drop)
    }

    /// Tells what is still wrong with what was joined; faults want a person.
    fn judge(&mut self, joined: &SeriesName) -> Result<()> {
        let (_, found) = check::check_series(self.shelf, joined, Span::ALL, self.job)?;
        self.lines.push(format!("- {joined}: grade {}", found.grade.points));
        let faults = found.findings.iter().filter(|f| f.kind.severity() == check::Severity::Fault);
        for fault in faults {
            self.wants_person = true;
            let (kind, at) = (fault.kind.word(), time::wall(fault.span.from));
            self.lines.push(format!("  ▲ {kind} {at}: {}", finding_in_words(fault)));
        }
        Ok(())
    }

    /// Finds the broker's clock and anchors the series by it.
    fn find_clock(&mut self, broker: &SeriesName, vendor: &SeriesName) -> std::result::Result<(), Stop> {
        if !self.is_afloat(broker)? {
            // It was anchored before: by hand, or as the answer to the question below.
            let editions = self.shelf.editions(broker)?;
            if editions.iter().any(|e| e.provenance.made.is_aligned()) {
                self.count_days_like(broker)?;
            }
            return self.note_clock(broker);
        }
        let step = AlignStep { anchor: true, ..AlignStep::of(broker.clone(), Some(vendor.clone())) };
        let report = self.step(Step::Align(step))?;
        if !self.is_afloat(broker)? {
            self.count_days_like(broker)?;
            return self.note_clock(broker);
        }
        // What did not settle it is no step of the recipe.
        self.steps.pop();
        let document = report.map(|r| r.json).unwrap_or_default();
        let text = |v: &Value| v.as_str().unwrap_or_default().to_owned();
        let doubts: Vec<String> = document["doubts"].as_array().into_iter().flatten().map(text).collect();
        let mut answers = Vec::new();
        if !doubts.is_empty() {
            let percent = document["confidence"].as_f64().unwrap_or_default() * 100.0;
            let (clock, against) = (text(&document["clock"]), doubts.join("; "));
            answers.push(Answer::new(
                format!("stavel align {broker} --to {vendor} --anchor --accept"),
                format!("{clock} explains {percent:.0} % of what the weeks say; against it: {against}"),
            ));
            for other in document["alternatives"].as_array().into_iter().flatten().take(3) {
                let clock = text(&other["clock"]);
                let percent = other["score"].as_f64().unwrap_or_default() * 100.0;
                answers.push(Answer::new(
                    format!("stavel align {broker} --clock '{clock}' --anchor"),
                    format!("it explains {percent:.0} % of what the weeks say"),
                ));
            }
        }
        let alike =
            if doubts.is_empty() { "the two are not alike at any one offset in enough weeks; " } else { "" };
        answers.push(Answer::new(
            format!("stavel align {broker} --clock CLOCK --anchor"),
            format!("{alike}what the broker says of its clock"),
        ));
        Err(Stop::Asks(Question { asks: format!("Which clock does {broker} keep?"), answers }))
    }

    /// The joined history has the broker's session days: where nobody has said on which clock they are counted, it is the
    /// broker's.
    fn count_days_like(&mut self, broker: &SeriesName) -> std::result::Result<(), Stop> {
        let instrument = self.shelf.instrument(&broker.instrument)?;
        if let Some(clock) = self.shelf.find(broker)?.edition.clock
            && instrument.standing("clock") == Standing::Assumed
        {
            self.lines
                .push(format!("- session days of {} are counted on the broker's clock", broker.instrument));
            let set = SheetValues::one("clock", &clock.to_string());
            self.step(Step::Compose(Box::new(ComposeStep {
                name: broker.instrument.clone(),
                set,
                ..ComposeStep::default()
            })))?;
        }
        Ok(())
    }

    fn note_clock(&mut self, broker: &SeriesName) -> std::result::Result<(), Stop> {
        let clock = self.shelf.find(broker)?.edition.clock;
        self.clocks.extend(clock.map(|c| c.to_string()));
        Ok(())
    }

    /// Joins the two, the broker's rows first.
    fn join(&mut self, broker: &SeriesName, vendor: &SeriesName) -> std::result::Result<(), Stop> {
        let series = vec![broker.clone(), vendor.clone()];
        let step = SpliceStep::of(series, JOINED);
        let report = self.step(Step::Splice(step))?;
        let Some(report) = report.filter(|r| r.wants_person) else { return Ok(()) };
        let told = marked(&report);
        let with = |more: &str| format!("stavel splice {broker} {vendor} --into {JOINED} {more}");
        Err(Stop::Asks(Question {
            asks: format!(
                "Is the joined history of {} good where its sources meet? {told}",
                broker.instrument
            ),
            answers: vec![
                Answer::new(self.again(), "it is: the steps and levels told are those of the market"),
                Answer::new(with("--level shift"), "one source lies above the other, as bid and mid do"),
                Answer::new(with("--rule RULE"), "another source is to own the time at which they meet"),
            ],
        }))
    }

    /// Builds the frames that are wanted; gives their names.
    fn frames(&mut self, joined: &SeriesName) -> std::result::Result<Vec<SeriesName>, Stop> {
        if self.wish.frames.is_empty() {
            return Ok(Vec::new());
        }
        let frames = self.wish.frames.clone();
        let report = self.step(Step::Frames(FramesStep::of(joined.clone(), frames)))?;
        let made = |info: &&SeriesInfo| {
            info.name.source == joined.source
                && info.name.instrument == joined.instrument
                && info.edition.provenance.made.is_framed()
        };
        let names = self.shelf.series()?.iter().filter(made).map(|s| s.name.clone()).collect();
        let Some(report) = report.filter(|r| r.wants_person) else { return Ok(names) };
        let (instrument, told) = (&joined.instrument, marked(&report));
        Err(Stop::Asks(Question {
            asks: format!(
                "When does a session day of {instrument} begin, and when is its market open? {told}"
            ),
            answers: vec![
                Answer::new(self.again(), "as the frames were built now"),
                Answer::new(
                    format!("stavel compose {instrument} --set clock=CLOCK"),
                    "the clock on which its days are counted",
                ),
                Answer::new(
                    format!("stavel compose {instrument} --hours 'mon-fri 09:00-17:00 ZONE'"),
                    "the hours in which it trades",
                ),
            ],
        }))
    }

    /// Writes a picture and a dossier of each joined history next to the files.
    fn picture(&mut self) -> std::result::Result<(), Stop> {
        let Some(out) = self.wish.out.clone() else { return Ok(()) };
        let is_alone = self.joined.len() == 1;
        for joined in self.joined.clone() {
            let stem = if is_alone { JOINED.to_owned() } else { format!("{JOINED}-{}", joined.instrument) };
            let picture = ChartStep::of(joined.clone(), out.join(format!("{stem}.svg")));
            self.step(Step::Chart(picture))?;
            // Whatever the dossier warns of was reported already.
            let needs_review = self.wants_person;
            self.step(Step::Dossier(DossierStep { series: joined, out: out.join(format!("{stem}.html")) }))?;
            self.wants_person = needs_review;
            // A recipe rebuilds the history; the dossier only judges it.
            self.steps.pop();
        }
        Ok(())
    }

    /// Writes everything that was made into the folder and proves it.
    fn deliver(&mut self, series: Vec<SeriesName>) -> std::result::Result<(), Stop> {
        let Some(out) = self.wish.out.clone() else { return Ok(()) };
        std::fs::create_dir_all(&out).map_err(|e| Error::io("Cannot make", &out, &e))?;
        let series = series.into_iter().map(SeriesPattern::from).collect();
        let step = DeliverStep { series, out, format: vec![self.wish.format], ..DeliverStep::default() };
        let report = self.step(Step::Deliver(Box::new(step)))?;
        let files = report.and_then(|r| r.json["files"].as_array().cloned());
        self.delivered.extend(files.unwrap_or_default());
        Ok(())
    }
}

/// What a report tells with a mark: the reasons to look.
fn marked(report: &StepReport) -> String {
    let lines = report.lines.iter().filter(|l| l.contains('▲') || l.contains('○'));
    lines.map(|l| l.trim().to_owned()).collect::<Vec<_>>().join("; ")
}

/// Bars, those of the shortest frame first.
fn shortest_first(mut series: Vec<SeriesName>) -> Vec<SeriesName> {
    series.retain(|s| s.frame.is_bars());
    series.sort_by_key(|s| (s.instrument.clone(), s.frame.length()));
    series
}

/// Adds what is not in a list yet.
fn add_new<T: Clone + PartialEq>(list: &mut Vec<T>, more: &[T]) {
    for one in more {
        if !list.contains(one) {
            list.push(one.clone());
        }
    }
}
