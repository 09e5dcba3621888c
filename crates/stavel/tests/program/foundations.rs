//! Nothing lost, nothing assumed in silence, nothing stale: as a person meets it at the command line.

use std::process::Command;

use serde_json::{Value, json};

use crate::support::Program;

/// Minutes of 2024-03-05 from midnight UTC on; each line of `rows` is `open,high,low,close` and what follows.
fn minutes(header: &str, rows: &[&str]) -> String {
    let lines =
        rows.iter().enumerate().map(|(i, row)| format!("2024-03-05 {:02}:{:02},{row}\n", i / 60, i % 60));
    format!("{header}\n{}", lines.collect::<String>())
}

/// So many plain minutes from an hour on, with a price that moves.
fn plain(hour: usize, count: usize) -> String {
    let mut text = String::from("Time (UTC),Open,High,Low,Close,Volume\n");
    for i in hour * 60..hour * 60 + count {
        let price = 12_345 + i % 17;
        text += &format!(
            "2024-03-05 {:02}:{:02},1.{price},1.{},1.{},1.{price},5\n",
            i / 60,
            i % 60,
            price + 3,
            price - 3
        );
    }
    text
}

fn with_minutes(text: &str) -> Program {
    let p = Program::new();
    let path = p.file("NOKSEK.csv", text);
    p.json(&["intake", &path, "--source", "quill", "--frame", "1m", "--decimals", "5"]);
    p
}

/// Five minutes: a spread that is not known, one that is 0, a volume and a price that are not known.
fn with_holes() -> Program {
    with_minutes(&minutes(
        "Time (UTC),Open,High,Low,Close,Volume,Spread",
        &[
            "1.10000,1.10003,1.09998,1.10001,7,12",
            "1.10001,1.10003,1.09998,1.10002,8,",
            "1.10002,1.10003,1.09998,1.10003,,0",
            "1.10003,,,1.10004,0,15",
            "1.10004,1.10005,1.10004,1.10005,3,",
        ],
    ))
}

#[test]
fn an_absent_spread_goes_out_absent_and_a_zero_as_zero_in_every_format_and_comes_back_so() {
    let p = with_holes();
    let delivered = |format: &str| {
        let name = format!("out.{format}");
        let told = p.json(&["deliver", "NOKSEK@quill:1m", "--out", &name, "--format", format]);
        assert_eq!(told["files"][0]["proved"], true, "{format}: a bare file name will do");
        p.dir.path().join(name)
    };
    let csv = std::fs::read_to_string(delivered("csv")).unwrap();
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!(lines[0], "time,open,high,low,close,volume,spread");
    assert_eq!(lines[2], "2024-03-05T00:01:00Z,1.10001,1.10003,1.09998,1.10002,8,");
    assert_eq!(lines[3], "2024-03-05T00:02:00Z,1.10002,1.10003,1.09998,1.10003,,0");
    assert_eq!(lines[4], "2024-03-05T00:03:00Z,1.10003,,,1.10004,0,15");
    for format in ["json", "ndjson"] {
        let text = std::fs::read_to_string(delivered(format)).unwrap();
        let text = if format == "ndjson" { format!("[{}]", text.trim().replace('\n', ",")) } else { text };
        let rows: Value = serde_json::from_str(&text).unwrap();
        assert_eq!((&rows[1]["spread"], &rows[2]["spread"]), (&Value::Null, &json!(0)), "{format}");
        assert_eq!((&rows[2]["volume"], &rows[3]["high"]), (&Value::Null, &Value::Null), "{format}");
    }
    delivered("parquet");
    for format in ["csv", "json", "ndjson", "parquet"] {
        let other = Program::new();
        let path = p.dir.path().join(format!("out.{format}")).to_string_lossy().into_owned();
        other.json(&["intake", &path, "--source", "back", "--instrument", "NOKSEK", "--frame", "1m"]);
        other.json(&["deliver", "NOKSEK@back:1m", "--out", "again.csv"]);
        let again = std::fs::read_to_string(other.dir.path().join("again.csv")).unwrap();
        assert_eq!(again, csv, "by way of {format}");
    }
}

