//! The bench: it knows the lenses, and does what they ask for.

mod guiding;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use stavel_core::model::Layout;
use stavel_core::model::time::{DAY, HOUR};
use stavel_core::model::{Micros, SeriesName, Span};
use stavel_core::{Advice, Error, Result};
use stavel_work::{ChartStep, DeliverStep, PlayPace, Recipe, RehearseStep, Step, StepReport, UndoStep};

use crate::act::{Act, ActTable, Common};
use crate::data::{CheckedEditions, Snapshot};
use crate::effect::{ChartPlace, Effect, Effects, Pointer, Tone};
use crate::jobs::{Errand, Running, Slot, Threads};
use crate::lens::{self, AnyLens};
use crate::messages::{Message, Warnings};
use crate::next::WorkLog;
use crate::outcome::{Asker, OverlayOutcome};
use crate::overlay::{Overlay, Palette, Prompt};
use crate::settings::Settings;
use crate::typing::Answers;
use crate::view::{FoundReport, View, whole_of, zoomed};

/// How often the shelf is looked at for what others change.
const WATCH: Duration = Duration::from_millis(500);

/// The bench.
pub struct App {
    pub threads: Threads,
    pub snapshot: Snapshot,
    /// False until the shelf was read for the first time.
    pub is_read: bool,
    pub selected: Option<SeriesName>,
    pub window: Span,
    pub lenses: Vec<Box<dyn AnyLens>>,
    /// The place of the lens that is open.
    pub open: usize,
    pub table: ActTable,
    pub running: Option<Running>,
    pub message: Message,
    /// What was warned of, to be read again.
    pub warnings: Warnings,
    pub overlay: Option<Overlay>,
    /// Columns and rows of the screen.
    pub size: (u16, u16),
    pub quit: bool,
    found: Option<FoundReport>,
    checked: CheckedEditions,
    pub(crate) log: WorkLog,
    /// Whether the next step is to be done as soon as what it waits for is there.
    pub(crate) next_waits: bool,
    /// True where the facts are shown over the lens of a narrow screen.
    pub shows_facts: bool,
    /// True once a person asked to leave while a job runs.
    asked_to_leave: bool,
    /// The command with a placeholder that is asked for, and the step that goes on after it.
    pub(crate) filled_in: Option<(String, Option<Step>)>,
    /// The step that goes on once the one that runs is done.
    pub(crate) then: Option<Step>,
    /// The version of the catalog, read now and then to see what others change, and how long ago that was.
    watched: Slot<i64>,
    since_watched: Duration,
    watches: u64,
    /// The line of text that was asked for last: asked again where its answer came to nothing.
    answered: Option<Prompt>,
    begin: Option<(RehearseStep, Option<PlayPace>)>,
    pub(crate) catalog: Slot<Snapshot>,
    coverage: Slot<Snapshot>,
    /// How often the shelf was read.
    reads: u64,
    /// Messages of threads that were collected.
    collected: u64,
    recipe: Errand<Recipe>,
    /// The name of a layout that was saved.
    layout: Errand<String>,
    recipe_path: PathBuf,
    /// The picture that a file is asked for.
    picture: Option<ChartStep>,
    /// The series that was removed last, for undo, and the one whose first edition was undone last, for redo: they
    /// are on no list.
    removed: Option<SeriesName>,
    undone: Option<SeriesName>,
    pub(crate) answers: Answers,
    settings: Settings,
    /// A text for the clipboard of the terminal.
    pub copied: Option<String>,
}

impl App {
    /// A bench on the shelf in a folder; reading begins at once on another thread.
    pub fn new(root: PathBuf) -> App {
        App::with_lenses(root, lens::all())
    }

