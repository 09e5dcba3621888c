//! Calendars, specs and costs: from the services, and out of files.

use serde_json::{Value, json};

use super::stand_in::StandIn;
use super::support::Program;

const NOW: [&str; 6] = ["--now", "2024-04-03T12:00:00Z", "--first", "2024-02-26", "--per-second", "500"];

fn with_feeds(p: &Program, feed: &StandIn) {
    for text in [&feed.feed, &feed.broker, &feed.calendar] {
        p.json(&["feeds", "--add", text]);
    }
}

fn facts(p: &Program, name: &str, more: &[&str]) -> Vec<Value> {
    let told = p.json(&[&["shelf", "--facts", name], more].concat());
    told["facts"].as_array().unwrap().clone()
}

fn value_of(p: &Program, instrument: &str, key: &str) -> Value {
    let (_, out, err) = p.told(&["sheet", instrument, "--json"]);
    let sheet: Value = serde_json::from_str(&out).unwrap_or_else(|e| panic!("{e}: {out} {err}"));
    sheet["values"].as_array().unwrap().iter().find(|v| v["key"] == key).unwrap().clone()
}

fn holidays(p: &Program, instrument: &str) -> Vec<String> {
    let value = value_of(p, instrument, "holidays");
    value["value"].as_str().unwrap_or_default().split(", ").map(str::to_owned).collect()
}

/// Minutes of open market that have no rows, as check tells them on a day.
fn is_missing(p: &Program, series: &str, day: &str) -> bool {
    let (_, out, err) = p.told(&["check", series, "--json"]);
    let told: Value = serde_json::from_str(&out).unwrap_or_else(|e| panic!("{e}: {out} {err}"));
    let findings = told["findings"].as_array().unwrap();
    let touches =
        |f: &&Value| f["from"].as_str().unwrap() < &*format!("{day}T23") && f["to"].as_str().unwrap() > day;
    findings.iter().filter(touches).any(|f| f["kind"] == "missing")
}

/// An .ics file and the service give the same holidays, and check then knows that the exchange was closed.
#[test]
fn a_calendar_in_a_file_and_a_feed_close_the_same_days() {
    let p = Program::new();
    let feed = StandIn::start(&p, &NOW);
    with_feeds(&p, &feed);
    let series = "BLY-2024-05@quill:1m";
    p.json(&["fetch", series]);
    p.told(&[
        "compose",
        "BLY-2024-05",
        "--set",
        "hours=mon-fri 09:00-16:30 Europe/Oslo",
        "--set",
        "clock=Europe/Oslo",
    ]);
    assert!(is_missing(&p, series, "2024-03-28"), "Founding Day is not known yet");
    let told = p.json(&["fetch", "--facts"]);
    assert!(told["documents"].as_u64().unwrap() > 4, "{told}");
    let closed = holidays(&p, "BLY-2024-05");
    for day in ["2024-03-28", "2024-12-24 -13:00", "2024-12-25"] {
        assert!(closed.contains(&day.to_owned()), "{closed:?}");
    }
    assert!(!is_missing(&p, series, "2024-03-28"));
    // Nothing is new the second time, and it is asked for nothing that is over.
    let again = p.json(&["fetch", "--facts"]);
    let changes = |told: &Value| -> u64 {
        told["facts"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| f["added"].as_u64().unwrap() + f["changed"].as_u64().unwrap())
            .sum()
    };
    assert_eq!(changes(&again), 0, "{again}");
    // The same out of files; a sheet that is made later has them too.
    let q = Program::new();
    let years: Vec<String> = (2024..=2025)
        .map(|year| q.file(&format!("{year}.ics"), feed.text(&p, &format!("/skerry/holidays/{year}.ics"))))
        .collect();
    let paths: Vec<&str> = years.iter().map(String::as_str).collect();
    let (code, _, err) = q.told(&[&["intake"], &paths[..], &["--source", "skerry"]].concat());
    assert!(code == 3 && err.contains("say --tells holidays or --tells events"), "{err}");
    q.json(&[&["intake"], &paths[..], &["--source", "skerry", "--tells", "holidays"]].concat());
    q.json(&["feeds", "--add", &feed.feed]);
    q.json(&["fetch", series]);
    q.told(&[
        "compose",
        "BLY-2024-05",
        "--set",
        "hours=mon-fri 09:00-16:30 Europe/Oslo",
        "--set",
        "clock=Europe/Oslo",
    ]);
    let all: Vec<String> = holidays(&q, "BLY-2024-05");
    assert_eq!(
        all.iter().filter(|day| !day.contains(':')).collect::<Vec<_>>(),
        closed.iter().filter(|day| !day.contains(':')).collect::<Vec<_>>()
    );
    assert!(!is_missing(&q, series, "2024-03-28"));
    // Who says holidays keeps them, and is told.
    p.told(&["compose", "BLY-2024-05", "--set", "holidays=2024-05-01"]);
    p.json(&["undo"]);
    assert!(holidays(&p, "BLY-2024-05").len() > 4);
}

