//! What everything else is made of: times, prices, frames, clocks, sessions, instruments, columns.

pub mod actions;
pub mod bars;
pub mod cell;
pub mod chain;
pub mod clock;
pub mod columns;
pub mod contract_month;
pub mod costs;
pub mod drawing;
pub mod frame;
pub mod instrument;
pub mod layout;
pub mod moment_text;
pub mod number_marks;
pub mod price;
pub mod provenance;
pub mod series;
mod series_pattern;
pub mod session;
mod sheet_doubts;
pub mod stamp;
pub mod standing;
pub mod stress;
pub mod time;
pub mod time_marks;
pub mod unfold;
pub mod variation;
mod weight;

pub use bars::{Bar, BarView, QuoteView};
pub use cell::{ABSENT, Cells, present};
pub use clock::{Clock, Wall, Walls};
pub use columns::{Columns, Field, Scale, Shape};
pub use drawing::{Drawing, DrawingColour, DrawingKind, DrawnOn, DrawnPoint, ShownAmong};
pub use frame::{Frame, Unit};
pub use instrument::{Instrument, OwnValues};
pub use layout::{Delimiter, Layout, Since1970, Use};
pub use number_marks::NumberMarks;
pub use provenance::{Input, Made, Provenance};
pub use series::{SeriesName, Side};
pub use series_pattern::SeriesPattern;
pub use session::{Session, SessionWeek};
pub use stamp::Stamp;
pub use standing::{Decision, Standing};
pub use time::{Micros, Span};
pub use time_marks::{DateOrder, Marks, Precision};
pub use unfold::{Doubtful, Unfold};
pub use weight::Weight;

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
pub(crate) use as_text;

as_text!(
    Weight,
    Clock,
    Frame,
    SeriesName,
    SeriesPattern,
    Side,
    session::Weekdays,
    stress::Share,
    variation::Factor
);
