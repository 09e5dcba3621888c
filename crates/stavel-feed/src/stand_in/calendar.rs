//! The calendar service: events as iCalendar and as JSON, holidays and early closes, corporate actions, dated statements.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::extract::{Path, State as Extracted};
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use axum::routing::get;
use serde_json::{Value, json};
use stavel_core::model::Weight;
use stavel_core::model::session::{DayHours, Holiday};
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, date, days_from_civil, rfc3339, weekday};

use super::answers::{TOKEN, plain, refused};
use super::holidays::holidays_of;
use super::state::State;

/// The years it knows anything of.
const YEARS: std::ops::RangeInclusive<i64> = 1990..=2100;

pub fn routes() -> Router<Arc<State>> {
    Router::new()
        .route("/events/{year}", get(events))
        .route("/holidays/{year}", get(holidays))
        .route("/actions", get(actions))
        .route("/statements", get(statements))
}

/// An announcement.
struct MadeUpEvent {
    id: String,
    time: Micros,
    about: &'static str,
    name: &'static str,
    weight: Weight,
    /// In hundredths of a per cent; none where it is no number.
    value: Option<(i64, i64)>,
}

/// What is announced again and again.
struct Announcement {
    about: &'static str,
    name: &'static str,
    weight: Weight,
    /// The months in which it is.
    months: &'static [i64],
    /// The weekday (0 is Monday), and of which week of the month.
    day: i64,
    week: i64,
    /// The minute of the day, UTC.
    minute: i64,
    /// True where a number is announced.
    has_value: bool,
}

const ALL_MONTHS: &[i64] = &[1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12];

const ANNOUNCED: [Announcement; 7] = [
    announcement("SEK", "policy rate", Weight::High, &[2, 3, 5, 6, 8, 11], (2, 3), 8 * 60 + 30),
    announcement("NOK", "policy rate", Weight::High, &[1, 3, 5, 6, 8, 9, 11, 12], (3, 2), 9 * 60),
    announcement("NZD", "policy rate", Weight::High, &[2, 4, 5, 7, 8, 10, 11], (2, 1), 60),
    announcement("SEK", "consumer prices", Weight::Medium, ALL_MONTHS, (3, 1), 7 * 60),
    announcement("NOK", "consumer prices", Weight::Medium, ALL_MONTHS, (0, 1), 7 * 60),
    Announcement {
        has_value: false,
        ..announcement("NOK", "speech of the governor", Weight::Low, &[2, 4, 10], (1, 2), 17 * 60)
    },
    announcement("BLY", "barley stocks", Weight::High, &[1, 3, 6, 9], (4, 3), 10 * 60),
];

/// A number that is announced on a weekday of a week of some months.
const fn announcement(
    about: &'static str,
    name: &'static str,
    weight: Weight,
    months: &'static [i64],
    (day, week): (i64, i64),
    minute: i64,
) -> Announcement {
    Announcement { about, name, weight, months, day, week, minute, has_value: true }
}

fn events_of(year: i64) -> Vec<MadeUpEvent> {
    let mut out = Vec::new();
    for (number, told) in ANNOUNCED.iter().enumerate() {
        for month in told.months {
            let first = days_from_civil(year, *month, 1);
            let day = first + (told.day - weekday(first)).rem_euclid(7) + 7 * told.week;
            let mut rng = fastrand::Rng::with_seed((year * 1000 + month * 10 + number as i64) as u64);
            let forecast = rng.i64(100..500);
            out.push(MadeUpEvent {
                id: format!("{number}-{year}-{month}"),
                time: day * DAY + told.minute * MINUTE,
                about: told.about,
                name: told.name,
                weight: told.weight,
                value: told.has_value.then(|| (forecast, forecast + rng.i64(-25..=25))),
            });
        }
    }
    out.sort_by_key(|event| event.time);
    out
}

/// A year, and whether the calendar is wanted as iCalendar: `2024`, `2024.ics`.
fn year_in(text: &str) -> Option<(i64, bool)> {
    let (year, is_ics) = match text.strip_suffix(".ics") {
        Some(year) => (year, true),
        None => (text, false),
    };
    Some((year.parse().ok().filter(|year| YEARS.contains(year))?, is_ics))
}

