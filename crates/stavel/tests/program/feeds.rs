//! Feeds: the program fetches from the stand-ins, which it also is.

use std::process::Stdio;
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use super::stand_in::StandIn;
use super::support::Program;

fn rows(p: &Program, series: &str) -> i64 {
    let doc = p.json(&["shelf"]);
    let all =
        doc["instruments"].as_array().unwrap().iter().flat_map(|i| i["series"].as_array().unwrap().clone());
    all.into_iter().find(|s| s["series"] == series).map_or(0, |s| s["rows"].as_i64().unwrap())
}

#[test]
fn what_is_new_is_fetched_once_and_what_is_stepped_back_over_again() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-06T12:00:00Z", "--first", "2024-02-26", "--per-second", "500"],
    );
    let told = p.told(&["fetch", "NOKSEK@quill:ticks"]);
    assert!(told.0 == 1 && told.2.contains("knows no feed"), "{}", told.2);
    p.json(&["feeds", "--add", &feed.feed]);
    let told = p.told(&["fetch", "NOKSEK@quill"]);
    assert!(told.0 == 2 && told.2.contains("says no frame"), "{}", told.2);
    let told = p.told(&["fetch", "SEKNOK@quill:ticks"]);
    assert!(told.0 == 1 && told.2.contains("No feed has SEKNOK@quill:ticks"), "{}", told.2);
    let would = p.json(&["fetch", "NOKSEK@quill:ticks", "--last", "3", "--dry-run"]);
    assert_eq!(would["would_fetch"][0]["pieces"], 3, "{would}");
    // Ten days; the pairs rest on Saturday.
    let fetched = p.json(&["fetch", "NOKSEK@quill:ticks"]);
    assert_eq!((&fetched["fetched"][0]["days"], &fetched["empty_days"]), (&json!(9), &json!(1)), "{fetched}");
    let (first, asked) = (rows(&p, "NOKSEK@quill:ticks"), feed.whole().len());
    assert_eq!(fetched["fetched"][0]["rows"], first);
    assert_eq!(p.json(&["fetch", "NOKSEK@quill:ticks", "--new"])["fetched"][0]["days"], 0);
    let feeds = p.json(&["feeds"]);
    let series = &feeds["feeds"][0]["instruments"][0]["series"];
    assert_eq!(
        (&series[0]["missing_days"], &series[1]["missing_days"]),
        (&json!([]), &json!(["2024-02", "2024-03"]))
    );
    // The day goes on, and another comes: the day that was not finished is completed and is no conflict.
    feed.set("now", json!("2024-03-07T08:00:00Z"));
    let fetched = p.json(&["fetch", "NOKSEK@quill:ticks", "--new"]);
    assert_eq!(fetched["fetched"][0]["days"], 2, "{fetched}");
    let second = rows(&p, "NOKSEK@quill:ticks");
    assert_eq!(fetched["fetched"][0]["rows"], second - first);
    assert_eq!(feed.whole().len(), asked + 1, "one more day was handed out");
    // The same as if it were fetched at once.
    let q = Program::new();
    q.json(&["feeds", "--add", &feed.feed]);
    q.json(&["fetch", "NOKSEK@quill:ticks", "NOKSEK@quill:1m"]);
    let lines = |p: &Program, series: &str| p.told(&["deliver", series, "--out", "-"]).1;
    assert!(lines(&p, "NOKSEK@quill:ticks") == lines(&q, "NOKSEK@quill:ticks"));
    // A step back takes the rows away, and a fetch brings them again.
    p.json(&["undo"]);
    assert_eq!(rows(&p, "NOKSEK@quill:ticks"), first);
    p.json(&["fetch", "NOKSEK@quill:ticks", "--new"]);
    assert!(lines(&p, "NOKSEK@quill:ticks") == lines(&q, "NOKSEK@quill:ticks"));
    // Minutes of the service are those of its ticks.
    p.json(&["fetch", "NOKSEK@quill:1m", "--from", "2024-03-05"]);
    let minutes = lines(&q, "NOKSEK@quill:1m");
    q.json(&["frames", "NOKSEK@quill:ticks", "1m"]);
    let prices = |text: &str| -> Vec<String> {
        text.lines().skip(1).map(|l| l.splitn(6, ',').take(5).collect::<Vec<_>>().join(",")).collect()
    };
    let built = lines(&q, "NOKSEK@quill:1m.built");
    assert_eq!(prices(&minutes), prices(&built));
}

