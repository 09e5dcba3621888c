//! What lies over the bench for a moment: palette, prompt, key list, intake form.

use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use stavel_core::formula::FUNCTIONS;
use tui_input::Input;

use crate::act::{Act, ActTable, Common, Line};
use crate::choice::Choice;
use crate::intake::IntakeForm;
use crate::outcome::{Asker, OverlayOutcome};
use crate::typing::{Answers, edit, type_text};
use crate::view::View;

/// Something that takes the keys until it is closed.
pub enum Overlay {
    Palette(Palette),
    Prompt(Prompt),
    /// The key list, scrolled by so many lines.
    Keys(u16),
    /// The list of warnings, scrolled by so many lines.
    Warnings(u16),
    Choice(Box<Choice>),
    Intake(Box<IntakeForm>),
}

impl Overlay {
    /// A key.
    pub fn key(&mut self, key: KeyEvent, view: &View<'_>, table: &ActTable) -> OverlayOutcome {
        match self {
            Overlay::Palette(palette) => palette.key(key, table),
            Overlay::Prompt(prompt) => prompt.key(key, view),
            Overlay::Intake(form) => form.key(key, view),
            Overlay::Choice(choice) => choice.key(key),
            Overlay::Keys(scrolled) | Overlay::Warnings(scrolled) => {
                match key.code {
                    KeyCode::Down => *scrolled = scrolled.saturating_add(1),
                    KeyCode::Up => *scrolled = scrolled.saturating_sub(1),
                    _ => return OverlayOutcome::Close,
                }
                OverlayOutcome::Stay
            }
        }
    }

    /// Pasted text goes to whatever is being typed.
    pub fn paste(&mut self, text: &str) {
        let line: String = text.chars().filter(|c| !c.is_control()).collect();
        match self {
            Overlay::Palette(p) => type_text(&mut p.typed, &line),
            Overlay::Prompt(p) => p.paste(&line),
            Overlay::Intake(f) => f.paste(&line),
            Overlay::Keys(_) | Overlay::Warnings(_) | Overlay::Choice(_) => {}
        }
    }
}

/// Finding an act by its words.
#[derive(Default)]
pub struct Palette {
    pub typed: Input,
    pub at: usize,
}

impl Palette {
    /// The acts that fit what was typed, best first.
    pub fn found<'t>(&self, table: &'t ActTable) -> Vec<&'t Line> {
        let lines: Vec<&Line> =
            table.lines.iter().filter(|l| l.act != Act::Common(Common::Palette)).collect();
        if self.typed.value().is_empty() {
            return lines;
        }
        let mut matcher = Matcher::new(Config::DEFAULT);
        let pattern = Pattern::parse(self.typed.value(), CaseMatching::Ignore, Normalization::Smart);
        let mut buffer = Vec::new();
        let mut score = |line: &Line| {
            let words = Palette::words(line);
            pattern.score(nucleo_matcher::Utf32Str::new(&words, &mut buffer), &mut matcher)
        };
        let mut scored: Vec<(u32, &Line)> = lines.into_iter().filter_map(|l| Some((score(l)?, l))).collect();
        scored.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
        // Letters scattered over a sentence are no match beside whole words.
        let best = scored.first().map_or(0, |s| s.0);
        scored.retain(|(score, _)| score * 4 >= best * 3);
        scored.into_iter().map(|(_, l)| l).collect()
    }

    fn words(line: &Line) -> String {
        let command = line.command.unwrap_or_default();
        format!("{} {} {} {command}", line.lens_word(), line.short, line.about)
    }

    fn key(&mut self, key: KeyEvent, table: &ActTable) -> OverlayOutcome {
        match key.code {
            KeyCode::Esc => return OverlayOutcome::Close,
            KeyCode::Enter => {
                let chosen = self.found(table).get(self.at).map(|l| (l.act, l.lens.map(|(place, _)| place)));
                return chosen.map_or(OverlayOutcome::Close, |(act, lens)| OverlayOutcome::Act(act, lens));
            }
            KeyCode::Down => self.at = (self.at + 1).min(self.found(table).len().saturating_sub(1)),
            KeyCode::Up => self.at = self.at.saturating_sub(1),
            _ if edit(&mut self.typed, key) => self.at = 0,
            _ => {}
        }
        OverlayOutcome::Stay
    }
}

