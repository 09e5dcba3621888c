//! Recipes: the acts of the work as values, done one by one or from a file.
//!
//! A [`Step`] is one act with all its settings. The command line, the bench and recipe files all make
//! steps; [`apply`] does them, and gives a [`Report`] for people and programs.

mod aligning;
mod apply;
mod assuming;
mod bring_in;
mod checking;
mod delivering;
mod file;
mod rehearsing;
mod splicing;
mod step;
mod stepping;

pub use aligning::{doubt_in_words, minute_of_week, stretches_in_words};
pub use apply::{LongList, Report, apply, as_act, bytes_in_words, frames_named, span_between};
pub use assuming::of_rows as assumed_of_rows;
pub use bring_in::{hints_of, layout_named, plan_of};
pub use checking::{Checked, check_json, check_step};
pub use file::{Done, Recipe, run, what_was_done};
pub use step::{
    AlignStep, ChartStep, CheckStep, ComposeStep, DeliverStep, FramesStep, IntakeStep, RehearseStep,
    ShelfStep, SpliceStep, Step, UndoStep, Upkeep,
};
