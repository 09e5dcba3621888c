//! Session weeks: when a market is open, on the wall of a zone, with holidays.

use std::fmt;
use std::str::FromStr;

use super::clock::Clock;
use super::time::{self, DAY, HOUR, MINUTE, Micros, Span};
use crate::{Error, Result};

/// Minutes in a week.
const WEEK_MINUTES: u32 = 7 * 24 * 60;
const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// Weekly opening hours as spans of minutes since Monday 00:00 on the wall of a zone.
///
/// Written `sun 17:00 - fri 17:00 America/New_York` (one span) or `mon-fri 08:00-17:00 Europe/Oslo`
/// (the same hours on each day); several parts are divided by commas, the zone comes last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionWeek {
    text: String,
    pub zone: Clock,
    /// Sorted, apart from each other; a span may end after the week does, never start there.
    spans: Vec<(u32, u32)>,
}

impl SessionWeek {
    /// Open at all times.
    pub fn always() -> SessionWeek {
        SessionWeek {
            text: "mon-sun 00:00-24:00 UTC".into(),
            zone: Clock::utc(),
            spans: vec![(0, WEEK_MINUTES)],
        }
    }

    /// The spans, in minutes since Monday 00:00; the last may run over the week's end.
    pub fn spans(&self) -> &[(u32, u32)] {
        &self.spans
    }

    /// True where the wall minute of the week (from Monday 00:00) is open.
    pub fn is_open_at_minute(&self, minute: u32) -> bool {
        self.spans.iter().any(|&(a, b)| (a..b).contains(&minute) || (a..b).contains(&(minute + WEEK_MINUTES)))
    }

    /// Open minutes in a week.
    pub fn minutes(&self) -> u32 {
        self.spans.iter().map(|(a, b)| b - a).sum()
    }
}

impl fmt::Display for SessionWeek {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl FromStr for SessionWeek {
    type Err = Error;

    fn from_str(text: &str) -> Result<SessionWeek> {
        let bad = || {
            Error::arguments(format!(
                "'{text}' is not a session week; write it as 'mon-fri 08:00-17:00 Europe/Oslo' or 'sun 17:00 - fri 17:00 America/New_York'."
            ))
        };
        let (hours, zone) = text.trim().rsplit_once(char::is_whitespace).ok_or_else(bad)?;
        let zone: Clock = zone.parse()?;
        let mut spans = Vec::new();
        for part in hours.split(',') {
            let words: Vec<&str> = part.split_whitespace().collect();
            match words.as_slice() {
                [from_day, from, "-", to_day, to] => {
                    let start = day(from_day).ok_or_else(bad)? * 1440 + minute(from).ok_or_else(bad)?;
                    let end = day(to_day).ok_or_else(bad)? * 1440 + minute(to).ok_or_else(bad)?;
                    spans.push((start, if end <= start { end + WEEK_MINUTES } else { end }));
                }
                [days, hours] => {
                    let (from, to) = hours.split_once('-').ok_or_else(bad)?;
                    let (from, to) = (minute(from).ok_or_else(bad)?, minute(to).ok_or_else(bad)?);
                    let to = if to <= from { to + 1440 } else { to };
                    for d in day_range(days).ok_or_else(bad)? {
                        spans.push((d * 1440 + from, d * 1440 + to));
                    }
                }
                _ => return Err(bad()),
            }
        }
        let text = format!("{} {zone}", hours.split_whitespace().collect::<Vec<_>>().join(" "));
        Ok(SessionWeek { text, zone, spans: joined(spans) })
    }
}

fn day(text: &str) -> Option<u32> {
    DAYS.iter().position(|d| text.eq_ignore_ascii_case(d)).map(|i| i as u32)
}

fn day_range(text: &str) -> Option<Vec<u32>> {
    match text.split_once('-') {
        None => Some(vec![day(text)?]),
        Some((a, b)) => {
            let (a, b) = (day(a)?, day(b)?);
            Some((0..=(b + 7 - a) % 7).map(|i| (a + i) % 7).collect())
        }
    }
}

fn minute(text: &str) -> Option<u32> {
    let (h, m) = text.split_once(':')?;
    let (h, m): (u32, u32) = (h.parse().ok()?, m.parse().ok()?);
    (h * 60 + m <= 1440 && m < 60).then_some(h * 60 + m)
}

/// Sorts spans and joins those that touch.
fn joined(mut spans: Vec<(u32, u32)>) -> Vec<(u32, u32)> {
    spans.sort_unstable();
    let mut out: Vec<(u32, u32)> = Vec::new();
    for (a, b) in spans {
        match out.last_mut() {
            Some(last) if a <= last.1 => last.1 = last.1.max(b),
            _ => out.push((a, b)),
        }
    }
    out
}

/// When an instrument trades: its session week, its holidays and the clock of its session days.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    pub week: SessionWeek,
    /// On whose wall a session day is a calendar day.
    pub clock: Clock,
    /// Session days (days since 1970-01-01) on which nothing trades, sorted.
    pub holidays: Vec<i64>,
}