#[test]
fn a_mean_of_spreads_leaves_out_what_is_not_known_and_counts_a_zero() {
    let p = with_holes();
    p.json(&["frames", "NOKSEK@quill:1m", "5m"]);
    p.json(&["deliver", "NOKSEK@quill:5m", "--out", "5m.csv"]);
    let csv = std::fs::read_to_string(p.dir.path().join("5m.csv")).unwrap();
    // 12, 0 and 15 are known; their mean is 9. The volume is that of the rows that say theirs.
    assert_eq!(csv.lines().nth(1), Some("2024-03-05T00:00:00Z,1.10000,1.10005,1.09998,1.10005,18,9"));
    let stats = p.json(&["check", "NOKSEK@quill:1m"])["stats"]["spread"].clone();
    assert_eq!((&stats["median"], &stats["max"]), (&json!(12), &json!(15)));
}

#[test]
fn estimated_spreads_and_filled_bars_keep_a_mark_that_text_can_carry() {
    let p = with_holes();
    p.json(&["compose", "NOKSEK.fixed", "--like", "NOKSEK", "--from", "NOKSEK@quill:1m", "--spread", "18"]);
    p.json(&["deliver", "NOKSEK.fixed@quill:1m", "--out", "fixed.csv", "--origin"]);
    let csv = std::fs::read_to_string(p.dir.path().join("fixed.csv")).unwrap();
    assert!(csv.starts_with("time,open,high,low,close,volume,spread,origin\n"), "{csv}");
    assert!(csv.lines().skip(1).all(|l| l.ends_with(",18,2000")), "{csv}");
    p.json(&["deliver", "NOKSEK.fixed@quill:1m", "--out", "plain.csv"]);
    let plain = std::fs::read_to_string(p.dir.path().join("plain.csv")).unwrap();
    assert!(plain.starts_with("time,open,high,low,close,volume,spread\n"));
}

#[test]
fn points_are_those_of_each_symbol_and_stay_the_same_price_when_decimals_grow() {
    let p = Program::new();
    let mut text = String::from("Time (UTC),Symbol,Open,High,Low,Close,Spread\n");
    for i in 0..30 {
        text += &format!("2024-03-05 00:{i:02},NOKSEK,1.1000{0},1.1000{0},1.1000{0},1.1000{0},15\n", i % 10);
        text += &format!("2024-03-05 00:{i:02},BLYSEK,150.12{0},150.12{0},150.12{0},150.12{0},20\n", i % 10);
    }
    let path = p.file("both.csv", text);
    p.json(&["intake", &path, "--source", "quill", "--frame", "1m"]);
    let decimals = |p: &Program, name: &str| {
        let shelf = p.json(&["shelf"]);
        let all = shelf["instruments"].as_array().unwrap().clone();
        all.into_iter().find(|i| i["name"] == name).unwrap()["decimals"].clone()
    };
    assert_eq!((decimals(&p, "NOKSEK"), decimals(&p, "BLYSEK")), (json!(5), json!(3)));
    let spread = |p: &Program, name: &str| {
        p.json(&["deliver", &format!("{name}@quill:1m"), "--out", "o.csv"]);
        let csv = std::fs::read_to_string(p.dir.path().join("o.csv")).unwrap();
        csv.lines().nth(1).unwrap().rsplit(',').next().unwrap().to_owned()
    };
    assert_eq!((spread(&p, "NOKSEK"), spread(&p, "BLYSEK")), ("15".into(), "20".into()));
    // A later file has a sixth decimal: 15 points of the fifth are 150 of the sixth, the same price.
    let finer = p.file(
        "NOKSEK.csv",
        minutes("Time (UTC),Open,High,Low,Close,Spread", &["1.100001,1.100001,1.100001,1.100001,7"])
            .replace("2024-03-05", "2024-03-06"),
    );
    p.json(&["intake", &finer, "--source", "quill", "--frame", "1m", "--clock", "UTC"]);
    assert_eq!(spread(&p, "NOKSEK"), "150");
}

