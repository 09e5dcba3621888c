//! Bars of ticks, of counts and of several series at once.

use crate::{Desk, Told};

const TICKS: &str = "Time (UTC),Bid,Ask,BidVolume,AskVolume
2024-03-05 10:00:00.100,1.02500,1.02514,2,3
2024-03-05 10:00:20.000,1.02530,1.02538,1,4
2024-03-05 10:00:40.000,1.02490,1.02510,5,1
2024-03-05 10:01:05.000,1.02495,1.02509,2,2
2024-03-05 10:01:06.000,1.02496,1.02510,2,2
";

fn with_ticks() -> Desk {
    let desk = Desk::new();
    let told = desk.intake(&[("t.csv", TICKS.to_owned())], &["--instrument", "NOKSEK", "--frame", "ticks"]);
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    desk
}

fn lines(desk: &Desk, args: &[&str]) -> Vec<String> {
    let Told { code, out, err } = desk.run(args);
    assert_eq!(code, 0, "{args:?}: {err}");
    out.lines().map(str::to_owned).collect()
}

#[test]
fn bars_of_ticks_know_their_ticks_both_volumes_and_the_ends_of_their_spreads() {
    let desk = with_ticks();
    lines(&desk, &["frames", "NOKSEK@quill:ticks", "1m", "--side", "both"]);
    let usual = lines(&desk, &["deliver", "NOKSEK@quill:1m", "--out", "-"]);
    assert_eq!(usual[0], "time,open,high,low,close,volume,spread", "no column that nobody asked for");
    assert_eq!(usual[1], "2024-03-05T10:00:00Z,1.02500,1.02530,1.02490,1.02490,8,14");
    let all = lines(&desk, &["deliver", "NOKSEK@quill:1m", "--out", "-", "--details"]);
    assert_eq!(
        all[0],
        "time,open,high,low,close,volume,spread,spread_open,spread_high,spread_low,bid_volume,ask_volume,tick_count"
    );
    assert_eq!(all[1], "2024-03-05T10:00:00Z,1.02500,1.02530,1.02490,1.02490,8,14,14,20,8,8,8,3");
    let ask = lines(&desk, &["deliver", "NOKSEK@quill:1m.ask", "--out", "-"]);
    assert_eq!(ask[2], "2024-03-05T10:01:00Z,1.02509,1.02510,1.02509,1.02510,4,14");
    // Longer bars of both sides come from the shorter ones of each.
    lines(&desk, &["frames", "NOKSEK@quill:1m", "1h", "--side", "both"]);
    let hours = lines(&desk, &["deliver", "NOKSEK@quill:1h.ask", "--out", "-", "--details"]);
    assert_eq!(hours[1], "2024-03-05T10:00:00Z,1.02514,1.02538,1.02509,1.02510,12,14,14,20,8,12,12,5");
}

#[test]
fn a_side_that_rows_do_not_have_is_refused_and_never_another_one_under_its_name() {
    let desk = with_ticks();
    lines(&desk, &["frames", "NOKSEK@quill:ticks", "1m"]);
    let told = desk.run(&["frames", "NOKSEK@quill:1m", "1h", "--side", "ask"]);
    assert_eq!(told.code, 1);
    assert!(told.err.contains("NOKSEK@quill:1m are bars of the bid"), "{}", told.err);
    let told = desk.run(&["frames", "NOKSEK@quill:ticks", "1h", "--side", "last"]);
    assert!(told.code == 1 && told.err.contains("no last price"), "{}", told.err);
    let trades = "Time (UTC),Last,Volume\n2024-03-05 10:00:00.100,101.25,3\n2024-03-05 10:00:01,101.50,2\n";
    desk.intake(&[("b.csv", trades.to_owned())], &["--instrument", "BLY", "--frame", "ticks"]);
    let told = desk.run(&["frames", "BLY@quill:ticks", "1m", "--side", "ask"]);
    assert!(told.code == 1 && told.err.contains("trades have one price"), "{}", told.err);
}

