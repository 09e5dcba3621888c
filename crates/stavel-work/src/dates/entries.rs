//! The entries of a calendar as dated facts, each with what it is about.

use std::collections::BTreeMap;

use serde_json::Value;
use stavel_core::model::actions::{names_dividends, names_splits};
use stavel_core::model::session::Holiday;
use stavel_core::model::time::{DAY, date, parse_moment};
use stavel_core::model::{Clock, Micros};
use stavel_core::store::{FACT_ID, FACT_WHOLE_DAY, InstrumentFact, fact_kind};
use stavel_core::{Advice, Error, Result, Setting};
use stavel_feed::client::{CalendarForm, Tells, at, name_on_shelf, scalar};

use super::DatesWish;
use super::holidays::closed_days;
use super::ics::{CalendarEvent, EventTime, read_calendar};

/// The value of a holiday that the spec sheet has: `2024-12-24 -13:00`.
pub const CLOSED: &str = "closed";

/// A fact, and what it is about.
#[derive(Debug, Clone, PartialEq)]
pub struct DatedEntry {
    pub about: String,
    pub fact: InstrumentFact,
    /// True where it does not take place.
    pub is_cancelled: bool,
}

/// What a calendar holds.
#[derive(Debug, Default, PartialEq)]
pub struct ReadDates {
    pub entries: Vec<DatedEntry>,
    /// Entries that could not be understood: which, and why.
    pub rejected: Vec<String>,
}

/// Reads a calendar. `zone_of` gives the zone in which the session of an instrument is told; none where it is not known.
///
/// # Errors
/// Where the text is no such calendar, or leaves a question open: what it is about, or its clock.
pub fn entries_of(
    text: &str,
    wish: &DatesWish<'_>,
    zone_of: &dyn Fn(&str) -> Result<Option<Clock>>,
) -> Result<ReadDates> {
    match wish.dates.form {
        CalendarForm::Ics => of_calendar(&read_calendar(text, wish.place)?, wish, zone_of),
        CalendarForm::Json => {
            let document: Value = serde_json::from_str(text.trim_start_matches('\u{feff}'))
                .map_err(|e| Error::input(format!("{} is no JSON ({e}).", wish.place)))?;
            let list = at(&document, &wish.dates.list).and_then(Value::as_array).ok_or_else(|| {
                let list = &wish.dates.list;
                Error::input(format!(
                    "{} has no list at '{list}'; look at list in the text of the feed.",
                    wish.place
                ))
            })?;
            of_list(list, wish, zone_of)
        }
    }
}

/// The names of what an entry is about.
fn abouts(said: &[String], wish: &DatesWish<'_>) -> Vec<String> {
    match wish.about {
        Some(about) => vec![about.to_owned()],
        None => said.iter().map(|name| name_on_shelf(name)).filter(|name| !name.is_empty()).collect(),
    }
}

fn nobody_says(wish: &DatesWish<'_>) -> Error {
    Error::undecided(format!("{} does not say what it is about; say it.", wish.place))
        .advise(Advice::Say(Setting::Instrument))
}

fn nobody_knows_the_clock(wish: &DatesWish<'_>) -> Error {
    Error::undecided(format!("The times of {} do not say their clock; say it.", wish.place))
        .advise(Advice::Say(Setting::Clock))
}

fn of_calendar(
    events: &[CalendarEvent],
    wish: &DatesWish<'_>,
    zone_of: &dyn Fn(&str) -> Result<Option<Clock>>,
) -> Result<ReadDates> {
    let mut out = ReadDates::default();
    for event in events {
        let about = abouts(&event.categories, wish);
        if about.is_empty() {
            return Err(nobody_says(wish));
        }
        let mut values: BTreeMap<String, String> = [("name".to_owned(), event.name.clone())].into();
        values.extend(event.weight.map(|weight| ("weight".to_owned(), weight.to_string())));
        for about in about {
            let mut facts = match wish.dates.tells {
                Tells::Holidays => closed_facts(event, &zone_of(&about)?.unwrap_or_else(Clock::utc), wish)?,
                Tells::Events | Tells::Actions | Tells::Statements => event_facts(event, wish)?,
            };
            let is_series = facts.len() > 1;
            for fact in &mut facts {
                fact.values.extend(values.clone());
                // What comes back has one name for all its days.
                let id = event.id.as_ref().map(|id| match is_series {
                    true => format!("{id} {}", date(fact.time.div_euclid(DAY))),
                    false => id.clone(),
                });
                fact.values.extend(id.map(|id| (FACT_ID.to_owned(), id)));
            }
            let is_cancelled = event.is_cancelled;
            out.entries.extend(facts.into_iter().map(|fact| DatedEntry {
                about: about.clone(),
                fact,
                is_cancelled,
            }));
        }
    }
    Ok(out)
}

