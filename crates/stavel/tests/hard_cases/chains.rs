//! Chains of contracts as a person has them: odd names, missing days, files of dates, sheets that differ.

use crate::{Desk, Told};

const HEADER: &str = "Date,Open,High,Low,Close,Volume\n";

/// Days of March 2024 with a close in points of two decimals and a volume.
fn days(rows: &[(u32, i64, i64)]) -> String {
    let row = |(day, close, volume): &(u32, i64, i64)| {
        let told = |p: i64| format!("{}.{:02}", p / 100, p % 100);
        let (low, high) = (told(close - 50), told(close + 50));
        format!("2024-03-{day:02},{},{high},{low},{},{volume}\n", told(*close), told(*close))
    };
    HEADER.to_owned() + &rows.iter().map(row).collect::<String>()
}

const NEAR: [(u32, i64, i64); 6] =
    [(4, 41250, 900), (5, 41300, 800), (6, 41350, 500), (7, 41400, 300), (8, 41350, 100), (11, 41200, 10)];
const FAR: [(u32, i64, i64); 7] = [
    (4, 41600, 100),
    (5, 41650, 200),
    (6, 41700, 700),
    (7, 41775, 900),
    (8, 41700, 1000),
    (11, 41575, 900),
    (12, 41500, 800),
];

fn desk(names: [&str; 2]) -> Desk {
    let desk = Desk::new();
    for (name, rows) in names.iter().zip([&NEAR[..], &FAR[..]]) {
        let told = desk.intake(&[("d.csv", days(rows))], &["--instrument", name, "--frame", "1d"]);
        assert_eq!(told.code, 0, "{}", told.err);
    }
    desk
}

fn made(desk: &Desk, args: &[&str]) -> Told {
    desk.run(&[&["compose", "BLY.chain", "--chain"], args].concat())
}

#[test]
fn contracts_roll_by_volume_and_the_table_tells_it() {
    let desk = desk(["BLYH4", "BLYK4"]);
    let Told { code, out, err } = made(&desk, &["BLY*", "--roll", "volume"]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("2 contracts, 1 roll, 7 rows; rolls by volume; prices as they are"), "{out}");
    assert!(out.contains("assumed: adjust none"), "{out}");
    let line = out.lines().find(|line| line.contains("2024-03-07")).unwrap();
    for told in ["BLYH4", "BLYK4", "413.50", "417.00", "3.50", "2024-03-06 00:00"] {
        assert!(line.contains(told), "{told}: {line}");
    }
    assert_eq!(desk.rows("BLY.chain@quill:1d")[3], "2024-03-07T00:00:00Z,417.75,418.25,417.25,417.75,900");
    let doc = desk.0.json(&["compose", "BLY.chain", "--adjust", "difference"]);
    assert_eq!(doc["chain"]["rolls"][0]["gap"], "3.50");
    assert_eq!(doc["chain"]["contracts"][0]["expiry"], "2024-03-11");
    assert_eq!(doc["chain"]["contracts"][1]["expiry_is"], "not known");
    assert_eq!(desk.rows("BLY.chain@quill:1d")[0], "2024-03-04T00:00:00Z,416.00,416.50,415.50,416.00,900");
    assert_eq!(desk.0.json(&["sheet", "BLY.chain"])["like"], "BLYK4");
}

#[test]
fn a_roll_is_moved_and_stays_there() {
    let desk = desk(["BLYH4", "BLYK4"]);
    made(&desk, &["BLY*", "--roll", "volume", "--adjust", "difference"]);
    let moved = desk.run(&["compose", "BLY.chain", "--move-roll", "BLYH4=2024-03-08"]);
    assert_eq!(moved.code, 0, "{}{}", moved.out, moved.err);
    assert!(moved.out.contains("2024-03-08   BLYH4") && moved.out.contains("moved by hand"), "{}", moved.out);
    desk.intake(&[("m.csv", days(&[(13, 41400, 700)]))], &["--instrument", "BLYK4", "--frame", "1d"]);
    let stale = desk.run(&["deliver", "BLY.chain@quill:1d", "--out", "-"]);
    assert_ne!(stale.code, 0);
    assert!(stale.err.contains("BLYK4@quill:1d has changed"), "{}", stale.err);
    let again = desk.run(&["compose", "BLY.chain", "--again"]);
    assert!(
        again.out.contains("8 rows") && again.out.contains("moved by hand"),
        "{}{}",
        again.out,
        again.err
    );
    let refused = desk.run(&["compose", "BLYH4", "--move-roll", "BLYH4=2024-03-08"]);
    assert!(refused.err.contains("BLYH4 is no chain"), "{}", refused.err);
}

#[test]
fn dates_of_a_file_are_kept_and_a_mistake_in_it_names_its_line() {
    let desk = desk(["BLY-2024-03", "BLY-2024-05"]);
    let rolls = |text: &str| {
        let file = desk.0.file("rolls.csv", text);
        made(&desk, &["BLY-*", "--roll", &format!("dates={file}"), "--adjust", "ratio"])
    };
    let told = rolls("date,to\n2024-03-05,2024-05\n");
    assert_eq!(told.code, 0, "{}", told.err);
    assert_eq!(desk.rows("BLY.chain@quill:1d")[1], "2024-03-05T00:00:00Z,416.50,417.00,416.00,416.50,200");
    // 412.50 x 416.00 / 412.50.
    assert_eq!(desk.rows("BLY.chain@quill:1d")[0], "2024-03-04T00:00:00Z,416.00,416.50,415.50,416.00,900");
    for (text, says) in [
        ("2024-03-05\n2024-03-04\n", "Line 2 of the dates, 2024-03-04: it is not after 2024-03-05 of line 1"),
        (
            "2024-03-05,BLY-2024-07\n",
            "Line 1 of the dates, 2024-03-05: the chain has no contract BLY-2024-07",
        ),
        ("# rolls\n05/03/2024\n", "Line 2 of"),
    ] {
        let told = rolls(text);
        assert!([1, 2].contains(&told.code), "{text}: {}", told.err);
        assert!(told.err.contains(says), "{text}: {}", told.err);
    }
}