#[test]
fn an_unfinished_minute_is_completed_by_the_next_fetch() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-06T12:00:20Z", "--first", "2024-03-04", "--per-second", "500"],
    );
    p.json(&["feeds", "--add", &feed.feed]);
    p.json(&["fetch", "NOKSEK@quill:1m"]);
    let before = p.told(&["deliver", "NOKSEK@quill:1m", "--out", "-", "--last", "1"]).1;
    feed.set("now", json!("2024-03-06T12:02:00Z"));
    let (code, out, err) = p.told(&["fetch", "NOKSEK@quill:1m", "--new"]);
    assert_eq!(code, 0, "{out} {err}");
    let q = Program::new();
    q.json(&["feeds", "--add", &feed.feed]);
    q.json(&["fetch", "NOKSEK@quill:1m"]);
    let lines = |p: &Program| p.told(&["deliver", "NOKSEK@quill:1m", "--out", "-"]).1;
    assert!(lines(&p) == lines(&q), "the same as if it were fetched at once");
    assert!(
        !lines(&p).contains(before.lines().nth(1).unwrap()),
        "the minute that was not over is another one"
    );
}

#[test]
fn a_day_that_comes_late_is_looked_at_again() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-07T00:00:00Z", "--first", "2024-03-04", "--per-second", "500"],
    );
    feed.set("late", json!(["2024-03-05"]));
    p.json(&["feeds", "--add", &feed.feed]);
    let fetched = p.json(&["fetch", "NOKSEK@quill:ticks"]);
    assert_eq!((&fetched["fetched"][0]["days"], &fetched["empty_days"]), (&json!(2), &json!(1)), "{fetched}");
    feed.set("late", json!([]));
    feed.set("now", json!("2024-03-08T00:00:00Z"));
    let fetched = p.json(&["fetch", "NOKSEK@quill:ticks", "--new"]);
    assert_eq!(fetched["fetched"][0]["days"], 2, "the late one and the new one: {fetched}");
}

/// A day that could not be had is not forgotten because later ones came: the next fetch of what is new brings it.
#[test]
fn a_day_that_failed_is_fetched_with_what_is_new() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-20", "--first", "2024-02-26", "--per-second", "500", "--faults", "60"],
    );
    let text = std::fs::read_to_string(&feed.feed).unwrap().replace("at_once = 4", "at_once = 4, tries = 1");
    let text = p.file("feeds/once.toml", text);
    p.json(&["feeds", "--add", &text]);
    let (code, out, err) = p.told(&["fetch", "NOKSEK@quill:ticks", "--json"]);
    assert_eq!(code, 3, "{err}");
    let told: Value = serde_json::from_str(&out).unwrap();
    assert!(!told["failed"].as_array().unwrap().is_empty(), "{told}");
    feed.set("faults", json!(0));
    let told = p.json(&["update"]);
    assert_eq!(told["failed"], json!([]), "{told}");
    let q = Program::new();
    q.json(&["feeds", "--add", &feed.feed]);
    q.json(&["fetch", "NOKSEK@quill:ticks"]);
    let lines = |p: &Program| p.told(&["deliver", "NOKSEK@quill:ticks", "--out", "-"]).1;
    assert!(lines(&p) == lines(&q), "every day is here");
}

