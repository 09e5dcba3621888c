//! The broker's service: bars by frame, in its own clock, so many rows a request, fine frames since not so long ago.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::extract::{Path, Query, State as Extracted};
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use axum::routing::get;
use serde_json::{Value, json};
use stavel_core::model::Clock;
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, day_of, parse, rfc3339};

use super::answers::{plain, refused};
use super::history::MadeUpHistory;
use super::state::State;
use crate::demo::BROKER_CLOCK;
use crate::market::MinuteBar;
use crate::writers::push_broker_minute;

/// Rows that one request gives at most. Of more it gives the last ones, and says nothing of the others.
pub const ROWS: usize = 5000;

/// The frames, the length of each, and the days that it reaches back.
const FRAMES: [(&str, Micros, i64); 3] = [("1m", MINUTE, 30), ("1h", HOUR, 400), ("1d", DAY, 20_000)];

pub fn routes() -> Router<Arc<State>> {
    Router::new()
        .route("/instruments", get(instruments))
        .route("/instruments/{instrument}/specs", get(specs))
        .route("/bars/{instrument}/{frame}", get(bars))
        .route("/live", get(super::live::live))
}

/// The pairs: the broker has no bars of futures.
fn pairs(state: &State) -> impl Iterator<Item = &MadeUpHistory> {
    state.histories.iter().filter(|history| history.decimals == 5)
}

fn clock() -> Clock {
    BROKER_CLOCK.parse().unwrap_or_else(|_| Clock::utc())
}

/// The first day, on the broker's wall, that it has of a frame.
fn first_day(state: &State, history: &MadeUpHistory, reaches: i64) -> i64 {
    day_of(clock().to_wall(state.now())).saturating_sub(reaches).max(history.first_day())
}

async fn instruments(Extracted(state): Extracted<Arc<State>>, headers: HeaderMap) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    let clock = clock();
    let wall = |t: Micros| rfc3339(clock.to_wall(t)).trim_end_matches('Z').to_owned();
    let list: Vec<Value> = state
        .histories
        .iter()
        .map(|history| {
            // Of the contract it has the stream alone.
            if history.decimals != 5 {
                return json!({ "symbol": history.name, "digits": history.decimals });
            }
            let last = history.last_before(state.now()).map(wall);
            let bars: BTreeMap<String, Value> = FRAMES
                .iter()
                .map(|(frame, _, reaches)| {
                    let first = stavel_core::model::time::date(first_day(&state, history, *reaches));
                    ((*frame).to_owned(), json!({ "first": first, "last": last }))
                })
                .collect();
            json!({ "symbol": history.name, "digits": history.decimals, "bars": bars })
        })
        .collect();
    let mut reply = Response::new(Body::from(Value::from(list).to_string()));
    reply.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    reply
}

async fn bars(
    Extracted(state): Extracted<Arc<State>>,
    Path((instrument, frame)): Path<(String, String)>,
    Query(wanted): Query<BTreeMap<String, String>>,
    headers: HeaderMap,
) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    let Some(history) = pairs(&state).find(|history| history.name == instrument) else {
        return plain(StatusCode::NOT_FOUND, "there is no such instrument");
    };
    let frame = FRAMES.iter().find(|(known, ..)| *known == frame);
    let time = |key: &str| wanted.get(key).and_then(|text| parse(text).ok());
    let count = match wanted.get("count") {
        None => Some(ROWS),
        Some(text) => text.parse::<usize>().ok().filter(|count| (1..=ROWS).contains(count)),
    };
    let (Some((frame, length, reaches)), Some(to), Some(count)) = (frame, time("to"), count) else {
        return plain(StatusCode::BAD_REQUEST, "say a frame there is, and from and to, or to and count");
    };
    let oldest = first_day(&state, history, *reaches) * DAY;
    let all = match time("from") {
        Some(from) => bars_of(history, *length, (from.max(oldest), to), state.now()),
        None => last_bars(history, *length, (oldest, to), count, state.now()),
    };
    let mut text = b"Date;Time;Open;High;Low;Close;Volume;Spread\n".to_vec();
    all.iter().skip(all.len().saturating_sub(count)).for_each(|bar| push_broker_minute(&mut text, bar));
    if all.is_empty() {
        return plain(StatusCode::NOT_FOUND, "there is nothing of that time");
    }
    let asked = wanted.get("from").or(wanted.get("to"));
    let path = format!("bars/{instrument}/{frame}/{}", asked.map_or("", String::as_str));
    state.counts().whole(&path);
    let mut reply = Response::new(Body::from(text));
    reply.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("text/csv"));
    reply
}

