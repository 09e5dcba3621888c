//! The state of the bench, and how acts change it.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Instant;

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use stavel_core::job::Job;
use stavel_core::model::time::{DAY, HOUR};
use stavel_core::model::{Micros, SeriesName, Span};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_work::{Report, Step, UndoStep};

use crate::act::{self, Act, Lens};
use crate::data::Snapshot;
use crate::jobs::{Running, Threads};
use crate::lens;
use crate::overlay::{Overlay, Palette, Prompt};

/// What the message line says, and in which tone.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Message {
    pub text: String,
    /// Shown after the text where there is room.
    pub also: String,
    pub tone: Tone,
}

/// How a message is meant.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Tone {
    #[default]
    Plain,
    Good,
    Wrong,
}

/// The bench.
pub struct App {
    pub root: PathBuf,
    pub threads: Threads,
    pub snapshot: Snapshot,
    /// False until the shelf was read for the first time.
    pub is_read: bool,
    pub selected: Option<SeriesName>,
    pub window: Span,
    pub lens: Lens,
    pub running: Option<Running>,
    pub message: Message,
    pub overlay: Option<Overlay>,
    /// Columns and rows of the screen.
    pub size: (u16, u16),
    pub shelf: lens::shelf::State,
    pub chart: lens::chart::State,
    pub check: lens::check::State,
    pub align: lens::align::State,
    pub splice: lens::splice::State,
    pub frames: lens::frames::State,
    pub compose: lens::compose::State,
    pub deliver: lens::deliver::State,
    pub rehearse: lens::rehearse::State,
    pub quit: bool,
}

impl App {
    /// A bench on the shelf in a folder; reading begins at once on another thread.
    pub fn new(root: PathBuf) -> App {
        let mut app = App {
            threads: Threads::new(root.clone()),
            root,
            snapshot: Snapshot::default(),
            is_read: false,
            selected: None,
            window: Span::new(0, DAY),
            lens: Lens::Shelf,
            running: None,
            message: Message::default(),
            overlay: None,
            size: (160, 47),
            shelf: Default::default(),
            chart: Default::default(),
            check: Default::default(),
            align: Default::default(),
            splice: Default::default(),
            frames: Default::default(),
            compose: Default::default(),
            deliver: Default::default(),
            rehearse: Default::default(),
            quit: false,
        };
        app.reload();
        app
    }

    /// Reads the shelf again: first the catalog, then what takes longer.
    pub fn reload(&mut self) {
        let before = self.snapshot.clone();
        let work = move |shelf: &stavel_core::store::Shelf, _: &Job| Snapshot::read(shelf, &before);
        self.threads.read(Arc::new(Job::unwatched()), work, |app, read| {
            app.take_snapshot(read);
            let catalog = app.snapshot.clone();
            let work = move |shelf: &stavel_core::store::Shelf, _: &Job| catalog.with_coverage(shelf);
            app.threads.read(Arc::new(Job::unwatched()), work, |app, read| match read {
                Ok(full) => app.snapshot.coverage = full.coverage,
                Err(err) => app.complain(&err),
            });
        });
    }

