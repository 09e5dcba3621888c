//! Deliveries: layouts as people ask for them, many files at once, what lies in the way, what is checked later.

use std::path::Path;

use crate::{Desk, HEADER, bars, minute};

fn desk() -> Desk {
    let desk = Desk::new();
    for (file, instrument) in [("a.csv", "NOKSEK"), ("b.csv", "NZDSEK")] {
        let rows = bars(HEADER, (0..3000).map(minute));
        let told = desk.intake(&[(file, rows)], &["--instrument", instrument]);
        assert_eq!(told.code, 0, "{}", told.err);
    }
    desk
}

fn out(desk: &Desk, name: &str) -> String {
    desk.0.shelf().parent().unwrap().join(name).to_string_lossy().into_owned()
}

fn text(path: &str) -> String {
    std::fs::read_to_string(path).unwrap_or_else(|e| panic!("{path}: {e}"))
}

fn names_in(folder: &str) -> Vec<String> {
    let mut names: Vec<String> = std::fs::read_dir(folder)
        .unwrap()
        .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

/// What is written is taken in again, by the same layout, onto another shelf: the rows are the same.
#[test]
fn every_general_layout_is_read_by_the_layout_it_was_written_by() {
    let desk = desk();
    let rows = desk.rows("NOKSEK@quill:1m");
    let layouts = [
        "rfc3339",
        "plain-times",
        "date-and-time",
        "dotted-minutes",
        "digits",
        "day-first",
        "month-first",
        "decimal-comma",
        "tabs",
        "unix-seconds",
        "unix-millis",
    ];
    for layout in layouts {
        let file = out(&desk, &format!("{layout}.csv"));
        let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &file, "--layout", layout]);
        assert_eq!(told.code, 0, "{layout}: {}", told.err);
        let other = Desk::new();
        let clock: &[&str] = if layout == "rfc3339" { &[] } else { &["--clock", "UTC"] };
        let told = other.run(
            &[&["intake", &file, "--source", "quill", "--instrument", "NOKSEK", "--layout", layout], clock]
                .concat(),
        );
        assert_eq!(told.code, 0, "{layout}: {} {}", told.out, told.err);
        assert!(other.rows("NOKSEK@quill:1m") == rows, "{layout}");
    }
}

#[test]
fn a_layout_that_stamps_at_the_close_is_read_so() {
    let desk = desk();
    let layout = desk.0.file(
        "close.toml",
        "delimiter = ','\nheader = ['time', 'values']\ncolumns = ['moment', 'values']\ndates = 'year-first'\nstamp = 'close'\n",
    );
    let file = out(&desk, "close.csv");
    desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &file, "--layout", &layout]);
    assert!(text(&file).lines().nth(1).unwrap().starts_with("2024-03-04 00:01:00,"), "{}", text(&file));
    let other = Desk::new();
    let told = other.run(&[
        "intake",
        &file,
        "--source",
        "quill",
        "--instrument",
        "NOKSEK",
        "--clock",
        "UTC",
        "--layout",
        &layout,
    ]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(other.rows("NOKSEK@quill:1m") == desk.rows("NOKSEK@quill:1m"));
}

#[test]
fn decimals_are_lost_only_where_somebody_asked_for_it() {
    let desk = desk();
    let file = out(&desk, "x.csv");
    let layout = desk.0.file(
        "coarse.toml",
        "delimiter = ','\ncolumns = ['moment', 'close']\ndates = 'year-first'\ndecimals = 3\n",
    );
    let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &file, "--layout", &layout]);
    assert_eq!(told.code, 2, "{}", told.err);
    assert!(told.err.contains("values would be rounded") && told.err.contains("--decimals"), "{}", told.err);
    assert!(!Path::new(&file).exists());
    let told = desk.run(&[
        "deliver",
        "NOKSEK@quill:1m",
        "--out",
        &file,
        "--decimals",
        "3",
        "--columns",
        "time,close",
    ]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(told.out.contains("3000 values rounded to fewer decimals"), "{}", told.out);
    assert_eq!(text(&file).lines().nth(2).unwrap(), "2024-03-04T00:01:00Z,1.083");
    let told =
        desk.run(&["deliver", "NOKSEK@quill:1m", "--out", "-", "--format", "ndjson", "--decimals", "3"]);
    assert!(
        told.out.starts_with("{\"time\":\"2024-03-04T00:00:00Z\",\"open\":1.083,"),
        "{} {}",
        told.out,
        told.err
    );
}