/// What a feed has corrected since is fetched again where that is asked for, and what was asked for in vain is told.
#[test]
fn what_is_here_is_fetched_again_where_that_is_said() {
    let p = Program::new();
    let feed = StandIn::start(&p, &["--now", "2024-03-07", "--first", "2024-03-04", "--per-second", "500"]);
    p.json(&["feeds", "--add", &feed.feed]);
    p.json(&["fetch", "NOKSEK@quill:1m"]);
    let lines = || p.told(&["deliver", "NOKSEK@quill:1m", "--out", "-"]).1;
    let (before, count) = (lines(), rows(&p, "NOKSEK@quill:1m"));
    // Somebody spoils a bar and takes another away.
    let spoiled = "time,open,high,low,close,volume\n2024-03-05 10:00,9,9,9,9,1\n";
    let path = p.file("x.csv", spoiled);
    let args = [
        "intake",
        &path,
        "--source",
        "quill",
        "--instrument",
        "NOKSEK",
        "--frame",
        "1m",
        "--clock",
        "UTC",
        "--prefer",
        "new",
        "--side",
        "bid",
        "--stamp",
        "open",
    ];
    p.told(&args);
    assert!(lines() != before);
    assert_eq!(p.json(&["fetch", "NOKSEK@quill:1m", "--from", "2024-03-05"])["fetched"][0]["rows"], 0);
    let told = p.json(&["fetch", "NOKSEK@quill:1m", "--from", "2024-03-05", "--again"]);
    assert_eq!(told["fetched"][0]["days"], 1, "{told}");
    assert!(lines() == before && rows(&p, "NOKSEK@quill:1m") == count);
    for (args, why) in [
        (&["--again"][..], "say from when on"),
        (&["--from", "2024-03-06", "--to", "2024-03-05"], "nothing lies between"),
        (&["--from", "2024-13-06"], "2024-13-06"),
    ] {
        let (code, _, err) = p.told(&[&["fetch", "NOKSEK@quill:1m"], args].concat());
        assert!(matches!(code, 1 | 2) && err.contains(why), "{args:?}: {err}");
    }
    let (code, out, _) = p.told(&["fetch", "NOKSEK@quill:1m", "--from", "2025-01-01"]);
    assert!(code == 0 && out.contains("the feed has it until 2024-03-06"), "{out}");
}

/// Killed at random, again and again: in the end everything is there, and no day was handed out twice.
#[test]
fn a_fetch_that_is_killed_twenty_times_fetches_no_day_twice() {
    let p = Program::new();
    let feed = StandIn::start(&p, &["--now", "2024-03-20", "--first", "2024-02-05", "--per-second", "150"]);
    p.json(&["feeds", "--add", &feed.feed]);
    let mut rng = fastrand::Rng::with_seed(7);
    for _ in 0..20 {
        let mut child = p
            .command(&["fetch", "*@quill:ticks", "--json"])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let until = Instant::now() + Duration::from_millis(rng.u64(20..250));
        while Instant::now() < until && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(2));
        }
        let _ = child.kill();
        child.wait().unwrap();
    }
    p.json(&["fetch", "*@quill:ticks"]);
    let whole = feed.whole();
    assert!(whole.len() > 80, "{whole:?}");
    // Only what was on its way at a kill, four pieces at once, may come once more.
    let again: u64 = whole.values().map(|times| times - 1).sum();
    assert!(again <= 20 * 4 && whole.values().all(|times| *times <= 4), "{whole:?}");
    let q = Program::new();
    q.json(&["feeds", "--add", &feed.feed]);
    q.json(&["fetch", "*@quill:ticks"]);
    for name in ["NOKSEK@quill:ticks", "NZDSEK@quill:ticks", "BLY-2024-05@quill:ticks"] {
        let lines = |p: &Program| p.told(&["deliver", name, "--out", "-"]).1;
        assert!(lines(&p) == lines(&q), "{name}");
    }
}

