//! Variants of a history: what they change, what they keep, and that they follow their base.

use crate::{Desk, Told};

fn minutes(days: std::ops::Range<u32>, spread: i64) -> String {
    let rows = days.flat_map(|d| (0..1440).map(move |m| (d, m))).map(|(d, m)| {
        let p = 80_000 + i64::from(m % 7) * 10;
        let price = |p: i64| format!("{:.5}", p as f64 / 1e5);
        let (open, high, low) = (price(p), price(p + 20), price(p - 20));
        format!("2024-03-{d:02} {:02}:{:02},{open},{high},{low},{open},5,{spread}\n", m / 60, m % 60)
    });
    "Time (UTC),Open,High,Low,Close,Volume,Spread\n".to_owned() + &rows.collect::<String>()
}

fn desk() -> Desk {
    let desk = Desk::new();
    let told = desk.intake(&[("m.csv", minutes(4..8, 10))], &["--instrument", "NOKSEK"]);
    assert_eq!(told.code, 0, "{}", told.err);
    desk
}

/// Composes with exit 0.
fn composed(desk: &Desk, args: &[&str]) -> String {
    let Told { code, out, err } = desk.run(&[&["compose"], args].concat());
    assert_eq!(code, 0, "{args:?} {out}{err}");
    out
}

fn first(desk: &Desk, series: &str) -> String {
    desk.rows(series)[0].clone()
}

#[test]
fn a_variant_is_turned_over_scaled_and_given_other_spreads() {
    let desk = desk();
    let base = ["--like", "NOKSEK", "--from", "NOKSEK@quill:1m"];
    let of = |name: &str, more: &[&str]| composed(&desk, &[&[name], &base[..], more].concat());
    of("SEKNOK", &["--inverse", "--set", "decimals=5", "--set", "base=SEK", "--set", "quote=NOK"]);
    assert_eq!(first(&desk, "SEKNOK@quill:1m"), "2024-03-04T00:00:00Z,1.24984,1.25016,1.24953,1.24984,5,16");
    of("NOKSEK.c", &["--scale", "100"]);
    assert_eq!(first(&desk, "NOKSEK.c@quill:1m"), "2024-03-04T00:00:00Z,80.000,80.020,79.980,80.000,5,10");
    of("NOKSEK.wide", &["--times-spread", "2.5"]);
    assert!(first(&desk, "NOKSEK.wide@quill:1m").ends_with(",5,25"));
    of("NOKSEK.more", &["--add-spread", "3"]);
    assert!(first(&desk, "NOKSEK.more@quill:1m").ends_with(",5,13"));
    of("NOKSEK.ask", &["--side", "ask"]);
    assert_eq!(
        first(&desk, "NOKSEK.ask@quill:1m.ask"),
        "2024-03-04T00:00:00Z,0.80010,0.80030,0.79990,0.80010,5,10"
    );
    let told = of("NOKSEK.tue", &["--days", "tue", "--since", "2024-03-05 10:00"]);
    assert!(told.contains("720 rows kept, 5040 outside the hours, days or span"), "{told}");
}

