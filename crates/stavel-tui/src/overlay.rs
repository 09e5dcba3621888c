//! What lies over the bench for a moment: palette, prompt, key list, intake form.

use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use stavel_core::intake::Layout;
use stavel_work::Step;
use tui_input::{Input, InputRequest};

use crate::act::{Act, Common, Line, Table};
use crate::intake::IntakeForm;
use crate::view::View;

/// Something that takes the keys until it is closed.
pub enum Overlay {
    Palette(Palette),
    Prompt(Prompt),
    /// The key list, scrolled by so many lines.
    Keys(u16),
    Intake(Box<IntakeForm>),
}

/// What comes of a key in an overlay.
pub enum Outcome {
    Stay,
    /// It stays, and says what is missing.
    Say(String),
    Close,
    /// It closes and has an act done, in the lens at a place where the act belongs to one.
    Act(Act, Option<usize>),
    /// It closes with an answer.
    Answer(Asker, String),
    /// It closes and has a step done, with a layout that is saved before it.
    Start(Box<Step>, Option<(String, Layout)>),
}

/// Who gets the answer to a prompt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asker {
    /// The lens at a place of the bar.
    Lens(usize),
    /// The bench, for the file that a recipe goes to.
    RecipePath,
}

impl Overlay {
    /// A key.
    pub fn key(&mut self, key: KeyEvent, view: &View<'_>, table: &Table) -> Outcome {
        match self {
            Overlay::Palette(palette) => palette.key(key, table),
            Overlay::Prompt(prompt) => prompt.key(key),
            Overlay::Intake(form) => form.key(key, view),
            Overlay::Keys(scrolled) => {
                match key.code {
                    KeyCode::Down => *scrolled = scrolled.saturating_add(1),
                    KeyCode::Up => *scrolled = scrolled.saturating_sub(1),
                    _ => return Outcome::Close,
                }
                Outcome::Stay
            }
        }
    }

    /// Pasted text goes to whatever is being typed.
    pub fn paste(&mut self, text: &str) {
        let line: String = text.chars().filter(|c| !c.is_control()).collect();
        match self {
            Overlay::Palette(p) => type_text(&mut p.typed, &line),
            Overlay::Prompt(p) => type_text(&mut p.typed, &line),
            Overlay::Intake(f) => f.paste(&line),
            Overlay::Keys(_) => {}
        }
    }
}

/// Puts text at the cursor of a line.
pub fn type_text(line: &mut Input, text: &str) {
    for c in text.chars() {
        line.handle(InputRequest::InsertChar(c));
    }
}

/// Changes a line of text as a key says; true where the key is one of typing.
pub fn edit(line: &mut Input, key: KeyEvent) -> bool {
    let by_word = key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT);
    let request = match (key.code, by_word) {
        (KeyCode::Char('u'), true) => InputRequest::DeleteLine,
        (KeyCode::Char('w'), true) | (KeyCode::Backspace, true) => InputRequest::DeletePrevWord,
        (KeyCode::Char('k'), true) => InputRequest::DeleteTillEnd,
        (KeyCode::Char('a'), true) | (KeyCode::Home, _) => InputRequest::GoToStart,
        (KeyCode::Char('e'), true) | (KeyCode::End, _) => InputRequest::GoToEnd,
        (KeyCode::Char('b'), true) | (KeyCode::Left, true) => InputRequest::GoToPrevWord,
        (KeyCode::Char('f'), true) | (KeyCode::Right, true) => InputRequest::GoToNextWord,
        (KeyCode::Left, false) => InputRequest::GoToPrevChar,
        (KeyCode::Right, false) => InputRequest::GoToNextChar,
        (KeyCode::Delete, _) => InputRequest::DeleteNextChar,
        (KeyCode::Backspace, false) => InputRequest::DeletePrevChar,
        (KeyCode::Char(c), false) => InputRequest::InsertChar(c),
        _ => return false,
    };
    line.handle(request);
    true
}

/// Finding an act by its words.
#[derive(Default)]
pub struct Palette {
    pub typed: Input,
    pub at: usize,
}

impl Palette {
    /// The acts that fit what was typed, best first.
    pub fn found<'t>(&self, table: &'t Table) -> Vec<&'t Line> {
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

    fn key(&mut self, key: KeyEvent, table: &Table) -> Outcome {
        match key.code {
            KeyCode::Esc => return Outcome::Close,
            KeyCode::Enter => {
                let chosen = self.found(table).get(self.at).map(|l| (l.act, l.lens.map(|(place, _)| place)));
                return chosen.map_or(Outcome::Close, |(act, lens)| Outcome::Act(act, lens));
            }
            KeyCode::Down => self.at = (self.at + 1).min(self.found(table).len().saturating_sub(1)),
            KeyCode::Up => self.at = self.at.saturating_sub(1),
            _ if edit(&mut self.typed, key) => self.at = 0,
            _ => {}
        }
        Outcome::Stay
    }
}

/// A line of text asked for.
pub struct Prompt {
    pub label: String,
    pub typed: Input,
    asker: Asker,
}

impl Prompt {
    /// Asks with a proposal.
    pub fn new(label: impl Into<String>, proposal: &str, asker: Asker) -> Prompt {
        Prompt { label: label.into(), typed: Input::new(proposal.to_owned()), asker }
    }

    fn key(&mut self, key: KeyEvent) -> Outcome {
        match key.code {
            KeyCode::Esc => Outcome::Close,
            KeyCode::Enter => Outcome::Answer(self.asker, self.typed.value().trim().to_owned()),
            _ => {
                edit(&mut self.typed, key);
                Outcome::Stay
            }
        }
    }
}