async fn events(
    Extracted(state): Extracted<Arc<State>>,
    Path(year): Path<String>,
    headers: HeaderMap,
) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    let Some((year, is_ics)) = year_in(&year) else {
        return plain(StatusCode::NOT_FOUND, "there is nothing of that year");
    };
    let (now, off) = (state.now(), state.switch().off);
    let all = events_of(year);
    if is_ics {
        let text = calendar(all.iter().map(|event| {
            let status = if off.contains(&event.id) { "CANCELLED" } else { "CONFIRMED" };
            vec![
                format!("UID:{}@skerry", event.id),
                format!("DTSTART:{}", compact(event.time)),
                format!("DTEND:{}", compact(event.time + HOUR)),
                format!("SUMMARY:{}", event.name),
                format!("CATEGORIES:{}", event.about),
                format!("PRIORITY:{}", priority_of(event.weight)),
                format!("STATUS:{status}"),
            ]
        }));
        return text_reply(&headers, "text/calendar; charset=utf-8", text);
    }
    let percent = |value: i64| format!("{}.{:02} %", value / 100, value % 100);
    let list: Vec<Value> = all
        .iter()
        .map(|event| {
            let known = event.value.filter(|_| event.time <= now);
            json!({
                "id": format!("{}@skerry", event.id), "time": rfc3339(event.time), "about": event.about, "name": event.name,
                "weight": event.weight.to_string(),
                "forecast": event.value.map(|(forecast, _)| percent(forecast)),
                "actual": known.map(|(_, actual)| percent(actual)),
                "cancelled": off.contains(&event.id),
            })
        })
        .collect();
    json_reply(&headers, &json!({ "events": list }))
}

async fn holidays(
    Extracted(state): Extracted<Arc<State>>,
    Path(year): Path<String>,
    headers: HeaderMap,
) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    let Some((year, is_ics)) = year_in(&year) else {
        return plain(StatusCode::NOT_FOUND, "there is nothing of that year");
    };
    // What several markets have in common is said once.
    let mut all: BTreeMap<(Holiday, &str), Vec<&str>> = BTreeMap::new();
    for market in ["BLY", "NOKSEK", "NZDSEK"] {
        for (holiday, name) in holidays_of(market, year) {
            all.entry((holiday, name)).or_default().push(market);
        }
    }
    if is_ics {
        let text = calendar(all.iter().map(|((holiday, name), markets)| {
            let day = date(holiday.day).replace('-', "");
            let (start, end) = match holiday.hours {
                DayHours::Until(minute) => (
                    format!("DTSTART;TZID=Europe/Oslo:{day}T{:02}{:02}00", minute / 60, minute % 60),
                    format!("DTEND;TZID=Europe/Oslo:{}T000000", date(holiday.day + 1).replace('-', "")),
                ),
                _ => (
                    format!("DTSTART;VALUE=DATE:{day}"),
                    format!("DTEND;VALUE=DATE:{}", date(holiday.day + 1).replace('-', "")),
                ),
            };
            let uid = format!("UID:{day}@skerry");
            vec![uid, start, end, format!("SUMMARY:{name}"), format!("CATEGORIES:{}", markets.join(","))]
        }));
        return text_reply(&headers, "text/calendar; charset=utf-8", text);
    }
    let list: Vec<Value> = all
        .iter()
        .map(|((holiday, name), markets)| {
            let closes = match holiday.hours {
                DayHours::Until(minute) => Some(format!("{:02}:{:02}", minute / 60, minute % 60)),
                _ => None,
            };
            let id = format!("{}@skerry", date(holiday.day).replace('-', ""));
            json!({ "id": id, "day": date(holiday.day), "markets": markets, "name": name, "closes": closes })
        })
        .collect();
    json_reply(&headers, &json!({ "holidays": list }))
}

async fn actions(Extracted(state): Extracted<Arc<State>>, headers: HeaderMap) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    let halved =
        json!({ "about": "BLY", "day": "2022-06-01", "split": "2:1", "note": "the contract was halved" });
    json_reply(&headers, &json!({ "actions": [halved] }))
}

async fn statements(Extracted(state): Extracted<Arc<State>>, headers: HeaderMap) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    // Stocks are reported in January for the quarter before, and so on.
    let mut list = Vec::new();
    let now = state.now();
    for year in 2020..=2030 {
        for (quarter, month) in [(4, 1), (1, 4), (2, 7), (3, 10)] {
            let day = days_from_civil(year, month, 15) * DAY + 10 * HOUR;
            let of_year = if quarter == 4 { year - 1 } else { year };
            let stocks = fastrand::Rng::with_seed((year * 4 + quarter) as u64).u32(2000..9000);
            if day <= now {
                list.push(json!({
                    "about": "BLY", "published": rfc3339(day), "period": format!("{of_year}-Q{quarter}"),
                    "stocks": stocks,
                }));
            }
        }
    }
    json_reply(&headers, &json!({ "statements": list }))
}

/// The priority of an iCalendar that says a weight.
fn priority_of(weight: Weight) -> u8 {
    match weight {
        Weight::High => 1,
        Weight::Medium => 5,
        Weight::Low => 9,
    }
}