/// A line of text asked for.
#[derive(Clone)]
pub struct Prompt {
    pub label: String,
    pub typed: Input,
    asker: Asker,
    /// Earlier answers, oldest first, with the proposal as the last.
    answers: Vec<String>,
    /// Which of them is shown.
    at: usize,
    /// Whether the whole line is selected, so that the first character typed replaces it.
    pub is_selected: bool,
}

impl Prompt {
    /// Asks with a proposal; what was answered before can be taken again.
    pub fn new(label: impl Into<String>, proposal: &str, asker: Asker, earlier: &Answers) -> Prompt {
        let label = label.into();
        let mut answers = earlier.to(&label);
        answers.push(proposal.to_owned());
        Prompt {
            typed: Input::new(proposal.to_owned()),
            asker,
            at: answers.len() - 1,
            answers,
            label,
            is_selected: !proposal.is_empty(),
        }
    }

    /// True where the same was answered before.
    pub fn has_earlier(&self) -> bool {
        self.answers.len() > 1
    }

    /// Shows the answer before or after the one that is shown.
    fn step(&mut self, back: bool) {
        let last = self.answers.len() - 1;
        self.at = if back { self.at.saturating_sub(1) } else { (self.at + 1).min(last) };
        self.typed = Input::new(self.answers[self.at].clone());
        self.is_selected = !self.typed.value().is_empty();
    }

    /// Completes the name before the cursor: as far as the instruments on the shelf, and in a formula the functions, that
    /// begin like it are alike.
    fn complete(&mut self, view: &View<'_>) {
        let before: String = self.typed.value().chars().take(self.typed.cursor()).collect();
        let is_in = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-');
        let word = &before[before.trim_end_matches(is_in).len()..];
        let functions =
            FUNCTIONS.iter().filter(|_| before.contains('=')).map(|(name, ..)| format!("{name}("));
        let names = view.snapshot.instruments.iter().map(|i| i.name.clone());
        let mut fitting = names.chain(functions).filter(|name| !word.is_empty() && name.starts_with(word));
        let Some(first) = fitting.next() else { return };
        let alike = fitting.fold(first, |alike, name| {
            alike.chars().zip(name.chars()).take_while(|(a, b)| a == b).map(|(a, _)| a).collect()
        });
        type_text(&mut self.typed, &alike[word.len()..]);
    }

    fn key(&mut self, key: KeyEvent, view: &View<'_>) -> OverlayOutcome {
        match key.code {
            KeyCode::Tab => {
                self.is_selected = false;
                self.complete(view);
                OverlayOutcome::Stay
            }
            KeyCode::Esc => OverlayOutcome::Close,
            KeyCode::Enter => OverlayOutcome::Answer(self.asker, self.typed.value().trim().to_owned()),
            KeyCode::Up | KeyCode::Down => {
                self.step(key.code == KeyCode::Up);
                OverlayOutcome::Stay
            }
            _ => {
                self.edit(key);
                OverlayOutcome::Stay
            }
        }
    }

    /// A key of typing: the first character, or Backspace, replaces a line that is selected.
    fn edit(&mut self, key: KeyEvent) {
        let by_word = key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT);
        let replaces = matches!(key.code, KeyCode::Char(_) | KeyCode::Backspace) && !by_word;
        if std::mem::take(&mut self.is_selected) && replaces {
            self.typed.reset();
        }
        edit(&mut self.typed, key);
    }

    /// Pasted text, which replaces a line that is selected.
    fn paste(&mut self, text: &str) {
        if std::mem::take(&mut self.is_selected) {
            self.typed.reset();
        }
        type_text(&mut self.typed, text);
    }
}