#[test]
fn an_hour_that_a_clock_shows_twice_is_not_written_without_a_word() {
    let desk = Desk::new();
    let at = |i: i64| format!("2024-10-{:02} {:02}:{:02}", 26 + i / 1440, i / 60 % 24, i % 60);
    desk.intake(&[("a.csv", bars(HEADER, (0..2880).map(at)))], &["--instrument", "NOKSEK"]);
    let file = out(&desk, "x.csv");
    let deliver = |layout: &str| {
        desk.run(&[
            "deliver",
            "NOKSEK@quill:1m",
            "--out",
            &file,
            "--clock",
            "Europe/Oslo",
            "--layout",
            layout,
        ])
    };
    let told = deliver("plain-times");
    assert_eq!(told.code, 2, "{}", told.out);
    assert!(told.err.contains("showed 2024-10-27 02:00 twice"), "{}", told.err);
    assert_eq!(deliver("rfc3339").code, 0);
}

#[test]
fn many_series_frames_and_layouts_are_one_job() {
    let desk = desk();
    for name in ["NOKSEK@quill:1m", "NZDSEK@quill:1m"] {
        desk.run(&["frames", name, "1h", "4h"]);
    }
    let folder = out(&desk, "out") + "/";
    let told = desk.run(&[
        "--json",
        "deliver",
        "N*@quill:1m",
        "--frames",
        "1h,4h",
        "--layout",
        "tabs,digits",
        "--out",
        &folder,
    ]);
    assert_eq!(told.code, 0, "{}", told.err);
    let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    assert_eq!(doc["files"].as_array().unwrap().len(), 8);
    let names = names_in(&folder);
    assert!(names.contains(&"NZDSEK_quill_4h_digits.csv".to_owned()), "{names:?}");
    assert_eq!(names.len(), 9, "and a manifest: {names:?}");
    let missing = desk.run(&["deliver", "N*@quill:1m", "--frames", "5m", "--out", &folder]);
    assert_eq!(missing.code, 1);
    assert!(missing.err.contains("stavel frames NOKSEK@quill:1m 5m builds it"), "{}", missing.err);
    let limits = desk.run(&[
        "--json",
        "deliver",
        "NOKSEK@quill:1m",
        "--frames",
        "all",
        "--last",
        "1m=10,4h=3",
        "--out",
        &folder,
    ]);
    let doc: serde_json::Value = serde_json::from_str(&limits.out).unwrap();
    let rows: Vec<i64> =
        doc["files"].as_array().unwrap().iter().map(|f| f["rows"].as_i64().unwrap()).collect();
    assert!(rows.contains(&10) && rows.contains(&3) && rows.contains(&50), "{rows:?}");
}

#[test]
fn what_lies_there_already_is_kept() {
    let desk = desk();
    let file = desk.0.file("mine.csv", "my own notes\n");
    let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &file]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(told.out.contains("it is kept as"), "{}", told.out);
    assert_eq!(text(&(file.clone() + ".before")), "my own notes\n");
    // What was delivered itself gives way to the next delivery, but not what somebody changed since.
    desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &file]);
    assert!(!Path::new(&(file.clone() + ".before-2")).exists());
    let changed = text(&file) + "# mine\n";
    std::fs::write(&file, &changed).unwrap();
    desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &file]);
    assert_eq!(text(&(file + ".before-2")), changed);
}

