//! What everything else is made of: times, prices, frames, clocks, sessions, instruments, columns.

pub mod clock;
pub mod columns;
pub mod frame;
pub mod instrument;
pub mod price;
pub mod series;
pub mod session;
pub mod time;

pub use clock::{Clock, Wall};
pub use columns::{Columns, Field, Scale, Shape};
pub use frame::{Frame, Unit};
pub use instrument::Instrument;
pub use series::{SeriesName, Side};
pub use session::{Session, SessionWeek};
pub use time::{Micros, Span};