    /// A bench with these lenses, in the order of the bar.
    pub fn with_lenses(root: PathBuf, lenses: Vec<Box<dyn AnyLens>>) -> App {
        let mut app = App {
            threads: Threads::new(root),
            snapshot: Snapshot::default(),
            is_read: false,
            selected: None,
            window: Span::new(0, DAY),
            table: lens::table(&lenses),
            lenses,
            open: 0,
            running: None,
            message: Message::default(),
            warnings: Warnings::default(),
            overlay: None,
            answers: Answers::default(),
            size: (160, 47),
            quit: false,
            found: None,
            checked: CheckedEditions::default(),
            log: WorkLog::default(),
            next_waits: false,
            shows_facts: false,
            asked_to_leave: false,
            filled_in: None,
            then: None,
            watched: Slot::default(),
            since_watched: Duration::ZERO,
            watches: 0,
            answered: None,
            begin: None,
            catalog: Slot::default(),
            coverage: Slot::default(),
            reads: 0,
            collected: 0,
            recipe: Errand::default(),
            layout: Errand::default(),
            picture: None,
            recipe_path: PathBuf::new(),
            removed: None,
            undone: None,
            settings: Settings::default(),
            copied: None,
        };
        app.reload();
        app
    }

    /// Takes what a person has settled; keys that cannot be are told when the settings are read.
    pub fn settle_as(&mut self, settings: Settings) {
        if let Err(wrong) = settings.bind(&mut self.table) {
            self.say(wrong, Tone::Wrong);
        }
        self.settings = settings;
    }

