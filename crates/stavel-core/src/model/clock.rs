//! Clocks: how wall time maps to UTC.

use std::collections::HashMap;
use std::fmt;
use std::str::FromStr;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

use super::time::{DAY, EARLIEST, HOUR, LATEST, MINUTE, Micros, SECOND, Span};
use crate::{Error, Result};

/// A rule that maps wall time to UTC: `UTC`, `UTC+3`, `Europe/Oslo`, `America/New_York+7h`, or several one
/// after the other: `UTC+2, from 2023-06-04 America/New_York+7h` (dates in UTC).
///
/// Cheap to clone. A wall time is a [`Micros`] as if the wall showed UTC.
#[derive(Debug, Clone)]
pub struct Clock {
    text: Arc<str>,
    zone: Option<Arc<str>>,
    shift: Micros,
    stretches: Arc<[OffsetSpan]>,
    /// Clocks that follow, each with the moment from which it holds; empty for a single clock.
    follow: Arc<[(Micros, Clock)]>,
}

/// A stretch of time with one offset from UTC; it ends where the next begins.
#[derive(Debug, Clone, Copy)]
struct OffsetSpan {
    from: Micros,
    offset: Micros,
}

/// What a wall time means in UTC.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wall {
    /// It happened once.
    Once(Micros),
    /// The clock was set back and showed it twice.
    Twice {
        /// The earlier moment, UTC.
        first: Micros,
        /// The later moment, UTC.
        second: Micros,
    },
    /// The clock was set forward and never showed it; `at` is the moment of the jump.
    Never {
        /// The moment at which the clock was set on, UTC.
        at: Micros,
    },
}

impl Wall {
    /// The moment to take where nothing else is known: the first of two, the jump for none.
    pub fn settle(self) -> Micros {
        match self {
            Wall::Once(t) | Wall::Twice { first: t, .. } | Wall::Never { at: t } => t,
        }
    }
    /// True where the wall time is no single moment.
    pub fn is_doubtful(self) -> bool {
        !matches!(self, Wall::Once(_))
    }
}

/// Looks written times up on a clock, quickly where they mostly grow.
pub struct Walls {
    clock: Clock,
    /// Wall times around the last one that all lie at one offset, and the offset.
    plain: (Span, Micros),
}

impl Walls {
    /// Between UTC and the wall times of a clock.
    pub fn new(clock: Clock) -> Walls {
        Walls { clock, plain: (Span::new(0, 0), 0) }
    }

    /// As [`Clock::from_wall`].
    #[inline]
    pub fn read(&mut self, wall: Micros) -> Wall {
        match self.plain.0.holds(wall) {
            true => Wall::Once(wall - self.plain.1),
            false => self.look_up(wall),
        }
    }

    fn look_up(&mut self, wall: Micros) -> Wall {
        match self.clock.plain_span(wall) {
            Some(plain) => {
                self.plain = plain;
                Wall::Once(wall - plain.1)
            }
            None => self.clock.from_wall(wall),
        }
    }
}

/// A zone of the bundled database.
#[derive(Clone)]
struct Zone {
    /// The database's own spelling, whatever was typed.
    name: Arc<str>,
    stretches: Arc<[OffsetSpan]>,
}

/// Zones that were looked up, by the name that was asked for: a table is made once for all clocks.
static ZONES: LazyLock<Mutex<HashMap<String, Zone>>> = LazyLock::new(Mutex::default);

impl Zone {
    fn named(name: &str) -> Result<Zone> {
        // A thread that broke off left the tables it had made whole.
        let known = |zones: &mut HashMap<String, Zone>| zones.get(name).cloned();
        if let Some(zone) = known(&mut ZONES.lock().unwrap_or_else(PoisonError::into_inner)) {
            return Ok(zone);
        }
        let zone = Zone::read(name)?;
        ZONES.lock().unwrap_or_else(PoisonError::into_inner).insert(name.to_owned(), zone.clone());
        Ok(zone)
    }