#[test]
fn an_update_fetches_what_is_new_and_makes_again_what_is_made_of_it_and_nothing_else() {
    let p = Program::new();
    let feed = StandIn::start(&p, &["--now", "2024-03-06", "--first", "2024-02-26", "--per-second", "500"]);
    p.json(&["feeds", "--add", &feed.feed]);
    p.json(&["fetch", "*@quill:1m", "NOKSEK@quill:ticks"]);
    p.json(&["frames", "NOKSEK@quill:1m", "1h", "1d"]);
    p.json(&["frames", "NZDSEK@quill:1m", "4h"]);
    p.json(&[
        "compose",
        "NOKSEK.day",
        "--like",
        "NOKSEK",
        "--from",
        "NOKSEK@quill:1m",
        "--hours",
        "mon-fri 08:00-17:00 Europe/Oslo",
    ]);
    p.json(&["compose", "NZDNOK", "--formula", "NZDSEK / NOKSEK", "--source", "quill", "--frame", "1m"]);
    let out = p.dir.path().join("out/").to_string_lossy().into_owned();
    let recipe =
        format!("[[step]]\nact = 'deliver'\nseries = ['NOKSEK@quill:1h']\nout = '{out}'\nchanged = true\n");
    let recipe = p.file("r.toml", recipe);
    let rebuilt = |told: &Value| -> Vec<String> {
        told["rebuilt"].as_array().unwrap().iter().map(|v| v.as_str().unwrap().to_owned()).collect()
    };
    let told = p.json(&["update"]);
    assert_eq!(
        (rebuilt(&told), &told["fetched"], &told["unchanged"]),
        (vec![], &json!([]), &json!(9)),
        "{told}"
    );
    let asked = feed.ask("/counts", None)["requests"].as_u64().unwrap();
    feed.set("now", json!("2024-03-08T09:30:00Z"));
    // Nothing is done by a dry run.
    let would = p.json(&["update", "--dry-run"]);
    let pieces = would["would_fetch"].as_array().unwrap().iter().map(|w| w["pieces"].as_u64().unwrap());
    // The day that was not over, three new ones, and Saturday, which may have come late; the month of three minutes.
    assert_eq!(pieces.sum::<u64>(), 5 + 3, "{would}");
    let told = p.json(&["update", "NOKSEK", "--recipe", &recipe]);
    let all = ["NOKSEK@quill:1h", "NOKSEK@quill:1d", "NOKSEK.day@quill:1m", "NZDNOK@quill:1m"];
    assert_eq!(rebuilt(&told), all, "{told}");
    assert_eq!(told["fetched"].as_array().unwrap().len(), 2, "{told}");
    let file = std::fs::read_to_string(p.dir.path().join("out/NOKSEK_quill_1h.csv")).unwrap();
    assert!(file.contains("2024-03-08T09:00:00Z"), "{file}");
    // The other instrument was not asked for.
    assert_eq!(
        rows(&p, "NZDSEK@quill:4h"),
        p.json(&["shelf", "NZDSEK@quill:4h", "--editions"])["editions"][0]["rows"]
    );
    let told = p.json(&["update"]);
    // What the formula reads has changed on its other leg too.
    assert_eq!(rebuilt(&told), ["NZDNOK@quill:1m", "NZDSEK@quill:4h"], "{told}");
    let (before, begun) = (feed.ask("/counts", None)["requests"].as_u64().unwrap(), asked);
    let told = p.json(&["update"]);
    assert_eq!((rebuilt(&told), &told["unchanged"]), (vec![], &json!(9)), "{told}");
    let after = feed.ask("/counts", None)["requests"].as_u64().unwrap();
    assert!(after - before <= 1 && before > begun, "one request to see that nothing is new");
    // The same rows as if all were made at once.
    let q = Program::new();
    q.json(&["feeds", "--add", &feed.feed]);
    q.json(&["fetch", "NOKSEK@quill:1m"]);
    q.json(&["frames", "NOKSEK@quill:1m", "1h"]);
    let lines = |p: &Program| p.told(&["deliver", "NOKSEK@quill:1h", "--out", "-"]).1;
    assert!(lines(&p) == lines(&q));
    // One step back over the whole update.
    p.json(&["undo"]);
    let stale = p.json(&["update", "--dry-run"]);
    assert_eq!(stale["stale"], json!([]), "as it was before, and nothing is stale: {stale}");
    assert!(p.told(&["deliver", "NZDSEK@quill:4h", "--out", "-"]).1.lines().last().unwrap() < "2024-03-06");
}

/// A feed that is not there is told, and what needs no feed is done all the same.
#[test]
fn an_update_without_its_feed_makes_again_what_is_stale() {
    let p = Program::new().with_noksek();
    let feed = StandIn::start(&p, &["--now", "2024-03-06", "--first", "2024-03-04", "--per-second", "500"]);
    let text = std::fs::read_to_string(&feed.feed).unwrap().replace("name = \"quill\"", "name = \"far\"");
    let text = text.replace("at_once = 4", "at_once = 4, tries = 1");
    let text = p.file("feeds/far.toml", text);
    p.json(&["feeds", "--add", &text]);
    p.json(&["fetch", "NOKSEK@far:1m"]);
    p.json(&["frames", "NOKSEK@far:1m", "1h"]);
    p.json(&["frames", "NOKSEK@quill:1m", "1h"]);
    drop(feed);
    p.json(&["compose", "NOKSEK", "--set", "hours=mon-fri 08:00-17:00 Europe/Oslo"]);
    let (code, out, err) = p.told(&["update", "--json"]);
    assert_eq!(code, 3, "{err}");
    let told: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(told["rebuilt"].as_array().unwrap().len(), 2, "{told}");
    assert!(told["failed"][0]["why"].as_str().unwrap().contains("refuses the connection"), "{told}");
}

