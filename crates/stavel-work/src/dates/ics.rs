//! What an iCalendar (RFC 5545) says, as far as it matters here: when something takes place, what it is, and what it is
//! about.

use icalendar::{
    Calendar, CalendarComponent, CalendarDateTime, Component, DatePerhapsTime, Event, EventLike, EventStatus,
};
use stavel_core::model::time::{DAY, civil_from_days, days_from_civil, parse};
use stavel_core::model::{Clock, Micros, Weight};
use stavel_core::{Error, Result};

/// Years after its first one for which an event that comes back every year is written down.
const YEARS: i32 = 30;

/// A moment of an iCalendar: on the wall of a clock, or on that of whoever reads it.
#[derive(Debug, Clone, PartialEq)]
pub struct CalendarMoment {
    wall: Micros,
    zone: Option<Clock>,
}

impl CalendarMoment {
    /// The moment in UTC; none where it has no zone of its own and `usual` is none either.
    pub fn utc(&self, usual: Option<&Clock>) -> Option<Micros> {
        self.zone.as_ref().or(usual).map(|zone| zone.from_wall(self.wall).settle())
    }

    /// What the wall of a zone shows at that moment; without a zone of its own it is told on that wall.
    pub fn on_wall(&self, zone: &Clock) -> Micros {
        self.utc(None).map_or(self.wall, |utc| zone.to_wall(utc))
    }
}

/// When an event takes place.
#[derive(Debug, Clone, PartialEq)]
pub enum EventTime {
    /// Whole days, from the first to the one before the next.
    Days { first: i64, next: i64 },
    /// From a moment on, and to another where that is said.
    Moments { from: CalendarMoment, to: Option<CalendarMoment> },
}

/// An event of an iCalendar.
#[derive(Debug, Clone, PartialEq)]
pub struct CalendarEvent {
    pub id: Option<String>,
    pub name: String,
    pub categories: Vec<String>,
    pub weight: Option<Weight>,
    pub is_cancelled: bool,
    /// Each time it takes place.
    pub times: Vec<EventTime>,
}

/// True for the text of an iCalendar.
pub fn is_calendar(text: &str) -> bool {
    text.trim_start_matches('\u{feff}').trim_start().starts_with("BEGIN:VCALENDAR")
}

/// Reads an iCalendar; `place` is where it comes from.
///
/// # Errors
/// Where it is none, or has an event that cannot be understood: with its name.
pub fn read_calendar(text: &str, place: &str) -> Result<Vec<CalendarEvent>> {
    let calendar: Calendar = text.trim_start_matches('\u{feff}').parse().map_err(|e: String| {
        let first = stavel_core::error::printable(e.lines().next().unwrap_or_default());
        Error::input(format!("{place} is no iCalendar that can be read ({first})."))
    })?;
    calendar
        .components
        .iter()
        .filter_map(|component| match component {
            CalendarComponent::Event(event) => Some(read_event(event, place)),
            _ => None,
        })
        .collect()
}

fn read_event(event: &Event, place: &str) -> Result<CalendarEvent> {
    let name = event.get_summary().unwrap_or("an event without a name").to_owned();
    let bad = |why: &str| Error::input(format!("{place}: {}: {why}.", stavel_core::error::printable(&name)));
    let start = event.get_start().ok_or_else(|| bad("it does not say when it begins"))?;
    let first = match (start, event.get_end()) {
        (DatePerhapsTime::Date(first), end) => {
            let first = day_of(&first.to_string())?;
            let next = match end {
                // The end of a day is the day after it.
                Some(DatePerhapsTime::Date(next)) => day_of(&next.to_string())?.max(first + 1),
                _ => first + 1,
            };
            EventTime::Days { first, next }
        }
        (DatePerhapsTime::DateTime(from), to) => {
            let from = moment(&from)?;
            let to = match to {
                Some(DatePerhapsTime::DateTime(to)) => Some(moment(&to)?),
                _ => None,
            };
            if to.as_ref().is_some_and(|to| to.utc(Some(&Clock::utc())) < from.utc(Some(&Clock::utc()))) {
                return Err(bad("it ends before it begins"));
            }
            EventTime::Moments { from, to }
        }
    };
    // What takes days away again, or adds some, is not passed over.
    let mut keys = event.properties().keys().chain(event.multi_properties().keys());
    if keys.any(|key| key == "EXDATE" || key == "RDATE") {
        return Err(bad(
            "it has single days of its own (EXDATE, RDATE), which cannot be written down; say them as lines",
        ));
    }
    let years = years_of(event.property_value("RRULE"), |rule| {
        bad(&format!("it comes back by a rule that cannot be written down ({rule}); say its days as lines"))
    })?;
    Ok(CalendarEvent {
        id: event.get_uid().map(str::to_owned),
        categories: event.get_categories().unwrap_or_default(),
        weight: event.get_priority().and_then(Weight::of_priority),
        is_cancelled: event.get_status() == Some(EventStatus::Cancelled),
        times: years.iter().filter_map(|years| first.after_years(*years)).collect(),
        name,
    })
}