    /// What a lens sees.
    pub fn view(&self) -> View<'_> {
        View {
            snapshot: &self.snapshot,
            is_read: self.is_read,
            selected: self.selected.as_ref(),
            window: self.window,
            size: self.size,
            found: self.found.as_ref(),
            checked: &self.checked,
            begin: self.begin.as_ref(),
            log: &self.log,
            settings: &self.settings,
            threads: &self.threads,
            job: self.running.as_ref().map(|running| (&*running.job, running.begun)),
            typing: match &self.overlay {
                Some(Overlay::Prompt(prompt)) => Some((&prompt.label, prompt.typed.value())),
                _ => None,
            },
        }
    }

    /// Has a lens do something, and does what it asks for.
    pub(crate) fn with_lens(
        &mut self,
        place: usize,
        call: impl FnOnce(&mut dyn AnyLens, &View<'_>) -> Effects,
    ) {
        let mut lenses = std::mem::take(&mut self.lenses);
        let effects = match lenses.get_mut(place) {
            Some(lens) => call(lens.as_mut(), &self.view()),
            None => Effects::new(),
        };
        self.lenses = lenses;
        self.do_all(effects, place);
    }

    /// The lens that is open.
    pub fn lens(&self) -> &dyn AnyLens {
        self.lenses[self.open].as_ref()
    }

    /// The key of an act that holds everywhere.
    pub fn key_of(&self, act: Common) -> String {
        let line = self.table.lines.iter().find(|l| l.act == Act::Common(act));
        line.map_or(String::new(), |l| l.key.clone())
    }

    /// Opens a lens by its word.
    pub fn open_lens(&mut self, word: &str) {
        if let Some(place) = self.lenses.iter().position(|lens| lens.word() == word) {
            self.open = place;
        }
    }

    /// Does what a lens asks for.
    fn do_all(&mut self, effects: Effects, asked_by: usize) {
        for effect in effects {
            match effect {
                Effect::Say(text, tone) => self.say(text, tone),
                Effect::Complain(err) => self.complain(&err),
                Effect::Start(step) => self.start(*step, None),
                Effect::Select(name) => self.select(name),
                Effect::NextSeries { back } => self.step_series(if back { -1 } else { 1 }),
                Effect::Window(window) => self.window = self.within_history(window),
                Effect::Show(place) => self.show(&place),
                Effect::Ask { label, proposal } => {
                    let prompt = Prompt::new(label, &proposal, Asker::Lens(asked_by), &self.answers);
                    self.message = Message::default();
                    self.overlay = Some(Overlay::Prompt(prompt));
                }
                Effect::Copy(text) => self.copied = Some(text),
                Effect::SaveLayout(name, step) => self.save_layout(&name, &step),
                Effect::Open(word) => self.open_lens(word),
                Effect::TakeIn => self.overlay = Some(Overlay::Intake(Box::default())),
                Effect::Choose(choice) => self.overlay = Some(Overlay::Choice(choice)),
                Effect::Rehearsed(instrument) => drop(self.log.rehearsed.insert(instrument)),
                Effect::Found(found) => {
                    self.checked.insert(found.edition, found.report.mark());
                    self.found = Some(found);
                }
            }
        }
    }

    /// Reads the shelf again: first the catalog, then what takes longer.
    pub fn reload(&mut self) {
        self.reads += 1;
        let before = self.snapshot.clone();
        let key = self.reads.to_string();
        self.catalog.want(key, &self.threads, move |shelf, _| Snapshot::read(shelf, &before));
    }

    /// Takes what was read of the shelf.
    fn collect(&mut self) {
        if self.catalog.collect() {
            self.is_read = true;
            match self.catalog.value.take() {
                Some(Ok(catalog)) => self.take_snapshot(catalog),
                Some(Err(err)) => self.complain(&err),
                None => {}
            }
        }
        if self.watched.collect()
            && let Some(Ok(version)) = &self.watched.value
            && **version != self.snapshot.version
            && self.running.is_none()
        {
            self.reload();
        }
        if self.coverage.collect() {
            match self.coverage.value.take() {
                Some(Ok(full)) => self.snapshot.coverage = full.coverage.clone(),
                Some(Err(err)) => self.complain(&err),
                None => {}
            }
        }
        match self.layout.collect() {
            None => {}
            Some(Ok(name)) => {
                self.say(
                    format!("the layout {name} is saved: l chooses it, intake knows it too"),
                    Tone::Good,
                );
                self.reload();
            }
            Some(Err(err)) => self.say(err.to_string(), Tone::Wrong),
        }
        if let Some(recipe) = self.recipe.collect() {
            self.write_recipe(recipe);
        }
        for place in 0..self.lenses.len() {
            self.with_lens(place, |lens, view| lens.collect(view));
        }
        if let Some(Overlay::Intake(form)) = &mut self.overlay {
            form.collect();
        }
    }

    fn take_snapshot(&mut self, catalog: Arc<Snapshot>) {
        self.snapshot = (*catalog).clone();
        self.checked = self.snapshot.checked.as_ref().clone();
        self.coverage.want(self.reads.to_string(), &self.threads, move |shelf, _| {
            (*catalog).clone().with_coverage(shelf)
        });
        let gone = self.selected.as_ref().is_some_and(|s| self.snapshot.find(s).is_none());
        if self.selected.is_none() || gone {
            let instrument = self.selected.take().map(|s| s.instrument);
            let all = &self.snapshot.series;
            let same = all.iter().find(|s| Some(&s.name.instrument) == instrument.as_ref());
            // A newcomer is best served by the instrument with most sources.
            let richest = all.iter().rev().max_by_key(|s| {
                let sources = self.snapshot.sources_of(&s.name.instrument).len();
                (sources, !s.name.frame.is_ticks(), s.edition.rows)
            });
            let name = same.or(richest).map(|s| s.name.clone());
            if let Some(name) = name {
                self.select(name);
            }
        }
    }

    /// The instrument chosen; empty where the shelf is.
    pub fn instrument(&self) -> &str {
        self.selected.as_ref().map_or("", |s| s.instrument.as_str())
    }

    /// Chooses a series; another instrument shows its whole history.
    pub fn select(&mut self, name: SeriesName) {
        let is_new = self.instrument() != name.instrument;
        self.selected = Some(name);
        if is_new {
            self.window = self.whole();
            self.lenses.iter_mut().for_each(|lens| lens.instrument_changed());
        }
    }

    /// From the first to the last row of the instrument.
    pub fn whole(&self) -> Span {
        whole_of(&self.snapshot, self.instrument())
    }

    /// Shows a place on the chart.
    fn show(&mut self, place: &ChartPlace) {
        if let Some(series) = &place.series {
            self.selected = Some(series.clone());
        }
        self.window = Span::new(place.at - place.around, place.at + place.around);
        self.lenses.iter_mut().for_each(|lens| lens.place_shown(place));
        self.open_lens("chart");
    }

    pub fn say(&mut self, text: impl Into<String>, tone: Tone) {
        let text = stavel_core::error::printable(&text.into());
        if matches!(tone, Tone::Wrong | Tone::Review) {
            self.warnings.add(&text);
        }
        self.message = Message { text, also: String::new(), tone };
    }

    /// Notes which editions were delivered and proved.
    fn note_delivery(&mut self, report: &StepReport) {
        let files = report.json["files"].as_array().into_iter().flatten();
        for file in files.filter(|file| file["proved"] == true) {
            let name = file["series"].as_str().and_then(|name| name.parse::<SeriesName>().ok());
            let info = name.and_then(|name| self.snapshot.find(&name));
            self.log.delivered.extend(info.map(|info| info.edition.id));
        }
    }

    pub(crate) fn complain(&mut self, err: &Error) {
        // What can be said of an act is a field here, or a key; whole commands are told.
        let sentence = match err.advice() {
            None | Some(Advice::Say(_) | Advice::SayEither(..) | Advice::Choose(..)) => err.to_string(),
            Some(_) => stavel_work::error_in_words(err),
        };
        self.say(sentence, if err.is_cancelled() { Tone::Plain } else { Tone::Wrong });
    }

    /// Does a step as a job, one at a time; a layout is saved before it, in the same act.
    pub(crate) fn start(&mut self, step: Step, layout: Option<(String, Box<Layout>)>) {
        if let Some(running) = &self.running {
            let act = running.step.act();
            return self.say(format!("{act} is still running; Esc stops it"), Tone::Wrong);
        }
        self.say(format!("doing: {}", step.command_line()), Tone::Plain);
        self.running = Some(self.threads.start(step, layout));
    }

    fn finished(&mut self, running: &Running, outcome: Result<StepReport>) {
        let (step, took) = (&running.step, running.begun.elapsed().as_secs_f64());
        match outcome {
            Ok(report) => {
                let first = report.lines.first().map_or("done", String::as_str);
                self.say(first, if report.wants_person { Tone::Review } else { Tone::Good });
                if report.wants_person {
                    self.warnings.add_lines(&report.lines);
                }
                self.message.also =
                    stavel_core::error::printable(&format!("{took:.1} s: {}", step.command_line()));
                if let Step::Intake(_) | Step::Splice(_) = step
                    && let Some(made) = report.changed.first()
                {
                    self.select(made.clone());
                    self.window = Span::new(0, 0);
                }
                match step {
                    Step::Shelf(s) if s.remove => self.removed = s.series.clone(),
                    Step::Shelf(s) if s.tidy => (self.removed, self.undone) = (None, None),
                    Step::Undo(s) => self.undone = s.series.clone(),
                    Step::Deliver(_) => self.note_delivery(&report),
                    Step::Fetch(_) | Step::Update(_) => self.log.updated = true,
                    _ => {}
                }
                self.lenses.iter_mut().for_each(|lens| lens.step_done(step, &report));
                self.after_step(step, &report);
            }
            Err(err) => {
                self.then = None;
                self.complain(&err);
                self.ask_again_where_wrong();
            }
        }
        self.answered = None;
        self.reload();
    }

    /// Takes what threads have done and lets time pass; true where something may have changed.
    pub fn tick(&mut self, passed: Duration) -> bool {
        let mut changed = self.running.is_some();
        let sent = self.threads.sent();
        if sent != self.collected {
            self.collected = sent;
            changed = true;
            if let Some(outcome) = self.running.as_ref().and_then(Running::outcome)
                && let Some(running) = self.running.take()
            {
                self.finished(&running, outcome);
            }
            self.collect();
        }
        if self.window.length() == 0 && self.snapshot.series_of(self.instrument()).next().is_some() {
            self.window = self.whole();
        }
        for lens in &mut self.lenses {
            changed |= lens.pass(passed);
        }
        self.watch(passed);
        if let Some(Overlay::Intake(mut form)) = self.overlay.take_if(|o| matches!(o, Overlay::Intake(_))) {
            form.want(&self.view());
            self.overlay = Some(Overlay::Intake(form));
        }
        self.with_lens(self.open, |lens, view| lens.want(view));
        changed | self.go_on_if_ready()
    }

    /// Looks now and then whether a command or another bench has changed the shelf.
    fn watch(&mut self, passed: Duration) {
        self.since_watched += passed;
        let is_busy = self.running.is_some() || !self.is_read;
        if self.since_watched >= WATCH && !is_busy {
            self.since_watched = Duration::ZERO;
            self.watches += 1;
            self.watched.want(self.watches.to_string(), &self.threads, |shelf, _| shelf.version());
        }
    }

    /// A key that was pressed.
    pub fn key(&mut self, key: KeyEvent) {
        if let Some(mut overlay) = self.overlay.take() {
            let outcome = overlay.key(key, &self.view(), &self.table);
            return self.after_overlay(overlay, outcome);
        }
        self.next_waits = false;
        let warned = self.message.tone.is_warning().then(|| self.warnings.count());
        self.key_of_bench(key);
        // A warning fades with the next key; the list keeps it.
        if warned == Some(self.warnings.count()) && self.message.tone.is_warning() {
            self.message = Message::default();
        }
    }

    fn key_of_bench(&mut self, key: KeyEvent) {
        if let Some(act) = self.table.act_of(key, self.open) {
            self.asked_to_leave &= act == Act::Common(Common::Quit);
            self.act(act);
        } else if let KeyCode::Char(c) = key.code {
            self.say(format!("'{c}' does nothing here; ? lists the keys"), Tone::Plain);
        }
    }

    fn after_overlay(&mut self, overlay: Overlay, outcome: OverlayOutcome) {
        if let (Overlay::Prompt(prompt), OverlayOutcome::Answer(_, answer)) = (&overlay, &outcome) {
            self.answers.keep(&prompt.label, answer);
        }
        match outcome {
            OverlayOutcome::Stay => self.overlay = Some(overlay),
            OverlayOutcome::Say(text) => {
                self.say(text, Tone::Wrong);
                self.overlay = Some(overlay);
            }
            OverlayOutcome::Close => {}
            OverlayOutcome::Act(act, lens) => {
                // An act of a lens is done in that lens.
                self.open = lens.unwrap_or(self.open);
                self.act(act);
            }
            OverlayOutcome::Answer(Asker::Lens(place), text) => {
                self.message = Message::default();
                if let Overlay::Prompt(prompt) = overlay {
                    self.answered = Some(prompt);
                }
                self.with_lens(place, |lens, view| lens.answer(&text, view));
                self.ask_again_where_wrong();
            }
            OverlayOutcome::Answer(Asker::PicturePath, path) => {
                self.message = Message::default();
                if let Overlay::Prompt(prompt) = overlay {
                    self.answered = Some(prompt);
                }
                if let Some(step) = self.picture.clone() {
                    self.start(Step::Chart(ChartStep { out: path.into(), ..step }), None);
                }
            }
            OverlayOutcome::Command(command, then) => self.run_command(&command, then.map(|step| *step)),
            OverlayOutcome::Answer(Asker::Command, text) => self.fill_in(&text),
            OverlayOutcome::Answer(Asker::RecipePath, path) => self.save_recipe(Path::new(&path)),
            OverlayOutcome::Start(step, layout) => self.start(*step, layout),
        }
    }

    /// Asks for a line of text again, as it was typed, where its answer came to nothing.
    fn ask_again_where_wrong(&mut self) {
        if self.running.is_some() {
            return;
        }
        let prompt = self.answered.take().filter(|_| self.message.tone == Tone::Wrong);
        if let (Some(prompt), None) = (prompt, &self.overlay) {
            self.overlay = Some(Overlay::Prompt(prompt));
        }
    }

    /// Text that was pasted.
    pub fn paste(&mut self, text: &str) {
        if let Some(overlay) = &mut self.overlay {
            overlay.paste(text);
        }
    }

    /// Does an act.
    pub fn act(&mut self, act: Act) {
        match act {
            Act::Open(place) => self.open = place.min(self.lenses.len() - 1),
            Act::OfLens { lens, row } => self.with_lens(lens, |lens, view| lens.act(row, view)),
            Act::Common(common) => self.common(common),
        }
    }

    fn common(&mut self, act: Common) {
        match act {
            Common::Quit => self.leave(),
            Common::Next => self.do_next(),
            Common::Facts if self.view().facts_width() > 0 => {
                self.say("the facts stand at the right already", Tone::Plain);
            }
            Common::Facts => self.shows_facts = !self.shows_facts,
            Common::NextLens => self.open = (self.open + 1) % self.lenses.len(),
            Common::PanBack => self.pan(-1),
            Common::PanOn => self.pan(1),
            Common::ZoomIn => self.zoom(0.5),
            Common::ZoomOut => self.zoom(2.0),
            Common::Whole => self.window = self.whole(),
            Common::Up => self.with_lens(self.open, |lens, view| lens.choose(false, view)),
            Common::Down => self.with_lens(self.open, |lens, view| lens.choose(true, view)),
            Common::NextSeries => self.step_series(1),
            Common::PreviousSeries => self.step_series(-1),
            Common::Palette => self.overlay = Some(Overlay::Palette(Palette::default())),
            Common::Keys => self.overlay = Some(Overlay::Keys(0)),
            Common::Warnings if self.warnings.is_empty() => self.say("there are no warnings", Tone::Plain),
            Common::Warnings => self.overlay = Some(Overlay::Warnings(0)),
            Common::Stop => self.stop(),
            Common::Undo => {
                let series = self.removed.take().or_else(|| self.selected.clone());
                self.start(Step::Undo(UndoStep { series }), None);
            }
            Common::Redo => {
                let series = self.undone.take().or_else(|| self.selected.clone());
                self.start(Step::Redo(UndoStep { series }), None);
            }
            Common::UndoAct => self.start(Step::Undo(UndoStep::default()), None),
            Common::RedoAct => self.start(Step::Redo(UndoStep::default()), None),
            Common::Picture => self.ask_for_picture(),
            Common::SaveRecipe => {
                let prompt =
                    Prompt::new("save what was done as", "recipe.toml", Asker::RecipePath, &self.answers);
                self.overlay = Some(Overlay::Prompt(prompt));
            }
        }
    }

    /// Asks for the file that the picture of the lens goes to.
    fn ask_for_picture(&mut self) {
        self.picture = self.lens().picture(&self.view());
        match &self.picture {
            None => {
                let text = match self.lens().hides() {
                    Some(_) => "a picture would tell what is hidden: reveal it first",
                    None => "there is no picture here to write",
                };
                self.say(text, Tone::Plain);
            }
            Some(step) => {
                let proposal = format!("{}_{}_{}.svg", step.series.instrument, step.series.source, step.view);
                let label = "write the picture to (.svg or .pdf)";
                let prompt = Prompt::new(label, &proposal, Asker::PicturePath, &self.answers);
                self.overlay = Some(Overlay::Prompt(prompt));
            }
        }
    }

    /// Leaves what is innermost: the facts, what the lens holds, then the job that runs.
    fn stop(&mut self) {
        if std::mem::take(&mut self.shows_facts) || self.lenses[self.open].let_go() {
            return;
        }
        if let Some(running) = &self.running {
            running.job.stop();
            return self.say("stopping …", Tone::Plain);
        }
        self.message = Message::default();
    }

    /// Leaves the bench; while a job runs only when it is asked for twice.
    fn leave(&mut self) {
        if let Some(running) = &self.running {
            if !std::mem::replace(&mut self.asked_to_leave, true) {
                let act = running.step.act();
                return self.say(
                    format!("{act} is still running: q again stops it and leaves, Esc only stops it"),
                    Tone::Wrong,
                );
            }
            running.job.stop();
        }
        self.quit = true;
    }

    /// Puts the middle of the window at a moment.
    pub fn centre_on(&mut self, at: Micros) {
        let half = self.window.length() / 2;
        self.window = Span::new(at - half, at - half + self.window.length());
    }

    /// Begins with a rehearsal.
    pub fn open_rehearsal(&mut self, begin: RehearseStep, pace: Option<PlayPace>) {
        self.selected = begin.series.first().cloned();
        self.begin = Some((begin, pace));
        self.window = Span::new(0, 0);
        self.open_lens("rehearse");
    }

    fn pan(&mut self, direction: i64) {
        let by = direction * (self.window.length() / 4).max(1);
        self.window = self.within_history(Span::new(self.window.from + by, self.window.to + by));
    }

    /// Zooms about the cursor, which stays where it is on the screen; about the middle where it is not in view.
    fn zoom(&mut self, factor: f64) {
        let middle = self.window.from + self.window.length() / 2;
        let about = self.lens().cursor().filter(|t| self.window.holds(*t)).unwrap_or(middle);
        self.window = self.within_history(zoomed(self.window, about, factor));
    }

    /// A window no longer than the whole history, nor shorter than an hour.
    fn within_history(&self, window: Span) -> Span {
        let whole = self.whole();
        let length = window.length().clamp(HOUR, whole.length().max(HOUR));
        if length == whole.length() {
            return whole;
        }
        // A window may hang over the ends by half, so that the ends can be seen.
        let middle = (window.from + window.length() / 2).clamp(whole.from, whole.to);
        Span::new(middle - length / 2, middle - length / 2 + length)
    }

    /// The pointer did something at a place of the lens of some size; false where that means nothing there.
    pub fn pointed(&mut self, pointer: Pointer, size: (u16, u16)) -> bool {
        let mut is_meant = false;
        self.with_lens(self.open, |lens, view| {
            let effects = lens.pointed(pointer, size, view);
            is_meant = effects.is_some();
            effects.unwrap_or_default()
        });
        is_meant
    }

    /// The pointer is held at a time of the spine, or let go there: the lens may take it, else it is the middle of the window.
    pub fn slide(&mut self, to: Micros, is_let_go: bool) {
        let mut is_meant = false;
        self.with_lens(self.open, |lens, view| {
            let effects = lens.slid(to, is_let_go, view);
            is_meant = effects.is_some();
            effects.unwrap_or_default()
        });
        if !is_meant && !is_let_go {
            self.centre_on(to);
        }
    }

    fn step_series(&mut self, by: i64) {
        let all: Vec<SeriesName> =
            self.snapshot.series_of(self.instrument()).map(|s| s.name.clone()).collect();
        if let Some(at) = all.iter().position(|s| Some(s) == self.selected.as_ref()) {
            self.select(all[(at as i64 + by).rem_euclid(all.len() as i64) as usize].clone());
        }
    }

    /// Saves how lines are written by a delivery.
    fn save_layout(&mut self, name: &str, step: &DeliverStep) {
        let (name, step) = (name.to_owned(), step.clone());
        self.layout.send(&self.threads, move |shelf, _| {
            let layout = stavel_work::delivery_layout(shelf, &step)?;
            stavel_core::store::Shelf::open_to_write(shelf.root())?.save_layout(&name, &layout)?;
            Ok(name.clone())
        });
    }

    fn save_recipe(&mut self, path: &Path) {
        self.recipe_path = path.to_owned();
        self.recipe.send(&self.threads, |shelf, _| stavel_work::what_was_done(shelf));
    }

    fn write_recipe(&mut self, recipe: Result<Recipe>) {
        let path = self.recipe_path.clone();
        let written = recipe.and_then(|recipe| {
            std::fs::write(&path, recipe.to_text()?).map_err(|e| Error::io("Cannot write", &path, &e))?;
            Ok(recipe.step.len())
        });
        match written {
            Ok(n) => {
                let again = format!("{n} steps written; do them again with: stavel run {}", path.display());
                self.say(again, Tone::Good);
            }
            Err(err) => self.complain(&err),
        }
    }
}