/// An iCalendar of events, each a list of lines. No line is so long that it had to be folded.
fn calendar(events: impl Iterator<Item = Vec<String>>) -> String {
    let mut lines =
        vec!["BEGIN:VCALENDAR".to_owned(), "VERSION:2.0".into(), "PRODID:-//Skerry//calendar//EN".into()];
    for event in events {
        lines.extend(["BEGIN:VEVENT".to_owned(), "DTSTAMP:20200101T000000Z".to_owned()]);
        lines.extend(event);
        lines.push("END:VEVENT".into());
    }
    lines.extend(["END:VCALENDAR".to_owned(), String::new()]);
    lines.join("\r\n")
}

/// A moment as an iCalendar has it: `20240305T134500Z`.
fn compact(time: Micros) -> String {
    rfc3339(time).replace(['-', ':'], "")
}

fn json_reply(headers: &HeaderMap, document: &Value) -> Response<Body> {
    text_reply(headers, "application/json", document.to_string())
}

/// A text with what tells it apart; the word that it is the same where that is known already.
fn text_reply(headers: &HeaderMap, kind: &'static str, text: String) -> Response<Body> {
    let mut hash = stavel_core::fingerprint::Sha256::default();
    hash.update(text.as_bytes());
    let etag = format!("\"{}\"", &hash.hex()[..16]);
    let is_known = headers.get(header::IF_NONE_MATCH).and_then(|v| v.to_str().ok()) == Some(etag.as_str());
    let mut reply = Response::new(if is_known { Body::empty() } else { Body::from(text) });
    if is_known {
        *reply.status_mut() = StatusCode::NOT_MODIFIED;
    }
    reply.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static(kind));
    reply.headers_mut().extend(HeaderValue::from_str(&etag).ok().map(|etag| (header::ETAG, etag)));
    reply
}

/// The moments of a year's events of a weight, for whoever compares.
pub fn event_times(about: &str, year: i64, weight: Weight) -> Vec<Micros> {
    let is_it = |event: &&MadeUpEvent| event.about == about && event.weight >= weight;
    events_of(year).iter().filter(is_it).map(|event| event.time).collect()
}

/// The text of the feed, for an address and a file with the token. Events come as JSON, or all as iCalendar.
pub fn feed_text(address: &str, token_file: &std::path::Path, per_second: u32) -> String {
    let token_file = token_file.display();
    format!(
        "# The made-up calendar service of the Skerry Exchange.\n\
         name = \"skerry\"\n\
         address = \"{address}/skerry\"\n\
         token = {{ file = \"{token_file}\", header = \"{TOKEN}\" }}\n\
         clock = \"UTC\"\n\
         limits = {{ per_second = {per_second}, at_once = 2 }}\n\n\
         [[dates]]\n\
         tells = \"events\"\n\
         path = \"/events/{{year}}\"\n\
         list = \"events\"\n\
         id = \"id\"\n\
         cancelled = \"cancelled\"\n\n\
         [[dates]]\n\
         tells = \"holidays\"\n\
         path = \"/holidays/{{year}}\"\n\
         list = \"holidays\"\n\
         about = \"markets\"\n\
         time = \"day\"\n\
         id = \"id\"\n\
         closes = \"closes\"\n\
         zone = \"Europe/Oslo\"\n\n\
         [[dates]]\n\
         tells = \"actions\"\n\
         path = \"/actions\"\n\
         list = \"actions\"\n\
         time = \"day\"\n\n\
         [[dates]]\n\
         tells = \"statements\"\n\
         path = \"/statements\"\n\
         list = \"statements\"\n\
         time = \"published\"\n"
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::time::parse;

    #[test]
    fn a_year_has_the_same_events_whenever_it_is_asked_for_and_no_line_needs_folding() {
        let (a, b) = (events_of(2024), events_of(2024));
        assert!(a.iter().zip(&b).all(|(a, b)| a.time == b.time && a.value == b.value));
        assert_eq!(a.len(), 6 + 8 + 7 + 12 + 12 + 3 + 4);
        assert!(a.windows(2).all(|two| two[0].time <= two[1].time));
        assert_eq!(compact(parse("2024-03-05 13:45").unwrap()), "20240305T134500Z");
        let text = calendar([vec!["UID:1".to_owned()]].into_iter());
        assert!(
            text.split("\r\n").all(|line| line.len() < 75) && text.ends_with("END:VCALENDAR\r\n"),
            "{text}"
        );
        assert_eq!(
            (year_in("2024"), year_in("2024.ics"), year_in("x")),
            (Some((2024, false)), Some((2024, true)), None)
        );
    }
}
