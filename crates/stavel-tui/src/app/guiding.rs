//! `g`: the hint on the lens bar, and doing what it says.
//!
//! One press opens the lens of the next step, another one does the step. A press while something is still read or done
//! is kept, and acts as soon as that is there.

use stavel_core::store::SeriesInfo;
use stavel_work::{FetchStep, Step, StepReport, UpdateStep};

use super::App;
use crate::choice::{Choice, ChoiceAnswer, placeholder};
use crate::effect::Tone;
use crate::intake::IntakeForm;
use crate::next::Task;
use crate::outcome::Asker;
use crate::overlay::{Overlay, Prompt};

impl App {
    /// The hint: what the open lens can do at once, or what it still reads, or what the instrument needs next.
    pub fn next_in_words(&self) -> String {
        let view = self.view();
        let here = self.lens().due(&view).map(|(words, _)| words);
        here.or_else(|| self.read_for_next()).unwrap_or_else(|| view.next().words)
    }

    /// What the open lens still reads, if the next step belongs to it.
    fn read_for_next(&self) -> Option<String> {
        let view = self.view();
        let is_here = view.next().task.lens() == Some(self.lens().word());
        is_here.then(|| self.lens().reads(&view)).flatten()
    }

    /// What the next step waits for, or `None` if it can be done now.
    fn awaited(&self) -> Option<String> {
        if let Some(running) = &self.running {
            return Some(format!("{} is running", running.step.act()));
        }
        if !self.is_read || self.catalog.is_reading() {
            return Some("reading the shelf".into());
        }
        self.lens().due(&self.view()).is_none().then(|| self.read_for_next()).flatten()
    }

    /// Does what is next: in the open lens, or in the one that the next step belongs to.
    pub(crate) fn do_next(&mut self) {
        if let Some(what) = self.awaited() {
            self.next_waits = true;
            return self.say(format!("{what}: g goes on as soon as this is done"), Tone::Plain);
        }
        self.next_waits = false;
        if let Some((_, row)) = self.lens().due(&self.view()) {
            return self.with_lens(self.open, |lens, view| lens.act(row, view));
        }
        let mut next = self.view().next();
        if next.task == Task::Instrument
            && let Some(series) = next.series.take()
        {
            self.select(series);
            next = self.view().next();
        }
        if let Some(series) = next.series {
            self.select(series);
        }
        match next.task.lens() {
            None => self.overlay = Some(Overlay::Intake(Box::new(IntakeForm::opened(&self.view())))),
            // Nothing is left to do: the chart and the shelf in turn.
            Some("chart") if self.lens().word() == "chart" => self.open_lens("shelf"),
            Some(word) => self.open_lens(word),
        }
        if next.task == Task::Fetch {
            return self.fetch_all();
        }
        self.say(next.words, Tone::Plain);
    }

    /// Fetches what is new of every series whose source is a feed, then brings up to date what was built from them.
    fn fetch_all(&mut self) {
        let is_of_feed = |s: &&SeriesInfo| {
            let is_root = !s.edition.provenance.made.is_framed();
            is_root && s.name.frame.is_bars() && self.snapshot.feeds.contains(&s.name.source)
        };
        let names = self.snapshot.series.iter().filter(is_of_feed).map(|s| s.name.clone().into());
        let fetch = FetchStep { series: names.collect(), new: true, ..FetchStep::default() };
        self.then = Some(Step::Update(UpdateStep::default()));
        self.start(Step::Fetch(fetch), None);
    }

    /// Runs a command that answers a question; what is left open in it is asked for first.
    pub(crate) fn run_command(&mut self, command: &str, then: Option<Step>) {
        if let Some((_, label)) = placeholder(command) {
            self.overlay = Some(Overlay::Prompt(Prompt::new(label, "", Asker::Command, &self.answers)));
            self.filled_in = Some((command.to_owned(), then));
            return;
        }
        match Step::from_command_line(command) {
            Ok(step) => {
                self.then = then.filter(|then| *then != step);
                self.start(step, None);
            }
            Err(err) => self.complain(&err),
        }
    }

    /// Runs the command whose placeholder was filled in.
    pub(crate) fn fill_in(&mut self, text: &str) {
        let Some((command, then)) = self.filled_in.take() else { return };
        if let Some((word, _)) = placeholder(&command) {
            let quoted =
                shlex::try_quote(text).map_or_else(|_| text.to_owned(), std::borrow::Cow::into_owned);
            // Within a quoted value the text stands as it is.
            let value = if command.contains(&format!("{word}'")) { text } else { &quoted };
            self.run_command(&command.replacen(word, value, 1), then);
        }
    }

    /// Shows the question at which a step stopped, or goes on with the step that was to follow it.
    pub(crate) fn after_step(&mut self, step: &Step, report: &StepReport) {
        if let Some(question) = &report.question {
            let answers = question
                .answers
                .iter()
                .map(|a| ChoiceAnswer { command: a.command.clone(), evidence: a.evidence.clone() });
            self.overlay = Some(Overlay::Choice(Box::new(Choice {
                question: question.asks.clone(),
                answers: answers.collect(),
                at: 0,
                then: Some(step.clone()),
            })));
        } else if let Some(then) = self.then.take() {
            self.start(then, None);
        }
    }

    /// Does the next step if `g` was pressed before it could be done, and it can be done now; true if it was done.
    pub(crate) fn go_on_if_ready(&mut self) -> bool {
        let is_ready = self.next_waits && self.overlay.is_none() && self.awaited().is_none();
        if is_ready {
            self.do_next();
        }
        is_ready
    }
}
