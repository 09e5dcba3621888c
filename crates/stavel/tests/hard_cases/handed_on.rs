//! What is handed on: files converted without a shelf, and bundles for colleagues.

use std::io::Write;
use std::path::Path;
use std::process::Stdio;

use crate::{Desk, HEADER, Told, bars, minute};

fn place(desk: &Desk, name: &str) -> String {
    desk.0.shelf().parent().unwrap().join(name).to_string_lossy().into_owned()
}

fn text(path: &str) -> String {
    std::fs::read_to_string(path).unwrap_or_else(|e| panic!("{path}: {e}"))
}

/// Runs a command with a text on its standard input.
fn piped(desk: &Desk, input: &str, args: &[&str]) -> Told {
    let mut command = desk.0.command(args);
    let mut child =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let done = child.wait_with_output().unwrap();
    Told {
        code: done.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&done.stdout).into_owned(),
        err: String::from_utf8_lossy(&done.stderr).into_owned(),
    }
}

#[test]
fn files_are_converted_and_no_shelf_is_made() {
    let desk = Desk::new();
    let rows = bars("time (UTC),open,high,low,close,volume", (0..600).map(minute));
    let input = desk.0.file("NOKSEK.csv", &rows);
    let output = place(&desk, "out.csv");
    let told = desk.run(&["convert", &input, "--out", &output, "--frame", "1h", "--layout-out", "tabs"]);
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    let written = text(&output);
    assert_eq!(written.lines().count(), 11);
    assert!(
        written.starts_with("time\topen\thigh\tlow\tclose\tvolume\n2024-03-04 00:00:00\t1.08340\t"),
        "{written}"
    );
    assert!(!desk.0.shelf().exists(), "nobody's shelf is touched");
    let told = desk.run(&["convert", &input, "--out", &place(&desk, "out.parquet")]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(std::fs::read(place(&desk, "out.parquet")).unwrap().starts_with(b"PAR1"));
}

#[test]
fn times_of_an_unknown_clock_are_not_moved_and_are_not_called_utc() {
    let desk = Desk::new();
    let input = desk.0.file("NOKSEK.csv", bars(HEADER, (0..100).map(minute)));
    let output = place(&desk, "out.csv");
    let told = desk.run(&["convert", &input, "--out", &output]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(told.out.contains("their times were written as they stand there"), "{}", told.out);
    assert!(text(&output).contains("\n2024-03-04 00:01:00,"), "{}", text(&output));
    let asked = desk.run(&["convert", &input, "--out", &place(&desk, "b.csv"), "--clock-out", "Europe/Oslo"]);
    assert_eq!(asked.code, 3, "{}", asked.out);
    assert!(
        asked.err.contains("say --clock") && !Path::new(&place(&desk, "b.csv")).exists(),
        "{}",
        asked.err
    );
    for moments in [&["--format", "ndjson"][..], &["--layout-out", "unix-millis"]] {
        let asked = desk.run(&[&["convert", &input, "--out", &place(&desk, "c.x")], moments].concat());
        assert_eq!(asked.code, 3, "{moments:?}: {}", asked.out);
        assert!(asked.err.contains("cannot be written as moments of UTC"), "{}", asked.err);
    }
    let known = desk.0.file("NZDSEK.csv", bars("time (UTC),open,high,low,close,volume", (0..9).map(minute)));
    let mixed = desk.run(&["convert", &input, &known, "--out", &(place(&desk, "mixed") + "/")]);
    assert_eq!(mixed.code, 3, "{}", mixed.out);
    assert!(mixed.err.contains("would not be written alike"), "{}", mixed.err);
    let said = ["--clock", "UTC+2", "--clock-out", "Europe/Oslo"];
    let told = desk.run(&[&["convert", &input, "--out", &place(&desk, "b.csv")], &said[..]].concat());
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(text(&place(&desk, "b.csv")).contains("\n2024-03-03T23:01:00+01:00,"));
}

#[test]
fn standard_input_goes_to_standard_output_and_what_is_rejected_is_told() {
    let desk = Desk::new();
    let rows = bars(HEADER, (0..100).map(minute)).replacen("1.08340", "oops", 1);
    let told = piped(
        &desk,
        &rows,
        &["convert", "-", "--instrument", "NOKSEK", "--out", "-", "--format", "ndjson", "--clock", "UTC"],
    );
    assert_eq!(told.code, 3, "a row was rejected: {}", told.err);
    assert_eq!(told.out.lines().count(), 99);
    assert!(told.out.starts_with("{\"time\":\"2024-03-04T00:01:00Z\",\"open\":1.08340,"), "{}", told.out);
    assert!(told.err.contains("line 2: column 2 is not a number: 2024-03-04 00:00,oops"), "{}", told.err);
    let empty = piped(&desk, "", &["convert", "-", "--out", "-"]);
    assert_eq!((empty.code, empty.out.as_str()), (1, ""), "{}", empty.err);
}

#[test]
fn a_shelf_goes_to_a_colleague_whole() {
    let desk = Desk::new();
    desk.intake(&[("n.csv", bars(HEADER, (0..900).map(minute)))], &["--instrument", "NOKSEK"]);
    desk.run(&["frames", "NOKSEK@quill:1m", "1h"]);
    desk.run(&["compose", "NOKSEK", "--set", "commission=3.5"]);
    let (bundle, to) = (place(&desk, "shelf.zip"), place(&desk, "theirs"));
    assert_eq!(desk.run(&["bundle", "--out", &bundle]).code, 0);
    let again = desk.run(&["bundle", "--out", &bundle]);
    assert_eq!(again.code, 2, "no bundle is written over");
    let told = desk.run(&["unbundle", &bundle, "--to", &to]);
    assert_eq!(told.code, 0, "{}", told.err);
    let of = |shelf: &str, args: &[&str]| desk.run(&[&["--shelf", shelf][..], args].concat()).out;
    let ours = desk.0.shelf().to_string_lossy().into_owned();
    for args in
        [&["--json", "shelf"][..], &["sheet", "NOKSEK"], &["deliver", "NOKSEK@quill:1h", "--out", "-"]]
    {
        assert_eq!(of(&to, args), of(&ours, args), "{args:?}");
    }
    // A byte that was changed on the way is noticed, and nothing is left.
    let mut bytes = std::fs::read(&bundle).unwrap();
    let at = bytes.windows(4).position(|w| w == b"PAR1").unwrap() + 40;
    bytes[at] ^= 1;
    std::fs::write(&bundle, bytes).unwrap();
    let told = desk.run(&["unbundle", &bundle, "--to", &place(&desk, "broken")]);
    assert_eq!(told.code, 1, "{}", told.out);
    assert!(!Path::new(&place(&desk, "broken")).exists());
}

#[test]
fn a_recipe_goes_with_the_files_it_reads() {
    let desk = Desk::new();
    desk.0.file("NOKSEK.csv", bars(HEADER, (0..900).map(minute)));
    let recipe = desk.0.file(
        "r.toml",
        "[[step]]\nact = 'intake'\npaths = ['NOKSEK.csv']\nsource = 'quill'\nclock = 'UTC'\n\
         [[step]]\nact = 'deliver'\nseries = ['NOKSEK@quill:1m']\nout = 'out/'\n",
    );
    let bundle = place(&desk, "r.zip");
    let told = desk.run(&["bundle", "--recipe", &recipe, "--out", &bundle]);
    assert_eq!(told.code, 0, "{}", told.err);
    let to = place(&desk, "theirs");
    assert_eq!(desk.run(&["unbundle", &bundle, "--to", &to]).code, 0);
    let other = Desk::new();
    let told = other.run(&["run", &(to.clone() + "/recipe.toml")]);
    assert!(told.out.contains("900 rows read = 900 kept"), "{} {}", told.out, told.err);
    std::fs::remove_file(place(&desk, "NOKSEK.csv")).unwrap();
    let missing = desk.run(&["bundle", "--recipe", &recipe, "--out", &place(&desk, "s.zip")]);
    assert_eq!(missing.code, 1);
    assert!(missing.err.contains("NOKSEK.csv is not there"), "{}", missing.err);
}

/// Whoever cuts the text at every semicolon has whole statements.
#[test]
fn statements_for_engines_are_divided_by_semicolons_and_nothing_else() {
    let desk = Desk::new();
    let told = desk.intake(&[("a.csv", bars(HEADER, (0..3000).map(minute)))], &["--instrument", "NOKSEK"]);
    assert_eq!(told.code, 0, "{}", told.err);
    for engine in ["duckdb", "spark", "datafusion"] {
        let told = desk.run(&["shelf", "--sql", engine]);
        assert_eq!(told.code, 0, "{}", told.err);
        let plain = |part: &str| -> String { part.lines().filter(|l| !l.starts_with("--")).collect() };
        let statements: Vec<String> =
            told.out.split(';').map(plain).filter(|s| !s.trim().is_empty()).collect();
        assert!(statements.len() >= 3, "{engine}: {}", told.out);
        for statement in statements {
            assert!(
                statement.starts_with("CREATE ") || statement.starts_with("SET "),
                "{engine}: {statement}"
            );
        }
    }
}