#[test]
fn what_is_assumed_is_told_in_text_and_in_json_and_what_is_said_is_not() {
    let p = Program::new();
    let path = p.file("NOKSEK.csv", plain(0, 90));
    let intake = ["intake", &path, "--source", "quill"];
    let (code, text, _) = p.told(&[&intake[..], &["--dry-run"]].concat());
    assert!(code == 0 && text.contains("NOKSEK@quill:1m"), "{text}");
    let (code, text, _) = p.told(&intake);
    assert!(code == 0 && text.contains("○ assumed: side bid, stamp open"), "{text}");
    let what = |doc: &Value| -> Vec<String> {
        let list = doc["assumed"].as_array().cloned().unwrap_or_default();
        list.iter().map(|a| a["what"].as_str().unwrap().to_owned()).collect()
    };
    let other = Program::new();
    let said = [&intake[..], &["--side", "bid", "--stamp", "open"]].concat();
    assert!(what(&other.json(&said)).is_empty());
    // What rests on the rows rests on what was assumed of them.
    let frames = p.json(&["frames", "NOKSEK@quill:1m", "1h"]);
    assert_eq!(what(&frames), ["side", "stamp", "hours", "clock"], "{frames}");
    let editions = p.json(&["shelf", "NOKSEK@quill:1m", "--editions"]);
    let decisions = &editions["editions"][0]["provenance"]["made"]["decisions"];
    let standing = |what: &str| {
        let all = decisions.as_array().unwrap();
        all.iter().find(|d| d["what"] == what).unwrap()["standing"].clone()
    };
    assert_eq!(
        [standing("clock"), standing("frame"), standing("decimals"), standing("side")],
        [json!("said"), json!("found"), json!("found"), json!("assumed")]
    );
}

#[test]
fn money_of_a_good_that_nobody_described_is_asked_for() {
    let p = Program::new();
    let path = p.file("BLY.csv", plain(0, 60));
    p.json(&["intake", &path, "--source", "quill", "--instrument", "BLY", "--clock", "UTC"]);
    let orders = p.file("orders.csv", "time,side,lots\n2024-03-05T00:10Z,buy,1.00\n");
    let play = ["rehearse", "BLY@quill:1m", "--orders", &orders];
    let (code, out, err) = p.told(&play);
    assert!(code == 3 && err.contains("stavel compose BLY") && out.is_empty(), "{code} {out} {err}");
    p.json(&["compose", "BLY", "--set", "spread=25"]);
    let (code, out, err) = p.told(&play);
    assert!(code == 0 && out.contains("1 fills") && out.contains("this is in points"), "{code} {out} {err}");
    p.json(&["compose", "BLY", "--set", "tick_size=0.25", "--set", "tick_value=12.50"]);
    let (code, out, err) = p.told(&play);
    assert!(code == 0 && !out.contains("in points") && out.contains("spec sheet"), "{code} {out} {err}");
}

#[test]
fn a_stale_series_is_told_and_delivered_only_when_that_is_meant() {
    let p = with_minutes(&plain(0, 300));
    p.json(&["frames", "NOKSEK@quill:1m", "1h"]);
    let more = p.file("NOKSEK2.csv", plain(5, 300));
    p.json(&["intake", &more, "--source", "quill", "--instrument", "NOKSEK", "--frame", "1m"]);
    let shelf = p.json(&["shelf", "NOKSEK@quill:1h"]);
    let series = &shelf["instruments"][0]["series"][0];
    assert_eq!((&series["stale"], &series["why_stale"]), (&json!(true), &json!(["quill:1m has changed"])));
    let deliver = ["deliver", "NOKSEK@quill:1h", "--out", "h.csv"];
    let (code, _, err) = p.told(&deliver);
    assert!(code == 3 && err.contains("quill:1m has changed"), "{code} {err}");
    assert!(!p.dir.path().join("h.csv").exists());
    let told = p.json(&[&deliver[..], &["--stale-ok"]].concat());
    assert_eq!((&told["files"][0]["stale"], &told["files"][0]["rows"]), (&json!(true), &json!(5)));
    p.json(&["frames", "NOKSEK@quill:1m", "1h"]);
    assert_eq!(p.json(&deliver)["files"][0]["rows"], 10);
}

