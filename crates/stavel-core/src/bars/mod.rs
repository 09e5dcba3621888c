//! Bars out of rows, without a shelf.
//!
//! A [`Builder`] reads rows piece by piece in order of time and gives bars. Where bars begin is told
//! by [`Grid`], from the session day and its clock.

mod builder;
mod cut;
mod fill;
mod grid;
mod open_bar;
mod part;
mod rows;
mod runs;
mod settle;
mod stretch;

pub use builder::{Builder, Built};
pub use fill::filled;
pub use grid::{Grid, GridBar, can_build};
pub use runs::push_to_all;

#[cfg(test)]
mod details_tests;
#[cfg(test)]
mod oracle;
#[cfg(test)]
mod runs_tests;
#[cfg(test)]
mod tests;