impl Session {
    /// The spans of UTC time within `span` in which the market is open, in order.
    pub fn open_spans(&self, span: Span) -> Vec<Span> {
        let zone = &self.week.zone;
        let mut out: Vec<Span> = Vec::new();
        let last_monday = time::monday_of(zone.day_of(span.to));
        let mut monday = time::monday_of(zone.day_of(span.from)) - 7;
        while monday <= last_monday {
            for &(a, b) in &self.week.spans {
                let at = |m: u32| zone.from_wall(monday * DAY + m as Micros * MINUTE).settle();
                if let Some(open) = Span::new(at(a), at(b)).overlap(&span) {
                    match out.last_mut() {
                        Some(last) if last.to >= open.from => last.to = last.to.max(open.to),
                        _ => out.push(open),
                    }
                }
            }
            monday += 7;
        }
        self.without_holidays(out)
    }

    fn without_holidays(&self, spans: Vec<Span>) -> Vec<Span> {
        let closed: Vec<Span> = self.holidays.iter().map(|&d| self.day_span(d)).collect();
        if closed.is_empty() {
            return spans;
        }
        let mut out = Vec::with_capacity(spans.len() + closed.len());
        for mut span in spans {
            let first = closed.partition_point(|c| c.to <= span.from);
            for c in closed[first..].iter().take_while(|c| c.from < span.to) {
                if span.from < c.from {
                    out.push(Span::new(span.from, c.from));
                }
                span.from = span.to.min(c.to);
            }
            if span.from < span.to {
                out.push(span);
            }
        }
        out
    }

    /// The UTC span of a session day: midnight to midnight on the session's clock.
    pub fn day_span(&self, day: i64) -> Span {
        Span::new(self.clock.day_start(day), self.clock.day_start(day + 1))
    }

    /// When the bars of a session day begin to count: its midnight where the market is open then,
    /// else its first opening; its midnight where it does not open at all. Holidays are not looked at,
    /// so that a day's grid never depends on the calendar's completeness.
    pub fn day_opening(&self, day: i64) -> Micros {
        let span = self.day_span(day);
        let wall = self.week.zone.to_wall(span.from);
        let minute_of_week = ((wall - time::monday_of(time::day_of(wall)) * DAY) / MINUTE) as u32;
        if self.week.is_open_at_minute(minute_of_week) {
            return span.from;
        }
        let next =
            self.week.spans.iter().map(|&(a, _)| (a + WEEK_MINUTES - minute_of_week) % WEEK_MINUTES).min();
        let opening = next.map_or(span.from, |minutes| {
            self.week.zone.from_wall(wall / MINUTE * MINUTE + minutes as Micros * MINUTE).settle()
        });
        if span.holds(opening) { opening } else { span.from }
    }

    /// True where the session week opens the market at some time of the session day.
    pub fn opens_on(&self, day: i64) -> bool {
        let span = self.day_span(day);
        let week_only = Session { holidays: Vec::new(), ..self.clone() };
        !week_only.open_spans(span).is_empty()
    }
}

/// Walks open spans alongside times that mostly grow.
pub struct OpenHours {
    spans: Vec<Span>,
    at: usize,
}