impl EventTime {
    /// The same so many years later; none where it begins on 29 February and there is none.
    fn after_years(&self, years: i32) -> Option<EventTime> {
        let moved =
            |wall: Micros| Some(day_after_years(wall.div_euclid(DAY), years)? * DAY + wall.rem_euclid(DAY));
        Some(match self {
            EventTime::Days { first, next } => {
                let there = day_after_years(*first, years)?;
                EventTime::Days { first: there, next: there + next - first }
            }
            EventTime::Moments { from, to } => {
                let wall = moved(from.wall)?;
                let to =
                    to.as_ref().map(|to| CalendarMoment { wall: wall + to.wall - from.wall, ..to.clone() });
                EventTime::Moments { from: CalendarMoment { wall, ..from.clone() }, to }
            }
        })
    }
}

fn day_of(text: &str) -> Result<i64> {
    Ok(parse(text)?.div_euclid(DAY))
}

fn moment(moment: &CalendarDateTime) -> Result<CalendarMoment> {
    Ok(match moment {
        CalendarDateTime::Floating(t) => CalendarMoment { wall: parse(&t.to_string())?, zone: None },
        CalendarDateTime::Utc(t) => {
            CalendarMoment { wall: parse(&t.naive_utc().to_string())?, zone: Some(Clock::utc()) }
        }
        CalendarDateTime::WithTimezone { date_time, tzid } => {
            CalendarMoment { wall: parse(&date_time.to_string())?, zone: Some(tzid.parse()?) }
        }
    })
}

/// The years after the first in which an event comes back.
fn years_of(rule: Option<&str>, bad: impl Fn(&str) -> Error) -> Result<Vec<i32>> {
    let Some(rule) = rule else { return Ok(vec![0]) };
    let part = |key: &str| {
        rule.split(';')
            .find_map(|p| p.split_once('=').filter(|(k, _)| k.eq_ignore_ascii_case(key)))
            .map(|p| p.1)
    };
    let is_plain = rule
        .split(';')
        .all(|p| ["FREQ", "COUNT", "INTERVAL", "WKST"].iter().any(|k| p.to_ascii_uppercase().starts_with(k)));
    let one = |key: &str| part(key).map_or(Ok(None), |v| v.parse::<i32>().map(Some).map_err(|_| bad(rule)));
    if !is_plain || !part("FREQ").is_some_and(|f| f.eq_ignore_ascii_case("YEARLY")) {
        return Err(bad(rule));
    }
    let every = one("INTERVAL")?.unwrap_or(1).max(1);
    let count = one("COUNT")?.unwrap_or(YEARS / every + 1).clamp(1, YEARS);
    Ok((0..count).map(|i| i * every).collect())
}

/// The same date so many years later; none for 29 February where there is none.
fn day_after_years(day: i64, years: i32) -> Option<i64> {
    let (year, month, number) = civil_from_days(day);
    let there = days_from_civil(year + i64::from(years), month, number);
    (civil_from_days(there).1 == month).then_some(there)
}
