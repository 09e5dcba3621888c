//! Instruments by a formula: what a person types, what is told, and that they follow what they are made of.

use crate::{Desk, Told};

/// Quotes a second apart, whose ask lies so many points above the bid.
fn ticks(price: i64, spread: i64, seconds: std::ops::Range<i64>) -> String {
    let row = |s: i64| {
        let bid = price + s % 5;
        let told = |p: i64| format!("{}.{:05}", p / 100_000, p % 100_000);
        format!(
            "2024-03-05 {:02}:{:02}:{:02},{},{}\n",
            8 + s / 3600,
            s / 60 % 60,
            s % 60,
            told(bid),
            told(bid + spread)
        )
    };
    "Time (UTC),Bid,Ask\n".to_owned() + &seconds.map(row).collect::<String>()
}

fn desk() -> Desk {
    let desk = Desk::new();
    for (name, price, spread) in [("NZDSEK", 630_000, 20), ("NOKSEK", 100_000, 10)] {
        let told = desk.intake(&[("t.csv", ticks(price, spread, 0..600))], &["--instrument", name]);
        assert_eq!(told.code, 0, "{}", told.err);
    }
    desk
}

fn done(desk: &Desk, args: &[&str]) -> String {
    let Told { code, out, err } = desk.run(args);
    assert_eq!(code, 0, "{args:?} {out}{err}");
    out
}

#[test]
fn one_formula_makes_a_bid_and_an_ask() {
    let desk = desk();
    let told = done(&desk, &["compose", "NZDNOK", "--formula", "NZDSEK / NOKSEK"]);
    assert!(
        told.contains(
            "NZDNOK@quill:ticks: NZDSEK / NOKSEK: 600 rows, bid and ask, 5 decimals; NOK for one NZD"
        ),
        "{told}"
    );
    assert!(told.contains("assumed: stale 10 s, decimals 5"), "{told}");
    // 6.30000 / 1.00010 rounded down, 6.30020 / 1.00000 rounded up.
    assert_eq!(desk.rows("NZDNOK@quill:ticks")[0], "2024-03-05T08:00:00Z,6.29937,6.30020");
    let sheet = done(&desk, &["sheet", "NZDNOK", "--csv"]);
    assert!(sheet.contains("base,NZD,found") && sheet.contains("quote,NOK,found"), "{sheet}");
    let text = "spread(NZDSEK.mid, NOKSEK.mid)";
    let told = desk.run(&["--json", "compose", "GAP", "--formula", text, "--stale", "3s"]);
    assert_eq!(told.code, 3, "unlike currencies: {}", told.err);
    let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    assert_eq!(doc["formula"]["told"], "NZDSEK.mid - NOKSEK.mid");
    assert_eq!(
        (&doc["formula"]["two_sided"], &doc["formula"]["unit"]),
        (&false.into(), &serde_json::Value::Null)
    );
    assert_eq!(doc["formula"]["legs"][1]["series"], "NOKSEK@quill:ticks");
    assert!(
        doc["doubts"][0].as_str().unwrap().contains("column 1: SEK for one NZD and SEK for one NOK"),
        "{doc}"
    );
}

#[test]
fn it_follows_its_legs_and_is_never_stale_unseen() {
    let desk = desk();
    done(
        &desk,
        &["compose", "NZDNOK", "--formula", "NZDSEK / NOKSEK", "--stale", "10s", "--set", "decimals=5"],
    );
    done(&desk, &["frames", "NZDNOK@quill:ticks", "1m"]);
    desk.intake(&[("more.csv", ticks(100_000, 10, 600..900))], &["--instrument", "NOKSEK"]);
    let told = desk.run(&["deliver", "NZDNOK@quill:1m", "--out", "-"]);
    assert_ne!(told.code, 0, "what is stale is not delivered unasked");
    assert!(told.err.contains("NZDNOK") && told.err.contains("stale"), "{}", told.err);
    // The other leg has not grown: from 10 s after its last price on there is nothing to be told.
    let told = desk.run(&["compose", "NZDNOK", "--again"]);
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    let says = "left away: 290 moments before it begins or after it ends (NZDSEK@quill:ticks)";
    assert!(told.out.contains("610 rows") && told.out.contains(says), "{}", told.out);
    desk.intake(&[("rest.csv", ticks(630_000, 20, 600..900))], &["--instrument", "NZDSEK"]);
    let told = done(&desk, &["compose", "NZDNOK", "--again"]);
    assert!(told.contains("900 rows"), "{told}");
    done(&desk, &["frames", "NZDNOK@quill:ticks", "1m"]);
    assert_eq!(desk.rows("NZDNOK@quill:1m").len(), 15);
}

