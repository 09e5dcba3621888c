//! Compose: instruments of one's own out of others.
//!
//! An instrument's sheet is inherited (see [`crate::model::instrument`]). Its rows are a variant of those of another: within
//! other hours, moved in time, with other prices and spreads, edited by hand. A variant knows its base and how it differs,
//! so it can be made anew when the base changes.

mod actions;
mod chain;
mod edits;
mod formula;
mod found;
mod level_change;
mod on_shelf;
mod refuse;
mod request;
mod shuffle;
mod standing;
mod stress;
mod variant;

pub use chain::{ChainDone, ChainRequest, RollDay, compose_chain, days_around_roll};
pub use edits::Edits;
pub use formula::{FormulaDone, FormulaPreview, FormulaRequest, compose_formula, preview_formula};
pub use on_shelf::{Composed, compose};
pub use request::ComposeRequest;

#[cfg(test)]
mod made_tests;
#[cfg(test)]
mod test_shelf;
#[cfg(test)]
mod tests;