fn fact(kind: &str, time: Micros, wish: &DatesWish<'_>) -> InstrumentFact {
    InstrumentFact { source: wish.source.to_owned(), time, kind: kind.to_owned(), values: BTreeMap::new() }
}

fn closed_facts(event: &CalendarEvent, zone: &Clock, wish: &DatesWish<'_>) -> Result<Vec<InstrumentFact>> {
    let days = closed_days(event, zone, wish.place)?;
    days.into_iter().map(|closed| holiday_fact(closed, wish)).collect()
}

fn holiday_fact(closed: String, wish: &DatesWish<'_>) -> Result<InstrumentFact> {
    let day = closed.parse::<Holiday>()?.day;
    let mut fact = fact(fact_kind::HOLIDAY, day * DAY, wish);
    fact.values.insert(CLOSED.into(), closed);
    Ok(fact)
}

fn event_facts(event: &CalendarEvent, wish: &DatesWish<'_>) -> Result<Vec<InstrumentFact>> {
    let kind = kind_of(wish.dates.tells);
    let of_time = |when: &EventTime| match when {
        EventTime::Days { first, .. } => Ok(fact_of_day(kind, first * DAY, wish)),
        EventTime::Moments { from, .. } => {
            let time = from.utc(wish.clock).ok_or_else(|| nobody_knows_the_clock(wish))?;
            Ok(fact(kind, time, wish))
        }
    };
    event.times.iter().map(of_time).collect()
}

/// A fact of which only the day is said; of an event that has to be told, as its time looks like a moment.
fn fact_of_day(kind: &str, time: Micros, wish: &DatesWish<'_>) -> InstrumentFact {
    let mut fact = fact(kind, time, wish);
    if kind == fact_kind::EVENT {
        fact.values.insert(FACT_WHOLE_DAY.into(), "true".into());
    }
    fact
}

fn kind_of(tells: Tells) -> &'static str {
    match tells {
        Tells::Holidays => fact_kind::HOLIDAY,
        Tells::Statements => fact_kind::STATEMENT,
        Tells::Events | Tells::Actions => fact_kind::EVENT,
    }
}

/// The entries of a list of JSON.
///
/// # Errors
/// Where it leaves a question open.
fn of_list(
    list: &[Value],
    wish: &DatesWish<'_>,
    zone_of: &dyn Fn(&str) -> Result<Option<Clock>>,
) -> Result<ReadDates> {
    let mut out = ReadDates::default();
    for (number, entry) in list.iter().enumerate() {
        match of_entry(entry, wish, zone_of) {
            Ok(entries) => out.entries.extend(entries),
            Err(why) if why.is_undecided() => return Err(why),
            Err(why) => out.rejected.push(format!("entry {}: {why}", number + 1)),
        }
    }
    Ok(out)
}