    fn read(name: &str) -> Result<Zone> {
        let tz = jiff::tz::TimeZone::get(name).map_err(|_| {
            Error::arguments(format!(
                "'{name}' is not a time zone; write one as Europe/Oslo, or a fixed clock as UTC+3."
            ))
        })?;
        let stamp = |t: Micros| jiff::Timestamp::from_microsecond(t).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
        let offset = |o: jiff::tz::Offset| o.seconds() as Micros * SECOND;
        let mut stretches =
            vec![OffsetSpan { from: Micros::MIN, offset: offset(tz.to_offset(stamp(EARLIEST))) }];
        for change in tz.following(stamp(EARLIEST)).take_while(|c| c.timestamp() < stamp(LATEST)) {
            let next = offset(change.offset());
            if stretches.last().is_none_or(|s| s.offset != next) {
                stretches.push(OffsetSpan { from: change.timestamp().as_microsecond(), offset: next });
            }
        }
        Ok(Zone { name: tz.iana_name().unwrap_or(name).into(), stretches: stretches.into() })
    }
}

impl Clock {
    /// Coordinated universal time.
    pub fn utc() -> Clock {
        Clock::fixed(0)
    }

    /// A fixed offset from UTC in microseconds (whole seconds are kept).
    pub fn fixed(offset: Micros) -> Clock {
        let offset = offset / SECOND * SECOND;
        let text = if offset == 0 { "UTC".into() } else { format!("UTC{}", signed_hours(offset)) };
        Clock {
            text: text.into(),
            zone: None,
            shift: offset,
            stretches: Arc::new([OffsetSpan { from: Micros::MIN, offset }]),
            follow: Arc::new([]),
        }
    }

    /// A zone of the bundled database plus a shift.
    ///
    /// # Errors
    /// One sentence where the database has no such zone.
    pub fn zone(name: &str, shift: Micros) -> Result<Clock> {
        let Zone { name, stretches } = Zone::named(name)?;
        let (text, stretches) = match shift {
            0 => (name.clone(), stretches),
            shift => {
                let moved = |s: &OffsetSpan| OffsetSpan { offset: s.offset + shift, ..*s };
                let text = format!("{name}{}", super::time::length_as_typed(shift));
                (text.into(), stretches.iter().map(moved).collect())
            }
        };
        Ok(Clock { text, zone: Some(name), shift, stretches, follow: Arc::new([]) })
    }

    /// A clock that was changed: `first`, then others, each from a moment on, in order of time.
    pub fn piecewise(first: &Clock, changes: &[(Micros, Clock)]) -> Clock {
        let mut text = first.to_string();
        let mut stretches: Vec<OffsetSpan> = first.stretches.to_vec();
        for (from, clock) in changes {
            let date = if from.rem_euclid(DAY) == 0 {
                super::time::date(from.div_euclid(DAY))
            } else {
                super::time::rfc3339(*from)
            };
            text.push_str(&format!(", from {date} {clock}"));
            stretches.retain(|s| s.from < *from);
            stretches.push(OffsetSpan { from: *from, offset: clock.offset_at(*from) });
            stretches.extend(clock.stretches.iter().filter(|s| s.from > *from));
        }
        Clock { text: text.into(), zone: None, shift: 0, stretches: stretches.into(), follow: changes.into() }
    }

    /// The same clock ahead by a length, with all its changes at the moments they are.
    ///
    /// # Errors
    /// One sentence where the database has lost the zone.
    pub fn shifted(&self, by: Micros) -> Result<Clock> {
        let one = |clock: &Clock| match clock.parts() {
            (Some(zone), shift) => Clock::zone(zone, shift + by),
            (None, shift) => Ok(Clock::fixed(shift + by)),
        };
        if self.follow.is_empty() {
            return one(self);
        }
        let first: Clock = self.text.split(", from ").next().unwrap_or_default().parse()?;
        let follow: Vec<(Micros, Clock)> =
            self.follow.iter().map(|(at, clock)| Ok((*at, one(clock)?))).collect::<Result<_>>()?;
        Ok(Clock::piecewise(&one(&first)?, &follow))
    }

