//! Stand-ins of services, on this machine only: a vendor's and a broker's. They hand out the made-up market, keep to
//! what they permit, and go wrong on demand.

mod answers;
mod broker;
mod counts;
mod faults;
mod history;
mod serve;
mod state;
mod vendor;

pub use counts::Counted;
pub use history::{MadeUpHistory, MadeUpMarket};
pub use serve::{RunningStandIn, StandInWish, start};
pub use state::Switch;