    fn take_snapshot(&mut self, read: Result<Snapshot>) {
        self.is_read = true;
        match read {
            Ok(snapshot) => self.snapshot = snapshot,
            Err(err) => return self.complain(&err),
        }
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
            self.align = Default::default();
            self.splice = Default::default();
        }
    }

    /// From the first to the last row of the instrument.
    pub fn whole(&self) -> Span {
        let ends = self
            .snapshot
            .series_of(self.instrument())
            .map(|s| Span::new(s.edition.first, s.edition.last + HOUR));
        ends.reduce(|a, b| Span::new(a.from.min(b.from), a.to.max(b.to))).unwrap_or(Span::new(0, DAY))
    }

    /// Shows a place on the chart: so much time before and after it.
    pub fn show_place(&mut self, at: Micros, around: Micros) {
        self.window = Span::new(at - around, at + around);
        self.chart.cursor_at = Some(at);
        self.lens = Lens::Chart;
    }

    pub fn say(&mut self, text: impl Into<String>, tone: Tone) {
        self.message =
            Message { text: stavel_core::error::printable(&text.into()), also: String::new(), tone };
    }

    pub fn complain(&mut self, err: &Error) {
        if err.is_cancelled() {
            self.say(err.to_string(), Tone::Plain);
        } else {
            self.say(err.to_string(), Tone::Wrong);
        }
    }

    /// Does a step as a job; one at a time.
    pub fn start(&mut self, step: Step) {
        self.start_with(step, |_| Ok(()));
    }

    /// Does a step as a job, with something before it that is undone with it where it fails.
    pub fn start_with(&mut self, step: Step, first: impl FnOnce(&mut Shelf) -> Result<()> + Send + 'static) {
        if let Some(running) = &self.running {
            let act = running.step.act();
            return self.say(format!("{act} is still running; Esc stops it"), Tone::Wrong);
        }
        let job = Arc::new(Job::unwatched());
        self.running = Some(Running { job: job.clone(), step: step.clone(), begun: Instant::now() });
        self.say(format!("doing: {}", step.command_line()), Tone::Plain);
        self.threads.act(step.clone(), first, job, move |app, outcome| app.finished(&step, outcome));
    }

    fn finished(&mut self, step: &Step, outcome: Result<Report>) {
        let took = self.running.take().map_or(0.0, |r| r.begun.elapsed().as_secs_f64());
        match outcome {
            Ok(report) => {
                let first = report.lines.first().map_or("done", String::as_str);
                let tone = if report.wants_person { Tone::Wrong } else { Tone::Good };
                self.say(first, tone);
                self.message.also =
                    stavel_core::error::printable(&format!("{took:.1} s: {}", step.command_line()));
                if let Step::Intake(_) | Step::Splice(_) = step
                    && let Some(made) = report.changed.first()
                {
                    self.select(made.clone());
                    self.window = Span::new(0, 0);
                }
                self.deliver.note(step, &report);
                self.shelf.note(step);
            }
            Err(err) => self.complain(&err),
        }
        self.check.report.forget();
        self.reload();
    }

    /// Takes replies of threads and lets time pass; true where something may have changed.
    pub fn tick(&mut self, passed: std::time::Duration) -> bool {
        let mut changed = self.running.is_some();
        while let Ok(reply) = self.threads.from_threads.try_recv() {
            reply(self);
            changed = true;
        }
        if self.window.length() == 0 && self.snapshot.series_of(self.instrument()).next().is_some() {
            self.window = self.whole();
        }
        changed |= self.rehearse.run(passed);
        lens::want(self);
        changed
    }

    /// A key that was pressed.
    pub fn key(&mut self, key: KeyEvent) {
        if let Some(overlay) = self.overlay.take() {
            return overlay.key(self, key);
        }
        if let Some(act) = act::act_of(key, self.lens) {
            self.act(act);
        } else if let KeyCode::Char(c) = key.code {
            self.say(format!("'{c}' does nothing here; ? lists the keys"), Tone::Plain);
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
            Act::Quit => self.leave(),
            Act::Open(lens) => self.lens = lens,
            Act::NextLens => {
                let at = Lens::ALL.iter().position(|l| *l == self.lens).unwrap_or(0);
                self.lens = Lens::ALL[(at + 1) % Lens::ALL.len()];
            }
            Act::Left => self.pan(-1),
            Act::Right => self.pan(1),
            Act::ZoomIn => self.zoom(0.5),
            Act::ZoomOut => self.zoom(2.0),
            Act::Whole => self.window = self.whole(),
            Act::NextSeries => self.step_series(1),
            Act::PreviousSeries => self.step_series(-1),
            Act::Palette => self.overlay = Some(Overlay::Palette(Palette::default())),
            Act::Keys => self.overlay = Some(Overlay::Keys(0)),
            Act::Intake => self.overlay = Some(Overlay::Intake(Box::default())),
            Act::CancelJob => match &self.running {
                Some(running) => {
                    running.job.stop();
                    self.say("stopping …", Tone::Plain);
                }
                None => {
                    self.message = Message::default();
                    self.check.forget_mends();
                }
            },
            Act::Undo => match self.shelf.removed.take().or_else(|| self.selected.clone()) {
                Some(series) => self.start(Step::Undo(UndoStep { series: Some(series) })),
                None => self.start(Step::Undo(UndoStep::default())),
            },
            Act::Redo => match self.shelf.undone.take().or_else(|| self.selected.clone()) {
                Some(series) => self.start(Step::Redo(UndoStep { series: Some(series) })),
                None => self.start(Step::Redo(UndoStep::default())),
            },
            Act::UndoAct => self.start(Step::Undo(UndoStep::default())),
            Act::RedoAct => self.start(Step::Redo(UndoStep::default())),
            Act::SaveRecipe => {
                let prompt =
                    Prompt::new("save what was done as", "recipe.toml", |app, path| app.save_recipe(path));
                self.overlay = Some(Overlay::Prompt(prompt));
            }
            other => lens::act(self, other),
        }
    }

    fn leave(&mut self) {
        if let Some(running) = &self.running {
            running.job.stop();
        }
        self.quit = true;
    }

    /// Puts the middle of the window at a moment.
    pub fn centre_on(&mut self, at: Micros) {
        let half = self.window.length() / 2;
        self.window = Span::new(at - half, at - half + self.window.length());
    }

    /// Begins a rehearsal at a time, once its series is read.
    pub fn open_at(&mut self, at: Option<Micros>) {
        self.rehearse.start_at = at;
        self.window = Span::new(0, 0);
    }

    fn pan(&mut self, direction: i64) {
        let whole = self.whole();
        let by = direction * (self.window.length() / 4).max(1);
        // A window may hang over the ends by half, so that the ends can be seen.
        let half = self.window.length() / 2;
        let from = (self.window.from + by).clamp(whole.from - half, (whole.to - half).max(whole.from - half));
        self.window = Span::new(from, from + self.window.length());
    }

    fn zoom(&mut self, factor: f64) {
        let whole = self.whole();
        let middle = self.chart.cursor_time().filter(|_| self.lens == Lens::Chart);
        let middle = middle.unwrap_or(self.window.from + self.window.length() / 2);
        let length = ((self.window.length() as f64 * factor) as Micros).clamp(HOUR, whole.length().max(HOUR));
        let from = middle - length / 2;
        self.window = if length == whole.length() { whole } else { Span::new(from, from + length) };
    }

    fn step_series(&mut self, by: i64) {
        let all: Vec<SeriesName> =
            self.snapshot.series_of(self.instrument()).map(|s| s.name.clone()).collect();
        if let Some(at) = all.iter().position(|s| Some(s) == self.selected.as_ref()) {
            self.select(all[(at as i64 + by).rem_euclid(all.len() as i64) as usize].clone());
        }
    }

    fn save_recipe(&mut self, path: &str) {
        let path = PathBuf::from(path);
        let work = |shelf: &stavel_core::store::Shelf, _: &Job| stavel_work::what_was_done(shelf);
        self.threads.read(Arc::new(Job::unwatched()), work, move |app, recipe| {
            let written = recipe.and_then(|recipe| {
                std::fs::write(&path, recipe.to_text()?).map_err(|e| Error::io("Cannot write", &path, &e))?;
                Ok(recipe.step.len())
            });
            match written {
                Ok(n) => app.say(
                    format!("{n} steps written; do them again with: stavel run {}", path.display()),
                    Tone::Good,
                ),
                Err(err) => app.complain(&err),
            }
        });
    }
}
