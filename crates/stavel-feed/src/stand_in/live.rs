//! The broker's stream: quotes as they are made, over a WebSocket, and the book of the barley contract. It goes wrong on
//! demand.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::sync::Arc;
use std::time::Duration;

use axum::body::Body;
use axum::extract::State as Extracted;
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::http::{HeaderMap, Response};
use axum::response::IntoResponse;
use fastrand::Rng;
use stavel_core::model::Clock;
use stavel_core::model::time::{Micros, rfc3339};

use super::answers::refused;
use super::history::MadeUpHistory;
use super::live_tape::LiveSwitch;
use super::state::State;
use super::vendor::book_of;
use crate::demo::BROKER_CLOCK;
use crate::market::MarketQuote;

/// How often messages are sent.
const BEAT: Duration = Duration::from_millis(10);

/// Every so many quotes the book is sent too.
const BOOK_EVERY: usize = 10;

pub async fn live(
    Extracted(state): Extracted<Arc<State>>,
    headers: HeaderMap,
    upgrade: WebSocketUpgrade,
) -> Response<Body> {
    if let Some(reply) = refused(&state, &headers) {
        return reply;
    }
    upgrade.on_upgrade(move |socket| send(socket, state)).into_response()
}

/// The instrument that a message asks for: `{"subscribe": "NOKSEK"}`.
fn asked_for(text: &str) -> Option<String> {
    let wish: serde_json::Value = serde_json::from_str(text).ok()?;
    Some(wish.get("subscribe")?.as_str()?.to_owned())
}

async fn send(mut socket: WebSocket, state: Arc<State>) {
    let clock: Clock = BROKER_CLOCK.parse().unwrap_or_else(|_| Clock::utc());
    let (mut wanted, mut rng) = (BTreeSet::new(), Rng::new());
    let (mut owed, mut junk_owed, mut here) = (0.0, 0, 0u64);
    let mut beat = tokio::time::interval(BEAT);
    beat.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Burst);
    loop {
        tokio::select! {
            heard = socket.recv() => match heard {
                Some(Ok(Message::Text(text))) => wanted.extend(asked_for(&text)),
                Some(Ok(Message::Close(_)) | Err(_)) | None => return,
                Some(Ok(_)) => {}
            },
            _ = beat.tick() => {
                if wanted.is_empty() {
                    continue;
                }
                let live = state.switch().live;
                owed += f64::from(live.per_second) * BEAT.as_secs_f64();
                let batch = batch_of(&state, &wanted, &clock, &mut owed, live);
                here += batch.count;
                if !batch.text.is_empty() && socket.send(Message::Text(batch.text.into())).await.is_err() {
                    return;
                }
                junk_owed += live.junk.min(100);
                if junk_owed >= 100 {
                    junk_owed -= 100;
                    let kind = state.tape().next_junk();
                    if socket.send(junk(kind, &mut rng)).await.is_err() {
                        return;
                    }
                }
                if batch.is_end {
                    let _ = socket.send(Message::Close(None)).await;
                    return;
                }
                if live.breaks > 0 && here >= live.breaks {
                    // Without a word.
                    return;
                }
            }
        }
    }
}

struct Batch {
    text: String,
    count: u64,
    is_end: bool,
}

/// The quotes that are due, as a list of JSON; nothing where none is.
fn batch_of(
    state: &State,
    wanted: &BTreeSet<String>,
    clock: &Clock,
    owed: &mut f64,
    live: LiveSwitch,
) -> Batch {
    let mut batch = Batch { text: String::new(), count: 0, is_end: false };
    let mut tape = state.tape();
    while *owed >= 1.0 {
        if live.ends > 0 && tape.sent >= live.ends {
            batch.is_end = true;
            break;
        }
        let Some((at, quote)) = tape.next(&state.histories) else {
            batch.is_end = true;
            break;
        };
        let history = &state.histories[at];
        if !wanted.contains(history.name) {
            continue;
        }
        *owed -= 1.0;
        batch.count += 1;
        batch.text.push(if batch.text.is_empty() { '[' } else { ',' });
        push_quote(&mut batch.text, history, &quote, clock);
        if history.decimals == 2 && (tape.at).is_multiple_of(BOOK_EVERY) {
            batch.text.push(',');
            push_book(&mut batch.text, history, &quote, clock);
        }
    }
    if !batch.text.is_empty() {
        batch.text.push(']');
    }
    state.counts().stream(tape.sent);
    batch
}

/// A time on the broker's wall, which is not named.
fn written(clock: &Clock, time: Micros) -> String {
    rfc3339(clock.to_wall(time)).trim_end_matches('Z').to_owned()
}

fn decimal(value: i64, decimals: u8) -> String {
    stavel_core::model::price::scaled(value, decimals)
}

fn push_quote(out: &mut String, history: &MadeUpHistory, quote: &MarketQuote, clock: &Clock) {
    let price = |value| decimal(value, history.decimals);
    // Writing into a text does not fail.
    let _ = write!(
        out,
        r#"{{"symbol":"{}","time":"{}","bid":{},"ask":{},"bid_size":{},"ask_size":{}}}"#,
        history.name,
        written(clock, quote.time),
        price(quote.bid),
        price(quote.ask),
        decimal(quote.bid_volume, 2),
        decimal(quote.ask_volume, 2),
    );
}

fn push_book(out: &mut String, history: &MadeUpHistory, quote: &MarketQuote, clock: &Clock) {
    let side = |levels: &[(i64, i64)]| {
        let cells: Vec<String> = levels
            .iter()
            .map(|(price, size)| format!("[{},{size}]", decimal(*price, history.decimals)))
            .collect();
        format!("[{}]", cells.join(","))
    };
    let (bids, asks) = book_of(quote);
    let (bids, asks) = (side(&bids), side(&asks));
    let time = written(clock, quote.time);
    let _ = write!(out, r#"{{"symbol":"{}","time":"{time}","bids":{bids},"asks":{asks}}}"#, history.name);
}

/// Something that is no quote. The kinds come in turn, so that a short stream has all of them too.
fn junk(kind: usize, rng: &mut Rng) -> Message {
    match kind % 6 {
        0 => Message::Text("hello".into()),
        1 => Message::Text(r#"{"symbol":"NOKSEK","time":"soon","bid":1,"ask":2}"#.into()),
        2 => Message::Text(r#"[{"symbol":"NOKSEK"},{"status":"fine"}]"#.into()),
        3 => Message::Text("\u{1b}[2J{\"symbol\":".into()),
        4 => Message::Binary((0..64).map(|_| rng.u8(..)).collect::<Vec<u8>>().into()),
        _ => Message::Text(
            format!(r#"{{"symbol":"OTHER","time":"2024-03-05T00:00:00","bid":{},"ask":2}}"#, rng.u32(..))
                .into(),
        ),
    }
}
