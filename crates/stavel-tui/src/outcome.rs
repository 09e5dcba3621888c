//! What comes of a key in something that lies over the bench.

use stavel_core::model::Layout;
use stavel_work::Step;

use crate::act::Act;

/// What comes of a key in an overlay.
pub enum OverlayOutcome {
    Stay,
    /// It stays, and says what is missing.
    Say(String),
    Close,
    /// It closes and has an act done, in the lens at a place where the act belongs to one.
    Act(Act, Option<usize>),
    /// It closes with an answer.
    Answer(Asker, String),
    /// It closes and has a command run, then the step that goes on.
    Command(String, Option<Box<Step>>),
    /// It closes and has a step done, with a layout that is saved before it.
    Start(Box<Step>, Option<(String, Box<Layout>)>),
}

/// Who gets the answer to a prompt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asker {
    /// The lens at a place of the bar.
    Lens(usize),
    /// The bench, for the file that a recipe goes to.
    RecipePath,
    /// The bench, for what is to be filled in in a command.
    Command,
    /// The bench, for the file that the picture of a lens goes to.
    PicturePath,
}
