//! Session weeks: when a market is open, on the wall of a zone, with holidays.

use std::collections::BTreeMap;
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
    /// The clock its hours are told in.
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

    /// The first time of the week that its text says twice, as `tue 11:00`; none where its hours only touch.
    pub fn said_twice(&self) -> Option<String> {
        let (hours, _) = self.text.rsplit_once(char::is_whitespace)?;
        let mut spans = spans_of(hours)?;
        // A span over the week's end lies in the next week's beginning too.
        spans.extend(spans.clone().iter().map(|(a, b)| (a + WEEK_MINUTES, b + WEEK_MINUTES)));
        spans.sort_unstable();
        let at = spans.windows(2).find(|w| w[1].0 < w[0].1)?[1].0 % WEEK_MINUTES;
        Some(format!("{} {:02}:{:02}", DAYS[(at / 1440) as usize], at % 1440 / 60, at % 60))
    }

    /// Open minutes in a week.
    pub fn minutes(&self) -> u32 {
        self.spans.iter().map(|(a, b)| b - a).sum()
    }
}

impl SessionWeek {
    /// The week that is open in these quarters of an hour, from Monday 00:00 on the wall of a zone; none where it is
    /// never open.
    pub fn of_quarters(open: &[bool], zone: &Clock) -> Option<SessionWeek> {
        let count = (WEEK_MINUTES / 15) as usize;
        let is_open = |slot: usize| open.get(slot % count).copied().unwrap_or_default();
        if (0..count).all(is_open) {
            return week_in_words(&[(0, WEEK_MINUTES)], zone).parse().ok();
        }
        // From a closed quarter on, so that no run is cut by the end of the week.
        let start = (0..count).find(|slot| !is_open(*slot))?;
        let mut runs: Vec<(u32, u32)> = Vec::new();
        for slot in start..start + count {
            let minute = slot as u32 * 15;
            match runs.last_mut() {
                Some(run) if is_open(slot) && run.1 == minute => run.1 += 15,
                _ if is_open(slot) => runs.push((minute, minute + 15)),
                _ => {}
            }
        }
        runs.iter_mut()
            .filter(|r| r.0 >= WEEK_MINUTES)
            .for_each(|r| *r = (r.0 - WEEK_MINUTES, r.1 - WEEK_MINUTES));
        runs.sort_unstable();
        if runs.is_empty() { None } else { week_in_words(&runs, zone).parse().ok() }
    }
}

/// Open runs, in minutes since Monday 00:00, as a session week is written; a run over the week's end ends after it.
pub fn week_in_words(runs: &[(u32, u32)], wall: &Clock) -> String {
    const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let at = |m: u32| format!("{:02}:{:02}", m % 1440 / 60, m % 60);
    let mut parts: Vec<String> = Vec::new();
    let mut by_hours: BTreeMap<(u32, u32), Vec<u32>> = BTreeMap::new();
    for &(from, to) in runs {
        if to - from >= 1440 && to - from < 7 * 1440 {
            let day = |m: u32| DAYS[(m / 1440 % 7) as usize];
            parts.push(format!("{} {} - {} {}", day(from), at(from), day(to), at(to)));
        } else if to - from >= 7 * 1440 {
            parts.push("mon-sun 00:00-24:00".into());
        } else {
            by_hours.entry((from % 1440, (to - from))).or_default().push(from / 1440);
        }
    }
    for ((from, length), mut days) in by_hours {
        days.sort_unstable();
        let to = if from + length == 1440 { "24:00".into() } else { at(from + length) };
        // Sunday belongs before Monday where a week begins then.
        if days.contains(&6) && days.contains(&0) && !days.contains(&5) {
            days.pop();
            days.insert(0, 6);
        }
        for run in days.chunk_by(|a, b| (a + 1) % 7 == *b) {
            let name = |d: u32| DAYS[d as usize];
            let days = match run {
                [one] => name(*one).to_owned(),
                [first, .., last] => format!("{}-{}", name(*first), name(*last)),
                [] => continue,
            };
            parts.push(format!("{days} {}-{to}", at(from)));
        }
    }
    format!("{} {wall}", parts.join(", "))
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
        let spans = spans_of(hours).ok_or_else(bad)?;
        let text = format!("{} {zone}", hours.split_whitespace().collect::<Vec<_>>().join(" "));
        Ok(SessionWeek { text, zone, spans: joined(spans) })
    }
}

