//! Bid and ask in one file and in two.

use crate::{Desk, HEADER, bars, minute};

fn out(desk: &Desk, name: &str) -> String {
    desk.0.shelf().parent().unwrap().join(name).to_string_lossy().into_owned()
}

fn names_in(folder: &str) -> Vec<String> {
    let mut names: Vec<String> = std::fs::read_dir(folder)
        .unwrap()
        .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| !name.starts_with('_'))
        .collect();
    names.sort();
    names
}

/// Bid bars of minutes 0 to 9, ask bars of minutes 1 to 10 with more decimals, and bid bars of another instrument.
fn desk_with_both_sides() -> Desk {
    let desk = Desk::new();
    let bid = bars(HEADER, (0..10).map(minute));
    let ask = bars(HEADER, (1..11).map(minute)).replace(",1.", ",2.").replace(",2.08340,", ",2.083401,");
    for (file, rows, more) in [
        ("bid.csv", bid.clone(), &["--instrument", "NOKSEK"][..]),
        ("ask.csv", ask, &["--instrument", "NOKSEK", "--side", "ask"]),
        ("other.csv", bid, &["--instrument", "NZDSEK"]),
    ] {
        let told = desk.intake(&[(file, rows)], more);
        assert_eq!(told.code, 0, "{} {}", told.out, told.err);
    }
    desk
}

#[test]
fn both_sides_of_bars_stand_in_one_row_and_what_one_lacks_is_absent() {
    let desk = desk_with_both_sides();
    let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--sides", "together", "--out", "-"]);
    assert_eq!(told.code, 0, "{}", told.err);
    let lines: Vec<&str> = told.out.lines().collect();
    assert_eq!(lines[0], "time,open,high,low,close,volume,ask_open,ask_high,ask_low,ask_close,ask_volume");
    assert_eq!(lines.len(), 12, "eleven minutes have one side or both");
    assert_eq!(lines[1], "2024-03-04T00:00:00Z,1.083400,1.083500,1.083300,1.083400,1,,,,,");
    let second = "1.083400,1.083510,1.083300,1.083410,2,2.083401,2.083500,2.083300,2.083401,1";
    assert_eq!(lines[2], format!("2024-03-04T00:01:00Z,{second}"));
    assert!(lines[11].starts_with("2024-03-04T00:10:00Z,,,,,,2.083401,"), "{}", lines[11]);
}

/// Every format holds them, is proved, and gives each side back when it is taken in again.
#[test]
fn a_file_with_both_sides_is_taken_in_one_side_at_a_time() {
    let desk = desk_with_both_sides();
    for ending in ["csv", "json", "ndjson", "json-columns", "xlsx", "html", "parquet"] {
        let file = out(&desk, &format!("both.{}", ending.split('-').next().unwrap()));
        let args = ["--json", "deliver", "NOKSEK@quill:1m", "--sides", "together", "--format", ending];
        let told = desk.run(&[&args[..], &["--out", &file]].concat());
        assert_eq!(told.code, 0, "{ending}: {}", told.err);
        let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
        assert_eq!(
            (&doc["files"][0]["proved"], &doc["files"][0]["rows"]),
            (&true.into(), &11.into()),
            "{ending}"
        );
        let other = Desk::new();
        for (side, series) in [("bid", "NOKSEK@quill:1m"), ("ask", "NOKSEK@quill:1m.ask")] {
            let args = ["intake", &file, "--source", "quill", "--instrument", "NOKSEK", "--clock", "UTC"];
            let told = other.run(&[&args[..], &["--frame", "1m", "--side", side]].concat());
            // The minute that has the other side only is none of this one's, and that is told.
            assert_eq!(told.code, 3, "{ending} {side}: {} {}", told.out, told.err);
            assert!(told.out.contains("1 rejected: the row has no price"), "{ending} {side}: {}", told.out);
            let values = |rows: Vec<String>| -> Vec<Vec<String>> {
                let plain = |cell: &str| match cell.contains('.') {
                    true => cell.trim_end_matches('0').to_owned(),
                    false => cell.to_owned(),
                };
                rows.iter().map(|row| row.split(',').map(plain).collect()).collect()
            };
            assert_eq!(values(other.rows(series)), values(desk.rows(series)), "{ending} {side}");
        }
    }
    let told = desk.run(&[
        "deliver",
        "NOKSEK@quill:1m",
        "--sides",
        "together",
        "--format",
        "dataset",
        "--out",
        &out(&desk, "set"),
    ]);
    assert!(told.code == 2 && told.err.contains("a series of its own"), "{}", told.err);
}

