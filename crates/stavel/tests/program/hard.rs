//! Hard ends: killed at any moment, and a disk that is full.

use std::collections::BTreeSet;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::support::{Program, demo};

/// Minutes from a day on, each day of another year or month, so that several files are written.
fn minutes(days: &[&str], price: u32) -> String {
    let mut text = String::from("Time (UTC),Open,High,Low,Close,Volume\n");
    for day in days {
        for i in 0..1400u32 {
            let (h, m, p) = (i / 60, i % 60, price + i);
            text += &format!("{day} {h:02}:{m:02},9.{p:05},9.{:05},9.{:05},9.{p:05},{i}\n", p + 9, p - 9);
        }
    }
    text
}

fn words(args: &[String]) -> Vec<&str> {
    args.iter().map(String::as_str).collect()
}

/// The numbers of all editions of the series with their rows; none where it is off the shelf.
fn editions(p: &Program) -> BTreeSet<(i64, i64)> {
    let (code, out, _) = p.told(&["shelf", "NOKSEK@quill:1m", "--editions", "--json"]);
    let doc: serde_json::Value =
        if code == 0 { serde_json::from_str(&out).unwrap() } else { Default::default() };
    let list = doc["editions"].as_array().cloned().unwrap_or_default();
    list.iter().map(|e| (e["edition"].as_i64().unwrap(), e["rows"].as_i64().unwrap())).collect()
}

/// At least two hundred kills at random moments of adding, replacing, stepping back and tidying: after each
/// the shelf opens, every file is as the catalog has it, and every edition committed before is there.
#[test]
fn two_hundred_kills_lose_no_edition() {
    let p = Program::new();
    let add = p.file("add.csv", minutes(&["2022-12-31", "2023-06-01", "2024-01-02"], 10_000));
    let other = p.file("other.csv", minutes(&["2023-06-01", "2023-06-02", "2025-01-02"], 20_000));
    let start = p.file("start.csv", minutes(&["2022-12-30", "2023-01-02"], 10_000));
    let intake = |path: &str, replace: bool| {
        let mut args = vec!["intake", path, "--source", "quill", "--instrument", "NOKSEK"];
        args.extend(replace.then_some("--replace"));
        args.into_iter().map(str::to_owned).collect::<Vec<_>>()
    };
    p.json(&words(&intake(&start, false)));
    let began = Instant::now();
    p.json(&words(&intake(&add, false)));
    let usual = began.elapsed().as_micros() as u64;
    let acts = [intake(&add, false), intake(&other, true), vec!["undo".into(), "NOKSEK@quill:1m".into()]];
    let mut rng = fastrand::Rng::with_seed(7);
    let (mut kills, mut cut_short) = (0, 0);
    let mut before = editions(&p);
    while kills < 200 {
        let act = match before.len() {
            // Now and then the past is done away with, or it would grow for ever.
            n if n > 12 => vec!["shelf".to_owned(), "--tidy".into()],
            _ => acts[rng.usize(..acts.len())].clone(),
        };
        let mut child = p.command(&words(&act)).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_micros(rng.u64(0..usual * 5 / 4)));
        let ended = child.try_wait().unwrap().is_some();
        child.kill().unwrap();
        child.wait().unwrap();
        kills += 1;
        cut_short += u32::from(!ended);
        let (code, out, err) = p.told(&["shelf", "--verify", "--json"]);
        assert_eq!(code, 0, "after {act:?}: {out} {err}");
        let after = editions(&p);
        if act[0] == "intake" {
            assert!(after.is_superset(&before), "after {act:?}: {before:?} became {after:?}");
        }
        if after.is_empty() {
            // The first edition was undone: begin anew.
            p.told(&words(&intake(&start, false)));
        }
        before = if after.is_empty() { editions(&p) } else { after };
    }
    assert!(cut_short > 60, "only {cut_short} of {kills} acts were cut short: little was tested");
    // A writer comes and sweeps what the killed left; then nothing is on the disk that no edition names.
    p.json(&["shelf", "--tidy"]);
    let named = p.json(&["shelf", "--verify"])["files"].as_u64().unwrap();
    assert_eq!(files_below(&p.shelf().join("data")) + files_below(&p.shelf().join("past")), named);
}

