//! Feeds: the client of services that hand out histories, and a made-up market that is handed over as raw files the
//! way a vendor (Quill) and a broker (Tarn) would, with planted defects and a file that tells the truth, or by
//! stand-ins of their services on this machine.
//!
//! Everything made up is drawn from seeds with plain arithmetic (no function whose last digit depends on the
//! machine), so the same call writes the same bytes everywhere.

pub mod client;
pub mod demo;
pub mod market;
pub mod stand_in;
pub mod truth;
mod writers;

pub use demo::{DemoSpans, write_demo};
pub use truth::{Planted, Truth};