#[test]
fn a_changed_sheet_makes_frames_stale_and_the_recipe_builds_them_again() {
    let p = with_minutes(&plain(0, 600));
    let recipe = p.file(
        "r.toml",
        "[[step]]\nact = \"frames\"\nseries = \"NOKSEK@quill:1m\"\nframes = [\"4h\"]\n\
         [[step]]\nact = \"deliver\"\nseries = [\"NOKSEK@quill:4h\"]\nout = \"out/\"\n",
    );
    let done = |p: &Program| -> Vec<Value> {
        let steps = p.json(&["run", &recipe])["steps"].as_array().unwrap().clone();
        steps.iter().map(|s| s["done"].clone()).collect()
    };
    let bars = |p: &Program| {
        let csv = std::fs::read_to_string(p.dir.path().join("out/NOKSEK_quill_4h.csv")).unwrap();
        csv.lines().skip(1).map(|l| l[..16].to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(done(&p), ["now", "now"]);
    assert_eq!(done(&p), ["before", "before"]);
    let first = bars(&p);
    p.json(&["compose", "NOKSEK", "--set", "clock=Europe/Oslo"]);
    let shelf = p.json(&["shelf", "NOKSEK@quill:4h"]);
    assert_eq!(shelf["instruments"][0]["series"][0]["why_stale"], json!(["clock of NOKSEK changed"]));
    assert_eq!(done(&p), ["now", "now"]);
    assert_ne!(bars(&p), first, "the days begin at another hour");
    assert_eq!(done(&p), ["before", "before"]);
}

#[test]
fn bars_of_the_source_and_bars_that_were_built_can_both_be_chosen_and_compared() {
    let p = with_minutes(&plain(0, 600));
    let own = p.file(
        "NOKSEK_1h.csv",
        "Time (UTC),Open,High,Low,Close,Volume\n2024-03-05 00:00,9.00000,9.00000,9.00000,9.00000,5\n\
         2024-03-05 01:00,1.12345,1.12364,1.12342,1.12355,5\n2024-03-05 02:00,1.12345,1.12364,1.12342,1.12355,5\n",
    );
    p.json(&["intake", &own, "--source", "quill", "--instrument", "NOKSEK", "--frame", "1h"]);
    let built = p.json(&["frames", "NOKSEK@quill:1m", "1h"]);
    assert_eq!(built["series"][0]["series"], "NOKSEK@quill:1h.built");
    let first_open = |series: &str| {
        p.json(&["deliver", series, "--out", "x.csv"]);
        let csv = std::fs::read_to_string(p.dir.path().join("x.csv")).unwrap();
        csv.lines().nth(1).unwrap().split(',').nth(1).unwrap().to_owned()
    };
    assert_eq!(
        (first_open("NOKSEK@quill:1h"), first_open("NOKSEK@quill:1h.built")),
        ("9.00000".into(), "1.12345".into())
    );
    let check = p.json(&["check", "NOKSEK@quill:1h", "--against", "NOKSEK@quill:1h.built"]);
    assert!(check["findings"].as_array().unwrap().iter().any(|f| f["kind"] == "disagrees"), "{check}");
}

#[test]
fn a_run_is_undone_and_redone_as_one_act() {
    let p = Program::new();
    p.file("NOKSEK.csv", plain(0, 300));
    let recipe = p.file(
        "r.toml",
        "[[step]]\nact = \"intake\"\npaths = [\"NOKSEK.csv\"]\nsource = \"quill\"\n\
         [[step]]\nact = \"frames\"\nseries = \"NOKSEK@quill:1m\"\nframes = [\"1h\"]\n\
         [[step]]\nact = \"compose\"\nname = \"NOKSEK\"\n[step.set]\ncommission = \"3.50\"\n",
    );
    p.json(&["run", &recipe]);
    let after = p.json(&["shelf"]);
    let undone = p.json(&["undo"]);
    assert!(undone["undone"].as_str().unwrap().starts_with("run "), "{undone}");
    assert_eq!(p.json(&["shelf"])["instruments"], json!([]), "the empty instrument went with it");
    p.json(&["redo"]);
    assert_eq!(p.json(&["shelf"]), after);
    let (code, _, err) = p.told(&["redo"]);
    assert!(code == 1 && err.contains("nothing to step forth over"), "{err}");
    p.json(&["undo", "NOKSEK@quill:1h"]);
    p.json(&["redo", "NOKSEK@quill:1h"]);
    assert_eq!(p.json(&["shelf"]), after);
}

#[test]
fn a_layout_writes_dates_and_times_with_the_marks_it_has() {
    let p = Program::new();
    for (name, first) in [
        ("slashes", "2024/03/05 10:07"),
        ("dots", "05.03.2024 10:07:00"),
        ("compact", "20240305 100700"),
        ("iso", "2024-03-05T10:07:00"),
    ] {
        let rest = |minute: &str| first.replace("07", minute);
        let text = format!(
            "When {name},Open,High,Low,Close\n{first},1.10000,1.10003,1.09998,1.10001\n{},1.10001,1.10003,1.09998,1.10002\n",
            if name == "compact" { "20240325 100800".to_owned() } else { rest("08").replacen("05", "25", 1) }
        );
        let path = p.file(&format!("{name}.csv"), &text);
        let dates = if name == "dots" { "day-first" } else { "year-first" };
        let intake =
            ["intake", &path, "--source", name, "--instrument", "NOKSEK", "--clock", "UTC", "--frame", "1m"];
        p.json(&[&intake[..], &["--dates", dates]].concat());
        p.json(&["layout", "save", name, &path]);
        let out = format!("{name}-out.csv");
        let series = format!("NOKSEK@{name}:1m");
        let told = p.json(&["deliver", &series, "--layout", name, "--out", &out]);
        assert_eq!(told["files"][0]["proved"], true);
        assert_eq!(std::fs::read_to_string(p.dir.path().join(out)).unwrap(), text, "{name}");
    }
}

#[test]
#[cfg(unix)]
fn a_reader_that_has_seen_enough_ends_a_delivery_quietly() {
    let p = with_minutes(&plain(0, 1200));
    for rest in ["--format csv", "--format ndjson"] {
        let script = format!(
            "set -o pipefail; '{}' deliver NOKSEK@quill:1m --out - {rest} | head -n 1 >/dev/null; echo \"codes ${{PIPESTATUS[*]}}\"",
            env!("CARGO_BIN_EXE_stavel")
        );
        let out = Command::new("bash").args(["-c", &script]).env("STAVEL_SHELF", p.shelf()).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&out.stdout).trim(), "codes 0 0");
        let err = String::from_utf8_lossy(&out.stderr).into_owned();
        assert!(err.lines().all(|l| l.contains("assumed")), "{err}");
    }
}