/// The broker's service gives so many rows at once and writes in a clock that it does not name: in pieces all of it comes,
/// align finds the clock, and what comes later is read by it.
#[test]
fn a_broker_that_limits_rows_is_asked_in_pieces_and_its_clock_is_found_once() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-20T12:00:00Z", "--first", "2024-02-05", "--per-second", "500"],
    );
    for text in [&feed.feed, &feed.broker] {
        p.json(&["feeds", "--add", text]);
    }
    p.json(&["fetch", "NOKSEK@quill:1m"]);
    // What the broker does not have any more is said before.
    let (code, out, err) = p.told(&["fetch", "NOKSEK@tarn:1m", "--from", "2024-02-06", "--dry-run"]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("the feed has it since 2024-02-19"), "{out}");
    let fetched = p.json(&["fetch", "NOKSEK@tarn:1m", "NOKSEK@tarn:1h"]);
    assert!(fetched["fetched"][0]["days"].as_u64().unwrap() >= 10, "{fetched}");
    // What is not known to be UTC is not said to be.
    let feeds = p.json(&["feeds"]);
    let of = |feed: usize| {
        feeds["feeds"][feed]["instruments"][0]["series"].as_array().unwrap().last().unwrap().clone()
    };
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    assert!(text(&of(0)["last"]).ends_with('Z') && text(&of(0)["here_last"]).ends_with('Z'), "{feeds}");
    let tarn = feeds["feeds"][1]["instruments"][0]["series"][0].clone();
    assert!(!text(&tarn["last"]).ends_with('Z') && !text(&tarn["here_last"]).ends_with('Z'), "{tarn}");
    let quill = rows(&p, "NOKSEK@quill:1m");
    let since =
        p.told(&["deliver", "NOKSEK@quill:1m", "--from", "2024-02-18 22:00", "--out", "-"]).1.lines().count()
            - 1;
    assert_eq!(
        rows(&p, "NOKSEK@tarn:1m") as usize,
        since,
        "no row is lost to the limit; {quill} minutes of the vendor"
    );
    let aligned = p.json(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor", "--accept"]);
    assert_eq!(aligned["clock"], "America/New_York+7h", "{aligned}");
    feed.set("now", json!("2024-03-22T12:00:00Z"));
    let told = p.json(&["update"]);
    assert_eq!(told["failed"], json!([]), "{told}");
    let lines = |series: &str| {
        p.told(&["deliver", series, "--from", "2024-03-19", "--out", "-", "--columns", "time,open,close"]).1
    };
    assert_eq!(lines("NOKSEK@tarn:1m"), lines("NOKSEK@quill:1m"), "the same market in the same clock");
}

/// The stand-ins do what their documents say, also where they are asked in odd ways.
#[test]
fn the_services_keep_to_their_documents() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-06T12:00:00Z", "--first", "2024-02-26", "--per-second", "900"],
    );
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let token = std::fs::read_to_string(p.dir.path().join("feeds/stand-in.token")).unwrap();
    for service in ["quill", "tarn", "skerry"] {
        let run = "import sys; from schemathesis.cli import schemathesis; sys.argv = ['schemathesis', *sys.argv[1:]]; schemathesis()";
        let out = std::process::Command::new("python3")
            .args(["-c", run, "run"])
            .arg(root.join(format!("docs/openapi/{service}.yaml")))
            .args([
                "--url",
                &format!("http://{}/{service}", feed.address),
                "-H",
                &format!("X-Token: {token}"),
            ])
            .args(["--checks", "all", "--max-examples", "20", "--seed", "7", "--no-color"])
            .args(["--phases", "examples,coverage,fuzzing"])
            .env("PYTHONPATH", root.join("target/engines"))
            .current_dir(p.dir.path())
            .output()
            .unwrap();
        let told = String::from_utf8_lossy(&out.stdout);
        assert!(out.status.success(), "{service}: {told}{}", String::from_utf8_lossy(&out.stderr));
        assert!(told.contains("generated"), "{told}");
    }
}

