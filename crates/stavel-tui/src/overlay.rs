//! What lies over the bench for a moment: palette, prompt, key list, intake form.

use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher};
use ratatui::crossterm::event::{KeyCode, KeyEvent};

use crate::act::{Act, Line, TABLE};
use crate::app::App;
use crate::intake::IntakeForm;

/// Something that takes the keys until it is closed.
pub enum Overlay {
    Palette(Palette),
    Prompt(Prompt),
    /// The key list, scrolled by so many lines.
    Keys(u16),
    Intake(Box<IntakeForm>),
}

impl Overlay {
    /// A key; the overlay puts itself back where it stays open.
    pub fn key(self, app: &mut App, key: KeyEvent) {
        match self {
            Overlay::Palette(palette) => palette.key(app, key),
            Overlay::Prompt(prompt) => prompt.key(app, key),
            Overlay::Intake(form) => form.key(app, key),
            Overlay::Keys(scrolled) => match key.code {
                KeyCode::Down => app.overlay = Some(Overlay::Keys(scrolled.saturating_add(1))),
                KeyCode::Up => app.overlay = Some(Overlay::Keys(scrolled.saturating_sub(1))),
                _ => {}
            },
        }
    }

    /// Pasted text goes to whatever is being typed.
    pub fn paste(&mut self, text: &str) {
        let line: String = text.chars().filter(|c| !c.is_control()).collect();
        match self {
            Overlay::Palette(p) => p.typed.push_str(&line),
            Overlay::Prompt(p) => p.typed.push_str(&line),
            Overlay::Intake(f) => f.paste(&line),
            Overlay::Keys(_) => {}
        }
    }
}

/// Finding an act by its words.
#[derive(Default)]
pub struct Palette {
    pub typed: String,
    pub at: usize,
}

impl Palette {
    /// The acts that fit what was typed, best first.
    pub fn found(&self) -> Vec<&'static Line> {
        let lines: Vec<&'static Line> = TABLE.iter().filter(|l| !matches!(l.act, Act::Palette)).collect();
        if self.typed.is_empty() {
            return lines;
        }
        let mut matcher = Matcher::new(Config::DEFAULT);
        let pattern = Pattern::parse(&self.typed, CaseMatching::Ignore, Normalization::Smart);
        let mut scored: Vec<(u32, &'static Line)> = lines
            .into_iter()
            .filter_map(|l| {
                let mut buffer = Vec::new();
                let words = Palette::words(l);
                pattern
                    .score(nucleo_matcher::Utf32Str::new(&words, &mut buffer), &mut matcher)
                    .map(|s| (s, l))
            })
            .collect();
        scored.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
        // Letters scattered over a sentence are no match beside whole words.
        let best = scored.first().map_or(0, |s| s.0);
        scored.retain(|(score, _)| score * 4 >= best * 3);
        scored.into_iter().map(|(_, l)| l).collect()
    }

    fn words(line: &Line) -> String {
        let command = line.command().unwrap_or_default();
        format!("{} {} {} {command}", line.lens.map_or("", |l| l.word()), line.short, line.about)
    }

    fn key(mut self, app: &mut App, key: KeyEvent) {
        match key.code {
            KeyCode::Esc => return,
            KeyCode::Enter => {
                if let Some(line) = self.found().get(self.at) {
                    // An act of a lens is done in that lens.
                    if let Some(lens) = line.lens {
                        app.lens = lens;
                    }
                    app.act(line.act);
                }
                return;
            }
            KeyCode::Down => self.at = (self.at + 1).min(self.found().len().saturating_sub(1)),
            KeyCode::Up => self.at = self.at.saturating_sub(1),
            KeyCode::Backspace => {
                self.typed.pop();
                self.at = 0;
            }
            KeyCode::Char(c) => {
                self.typed.push(c);
                self.at = 0;
            }
            _ => {}
        }
        app.overlay = Some(Overlay::Palette(self));
    }
}

/// What is done with the text that was typed.
type Answer = Box<dyn FnOnce(&mut App, &str) + Send>;

/// A line of text asked for.
pub struct Prompt {
    pub label: String,
    pub typed: String,
    done: Answer,
}

impl Prompt {
    /// Asks with a proposal; what is typed goes to `done`.
    pub fn new(
        label: impl Into<String>,
        proposal: &str,
        done: impl FnOnce(&mut App, &str) + Send + 'static,
    ) -> Prompt {
        Prompt { label: label.into(), typed: proposal.into(), done: Box::new(done) }
    }

    fn key(mut self, app: &mut App, key: KeyEvent) {
        match key.code {
            KeyCode::Esc => return,
            KeyCode::Enter => return (self.done)(app, self.typed.trim()),
            KeyCode::Backspace => {
                self.typed.pop();
            }
            KeyCode::Char('u')
                if key.modifiers.contains(ratatui::crossterm::event::KeyModifiers::CONTROL) =>
            {
                self.typed.clear()
            }
            KeyCode::Char(c) => self.typed.push(c),
            _ => {}
        }
        app.overlay = Some(Overlay::Prompt(self));
    }
}