    /// The moments at which this clock was changed for another; none for a single clock.
    pub fn changes(&self) -> &[(Micros, Clock)] {
        &self.follow
    }

    /// The zone's name and the shift added to it; no name for a fixed offset.
    pub fn parts(&self) -> (Option<&str>, Micros) {
        (self.zone.as_deref(), self.shift)
    }

    fn stretch_at(&self, utc: Micros) -> usize {
        self.stretches.partition_point(|s| s.from <= utc).saturating_sub(1)
    }

    /// Wall time minus UTC at a moment.
    pub fn offset_at(&self, utc: Micros) -> Micros {
        self.stretches[self.stretch_at(utc)].offset
    }

    /// What the wall shows at a moment.
    pub fn to_wall(&self, utc: Micros) -> Micros {
        utc + self.offset_at(utc)
    }

    /// The moment or moments at which the wall shows `wall`.
    pub fn from_wall(&self, wall: Micros) -> Wall {
        // No offset reaches two days, so the stretch is one of those around here.
        let low = self.stretch_at(wall - 2 * DAY);
        let high = self.stretch_at(wall + 2 * DAY);
        let mut found: Option<Micros> = None;
        for i in low..=high {
            let s = self.stretches[i];
            let until = self.stretches.get(i + 1).map_or(Micros::MAX, |n| n.from);
            let utc = wall - s.offset;
            if s.from <= utc && utc < until {
                match found {
                    None => found = Some(utc),
                    Some(first) => return Wall::Twice { first, second: utc },
                }
            }
        }
        match found {
            Some(utc) => Wall::Once(utc),
            None => {
                let jump = (low + 1..=high)
                    .find(|&i| wall < self.stretches[i].from + self.stretches[i].offset)
                    .unwrap_or(high);
                Wall::Never { at: self.stretches[jump].from }
            }
        }
    }

    /// The span of wall times around `wall` that all happened once, with the offset they share; none where
    /// `wall` itself is doubtful.
    pub fn plain_span(&self, wall: Micros) -> Option<(Span, Micros)> {
        let Wall::Once(utc) = self.from_wall(wall) else { return None };
        let at = self.stretch_at(utc);
        let here = self.stretches[at];
        let from = match at.checked_sub(1) {
            Some(before) => here.from + here.offset.max(self.stretches[before].offset),
            None => Micros::MIN,
        };
        let to = self.stretches.get(at + 1).map_or(Micros::MAX, |n| n.from + here.offset.min(n.offset));
        Some((Span::new(from, to), here.offset))
    }

    /// The moment at which a day (days since 1970-01-01 on this wall) begins.
    pub fn day_start(&self, day: i64) -> Micros {
        self.from_wall(day * DAY).settle()
    }

    /// The day on this wall that holds a moment.
    pub fn day_of(&self, utc: Micros) -> i64 {
        self.to_wall(utc).div_euclid(DAY)
    }

    /// The clock in words, for people: what its midnight is.
    pub fn in_words(&self) -> String {
        if let [.., (from, last)] = &*self.follow {
            let (times, date) = (self.follow.len(), super::time::date(from.div_euclid(DAY)));
            let changed = if times == 1 { "changed once".into() } else { format!("changed {times} times") };
            return format!("{changed}; since {date} {}", last.in_words());
        }
        match (&self.zone, self.shift) {
            (None, 0) => "universal time".into(),
            (None, _) => "the same distance from UTC all year".into(),
            (Some(zone), 0) => format!("local time of {}", city(zone)),
            (Some(zone), shift) => {
                let midnight = (-shift).rem_euclid(DAY);
                format!("midnight is {:02}:{:02} in {}", midnight / HOUR, midnight / MINUTE % 60, city(zone))
            }
        }
    }
}