fn of_entry(
    entry: &Value,
    wish: &DatesWish<'_>,
    zone_of: &dyn Fn(&str) -> Result<Option<Clock>>,
) -> Result<Vec<DatedEntry>> {
    let dates = wish.dates;
    let text = |key: &str| at(entry, key).and_then(scalar);
    let said: Vec<String> = match at(entry, &dates.about) {
        Some(Value::Array(list)) => list.iter().filter_map(scalar).collect(),
        Some(one) => scalar(one).into_iter().collect(),
        None => Vec::new(),
    };
    let about = abouts(&said, wish);
    if about.is_empty() {
        return Err(if said.is_empty() {
            nobody_says(wish)
        } else {
            Error::input(format!(
                "{} is no name of an instrument or a currency.",
                stavel_core::error::printable(&said[0])
            ))
        });
    }
    let written =
        text(&dates.time).ok_or_else(|| Error::input(format!("it has no time at '{}'.", dates.time)))?;
    let (told, is_utc) = parse_moment(&written)?;
    let is_day = written.len() <= 10;
    let time = match wish.clock {
        // A day without a time is that day, wherever it is.
        _ if is_utc || is_day => told,
        Some(clock) => clock.from_wall(told).settle(),
        None => return Err(nobody_knows_the_clock(wish)),
    };
    let mut facts = match dates.tells {
        Tells::Holidays => {
            let hours = |key: &Option<String>| key.as_ref().and_then(|key| text(key)).unwrap_or_default();
            let said = (hours(&dates.opens), hours(&dates.closes));
            return holidays_of_entry(entry, told.div_euclid(DAY), &said, &about, wish, zone_of);
        }
        Tells::Actions => actions_of(entry, time, wish)?,
        tells if is_day => vec![fact_of_day(kind_of(tells), time, wish)],
        tells => vec![fact(kind_of(tells), time, wish)],
    };
    let mut is_cancelled = false;
    for fact in &mut facts {
        is_cancelled |= add_values(entry, fact, wish)?;
    }
    let entries = about.into_iter().flat_map(|about| {
        facts.iter().map(move |fact| DatedEntry { about: about.clone(), fact: fact.clone(), is_cancelled })
    });
    Ok(entries.collect())
}

/// A holiday of each of what an entry is about: its hours are told on the wall of the session there.
fn holidays_of_entry(
    entry: &Value,
    day: i64,
    (opens, closes): &(String, String),
    about: &[String],
    wish: &DatesWish<'_>,
    zone_of: &dyn Fn(&str) -> Result<Option<Clock>>,
) -> Result<Vec<DatedEntry>> {
    let theirs = wish.dates.zone.as_deref().map(str::parse::<Clock>).transpose()?;
    let mut out = Vec::new();
    for about in about {
        let here = zone_of(about)?;
        let on_wall = |time: &String| match (&theirs, &here) {
            (Some(theirs), Some(here)) if !time.is_empty() => turned(day, time, theirs, here),
            _ => Ok(time.clone()),
        };
        let hours = match opens.is_empty() && closes.is_empty() {
            true => String::new(),
            false => format!(" {}-{}", on_wall(opens)?, on_wall(closes)?),
        };
        let mut fact = holiday_fact(format!("{}{hours}", date(day)), wish)?;
        let is_cancelled = add_values(entry, &mut fact, wish)?;
        out.push(DatedEntry { about: about.clone(), fact, is_cancelled });
    }
    Ok(out)
}

/// A time of day of one zone on the wall of another.
fn turned(day: i64, time: &str, from: &Clock, to: &Clock) -> Result<String> {
    let told = parse_moment(&format!("{} {time}", date(day)))?.0;
    let wall = to.to_wall(from.from_wall(told).settle());
    if wall.div_euclid(DAY) != day {
        return Err(Error::input(format!(
            "{time} of {} is of another day in {to}; say that day.",
            date(day)
        )));
    }
    Ok(stavel_core::model::time::wall(wall)[11..16].to_owned())
}

/// Gives a fact the values of an entry; true where it does not take place.
fn add_values(entry: &Value, fact: &mut InstrumentFact, wish: &DatesWish<'_>) -> Result<bool> {
    let dates = wish.dates;
    let text = |key: &String| at(entry, key).and_then(scalar);
    // What tells the place of an entry is no value of it.
    let keys = [Some(&dates.about), Some(&dates.time), dates.id.as_ref(), dates.opens.as_ref()];
    let keys: Vec<&String> =
        keys.into_iter().chain([dates.closes.as_ref(), dates.cancelled.as_ref()]).flatten().collect();
    for (key, value) in entry.as_object().into_iter().flatten().filter(|(key, _)| !keys.contains(key)) {
        fact.values.extend(scalar(value).map(|value| (key.to_lowercase(), value)));
    }
    fact.values.extend(dates.id.as_ref().and_then(text).map(|id| (FACT_ID.to_owned(), id)));
    if fact.values.keys().all(|key| key == FACT_WHOLE_DAY) {
        return Err(Error::input("it says nothing but its time."));
    }
    let said = dates.cancelled.as_ref().and_then(text).map(|said| said.to_lowercase());
    match said.as_deref() {
        None | Some("false" | "no" | "0") => Ok(false),
        Some("true" | "yes" | "1") => Ok(true),
        Some(other) => Err(Error::input(format!(
            "whether it takes place cannot be told from '{}'; true or false stands there.",
            stavel_core::error::printable(other)
        ))),
    }
}

