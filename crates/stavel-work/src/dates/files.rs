//! Calendars in files: iCalendar, and JSON or CSV where it is said what they tell.

use std::path::{Path, PathBuf};

use serde_json::{Map, Value};
use stavel_core::model::Clock;
use stavel_core::store::{Shelf, fact_kind};
use stavel_core::{Error, Result};
use stavel_feed::client::{CalendarForm, FeedDates, Tells};

use super::ics::{is_calendar, read_calendar};
use super::{DatesTaken, DatesWish, ReadDates, bring_dates, entries_of};
use crate::report::StepReport;
use crate::step::IntakeStep;

/// True for a file that is a calendar: an iCalendar, or any where it is said what it tells.
pub fn is_of_dates(path: &Path, step: &IntakeStep) -> bool {
    step.tells.is_some() || path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("ics"))
}

/// Takes the calendars among the paths of a step in.
///
/// # Errors
/// Where one cannot be read, or leaves a question open. Those before it are not kept then.
pub fn dates_of_files(shelf: &mut Shelf, step: &IntakeStep, paths: &[PathBuf]) -> Result<StepReport> {
    let clock = match step.clock.as_deref() {
        Some("afloat") => {
            return Err(Error::arguments(
                "The times of a calendar are compared with nothing, so align cannot find their clock; say it.",
            ));
        }
        text => text.map(str::parse::<Clock>).transpose()?,
    };
    let mut taken = DatesTaken::default();
    let mut all: Vec<ReadDates> = Vec::new();
    for path in paths {
        let bytes = std::fs::read(path).map_err(|e| Error::io("Cannot read", path, &e))?;
        let place = path.display().to_string();
        let text =
            String::from_utf8(bytes).map_err(|_| Error::input(format!("{place} is no text in UTF-8.")))?;
        let is_ics = path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("ics"));
        if is_ics && !is_calendar(&text) {
            return Err(Error::input(format!(
                "{place} does not begin as an iCalendar does (BEGIN:VCALENDAR)."
            )));
        }
        let (dates, text) = understood(&text, &place, step.tells)?;
        let wish = DatesWish {
            dates: &dates,
            source: &step.source,
            about: step.instrument.as_deref(),
            clock: clock.as_ref(),
            place: &place,
        };
        let read = entries_of(&text, &wish, &|about| zone_of(shelf, about))?;
        if read.entries.is_empty() {
            let why = read.rejected.first().map_or(String::new(), |why| format!(" ({why})"));
            return Err(Error::input(format!(
                "{place} says nothing that can be taken in{why}; nothing was taken."
            )));
        }
        all.push(read);
    }
    for read in all {
        bring_dates(shelf, read, &mut taken)?;
    }
    let mut report = StepReport::new(Value::Null, Vec::new());
    taken.tell(&mut report);
    report.json = serde_json::json!({ "series": [], "facts": taken.json(), "rejected": taken.rejected });
    Ok(report)
}

/// The zone in which the session of an instrument is told, or that of what its name stands for; none where it is not on
/// the shelf.
pub fn zone_of(shelf: &Shelf, about: &str) -> Result<Option<Clock>> {
    for instrument in shelf.instruments()? {
        if shelf.names_of(&instrument.name)?.iter().any(|name| name == about) {
            return Ok(Some(instrument.sheet.session.week.zone));
        }
    }
    Ok(None)
}

/// How a file is to be read: its text, as JSON where it is a table.
fn understood(text: &str, place: &str, tells: Option<Tells>) -> Result<(FeedDates, String)> {
    if is_calendar(text) {
        let tells = match tells {
            Some(tells) => tells,
            None => tells_of(text, place)?,
        };
        return Ok((dates_with(tells, CalendarForm::Ics, &[]), text.to_owned()));
    }
    let tells = tells.ok_or_else(|| {
        Error::undecided(format!(
            "{place} does not say what it tells; say --tells events, holidays, actions or statements."
        ))
    })?;
    let plain = text.trim_start_matches('\u{feff}').trim_start();
    let list = match plain.starts_with(['[', '{']) {
        true => list_in(plain, place)?,
        false => rows_of(plain, place)?,
    };
    let keys: Vec<String> =
        list.iter().filter_map(Value::as_object).flat_map(|entry| entry.keys().cloned()).collect();
    Ok((dates_with(tells, CalendarForm::Json, &keys), Value::from(list).to_string()))
}