fn city(zone: &str) -> String {
    zone.rsplit('/').next().unwrap_or(zone).replace('_', " ")
}

/// `+3`, `-3:30`.
fn signed_hours(offset: Micros) -> String {
    let sign = if offset < 0 { '-' } else { '+' };
    let a = offset.abs();
    match (a / HOUR, a / MINUTE % 60, a / SECOND % 60) {
        (h, 0, 0) => format!("{sign}{h}"),
        (h, m, 0) => format!("{sign}{h}:{m:02}"),
        (h, m, s) => format!("{sign}{h}:{m:02}:{s:02}"),
    }
}

impl fmt::Display for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl PartialEq for Clock {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}
impl Eq for Clock {}

impl FromStr for Clock {
    type Err = Error;

    fn from_str(text: &str) -> Result<Clock> {
        let text = text.trim();
        if let Some((first, rest)) = text.split_once(", from ") {
            let first: Clock = first.parse()?;
            let mut changes: Vec<(Micros, Clock)> = Vec::new();
            for part in rest.split(", from ") {
                let change = part.split_once(' ').ok_or_else(|| {
                    Error::arguments(format!(
                        "'{text}' is not a clock; a change is written UTC+2, from 2023-06-04 UTC+3."
                    ))
                })?;
                let from = super::time::parse(change.0)?;
                if changes.last().is_some_and(|c| c.0 >= from) {
                    return Err(Error::arguments(format!(
                        "The changes of the clock '{text}' are not in order of time."
                    )));
                }
                changes.push((from, change.1.parse()?));
            }
            return Ok(Clock::piecewise(&first, &changes));
        }
        let upper = text.to_ascii_uppercase();
        if let Some(rest) = upper.strip_prefix("UTC")
            && (rest.is_empty() || rest.starts_with(['+', '-']))
        {
            return fixed_offset(rest).map(Clock::fixed).ok_or_else(|| {
                Error::arguments(format!(
                    "'{text}' is not a clock; a fixed one is written UTC, UTC+3 or UTC-3:30."
                ))
            });
        }
        // Zone names may hold a minus (Etc/GMT-3), so the shift is only what ends in a unit.
        match text.rfind(['+', '-']) {
            Some(at)
                if text.ends_with(['h', 'm', 's'])
                    && text[at + 1..].starts_with(|c: char| c.is_ascii_digit()) =>
            {
                let shift = super::time::parse_length(&text[at..])?;
                if shift.abs() > DAY {
                    return Err(Error::arguments(format!(
                        "The clock '{text}' is shifted by more than a day."
                    )));
                }
                Clock::zone(&text[..at], shift)
            }
            _ => Clock::zone(text, 0),
        }
    }
}