/// Two hundred kills more, of the acts that move and do away with files: tidying and joining small files,
/// making the catalog anew, stepping back and forth, and days added one by one. After each the shelf opens (or
/// says that its catalog is to be made anew, and then is), every file is as the catalog has it, and the rows of
/// the last day that was told as taken in are there.
#[test]
fn two_hundred_kills_of_upkeep_lose_nothing() {
    let p = Program::new();
    let add = |day: u64| {
        let date = format!("20{:02}-{:02}-{:02}", 20 + day / 336, 1 + day / 28 % 12, 1 + day % 28);
        let path = p.file("day.csv", minutes(&[&date], 10_000));
        let words = ["intake", &path, "--source", "quill", "--instrument", "NOKSEK", "--frame", "1m"];
        words.map(str::to_owned).to_vec()
    };
    let told = |args: &[&str]| args.iter().map(|a| (*a).to_owned()).collect::<Vec<String>>();
    let acts = [
        told(&["shelf", "--tidy"]),
        told(&["shelf", "--rebuild"]),
        told(&["undo", "NOKSEK@quill:1m"]),
        told(&["redo", "NOKSEK@quill:1m"]),
        told(&["undo"]),
        told(&["redo"]),
    ];
    let mut rng = fastrand::Rng::with_seed(11);
    let (mut kills, mut cut_short, mut day) = (0, 0, 0);
    // The rows of the largest edition there is, and of the current one.
    let most = |p: &Program| editions(p).iter().map(|e| e.1).max().unwrap_or(0);
    let current = |p: &Program| {
        let told = p.json(&["shelf", "NOKSEK@quill:1m"]);
        told["instruments"][0]["series"][0]["rows"].as_i64().unwrap()
    };
    while kills < 200 {
        for _ in 0..2 {
            assert_eq!(p.told(&words(&add(day))).0, 0, "day {day}");
            day += 1;
        }
        let before = (most(&p), current(&p));
        let act = if rng.u8(..3) == 0 { add(day) } else { acts[rng.usize(..acts.len())].clone() };
        let mut child = p.command(&words(&act)).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_micros(rng.u64(0..60_000)));
        let ended = child.try_wait().unwrap().is_some();
        child.kill().unwrap();
        child.wait().unwrap();
        kills += 1;
        cut_short += u32::from(!ended);
        if p.told(&["shelf"]).2.contains("--rebuild") {
            assert_eq!(act[1], "--rebuild", "only a rebuild that was cut short asks for another");
            assert!([0, 3].contains(&p.told(&["shelf", "--rebuild"]).0));
        }
        let (_, out, err) = p.told(&["shelf", "--verify", "--json"]);
        let verified: serde_json::Value =
            serde_json::from_str(&out).unwrap_or_else(|_| panic!("{act:?}: {err}"));
        assert_eq!(verified["faults"], serde_json::json!([]), "after {act:?}");
        match act.get(1).map_or("", String::as_str) {
            // Older editions go; the current one stays what it is.
            "--tidy" | "--rebuild" => assert_eq!(current(&p), before.1, "after {act:?}"),
            _ => assert!(most(&p) >= before.0, "after {act:?}: of {before:?} {} rows are left", most(&p)),
        }
    }
    assert!(cut_short > 60, "only {cut_short} of {kills} acts were cut short: little was tested");
}

fn files_below(folder: &std::path::Path) -> u64 {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries.map(|e| if e.path().is_dir() { files_below(&e.path()) } else { 1 }).sum()
}

/// A limit on the size of files stands for a full disk: writing fails in the same places.
#[test]
#[cfg(unix)]
fn a_full_disk_is_told_and_leaves_the_shelf_as_it_was() {
    let p = Program::new();
    let start = p.file("start.csv", minutes(&["2022-12-30"], 10_000));
    p.json(&["intake", &start, "--source", "quill", "--instrument", "NOKSEK"]);
    let before = p.json(&["shelf"]);
    let more = demo().join("quill/NZDSEK_1m").to_string_lossy().into_owned();
    let script = format!(
        "trap '' XFSZ; ulimit -f 96; exec '{}' intake '{more}' --source quill",
        env!("CARGO_BIN_EXE_stavel")
    );
    let out = Command::new("bash").args(["-c", &script]).env("STAVEL_SHELF", p.shelf()).output().unwrap();
    let told = String::from_utf8_lossy(&out.stderr);
    assert_eq!(out.status.code(), Some(1), "{told}");
    assert!(told.contains("File too large") && told.trim_end().lines().count() == 1, "{told}");
    assert_eq!(p.json(&["shelf"]), before);
    assert_eq!(p.json(&["shelf", "--verify"])["faults"], serde_json::json!([]));
}