/// What an iCalendar tells, by its categories: holidays where each event says so, events where none does.
fn tells_of(text: &str, place: &str) -> Result<Tells> {
    let events = read_calendar(text, place)?;
    let is_holiday = |word: &String| {
        let word = word.to_lowercase();
        [fact_kind::HOLIDAY, "closed", "early close", "late open"].iter().any(|known| word.contains(known))
    };
    let said = events.iter().filter(|event| event.categories.iter().any(is_holiday)).count();
    match said {
        0 if !events.is_empty() => Err(Error::undecided(format!(
            "{place} does not say whether its days are holidays or events; say --tells holidays or --tells events."
        ))),
        n if n == events.len() => Ok(Tells::Holidays),
        _ => Err(Error::undecided(format!(
            "{place} has holidays among other events; say --tells holidays or --tells events, or take them in apart."
        ))),
    }
}

/// The list of entries in a document: the document itself, or the only list in it.
fn list_in(text: &str, place: &str) -> Result<Vec<Value>> {
    let document: Value =
        serde_json::from_str(text).map_err(|e| Error::input(format!("{place} is no JSON ({e}).")))?;
    let lists: Vec<&Vec<Value>> = match &document {
        Value::Array(list) => vec![list],
        Value::Object(entries) => entries.values().filter_map(Value::as_array).collect(),
        _ => Vec::new(),
    };
    match lists.as_slice() {
        [list] => Ok((*list).clone()),
        _ => Err(Error::input(format!("{place} has no list of entries, or several; leave one of them."))),
    }
}

/// The rows of a table (CSV with a header) as entries.
fn rows_of(text: &str, place: &str) -> Result<Vec<Value>> {
    let head = text.lines().next().unwrap_or_default();
    let delimiter =
        [b';', b'\t', b','].into_iter().max_by_key(|mark| head.bytes().filter(|c| c == mark).count());
    let mut table = csv::ReaderBuilder::new()
        .delimiter(delimiter.unwrap_or(b','))
        .flexible(true)
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let bad = |e: csv::Error| Error::input(format!("{place} is no table that can be read ({e})."));
    let names: Vec<String> = table.headers().map_err(bad)?.iter().map(str::to_lowercase).collect();
    let entry = |row: csv::Result<csv::StringRecord>| {
        let row = row.map_err(bad)?;
        let cells = names.iter().zip(row.iter()).filter(|(_, cell)| !cell.is_empty());
        let entry: Map<String, Value> = cells.map(|(name, cell)| (name.clone(), Value::from(cell))).collect();
        Ok(Value::Object(entry))
    };
    table.records().map(entry).collect()
}

/// Where things stand in the entries of a file, by the names that are usual for them.
fn dates_with(tells: Tells, form: CalendarForm, keys: &[String]) -> FeedDates {
    let first = |names: &[&str]| {
        names.iter().find(|name| keys.iter().any(|key| key == *name)).map(|name| (*name).to_owned())
    };
    FeedDates {
        tells,
        path: String::new(),
        form,
        list: String::new(),
        about: first(&["about", "instrument", "symbol", "currency", "ccy", "product"]).unwrap_or_default(),
        time: first(&["time", "date", "day", "datetime", "ex_date", "exdate", "published"])
            .unwrap_or_else(|| "time".into()),
        id: first(&["id", "uid"]),
        opens: first(&["opens", "open"]),
        closes: first(&["closes", "close"]),
        zone: None,
        cancelled: first(&["cancelled", "canceled"]),
    }
}