#[test]
fn a_manifest_tells_later_what_became_of_the_files() {
    let desk = desk();
    let folder = out(&desk, "out") + "/";
    desk.run(&["deliver", "N*@quill:1m", "--out", &folder]);
    let manifest = folder.clone() + "_manifest.json";
    let verify = || desk.run(&["deliver", "--verify", &manifest]);
    assert_eq!(verify().code, 0, "{}", verify().err);
    assert!(verify().out.contains("2 of 2 files are as they were delivered"), "{}", verify().out);
    let doc: serde_json::Value = serde_json::from_str(&text(&manifest)).unwrap();
    let file = &doc["files"][0];
    assert_eq!((file["rows"].as_i64(), file["first"].as_str()), (Some(3000), Some("2024-03-04T00:00:00Z")));
    assert!(file["command"].as_str().unwrap().starts_with("stavel deliver 'N*@quill:1m'"), "{file}");
    let one = folder.clone() + "NOKSEK_quill_1m.csv";
    std::fs::write(&one, text(&one).replacen("1.0834", "1.0835", 1)).unwrap();
    std::fs::remove_file(folder + "NZDSEK_quill_1m.csv").unwrap();
    let told = verify();
    assert_eq!(told.code, 3);
    assert!(told.out.contains("its bytes are others") && told.out.contains("is missing"), "{}", told.out);
    let none = desk.run(&["deliver", "--verify", &one]);
    assert_eq!(none.code, 1, "{}", none.out);
    assert!(none.err.contains("is no manifest"), "{}", none.err);
}

#[test]
fn only_what_changed_is_written_again() {
    let desk = desk();
    let folder = out(&desk, "out") + "/";
    let deliver = || {
        let told = desk.run(&["--json", "deliver", "N*@quill:1m", "--out", &folder, "--changed"]);
        assert_eq!(told.code, 0, "{}", told.err);
        let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
        (doc["files"].as_array().unwrap().len(), doc["unchanged"].as_array().unwrap().len())
    };
    assert_eq!(deliver(), (2, 0));
    assert_eq!(deliver(), (0, 2));
    desk.intake(&[("more.csv", bars(HEADER, (3000..3010).map(minute)))], &["--instrument", "NZDSEK"]);
    assert_eq!(deliver(), (1, 1));
    assert!(text(&(folder.clone() + "NZDSEK_quill_1m.csv")).contains("2024-03-06T02:09:00Z"));
    std::fs::write(folder.clone() + "NOKSEK_quill_1m.csv", "spoiled").unwrap();
    assert_eq!(deliver(), (1, 1), "a file that somebody changed is not there as it would be");
}