#[test]
fn events_concern_the_currencies_of_a_pair_and_are_known_as_their_source_says_them_last() {
    let p = Program::new();
    let feed = StandIn::start(&p, &NOW);
    with_feeds(&p, &feed);
    p.json(&["fetch", "NOKSEK@quill:ticks", "NZDSEK@quill:1m"]);
    p.json(&["fetch", "--facts", "NOKSEK@*"]);
    let named = |p: &Program, name: &str| -> Vec<String> {
        facts(p, name, &["--kind", "event", "--weight", "high"])
            .iter()
            .map(|f| {
                format!("{} {}", &f["time"].as_str().unwrap()[..16], f["values"]["id"].as_str().unwrap())
            })
            .collect()
    };
    let of_pair = named(&p, "NOKSEK");
    assert!(of_pair.contains(&"2024-03-27T08:30 0-2024-3@skerry".to_owned()), "{of_pair:?}");
    let mut both = [named(&p, "NOK"), named(&p, "SEK")].concat();
    both.sort();
    assert_eq!(of_pair, both);
    assert!(
        !facts(&p, "NZDSEK", &["--kind", "event"])
            .iter()
            .any(|f| f["values"]["id"].as_str().unwrap().starts_with("1-")),
        "no Norwegian rates"
    );
    // What is announced later has no outcome yet; when the time has come it has, and what was called off is gone.
    let may = |p: &Program| {
        facts(p, "SEK", &[])
            .into_iter()
            .find(|f| f["values"]["id"] == "0-2024-5@skerry")
            .map(|f| f["values"].clone())
    };
    assert!(may(&p).unwrap().get("actual").is_none());
    let count = facts(&p, "SEK", &[]).len();
    feed.set("now", json!("2024-05-23T00:00:00Z"));
    feed.set("off", json!(["0-2024-8"]));
    let told = p.json(&["fetch", "--facts"]);
    let of_sek = told["facts"]
        .as_array()
        .unwrap()
        .iter()
        .find(|f| f["about"] == "SEK" && f["kind"] == "event")
        .unwrap();
    assert_eq!((&of_sek["added"], &of_sek["gone"]), (&json!(0), &json!(1)), "{told}");
    assert!(of_sek["changed"].as_u64().unwrap() >= 2, "{told}");
    assert!(may(&p).unwrap()["actual"].as_str().unwrap().ends_with(" %"));
    assert_eq!(facts(&p, "SEK", &[]).len(), count - 1);
    // A step back, and it is fetched again.
    p.json(&["undo"]);
    assert!(facts(&p, "SEK", &[]).len() == count && may(&p).unwrap().get("actual").is_none());
    p.json(&["fetch", "--facts"]);
    assert!(may(&p).unwrap().get("actual").is_some());
    // Spreads around them, in costs; fewer rows where only the weighty count.
    let around = |more: &[&str]| {
        let (_, out, _) = p.told(&[&["costs", "NOKSEK", "--json"], more].concat());
        let told: Value = serde_json::from_str(&out).unwrap();
        told["spread"]["around_events"]["rows"].as_u64().unwrap()
    };
    let (all, heavy) = (around(&[]), around(&["--weight", "high"]));
    assert!(heavy > 0 && heavy < all, "{heavy} of {all}");
}