/// Reads ``, `+3`, `-3:30`.
fn fixed_offset(text: &str) -> Option<Micros> {
    if text.is_empty() {
        return Some(0);
    }
    let sign = if text.starts_with('-') { -1 } else { 1 };
    let (hours, minutes) = text[1..].split_once(':').unwrap_or((&text[1..], "0"));
    let part = |t: &str, max| t.parse::<u8>().ok().filter(|&n| n <= max).map(i64::from);
    Some(sign * (part(hours, 18)? * HOUR + part(minutes, 59)? * MINUTE))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;

    fn at(text: &str) -> Micros {
        parse(text).unwrap()
    }

    #[test]
    fn clocks_read_as_written() {
        for text in ["UTC", "UTC+3", "UTC-3:30", "Europe/Oslo", "America/New_York+7h", "Europe/London-1h30m"]
        {
            assert_eq!(text.parse::<Clock>().unwrap().to_string(), text);
        }
        assert_eq!("europe/oslo".parse::<Clock>().unwrap().to_string(), "Europe/Oslo");
        for bad in ["", "UTC+", "UTC+99", "Mars/Olympus", "Europe/Oslo+99h", "+3h", "UTC3"] {
            assert!(bad.parse::<Clock>().is_err(), "{bad}");
        }
    }

    #[test]
    fn new_york_and_seven_hours_keeps_midnight_at_seventeen() {
        let clock: Clock = "America/New_York+7h".parse().unwrap();
        assert_eq!(clock.to_wall(at("2024-01-15 22:00")), at("2024-01-16"));
        assert_eq!(clock.to_wall(at("2024-03-12 21:00")), at("2024-03-13"));
        assert_eq!(clock.in_words(), "midnight is 17:00 in New York");
    }

    #[test]
    fn a_clock_that_was_changed_reads_as_written_and_comes_back() {
        let text = "UTC+2, from 2023-06-04 America/New_York+7h, from 2024-02-04T12:00:00Z UTC";
        let clock: Clock = text.parse().unwrap();
        assert_eq!(clock.to_string(), text);
        let hours = ["2023-01-10", "2023-06-03 23:59", "2023-06-04", "2023-12-01", "2024-02-04 12:00"];
        assert_eq!(hours.map(|t| clock.offset_at(at(t)) / HOUR), [2, 2, 3, 2, 0]);
        assert_eq!(clock.from_wall(clock.to_wall(at("2023-12-01"))), Wall::Once(at("2023-12-01")));
        assert_eq!(clock.from_wall(at("2023-06-04 02:30")), Wall::Never { at: at("2023-06-04") });
        for bad in ["UTC, from", "UTC, from soon UTC+1", "UTC, from 2024-01-01 UTC+1, from 2023-01-01 UTC"] {
            assert!(bad.parse::<Clock>().is_err(), "{bad}");
        }
    }

    #[test]
    fn clocks_of_one_zone_share_its_table() {
        let (once, again) = (Clock::zone("Europe/Oslo", 0).unwrap(), Clock::zone("Europe/Oslo", 0).unwrap());
        assert!(Arc::ptr_eq(&once.stretches, &again.stretches));
        let shifted = Clock::zone("Europe/Oslo", HOUR).unwrap();
        let summer = at("2024-07-01 12:00");
        assert_eq!(shifted.offset_at(summer), once.offset_at(summer) + HOUR);
        assert!(Clock::zone("Europe/Nowhere", 0).is_err());
    }

    #[test]
    fn doubtful_wall_times_are_values() {
        let oslo: Clock = "Europe/Oslo".parse().unwrap();
        assert_eq!(oslo.from_wall(at("2024-03-31 02:30")), Wall::Never { at: at("2024-03-31 01:00") });
        assert_eq!(
            oslo.from_wall(at("2024-10-27 02:30")),
            Wall::Twice { first: at("2024-10-27 00:30"), second: at("2024-10-27 01:30") }
        );
        assert_eq!(oslo.from_wall(at("2024-10-27 03:00")), Wall::Once(at("2024-10-27 02:00")));
    }

    #[test]
    fn every_moment_comes_back_through_every_kind_of_clock() {
        for text in
            ["UTC-9:30", "Pacific/Chatham", "Australia/Lord_Howe", "America/New_York+7h", "Asia/Kolkata"]
        {
            let clock: Clock = text.parse().unwrap();
            let zone = clock.parts().0.map(|z| jiff::tz::TimeZone::get(z).unwrap());
            let mut t = at("1970-01-01");
            while t < at("2040-01-01") {
                if let Some(zone) = &zone {
                    let by_library = zone.to_offset(jiff::Timestamp::from_microsecond(t).unwrap()).seconds();
                    assert_eq!(clock.offset_at(t), by_library as i64 * SECOND + clock.shift);
                }
                match clock.from_wall(clock.to_wall(t)) {
                    Wall::Once(back) => assert_eq!(back, t),
                    Wall::Twice { first, second } => assert!(first == t || second == t),
                    Wall::Never { .. } => panic!("{text} never showed {t}"),
                }
                t += 37 * MINUTE * 11;
            }
        }
    }
}
