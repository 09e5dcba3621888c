//! Data as people have it: one small made-up case for each thing that files, clocks and markets do, run
//! through the program and named by what it holds.

#[path = "../program/support.rs"]
#[allow(dead_code)]
mod support;

mod bars;
mod chains;
mod checks;
mod clocks;
mod costs;
mod dates;
mod deliveries;
mod edges;
mod files;
mod formulas;
mod handed_on;
mod made_up;
mod money;
mod numbers;
mod rehearsed;
mod sides;
mod variants;

use support::Program;

/// What a command printed, and how it ended.
struct Told {
    code: i32,
    out: String,
    err: String,
}

/// A shelf of its own with files beside it.
struct Desk(Program);

impl Desk {
    fn new() -> Desk {
        Desk(Program::new())
    }

    /// Takes files in, in UTC where nothing else is said.
    fn intake(&self, files: &[(&str, String)], more: &[&str]) -> Told {
        let paths: Vec<String> = files.iter().map(|(name, text)| self.0.file(name, text)).collect();
        let paths: Vec<&str> = paths.iter().map(String::as_str).collect();
        let clock: &[&str] = if more.contains(&"--clock") { &[] } else { &["--clock", "UTC"] };
        self.run(&[&["intake"], &paths[..], &["--source", "quill"], clock, more].concat())
    }

    fn run(&self, args: &[&str]) -> Told {
        let (code, out, err) = self.0.told(args);
        Told { code, out, err }
    }

    /// The rows of a series as lines of text, without the header.
    fn rows(&self, series: &str) -> Vec<String> {
        let told = self.run(&["deliver", series, "--out", "-"]);
        assert_eq!(told.code, 0, "{}", told.err);
        told.out.lines().skip(1).map(str::to_owned).collect()
    }

    /// Names and rows of the series on the shelf.
    fn shelf(&self) -> Vec<(String, i64)> {
        let doc = self.0.json(&["shelf"]);
        let instruments = doc["instruments"].as_array().cloned().unwrap_or_default();
        let series = instruments.iter().flat_map(|i| i["series"].as_array().cloned().unwrap_or_default());
        series.map(|s| (s["series"].as_str().unwrap().to_owned(), s["rows"].as_i64().unwrap())).collect()
    }
}

/// Lines of bars of NOKSEK from a time text for each.
fn bars(header: &str, times: impl Iterator<Item = String>) -> String {
    let line = |(i, time): (usize, String)| {
        let close = 8_340 + i % 7;
        format!("{time},1.08340,1.{:05},1.08330,1.{close:05},{}\n", close + 10, i + 1)
    };
    format!("{header}\n{}", times.enumerate().map(line).collect::<String>())
}

const HEADER: &str = "time,open,high,low,close,volume";

/// `2024-03-04 HH:MM` for each of some minutes of that day and those after it.
fn minute(at: i64) -> String {
    format!("2024-03-{:02} {:02}:{:02}", 4 + at / 1440, at / 60 % 24, at % 60)
}

/// Numbers that look random and are the same each time.
fn made_up(seed: u64) -> impl FnMut(u64) -> u64 {
    let mut state = seed;
    move |below| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % below
    }
}
