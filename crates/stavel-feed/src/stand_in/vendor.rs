//! The vendor's service: ticks by day and minutes by month, gzip CSV with a sum, an ETag and ranges.

use std::io::Write;
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::extract::{Path, State as Extracted};
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use axum::routing::get;
use serde_json::{Value, json};
use stavel_core::model::time::{civil_from_days, date, day_of, days_from_civil, parse, rfc3339};

use super::answers::{TOKEN, plain, refused};
use super::faults::{self, ReplyFault};
use super::state::{MadeFile, State};
use crate::writers::{push_minute, push_tick};

/// The header that the sum of a file is said in.
pub const SUM: &str = "X-Sum-SHA256";

pub fn routes() -> Router<Arc<State>> {
    Router::new()
        .route("/instruments", get(instruments))
        .route("/ticks/{instrument}/{day}", get(ticks))
        .route("/minutes/{instrument}/{month}", get(minutes))
}

type Shared = Extracted<Arc<State>>;

async fn instruments(Extracted(state): Shared, headers: HeaderMap) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    let now = state.now();
    let list: Vec<Value> = state
        .histories
        .iter()
        .map(|history| {
            let first = date(history.first_day());
            let last = history.last_before(now).map(rfc3339);
            let kind = json!({ "first": first, "last": last });
            json!({ "name": history.name, "decimals": history.decimals, "ticks": kind, "minutes": kind })
        })
        .collect();
    let mut reply = Response::new(Body::from(json!({ "instruments": list }).to_string()));
    reply.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    reply
}

async fn ticks(
    Extracted(state): Shared,
    Path((instrument, day)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response<Body> {
    let make = |state: &State| {
        let (history, now) = (state.history(&instrument)?, state.now());
        let day = day_of(parse(&day).ok()?);
        let mut text = Vec::new();
        for quote in history.quotes(day).iter().filter(|q| q.time < now) {
            push_tick(&mut text, quote, history.decimals);
        }
        (!text.is_empty()).then_some(text)
    };
    file(&state, &format!("ticks/{instrument}/{day}"), &day, &headers, make).await
}

async fn minutes(
    Extracted(state): Shared,
    Path((instrument, month)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response<Body> {
    let make = |state: &State| {
        let (history, now) = (state.history(&instrument)?, state.now());
        let first = day_of(parse(&format!("{month}-01")).ok()?);
        let (year, number, _) = civil_from_days(first);
        let next = if number == 12 { (year + 1, 1) } else { (year, number + 1) };
        let mut text = b"Time (UTC),Open,High,Low,Close,Volume\n".to_vec();
        let header = text.len();
        for day in first..days_from_civil(next.0, next.1, 1).min(day_of(now) + 1) {
            for bar in history.minutes(day, now) {
                push_minute(&mut text, &bar, history.decimals);
            }
        }
        (text.len() > header).then_some(text)
    };
    file(&state, &format!("minutes/{instrument}/{month}"), &month, &headers, make).await
}

/// Hands a file out: whole, the rest of it, or the word that it is the same.
async fn file(
    state: &Arc<State>,
    path: &str,
    label: &str,
    headers: &HeaderMap,
    make: impl FnOnce(&State) -> Option<Vec<u8>>,
) -> Response<Body> {
    if let Some(reply) = refused(state, headers) {
        return reply;
    }
    let switch = state.switch();
    let is_late = switch.late.contains(label);
    let made = state.file(path, || make(state).filter(|_| !is_late).and_then(|text| packed(&text)));
    let Some(file) = made else {
        return plain(StatusCode::NOT_FOUND, "there is nothing of that day, or not yet");
    };
    let etag = format!("\"{}\"", &file.sha256[..16]);
    let said = |name: header::HeaderName| headers.get(name).and_then(|v| v.to_str().ok());
    if said(header::IF_NONE_MATCH) == Some(etag.as_str()) {
        let mut reply = Response::new(Body::empty());
        *reply.status_mut() = StatusCode::NOT_MODIFIED;
        return reply;
    }
    let from = said(header::RANGE)
        .filter(|_| said(header::IF_RANGE).is_none_or(|range| range == etag))
        .and_then(|range| range.strip_prefix("bytes=")?.strip_suffix('-')?.parse::<usize>().ok())
        .filter(|from| *from < file.bytes.len());
    hand_out(state, path, &file, (&etag, from), switch.faults).await
}

async fn hand_out(
    state: &Arc<State>,
    path: &str,
    file: &MadeFile,
    (etag, from): (&str, Option<usize>),
    faults: u32,
) -> Response<Body> {
    let body = &file.bytes[from.unwrap_or(0)..];
    let mut head = Response::builder()
        .header(header::CONTENT_TYPE, "application/gzip")
        .header(header::ETAG, etag)
        .header(header::ACCEPT_RANGES, "bytes")
        .header(SUM, &file.sha256);
    if let Some(from) = from {
        let range = format!("bytes {from}-{}/{}", file.bytes.len() - 1, file.bytes.len());
        head = head.status(StatusCode::PARTIAL_CONTENT).header(header::CONTENT_RANGE, range);
    }
    let fault = faults::draw(&mut fastrand::Rng::new(), faults);
    if let Some(fault) = fault {
        state.counts().fault();
        if fault != ReplyFault::Slow {
            return faults::reply(fault, head, body).await;
        }
    }
    state.counts().whole(path);
    match fault {
        Some(slow) => faults::reply(slow, head, body).await,
        None => head.body(Body::from(body.to_vec())).unwrap_or_else(|_| Response::new(Body::empty())),
    }
}

/// A text as gzip; always the same bytes for the same text.
fn packed(text: &[u8]) -> Option<Vec<u8>> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    out.write_all(text).ok()?;
    out.finish().ok()
}

/// The text of the feed, for an address and a file with the token.
pub fn feed_text(address: &str, token_file: &std::path::Path, per_second: u32) -> String {
    let token_file = token_file.display();
    format!(
        "# The made-up vendor's service.\n\
         name = \"quill\"\n\
         address = \"{address}/quill\"\n\
         token = {{ file = \"{token_file}\", header = \"{TOKEN}\" }}\n\
         clock = \"UTC\"\n\
         limits = {{ per_second = {per_second}, at_once = 4 }}\n\n\
         [instruments]\n\
         path = \"/instruments\"\n\
         list = \"instruments\"\n\n\
         [[series]]\n\
         frame = \"ticks\"\n\
         by = \"day\"\n\
         path = \"/ticks/{{instrument}}/{{date}}\"\n\
         ending = \"csv.gz\"\n\
         dates = \"day-first\"\n\
         first = \"ticks.first\"\n\
         last = \"ticks.last\"\n\
         sum = \"{SUM}\"\n\n\
         [[series]]\n\
         frame = \"1m\"\n\
         side = \"bid\"\n\
         stamp = \"open\"\n\
         by = \"month\"\n\
         path = \"/minutes/{{instrument}}/{{month}}\"\n\
         ending = \"csv.gz\"\n\
         first = \"minutes.first\"\n\
         last = \"minutes.last\"\n\
         sum = \"{SUM}\"\n"
    )
}
