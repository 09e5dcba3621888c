//! The computations of Stavel. No terminal, no printing, no argument parsing.
//!
//! A history is a [`model::Columns`]: a struct of arrays of integers, times in UTC microseconds
//! and prices scaled by ten to the power of the series' decimals. Histories live in a
//! [`store::Shelf`]; every stage of the work is a module with plain functions over columns.

#![warn(missing_docs, clippy::missing_errors_doc)]

pub mod advice;
pub mod align;
pub mod bars;
mod chance;
pub mod check;
pub mod compose;
mod counts;
pub mod crosses;
pub mod deliver;
pub mod error;
pub mod fingerprint;
pub mod formula;
pub mod frames;
pub mod hour_spreads;
pub mod intake;
pub mod job;
pub mod measures;
pub mod model;
pub mod rehearse;
pub mod splice;
mod stats;
pub mod store;
#[cfg(any(test, fuzzing))]
pub mod trials;

pub use advice::{Advice, Setting};
pub use error::{Error, Result};
