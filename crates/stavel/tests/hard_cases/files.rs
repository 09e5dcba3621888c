//! Files, their names and what they hold.

use super::*;

#[test]
fn minutes_with_trade_in_two_of_a_hundred_are_minutes() {
    let mut random = made_up(1);
    let times = (0..5 * 1440).filter(|_| random(50) == 0).map(minute).collect::<Vec<_>>();
    let desk = Desk::new();
    let told = desk.intake(&[("NOKSEK.csv", bars(HEADER, times.iter().cloned()))], &[]);
    assert_eq!((told.code, desk.shelf()), (0, vec![("NOKSEK@quill:1m".into(), times.len() as i64)]));
}

#[test]
fn a_shuffled_file_and_one_written_newest_first_are_the_same_history() {
    let ordered: Vec<String> = (0..600).map(minute).collect();
    let text = bars(HEADER, ordered.iter().cloned());
    let (head, body) = text.split_once('\n').unwrap();
    let mut lines: Vec<&str> = body.lines().collect();
    let whole = Desk::new();
    whole.intake(&[("NOKSEK.csv", text.clone())], &[]);
    lines.reverse();
    let newest_first = format!("{head}\n{}\n", lines.join("\n"));
    let mut random = made_up(2);
    lines.sort_by_cached_key(|_| random(1 << 30));
    let shuffled = format!("{head}\n{}\n", lines.join("\n"));
    for text in [newest_first, shuffled] {
        let desk = Desk::new();
        let told = desk.intake(&[("NOKSEK.csv", text)], &[]);
        assert_eq!((told.code, desk.shelf()), (0, vec![("NOKSEK@quill:1m".into(), 600)]));
        assert_eq!(desk.rows("NOKSEK@quill:1m"), whole.rows("NOKSEK@quill:1m"));
    }
}

#[test]
fn overlapping_files_come_out_as_if_taken_one_after_the_other() {
    let text = bars(HEADER, (0..900).map(minute));
    let (head, body) = text.split_once('\n').unwrap();
    let lines: Vec<&str> = body.lines().collect();
    let part = |from: usize, to: usize| format!("{head}\n{}\n", lines[from..to].join("\n"));
    let files =
        [("NOKSEK_a.csv", part(0, 500)), ("NOKSEK_b.csv", part(300, 700)), ("NOKSEK_c.csv", part(650, 900))];
    let (together, apart) = (Desk::new(), Desk::new());
    let told = together.intake(&files, &[]);
    assert!(told.out.contains("1150 rows read = 900 kept + 0 rejected + 250 already there"), "{}", told.out);
    files.iter().for_each(|file| drop(apart.intake(std::slice::from_ref(file), &[])));
    assert_eq!(together.rows("NOKSEK@quill:1m"), apart.rows("NOKSEK@quill:1m"));
    assert_eq!(together.rows("NOKSEK@quill:1m").len(), 900);
    // One command, one step back.
    together.run(&["undo"]);
    assert_eq!(together.shelf(), []);
}

