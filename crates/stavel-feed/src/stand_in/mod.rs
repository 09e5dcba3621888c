//! Stand-ins of services, on this machine only: a vendor's, a broker's and a calendar's. They hand out the made-up market, keep to
//! what they permit, and go wrong on demand.

mod answers;
mod broker;
mod calendar;
mod counts;
mod faults;
mod history;
mod holidays;
mod live;
mod live_tape;
mod serve;
mod state;
mod vendor;

pub use calendar::event_times;
pub use counts::Counted;
pub use history::{MadeUpHistory, MadeUpMarket};
pub use live_tape::LiveSwitch;
pub use serve::{RunningStandIn, StandInWish, start};
pub use state::Switch;
