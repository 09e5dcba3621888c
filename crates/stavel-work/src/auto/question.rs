//! What only a person can answer: the question, each answer with what speaks for it.

use stavel_core::align::{WeekEdges, week_edges};
use stavel_core::model::Span;
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Advice, Error, Result};

use crate::advice::advice_in_words;
use crate::align::minute_of_week;

/// A question that only a person can answer.
pub struct Question {
    /// The question.
    pub asks: String,
    pub answers: Vec<Answer>,
}

/// An answer to a question.
pub struct Answer {
    /// The command that gives it.
    pub say: String,
    /// What speaks for it.
    pub speaks_for: String,
}

impl Answer {
    pub fn new(say: impl Into<String>, speaks_for: impl Into<String>) -> Answer {
        Answer { say: say.into(), speaks_for: speaks_for.into() }
    }
}

/// What stopped the way.
pub enum Stop {
    Asks(Question),
    Fails(Error),
}

impl From<Error> for Stop {
    fn from(error: Error) -> Stop {
        Stop::Fails(error)
    }
}

/// What an intake could not decide, as a question.
pub fn about_files(error: &Error, command: &str) -> Question {
    let answers = match error.advice() {
        Some(Advice::Choose(setting, values)) => values
            .iter()
            .map(|value| {
                let option = advice_in_words(&Advice::Choose(*setting, vec![value.clone()]));
                Answer::new(format!("{command} {option}"), format!("{value}: {error}"))
            })
            .collect(),
        Some(advice) => {
            vec![Answer::new(format!("{command} {} …", advice_in_words(advice)), error.to_string())]
        }
        None => vec![Answer::new(format!("{command} …"), error.to_string())],
    };
    Question { asks: error.to_string(), answers }
}

/// When the weeks of a series begin and end as written.
pub fn edges_of(shelf: &Shelf, info: &SeriesInfo) -> Result<WeekEdges> {
    let mut failed = None;
    let pieces = shelf.scan(&info.edition, Span::ALL, Some(&[]))?.map_while(|rows| match rows {
        Ok(rows) => Some(rows),
        Err(error) => {
            failed = Some(error);
            None
        }
    });
    let times = pieces.flat_map(|rows| rows.time.clone());
    let edges = week_edges(times, info.name.frame.length());
    failed.map_or(Ok(edges), Err)
}

/// When weeks begin and end as written.
pub fn edges_in_words(edges: &WeekEdges) -> String {
    format!(
        "as written, {} of {} weeks open at {} and {} close at {}",
        edges.keep_open,
        edges.weeks,
        minute_of_week(edges.opens),
        edges.keep_close,
        minute_of_week(edges.closes)
    )
}
