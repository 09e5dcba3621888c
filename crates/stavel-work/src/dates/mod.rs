//! What calendars say of dates: events, holidays, splits and dividends, statements. Out of files or from feeds, as
//! iCalendar, JSON or CSV, they become dated facts of what they are about; holidays stand in the spec sheets too.

mod bring;
mod entries;
mod files;
mod holidays;
mod ics;
mod specs;

pub use bring::{DatesTaken, bring_dates, holidays_known_of};
pub use entries::{ReadDates, entries_of};
pub use files::{dates_of_files, is_of_dates, zone_of};
pub use holidays::holidays_in;
pub use specs::{QuotedSpread, ToldValue, bring_specs, quoted_spreads, told_values};

use stavel_core::model::Clock;
use stavel_feed::client::FeedDates;

/// What is known of a calendar beside its text.
pub struct DatesWish<'w> {
    /// What it tells, and where in an entry each thing stands.
    pub dates: &'w FeedDates,
    /// Who says it.
    pub source: &'w str,
    /// What all of it is about; else each entry says it.
    pub about: Option<&'w str>,
    /// The clock of times that do not say theirs; none where it is not known.
    pub clock: Option<&'w Clock>,
    /// Where it comes from, for sentences.
    pub place: &'w str,
}