/// Splits and dividends of an entry; it may tell both.
fn actions_of(entry: &Value, time: Micros, wish: &DatesWish<'_>) -> Result<Vec<InstrumentFact>> {
    let has = |is_it: fn(&str) -> bool| {
        let mut all = entry.as_object().into_iter().flatten();
        all.any(|(key, value)| is_it(key) && scalar(value).is_some())
    };
    let kinds = [(fact_kind::SPLIT, has(names_splits)), (fact_kind::DIVIDEND, has(names_dividends))];
    // One fact holds both: whoever adjusts prices reads each value by its name.
    let kind = kinds.into_iter().find(|(_, is_there)| *is_there).map(|(kind, _)| kind);
    let kind = kind.ok_or_else(|| Error::input("it tells neither a split nor a dividend."))?;
    Ok(vec![fact(kind, time, wish)])
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::time::parse;
    use stavel_feed::client::FeedDates;

    fn dates(text: &str) -> FeedDates {
        toml::from_str(&format!("path = '/x'\n{text}")).unwrap()
    }

    fn read(dates: &FeedDates, text: &str, clock: Option<&str>, about: Option<&str>) -> Result<ReadDates> {
        let clock: Option<Clock> = clock.map(|c| c.parse().unwrap());
        let wish = DatesWish { dates, source: "skerry", about, clock: clock.as_ref(), place: "the calendar" };
        entries_of(text, &wish, &|_| Ok(Some("Europe/Oslo".parse()?)))
    }

    fn told(read: &ReadDates) -> Vec<(String, String, String, String)> {
        let values = |fact: &InstrumentFact| -> Vec<String> {
            fact.values.iter().map(|(k, v)| format!("{k}={v}")).collect()
        };
        let line = |e: &DatedEntry| {
            (
                e.about.clone(),
                e.fact.kind.clone(),
                stavel_core::model::time::wall(e.fact.time),
                values(&e.fact).join(","),
            )
        };
        read.entries.iter().map(line).collect()
    }

    fn line(about: &str, kind: &str, time: &str, values: &str) -> (String, String, String, String) {
        (about.into(), kind.into(), time.into(), values.into())
    }

    #[test]
    fn events_of_json_are_about_what_they_say_at_the_moment_their_clock_says() {
        let events = dates("tells = 'events'\nlist = 'events'\nabout = 'currency'\nid = 'no'");
        let text = r#"{"events":[
            {"no":7,"currency":"SEK","time":"2024-03-27T09:30:00","name":"policy rate","weight":3,"actual":null,"more":{}},
            {"no":8,"currency":["NOK","SEK"],"time":"2024-03-05T08:00:00+01:00","name":"fair"},
            {"no":9,"currency":"NOK","time":"soon","name":"odd"}]}"#;
        let read_so = read(&events, text, Some("Europe/Stockholm"), None).unwrap();
        assert_eq!(
            told(&read_so),
            [
                line("SEK", "event", "2024-03-27 08:30", "id=7,name=policy rate,weight=3"),
                line("NOK", "event", "2024-03-05 07:00", "id=8,name=fair"),
                line("SEK", "event", "2024-03-05 07:00", "id=8,name=fair"),
            ]
        );
        // Of one that only has a day that is told: at midnight nothing happens.
        let days = r#"{"events":[{"time":"2024-03-27","name":"fair"},{"time":"2024-03-28"},
            {"time":"2024-03-28T00:00:00Z","name":"call"}]}"#;
        let read_days = read(&events, days, None, Some("BLY")).unwrap();
        let moments: Vec<bool> = read_days.entries.iter().map(|e| e.fact.has_moment()).collect();
        assert_eq!(moments, [false, true]);
        assert_eq!(read_days.rejected, ["entry 2: it says nothing but its time."]);
        assert_eq!(read_so.rejected.len(), 1);
        assert!(read_so.rejected[0].starts_with("entry 3: 'soon' is not a time"), "{:?}", read_so.rejected);
        // A clock that nobody knows is asked for; what is said to be about something is about that.
        assert!(read(&events, text, None, None).unwrap_err().is_undecided());
        let one = r#"{"events":[{"time":"2024-03-27","name":"x"}]}"#;
        assert!(read(&events, one, None, None).unwrap_err().is_undecided());
        assert_eq!(told(&read(&events, one, None, Some("BLY")).unwrap())[0].0, "BLY");
    }

    #[test]
    fn a_calendar_and_a_list_give_the_same_holidays() {
        let ics = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20240101T000000Z\r\n\
                   DTSTART;VALUE=DATE:20241225\r\nDTEND;VALUE=DATE:20241227\r\nSUMMARY:Yule\r\nCATEGORIES:BLY\r\nEND:VEVENT\r\n\
                   BEGIN:VEVENT\r\nUID:b\r\nDTSTAMP:20240101T000000Z\r\nDTSTART:20241224T120000Z\r\nDTEND:20241224T230000Z\r\n\
                   SUMMARY:Eve\r\nCATEGORIES:BLY\r\nSTATUS:CANCELLED\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        let of_ics = read(&dates("tells = 'holidays'\nform = 'ics'"), ics, None, None).unwrap();
        let list = r#"[{"about":"BLY","time":"2024-12-25","name":"Yule"},{"about":"BLY","time":"2024-12-26","name":"Yule"},
                       {"about":"BLY","time":"2024-12-24","closes":"13:00","name":"Eve","off":true}]"#;
        let holidays = dates("tells = 'holidays'\ncloses = 'closes'\ncancelled = 'off'");
        let of_list = read(&holidays, list, None, None).unwrap();
        let closed = |read: &ReadDates| -> Vec<(String, bool)> {
            read.entries.iter().map(|e| (e.fact.values[CLOSED].clone(), e.is_cancelled)).collect()
        };
        let days = [("2024-12-25", false), ("2024-12-26", false), ("2024-12-24 -13:00", true)];
        let days = days.map(|(day, off)| (day.to_owned(), off));
        assert_eq!(closed(&of_ics), days);
        assert_eq!(closed(&of_list), days);
        // Whether a day counts is not guessed.
        let said = |word: &str| {
            let list = format!(r#"[{{"about":"BLY","time":"2024-12-25","off":"{word}"}}]"#);
            let read = read(&holidays, &list, None, None).unwrap();
            read.entries.first().map(|e| e.is_cancelled)
        };
        assert_eq!(["TRUE", "yes", "0", "perhaps"].map(said), [Some(true), Some(true), Some(false), None]);
        // Told in another zone than the session is.
        let far = dates("tells = 'holidays'\ncloses = 'closes'\ncancelled = 'off'\nzone = 'UTC'");
        assert_eq!(closed(&read(&far, list, None, None).unwrap())[2].0, "2024-12-24 -14:00");
    }

    #[test]
    fn actions_are_splits_and_dividends_and_nothing_else() {
        let actions = dates("tells = 'actions'\ntime = 'ex_date'");
        let text = r#"[{"about":"BLY","ex_date":"2024-03-05","split":"2:1"},{"about":"BLY","ex_date":"2024-03-06","dividend":1.5},
                       {"about":"BLY","ex_date":"2024-03-07","note":"moved"}]"#;
        let read = read(&actions, text, None, None).unwrap();
        assert_eq!(
            told(&read),
            [
                line("BLY", "split", "2024-03-05 00:00", "split=2:1"),
                line("BLY", "dividend", "2024-03-06 00:00", "dividend=1.5"),
            ]
        );
        assert_eq!(read.rejected, ["entry 3: it tells neither a split nor a dividend."]);
        assert_eq!(read.entries[0].fact.time, parse("2024-03-05").unwrap());
    }
}
