//! One act with all its settings.

mod command_line;
mod compose;
mod deliver;
mod draw;
mod fetch;
mod older;
mod rehearse;
mod roll;
mod settings;
mod typed;
mod update;
mod wanted;

use serde::{Deserialize, Serialize};
use stavel_core::check::Against;
use stavel_core::model::{SeriesName, SeriesPattern};

pub use command_line::recipe_keys;
pub use compose::{ComposeStep, SheetValues};
pub use deliver::{DeliverStep, RowLimits, SidesAsked};
pub use draw::{DossierStep, DrawStep};
pub use fetch::FetchStep;
pub use older::{step_with_older_keys, steps_with_older_keys};
pub use rehearse::{RehearsalTable, RehearseStep};
pub use roll::{RollMove, RollSetting};
pub(crate) use settings::one_of;
pub use settings::{
    AlignStep, AutoStep, ChartStep, ChartView, CheckStep, FramesStep, IntakeStep, Prefer, ShelfStep,
    SpliceStep, UndoStep,
};
pub use update::UpdateStep;
pub use wanted::{FramesWanted, SidesWanted};

/// An act on a shelf. In a recipe: a `[[step]]` table whose `act` names it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "act", rename_all = "lowercase")]
pub enum Step {
    Auto(AutoStep),
    Intake(IntakeStep),
    Fetch(FetchStep),
    Update(UpdateStep),
    Check(CheckStep),
    Align(AlignStep),
    Splice(SpliceStep),
    Frames(FramesStep),
    Compose(Box<ComposeStep>),
    Deliver(Box<DeliverStep>),
    Chart(ChartStep),
    Draw(DrawStep),
    Dossier(DossierStep),
    Rehearse(RehearseStep),
    Undo(UndoStep),
    Redo(UndoStep),
    Shelf(ShelfStep),
}

impl Step {
    /// The stage's word.
    pub fn act(&self) -> &'static str {
        match self {
            Step::Auto(_) => "auto",
            Step::Intake(_) => "intake",
            Step::Fetch(_) => "fetch",
            Step::Update(_) => "update",
            Step::Check(_) => "check",
            Step::Align(_) => "align",
            Step::Splice(_) => "splice",
            Step::Frames(_) => "frames",
            Step::Compose(_) => "compose",
            Step::Deliver(_) => "deliver",
            Step::Chart(_) => "chart",
            Step::Draw(_) => "draw",
            Step::Dossier(_) => "dossier",
            Step::Rehearse(_) => "rehearse",
            Step::Undo(_) => "undo",
            Step::Redo(_) => "redo",
            Step::Shelf(_) => "shelf",
        }
    }

    /// True where the step changes the shelf.
    pub fn writes(&self) -> bool {
        match self {
            Step::Check(s) => s.mends_something(),
            Step::Align(s) => s.anchor,
            Step::Frames(s) => !s.compare,
            Step::Fetch(s) => !s.dry_run,
            Step::Update(s) => !s.dry_run,
            Step::Draw(s) => s.changes_something(),
            Step::Deliver(_) | Step::Chart(_) | Step::Dossier(_) | Step::Rehearse(_) => false,
            Step::Auto(_)
            | Step::Intake(_)
            | Step::Splice(_)
            | Step::Compose(_)
            | Step::Undo(_)
            | Step::Redo(_)
            | Step::Shelf(_) => true,
        }
    }

    /// The series whose rows the step reads, as far as the step names them.
    pub fn reads(&self) -> Vec<SeriesName> {
        match self {
            Step::Check(s) => {
                let other = s.against.iter().filter_map(|a| match a {
                    Against::Series(name) => Some(name),
                    Against::Edition(_) => None,
                });
                std::iter::once(&s.series).chain(other).cloned().collect()
            }
            Step::Align(s) => std::iter::once(&s.series).chain(&s.to).cloned().collect(),
            Step::Splice(s) => s.series.clone(),
            Step::Frames(s) => s.series.exact().into_iter().collect(),
            Step::Compose(s) => s.from.iter().cloned().collect(),
            Step::Deliver(s) => s.series.iter().filter_map(SeriesPattern::exact).collect(),
            Step::Chart(s) => std::iter::once(&s.series).chain(&s.with).cloned().collect(),
            Step::Rehearse(s) => s.series.clone(),
            Step::Draw(s) => vec![s.series.clone()],
            Step::Dossier(s) => vec![s.series.clone()],
            Step::Auto(_)
            | Step::Intake(_)
            | Step::Fetch(_)
            | Step::Update(_)
            | Step::Undo(_)
            | Step::Redo(_)
            | Step::Shelf(_) => Vec::new(),
        }
    }
}