/// The spans of hours as they are written, in minutes since Monday 00:00; none where they cannot be read.
fn spans_of(hours: &str) -> Option<Vec<(u32, u32)>> {
    let mut spans = Vec::new();
    for part in hours.split(',') {
        // 'sun 17:00-fri 17:00' is 'sun 17:00 - fri 17:00'.
        let apart = match part.split_whitespace().collect::<Vec<_>>().as_slice() {
            [_, joint, _] if joint.contains('-') => part.replacen('-', " - ", 1),
            _ => part.to_owned(),
        };
        let words: Vec<&str> = apart.split_whitespace().collect();
        match words.as_slice() {
            [from_day, from, "-", to_day, to] => {
                let start = day(from_day)? * 1440 + minute(from)?;
                let end = day(to_day)? * 1440 + minute(to)?;
                spans.push((start, if end <= start { end + WEEK_MINUTES } else { end }));
            }
            [days, hours] => {
                let (from, to) = hours.split_once('-')?;
                let (from, to) = (minute(from)?, minute(to)?);
                let to = if to <= from { to + 1440 } else { to };
                for d in day_range(days)? {
                    spans.push((d * 1440 + from, d * 1440 + to));
                }
            }
            _ => return None,
        }
    }
    Some(spans)
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
    (h < 24 && m < 60 || (h, m) == (24, 0)).then(|| h * 60 + m)
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
    /// The usual week.
    pub week: SessionWeek,
    /// On whose wall a session day is a calendar day.
    pub clock: Clock,
    /// Session days with other hours than the week's, or none; sorted.
    pub holidays: Vec<Holiday>,
    /// What becomes of the hours of a Sunday before Monday's session day.
    pub sunday: SundayPart,
    /// When the price of a session day is settled; none where its close is the last price.
    pub settlement: Option<Settlement>,
}

/// A time of the day at which the price of a session day is settled: its close is the last price before it.
///
/// Written `14:30 Europe/Oslo`, or `14:30` on the wall of the session week's zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settlement {
    /// Minute of the wall's day.
    minute: u32,
    /// The wall; none means that of the session week.
    zone: Option<Clock>,
}

impl FromStr for Settlement {
    type Err = Error;

    fn from_str(text: &str) -> Result<Settlement> {
        let (time, zone) = text.trim().split_once(char::is_whitespace).unwrap_or((text.trim(), ""));
        let minute = minute(time).ok_or_else(|| {
            Error::arguments(format!(
                "'{text}' is not a settlement time; write it as '14:30 Europe/Oslo', or none."
            ))
        })?;
        let zone = Some(zone.trim()).filter(|zone| !zone.is_empty()).map(str::parse).transpose()?;
        Ok(Settlement { minute, zone })
    }
}

/// Some days of the week, written `mon-thu` or `mon,wed,fri`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Weekdays([bool; 7]);

impl Weekdays {
    /// True for a day (counted from 1970-01-01) of one of its weekdays.
    pub fn has(&self, day: i64) -> bool {
        self.0[time::weekday(day) as usize]
    }
}

impl fmt::Display for Weekdays {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let named: Vec<&str> =
            DAYS.iter().zip(self.0).filter(|(_, is_in)| *is_in).map(|(day, _)| *day).collect();
        f.write_str(&named.join(","))
    }
}

impl FromStr for Weekdays {
    type Err = Error;

    fn from_str(text: &str) -> Result<Weekdays> {
        let mut days = [false; 7];
        for part in text.split(',') {
            let part = day_range(part.trim()).ok_or_else(|| {
                Error::arguments(format!(
                    "'{text}' does not name days of the week; write mon-thu or mon,wed,fri."
                ))
            })?;
            part.into_iter().for_each(|day| days[day as usize] = true);
        }
        Ok(Weekdays(days))
    }
}

/// What becomes of a Sunday on which a market opens while its clock still shows Sunday, as on `Europe/Oslo`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, strum::EnumString, strum::Display)]
#[strum(serialize_all = "lowercase", parse_err_ty = Error, parse_err_fn = not_a_sunday)]
pub enum SundayPart {
    /// It is a short session day of its own.
    #[default]
    Own,
    /// It belongs to the session day of Monday.
    Monday,
}

