//! Chains: futures contracts of several months put one behind the other.
//!
//! The contracts are found and put in order of their months ([`contracts`]), their rows counted by session day ([`days`]),
//! the rolls decided ([`rolls`]), the gap between both contracts measured at each of them ([`gaps`]), and the rows of each
//! contract brought to one level ([`level`]).

mod around;
mod contracts;
mod days;
mod gaps;
mod level;
mod on_shelf;
mod request;
mod rolls;
mod told;

pub use around::{RollDay, days_around_roll};
pub use on_shelf::{ChainDone, compose_chain};
pub use request::ChainRequest;

#[cfg(test)]
mod tests;