/// Rows that came later are written behind those that are there; what a correction changed, from there on.
#[test]
fn what_came_later_is_written_behind_what_is_there() {
    let desk = desk();
    let deliver = |file: &str, format: &[&str]| {
        let args = [&["--json", "deliver", "NZDSEK@quill:1m", "--changed", "--out", file], format].concat();
        let told = desk.run(&args);
        assert_eq!(told.code, 0, "{}", told.err);
        let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
        assert_eq!(doc["files"][0]["proved"], true, "{doc}");
        (doc["files"][0]["rows"].as_i64(), doc["files"][0]["kept"].as_i64())
    };
    let whole = |file: &str, format: &[&str]| {
        let told = desk.run(&[&["deliver", "NZDSEK@quill:1m", "--out", "-"], format].concat());
        assert!(text(file) == told.out, "the same as if it were written at once");
        let verified = desk.run(&["deliver", "--verify", &(file.to_owned() + ".manifest.json")]);
        assert_eq!(verified.code, 0, "{}", verified.out);
    };
    let (lines, records, list) = (out(&desk, "x.csv"), out(&desk, "x.ndjson"), out(&desk, "x.json"));
    let files: [(&str, &[&str]); 3] = [
        (&lines, &["--line-end", "crlf"]),
        (&records, &["--format", "ndjson"]),
        (&list, &["--format", "json"]),
    ];
    for (file, format) in files {
        assert_eq!(deliver(file, format), (Some(3000), None));
    }
    desk.intake(&[("more.csv", bars(HEADER, (3000..3010).map(minute)))], &["--instrument", "NZDSEK"]);
    for (file, format) in files {
        // A list of records ends in a bracket, so nothing can be written behind it.
        let kept = Some(3000).filter(|_| file != list);
        assert_eq!(deliver(file, format), (Some(3010), kept));
        whole(file, format);
    }
    // Three of the last rows are another's: the seven rows before them stay.
    let other = bars(HEADER, (3007..3012).map(minute)).replace("1.08330", "1.08320");
    let told = desk.intake(&[("other.csv", other)], &["--instrument", "NZDSEK", "--replace"]);
    assert_eq!(told.code, 0, "{}", told.err);
    for (file, format) in &files[..2] {
        assert_eq!(deliver(file, format), (Some(3012), Some(3007)));
        whole(file, format);
    }
    // An earlier row that came late is not behind anything.
    let early = bars(HEADER, ["2024-03-03 22:00".to_owned()].into_iter());
    let told = desk.intake(&[("early.csv", early)], &["--instrument", "NZDSEK", "--frame", "1m"]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert_eq!(deliver(&lines, files[0].1), (Some(3013), None));
    whole(&lines, files[0].1);
    // What somebody wrote into the file is no delivery to go on from.
    std::fs::write(&lines, text(&lines) + "mine\r\n").unwrap();
    desk.intake(&[("later.csv", bars(HEADER, (3020..3024).map(minute)))], &["--instrument", "NZDSEK"]);
    assert_eq!(deliver(&lines, files[0].1), (Some(3017), None));
    assert!(text(&(lines.clone() + ".before")).ends_with("mine\r\n"));
    whole(&lines, files[0].1);
}

#[test]
fn a_layout_that_was_saved_anew_makes_what_was_delivered_by_it_another_file() {
    let desk = desk();
    let (folder, text_of) =
        (out(&desk, "out") + "/", "delimiter = ','\ncolumns = ['moment', 'close']\ndates = ");
    let save = |dates: &str| {
        let file = desk.0.file("l.toml", format!("{text_of}'{dates}'\n"));
        assert_eq!(desk.run(&["layout", "save", "mine", &file]).code, 0);
    };
    let deliver = || {
        let told =
            desk.run(&["deliver", "NOKSEK@quill:1m", "--layout", "mine", "--out", &folder, "--changed"]);
        assert_eq!(told.code, 0, "{}", told.err);
        text(&(folder.clone() + "NOKSEK_quill_1m.csv")).lines().next().unwrap().to_owned()
    };
    save("year-first");
    assert_eq!(deliver(), "2024-03-04 00:00:00,1.08340");
    save("day-first");
    assert_eq!(deliver(), "04.03.2024 00:00:00,1.08340");
}

#[test]
fn a_dataset_is_a_folder_and_is_known_again() {
    let desk = desk();
    let folder = out(&desk, "set");
    let deliver = |more: &[&str]| {
        let told =
            desk.run(&[&["deliver", "N*@quill:1m", "--format", "dataset", "--out", &folder], more].concat());
        assert_eq!(told.code, 0, "{}", told.err);
        told.out
    };
    deliver(&[]);
    assert_eq!(names_in(&folder), ["_manifest.json", "instrument=NOKSEK", "instrument=NZDSEK"]);
    assert!(!deliver(&[]).contains("it is kept as"), "what it delivered itself gives way");
    assert!(deliver(&["--changed"]).contains("2 files are there"));
}

#[test]
fn prices_are_not_rounded_where_only_volumes_were_to_be() {
    let desk = desk();
    let layout = desk.0.file(
        "coarse.toml",
        "delimiter = ','\ncolumns = ['moment', 'close', 'volume']\ndates = 'year-first'\ndecimals = 3\n",
    );
    let args = ["deliver", "NOKSEK@quill:1m", "--out", "-", "--layout", &layout, "--volume-decimals", "0"];
    let told = desk.run(&args);
    assert_eq!(told.code, 2, "{}", told.out);
    assert!(told.err.contains("the close of"), "{}", told.err);
}

#[test]
fn bad_wishes_are_refused_before_anything_is_written() {
    let desk = desk();
    let folder = out(&desk, "out") + "/";
    for (args, told) in [
        (&["--names", "{symbol}.csv"][..], "names no file"),
        (&["--format", "json", "--delimiter", ";"], "does not go with json"),
        (&["--format", "parquet", "--compress", "gz"], "not packed"),
        (&["--format", "html", "--layout", "tabs"], "leave --format away"),
        (&["--columns", "time,bid"], "has no bid"),
        (&["--columns", "close"], "when a row is"),
        (&["--dates", "%Y-%m-%d %H:00"], "choose a form of times"),
        (&["--dates", "only"], "session days"),
        (&["--layout", "nobodys"], "dotted-minutes"),
        (&["--last", "0"], "no number of rows"),
        (&["--from", "2030-01-01"], "no rows in that span"),
        (&["--names", "one"], "Two deliveries would go to"),
    ] {
        let told_so = desk.run(&[&["deliver", "N*@quill:1m", "--out", &folder], args].concat());
        assert!(matches!(told_so.code, 1 | 2), "{args:?}: {}", told_so.out);
        assert!(told_so.err.contains(told), "{args:?}: {}", told_so.err);
        assert!(!Path::new(&folder).exists() || names_in(&folder).is_empty(), "{args:?}");
    }
    let file = desk.0.file("a-file", "x");
    let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &(file + "/x.csv")]);
    assert_eq!(told.code, 1);
    assert!(told.err.contains("Cannot make"), "{}", told.err);
}