fn not_a_sunday(text: &str) -> Error {
    Error::arguments(format!("'{text}' does not say what becomes of a Sunday's hours; write own or monday."))
}

/// A session day with hours of its own.
///
/// Written `2024-12-25` (closed), `2024-12-24 -13:00` (closes early), `2024-12-27 10:00-` (opens late) or
/// `2024-12-28 10:00-14:00` (only these hours), on the wall of the session week's zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Holiday {
    /// Days since 1970-01-01.
    pub day: i64,
    /// What trades on it.
    pub hours: DayHours,
}

/// Hours of one day in minutes of the wall's day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum DayHours {
    /// Nothing trades.
    Closed,
    /// It closes early, at this minute of the day.
    Until(u32),
    /// It opens late, at this minute of the day.
    From(u32),
    /// It trades between these minutes of the day.
    Only(u32, u32),
}

impl Holiday {
    /// A day on which nothing trades.
    pub fn closed(day: i64) -> Holiday {
        Holiday { day, hours: DayHours::Closed }
    }
}

impl FromStr for Holiday {
    type Err = Error;

    fn from_str(text: &str) -> Result<Holiday> {
        let text = text.trim();
        let (date, hours) = text.split_once(char::is_whitespace).unwrap_or((text, ""));
        let day = time::day_of(time::parse(date)?);
        let bad = || {
            Error::arguments(format!(
                "'{text}' is not a holiday; write 2024-12-25, or with hours 2024-12-24 -13:00 or 2024-12-24 10:00-14:00."
            ))
        };
        let hours = match hours.trim().split_once('-') {
            None if hours.trim().is_empty() => DayHours::Closed,
            None => return Err(bad()),
            Some(("", to)) => DayHours::Until(minute(to).ok_or_else(bad)?),
            Some((from, "")) => DayHours::From(minute(from).ok_or_else(bad)?),
            Some((from, to)) => DayHours::Only(minute(from).ok_or_else(bad)?, minute(to).ok_or_else(bad)?),
        };
        Ok(Holiday { day, hours })
    }
}

impl Session {
    /// Open at all times, by UTC.
    pub fn always() -> Session {
        Session {
            week: SessionWeek::always(),
            clock: Clock::utc(),
            holidays: Vec::new(),
            sunday: SundayPart::Own,
            settlement: None,
        }
    }

