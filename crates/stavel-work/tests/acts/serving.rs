//! Rehearsals for programs: messages, clients over WebSocket, and the same test by script and by client.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use std::time::Duration;

use serde_json::{Value, json};
use stavel_work::{
    OpenOne, PlayPace, RehearseStep, Served, ServedReplay, listen, opener, serve, serve_lines,
};
use tungstenite::Message;

use super::{Desk, quiet};

/// A desk with some days of minutes of which the spread is said.
fn desk() -> Desk {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..8, 0));
    desk.done("act = 'compose'\nname = 'NOKSEK'\nset = { spread = '10', commission = '2' }");
    desk
}

fn open(desk: &Desk, step: &RehearseStep) -> Arc<OpenOne> {
    opener(&desk.path("shelf"), step).unwrap()
}

fn of_minutes() -> RehearseStep {
    RehearseStep::of(vec!["NOKSEK@quill:1m".parse().unwrap()])
}

/// Says something; everything that is answered. Both sides are held against the description of the messages.
fn ask(replay: &mut ServedReplay, message: &Value) -> Vec<Value> {
    let events = replay.take(&message.to_string()).unwrap().events;
    let described = DESCRIBED.with(|described| {
        events.iter().for_each(|event| described.told(event));
        described.asked.is_valid(message)
    });
    let why = events[0]["why"].as_str().unwrap_or_default();
    let is_understood = !why.starts_with("this is not understood");
    // A side that is none is an error of its own.
    assert!(described == is_understood || why.contains("the side"), "{message}: {why}");
    events
}

/// The messages as `docs/asyncapi.yaml` describes them.
struct Described {
    asked: jsonschema::Validator,
    told: jsonschema::Validator,
}

impl Described {
    fn new() -> Described {
        let text = include_str!("../../../../docs/asyncapi.yaml");
        let document: Value = serde_norway::from_str(text).unwrap();
        let schema = |name: &str| {
            let mut schema = json!({"$ref": format!("#/components/schemas/{name}")});
            schema["components"] = document["components"].clone();
            jsonschema::validator_for(&schema).unwrap()
        };
        Described { asked: schema("asked"), told: schema("told") }
    }

    fn told(&self, event: &Value) {
        let wrong: Vec<String> = self.told.iter_errors(event).map(|error| error.to_string()).collect();
        assert!(wrong.is_empty(), "{event}\n{wrong:?}");
    }
}

thread_local! {
    static DESCRIBED: Described = Described::new();
}

/// What is left of an answer without its time.
fn kinds(events: &[Value]) -> Vec<&str> {
    events.iter().map(|event| event["event"].as_str().unwrap()).collect()
}