/// Events go into deliveries: as a column beside bars, and in a table beside the files.
#[test]
fn events_are_delivered_beside_bars_and_as_a_table() {
    let p = Program::new();
    let feed = StandIn::start(&p, &NOW);
    with_feeds(&p, &feed);
    p.json(&["fetch", "NOKSEK@quill:ticks", "--from", "2024-03-20"]);
    p.json(&["fetch", "--facts"]);
    let heavy = facts(&p, "NOKSEK", &["--kind", "event", "--weight", "high"]);
    let of_pair: Vec<&str> = heavy.iter().map(|f| f["time"].as_str().unwrap()).collect();
    p.json(&["frames", "NOKSEK@quill:ticks", "1h"]);
    // Of one that has no time nobody knows into which hour it fell.
    let summit = p.file("summit.csv", "date,currency,title,weight\n2024-03-20,SEK,summit,high\n");
    p.json(&["intake", &summit, "--source", "own", "--tells", "events"]);
    let out = p.dir.path().join("out/").to_string_lossy().into_owned();
    let (code, told, err) = p.told(&[
        "deliver",
        "NOKSEK@quill:1h",
        "--events",
        "high",
        "--facts",
        "--format",
        "csv,parquet,xlsx",
        "--out",
        &out,
    ]);
    assert!(code == 0 && told.contains("1 event of NOKSEK without a time of day in no bar"), "{told}{err}");
    let text = std::fs::read_to_string(p.dir.path().join("out/NOKSEK_quill_1h.csv")).unwrap();
    assert!(text.lines().next().unwrap().ends_with(",event"), "{text}");
    let with_event: Vec<&str> =
        text.lines().filter(|line| line.ends_with(",3")).map(|line| &line[..13]).collect();
    let within = |time: &&&str| text.lines().any(|line| line.starts_with(&time[..13]));
    let expected: Vec<&str> = of_pair.iter().filter(within).map(|time| &time[..13]).collect();
    assert_eq!(with_event, expected, "the bars in which something was decided");
    let table = std::fs::read_to_string(p.dir.path().join("out/NOKSEK_dates.csv")).unwrap();
    assert!(table.contains("2024-03-27T08:30:00Z,event,skerry,policy rate,high"), "{table}");
    assert!(table.contains("2024-03-20,event,own,summit,high"), "{table}");
    let (code, _, err) =
        p.told(&["deliver", "NOKSEK@quill:ticks", "--events", "--out", &format!("{out}/t.csv")]);
    assert!(code == 2 && err.contains("Events stand beside bars"), "{err}");
}

/// A calendar of a person's own: JSON and CSV, about what they say or what is said; what has no clock is asked for.
#[test]
fn calendars_in_files_are_about_what_is_said_and_their_clock_is_asked_for() {
    let p = Program::new();
    let events =
        "time;currency;title;impact\n2024-03-27 09:30;SEK;policy rate;High\n2024-03-27 10:00;NOK;fair;low\n";
    let csv = p.file("events.csv", events);
    let take =
        |more: &[&str]| p.told(&[&["intake", &csv, "--source", "own", "--tells", "events"], more].concat());
    let (code, _, err) = take(&[]);
    assert!(code == 3 && err.contains("do not say their clock"), "{err}");
    let (code, _, err) = take(&["--clock", "afloat"]);
    assert!(code == 2 && err.contains("align cannot find their clock"), "{err}");
    let (code, out, err) = take(&["--clock", "Europe/Stockholm"]);
    assert!(code == 0 && out.contains("SEK: 1 event read = 1 new"), "{out} {err}");
    assert_eq!(facts(&p, "SEK", &[])[0]["time"], "2024-03-27T08:30:00Z");
    assert_eq!(facts(&p, "NOK", &["--weight", "high"]), [json!(null); 0]);
    // All of it about one instrument, where that is said.
    let (_, out, _) = take(&["--clock", "Europe/Stockholm", "--instrument", "NOKSEK"]);
    assert!(out.contains("NOKSEK: 2 events read = 2 new"), "{out}");
    let actions = r#"{"list":[{"symbol":"BLY","ex_date":"2024-03-05","split":"2:1"},{"symbol":"BLY","ex_date":"x","split":"2:1"}]}"#;
    let path = p.file("actions.json", actions);
    let (code, out, _) = p.told(&["intake", &path, "--source", "own", "--tells", "actions"]);
    assert!(code == 3 && out.contains("not understood: entry 2"), "{out}");
    assert_eq!(facts(&p, "BLY", &["--kind", "split"]).len(), 1);
    for (name, text, why) in [
        ("a.ics", "nonsense", "BEGIN:VCALENDAR"),
        (
            "b.ics",
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nEND:VCALENDAR\r\n",
            "nothing that can be taken in",
        ),
        ("c.json", "{\"a\":[],\"b\":[]}", "several"),
        ("d.json", "[1", "no JSON"),
        ("e.csv", "time,title\n2024-03-05,x\n", "what it is about"),
    ] {
        let path = p.file(name, text);
        let (code, _, err) = p.told(&["intake", &path, "--source", "own", "--tells", "events"]);
        assert!(code != 0 && err.contains(why), "{name}: {code} {err}");
    }
}