    /// When the price of a session day is settled; none where nobody has said a time.
    pub fn settlement_of(&self, day: i64) -> Option<Micros> {
        let settlement = self.settlement.as_ref()?;
        let zone = settlement.zone.as_ref().unwrap_or(&self.week.zone);
        let span = self.day_span(day);
        let at = |day: i64| zone.from_wall(day * DAY + Micros::from(settlement.minute) * MINUTE).settle();
        (zone.day_of(span.from)..=zone.day_of(span.to)).map(at).find(|at| span.from < *at && *at <= span.to)
    }

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
        self.with_holidays(out, span)
    }

    fn with_holidays(&self, spans: Vec<Span>, within: Span) -> Vec<Span> {
        if self.holidays.is_empty() {
            return spans;
        }
        let days: Vec<(Span, DayHours)> =
            self.holidays.iter().map(|h| (self.day_span(h.day), h.hours)).collect();
        let mut out = Vec::with_capacity(spans.len() + days.len());
        for mut span in spans {
            let first = days.partition_point(|(d, _)| d.to <= span.from);
            for (day, hours) in days[first..].iter().take_while(|(d, _)| d.from < span.to) {
                if span.from < day.from {
                    out.push(Span::new(span.from, day.from));
                }
                // Shorter hours are a part of the usual ones.
                let usual = span.overlap(day);
                out.extend(usual.and_then(|usual| self.part_of_day(*day, *hours)?.overlap(&usual)));
                span.from = span.to.min(day.to);
            }
            if span.from < span.to {
                out.push(span);
            }
        }
        let only = days.iter().filter(|(_, hours)| matches!(hours, DayHours::Only(..)));
        out.extend(only.filter_map(|(day, hours)| self.part_of_day(*day, *hours)?.overlap(&within)));
        out.sort_by_key(|s| s.from);
        Span::joined(out)
    }

    /// The part of a session day that its own hours leave; none where it is closed.
    fn part_of_day(&self, day: Span, hours: DayHours) -> Option<Span> {
        let zone = &self.week.zone;
        // The first moment at or after `from` at which the wall shows a minute of the day.
        let next = |from: Micros, minute: u32| {
            let wall = zone.to_wall(from);
            let due = minute as Micros * MINUTE - wall.rem_euclid(DAY);
            zone.from_wall(wall + due.rem_euclid(DAY)).settle()
        };
        let span = match hours {
            DayHours::Closed => return None,
            DayHours::Until(to) => Span::new(day.from, next(day.from + 1, to)),
            DayHours::From(from) => Span::new(next(day.from, from), day.to),
            DayHours::Only(from, to) => {
                let opens = next(day.from, from);
                Span::new(opens, next(opens + 1, to))
            }
        };
        span.overlap(&day)
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

    /// True where all session days of a span begin, open, close and settle at whole multiples of a length in UTC, so that
    /// no bar of that length reaches from one into another.
    pub fn is_on_grid(&self, length: Micros, span: Span) -> bool {
        let is_whole = |minute: u32| Micros::from(minute) * MINUTE % length == 0;
        let hours = self.week.spans.iter().all(|(from, to)| is_whole(*from) && is_whole(*to));
        let settles = self.settlement.as_ref().is_none_or(|settlement| is_whole(settlement.minute));
        let zone = self.settlement.as_ref().and_then(|settlement| settlement.zone.as_ref());
        let clocks: Vec<&Clock> = [&self.clock, &self.week.zone].into_iter().chain(zone).collect();
        // Clocks change by months at the most.
        let (year, month, _) = time::civil_from_days(time::day_of(span.from));
        let months = (0..).map(|n| year * 12 + month - 1 + n);
        let starts = months.map(|m| time::days_from_civil(m.div_euclid(12), m.rem_euclid(12) + 1, 1) * DAY);
        let is_on = |t: Micros| clocks.iter().all(|clock| (clock.to_wall(t) - t) % length == 0);
        let is_whole_day = |holiday: &Holiday| match holiday.hours {
            DayHours::Closed => true,
            DayHours::Until(at) | DayHours::From(at) => is_whole(at),
            DayHours::Only(from, to) => is_whole(from) && is_whole(to),
        };
        let days = self.holidays.iter().all(is_whole_day);
        hours && days && settles && starts.take_while(|t| *t < span.to).all(is_on)
    }

    /// True where the session week opens the market at some time of the session day.
    pub fn opens_on(&self, day: i64) -> bool {
        let span = self.day_span(day);
        let week_only = Session { holidays: Vec::new(), ..self.clone() };
        !week_only.open_spans(span).is_empty()
    }

    /// True where the trading week begins on a Sunday of the session's clock in some weeks of a year.
    pub fn has_sunday_part(&self) -> bool {
        // The weeks of 2024, whose first Sunday was 7 January.
        let first = time::days_from_civil(2024, 1, 7);
        (0..52).any(|week| self.week_begins_on(first + 7 * week))
    }

    /// True for a Sunday with which the trading week begins: it opens on that day and not on the day before.
    pub fn week_begins_on(&self, day: i64) -> bool {
        time::weekday(day) == 6 && self.opens_on(day) && !self.opens_on(day - 1)
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

    /// The open span that holds a time.
    pub fn span_at(&mut self, t: Micros) -> Option<Span> {
        if self.is_open(t) { self.spans.get(self.at).copied() } else { None }
    }

    /// The open parts of a span, in order.
    pub fn spans_in(&self, span: Span) -> Vec<Span> {
        let first = self.spans.partition_point(|s| s.to <= span.from);
        self.spans[first..].iter().map_while(|s| s.overlap(&span)).collect()
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
            holidays: vec!["2024-12-25".parse().unwrap()],
            sunday: SundayPart::Own,
            settlement: None,
        }
    }

    #[test]
    fn hours_that_overlap_are_told_and_those_that_touch_are_not() {
        let twice = |text: &str| text.parse::<SessionWeek>().unwrap().said_twice();
        for (text, at) in [
            ("mon-fri 08:00-12:00, mon-fri 11:00-15:00 UTC", "mon 11:00"),
            ("mon-fri 08:00-12:00, wed 08:00-12:00 Europe/Oslo", "wed 08:00"),
            ("sun 17:00-fri 17:00, tue 10:00-11:00 UTC", "tue 10:00"),
            ("sun 22:00 - mon 02:00, mon 01:00-03:00 UTC", "mon 01:00"),
        ] {
            assert_eq!(twice(text).as_deref(), Some(at), "{text}");
        }
        for text in [
            "mon-fri 08:00-12:00, mon-fri 12:00-15:00 UTC",
            "sun 17:00 - fri 17:00 America/New_York",
            "mon-sun 00:00-24:00 UTC",
            "mon-fri 22:00-06:00 UTC",
        ] {
            assert_eq!(twice(text), None, "{text}");
        }
        assert_eq!(SessionWeek::always().said_twice(), None);
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
    fn short_days_close_early_open_late_or_open_at_all() {
        let holidays = ["2024-12-24 -13:00", "2024-12-26 09:00-", "2024-12-28 10:00-14:00"];
        let session = Session {
            week: "mon-fri 08:00-17:00 Europe/Oslo".parse().unwrap(),
            clock: "Europe/Oslo".parse().unwrap(),
            holidays: holidays.iter().map(|h| h.parse().unwrap()).collect(),
            sunday: SundayPart::Own,
            settlement: None,
        };
        let span = Span::new(parse("2024-12-23 12:00").unwrap(), parse("2024-12-30").unwrap());
        let open: Vec<String> = session
            .open_spans(span)
            .iter()
            .map(|s| format!("{} {}", wall(s.from), &wall(s.to)[11..]))
            .collect();
        assert_eq!(
            open,
            [
                "2024-12-23 12:00 16:00",
                "2024-12-24 07:00 12:00",
                "2024-12-25 07:00 16:00",
                "2024-12-26 08:00 16:00",
                "2024-12-27 07:00 16:00",
                "2024-12-28 09:00 13:00",
            ]
        );
        // A currency's session day begins the evening before; an early close counts on its own wall.
        let early = Session { holidays: vec!["2024-12-24 -13:00".parse().unwrap()], ..forex() };
        let day = early.day_span(time::day_of(parse("2024-12-24").unwrap()));
        assert_eq!(early.open_spans(day), [Span::new(day.from, parse("2024-12-24 18:00").unwrap())]);
        for bad in ["soon", "2024-12-24 noon", "2024-12-24 25:00-"] {
            assert!(bad.parse::<Holiday>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_session_day_begins_with_its_first_opening() {
        let day = time::day_of(parse("2024-03-05").unwrap());
        assert_eq!(wall(forex().day_opening(day)), "2024-03-04 22:00");
        let floor = Session {
            week: "mon-fri 08:00-17:00 Europe/Oslo".parse().unwrap(),
            clock: "Europe/Oslo".parse().unwrap(),
            ..Session::always()
        };
        assert_eq!(wall(floor.day_opening(day)), "2024-03-05 07:00");
        assert!(!floor.opens_on(day + 4) && floor.opens_on(day));
    }

    #[test]
    fn a_week_of_quarters_is_written_and_read_as_the_same_quarters() {
        let zone: Clock = "Europe/Oslo".parse().unwrap();
        for text in [
            "mon-fri 08:00-17:00 Europe/Oslo",
            "sun 17:00 - fri 17:00 Europe/Oslo",
            "mon-thu 09:00-11:30, fri 09:00-24:00, sun 22:15-02:45 Europe/Oslo",
            "mon-sun 00:00-24:00 Europe/Oslo",
            "sat 23:45-00:15 Europe/Oslo",
        ] {
            let week: SessionWeek = text.parse().unwrap();
            let quarters = open_quarters(&week);
            let again = SessionWeek::of_quarters(&quarters, &zone).unwrap();
            assert_eq!(open_quarters(&again), quarters, "{text} became {again}");
        }
        assert!(SessionWeek::of_quarters(&vec![false; 672], &zone).is_none());
        let mut random = fastrand::Rng::with_seed(3);
        for _ in 0..200 {
            let quarters: Vec<bool> = (0..672).map(|i| random.u8(0..20) > 0 && (i / 7) % 3 > 0).collect();
            let again = SessionWeek::of_quarters(&quarters, &zone).unwrap();
            assert_eq!(open_quarters(&again), quarters, "{again}");
        }
    }
}