#[test]
fn a_layout_with_columns_of_its_own_gets_the_ask_behind_them_unless_it_names_it() {
    let desk = desk_with_both_sides();
    let head = |columns: &str| {
        let args = ["deliver", "NOKSEK@quill:1m", "--sides", "together", "--out", "-", "--columns", columns];
        let told = desk.run(&args);
        assert_eq!(told.code, 0, "{}", told.err);
        told.out.lines().next().unwrap_or_default().to_owned()
    };
    assert_eq!(head("time,close"), "time,close,ask_open,ask_high,ask_low,ask_close,ask_volume");
    assert_eq!(head("time,ask_close=Ask,close=Bid"), "time,Ask,Bid");
    let told = desk.run(&["deliver", "NOKSEK@quill:1m", "--out", "-", "--columns", "time,ask_close"]);
    assert!(told.code == 2 && told.err.contains("has no ask_close"), "{}", told.err);
}

#[test]
fn sides_apart_are_two_files_and_what_has_one_side_is_told() {
    let desk = desk_with_both_sides();
    let quotes = "time,bid,ask\n2024-03-04 00:00:01,1.1,1.2\n2024-03-04 00:00:02,1.1,1.3\n";
    let told = desk.intake(&[("ticks.csv", quotes.into())], &["--instrument", "NOKSEK"]);
    assert_eq!(told.code, 0, "{} {}", told.out, told.err);
    let folder = out(&desk, "apart") + "/";
    let told = desk.run(&["deliver", "N*@quill:*", "--sides", "apart", "--out", &folder]);
    assert_eq!(told.code, 0, "{}", told.err);
    let files = [
        "NOKSEK_quill_1m.ask.csv",
        "NOKSEK_quill_1m.csv",
        "NOKSEK_quill_ticks.ask.csv",
        "NOKSEK_quill_ticks.bid.csv",
        "NZDSEK_quill_1m.csv",
    ];
    assert_eq!(names_in(&folder), files);
    assert!(told.out.contains("NZDSEK@quill:1m has one price side only"), "{}", told.out);
    let text = |name: &str| std::fs::read_to_string(folder.clone() + name).unwrap();
    assert_eq!(
        text("NOKSEK_quill_ticks.bid.csv"),
        "time,bid\n2024-03-04T00:00:01Z,1.1\n2024-03-04T00:00:02Z,1.1\n"
    );
    assert_eq!(text("NOKSEK_quill_ticks.ask.csv").lines().last(), Some("2024-03-04T00:00:02Z,1.3"));
    let together = out(&desk, "together") + "/";
    let told = desk.run(&["deliver", "N*@quill:1m*", "--sides", "together", "--out", &together]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert_eq!(names_in(&together), ["NOKSEK_quill_1m.both.csv", "NZDSEK_quill_1m.csv"]);
    for sides in ["together", "apart"] {
        let told = desk.run(&["deliver", "NZDSEK@quill:1m", "--sides", sides, "--out", &together]);
        assert_eq!(told.code, 1, "{}", told.out);
        assert!(told.err.contains("NZDSEK@quill:1m.ask is not on the shelf"), "{}", told.err);
    }
}

/// The ask that changed makes another file, as the bid does.
#[test]
fn a_file_with_both_sides_is_written_again_where_one_of_them_changed() {
    let desk = desk_with_both_sides();
    let folder = out(&desk, "both") + "/";
    let deliver = || {
        let args = ["deliver", "NOKSEK@quill:1m", "--sides", "together", "--changed", "--out", &folder];
        let told = desk.run(&args);
        assert_eq!(told.code, 0, "{}", told.err);
        told.out
    };
    assert!(deliver().contains("11 rows"));
    assert!(deliver().contains("1 files are there"));
    let more = bars(HEADER, (11..14).map(minute)).replace(",1.", ",2.");
    desk.intake(&[("more.csv", more)], &["--instrument", "NOKSEK", "--side", "ask"]);
    assert!(deliver().contains("14 rows"));
}

/// A recipe's step is done again where only the ask has changed.
#[test]
fn a_recipe_knows_that_it_reads_the_ask() {
    let desk = desk_with_both_sides();
    let file = out(&desk, "both.csv");
    let recipe = format!(
        "[[step]]\nact = 'deliver'\nseries = ['NOKSEK@quill:1m']\nsides = 'together'\nout = '{file}'\n"
    );
    let recipe = desk.0.file("r.toml", recipe);
    let rows = || std::fs::read_to_string(&file).unwrap().lines().count();
    let run = || {
        let told = desk.run(&["run", &recipe]);
        assert_eq!(told.code, 0, "{} {}", told.out, told.err);
        rows()
    };
    assert_eq!(run(), 12);
    let written = std::fs::metadata(&file).unwrap().modified().unwrap();
    assert_eq!(run(), 12);
    assert_eq!(std::fs::metadata(&file).unwrap().modified().unwrap(), written, "nothing has changed");
    let more = bars(HEADER, (11..14).map(minute)).replace(",1.", ",2.");
    desk.intake(&[("more.csv", more)], &["--instrument", "NOKSEK", "--side", "ask"]);
    assert_eq!(run(), 15);
}