/// What the broker says stands in the sheet with its day; a later change is a new value, and the earlier one stays known.
#[test]
fn specs_and_costs_come_from_the_broker_with_their_day() {
    let p = Program::new();
    let feed = StandIn::start(
        &p,
        &["--now", "2024-03-29T00:00:00Z", "--first", "2024-03-18", "--per-second", "500"],
    );
    with_feeds(&p, &feed);
    p.json(&["fetch", "NOKSEK@quill:ticks"]);
    p.told(&["fetch", "--facts"]);
    let swap = value_of(&p, "NOKSEK", "swap_long");
    assert_eq!(
        (&swap["value"], &swap["by"], &swap["standing"]),
        (&json!("-0.31"), &json!("tarn"), &json!("found")),
        "{swap}"
    );
    assert_eq!(swap["since"], "2023-01-01T00:00:00Z");
    let (_, out, _) = p.told(&["costs", "NOKSEK"]);
    assert!(out.contains("quoted           18 points, as tarn says since 2023-01-01"), "{out}");
    let (_, out, _) = p.told(&["costs", "NOKSEK", "--json"]);
    let costs: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(costs["spread"]["quoted"][0]["points"], "18");
    assert!(costs["spread"]["fixed"].is_null(), "a usual spread is no fixed one: {costs}");
    feed.set("now", json!("2024-04-02T00:00:00Z"));
    p.told(&["fetch", "--facts"]);
    let swap = value_of(&p, "NOKSEK", "swap_long");
    assert_eq!((&swap["value"], &swap["earlier"][0]["value"]), (&json!("-0.34"), &json!("-0.31")), "{swap}");
    // What a person says comes before it.
    p.told(&["compose", "NOKSEK", "--set", "swap_long=-0.2"]);
    assert_eq!(value_of(&p, "NOKSEK", "swap_long")["value"], "-0.2");
}

/// Twice over, the second update finds nothing to do.
#[test]
fn a_second_update_changes_nothing() {
    let p = Program::new();
    let feed = StandIn::start(&p, &NOW);
    with_feeds(&p, &feed);
    p.json(&["fetch", "NOKSEK@quill:1m", "BLY-2024-05@quill:1m"]);
    let told = p.told(&["update", "--json"]);
    let first: Value = serde_json::from_str(&told.1).unwrap();
    assert!(!first["facts"].as_array().unwrap().is_empty(), "{first}");
    let requests = || feed.ask("/counts", None)["requests"].as_u64().unwrap();
    let before = requests();
    let second = p.json(&["update"]);
    // The vendor is asked what it has by now; calendars and specs were asked for just before.
    assert!(requests() - before <= 2, "{} requests", requests() - before);
    assert_eq!(
        (&second["facts"], &second["fetched"], &second["rebuilt"]),
        (&json!([]), &json!([]), &json!([])),
        "{second}"
    );
}
