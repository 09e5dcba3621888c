//! A question at which a step stops, with its possible answers.

/// A question that only the user can answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// Its text.
    pub asks: String,
    pub answers: Vec<Answer>,
}

/// An answer to a question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The command that gives it; a word in capitals, or `…`, is to be filled in.
    pub command: String,
    /// What supports it.
    pub evidence: String,
}

impl Answer {
    pub fn new(command: impl Into<String>, evidence: impl Into<String>) -> Answer {
        Answer { command: command.into(), evidence: evidence.into() }
    }
}
