//! Stand-ins of services, on this machine only: a vendor's to begin with. They hand out the made-up market, keep to
//! what they permit, and go wrong on demand.

mod counts;
mod faults;
mod history;
mod serve;
mod state;
mod vendor;

pub use counts::Counted;
pub use history::{MadeUpHistory, MadeUpMarket};
pub use serve::{Running, StandInWish, start};
pub use state::Switch;