/// A service that gives lists of JSON, or the last rows before a time, is asked as its text says.
#[test]
fn records_of_json_and_the_last_rows_before_a_time_give_the_same_rows() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-08T12:00:00Z", "--first", "2024-03-04", "--per-second", "500"],
    );
    p.json(&["feeds", "--add", &feed.feed]);
    p.json(&["feeds", "--add", &feed.broker]);
    let quill = std::fs::read_to_string(&feed.feed).unwrap();
    let records = quill
        .replace("name = \"quill\"", "name = \"records\"")
        .replace("/{date}\"", "/{date}?as=json\"")
        .replace("/{month}\"", "/{month}?as=json\"")
        .replace("csv.gz", "json")
        .replace("dates = \"day-first\"\n", "");
    let tarn = std::fs::read_to_string(&feed.broker).unwrap();
    let latest = tarn
        .replace("name = \"tarn\"", "name = \"latest\"")
        .replace("?from={from}&to={to}", "?to={to}&count={rows}");
    for (name, text) in [("feeds/records.toml", records), ("feeds/latest.toml", latest)] {
        let path = p.file(name, text);
        p.json(&["feeds", "--add", &path]);
    }
    p.json(&["fetch", "NOKSEK@*:ticks", "NOKSEK@*:1m"]);
    let lines = |series: &str| p.told(&["deliver", series, "--out", "-"]).1;
    assert!(lines("NOKSEK@records:ticks") == lines("NOKSEK@quill:ticks"));
    assert!(lines("NOKSEK@records:1m").lines().count() > 3000);
    assert!(lines("NOKSEK@records:1m") == lines("NOKSEK@quill:1m"));
    assert_eq!(rows(&p, "NOKSEK@latest:1m"), rows(&p, "NOKSEK@tarn:1m"));
}

/// The book of the barley contract is fetched as ticks are, and nothing is taken for it that is not there.
#[test]
fn the_book_of_a_contract_is_fetched_by_day() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-06T12:00:00Z", "--first", "2024-03-04", "--per-second", "500"],
    );
    p.json(&["feeds", "--add", &feed.feed]);
    let (code, _, err) = p.told(&["fetch", "NOKSEK@quill:depth"]);
    assert!(code == 1 && err.contains("No feed has NOKSEK@quill:depth"), "{err}");
    p.json(&["fetch", "BLY-2024-05@quill:depth", "BLY-2024-05@quill:ticks"]);
    let count = rows(&p, "BLY-2024-05@quill:depth");
    // Of each third quote five levels of both sides.
    let quotes = rows(&p, "BLY-2024-05@quill:ticks");
    assert!((count - quotes * 10 / 3).abs() <= 3 * 10, "{count} rows of the book, {quotes} quotes");
    let text = p.told(&["deliver", "BLY-2024-05@quill:depth", "--last", "10", "--out", "-"]).1;
    let rows: Vec<Vec<&str>> = text.lines().skip(1).map(|line| line.split(',').collect()).collect();
    let head: Vec<&str> = text.lines().next().unwrap().split(',').collect();
    let at = |name: &str| head.iter().position(|h| *h == name).unwrap_or_else(|| panic!("{name}: {text}"));
    assert_eq!(rows.len(), 10);
    let price = |row: &[&str]| row[at("price")].parse::<f64>().unwrap();
    let best = |side: &str| rows.iter().find(|r| r[at("side")] == side && r[at("level")] == "0").unwrap();
    let (bid, ask) = (rows.iter().map(|r| r[at("side")]).collect::<Vec<_>>(), &rows);
    assert_eq!(bid.iter().filter(|s| **s == bid[0]).count(), 5, "{ask:?}");
    let sides: Vec<&str> =
        bid.iter().copied().collect::<std::collections::BTreeSet<_>>().into_iter().collect();
    let prices = [price(best(sides[0])), price(best(sides[1]))];
    assert!(prices[0] != prices[1]);
}