#[test]
fn a_folder_of_ones_own_is_not_taken_for_a_shelf() {
    let p = Program::new();
    std::fs::create_dir(p.dir.path().join("data")).unwrap();
    let mine = p.file("data/mine.csv", plain(0, 10));
    let (code, _, err) =
        p.told(&["--shelf", ".", "intake", &mine, "--source", "quill", "--instrument", "NOKSEK"]);
    assert!(code == 1 && err.contains("not a shelf") && err.lines().count() == 1, "{err}");
    assert!(std::path::Path::new(&mine).exists() && !p.dir.path().join("catalog.db").exists());
}

#[test]
fn a_lost_catalog_is_told_and_made_anew() {
    let p = with_minutes(&plain(0, 300));
    p.json(&["frames", "NOKSEK@quill:1m", "1h"]);
    let before = p.json(&["shelf"]);
    std::fs::remove_file(p.shelf().join("catalog.db")).unwrap();
    let (code, _, err) = p.told(&["shelf"]);
    assert!(code == 1 && err.contains("--rebuild") && err.lines().count() == 1, "{err}");
    let (code, out, _) = p.told(&["shelf", "--rebuild", "--json"]);
    let rebuilt: Value = serde_json::from_str(&out).unwrap();
    assert_eq!((code, &rebuilt["series"], &rebuilt["rows"]), (3, &json!(2), &json!(305)), "{rebuilt}");
    let drop_times = |mut doc: Value| {
        for series in doc["instruments"][0]["series"].as_array_mut().unwrap() {
            series.as_object_mut().unwrap().remove("updated");
        }
        doc
    };
    assert_eq!(drop_times(p.json(&["shelf"])), drop_times(before));
    assert_eq!(p.json(&["shelf", "--verify"])["faults"], json!([]));
}

