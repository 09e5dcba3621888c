//! The made-up demo market: prices that behave like real ones, handed over as raw files the way a
//! vendor (Quill) and a broker (Tarn) would, with planted defects and a file that tells the truth.
//!
//! Everything is drawn from seeds with plain arithmetic (no function whose last digit depends on the
//! machine), so the same call writes the same bytes everywhere.

pub mod demo;
pub mod market;
pub mod truth;
mod writers;

pub use demo::{DemoSpans, write_demo};
pub use truth::{Planted, Truth};
