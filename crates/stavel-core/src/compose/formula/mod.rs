//! Instruments out of several others, by a formula.

mod bars;
mod join;
mod legs;
mod on_shelf;
mod plan;
mod preview;
mod request;
mod standing;
mod told;
mod values;

pub use on_shelf::{FormulaDone, compose_formula};
pub use preview::{FormulaPreview, preview_formula};
pub use request::FormulaRequest;

#[cfg(test)]
mod tests;
