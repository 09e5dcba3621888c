//! The whole job in one go: two sources in, one proved history out, up to the first question that only a person can
//! answer.

use std::path::{Path, PathBuf};

use serde_json::{Value, json};
use stavel_core::align::{WeekEdges, week_edges};
use stavel_core::check::{self, Mend};
use stavel_core::job::Job;
use stavel_core::model::time;
use stavel_core::model::{Decision, Made, SeriesName, Span};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Advice, Error, Result};

use crate::advice::advice_in_words;
use crate::align::minute_of_week;
use crate::findings::{finding_in_words, mend_in_words};
use crate::page::write_file;
use crate::recipe::{Done, Recipe, do_unless_done, what_was_done};
use crate::report::StepReport;
use crate::step::{AlignStep, AutoStep, CheckStep, DeliverStep, FramesStep, IntakeStep, SpliceStep, Step};

/// What the joined history is called on the shelf.
const JOINED: &str = "joined";

/// A question that only a person can answer.
struct Question {
    /// The question.
    asks: String,
    answers: Vec<Answer>,
}

/// An answer to a question.
struct Answer {
    /// The command that gives it.
    say: String,
    /// What speaks for it.
    speaks_for: String,
}

impl Answer {
    fn new(say: impl Into<String>, speaks_for: impl Into<String>) -> Answer {
        Answer { say: say.into(), speaks_for: speaks_for.into() }
    }
}

/// What stopped the way.
enum Stop {
    Asks(Question),
    Fails(Error),
}

impl From<Error> for Stop {
    fn from(error: Error) -> Stop {
        Stop::Fails(error)
    }
}

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
    Ok(way.report(question.as_ref()))
}

impl Way<'_, '_> {
    fn go(&mut self) -> std::result::Result<(), Stop> {
        let wish = self.wish;
        self.take_in(&wish.files, &wish.source)?;
        self.take_in(&wish.broker, &wish.broker_source)?;
        let pairs = self.pairs()?;
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
        self.deliver(wanted)
    }