impl OpenHours {
    /// Opening hours of a session over a span of time.
    pub fn new(session: &Session, span: Span) -> OpenHours {
        OpenHours { spans: session.open_spans(span), at: 0 }
    }

    /// The spans walked over.
    pub fn spans(&self) -> &[Span] {
        &self.spans
    }

    /// True where the market is open at `t`.
    #[inline]
    pub fn is_open(&mut self, t: Micros) -> bool {
        if let Some(s) = self.spans.get(self.at)
            && s.holds(t)
        {
            return true;
        }
        self.at = self.spans.partition_point(|s| s.to <= t);
        self.spans.get(self.at).is_some_and(|s| s.from <= t)
    }

    /// Open time between two moments, in microseconds.
    pub fn open_between(&self, from: Micros, to: Micros) -> Micros {
        let first = self.spans.partition_point(|s| s.to <= from);
        self.spans[first..].iter().take_while(|s| s.from < to).map(|s| s.to.min(to) - s.from.max(from)).sum()
    }
}

/// Hours of the week (0 = Monday 00:00) that a session is open, for pictures of the week.
pub fn open_quarters(week: &SessionWeek) -> Vec<bool> {
    (0..WEEK_MINUTES).step_by((HOUR / MINUTE / 4) as usize).map(|m| week.is_open_at_minute(m)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{parse, wall};

    fn forex() -> Session {
        Session {
            week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
            clock: "America/New_York+7h".parse().unwrap(),
            holidays: vec![time::day_of(parse("2024-12-25").unwrap())],
        }
    }

    #[test]
    fn weeks_read_and_write() {
        let week: SessionWeek = "mon-fri 09:00-12:00, mon-fri 13:00-17:30 Europe/Oslo".parse().unwrap();
        assert_eq!(week.minutes(), 5 * (180 + 270));
        assert_eq!(week.to_string(), "mon-fri 09:00-12:00, mon-fri 13:00-17:30 Europe/Oslo");
        let overnight: SessionWeek = "sun-thu 18:00-17:00 Europe/Oslo".parse().unwrap();
        assert!(overnight.is_open_at_minute(60) && !overnight.is_open_at_minute(17 * 60 + 30));
        assert_eq!(forex().week.minutes(), 5 * 1440);
        for bad in [
            "",
            "UTC",
            "mon 08:00 UTC",
            "xxx-fri 08:00-17:00 UTC",
            "mon-fri 25:00-26:00 UTC",
            "mon-fri 08:00-17:00",
        ] {
            assert!(bad.parse::<SessionWeek>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_forex_week_follows_new_york_and_rests_on_christmas() {
        let span = Span::new(parse("2024-03-04").unwrap(), parse("2024-03-18").unwrap());
        let open: Vec<String> =
            forex().open_spans(span).iter().map(|s| format!("{} {}", wall(s.from), wall(s.to))).collect();
        assert_eq!(
            open,
            [
                "2024-03-04 00:00 2024-03-08 22:00",
                "2024-03-10 21:00 2024-03-15 21:00",
                "2024-03-17 21:00 2024-03-18 00:00"
            ]
        );
        let hours =
            OpenHours::new(&forex(), Span::new(parse("2024-12-23").unwrap(), parse("2024-12-28").unwrap()));
        assert_eq!(hours.spans().len(), 2);
        assert_eq!(hours.spans()[1].from, parse("2024-12-25 22:00").unwrap());
    }

    #[test]
    fn a_session_day_begins_with_its_first_opening() {
        let day = time::day_of(parse("2024-03-05").unwrap());
        assert_eq!(wall(forex().day_opening(day)), "2024-03-04 22:00");
        let floor = Session {
            week: "mon-fri 08:00-17:00 Europe/Oslo".parse().unwrap(),
            clock: "Europe/Oslo".parse().unwrap(),
            holidays: vec![],
        };
        assert_eq!(wall(floor.day_opening(day)), "2024-03-05 07:00");
        assert!(!floor.opens_on(day + 4) && floor.opens_on(day));
    }
}
