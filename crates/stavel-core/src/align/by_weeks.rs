//! What the edges of its weeks say of an afloat series' clock, where no other series can be compared with it.
//!
//! The end of the trading week is the one thing that every history of a market shows. A clock that brings most of the
//! weeks' ends to the moment at which the instrument's session closes may be the one; several may do so alike, and a
//! session that is only assumed proves nothing, so this is evidence for a person and never a clock taken.

use super::evidence::{WeekEdges, week_edges, weeks_of};
use super::on_shelf::bars;
use crate::Result;
use crate::model::session::OpenHours;
use crate::model::time::{DAY, MINUTE, day_of, monday_of};
use crate::model::{Clock, Field, Micros, Session, Span};
use crate::store::{SeriesInfo, Shelf};

/// Clocks that vendors and brokers often write in.
const USUAL: [&str; 7] = [
    "UTC",
    "America/New_York+7h",
    "America/New_York",
    "Europe/London",
    "Europe/Oslo",
    "Europe/Athens",
    "UTC-5",
];

/// A week may close so long before or after the session does.
const NEAR: Micros = 16 * MINUTE;

/// When the weeks of a series begin and end as written, and how the usual clocks explain it.
#[derive(Debug, Clone, PartialEq)]
pub struct WeekGuesses {
    /// As written.
    pub written: WeekEdges,
    /// Bars that move in each quarter of an hour of the week as written, from Monday 00:00.
    pub quarters: Vec<u32>,
    /// The usual clocks, the one that explains most weeks first.
    pub clocks: Vec<WeekGuess>,
}

/// In how many weeks a clock brings the end to where the session closes.
#[derive(Debug, Clone, PartialEq)]
pub struct WeekGuess {
    /// The clock.
    pub clock: Clock,
    /// Weeks that close with the session by it.
    pub keep: usize,
    /// Weeks that were looked at.
    pub weeks: usize,
}

/// Reads when the weeks of a series end, and holds it against the session of its instrument by the usual clocks.
/// Filler without movement counts as silence.
///
/// # Errors
/// Where the series cannot be read.
pub fn guess_by_weeks(shelf: &Shelf, info: &SeriesInfo) -> Result<WeekGuesses> {
    let bar = info.name.frame.length().max(MINUTE);
    let rows = bars(shelf, info, bar, Span::ALL)?;
    let [high, low] = [Field::High, Field::Low].map(|f| rows.column(f));
    let moving: Vec<Micros> = (0..rows.len()).filter(|i| high[*i] > low[*i]).map(|i| rows.time[i]).collect();
    let session = shelf.instrument(&info.name.instrument)?.sheet.session;
    let mut quarters = vec![0; QUARTERS];
    for t in &moving {
        let into_week = t - monday_of(day_of(*t)) * DAY;
        quarters[(into_week / (15 * MINUTE)) as usize] += 1;
    }
    let written = week_edges(moving.iter().copied(), bar);
    Ok(WeekGuesses { written, quarters, clocks: guesses(&moving, bar, &session) })
}

/// Quarters of an hour in a week.
const QUARTERS: usize = 7 * 96;

fn guesses(times: &[Micros], bar: Micros, session: &Session) -> Vec<WeekGuess> {
    let weeks = weeks_of(times.iter().copied(), bar);
    let ends: Vec<Micros> = weeks.iter().map(|w| w.to).collect();
    let (Some(first), Some(last)) = (ends.first(), ends.last()) else { return Vec::new() };
    let mut hours = OpenHours::new(session, Span::new(first - 2 * DAY, last + 2 * DAY));
    let mut out: Vec<WeekGuess> = USUAL
        .iter()
        .filter_map(|name| name.parse::<Clock>().ok())
        .map(|clock| {
            let mut closes = |end: &&Micros| {
                let utc = clock.from_wall(**end).settle();
                hours.is_open(utc - NEAR) && !hours.is_open(utc + NEAR)
            };
            let keep = ends.iter().filter(|end| closes(end)).count();
            WeekGuess { clock, keep, weeks: ends.len() }
        })
        .collect();
    out.sort_by_key(|guess| std::cmp::Reverse(guess.keep));
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;

    /// Minutes of a market that closes at 17:00 in New York on Fridays, as a clock writes them.
    fn written(clock: &str, from: &str, to: &str) -> Vec<Micros> {
        let clock: Clock = clock.parse().unwrap();
        let session = session();
        let span = Span::new(parse(from).unwrap(), parse(to).unwrap());
        let open = session.open_spans(span);
        let minutes = open.iter().flat_map(|s| (s.from..s.to).step_by(MINUTE as usize));
        minutes.map(|t| clock.to_wall(t)).collect()
    }

    fn session() -> Session {
        Session { week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(), ..Session::always() }
    }

    fn best(clock: &str, from: &str, to: &str) -> Vec<(String, usize, usize)> {
        let found = guesses(&written(clock, from, to), MINUTE, &session());
        found.iter().map(|g| (g.clock.to_string(), g.keep, g.weeks)).collect()
    }

    #[test]
    fn over_a_year_only_the_true_clock_keeps_every_week() {
        for clock in ["UTC", "America/New_York+7h", "Europe/Oslo", "Europe/London", "UTC-5"] {
            let found = best(clock, "2023-01-04", "2024-01-04");
            assert_eq!(found[0].0, clock);
            assert_eq!(found[0].1, found[0].2, "{found:?}");
            assert!(found[1].1 < found[0].1, "{found:?}");
        }
    }

    #[test]
    fn a_winter_alone_leaves_clocks_that_only_summer_tells_apart() {
        let found = best("America/New_York", "2024-01-03", "2024-02-28");
        let all: Vec<&str> = found.iter().filter(|g| g.1 == g.2).map(|g| g.0.as_str()).collect();
        assert_eq!(all, ["America/New_York", "UTC-5"]);
        assert!(best("UTC", "2024-01-03", "2024-01-04").iter().all(|g| g.1 == 0), "no week ends in a day");
    }
}
