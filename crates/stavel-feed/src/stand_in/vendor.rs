//! The vendor's service: ticks by day and minutes by month, gzip CSV with a sum, an ETag and ranges.

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::extract::{Path, Query, State as Extracted};
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use axum::routing::get;
use serde_json::{Value, json};
use stavel_core::model::price::scaled;
use stavel_core::model::time::{civil_from_days, date, day_of, days_from_civil, parse, rfc3339};

use super::answers::{TOKEN, plain, refused};
use super::faults::{self, ReplyFault};
use super::history::MadeUpHistory;
use super::state::{MadeFile, State};
use crate::market::{MarketQuote, MinuteBar};
use crate::writers::{push_minute, push_tick};

/// The header that the sum of a file is said in.
pub const SUM: &str = "X-Sum-SHA256";

pub fn routes() -> Router<Arc<State>> {
    Router::new()
        .route("/instruments", get(instruments))
        .route("/ticks/{instrument}/{day}", get(ticks))
        .route("/minutes/{instrument}/{month}", get(minutes))
        .route("/depth/{instrument}/{day}", get(depth))
}

type Shared = Extracted<Arc<State>>;

/// How a file is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum FileForm {
    /// Lines, packed by gzip.
    Csv,
    /// A list of records.
    Json,
}

impl FileForm {
    /// The form that a request asks for by `?as=json`; none where there is no such.
    fn of(wish: &BTreeMap<String, String>) -> Option<FileForm> {
        match wish.get("as").map(String::as_str) {
            None | Some("csv") => Some(FileForm::Csv),
            Some("json") => Some(FileForm::Json),
            Some(_) => None,
        }
    }
}

fn no_such_form() -> Response<Body> {
    plain(StatusCode::BAD_REQUEST, "as is json or csv")
}

/// Of so many quotes one comes with its book.
const BOOK_EVERY: usize = 3;

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
            let mut entry =
                json!({ "name": history.name, "decimals": history.decimals, "ticks": kind, "minutes": kind });
            if has_depth(history) {
                entry["depth"] = kind;
            }
            entry
        })
        .collect();
    let mut reply = Response::new(Body::from(json!({ "instruments": list }).to_string()));
    reply.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    reply
}

async fn ticks(
    Extracted(state): Shared,
    Path((instrument, day)): Path<(String, String)>,
    Query(wish): Query<BTreeMap<String, String>>,
    headers: HeaderMap,
) -> Response<Body> {
    let Some(form) = FileForm::of(&wish) else { return no_such_form() };
    let make = |state: &State| {
        let (history, now) = (state.history(&instrument)?, state.now());
        let quotes = history.quotes(day_of(parse(&day).ok()?));
        let quotes = quotes.iter().filter(|q| q.time < now);
        let mut text = Vec::new();
        if form == FileForm::Json {
            let list: Vec<Value> = quotes.map(|quote| tick_json(quote, history.decimals)).collect();
            return (!list.is_empty()).then(|| Value::from(list).to_string().into_bytes());
        }
        quotes.for_each(|quote| push_tick(&mut text, quote, history.decimals));
        (!text.is_empty()).then_some(text)
    };
    file(&state, (&format!("ticks/{instrument}/{day}"), form), &day, &headers, make).await
}

async fn minutes(
    Extracted(state): Shared,
    Path((instrument, month)): Path<(String, String)>,
    Query(wish): Query<BTreeMap<String, String>>,
    headers: HeaderMap,
) -> Response<Body> {
    let Some(form) = FileForm::of(&wish) else { return no_such_form() };
    let make = |state: &State| {
        let (history, now) = (state.history(&instrument)?, state.now());
        let first = day_of(parse(&format!("{month}-01")).ok()?);
        let (year, number, _) = civil_from_days(first);
        let next = if number == 12 { (year + 1, 1) } else { (year, number + 1) };
        let days = first..days_from_civil(next.0, next.1, 1).min(day_of(now) + 1);
        let bars = days.flat_map(|day| history.minutes(day, now));
        if form == FileForm::Json {
            let list: Vec<Value> = bars.map(|bar| minute_json(&bar, history.decimals)).collect();
            return (!list.is_empty()).then(|| Value::from(list).to_string().into_bytes());
        }
        let mut text = b"Time (UTC),Open,High,Low,Close,Volume\n".to_vec();
        let header = text.len();
        bars.for_each(|bar| push_minute(&mut text, &bar, history.decimals));
        (text.len() > header).then_some(text)
    };
    file(&state, (&format!("minutes/{instrument}/{month}"), form), &month, &headers, make).await
}