#[test]
fn bars_of_counts_are_built_checked_and_delivered() {
    let desk = with_ticks();
    lines(&desk, &["frames", "NOKSEK@quill:ticks", "2t", "6v", "30r"]);
    let rows = |frame: &str| {
        let all = lines(&desk, &["deliver", &format!("NOKSEK@quill:{frame}"), "--out", "-", "--details"]);
        all[1..].iter().map(|l| l.split(',').next_back().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(rows("2t"), ["2", "2", "1"]);
    assert_eq!(rows("6v"), ["3", "2"]);
    assert_eq!(rows("30r"), ["2", "3"]);
    for act in [
        &["check", "NOKSEK@quill:2t"][..],
        &["splice", "NOKSEK@quill:2t", "NOKSEK@quill:6v", "--into", "joined"],
        &["compose", "X", "--like", "NOKSEK", "--from", "NOKSEK@quill:2t"],
    ] {
        let told = desk.run(act);
        assert!(told.code == 1 && told.err.contains("know no time of their own"), "{act:?}: {}", told.err);
    }
    let told = desk.run(&["frames", "NOKSEK@quill:2t", "1h"]);
    assert!(told.code == 2 && told.err.contains("build them from the ticks"), "{}", told.err);
    let told = desk.run(&["frames", "NOKSEK@quill:ticks", "500x"]);
    assert!(told.code == 2 && told.err.contains("500t"), "{}", told.err);
}

#[test]
fn a_range_is_told_in_tick_sizes_of_the_instrument() {
    let desk = Desk::new();
    let trades: String = [100.00, 100.25, 100.50, 100.75, 101.00, 100.00]
        .iter()
        .enumerate()
        .map(|(i, p)| format!("2024-03-05 10:00:0{i},{p:.2},1\n"))
        .collect();
    let text = format!("Time (UTC),Last,Volume\n{trades}");
    desk.intake(&[("b.csv", text)], &["--instrument", "BLY", "--frame", "ticks"]);
    lines(&desk, &["compose", "BLY", "--set", "kind=futures", "--set", "tick_size=0.25"]);
    lines(&desk, &["frames", "BLY@quill:ticks", "2r", "1m", "--clock", "UTC"]);
    let head = lines(&desk, &["deliver", "BLY@quill:1m", "--out", "-"])[0].clone();
    assert_eq!(head, "time,open,high,low,close,volume", "trades too: no column that nobody asked for");
    let closes: Vec<String> =
        desk.rows("BLY@quill:2r").iter().map(|r| r.split(',').nth(4).unwrap().to_owned()).collect();
    assert_eq!(closes, ["100.50", "101.00", "100.00"], "at most two steps of 0.25 from low to high");
    assert_eq!(desk.run(&["compose", "BLY", "--set", "tick_size=0.001"]).code, 3, "finer than its decimals");
    let told = desk.run(&["frames", "BLY@quill:ticks", "2r", "--clock", "UTC"]);
    assert!(told.code == 1 && told.err.contains("tick size 0.001 is no whole number"), "{}", told.err);
}

#[test]
fn a_frame_set_is_built_of_all_that_a_pattern_names() {
    let desk = with_ticks();
    let minutes: String =
        (0..120).map(|m| format!("2024-03-05 {:02}:{:02},7,8,6,7\n", 8 + m / 60, m % 60)).collect();
    let text = format!("Time (UTC),Open,High,Low,Close\n{minutes}");
    assert_eq!(desk.intake(&[("m.csv", text)], &["--instrument", "NZDSEK"]).code, 0);
    assert_eq!(
        lines(&desk, &["frame-set", "save", "swing", "30m", "1h"]),
        ["saved the frame set swing: 30m 1h"]
    );
    let again = lines(&desk, &["frame-set", "save", "swing", "1m", "1h"]);
    assert_eq!(again, ["saved the frame set swing: 1m 1h (it was 30m 1h)"]);
    assert_eq!(lines(&desk, &["frame-set", "list"]), ["swing: 1m 1h"]);
    lines(&desk, &["frames", "N*@quill", "swing"]);
    let names: Vec<String> = desk.shelf().into_iter().map(|s| s.0).collect();
    assert_eq!(
        names,
        ["NOKSEK@quill:ticks", "NOKSEK@quill:1m", "NOKSEK@quill:1h", "NZDSEK@quill:1m", "NZDSEK@quill:1h"]
    );
    for (args, says) in [
        (["frames", "BLY*@quill", "swing"], "No series on the shelf is BLY*@quill"),
        (["frames", "N*@quill", "scalp"], "neither a frame such as 4h nor a frame set"),
        (["frame-set", "remove", "scalp"], "frame-set list"),
    ] {
        let told = desk.run(&args);
        assert!(told.code != 0 && told.err.contains(says), "{}", told.err);
    }
}

#[test]
fn the_daily_close_of_a_contract_is_its_settlement() {
    let desk = Desk::new();
    let rows: String = (8 * 60..15 * 60 + 30)
        .map(|m| format!("2024-03-05 {:02}:{:02},{m},{m},{m},{m},1\n", m / 60, m % 60))
        .collect();
    let text = format!("Time,Open,High,Low,Close,Volume\n{rows}");
    desk.intake(&[("b.csv", text)], &["--instrument", "BLY", "--clock", "Europe/Oslo"]);
    let hours = "hours=mon-fri 08:00-15:30 Europe/Oslo";
    lines(&desk, &["compose", "BLY", "--set", "kind=futures", "--set", hours, "--set", "clock=Europe/Oslo"]);
    let told = desk.run(&["frames", "BLY@quill:1m", "1d"]);
    assert!(told.out.contains("settlement"), "that none is known is told: {}", told.out);
    let close = |desk: &Desk| desk.rows("BLY@quill:1d")[0].split(',').nth(4).unwrap().to_owned();
    assert_eq!(close(&desk), (15 * 60 + 29).to_string());
    lines(&desk, &["compose", "BLY", "--set", "settlement=14:15"]);
    let told = desk.run(&["deliver", "BLY@quill:1d", "--out", "-"]);
    assert_eq!(told.code, 3, "a close of another time is stale: {}", told.err);
    lines(&desk, &["frames", "BLY@quill:1m", "1d"]);
    assert_eq!(close(&desk), (14 * 60 + 14).to_string());
    let told = desk.run(&["compose", "BLY", "--set", "settlement=25:00"]);
    assert!(told.code != 0 && told.err.contains("'25:00' is not a settlement time"), "{}", told.err);
}

/// Minutes of two weeks, with the ticks of the second of them from another source.
fn with_minutes_and_ticks() -> Desk {
    let desk = Desk::new();
    let mut rng = fastrand::Rng::with_seed(4);
    let (mut ticks, mut bid) = (String::from("Time (UTC),Bid,Ask\n"), 102_000);
    for day in 4..9 {
        for second in (7 * 3600..15 * 3600).step_by(7) {
            bid += rng.i64(-4..=4);
            let (h, m, s) = (second / 3600, second / 60 % 60, second % 60);
            ticks += &format!(
                "2024-03-{day:02} {h:02}:{m:02}:{s:02}.250,{:.5},{:.5}\n",
                bid as f64 / 1e5,
                (bid + 12) as f64 / 1e5
            );
        }
    }
    let told = desk.intake(&[("t.csv", ticks)], &["--instrument", "NOKSEK", "--frame", "ticks"]);
    assert_eq!(told.code, 0, "{}", told.err);
    lines(&desk, &["frames", "NOKSEK@quill:ticks", "1m"]);
    desk
}

#[test]
fn ticks_are_rebuilt_from_bars_marked_and_give_the_bars_back() {
    let desk = with_minutes_and_ticks();
    let out = desk.0.dir.path().join("bars.csv").to_string_lossy().into_owned();
    lines(&desk, &["deliver", "NOKSEK@quill:1m", "--out", &out]);
    lines(&desk, &["intake", &out, "--source", "tarn", "--instrument", "NOKSEK", "--clock", "UTC"]);
    let told = lines(&desk, &["frames", "NOKSEK@tarn:1m", "ticks", "--seed", "7"]);
    assert!(told[0].contains("rebuilt from NOKSEK@tarn:1m, seed 7"), "{told:?}");
    assert!(
        told[1].contains("9 ticks a bar")
            && told[2].contains("bars of NOKSEK@quill:ticks")
            && told[3].contains("a coin has 50 %"),
        "{told:?}"
    );
    lines(&desk, &["frames", "NOKSEK@tarn:ticks", "1m"]);
    assert_eq!(
        desk.rows("NOKSEK@tarn:1m.built"),
        desk.rows("NOKSEK@tarn:1m"),
        "open, high, low, close, volume, spread"
    );
    // The same seed gives the same bytes, another one another way.
    let first = desk.rows("NOKSEK@tarn:ticks");
    lines(&desk, &["frames", "NOKSEK@tarn:1m", "ticks", "--seed", "7"]);
    assert_eq!(desk.rows("NOKSEK@tarn:ticks"), first);
    lines(&desk, &["frames", "NOKSEK@tarn:1m", "ticks", "--seed", "8"]);
    assert_ne!(desk.rows("NOKSEK@tarn:ticks"), first);
    // Whoever uses them is told.
    let folder = desk.0.dir.path().join("out/").to_string_lossy().into_owned();
    let doc = desk.0.json(&["deliver", "NOKSEK@tarn:ticks", "--out", &folder]);
    assert!(doc["files"][0]["path"].as_str().unwrap().ends_with("NOKSEK_tarn_ticks_rebuilt.csv"), "{doc}");
    assert!(doc["assumed"].to_string().contains("rebuilt from NOKSEK@tarn:1m"), "{doc}");
    let check = desk.run(&["check", "NOKSEK@tarn:1m.built"]);
    assert!(check.out.contains("rebuilt from NOKSEK@tarn:1m"), "{}", check.out);
    let shelf = desk.run(&["shelf"]);
    assert!(shelf.out.contains("rebuilt from bars"), "{}", shelf.out);
    let origins = lines(
        &desk,
        &["deliver", "NOKSEK@tarn:1m.built", "--out", "-", "--origin", "--last", "1", "--stale-ok"],
    );
    assert!(origins[1].ends_with(",10000"), "{origins:?}");
}

#[test]
fn rebuilt_ticks_without_real_ones_say_that_nothing_is_known_of_their_error() {
    let desk = Desk::new();
    let minutes: String =
        (0..120).map(|m| format!("2024-03-05 {:02}:{:02},7,9,6,8\n", 8 + m / 60, m % 60)).collect();
    desk.intake(&[("m.csv", format!("Time (UTC),Open,High,Low,Close\n{minutes}"))], &["--instrument", "BLY"]);
    let told = desk.run(&["frames", "BLY@quill:1m", "ticks"]);
    assert_eq!(told.code, 3, "{}", told.err);
    assert!(told.out.contains("no real ticks of BLY are on the shelf"), "{}", told.out);
    assert!(told.out.contains("assumed: 12 ticks a bar"), "{}", told.out);
    for (args, says) in [
        (&["frames", "BLY@quill:1m", "ticks", "--like", "BLY@quill:1m"][..], "no real ticks"),
        (&["frames", "BLY@quill:1m", "1h", "--seed", "3"], "name the frame ticks"),
        (&["frames", "BLY@quill:1m", "ticks", "1h", "--empty", "fill"], "in a step by itself"),
        (&["frames", "BLY@quill:1m", "ticks", "--like", "BLY@tarn:ticks"], "BLY@tarn:ticks"),
    ] {
        let told = desk.run(args);
        assert!(told.code != 0 && told.code != 3 && told.err.contains(says), "{args:?} {}", told.err);
    }
}

#[test]
fn long_bars_of_a_source_are_held_against_those_built_from_its_short_ones() {
    let desk = Desk::new();
    let minutes: String = (0..2 * 1440)
        .map(|m| format!("2024-03-{:02} {:02}:{:02},{m},{m},{m},{m}\n", 5 + m / 1440, m % 1440 / 60, m % 60))
        .collect();
    let head = "Time (UTC),Open,High,Low,Close\n";
    desk.intake(&[("m.csv", format!("{head}{minutes}"))], &["--instrument", "BLY"]);
    let hours: String = (0..48)
        .map(|h| {
            let close = h * 60 + 59 + if h == 20 { 3 } else { 0 };
            format!(
                "2024-03-{:02} {:02}:00,{},{},{},{close}\n",
                5 + h / 24,
                h % 24,
                h * 60,
                h * 60 + 62,
                h * 60
            )
        })
        .collect();
    desk.intake(&[("h.csv", format!("{head}{hours}"))], &["--instrument", "BLY"]);
    let told = desk.run(&["frames", "BLY@quill:1m", "--compare"]);
    assert_eq!(told.code, 3, "{}{}", told.out, told.err);
    assert!(
        told.out.contains("BLY@quill:1h against bars built from BLY@quill:1m: 0 of 48 equal"),
        "{}",
        told.out
    );
    assert!(told.out.contains("have other prices"), "{}", told.out);
    let (code, out, _) = desk.0.told(&["frames", "BLY@quill:1m", "--compare", "--json"]);
    let doc: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!((code, &doc["compared"][0]["bars"]), (3, &48.into()));
    let alone = desk.run(&["frames", "BLY@quill:1h", "--compare"]);
    assert!(alone.code == 0 && alone.out.contains("no longer bars of its own"), "{}", alone.out);
    let none = desk.run(&["frames", "BLY@quill:1m"]);
    assert_eq!(none.code, 2, "frames to build are to be named");
}
