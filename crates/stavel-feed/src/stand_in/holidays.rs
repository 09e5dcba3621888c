//! The days on which the made-up markets do not trade as usual.

use stavel_core::model::session::{DayHours, Holiday};
use stavel_core::model::time::days_from_civil;

/// The days on which a market does not trade as usual; the same that its history has.
pub fn holidays_of(market: &str, year: i64) -> Vec<(Holiday, &'static str)> {
    let day = |month, day| days_from_civil(year, month, day);
    let mut all =
        vec![(Holiday::closed(day(1, 1)), "New Year's Day"), (Holiday::closed(day(12, 25)), "Christmas Day")];
    if market == "BLY" {
        all.push((Holiday::closed(day(3, 28)), "Founding Day of the exchange"));
        all.push((Holiday { day: day(12, 24), hours: DayHours::Until(13 * 60) }, "Christmas Eve"));
    }
    all.sort();
    all
}