/// A tick as a record; numbers stand as texts, so that each has its decimals.
fn tick_json(quote: &MarketQuote, decimals: u8) -> Value {
    json!({
        "time": rfc3339(quote.time), "bid": scaled(quote.bid, decimals), "ask": scaled(quote.ask, decimals),
        "bid_volume": scaled(quote.bid_volume, 2), "ask_volume": scaled(quote.ask_volume, 2),
    })
}

fn minute_json(bar: &MinuteBar, decimals: u8) -> Value {
    let price = |value| scaled(value, decimals);
    json!({
        "time": rfc3339(bar.time), "open": price(bar.open), "high": price(bar.high), "low": price(bar.low),
        "close": price(bar.close), "volume": scaled(bar.volume / 10, 1),
    })
}

/// The book is known of the barley contract alone.
fn has_depth(history: &MadeUpHistory) -> bool {
    history.decimals == 2
}

/// Price and size of a level.
type BookLevel = (i64, i64);

/// The book at a quote: five levels of bids and of asks, the best first; prices in points, sizes in contracts.
pub fn book_of(quote: &MarketQuote) -> (Vec<BookLevel>, Vec<BookLevel>) {
    let mut rng = fastrand::Rng::with_seed(quote.time as u64);
    let mut side = |best: i64, step: i64, first: i64| {
        let size =
            |level: i64, rng: &mut fastrand::Rng| if level == 0 { first.max(1) } else { rng.i64(1..40) };
        (0..5).map(|level| (best + level * step, size(level, &mut rng))).collect::<Vec<_>>()
    };
    // A quarter of a crown is the least step of barley.
    (side(quote.bid, -25, quote.bid_volume / 100), side(quote.ask, 25, quote.ask_volume / 100))
}

async fn depth(
    Extracted(state): Shared,
    Path((instrument, day)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response<Body> {
    let make = |state: &State| {
        let (history, now) = (state.history(&instrument).filter(|h| has_depth(h))?, state.now());
        let day = day_of(parse(&day).ok()?);
        let mut text = String::from("Time (UTC),Side,Level,Price,Size\n");
        let header = text.len();
        for quote in history.quotes(day).iter().filter(|q| q.time < now).step_by(BOOK_EVERY) {
            let (bids, asks) = book_of(quote);
            for (side, levels) in [("bid", bids), ("ask", asks)] {
                for (level, (price, size)) in levels.into_iter().enumerate() {
                    let (time, price) = (rfc3339(quote.time), scaled(price, history.decimals));
                    text += &format!("{time},{side},{level},{price},{size}\n");
                }
            }
        }
        (text.len() > header).then(|| text.into_bytes())
    };
    file(&state, (&format!("depth/{instrument}/{day}"), FileForm::Csv), &day, &headers, make).await
}

/// Hands a file out: whole, the rest of it, or the word that it is the same.
async fn file(
    state: &Arc<State>,
    (path, form): (&str, FileForm),
    label: &str,
    headers: &HeaderMap,
    make: impl FnOnce(&State) -> Option<Vec<u8>>,
) -> Response<Body> {
    if let Some(reply) = refused(state, headers) {
        return reply;
    }
    let switch = state.switch();
    let is_late = switch.late.contains(label);
    let path = if form == FileForm::Json { format!("{path}.json") } else { path.to_owned() };
    let made = state.file(&path, || {
        let text = make(state).filter(|_| !is_late)?;
        if form == FileForm::Json { Some(text) } else { packed(&text) }
    });
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
    hand_out(state, (&path, form), &file, (&etag, from), switch.faults).await
}

async fn hand_out(
    state: &Arc<State>,
    (path, form): (&str, FileForm),
    file: &MadeFile,
    (etag, from): (&str, Option<usize>),
    faults: u32,
) -> Response<Body> {
    let body = &file.bytes[from.unwrap_or(0)..];
    let mut head = Response::builder()
        .header(
            header::CONTENT_TYPE,
            if form == FileForm::Json { "application/json" } else { "application/gzip" },
        )
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
         sum = \"{SUM}\"\n\n\
         [[series]]\n\
         frame = \"depth\"\n\
         by = \"day\"\n\
         path = \"/depth/{{instrument}}/{{date}}\"\n\
         ending = \"csv.gz\"\n\
         first = \"depth.first\"\n\
         last = \"depth.last\"\n\
         sum = \"{SUM}\"\n"
    )
}