#[test]
fn the_ending_of_a_file_says_its_format_and_what_is_said_comes_before_a_layout() {
    let desk = desk();
    let file = out(&desk, "x.parquet");
    assert_eq!(desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &file]).code, 0);
    assert!(std::fs::read(&file).unwrap().starts_with(b"PAR1"), "no lines in a file that says it is Parquet");
    let lines = out(&desk, "y.json");
    desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &lines, "--format", "csv"]);
    assert!(text(&lines).starts_with("time,open,"), "a format that is said comes before an ending");
    let packed = out(&desk, "x.ndjson.gz");
    let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &packed, "--split", "day"]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(Path::new(&out(&desk, "x_2024-03-05.ndjson.gz")).exists(), "{}", told.out);
    let layout = desk.0.file(
        "oslo.toml",
        "delimiter = ','\ncolumns = ['moment', 'close']\ndates = 'year-first'\nclock = 'Europe/Oslo'\n",
    );
    let first = |more: &[&str]| {
        let told =
            desk.run(&[&["deliver", "NOKSEK@quill:1m", "--out", "-", "--layout", &layout], more].concat());
        told.out.lines().next().unwrap_or_default().to_owned()
    };
    assert_eq!(first(&[]), "2024-03-04 01:00:00,1.08340");
    assert_eq!(first(&["--clock", "UTC+3"]), "2024-03-04 03:00:00,1.08340");
}

#[test]
fn one_history_of_many_instruments_is_one_dataset() {
    let desk = desk();
    let folder = out(&desk, "set") + "/";
    let told = desk.run(&["deliver", "N*@quill:1m", "--format", "dataset", "--out", &folder]);
    assert_eq!(told.code, 0, "{}", told.err);
    let file = folder.clone() + "instrument=NZDSEK/source=quill/frame=1m/year=2024/rows.parquet";
    assert!(Path::new(&file).exists(), "{:?}", names_in(&folder));
    let other = Desk::new();
    let told = other.run(&["intake", &file, "--source", "quill", "--instrument", "NZDSEK"]);
    assert_eq!(told.code, 0, "{} {}", told.out, told.err);
    assert_eq!(other.shelf(), [("NZDSEK@quill:1m".to_owned(), 3000)]);
}

#[test]
fn a_page_and_a_workbook_say_what_they_hold() {
    let desk = desk();
    desk.run(&["compose", "NOKSEK", "--set", "description==cmd()", "--set", "commission=35"]);
    let page = out(&desk, "x.html");
    let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--format", "html", "--last", "500", "--out", &page]);
    assert_eq!(told.code, 0, "{}", told.err);
    let html = text(&page);
    assert_eq!(html.matches("<tr><td>2024-").count(), 500);
    assert!(
        html.contains("<svg") && html.contains("sheet and costs") && html.contains("made from")
            || html.contains("provenance")
    );
    assert!(
        !html.contains("<script src") && !html.contains("http://") || html.contains("www.w3.org"),
        "nothing is fetched"
    );
    let book = out(&desk, "x.xlsx");
    let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--format", "xlsx", "--out", &book]);
    assert_eq!(told.code, 0, "{}", told.err);
    let other = Desk::new();
    let told = other.run(&["intake", &book, "--source", "quill", "--instrument", "NOKSEK", "--clock", "UTC"]);
    assert!(told.out.contains("3000 kept"), "{} {}", told.out, told.err);
    assert!(other.rows("NOKSEK@quill:1m") == desk.rows("NOKSEK@quill:1m"));
}