#[test]
fn a_recipe_does_not_work_it_out_twice() {
    let desk = desk();
    let recipe = desk.0.file(
        "r.toml",
        "[[step]]\nact = \"compose\"\nname = \"NZDNOK\"\nformula = \"cross(NZDSEK, NOKSEK)\"\nstale = \"10s\"\nset = { decimals = \"5\" }\n",
    );
    assert!(done(&desk, &["run", &recipe]).contains("NZDNOK@quill:ticks: NZDSEK / NOKSEK: 600 rows"));
    done(&desk, &["run", &recipe]);
    assert_eq!(
        desk.0.json(&["shelf", "NZDNOK@quill:ticks", "--editions"])["editions"].as_array().unwrap().len(),
        1
    );
    desk.intake(&[("more.csv", ticks(100_000, 10, 600..605))], &["--instrument", "NOKSEK"]);
    assert!(done(&desk, &["run", &recipe]).contains("605 rows"));
}

#[test]
fn mistakes_are_one_sentence_with_the_column() {
    let desk = desk();
    for (args, says) in [
        (&["--formula", "NZDSEK / NOKSEX"][..], "The formula, column 10: the shelf has no instrument NOKSEX"),
        (
            &["--formula", "NZDSEK // 2"],
            "column 9: '/' stands where a number, an instrument, a function or '(' is expected",
        ),
        (&["--formula", "mean(NZDSEK, 20)"], "look back over bars, and these are ticks"),
        (&["--formula", "NZDSEK", "--frame", "1m"], "column 1: NZDSEK has no 1m; it has ticks"),
        (&["--formula", "NZDSEK", "--shift", "1h"], "A formula and a variant are two instruments"),
        (&["--formula", "NZDSEK", "--stale", "soon"], "soon"),
        (&["--formula", "1 / (NZDSEK - NZDSEK)"], "no value at any moment"),
        (&["--formula", "\u{1b}[31mNZDSEK"], "column 1: a character that cannot be shown"),
    ] {
        let told = desk.run(&[&["compose", "MADE"], args].concat());
        assert!(told.code == 1 || told.code == 2, "{args:?} {}", told.code);
        assert!(told.err.contains(says) && told.err.trim_end().lines().count() == 1, "{args:?} {}", told.err);
        assert!(!told.err.contains('\u{1b}'), "{}", told.err);
    }
    assert!(desk.run(&["sheet", "MADE"]).code != 0, "nothing was left behind");
    let told = desk.run(&["compose", "NZDSEK", "--formula", "NZDSEK + 1"]);
    assert!(told.err.contains("cannot be made from itself"), "{}", told.err);
    // Half of the moments are lost where a leg is quoted once a minute.
    let slow: String = ticks(5_000, 3, 0..600).lines().step_by(60).map(|l| format!("{l}\n")).collect();
    desk.intake(
        &[("slow.csv", "Time (UTC),Bid,Ask\n".to_owned() + slow.split_once('\n').unwrap().1)],
        &["--instrument", "BLY"],
    );
    let told = desk.run(&["compose", "MADE", "--formula", "NZDSEK - BLY"]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(told.out.contains("moments make no row"), "{}", told.out);
}
