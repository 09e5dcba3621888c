//! Order scripts: what is to be done at times, every day at an hour, or when a condition over bars begins to hold.
//!
//! A script is lines of text; `docs/scripts.md` tells all of them. Conditions are looked at whenever a bar of the script's frame
//! is over, and what they do is done at the quote that stands then. The same script on the same history gives the same bytes.

mod read;
mod run;
mod value;

pub use read::{Script, script_in};
pub use run::{Idle, IdleLine, ScriptRun, run_script};
