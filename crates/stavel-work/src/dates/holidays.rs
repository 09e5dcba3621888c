//! Holidays out of files: lines as the spec sheet has them, or an iCalendar (RFC 5545).

use std::path::Path;

use stavel_core::model::session::Holiday;
use stavel_core::model::time::{DAY, MINUTE, date};
use stavel_core::model::{Clock, Micros};
use stavel_core::{Error, Result};

use super::ics::{CalendarEvent, EventTime, is_calendar, read_calendar};

/// The holidays in a file, as the spec sheet has them: `2024-12-25, 2024-12-24 -13:00`. Times of an iCalendar are turned to
/// the wall of `zone`, in which the session's hours are told.
///
/// # Errors
/// Where the file cannot be read, or has a day or an event that cannot be understood: with its line or its name.
pub fn holidays_in(path: &Path, zone: &Clock) -> Result<String> {
    let text = std::fs::read_to_string(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    let place = path.display().to_string();
    let mut days = Vec::new();
    if is_calendar(&text) {
        for event in read_calendar(&text, &place)?.iter().filter(|event| !event.is_cancelled) {
            days.extend(closed_days(event, zone, &place)?);
        }
        days.sort();
        days.dedup();
    } else {
        days = of_lines(&place, &text)?;
    }
    if days.is_empty() {
        return Err(Error::input(format!("{place} has no holidays; the sheet stays as it is.")));
    }
    Ok(days.join(", "))
}

/// One day a line, or several divided by commas; what follows a `#` is a note.
fn of_lines(place: &str, text: &str) -> Result<Vec<String>> {
    let mut out = Vec::new();
    for (number, line) in text.lines().enumerate() {
        let plain = line.split('#').next().unwrap_or_default();
        for part in plain.split([',', ';']).map(str::trim).filter(|p| !p.is_empty()) {
            // A header such as `date` stands above the days.
            let is_head = number == 0 && !part.contains(|c: char| c.is_ascii_digit());
            if !is_head {
                part.parse::<Holiday>()
                    .map_err(|e| Error::input(format!("{place} line {}: {e}", number + 1)))?;
                out.push(part.to_owned());
            }
        }
    }
    Ok(out)
}

/// The days that an event closes, as the spec sheet has them, on the wall of a zone.
///
/// # Errors
/// Where it does not say when it ends.
pub fn closed_days(event: &CalendarEvent, zone: &Clock, place: &str) -> Result<Vec<String>> {
    let mut out = Vec::new();
    for time in &event.times {
        match time {
            EventTime::Days { first, next } => out.extend((*first..*next).map(date)),
            EventTime::Moments { from, to: Some(to) } => {
                let (from, to) = (from.on_wall(zone), to.on_wall(zone));
                let days = from.div_euclid(DAY)..=(to - 1).max(from).div_euclid(DAY);
                out.extend(days.map(|day| written(day, (from.max(day * DAY), to.min((day + 1) * DAY)))));
            }
            EventTime::Moments { to: None, .. } => {
                let name = stavel_core::error::printable(&event.name);
                return Err(Error::input(format!("{place}: {name}: it does not say when it ends.")));
            }
        }
    }
    Ok(out)
}

/// A day as the spec sheet has it: closed, or closed for a part of it.
fn written(day: i64, (from, to): (Micros, Micros)) -> String {
    let time = |t: Micros| {
        let minute = (t - day * DAY) / MINUTE;
        format!("{:02}:{:02}", minute / 60, minute % 60)
    };
    if from == day * DAY && to < (day + 1) * DAY {
        return format!("{} {}-", date(day), time(to));
    }
    // What is closed in the middle of a day closes it from there on: later hours are not known to be open.
    if from > day * DAY { format!("{} -{}", date(day), time(from)) } else { date(day) }
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
