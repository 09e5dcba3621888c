//! What a lens asks the bench to do.

use stavel_core::Error;
use stavel_core::model::{Clock, Micros, SeriesName, Span};
use stavel_work::{DeliverStep, Step};

use crate::choice::Choice;
use crate::view::FoundReport;

/// What a lens asks for, in order.
pub type Effects = Vec<Effect>;

/// Something the bench does for a lens.
#[derive(Debug)]
pub enum Effect {
    /// A line for the person.
    Say(String, Tone),
    /// What went wrong, or that it was stopped.
    Complain(Error),
    /// Does a step as a job.
    Start(Box<Step>),
    Select(SeriesName),
    /// Chooses the next or the previous series of the instrument.
    NextSeries {
        back: bool,
    },
    /// Sets the window.
    Window(Span),
    Show(ChartPlace),
    /// Asks for a line of text; the lens that asked gets the answer.
    Ask {
        label: String,
        proposal: String,
    },
    /// Puts a text on the clipboard of the terminal.
    Copy(String),
    /// Saves how lines are written by a delivery, under a name.
    SaveLayout(String, Box<DeliverStep>),
    /// Opens a lens by its word.
    Open(&'static str),
    /// Opens the form that takes files in.
    TakeIn,
    /// Asks a question with a few answers.
    Choose(Box<Choice>),
    /// A replay of an instrument was started.
    Rehearsed(String),
    /// Tells all lenses what was found in a series.
    Found(FoundReport),
}

/// What the pointer does at a place of the lens, counted in cells from its upper left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pointer {
    Press(u16, u16),
    /// It is moved with the button held.
    Drag(u16, u16),
    /// The button is let go.
    Release(u16, u16),
    WheelUp(u16, u16),
    WheelDown(u16, u16),
}

/// How a message is meant.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Tone {
    #[default]
    Plain,
    Good,
    /// It is done, but needs review.
    Review,
    Wrong,
}

impl Tone {
    /// Whether it belongs on the list of warnings.
    pub fn is_warning(self) -> bool {
        matches!(self, Tone::Review | Tone::Wrong)
    }
}

/// A place on the chart.
#[derive(Debug, Clone)]
pub struct ChartPlace {
    /// The series to choose, where it is another.
    pub series: Option<SeriesName>,
    pub at: Micros,
    /// So much time is shown before it and after it.
    pub around: Micros,
    /// A series that is laid over it.
    pub beside: Option<SecondSeries>,
}

/// A series laid over another.
#[derive(Debug, Clone, PartialEq)]
pub struct SecondSeries {
    pub series: SeriesName,
    /// For one that is afloat: the clock it is shown by, and what its bars are moved back by.
    pub by: Option<(Clock, Micros)>,
}

/// A plain line for the person.
pub fn say(text: impl Into<String>) -> Effects {
    vec![Effect::Say(text.into(), Tone::Plain)]
}

/// A line that tells of a success.
pub fn tell_done(text: impl Into<String>) -> Effects {
    vec![Effect::Say(text.into(), Tone::Good)]
}

/// A line that tells what is wrong.
pub fn warn(text: impl Into<String>) -> Effects {
    vec![Effect::Say(text.into(), Tone::Wrong)]
}

/// Does a step as a job.
pub fn start(step: Step) -> Effects {
    vec![Effect::Start(Box::new(step))]
}

/// Asks for a line of text, with a proposal.
pub fn ask(label: impl Into<String>, proposal: impl Into<String>) -> Effects {
    vec![Effect::Ask { label: label.into(), proposal: proposal.into() }]
}