/// A shelf with instruments of different decimals, ticks and bars, some of them with absent values, an afloat
/// series, and sixty days taken in one by one.
#[test]
fn a_whole_shelf_is_one_dataset_for_engines_from_python() {
    let p = with_holes();
    for d in 0..60 {
        let mut day = String::from("Time (UTC),Open,High,Low,Close,Volume\n");
        let (month, date) = (5 + d / 30, 1 + d % 30);
        for i in 0..200 {
            let at = format!("2024-{month:02}-{date:02} {:02}:{:02}", i / 60, i % 60);
            day += &format!("{at},151.2{0},151.3{0},151.1{0},151.2{0},5\n", i % 10);
        }
        let path = p.file("daily.csv", day);
        p.json(&[
            "intake",
            &path,
            "--source",
            "tarn",
            "--instrument",
            "BLYSEK",
            "--frame",
            "1m",
            "--clock",
            "UTC",
        ]);
    }
    let mut ticks = String::from("Time (UTC),Bid,Ask\n");
    for i in 0..400 {
        ticks += &format!(
            "2024-02-29 23:5{}:{:02}.{:03},1.1000{},1.1001{}\n",
            i / 60 % 10,
            i % 60,
            i,
            i % 10,
            i % 10
        );
    }
    let path = p.file("ticks.csv", ticks);
    p.json(&["intake", &path, "--source", "quill", "--instrument", "NOKSEK", "--frame", "ticks"]);
    let path = p.file("afloat.csv", plain(0, 50).replace(" (UTC)", ""));
    p.json(&[
        "intake",
        &path,
        "--source",
        "drift",
        "--instrument",
        "NOKSEK",
        "--frame",
        "1m",
        "--clock",
        "afloat",
    ]);
    let files = walk(&p.shelf().join("data/instrument=BLYSEK"));
    assert!(files <= 6, "{files} files of sixty days");
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let out = Command::new("python3")
        .arg(root.join("scripts/read_dataset.py"))
        .arg(p.shelf())
        .env("PYTHONPATH", root.join("target/engines"))
        .output()
        .unwrap();
    let err = String::from_utf8_lossy(&out.stderr);
    assert!(out.status.success(), "make test puts the engines there (scripts/engines.sh): {err}");
    let told: Value = serde_json::from_slice(&out.stdout).unwrap();
    let rows = json!({"NOKSEK@quill:1m": 5, "NOKSEK@quill:ticks": 400, "BLYSEK@tarn:1m": 12_000});
    assert_eq!((&told["pyarrow"], &told["polars"]), (&rows, &rows));
    let duckdb = json!({
        "NOKSEK@quill:1m": [5, 3, 1], "NOKSEK@quill:ticks": [400, 0, 0], "BLYSEK@tarn:1m": [12_000, 0, 0],
    });
    assert_eq!(told["duckdb"], duckdb, "rows, spreads that are known, spreads of 0");
}

fn walk(folder: &std::path::Path) -> usize {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries.map(|e| if e.path().is_dir() { walk(&e.path()) } else { 1 }).sum()
}
