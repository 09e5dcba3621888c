//! Recording a live stream: what arrives is kept, whatever ends the program, and gaps are told.

use std::io::Read;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use super::stand_in::StandIn;
use super::support::Program;

const NOW: [&str; 6] = ["--now", "2024-04-04T10:00:00Z", "--first", "2024-04-01", "--per-second", "500"];

fn live(feed: &StandIn, per_second: u32, junk: u32, breaks: u32, ends: u32) {
    feed.set("live", json!({ "per_second": per_second, "junk": junk, "breaks": breaks, "ends": ends }));
}

fn rows(p: &Program, series: &str) -> u64 {
    let doc = p.json(&["shelf"]);
    let all =
        doc["instruments"].as_array().unwrap().iter().flat_map(|i| i["series"].as_array().unwrap().clone());
    all.into_iter().find(|s| s["series"] == series).map_or(0, |s| s["rows"].as_u64().unwrap())
}

fn gaps(p: &Program, name: &str) -> Vec<Value> {
    p.json(&["shelf", "--facts", name, "--kind", "gap"])["facts"].as_array().unwrap().clone()
}

/// Waits until something holds.
fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let late = Instant::now() + Duration::from_secs(60);
    while !holds() {
        assert!(Instant::now() < late, "{what} did not come");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// Bytes of the logs that are being written.
fn logged(p: &Program) -> u64 {
    let folder = p.shelf().join("feeds/record");
    let Ok(entries) = std::fs::read_dir(folder) else { return 0 };
    let open = entries.flatten().filter(|e| e.path().extension().is_some_and(|ending| ending == "open"));
    open.map(|entry| entry.metadata().map_or(0, |about| about.len())).sum()
}

fn record(p: &Program, series: &[&str]) -> Child {
    let mut command = p.command(&[&["record"], series, &["--json"]].concat());
    command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn end(child: Child) -> Value {
    let pid = child.id().to_string();
    std::process::Command::new("kill").args(["-TERM", &pid]).status().unwrap();
    let out = child.wait_with_output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    serde_json::from_slice(&out.stdout).unwrap()
}

/// The quotes that the stand-in has after its `now`, as the vendor hands them out once their day is over.
fn quotes_of_the_vendor(p: &Program, feed: &StandIn, instrument: &str) -> Vec<String> {
    feed.set("now", json!("2024-04-05T00:00:00Z"));
    p.json(&["feeds", "--add", &feed.feed]);
    let series = format!("{instrument}@quill:ticks");
    p.json(&["fetch", &series, "--last", "1"]);
    let text = p.told(&["deliver", &series, "--from", "2024-04-04 10:00:00.001", "--out", "-"]).1;
    text.lines().skip(1).map(|line| line.split(',').skip(1).collect::<Vec<_>>().join(",")).collect()
}

#[test]
fn every_quote_of_a_stream_that_breaks_and_babbles_is_kept_in_order_and_the_gaps_are_told() {
    let p = Program::new();
    let feed = StandIn::start(&p, &NOW);
    p.json(&["feeds", "--add", &feed.broker]);
    live(&feed, 2000, 30, 300, 2000);
    let mut child = record(&p, &["NOKSEK@tarn:ticks", "BLY-2024-05@tarn:*"]);
    // The stream ends by itself; whoever asks again is told so at once.
    until("the end of the stream", || feed.ask("/counts", None)["stream"].as_u64().unwrap() >= 2000);
    until("what was sent last", || {
        let before = logged(&p);
        std::thread::sleep(Duration::from_millis(500));
        before > 0 && logged(&p) == before
    });
    assert!(child.try_wait().unwrap().is_none(), "it goes on trying");
    let told = end(child);
    let of = |series: &str| -> Value {
        told["recorded"].as_array().unwrap().iter().find(|r| r["series"] == series).unwrap().clone()
    };
    let (pair, barley, book) =
        (of("NOKSEK@tarn:ticks"), of("BLY-2024-05@tarn:ticks"), of("BLY-2024-05@tarn:depth"));
    let count = |r: &Value| r["rows"].as_u64().unwrap();
    assert!(count(&pair) > 500 && count(&barley) > 20 && count(&book) > 50, "{told}");
    assert!(told["junk"].as_u64().unwrap() > 4 && told["others"].as_u64().unwrap() > 0, "{told}");
    assert_eq!(rows(&p, "NOKSEK@tarn:ticks"), count(&pair));
    assert!(gaps(&p, "NOKSEK").len() >= 3, "{told}");
    assert_eq!(gaps(&p, "NOKSEK").len() as u64, pair["gaps"].as_u64().unwrap());
    // Its clock is not known: rows are as they were written. With the clock they are those of the vendor.
    let (code, _, err) = p.told(&["deliver", "NOKSEK@tarn:ticks", "--out", "-"]);
    assert!(code == 1 && err.contains("afloat"), "{err}");
    p.json(&["align", "NOKSEK@tarn:ticks", "--clock", "America/New_York+7h", "--anchor"]);
    let text = p
        .told(&[
            "deliver",
            "NOKSEK@tarn:ticks",
            "--columns",
            "time,bid,ask,bid_volume,ask_volume",
            "--out",
            "-",
        ])
        .1;
    let recorded: Vec<String> =
        text.lines().skip(1).map(|line| line.split(',').skip(1).collect::<Vec<_>>().join(",")).collect();
    // Quotes that were made while nobody listened, before the first and at each gap, are not here; all others are.
    let sent = quotes_of_the_vendor(&p, &feed, "NOKSEK");
    let (mut at, mut jumps) = (0, 0);
    for quote in &recorded {
        let to =
            at + sent[at..].iter().position(|s| s == quote).unwrap_or_else(|| panic!("{quote} was not sent"));
        jumps += usize::from(to > at);
        at = to + 1;
    }
    assert!(jumps <= gaps(&p, "NOKSEK").len() + 1, "{jumps} jumps");
    // When each arrived is known too.
    let arrived =
        p.told(&["deliver", "NOKSEK@tarn:ticks", "--columns", "time,arrived", "--last", "1", "--out", "-"]).1;
    let micros: u64 = arrived.trim().rsplit(',').next().unwrap().parse().unwrap();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_micros() as u64;
    assert!(micros < now && now - micros < 600_000_000, "{arrived}");
}

/// Killed without a word, nothing is lost but the last moment; what was written is taken in by the next recording, and the
/// time between is a gap.
#[test]
fn a_recording_that_is_killed_loses_less_than_a_second() {
    let p = Program::new();
    let feed = StandIn::start(&p, &NOW);
    p.json(&["feeds", "--add", &feed.broker]);
    live(&feed, 500, 0, 0, 0);
    for _ in 0..3 {
        let mut child = record(&p, &["NOKSEK@tarn:ticks"]);
        let begun = logged(&p);
        until("rows", || logged(&p) > begun + 20_000);
        let before = logged(&p);
        // A second later that much more has to be there: more than what a second brings is never held back.
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(logged(&p) >= before);
    }
    let text = std::fs::read_dir(p.shelf().join("feeds/record")).unwrap().flatten();
    let open = text.filter(|e| e.path().extension().is_some_and(|ending| ending == "open")).count();
    assert_eq!(open, 1, "what earlier recordings left was taken in by the next");
    let on_shelf = rows(&p, "NOKSEK@tarn:ticks");
    assert!(on_shelf > 500, "{on_shelf}");
    // An update takes the last one in.
    let told = p.told(&["update"]);
    assert!(told.1.contains("that a recording left were taken in"), "{} {}", told.1, told.2);
    assert!(rows(&p, "NOKSEK@tarn:ticks") > on_shelf + 200);
    assert!(gaps(&p, "NOKSEK").len() >= 2);
}

#[test]
fn a_stream_that_cannot_be_had_is_told_in_one_sentence() {
    let p = Program::new();
    let feed = StandIn::start(&p, &NOW);
    for (args, why) in [
        (&["record", "NOKSEK@tarn:ticks"][..], "No feed has a stream of NOKSEK@tarn:ticks"),
        (&["record", "NOKSEK"], "names no series"),
    ] {
        let (code, _, err) = p.told(args);
        assert!(code != 0 && err.contains(why) && err.lines().count() < 4, "{args:?}: {err}");
    }
    let add = |from: &str, to: &str| {
        let text = std::fs::read_to_string(&feed.broker).unwrap().replace(from, to);
        let path = p.file("feeds/odd.toml", text);
        p.json(&["feeds", "--add", &path]);
    };
    add("path = \"/live\"", "path = \"/nowhere\"");
    let (code, _, err) = p.told(&["record", "NOKSEK@tarn:ticks", "--for", "2"]);
    assert!(code == 1 && err.contains("no stream at the path of live"), "{err}");
    let token = p.file("feeds/wrong.token", "not-the-token");
    std::process::Command::new("chmod").args(["600", &token]).status().unwrap();
    add("stand-in.token", "wrong.token");
    let (code, _, err) = p.told(&["record", "NOKSEK@tarn:ticks", "--for", "2"]);
    assert!(code == 1 && err.contains("refuses its token") && !err.contains("not-the-token"), "{err}");
    add("x", "x");
    // Two at once do not write into each other's logs.
    live(&feed, 100, 0, 0, 0);
    let mut child = record(&p, &["NOKSEK@tarn:ticks"]);
    until("rows", || logged(&p) > 100);
    let (code, _, err) = p.told(&["record", "NOKSEK@tarn:ticks", "--for", "1"]);
    assert!(code == 1 && err.contains("is being recorded already"), "{err}");
    child.kill().unwrap();
    let mut rest = String::new();
    child.stdout.take().unwrap().read_to_string(&mut rest).unwrap();
    child.wait().unwrap();
    drop(feed);
    let (code, _, err) = p.told(&["record", "NOKSEK@tarn:ticks", "--for", "1"]);
    assert!(code == 1 && err.contains("refuses the connection"), "{err}");
}
