//! The language of formula instruments: an instrument of one's own out of the prices of others.
//!
//! A formula is written once and gives a bid and an ask: a leg that names no side lies anywhere between its bid and its ask,
//! and the formula's bid and ask are the lowest and the highest value it can have then. What the language is made of stands
//! in `docs/formulas.md`.

mod blocks;
mod bounds;
mod interval;
mod lexer;
mod parser;
mod rows;
mod slope;
mod tree;
mod undefined;
mod units;
mod windows;

pub use blocks::{FormulaBlock, LegColumns};
pub use interval::Interval;
pub use parser::{Currencies, FUNCTIONS, parse};
pub use rows::RowEvaluator;
pub use tree::{Formula, FormulaLeg, LegPrice};
pub use undefined::Undefined;
pub use units::{PriceUnit, UnitTold};

#[cfg(test)]
mod bounds_tests;
#[cfg(test)]
mod parser_tests;
