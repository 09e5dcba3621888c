//! Rehearse: a history played in time, and trading on paper against it.
//!
//! A [`Tape`] gives quotes in order of time and can jump; an [`Account`] trades at them by the spec
//! sheet; [`run_orders`] plays a list of orders without a screen.

mod account;
mod script;
mod spreads;
mod tape;

pub use account::{Account, AccountEntry, Deal, Direction, money, money_sheet, money_to};
pub use script::{
    OrderFate, OrderRemark, Played, ScriptOrder, ScriptOutcome, orders_in, read_orders, run_orders,
};
pub use spreads::{SpreadFrom, SpreadRule, SpreadsUsed};
pub use tape::{FillPrice, Tape, TradeQuote};
