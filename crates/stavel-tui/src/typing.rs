//! Lines of text that are typed: what each key does to them.

use std::path::PathBuf;

use std::collections::BTreeMap;

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use tui_input::{Input, InputRequest};

/// Answers of this session by what was asked, to be taken again.
#[derive(Default)]
pub struct Answers(BTreeMap<String, Vec<String>>);

impl Answers {
    /// Keeps an answer as the newest of its question.
    pub fn keep(&mut self, label: &str, answer: &str) {
        let answers = self.0.entry(label.to_owned()).or_default();
        answers.retain(|earlier| earlier != answer);
        answers.push(answer.to_owned());
    }

    /// The answers to a question, oldest first.
    pub fn to(&self, label: &str) -> Vec<String> {
        self.0.get(label).cloned().unwrap_or_default()
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
        (KeyCode::Char('w') | KeyCode::Backspace, true) => InputRequest::DeletePrevWord,
        (KeyCode::Char('k'), true) => InputRequest::DeleteTillEnd,
        (KeyCode::Char('a'), true) | (KeyCode::Home, _) => InputRequest::GoToStart,
        (KeyCode::Char('e'), true) | (KeyCode::End, _) => InputRequest::GoToEnd,
        (KeyCode::Char('b') | KeyCode::Left, true) => InputRequest::GoToPrevWord,
        (KeyCode::Char('f') | KeyCode::Right, true) => InputRequest::GoToNextWord,
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

/// Paths in a line: divided by blanks, those with blanks in quotes or with `\` before them, `~` for the
/// home folder.
pub fn paths_in(line: &str) -> Vec<PathBuf> {
    let mut out = Vec::new();
    let mut word = String::new();
    let mut quote: Option<char> = None;
    let mut chars = line.chars();
    let mut end = |word: &mut String| {
        if !word.is_empty() {
            let home = std::env::var_os("HOME").filter(|_| *word == "~" || word.starts_with("~/"));
            let rest = word.trim_start_matches(['~', '/']).to_owned();
            out.push(home.map_or_else(|| PathBuf::from(&*word), |h| PathBuf::from(h).join(rest)));
            word.clear();
        }
    };
    while let Some(c) = chars.next() {
        match (c, quote) {
            ('\\', None) => word.extend(chars.next()),
            ('\'' | '"', None) => quote = Some(c),
            (c, Some(q)) if c == q => quote = None,
            (' ', None) => end(&mut word),
            (c, _) => word.push(c),
        }
    }
    end(&mut word);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_kept_by_question_the_newest_last_and_once() {
        let mut answers = Answers::default();
        for answer in ["a", "b", "a"] {
            answers.keep("name?", answer);
        }
        assert_eq!(answers.to("name?"), ["b", "a"]);
        assert!(answers.to("where?").is_empty());
    }

    #[test]
    fn keys_move_by_words_and_change_what_is_at_the_cursor() {
        let mut line = Input::new("one two three".into());
        let mut press = |code, modifiers| {
            edit(&mut line, KeyEvent::new(code, modifiers));
            (line.value().to_owned(), line.cursor())
        };
        let none = KeyModifiers::NONE;
        assert_eq!(press(KeyCode::Left, KeyModifiers::CONTROL).1, 8);
        assert_eq!(press(KeyCode::Char('w'), KeyModifiers::CONTROL).0, "one three");
        assert_eq!(press(KeyCode::Char('x'), none).0, "one xthree");
        assert_eq!(press(KeyCode::Home, none).1, 0);
        assert_eq!(press(KeyCode::Delete, none).0, "ne xthree");
        assert_eq!(press(KeyCode::End, none).1, 9);
        assert_eq!(press(KeyCode::Backspace, none).0, "ne xthre");
        assert_eq!(press(KeyCode::Char('u'), KeyModifiers::CONTROL), (String::new(), 0));
        assert!(!edit(&mut line, KeyEvent::new(KeyCode::F(1), none)));
        type_text(&mut line, "ä ö");
        assert_eq!(line.value(), "ä ö");
    }

    #[test]
    fn paths_may_hold_blanks_in_quotes() {
        assert_eq!(
            paths_in(" a.csv  '/b c/d.zip' \"e f\" g\\ h"),
            ["a.csv", "/b c/d.zip", "e f", "g h"].map(PathBuf::from)
        );
        assert_eq!(paths_in("'unfinished busi"), [PathBuf::from("unfinished busi")]);
        assert!(paths_in("  ").is_empty());
    }
}