/// At least the last `count` bars before a time on the broker's wall, as far as there are so many.
fn last_bars(
    history: &MadeUpHistory,
    length: Micros,
    (oldest, to): (Micros, Micros),
    count: usize,
    now: Micros,
) -> Vec<MinuteBar> {
    let to = to.min(clock().to_wall(now) + DAY);
    let mut days = (count as Micros * length / DAY).max(1);
    loop {
        let from = (to - days * DAY).max(oldest);
        let bars = bars_of(history, length, (from, to), now);
        if bars.len() >= count || from <= oldest {
            return bars;
        }
        days *= 2;
    }
}

/// Specs and costs of an instrument. The swaps are others since April 2024.
async fn specs(
    Extracted(state): Extracted<Arc<State>>,
    Path(instrument): Path<String>,
    headers: HeaderMap,
) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    let Some(history) = state.history(&instrument) else {
        return plain(StatusCode::NOT_FOUND, "there is no such instrument");
    };
    let is_later = state.now() >= parse("2024-04-01").unwrap_or(0);
    let since = if is_later { "2024-04-01" } else { "2023-01-01" };
    let lots = json!({ "least": 0.01, "step": 0.01, "most": 50 });
    let document = if history.decimals == 5 {
        json!({
            "symbol": history.name, "valid_from": since, "digits": 5, "point": "0.00001", "lot": 100_000, "lots": lots,
            "commission": "3.50", "swap": { "long": if is_later { -0.34 } else { -0.31 }, "short": -0.12, "kind": "points",
            "triple": "wed" }, "margin": "3.33%", "usual_spread": if history.name == "NOKSEK" { 18 } else { 32 },
        })
    } else {
        json!({
            "symbol": history.name, "valid_from": "2023-01-01", "digits": 2, "point": "0.25", "lot": 50,
            "lots": { "least": 1, "step": 1, "most": 200 }, "commission": "1.20", "margin": "500", "usual_spread": 50,
        })
    };
    let mut reply = Response::new(Body::from(document.to_string()));
    reply.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    reply
}

/// Bars whose times on the broker's wall lie in a span, as they are at a moment.
fn bars_of(
    history: &MadeUpHistory,
    length: Micros,
    (from, to): (Micros, Micros),
    now: Micros,
) -> Vec<MinuteBar> {
    let clock = clock();
    let mut out: Vec<MinuteBar> = Vec::new();
    // The wall is never a day away from UTC.
    for day in day_of(from) - 1..=day_of(to).min(day_of(now)) + 1 {
        for minute in history.minutes(day, now) {
            let wall = clock.to_wall(minute.time);
            let time = wall.div_euclid(length) * length;
            if !(from..to).contains(&time) {
                continue;
            }
            match out.last_mut().filter(|bar| bar.time == time) {
                Some(bar) => {
                    bar.high = bar.high.max(minute.high);
                    bar.low = bar.low.min(minute.low);
                    bar.close = minute.close;
                    bar.volume += minute.volume;
                }
                None => out.push(MinuteBar { time, ..minute }),
            }
        }
    }
    out
}

/// Where specs and the stream stand in the text of the feed.
const SPECS_AND_LIVE: &str = r#"
[specs]
path = "/instruments/{instrument}/specs"
since = "valid_from"
quoted_spread = "usual_spread"

[specs.values]
decimals = "digits"
tick_size = "point"
contract_size = "lot"
lot_min = "lots.least"
lot_step = "lots.step"
lot_max = "lots.most"
commission = "commission"
swap_long = "swap.long"
swap_short = "swap.short"
swap_kind = "swap.kind"
swap_triple = "swap.triple"
margin = "margin"

[live]
path = "/live"
subscribe = '{"subscribe": "{instrument}"}'
bid_size = "bid_size"
ask_size = "ask_size"
bids = "bids"
asks = "asks"
"#;

/// The text of the feed, for an address and a file with the token.
pub fn feed_text(address: &str, token_file: &std::path::Path, per_second: u32) -> String {
    let token_file = token_file.display();
    let mut text = format!(
        "# The made-up broker's service. It does not say which clock it writes in: align finds it.\n\
         name = \"tarn\"\n\
         address = \"{address}/tarn\"\n\
         token = {{ file = \"{token_file}\", header = \"{}\" }}\n\
         clock = \"afloat\"\n\
         limits = {{ per_second = {per_second}, at_once = 2 }}\n\n\
         [instruments]\n\
         path = \"/instruments\"\n\
         name = \"symbol\"\n",
        super::answers::TOKEN
    );
    for (frame, ..) in FRAMES {
        text += &format!(
            "\n[[series]]\n\
             frame = \"{frame}\"\n\
             side = \"bid\"\n\
             stamp = \"open\"\n\
             by = \"rows\"\n\
             rows = {ROWS}\n\
             path = \"/bars/{{instrument}}/{frame}?from={{from}}&to={{to}}\"\n\
             first = \"bars.{frame}.first\"\n\
             last = \"bars.{frame}.last\"\n"
        );
    }
    text += SPECS_AND_LIVE;
    text
}