    /// Does a step and tells of it; gives its report where it was done now.
    fn step(&mut self, step: Step) -> std::result::Result<Option<StepReport>, Stop> {
        let done = do_unless_done(self.shelf, &step, &mut self.fresh, &mut *self.act)?;
        let number = self.steps.len() + 1;
        self.lines.push(format!("{number} {}", step.command_line()));
        let told = match done {
            Done::Now(report) => {
                self.lines.extend(report.lines.iter().map(|l| format!("    {l}")));
                self.json.push(json!({
                    "step": number, "act": step.act(), "command": step.command_line(), "done": "now",
                    "line": report.lines.first(), "report": report.document(),
                }));
                self.changed.extend(
                    report.changed.iter().filter(|s| !self.changed.contains(s)).cloned().collect::<Vec<_>>(),
                );
                self.files.extend(report.files.iter().cloned());
                self.wants_person |= report.wants_person;
                for decision in
                    report.assumed.iter().filter(|d| !self.assumed.contains(d)).cloned().collect::<Vec<_>>()
                {
                    self.assumed.push(decision);
                }
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

    /// Takes files of a source in, unless they lie on the shelf already.
    fn take_in(&mut self, paths: &[PathBuf], source: &str) -> std::result::Result<(), Stop> {
        if self.are_taken(paths, source)? {
            self.lines.push(format!("- the files of {source} are on the shelf"));
            return Ok(());
        }
        let step = IntakeStep {
            paths: paths.to_vec(),
            source: source.into(),
            instrument: self.wish.instrument.clone(),
            ..IntakeStep::default()
        };
        let command = Step::Intake(step.clone()).command_line();
        match self.step(Step::Intake(step)) {
            Err(Stop::Fails(error)) if error.is_undecided() => Err(Stop::Asks(about_files(&error, &command))),
            other => other.map(drop),
        }
    }

    /// True where every one of the files was taken in from this source, however it was read then.
    fn are_taken(&self, paths: &[PathBuf], source: &str) -> Result<bool> {
        let mut known: Vec<PathBuf> = Vec::new();
        for info in self.shelf.series()?.iter().filter(|s| s.name.source == source) {
            for edition in self.shelf.editions(&info.name)? {
                if let Made::Intake(taken) = &edition.provenance.made {
                    known.extend(taken.files.iter().map(|f| PathBuf::from(&f.path)));
                }
            }
        }
        let same = |a: &Path, b: &Path| {
            a == b || matches!((a.canonicalize(), b.canonicalize()), (Ok(a), Ok(b)) if a == b)
        };
        Ok(paths.iter().all(|path| files_below(path).iter().all(|file| known.iter().any(|k| same(k, file)))))
    }

    /// The bars to be joined: of each instrument that both have, the vendor's and the broker's at the same frame.
    fn pairs(&self) -> Result<Vec<(SeriesName, SeriesName)>> {
        let all = self.shelf.series()?;
        let bars = |source: &str| -> Vec<&SeriesInfo> {
            let mut out: Vec<&SeriesInfo> = all
                .iter()
                .filter(|s| s.name.source == source && s.name.frame.is_bars())
                .filter(|s| !s.edition.provenance.made.is_framed())
                .collect();
            out.sort_by_key(|s| (s.name.instrument.clone(), s.name.frame.length()));
            out
        };
        let (vendor, broker) = (bars(&self.wish.source), bars(&self.wish.broker_source));
        let mut pairs: Vec<(SeriesName, SeriesName)> = Vec::new();
        for b in broker {
            let like =
                |v: &&&SeriesInfo| v.name.instrument == b.name.instrument && v.name.frame == b.name.frame;
            let is_new = !pairs.iter().any(|(_, other)| other.instrument == b.name.instrument);
            if let (Some(v), true) = (vendor.iter().find(like), is_new) {
                pairs.push((v.name.clone(), b.name.clone()));
            }
        }
        if pairs.is_empty() {
            let names = |source: &str| {
                let own = all.iter().filter(|s| s.name.source == source);
                own.map(|s| s.name.to_string()).collect::<Vec<_>>().join(", ")
            };
            return Err(Error::input(format!(
                "Vendor and broker have no bars of one instrument at one frame: the vendor has {}, the broker {}.",
                names(&self.wish.source),
                names(&self.wish.broker_source)
            )));
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
        let mut times = Vec::new();
        for rows in self.shelf.scan(&info.edition, Span::ALL, Some(&[]))? {
            times.extend(rows?.time.iter().copied());
        }
        let edges = week_edges(times.into_iter(), vendor.frame.length());
        let with = |clock: &str| format!("stavel align {vendor} --clock {clock} --anchor");
        let seen = edges_in_words(&edges);
        Err(Stop::Asks(Question {
            asks: format!("Which clock do the times of {vendor} stand in? Its files name no zone."),
            answers: vec![
                Answer::new(
                    with("UTC"),
                    format!(
                        "{seen}; in UTC a week that ends at 17:00 in New York closes on Friday at 21:00 or 22:00"
                    ),
                ),
                Answer::new(
                    with("America/New_York+7h"),
                    format!("{seen}; on this clock that week closes at midnight, the whole year"),
                ),
                Answer::new(with("CLOCK"), "what the vendor says of its times, as UTC+2 or Europe/Oslo"),
            ],
        }))
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
        let is_due = found.count(check::FindingKind::DuplicateTime).0 > 0 || found.filler_closed > 0;
        if !is_due {
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
            return self.note_clock(broker);
        }
        let step = AlignStep { anchor: true, ..AlignStep::of(broker.clone(), Some(vendor.clone())) };
        let report = self.step(Step::Align(step))?;
        if !self.is_afloat(broker)? {
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
        let report =
            self.step(Step::Frames(FramesStep { series: joined.clone(), frames, clock: None, side: None }))?;
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

    /// Writes everything that was made into the folder and proves it.
    fn deliver(&mut self, series: Vec<SeriesName>) -> std::result::Result<(), Stop> {
        let Some(out) = self.wish.out.clone() else { return Ok(()) };
        std::fs::create_dir_all(&out).map_err(|e| Error::io("Cannot make", &out, &e))?;
        let step = DeliverStep {
            series,
            out,
            layout: None,
            format: self.wish.format,
            clock: None,
            from: None,
            to: None,
            last: None,
            origin: false,
            stale_ok: false,
        };
        let report = self.step(Step::Deliver(step))?;
        let files = report.and_then(|r| r.json["files"].as_array().cloned());
        self.delivered.extend(files.unwrap_or_default());
        Ok(())
    }

    /// Leaves the steps as a recipe in the folder; a file of another kind that lies there is not written over.
    /// `earlier` are the steps that were done before this command.
    fn leave_recipe(&mut self, earlier: Vec<Step>) -> Result<()> {
        let Some(out) = &self.wish.out else { return Ok(()) };
        let mut step: Vec<Step> = earlier.into_iter().filter(|s| self.is_part_of_it(s)).collect();
        step.retain(|s| !self.steps.contains(s));
        step.extend(self.steps.iter().cloned());
        let mut recipe = Recipe { title: Some("two sources, one history".into()), step };
        for step in &mut recipe.step {
            step.with_absolute_paths()?;
        }
        let text = recipe.to_text()?;
        let names =
            std::iter::once("recipe.toml".to_owned()).chain((2..100).map(|n| format!("recipe-{n}.toml")));
        for path in names.map(|name| out.join(name)) {
            match std::fs::read_to_string(&path) {
                Ok(there) if there == text => {}
                // One that this command left earlier on the way is brought up to date.
                Ok(there) if !is_earlier(&there, &recipe) => continue,
                _ => write_file(&path, text.as_bytes())?,
            }
            self.lines.push(format!(
                "{} holds the {} steps; do them again with: stavel run {}",
                path.display(),
                recipe.step.len(),
                path.display()
            ));
            self.recipe = Some(path.clone());
            self.files.push(path);
            return Ok(());
        }
        Ok(())
    }

    /// True for a step, done earlier, that is part of the way from these files to the joined history.
    fn is_part_of_it(&self, step: &Step) -> bool {
        let ours = [&self.wish.source, &self.wish.broker_source];
        match step {
            Step::Intake(s) => ours.contains(&&s.source),
            Step::Check(_) | Step::Align(_) => step.reads().iter().any(|s| ours.contains(&&s.source)),
            Step::Splice(s) => s.into == JOINED,
            Step::Frames(s) => s.series.source == JOINED,
            Step::Compose(s) => s.from.is_none(),
            _ => false,
        }
    }

    /// The command that goes on from where this one stopped.
    fn again(&self) -> String {
        Step::Auto(self.wish.clone()).command_line()
    }

    fn report(self, question: Option<&Question>) -> StepReport {
        let (again, mut lines) = (self.again(), self.lines);
        let mut json = json!({
            "steps": self.json, "joined": self.joined.first(), "clock": self.clocks.first(),
            "recipe": self.recipe, "files": self.delivered,
        });
        if self.joined.len() > 1 {
            json["all_joined"] = json!(self.joined);
        }
        if let Some(q) = question {
            json["question"] = json!(q.asks);
            json["answers"] =
                q.answers.iter().map(|a| json!({"say": a.say, "speaks_for": a.speaks_for})).collect();
            json["done"] = json["steps"].clone();
            json["then"] = json!(again);
            lines.push(format!("▲ {}", q.asks));
            for answer in &q.answers {
                lines.push(format!("  {}", answer.say));
                lines.push(format!("      {}", answer.speaks_for));
            }
            lines.push(format!("  then go on with: {again}"));
        }
        let first = match question {
            Some(q) => format!("{} steps done, then a question: {}", self.steps.len(), q.asks),
            None => format!("{} steps done, {} files written", self.steps.len(), self.files.len()),
        };
        lines.insert(0, first);
        let wants_person = self.wants_person || question.is_some();
        StepReport {
            wants_person,
            changed: self.changed,
            files: self.files,
            assumed: self.assumed,
            ..StepReport::new(json, lines)
        }
    }
}

/// What a report tells with a mark: the reasons to look.
fn marked(report: &StepReport) -> String {
    let lines = report.lines.iter().filter(|l| l.contains('▲') || l.contains('○'));
    lines.map(|l| l.trim().to_owned()).collect::<Vec<_>>().join("; ")
}

/// True where a file holds a recipe whose steps are the first steps of another.
fn is_earlier(text: &str, recipe: &Recipe) -> bool {
    Recipe::from_text(text, Path::new("recipe.toml"))
        .is_ok_and(|there| there.title == recipe.title && recipe.step.starts_with(&there.step))
}

/// What an intake could not decide, as a question.
fn about_files(error: &Error, command: &str) -> Question {
    let answers = match error.advice() {
        Some(Advice::Choose(setting, values)) => values
            .iter()
            .map(|value| {
                let option = advice_in_words(&Advice::Choose(*setting, vec![value.clone()]));
                Answer::new(format!("{command} {option}"), format!("{value}: {error}"))
            })
            .collect(),
        Some(advice) => {
            vec![Answer::new(format!("{command} {} …", advice_in_words(advice)), error.to_string())]
        }
        None => vec![Answer::new(format!("{command} …"), error.to_string())],
    };
    Question { asks: error.to_string(), answers }
}

/// When weeks begin and end as written.
fn edges_in_words(edges: &WeekEdges) -> String {
    format!(
        "as written, {} of {} weeks open at {} and {} close at {}",
        edges.keep_open,
        edges.weeks,
        minute_of_week(edges.opens),
        edges.keep_close,
        minute_of_week(edges.closes)
    )
}

/// The files below a path; itself where it is one.
fn files_below(path: &Path) -> Vec<PathBuf> {
    if !path.is_dir() {
        return vec![path.to_owned()];
    }
    let inside = std::fs::read_dir(path).into_iter().flatten().flatten();
    inside.flat_map(|entry| files_below(&entry.path())).collect()
}
