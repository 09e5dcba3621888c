//! A question with a few answers, each with the command that gives it and what supports it.

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use stavel_work::Step;

use crate::outcome::OverlayOutcome;

/// A question with a few answers.
#[derive(Debug, Clone)]
pub struct Choice {
    pub question: String,
    pub answers: Vec<ChoiceAnswer>,
    /// The answer under the cursor.
    pub at: usize,
    /// The step that goes on once the answer is given.
    pub then: Option<Step>,
}

/// An answer: a command, in which a placeholder may be left to fill in.
#[derive(Debug, Clone)]
pub struct ChoiceAnswer {
    pub command: String,
    pub evidence: String,
}

/// What a user fills in: the word in the command, and how it is asked for.
const PLACEHOLDERS: [(&str, &str); 4] = [
    ("CLOCK", "clock, such as UTC+2, Europe/Oslo or America/New_York+7h"),
    ("RULE", "rule: span, gaps or cut=TIME"),
    ("ZONE", "time zone, such as Europe/Oslo"),
    ("…", "value"),
];

/// The placeholder in a command and how it is asked for, or `None` if the command is complete.
pub fn placeholder(command: &str) -> Option<(&'static str, &'static str)> {
    let is_in = |word: &str| {
        let ends = |c: Option<char>| c.is_none_or(|c| !c.is_ascii_alphanumeric() && c != '_');
        command.match_indices(word).any(|(at, _)| {
            ends(command[..at].chars().next_back()) && ends(command[at + word.len()..].chars().next())
        })
    };
    PLACEHOLDERS.into_iter().find(|(word, _)| is_in(word))
}

impl Choice {
    /// A key: a number takes an answer, the arrows move, Enter takes the one under the cursor.
    pub fn key(&mut self, key: KeyEvent) -> OverlayOutcome {
        let last = self.answers.len().saturating_sub(1);
        match key.code {
            KeyCode::Esc => return OverlayOutcome::Close,
            KeyCode::Up => self.at = self.at.saturating_sub(1),
            KeyCode::Down => self.at = (self.at + 1).min(last),
            KeyCode::Char('g') => self.at = (self.at + 1) % (last + 1),
            KeyCode::Enter => return self.taken(self.at),
            KeyCode::Char(c @ '1'..='9') => return self.taken(c as usize - '1' as usize),
            _ => {}
        }
        OverlayOutcome::Stay
    }

    fn taken(&self, at: usize) -> OverlayOutcome {
        match self.answers.get(at) {
            Some(answer) => OverlayOutcome::Command(answer.command.clone(), self.then.clone().map(Box::new)),
            None => OverlayOutcome::Stay,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn placeholders_are_whole_words() {
        let word = |command| placeholder(command).map(|(word, _)| word);
        assert_eq!(word("stavel align X --clock CLOCK --anchor"), Some("CLOCK"));
        assert_eq!(word("stavel compose X --hours 'mon-fri 09:00-17:00 ZONE'"), Some("ZONE"));
        assert_eq!(word("stavel compose X --set spread=…"), Some("…"));
        assert_eq!(word("stavel align MYCLOCK@a:1m --clock UTC"), None);
        assert_eq!(word("stavel align X --clock 'America/New_York+7h' --anchor"), None);
    }
}