#[test]
fn a_recipe_takes_dates_beside_it_and_makes_a_chain_once() {
    let desk = desk(["BLY-2024-03", "BLY-2024-05"]);
    desk.0.file("rolls.csv", "2024-03-06\n");
    let text = "[[step]]\nact = \"compose\"\nname = \"BLY.chain\"\nchain = [\"BLY-*\"]\nroll = \"dates=rolls.csv\"\nadjust = \"none\"\n";
    let recipe = desk.0.file("r.toml", text);
    let editions =
        || desk.0.json(&["shelf", "BLY.chain@quill:1d", "--editions"])["editions"].as_array().unwrap().len();
    assert_eq!(desk.run(&["run", &recipe]).code, 0);
    desk.run(&["run", &recipe]);
    assert_eq!(editions(), 1);
    desk.0.file("rolls.csv", "2024-03-07\n");
    assert_eq!(desk.run(&["run", &recipe]).code, 0);
    assert_eq!(editions(), 2, "other dates make another chain");
}

#[test]
fn what_a_careful_person_would_doubt_is_exit_3() {
    let desk = desk(["BLYH24", "BLYK24"]);
    desk.run(&["compose", "BLYK24", "--set", "contract_size=100"]);
    desk.run(&["compose", "BLYH24", "--set", "contract_size=50"]);
    let told = made(&desk, &["BLYH24,BLYK24", "--roll", "days=1", "--adjust", "none"]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(told.out.contains("contract_size is 50 for BLYH24 and 100 for BLYK24"), "{}", told.out);
    assert!(told.out.contains("expiry last day traded"), "{}", told.out);
    // One more month whose rows end long before it: is that its expiry?
    let rows = days(&[(4, 40000, 900), (5, 40000, 900)]);
    desk.intake(&[("d.csv", rows)], &["--instrument", "BLYZ23", "--frame", "1d"]);
    let told = made(&desk, &["BLY*", "--roll", "days=1", "--adjust", "none"]);
    assert!(
        told.out.contains("BLYZ23 has its last day on 2024-03-05, which is not near its month 2023-12"),
        "{}",
        told.out
    );
}

#[test]
fn what_is_not_said_is_asked_and_what_cannot_be_is_refused() {
    let desk = desk(["BLYH24", "BLYK24"]);
    let told = made(&desk, &["BLY*"]);
    assert_eq!(told.code, 3, "{}", told.err);
    assert!(told.err.contains("Nobody said when the chain rolls"), "{}", told.err);
    for (args, says) in [
        (&["BLY*", "--roll", "soon"][..], "is not a rule for rolls"),
        (&["BLY*", "--roll", "oi"], "know no open interest"),
        (&["BLY*", "--roll", "volume", "--forward"], "go neither forward nor back"),
        (&["BLY*", "--roll", "volume", "--shift", "1h"], "A chain and a variant are two instruments"),
        (&["BLYH24", "--roll", "volume"], "two contracts or more"),
        (&["BLY*", "--roll", "volume", "--frame", "1w"], "has no contract BLY*@*:1w"),
        (&["OAT*", "--roll", "volume"], "its month is told by its name"),
    ] {
        let told = made(&desk, args);
        assert!([1, 2].contains(&told.code), "{args:?} {}", told.out);
        assert!(told.err.contains(says), "{args:?}: {}", told.err);
    }
    // Rows of another source: which is meant is asked.
    for name in ["BLYH24", "BLYK24"] {
        let file = desk.0.file("x.csv", days(&FAR));
        desk.run(&[
            "intake",
            &file,
            "--source",
            "tarn",
            "--instrument",
            name,
            "--clock",
            "UTC",
            "--frame",
            "1d",
        ]);
    }
    let told = made(&desk, &["BLY*", "--roll", "volume"]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(told.err.contains("quill and tarn; say which with --source"), "{}", told.err);
    assert_eq!(made(&desk, &["BLY*", "--roll", "volume", "--source", "quill"]).code, 0);
}

#[test]
fn days_told_in_another_zone_are_the_days_of_that_zone() {
    let desk = Desk::new();
    for (name, rows) in ["BLYH24", "BLYK24"].iter().zip([&NEAR[..], &FAR[..]]) {
        let args = ["--instrument", name, "--frame", "1d", "--clock", "Europe/Oslo"];
        assert_eq!(desk.intake(&[("d.csv", days(rows))], &args).code, 0);
    }
    // The bar of the 7th begins at 23:00 UTC on the 6th.
    let told = made(&desk, &["BLY*", "--roll", "volume", "--adjust", "none"]);
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    let doc = desk.0.json(&["compose", "BLY.chain", "--again"]);
    assert_eq!(doc["chain"]["rolls"][0]["day"], "2024-03-07");
    assert_eq!(doc["chain"]["rolls"][0]["at"], "2024-03-06T23:00:00Z");
    assert_eq!(doc["chain"]["contracts"][0]["expiry"], "2024-03-11");
    desk.run(&["compose", "BLYH24", "--set", "expiry=2024-03-11"]);
    let doc = desk.0.json(&["compose", "BLY.chain", "--roll", "days=1"]);
    assert_eq!(doc["chain"]["rolls"][0]["day"], "2024-03-08");
}