#[test]
fn a_client_moves_time_deals_and_is_told_what_came_of_it() {
    let desk = desk();
    let mut replay = open(&desk, &of_minutes())().unwrap();
    let hello = replay.hello("acknowledged");
    assert_eq!((hello["protocol"].as_u64(), hello["currency"].as_str()), (Some(1), Some("SEK")));
    assert!(hello["series"][0]["rebuilt"].as_str().unwrap().contains("rebuilt"));
    let first = ask(&mut replay, &json!({"do": "go", "quotes": 3}));
    assert_eq!(kinds(&first), ["quote", "quote", "quote", "turn"]);
    let bought = ask(&mut replay, &json!({"do": "order", "words": "buy 1 with stop 40pt target 60pt"}));
    assert_eq!(kinds(&bought), ["given", "fill", "given", "given", "done"]);
    assert_eq!(bought[1]["fill"]["price"], first[2]["ask"], "at the quote that stands");
    let account = ask(&mut replay, &json!({"do": "account"}));
    assert_eq!(
        (account[0]["holdings"].as_array().unwrap().len(), account[0]["orders"].as_array().unwrap().len()),
        (1, 2)
    );
    let moved = ask(&mut replay, &json!({"do": "move", "order": 2, "price": "0.90000"}));
    assert_eq!(kinds(&moved), ["changed", "done"]);
    let columns = json!({"do": "order", "side": "sell", "lots": "0.5", "type": "limit", "price": "1.5", "until": "day"});
    assert_eq!(kinds(&ask(&mut replay, &columns)), ["given", "done"]);
    for (bad, why) in [
        (json!({"do": "fly"}), "this is not understood"),
        (json!({"do": "go", "far": 1}), "this is not understood"),
        (json!({"do": "order", "words": "hold 1"}), "the side must be buy or sell"),
        (json!({"do": "order", "side": "buy", "lots": "0"}), "the lots must be"),
        (json!({"do": "order", "instrument": "NZDSEK", "words": "buy 1"}), "NZDSEK is not played"),
        (json!({"do": "move", "order": 2, "price": "high"}), "is no price"),
        (json!({"do": "watch", "frames": []}), "Watch quotes"),
        (json!({"do": "watch", "frames": ["30s"]}), "30s"),
    ] {
        let told = ask(&mut replay, &bad);
        assert_eq!(kinds(&told), ["error"], "{bad}");
        assert!(told[0]["why"].as_str().unwrap().contains(why), "{told:?}");
    }
    assert_eq!(kinds(&ask(&mut replay, &json!({"do": "close", "holding": 7}))), ["refused", "done"]);
    assert_eq!(kinds(&ask(&mut replay, &json!({"do": "watch", "frames": ["15m"]}))), ["done"]);
    let bar = ask(&mut replay, &json!({"do": "go"}));
    let of_15m = bar.iter().find(|event| event["event"] == "bar").unwrap();
    assert_eq!(of_15m["frame"], "15m");
    assert!(of_15m["time"].as_str() < bar.last().unwrap()["time"].as_str(), "it is over");
    let bye = replay.take(r#"{"do": "bye"}"#).unwrap();
    assert!(!bye.stays && bye.events[0]["event"] == "end");
    DESCRIBED.with(|described| [&hello, &bye.events[0]].iter().for_each(|event| described.told(event)));
}

/// The crossing of `examples/crossing.orders` as a client: when each deal was made, its side and its price.
fn crossing(replay: &mut ServedReplay) -> Vec<(String, String, String)> {
    let (mut closes, mut lots, mut fills): (Vec<i64>, f64, _) = (Vec::new(), 0.0, Vec::new());
    let mut held = [false; 2];
    let mut take = |events: &[Value], lots: &mut f64| {
        for fill in events.iter().filter(|e| e["event"] == "fill").map(|e| &e["fill"]) {
            let text = |key: &str| fill[key].as_str().unwrap().to_owned();
            let sign = if text("side") == "buy" { 1.0 } else { -1.0 };
            *lots += sign * text("lots").parse::<f64>().unwrap();
            fills.push((text("time"), text("side"), text("price")));
        }
    };
    ask(replay, &json!({"do": "watch", "frames": ["1m"]}));
    loop {
        let events = ask(replay, &json!({"do": "go"}));
        take(&events, &mut lots);
        for bar in events.iter().filter(|e| e["event"] == "bar") {
            closes.push((bar["close"].as_str().unwrap().parse::<f64>().unwrap() * 1e5).round() as i64);
            let mean = |count: usize, back: usize| {
                let end = closes.len().checked_sub(back).filter(|end| *end >= count)?;
                Some(closes[end - count..end].iter().sum::<i64>() as f64 / count as f64)
            };
            let side = |back: usize| Some(mean(5, back)? - mean(20, back)?);
            let (Some(now), Some(before)) = (side(0), side(1)) else { continue };
            let conditions =
                [now > 0.0 && before <= 0.0 && lots == 0.0, now < 0.0 && before >= 0.0 && lots != 0.0];
            let says = [
                json!({"do": "order", "words": "buy 1.00 with stop 50pt target 105pt"}),
                json!({"do": "flat"}),
            ];
            for ((holds, held), message) in conditions.into_iter().zip(&mut held).zip(says) {
                if holds && !std::mem::replace(held, holds) {
                    let events = ask(replay, &message);
                    take(&events, &mut lots);
                }
                *held = holds;
            }
        }
        if events.last().unwrap()["event"] == "end" {
            return fills;
        }
    }
}

#[test]
fn a_crossing_gives_the_same_trades_by_script_and_by_client_and_its_own_bytes_again() {
    let mut desk = desk();
    std::fs::copy(
        concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/crossing.orders"),
        desk.path("x.orders"),
    )
    .unwrap();
    let step = "act = 'rehearse'\nseries = 'NOKSEK@quill:1m'\nscript = '~/x.orders'";
    let told = desk.act(step).unwrap();
    assert_eq!(told.document(), desk.act(step).unwrap().document());
    let scripted: Vec<(String, String, String)> = told.document()["fills"]
        .as_array()
        .unwrap()
        .iter()
        .map(|fill| ["time", "side", "price"].map(|key| fill[key].as_str().unwrap().to_owned()).into())
        .collect();
    assert!(scripted.len() > 20, "{} fills are no test", scripted.len());
    let mut replay = open(&desk, &of_minutes())().unwrap();
    assert_eq!(crossing(&mut replay), scripted);
}

#[test]
fn by_lines_it_is_the_same_and_a_line_of_junk_does_no_harm() {
    let desk = desk();
    let messages = "{\"do\":\"go\"}\n\nnonsense\n{\"do\":\"order\",\"words\":\"sell 1\"}\n{\"do\":\"bye\"}\n{\"do\":\"go\"}\n";
    let mut out = Vec::new();
    serve_lines(open(&desk, &of_minutes())().unwrap(), messages.as_bytes(), &mut out).unwrap();
    let told: Vec<Value> =
        String::from_utf8(out).unwrap().lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert_eq!(kinds(&told), ["hello", "quote", "turn", "error", "given", "fill", "done", "end"]);
}

/// Serves so many clients on a port of its own; where.
fn served(desk: &Desk, step: &RehearseStep, pace: PlayPace, token: Option<&str>, clients: usize) -> String {
    let served = Served { address: "127.0.0.1:0".parse().unwrap(), token: token.map(str::to_owned), pace };
    let listener = listen(&served).unwrap();
    let here = listener.local_addr().unwrap().to_string();
    let open = open(desk, step);
    std::thread::spawn(move || serve(&listener, &served, &open, Some(clients)).unwrap());
    here
}

/// A client that plays to the end and says how often it was told something, and what it earned.
fn to_the_end(here: &str) -> (usize, String) {
    let (mut socket, _) = tungstenite::connect(format!("ws://{here}")).unwrap();
    let say = |message: Value| Message::text(message.to_string());
    let mut heard = 0;
    socket.send(say(json!({"do": "watch", "frames": ["1h"]}))).unwrap();
    socket.send(say(json!({"do": "order", "words": "buy 1 with target 20pt"}))).unwrap();
    socket.send(say(json!({"do": "go"}))).unwrap();
    loop {
        let Message::Text(text) = socket.read().unwrap() else { continue };
        heard += 1;
        let event: Value = serde_json::from_str(&text).unwrap();
        match event["event"].as_str().unwrap() {
            "turn" => socket.send(say(json!({"do": "go"}))).unwrap(),
            "end" => return (heard, event["realised"].as_str().unwrap().to_owned()),
            _ => {}
        }
    }
}

#[test]
fn fifty_clients_get_the_same_whatever_others_do() {
    let desk = desk();
    let here = served(&desk, &of_minutes(), PlayPace::Acknowledged, None, 56);
    let alone = to_the_end(&here);
    // One says nothing at all, one drops out in the middle of a word, one sends junk for ever, one is no WebSocket client.
    let still = tungstenite::connect(format!("ws://{here}")).unwrap();
    let mut dropped = TcpStream::connect(&here).unwrap();
    dropped.write_all(b"GET / HTTP/1.1\r\nHost: a\r\nUpgr").unwrap();
    drop(dropped);
    let (mut junk, _) = tungstenite::connect(format!("ws://{here}")).unwrap();
    let mut other = TcpStream::connect(&here).unwrap();
    other.write_all(&[0u8; 512]).unwrap();
    let sends = std::thread::spawn(move || {
        let mut errors = 0;
        for i in 0..200 {
            let text = format!("{{\"do\": {i}");
            if junk.send(Message::text(text)).is_err() {
                break;
            }
            match junk.read() {
                Ok(Message::Text(text)) if text.contains("\"error\"") => errors += 1,
                Ok(Message::Close(_)) | Err(_) => break,
                Ok(_) => {}
            }
        }
        errors
    });
    let clients: Vec<_> = (0..50)
        .map(|_| {
            let here = here.clone();
            std::thread::spawn(move || to_the_end(&here))
        })
        .collect();
    for client in clients {
        assert_eq!(client.join().unwrap(), alone);
    }
    assert!(
        (10..40).contains(&sends.join().unwrap()),
        "junk is answered for a while, then its sender is let go"
    );
    drop(still);
}

#[test]
fn a_token_is_asked_for_and_an_open_address_needs_one() {
    let desk = desk();
    let here = served(&desk, &of_minutes(), PlayPace::Acknowledged, Some("secret"), 2);
    let refused = tungstenite::connect(format!("ws://{here}")).unwrap_err();
    assert!(refused.to_string().contains("401"), "{refused}");
    let request = tungstenite::ClientRequestBuilder::new(format!("ws://{here}").parse().unwrap())
        .with_header("Authorization", "Bearer secret");
    let (mut socket, _) = tungstenite::connect(request).unwrap();
    assert!(socket.read().unwrap().to_string().contains("\"hello\""));
    let open = Served { address: "0.0.0.0:0".parse().unwrap(), token: None, pace: PlayPace::Max };
    let err = listen(&open).unwrap_err().to_string();
    assert!(err.contains("STAVEL_SERVE_TOKEN"), "{err}");
}

#[test]
fn a_paced_replay_runs_by_itself_and_takes_orders_on_the_way() {
    let desk = desk();
    let step = RehearseStep { to: Some("2024-03-04 03:00".into()), ..of_minutes() };
    let here = served(&desk, &step, PlayPace::Times(10_000.0), None, 1);
    let (mut socket, _) = tungstenite::connect(format!("ws://{here}")).unwrap();
    let mut seen = Vec::new();
    while let Ok(Message::Text(text)) = socket.read() {
        let event: Value = serde_json::from_str(&text).unwrap();
        // Before the first price an order would be refused.
        if seen.len() == 1 {
            socket.send(Message::text(json!({"do": "order", "words": "buy 1"}).to_string())).unwrap();
        }
        seen.push(event["event"].as_str().unwrap().to_owned());
    }
    let count = |kind: &str| seen.iter().filter(|k| *k == kind).count();
    assert_eq!((seen[0].as_str(), seen.last().unwrap().as_str()), ("hello", "end"));
    assert_eq!((count("quote"), count("fill")), (360, 1), "two quotes of each minute");
}

#[test]
fn a_client_that_reads_nothing_is_let_go_without_a_sound() {
    let desk = desk();
    let here = served(&desk, &of_minutes(), PlayPace::Max, None, 2);
    let mut still = TcpStream::connect(&here).unwrap();
    let hello = format!(
        "GET / HTTP/1.1\r\nHost: {here}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Version: 13\r\n\r\n"
    );
    still.write_all(hello.as_bytes()).unwrap();
    still.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    assert_eq!(still.read(&mut [0; 12]).unwrap(), 12);
    // It stalls; another is served meanwhile.
    let (mut socket, _) = tungstenite::connect(format!("ws://{here}")).unwrap();
    let mut last = String::new();
    while let Ok(Message::Text(text)) = socket.read() {
        last = text.to_string();
    }
    assert!(last.contains("\"end\""), "{last}");
}

#[test]
fn lines_of_a_script_that_did_nothing_are_told_with_the_reason() {
    let mut desk = desk();
    let text = "at 2030-01-01 10:00: buy 1\nwhen volume > 0: buy 1\nwhen close < 0: buy 1\nwhen close > 0: buy 1\n\
        when mean(close, 5000) > 0: flat\nwhen close / (bid - bid) > 1: flat\n";
    std::fs::write(desk.path("x.orders"), text).unwrap();
    let told = desk.act("act = 'rehearse'\nseries = 'NOKSEK@quill:1m'\nscript = '~/x.orders'").unwrap();
    let idle: Vec<(u64, String)> = told.document()["idle"]
        .as_array()
        .unwrap()
        .iter()
        .map(|idle| (idle["line"].as_u64().unwrap(), idle["why"].as_str().unwrap().to_owned()))
        .collect();
    let why = |line: u64| idle.iter().find(|(of, _)| *of == line).map(|(_, why)| why.as_str());
    assert!(why(1).unwrap().contains("none of its moments"), "{idle:?}");
    assert!(why(3).unwrap().contains("never began to hold"), "{idle:?}");
    assert!(why(6).unwrap().contains("could never be told"), "a division by zero has no result: {idle:?}");
    assert_eq!(why(4), None, "it acted");
    assert!(told.wants_person);
}
