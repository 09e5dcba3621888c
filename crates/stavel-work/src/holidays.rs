//! Holidays out of files: lines as the spec sheet has them, or an iCalendar (RFC 5545).

use std::path::Path;

use icalendar::{Calendar, CalendarComponent, CalendarDateTime, Component, DatePerhapsTime};
use stavel_core::model::session::Holiday;
use stavel_core::model::time::{DAY, MINUTE, date, parse};
use stavel_core::model::{Clock, Micros};
use stavel_core::{Error, Result};

/// Years after its first one for which an event that comes back every year is written down.
const YEARS: i32 = 30;

/// The holidays in a file, as the spec sheet has them: `2024-12-25, 2024-12-24 -13:00`. Times of an iCalendar are turned to
/// the wall of `zone`, in which the session's hours are told.
///
/// # Errors
/// Where the file cannot be read, or has a day or an event that cannot be understood: with its line or its name.
pub fn holidays_in(path: &Path, zone: &Clock) -> Result<String> {
    let text = std::fs::read_to_string(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    let days = if text.trim_start_matches('\u{feff}').trim_start().starts_with("BEGIN:VCALENDAR") {
        of_calendar(path, &text, zone)?
    } else {
        of_lines(path, &text)?
    };
    if days.is_empty() {
        return Err(Error::input(format!("{} has no holidays; the sheet stays as it is.", path.display())));
    }
    Ok(days.join(", "))
}

/// One day a line, or several divided by commas; what follows a `#` is a note.
fn of_lines(path: &Path, text: &str) -> Result<Vec<String>> {
    let mut out = Vec::new();
    for (number, line) in text.lines().enumerate() {
        let plain = line.split('#').next().unwrap_or_default();
        for part in plain.split([',', ';']).map(str::trim).filter(|p| !p.is_empty()) {
            // A header such as `date` stands above the days.
            let is_head = number == 0 && !part.contains(|c: char| c.is_ascii_digit());
            if !is_head {
                part.parse::<Holiday>()
                    .map_err(|e| Error::input(format!("{} line {}: {e}", path.display(), number + 1)))?;
                out.push(part.to_owned());
            }
        }
    }
    Ok(out)
}

fn of_calendar(path: &Path, text: &str, zone: &Clock) -> Result<Vec<String>> {
    let calendar: Calendar = text.parse().map_err(|e: String| {
        let first = e.lines().next().unwrap_or_default().to_owned();
        Error::input(format!("{} is no iCalendar that can be read ({first}).", path.display()))
    })?;
    let mut out = Vec::new();
    for component in &calendar.components {
        let CalendarComponent::Event(event) = component else { continue };
        let name = event.get_summary().unwrap_or("an event without a name").to_owned();
        let bad = |why: &str| Error::input(format!("{}: {name}: {why}.", path.display()));
        let start = event.get_start().ok_or_else(|| bad("it does not say when it begins"))?;
        let spans = match (start, event.get_end()) {
            (DatePerhapsTime::Date(first), end) => {
                let first = day_of(&first.to_string())?;
                let next = match end {
                    // The end of a day is the day after it.
                    Some(DatePerhapsTime::Date(next)) => day_of(&next.to_string())?.max(first + 1),
                    _ => first + 1,
                };
                (first..next).map(|day| (day, None)).collect::<Vec<_>>()
            }
            (DatePerhapsTime::DateTime(from), Some(DatePerhapsTime::DateTime(to))) => {
                let (from, to) = (on_wall(&from, zone)?, on_wall(&to, zone)?);
                if to <= from {
                    return Err(bad("it ends before it begins"));
                }
                let days = from.div_euclid(DAY)..=(to - 1).div_euclid(DAY);
                days.map(|day| (day, Some((from.max(day * DAY), to.min((day + 1) * DAY))))).collect()
            }
            (DatePerhapsTime::DateTime(_), _) => return Err(bad("it does not say when it ends")),
        };
        // What takes days away again, or adds some, is not passed over.
        if event
            .properties()
            .keys()
            .chain(event.multi_properties().keys())
            .any(|k| k == "EXDATE" || k == "RDATE")
        {
            return Err(bad(
                "it has single days of its own (EXDATE, RDATE), which cannot be written down; say them as lines",
            ));
        }
        let years = years_of(event.property_value("RRULE"), |rule| {
            bad(&format!(
                "it comes back by a rule that cannot be written down ({rule}); say its days as lines"
            ))
        })?;
        for (day, closed) in spans {
            for year in &years {
                out.extend(after_years(day, *year).map(|there| written(there, day, closed)));
            }
        }
    }
    out.sort();
    out.dedup();
    Ok(out)
}

fn day_of(text: &str) -> Result<i64> {
    Ok(parse(text)?.div_euclid(DAY))
}

/// A moment as the wall of a zone shows it.
fn on_wall(moment: &CalendarDateTime, zone: &Clock) -> Result<Micros> {
    Ok(match moment {
        // Without a zone of its own it is told on the wall of the session.
        CalendarDateTime::Floating(t) => parse(&t.to_string())?,
        CalendarDateTime::Utc(t) => zone.to_wall(parse(&t.naive_utc().to_string())?),
        CalendarDateTime::WithTimezone { date_time, tzid } => {
            let there: Clock = tzid.parse()?;
            zone.to_wall(there.from_wall(parse(&date_time.to_string())?).settle())
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
fn after_years(day: i64, years: i32) -> Option<i64> {
    let text = date(day);
    let (year, rest) = text.split_once('-')?;
    let year: i32 = year.parse().ok()?;
    day_of(&format!("{:04}-{rest}", year + years)).ok()
}

/// A day as the spec sheet has it: closed, or closed for a part of it.
fn written(there: i64, day: i64, closed: Option<(Micros, Micros)>) -> String {
    let time = |t: Micros| {
        let minute = (t - day * DAY) / MINUTE;
        format!("{:02}:{:02}", minute / 60, minute % 60)
    };
    match closed {
        Some((from, to)) if from > day * DAY && to == (day + 1) * DAY => {
            format!("{} -{}", date(there), time(from))
        }
        Some((from, to)) if from == day * DAY && to < (day + 1) * DAY => {
            format!("{} {}-", date(there), time(to))
        }
        // What is closed in the middle of a day closes it from there on: later hours are not known to be open.
        Some((from, _)) if from > day * DAY => format!("{} -{}", date(there), time(from)),
        _ => date(there),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<String> {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("days");
        std::fs::write(&path, text).unwrap();
        holidays_in(&path, &"Europe/Oslo".parse().unwrap())
    }

    fn event(lines: &str) -> String {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20240101T000000Z\r\n{lines}END:VEVENT\r\nEND:VCALENDAR\r\n"
        )
    }

    #[test]
    fn days_of_a_calendar_become_holidays() {
        let day = event("DTSTART;VALUE=DATE:20241225\r\nDTEND;VALUE=DATE:20241227\r\nSUMMARY:Christmas\r\n");
        assert_eq!(read(&day).unwrap(), "2024-12-25, 2024-12-26");
        let early = event("DTSTART:20241224T120000Z\r\nDTEND:20241224T230000Z\r\nSUMMARY:early\r\n");
        assert_eq!(read(&early).unwrap(), "2024-12-24 -13:00", "12:00 UTC is 13:00 in Oslo");
        let zone = event(
            "DTSTART;TZID=America/New_York:20240704T080000\r\nDTEND;TZID=America/New_York:20240704T180000\r\n",
        );
        assert_eq!(read(&zone).unwrap(), "2024-07-04 -14:00");
        let late = event("DTSTART:20240102T000000\r\nDTEND:20240102T100000\r\n");
        assert_eq!(read(&late).unwrap(), "2024-01-02 10:00-");
        let yearly = event("DTSTART;VALUE=DATE:20240101\r\nRRULE:FREQ=YEARLY;COUNT=3\r\n");
        assert_eq!(read(&yearly).unwrap(), "2024-01-01, 2025-01-01, 2026-01-01");
        let leap = event("DTSTART;VALUE=DATE:20240229\r\nRRULE:FREQ=YEARLY;COUNT=5\r\n");
        assert_eq!(read(&leap).unwrap(), "2024-02-29, 2028-02-29");
    }

    #[test]
    fn what_cannot_be_understood_is_told_with_its_place() {
        let told = |text: &str| read(text).unwrap_err().to_string();
        let weekly = event("DTSTART;VALUE=DATE:20240101\r\nRRULE:FREQ=WEEKLY\r\nSUMMARY:Mondays\r\n");
        assert!(
            told(&weekly)
                .contains("Mondays: it comes back by a rule that cannot be written down (FREQ=WEEKLY)"),
            "{}",
            told(&weekly)
        );
        assert!(told("date\n2024-12-25\nsoon\n").contains("line 3"), "{}", told("date\n2024-12-25\nsoon\n"));
        let until = event("DTSTART;VALUE=DATE:20240101\r\nRRULE:FREQ=YEARLY;UNTIL=20260101\r\n");
        assert!(told(&until).contains("UNTIL=20260101"), "{}", told(&until));
        let but = event("DTSTART;VALUE=DATE:20240101\r\nRRULE:FREQ=YEARLY\r\nEXDATE;VALUE=DATE:20250101\r\n");
        assert!(told(&but).contains("EXDATE"), "{}", told(&but));
        assert!(told("# nothing\n").contains("has no holidays"));
        assert!(told("BEGIN:VCALENDAR\nnonsense").contains("iCalendar"));
    }

    #[test]
    fn lines_are_taken_as_they_are() {
        assert_eq!(
            read("date\n2024-12-25 # closed\n2024-12-24 -13:00, 2024-12-31 -13:00\n").unwrap(),
            "2024-12-25, 2024-12-24 -13:00, 2024-12-31 -13:00"
        );
    }
}
