//! The one error of the core: a plain sentence that says what, where and what to do.

use std::fmt;

use crate::advice::Advice;

/// Result of anything in the core.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What went wrong, as one sentence fit for a person.
///
/// Text that came from a file is made printable on construction, so an error may be shown on a
/// terminal as it is.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub struct Error {
    kind: ErrorKind,
    sentence: String,
    advice: Option<Advice>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ErrorKind {
    /// Something brought from outside cannot be used.
    Input,
    /// What was asked for makes no sense.
    Arguments,
    /// The data do not settle the question: a person has to.
    Undecided,
    /// The shelf is held by another writer.
    Locked,
    /// The disk or the catalog failed.
    Storage,
    /// The person stopped it.
    Cancelled,
}

impl Error {
    fn new(kind: ErrorKind, sentence: impl Into<String>) -> Self {
        Error { kind, sentence: printable(&sentence.into()), advice: None }
    }
    /// The same error with what a person can do about it.
    pub fn advise(self, advice: Advice) -> Self {
        Error { advice: Some(advice), ..self }
    }
    /// What a person can do about it, where the core knows.
    pub fn advice(&self) -> Option<&Advice> {
        self.advice.as_ref()
    }
    /// The same error with the place where it happened before its sentence.
    pub fn within(self, place: &str) -> Self {
        Error { sentence: printable(&format!("{place}: {}", self.sentence)), ..self }
    }
    /// Something brought from outside cannot be used.
    pub fn input(sentence: impl Into<String>) -> Self {
        Self::new(ErrorKind::Input, sentence)
    }
    /// What was asked for makes no sense.
    pub fn arguments(sentence: impl Into<String>) -> Self {
        Self::new(ErrorKind::Arguments, sentence)
    }
    /// The data do not settle a question that a person has to settle.
    pub fn undecided(sentence: impl Into<String>) -> Self {
        Self::new(ErrorKind::Undecided, sentence)
    }
    /// Another writer holds the shelf.
    pub fn locked(sentence: impl Into<String>) -> Self {
        Self::new(ErrorKind::Locked, sentence)
    }
    /// The disk or the catalog failed.
    pub fn storage(sentence: impl Into<String>) -> Self {
        Self::new(ErrorKind::Storage, sentence)
    }
    /// The person stopped it.
    pub fn cancelled() -> Self {
        Self::new(ErrorKind::Cancelled, "Stopped; the shelf is as it was.")
    }
    /// An operation on `path` failed in the operating system.
    pub fn io(doing: &str, path: &std::path::Path, err: &std::io::Error) -> Self {
        Self::new(ErrorKind::Storage, format!("{doing} {}: {err}.", path.display()))
    }

    /// True where the disk or the catalog failed.
    pub fn is_storage(&self) -> bool {
        self.kind == ErrorKind::Storage
    }
    /// True where the person stopped it.
    pub fn is_cancelled(&self) -> bool {
        self.kind == ErrorKind::Cancelled
    }
    /// True where what was asked for makes no sense, whatever the data.
    pub fn is_arguments(&self) -> bool {
        self.kind == ErrorKind::Arguments
    }
    /// True where a person has to settle what the data cannot.
    pub fn is_undecided(&self) -> bool {
        self.kind == ErrorKind::Undecided
    }
    /// True where another writer holds the shelf.
    pub fn is_locked(&self) -> bool {
        self.kind == ErrorKind::Locked
    }
}

impl From<std::io::Error> for Error {
    fn from(err: std::io::Error) -> Self {
        Error::storage(format!("Reading or writing failed: {err}."))
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.sentence)
    }
}

impl From<rusqlite::Error> for Error {
    fn from(err: rusqlite::Error) -> Self {
        Error::storage(format!("The shelf's catalog could not be used: {err}."))
    }
}

impl From<parquet::errors::ParquetError> for Error {
    fn from(err: parquet::errors::ParquetError) -> Self {
        let text = err.to_string();
        let text = text.strip_prefix("External: ").unwrap_or(&text);
        if text.contains("No space left") {
            return Error::storage(format!("The disk is full ({text}); make room and do it again."));
        }
        Error::storage(format!("A data file of the shelf could not be used: {text}."))
    }
}

/// `text` with every control character replaced, so that it cannot steer a terminal.
pub fn printable(text: &str) -> String {
    text.chars().map(|c| if c.is_control() || is_bidi_control(c) { '\u{fffd}' } else { c }).collect()
}

/// Characters that reorder or hide text on a screen without being control characters.
fn is_bidi_control(c: char) -> bool {
    matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}')
}
