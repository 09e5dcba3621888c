//! What only a person can answer: the question, each answer with what speaks for it.

use stavel_core::align::guess_by_weeks;
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Advice, Error, Result};

use crate::advice::advice_in_words;
use crate::align::guess_in_words;
use crate::question::{Answer, Question};

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

/// The clock of a series that no other can be compared with: the usual clocks that the ends of its weeks speak for,
/// and one of a person's own.
pub fn about_clock(shelf: &Shelf, info: &SeriesInfo) -> Result<Question> {
    let series = &info.name;
    let guesses = guess_by_weeks(shelf, info)?;
    let with = |clock: &str| format!("stavel align {series} --clock {clock} --anchor");
    let speaks = guesses.clocks.iter().any(|guess| guess.keep > 0);
    let mut answers: Vec<Answer> = guesses
        .clocks
        .iter()
        .filter(|guess| guess.keep > 0 || !speaks)
        .take(3)
        .map(|guess| Answer::new(with(&guess.clock.to_string()), guess_in_words(guess, &guesses.written)))
        .collect();
    answers.push(Answer::new(with("CLOCK"), "what the vendor says of its times, as UTC+2 or Europe/Oslo"));
    Ok(Question {
        asks: format!("Which clock do the times of {series} stand in? Its files name no zone."),
        answers,
    })
}