#[test]
fn a_pair_turned_over_keeps_its_decimals_and_says_what_it_does_not_know() {
    let desk = desk();
    let made = [
        "compose",
        "SEKNOK",
        "--like",
        "NOKSEK",
        "--from",
        "NOKSEK@quill:1m",
        "--inverse",
        "--set",
        "decimals=5",
    ];
    let told = desk.run(&made);
    assert_eq!(told.code, 3, "base and quote are still those of the pair it comes from");
    assert!(told.out.contains("compose SEKNOK --set base=SEK --set quote=NOK"), "{}", told.out);
    composed(&desk, &["SEKNOK", "--again", "--set", "base=SEK", "--set", "quote=NOK"]);
    assert_eq!(first(&desk, "SEKNOK@quill:1m"), "2024-03-04T00:00:00Z,1.24984,1.25016,1.24953,1.24984,5,16");
    // A minute without a spread has no ask: what is turned over there is its bid.
    let cut = |line: &str| line.trim_end_matches("10").to_owned();
    let rows = minutes(8..9, 10);
    let text: String = rows
        .lines()
        .map(|line| if line.starts_with("2024-03-08 09:00") { cut(line) } else { line.to_owned() } + "\n")
        .collect();
    desk.intake(&[("more.csv", text)], &["--instrument", "NOKSEK"]);
    let told = desk.run(&["compose", "SEKNOK", "--again"]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(told.out.contains("1 rows do not know their spread"), "{}", told.out);
}

#[test]
fn spreads_by_the_hour_come_from_another_source_and_its_share() {
    let desk = desk();
    let text = minutes(4..8, 30).replace(",5,30\n2024-03-05 10:00", ",5,90\n2024-03-05 10:00");
    let path = desk.0.file("b.csv", text);
    desk.run(&["intake", &path, "--source", "tarn", "--instrument", "NOKSEK", "--clock", "UTC"]);
    let base = ["NOKSEK.b", "--like", "NOKSEK", "--from", "NOKSEK@quill:1m", "--spread-of", "NOKSEK@tarn:1m"];
    let told = composed(&desk, &[&base[..], &["--spread-share", "p99"]].concat());
    assert!(told.contains("spread by hour of week"), "{told}");
    let rows = desk.rows("NOKSEK.b@quill:1m");
    let at =
        |time: &str| rows.iter().find(|r| r.contains(time)).unwrap().rsplit(',').next().unwrap().to_owned();
    assert_eq!((at("03-05T09:00"), at("03-05T11:00")), ("90".to_owned(), "30".to_owned()));
    let wrong = desk.run(&[&["compose"], &base[..], &["--add-spread", "2"]].concat());
    assert!(wrong.code != 0 && wrong.err.contains("in one way"), "{}", wrong.err);
    let fixed = desk.run(&[&["compose"], &base[..], &["--spread", "18"]].concat());
    assert!(fixed.code != 0 && fixed.err.contains("fixed spread of 18 points"), "{}", fixed.err);
}

#[test]
fn a_variant_follows_its_base_and_says_when_it_does_not_yet() {
    let desk = desk();
    composed(
        &desk,
        &[
            "NOKSEK.day",
            "--like",
            "NOKSEK",
            "--from",
            "NOKSEK@quill:1m",
            "--shift",
            "1h",
            "--hours",
            "mon-fri 08:00-17:00 Europe/Oslo",
            "--add-spread",
            "3",
        ],
    );
    let before = desk.rows("NOKSEK.day@quill:1m");
    desk.intake(&[("more.csv", minutes(8..9, 10))], &["--instrument", "NOKSEK"]);
    let told = desk.run(&["deliver", "NOKSEK.day@quill:1m", "--out", "-"]);
    assert!(told.code == 3 && told.err.contains("stale"), "{}", told.err);
    let told = composed(&desk, &["NOKSEK.day", "--again"]);
    assert!(told.contains("2700 rows kept, 4500 outside the hours"), "{told}");
    let after = desk.rows("NOKSEK.day@quill:1m");
    assert_eq!((&after[..before.len()], after.len()), (&before[..], 2700));
    // As if it were made for the first time.
    composed(
        &desk,
        &[
            "NOKSEK.new",
            "--like",
            "NOKSEK.day",
            "--from",
            "NOKSEK@quill:1m",
            "--shift",
            "1h",
            "--add-spread",
            "3",
        ],
    );
    assert_eq!(desk.rows("NOKSEK.new@quill:1m"), after);
}

#[test]
fn rows_that_were_edited_elsewhere_come_back_and_stay_when_the_base_changes() {
    let desk = desk();
    let out = desk.0.dir.path().join("out.csv").to_string_lossy().into_owned();
    assert_eq!(
        desk.run(&[
            "deliver",
            "NOKSEK@quill:1m",
            "--from",
            "2024-03-05",
            "--to",
            "2024-03-06",
            "--out",
            &out
        ])
        .code,
        0
    );
    let text = std::fs::read_to_string(&out).unwrap();
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    assert!(lines[601].starts_with("2024-03-05T10:00"));
    lines[601] = lines[601].replace("0.80070,5,10", "0.80055,5,10").replace("0.80050,5,10", "0.80055,5,10");
    lines.remove(700);
    std::fs::write(&out, lines.join("\n") + "\n").unwrap();
    let told =
        composed(&desk, &["NOKSEK.mine", "--like", "NOKSEK", "--from", "NOKSEK@quill:1m", "--edited", &out]);
    assert!(told.contains("edited: 1 rows changed, 0 added, 1 taken out"), "{told}");
    assert!(told.contains("2024-03-05 10:00: close 0.8"), "{told}");
    let row = |time: &str| desk.rows("NOKSEK.mine@quill:1m").into_iter().find(|r| r.starts_with(time));
    assert!(row("2024-03-05T10:00").unwrap().contains(",0.80055,5,10"));
    assert_eq!(row("2024-03-05T11:39"), None);
    assert_eq!(desk.rows("NOKSEK.mine@quill:1m").len(), 4 * 1440 - 1);
    // The base grows: the edits stay. Friday ends at 17:00 in New York.
    desk.intake(&[("more.csv", minutes(8..9, 10))], &["--instrument", "NOKSEK"]);
    composed(&desk, &["NOKSEK.mine", "--again"]);
    assert_eq!(desk.rows("NOKSEK.mine@quill:1m").len(), 5 * 1440 - 1 - 120);
    assert!(row("2024-03-05T10:00").unwrap().contains(",0.80055,5,10"));
    // The same file again, or one without an edit, says so.
    assert_eq!(desk.run(&["deliver", "NOKSEK@quill:1m", "--out", &out]).code, 0);
    let same = desk.run(&[
        "compose",
        "NOKSEK.same",
        "--like",
        "NOKSEK",
        "--from",
        "NOKSEK@quill:1m",
        "--edited",
        &out,
    ]);
    assert!(same.code != 0 && same.err.contains("nothing differs"), "{}", same.err);
    assert!(
        !desk.shelf().iter().any(|s| s.0.starts_with("NOKSEK.same")),
        "nothing is left of what was refused"
    );
}

#[test]
fn wishes_that_cannot_be_are_refused_in_one_sentence() {
    let desk = desk();
    let base = ["compose", "X", "--like", "NOKSEK", "--from", "NOKSEK@quill:1m"];
    for (more, says) in [
        (&["--days", "someday"][..], "mon-thu"),
        (&["--scale", "0"], "above 0"),
        (&["--since", "2024-03-06", "--until", "2024-03-05"], "end before it begins"),
        (&["--side", "last"], "bid, ask or mid"),
        (&["--spread-share", "p90"], "--spread-of"),
        (&["--until", "1999-01-01"], "Nothing would be left"),
        (&["--spread-of", "NOKSEK@nobody:1m"], "NOKSEK@nobody:1m"),
    ] {
        let told = desk.run(&[&base[..], more].concat());
        assert!(told.code != 0 && told.err.contains(says), "{more:?} {}", told.err);
    }
    let told = desk.run(&["compose", "Y", "--inverse"]);
    assert!(told.code != 0 && told.err.contains("--from SERIES"), "{}", told.err);
    let told = desk.run(&["compose", "NOKSEK", "--again"]);
    assert!(told.code != 0 && told.err.contains("no rows that were composed before"), "{}", told.err);
}
