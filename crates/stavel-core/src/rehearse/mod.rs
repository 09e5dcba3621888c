//! Rehearse: a history played in time, and trading on paper against it.
//!
//! A [`Tape`] gives quotes in order of time and can jump; a [`Desk`] keeps orders and an [`Account`] and fills by fixed rules;
//! a [`Replay`] plays one or many tapes on a desk and goes back to any earlier moment.

mod account;
mod acts;
mod bar_ends;
mod book;
mod book_tape;
mod desk;
mod desk_bars;
mod desk_depth;
mod desk_fills;
mod desk_run;
mod figures;
mod fill;
mod headless;
mod money;
mod order;
mod order_words;
mod orders_file;
mod quote;
mod replay;
mod rescaled;
mod row_source;
mod script;
mod shelf_rows;
mod spreads;
mod tape;
mod tape_rows;
mod watched;
mod with_ask;

pub use account::{Account, Booking, Deal, DealReason, Holding, Swap, Trade};
pub use acts::parse_lots;
pub use bar_ends::BarEnds;
pub use book::{Book, BookLevel, BookUnits, DealDepth, DepthSizes};
pub use book_tape::BookTape;
pub use desk::{Desk, DeskRules, Entry, Gone, Refusal};
pub use figures::{Figures, TradeSum, figures_of, trades_of};
pub use fill::{Queue, Triggers, acts_at, side_of, triggers};
pub use headless::{OrderFate, OrderRemark, Outcome, run_orders};
pub use money::{RateRule, Rates, Traded, money, money_sheet, money_to, points_money};
pub use order::{
    DeskAct, Direction, Exit, LOT, LOT_DECIMALS, Order, OrderKind, OrderRole, Size, Ticket, Until, lots_text,
};
pub use order_words::order_in_line;
pub use orders_file::{FileOrder, orders_in, read_orders};
pub use quote::{BarReach, TradeQuote};
pub use replay::{Logged, Replay, ReplayAct, RowWatcher};
pub use rescaled::{PriceFactor, Rescaled};
pub use row_source::{HeldRows, Pieces, RowSource};
pub use script::{Idle, IdleLine, Script, ScriptRun, run_script, script_in};
pub use shelf_rows::ShelfRows;
pub use spreads::{SpreadFrom, SpreadRule, SpreadsUsed};
pub use tape::{FillPrice, Tape, TapePlace};
pub use tape_rows::TapePiece;
pub use watched::{Watch, WatchedBar};
pub use with_ask::WithAsk;
