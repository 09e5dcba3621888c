//! The intake form: what is to be taken in, and how it is understood while it is typed.

use std::path::PathBuf;

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use stavel_core::intake::{Planned, plan};
use stavel_core::recipe::{IntakeStep, Step, hints_of};

use crate::app::{App, Tone};
use crate::jobs::Slot;
use crate::overlay::Overlay;

/// Labels of the fields, with a word on what belongs there.
pub const FIELDS: [(&str, &str); 4] = [
    ("path", "a file, folder or zip; several divided by spaces, names with spaces in 'quotes'"),
    ("source", "the vendor or broker it comes from"),
    ("instrument", "empty: told from the file's name"),
    ("clock", "empty: told from the file; UTC, UTC+3, Europe/Oslo, …, or afloat"),
];

/// The form. What it was read for lives with it.
#[derive(Default)]
pub struct IntakeForm {
    pub typed: [String; 4],
    pub at: usize,
    pub plans: Slot<Planned>,
}

impl IntakeForm {
    /// The step the form stands for.
    pub fn step(&self) -> IntakeStep {
        let some = |i: usize| Some(self.typed[i].trim().to_owned()).filter(|t| !t.is_empty());
        IntakeStep {
            paths: paths_in(&self.typed[0]),
            source: self.typed[1].trim().into(),
            instrument: some(2),
            clock: some(3),
            ..Default::default()
        }
    }

    pub fn paste(&mut self, text: &str) {
        self.typed[self.at].push_str(text);
    }

    /// Has the files looked at, once a path and a source are there.
    pub fn want(app: &mut App) {
        let Some(Overlay::Intake(form)) = &mut app.overlay else { return };
        let step = form.step();
        if step.paths.is_empty() || step.source.is_empty() {
            form.plans = Slot::default();
            return;
        }
        let key = format!("{step:?}");
        let place: fn(&mut App) -> Option<&mut Slot<Planned>> = |app| match &mut app.overlay {
            Some(Overlay::Intake(form)) => Some(&mut form.plans),
            _ => None,
        };
        let (threads, form) = (&app.threads, form);
        form.plans
            .want(key, threads, place, move |shelf, _| plan(shelf, &step.paths, &hints_of(shelf, &step)?));
    }

    pub fn key(mut self: Box<Self>, app: &mut App, key: KeyEvent) {
        match key.code {
            KeyCode::Esc => return,
            KeyCode::Tab | KeyCode::Down => self.at = (self.at + 1) % FIELDS.len(),
            KeyCode::BackTab | KeyCode::Up => self.at = (self.at + FIELDS.len() - 1) % FIELDS.len(),
            KeyCode::Backspace => {
                self.typed[self.at].pop();
            }
            KeyCode::Char('u') if key.modifiers.contains(KeyModifiers::CONTROL) => {
                self.typed[self.at].clear()
            }
            KeyCode::Char(c) => self.typed[self.at].push(c),
            KeyCode::Enter => {
                let step = self.step();
                if step.paths.is_empty() || step.source.is_empty() {
                    app.say("a path and a source are needed", Tone::Wrong);
                    self.at = usize::from(!step.paths.is_empty());
                } else {
                    return app.start(Step::Intake(step));
                }
            }
            _ => {}
        }
        app.overlay = Some(Overlay::Intake(self));
    }
}

/// Paths in a line: divided by blanks, those with blanks in quotes, `~` for the home folder.
fn paths_in(line: &str) -> Vec<PathBuf> {
    let mut out = Vec::new();
    let mut rest = line.trim();
    while !rest.is_empty() {
        let quote = rest.chars().next().filter(|c| matches!(c, '\'' | '"'));
        let (path, after) = match quote {
            Some(q) => rest[1..].split_once(q).unwrap_or((&rest[1..], "")),
            None => rest.split_once(' ').unwrap_or((rest, "")),
        };
        let home = std::env::var_os("HOME").filter(|_| path == "~" || path.starts_with("~/"));
        out.push(home.map_or_else(
            || PathBuf::from(path),
            |h| PathBuf::from(h).join(path.trim_start_matches(['~', '/'])),
        ));
        rest = after.trim_start();
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_may_hold_blanks_in_quotes() {
        assert_eq!(
            paths_in(" a.csv  '/b c/d.zip' \"e f\" "),
            ["a.csv", "/b c/d.zip", "e f"].map(PathBuf::from)
        );
        assert_eq!(paths_in("'unfinished busi"), [PathBuf::from("unfinished busi")]);
        assert!(paths_in("  ").is_empty());
    }
}