#[test]
fn a_file_in_epoch_time_and_one_in_wall_time_are_not_put_under_one_clock() {
    let epoch = bars(HEADER, (600..700).map(|i| (1_709_510_400 + i * 60).to_string()));
    let desk = Desk::new();
    let wall = ("NOKSEK_a.csv", bars(HEADER, (0..600).map(minute)));
    let paths: Vec<String> =
        [&wall, &("NOKSEK_b.csv", epoch)].iter().map(|(name, text)| desk.0.file(name, text)).collect();
    let told = desk.run(&["intake", &paths[0], &paths[1], "--source", "quill"]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(told.err.contains("one by one") && told.err.contains("--clock"), "{}", told.err);
    assert_eq!(desk.shelf(), []);
}

#[test]
fn replacing_a_part_never_mixes_two_clocks() {
    for (first, second) in [("afloat", "UTC"), ("UTC", "afloat"), ("Europe/Oslo", "America/New_York+7h")] {
        let desk = Desk::new();
        desk.intake(&[("NOKSEK_a.csv", bars(HEADER, (0..600).map(minute)))], &["--clock", first]);
        let later = ("NOKSEK_b.csv", bars(HEADER, (500..900).map(minute)));
        let told = desk.intake(&[later], &["--clock", second, "--replace"]);
        assert_eq!(told.code, 2, "{first} {second}: {}", told.out);
        assert_eq!(desk.shelf()[0].1, 600);
    }
}

#[test]
fn files_that_differ_in_one_part_of_their_names_differ_in_instrument() {
    let text = || bars(HEADER, (0..300).map(minute));
    let desk = Desk::new();
    let told = desk.intake(&[("PRE_AAABBB_M1_2024.csv", text()), ("PRE_CCCDDD_M1_2024.csv", text())], &[]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert_eq!(desk.shelf(), [("AAABBB@quill:1m".into(), 300), ("CCCDDD@quill:1m".into(), 300)]);
}

#[test]
fn a_name_that_does_not_tell_the_instrument_is_asked_about() {
    let desk = Desk::new();
    let told = desk.intake(&[("PRE_AAABBB_M1_2024.csv", bars(HEADER, (0..300).map(minute)))], &[]);
    assert_eq!((told.code, desk.shelf()), (3, vec![]));
    assert!(told.err.contains("PRE or AAABBB") && told.err.contains("--instrument"), "{}", told.err);
}

#[test]
fn six_capitals_are_a_pair_only_where_both_halves_are_currencies() {
    let desk = Desk::new();
    for name in ["NOKSEK", "BARLEY", "BLY"] {
        desk.intake(&[(&format!("{name}.csv"), bars(HEADER, (0..300).map(minute)))], &[]);
    }
    let doc = desk.0.json(&["shelf"]);
    let kinds: Vec<&str> =
        doc["instruments"].as_array().unwrap().iter().map(|i| i["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["other", "other", "forex"], "BARLEY, BLY, NOKSEK");
}

#[test]
fn names_between_brackets_are_names_and_not_a_page_or_json() {
    for (open, close) in [("<", ">"), ("[", "]"), ("\"", "\""), ("{", "}"), ("<<", ">>")] {
        let names = ["date", "time", "open", "high", "low", "close", "vol"];
        let head: Vec<String> = names.iter().map(|n| format!("{open}{n}{close}")).collect();
        let text = bars(&head.join(","), (0..60).map(|i| format!("20240304,10:{i:02}:00")));
        let desk = Desk::new();
        let told = desk.intake(&[("NOKSEK.csv", text)], &[]);
        assert_eq!(
            (told.code, desk.shelf()),
            (0, vec![("NOKSEK@quill:1m".into(), 60)]),
            "{open}: {}",
            told.err
        );
    }
}

#[test]
fn a_tick_count_and_a_traded_volume_are_two_columns_and_zeros_are_no_volume() {
    let lines = |traded: &dyn Fn(usize) -> usize| {
        let line = |i: usize| {
            format!("2024-03-04 10:{i:02},1.08340,1.08350,1.08330,1.08345,{},{}\n", i + 1, traded(i))
        };
        format!("time,open,high,low,close,tick_volume,real_volume\n{}", (0..60).map(line).collect::<String>())
    };
    let both = Desk::new();
    both.intake(&[("NOKSEK.csv", lines(&|i| i * 10))], &[]);
    let doc = both.run(&["deliver", "NOKSEK@quill:1m", "--out", "-"]).out;
    assert!(
        doc.starts_with("time,open,high,low,close,volume,tick_count\n") && doc.contains(",590,60\n"),
        "{doc}"
    );
    let zeros = Desk::new();
    zeros.intake(&[("NOKSEK.csv", lines(&|_| 0))], &[]);
    let doc = zeros.run(&["deliver", "NOKSEK@quill:1m", "--out", "-"]).out;
    assert!(doc.starts_with("time,open,high,low,close,tick_count\n"), "{doc}");
}

#[test]
fn ticks_that_write_only_the_side_that_changed_are_carried_forward() {
    let mut text = String::from("time,bid,ask\n");
    for (second, bid, ask) in [(0, "1.08340", ""), (1, "", "1.08350"), (2, "1.08341", ""), (3, "", "1.08352")]
    {
        text += &format!("2024-03-04 10:00:{second:02},{bid},{ask}\n");
    }
    let desk = Desk::new();
    let told = desk.intake(&[("NOKSEK.csv", text)], &[]);
    assert_eq!(told.code, 0, "{}", told.err);
    let rows = desk.rows("NOKSEK@quill:ticks");
    let rows: Vec<&str> = rows.iter().map(|r| r.split_once("Z,").unwrap().1).collect();
    assert_eq!(rows, ["1.08340,1.08350", "1.08341,1.08350", "1.08341,1.08352"]);
    assert!(told.out.contains("4 rows read = 3 kept + 1 rejected"), "{}", told.out);
}

#[test]
fn ask_before_bid_is_told_by_the_values() {
    let lines = (0..60).map(|i| format!("2024-03-04 10:00:{i:02},1.0836{},1.0834{}\n", i % 10, i % 10));
    let desk = Desk::new();
    desk.intake(&[("NOKSEK.csv", lines.collect())], &[]);
    assert!(desk.rows("NOKSEK@quill:ticks")[7].ends_with("Z,1.08347,1.08367"));
}

#[test]
fn counts_and_rejects_are_those_of_each_symbol_and_a_retake_puts_rows_where_they_belong() {
    let mut text = String::from("symbol,time,open,high,low,close,volume\n");
    for i in 0..60 {
        text += &format!("NOKSEK,2024-03-04 10:{i:02},1.0834,1.0835,1.0833,1.0834,{i}\n");
        let open = if i % 5 == 0 { "6;4" } else { "6.40" };
        text += &format!("NZDSEK,2024-03-04 10:{i:02},{open},6.45,6.35,6.42,{i}\n");
    }
    let desk = Desk::new();
    let told = desk.intake(&[("all.csv", text)], &["--json"]);
    assert_eq!(told.code, 3);
    let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    let counts: Vec<[i64; 3]> = doc["series"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| ["rows_read", "rows_kept", "rows_rejected"].map(|key| s[key].as_i64().unwrap()))
        .collect();
    assert_eq!(counts, [[60, 60, 0], [60, 48, 12]]);
    let layout = desk.0.file(
        "semicolon.toml",
        "delimiter = ','\ndecimal = ';'\ncolumns = ['symbol', 'moment', 'open', '-', '-', 'close', 'volume']\ndates = 'year-first'\n",
    );
    let told =
        desk.run(&["intake", "--rejects", "each-quill-1m-1", "--source", "quill", "--layout", &layout]);
    assert!(!told.out.contains("NOKSEK@quill:1m: 1"), "{}{}", told.out, told.err);
    assert_eq!(desk.shelf()[0], ("NOKSEK@quill:1m".into(), 60), "no price of NZDSEK among those of NOKSEK");
}

#[test]
fn a_saved_layout_that_cannot_read_a_file_is_not_taken_for_it_and_can_be_removed() {
    let desk = Desk::new();
    let toml = "delimiter = ','\nheader = ['time', 'open', 'high', 'low', 'close', 'volume']\ndates = 'day-first'\n\
        columns = ['unix-s', 'open', 'high', 'low', 'close', 'volume']\n";
    let layout = desk.0.file("odd.toml", toml);
    desk.0.json(&["layout", "save", "odd", &layout]);
    let file = ("NOKSEK.csv", bars(HEADER, (0..300).map(minute)));
    assert_eq!(desk.intake(std::slice::from_ref(&file), &[]).code, 0);
    assert_eq!(desk.shelf()[0].1, 300);
    // Asked for by name it is used, and named in what went wrong.
    let told = desk.intake(&[file], &["--layout", "odd"]);
    assert!(told.code == 1 && told.err.contains("read by the layout odd"), "{}", told.err);
    desk.0.json(&["layout", "remove", "odd"]);
    assert_eq!(desk.0.json(&["layout", "list"])["layouts"], serde_json::json!([]));
    assert_eq!(desk.run(&["layout", "remove", "odd"]).code, 2);
    desk.run(&["undo"]);
    assert_eq!(desk.0.json(&["layout", "list"])["layouts"][0]["name"], "odd");
}

#[test]
fn a_table_of_a_page_whose_rows_lost_their_times_is_told() {
    for kept in [0, 1, 3, 30] {
        let row = |i: usize| {
            let time = if i < kept { minute(i as i64) } else { String::new() };
            format!("<tr><td>{time}</td><td>1.1</td><td>1.2</td><td>1.0</td><td>1.1</td></tr>")
        };
        let rows: String = (0..60).map(row).collect();
        let head = "<tr><th>time</th><th>open</th><th>high</th><th>low</th><th>close</th></tr>";
        let desk = Desk::new();
        let told = desk.intake(&[("NOKSEK.html", format!("<html><table>{head}{rows}</table></html>"))], &[]);
        assert!([1, 3].contains(&told.code), "{kept}: {} {}{}", told.code, told.out, told.err);
    }
}

#[test]
fn files_whose_bars_are_stamped_at_other_ends_are_not_put_together() {
    // Days that run from 09:00 to 17:00, once stamped at the open and once at the close.
    let days = |from: i64, late: i64| {
        bars(
            HEADER,
            (from..from + 5).flat_map(move |d| (540 + late..1020 + late).map(move |m| minute(d * 1440 + m))),
        )
    };
    let desk = Desk::new();
    let told = desk.intake(&[("NOKSEK_a.csv", days(0, 0)), ("NOKSEK_b.csv", days(7, 1))], &[]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(
        told.err.contains("look stamped at the open") && told.err.contains("at the close"),
        "{}",
        told.err
    );
    // A file that is too short to tell is stamped as the one beside it.
    let short = bars(HEADER, (0..90).map(|i| minute(7 * 1440 + i)));
    let told = desk.intake(&[("NOKSEK_a.csv", days(0, 1)), ("NOKSEK_c.csv", short)], &[]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(desk.rows("NOKSEK@quill:1m")[0].starts_with("2024-03-04T09:00"));
    assert!(desk.rows("NOKSEK@quill:1m").last().unwrap().starts_with("2024-03-11T01:28"));
}
