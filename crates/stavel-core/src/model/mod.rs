//! What everything else is made of: times, prices, frames, clocks, sessions, instruments, columns.

pub mod clock;
pub mod columns;
pub mod frame;
pub mod instrument;
pub mod price;
pub mod series;
pub mod session;
pub mod time;

pub use clock::{Clock, Wall, Walls};
pub use columns::{Columns, Field, Scale, Shape};
pub use frame::{Frame, Unit};
pub use instrument::Instrument;
pub use series::{SeriesName, Side};
pub use session::{Session, SessionWeek};
pub use time::{Micros, Span};

/// Types written as text: what their `Display` gives, their `FromStr` reads, in recipes too.
macro_rules! as_text {
    ($($name:ty),*) => {$(
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.collect_str(self)
            }
        }
        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
            }
        }
    )*};
}
as_text!(Clock, Frame, SeriesName, crate::splice::Rule, crate::splice::Level, crate::check::Against);
