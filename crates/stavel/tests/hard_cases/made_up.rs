//! Adjusted and stress variants: what a person types, what is told, and that nobody takes them for a record.

use crate::{Desk, HEADER, bars, minute};

fn desk() -> Desk {
    let desk = Desk::new();
    let told = desk.intake(&[("n.csv", bars(HEADER, (0..4000).map(minute)))], &["--instrument", "NOKSEK"]);
    assert_eq!(told.code, 0, "{}", told.err);
    desk
}

/// Composes a variant of NOKSEK.
fn vary(desk: &Desk, name: &str, options: &[&str]) -> crate::Told {
    desk.run(&[&["compose", name, "--like", "NOKSEK", "--from", "NOKSEK@quill:1m"], options].concat())
}

#[test]
fn the_same_seed_gives_the_same_bytes_on_any_shelf() {
    let all = [
        "--noise",
        "3",
        "--slippage",
        "2",
        "--missing",
        "1%",
        "--delay",
        "2m",
        "--shuffle",
        "days",
        "--mirror",
    ];
    let file = |seed: &str| {
        let desk = desk();
        let told = vary(
            &desk,
            "N.hard",
            &[&all[..], &["--seed", seed, "--set", "hours=mon-sun 00:00-24:00 UTC"]].concat(),
        );
        assert_eq!(told.code, 3, "bids alone are turned over: {}", told.out);
        assert!(told.out.contains("do not know their spread"), "{}", told.out);
        desk.rows("N.hard@quill:1m")
    };
    let (a, b, other) = (file("7"), file("7"), file("8"));
    assert_eq!(a, b);
    assert_ne!(a, other);
    assert!((3900..3990).contains(&a.len()), "{}", a.len());
}

#[test]
fn what_is_made_up_says_so_wherever_it_goes() {
    let desk = desk();
    let told = vary(&desk, "N.noise", &["--noise", "3"]);
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    assert!(told.out.contains("made up for a stress test: noise of 3 points, seed 1"), "{}", told.out);
    assert!(told.out.contains("assumed: seed 1"), "{}", told.out);
    desk.run(&["frames", "N.noise@quill:1m", "1h"]);
    let shelf = desk.run(&["shelf"]).out;
    let lines: Vec<&str> = shelf.lines().filter(|line| line.contains("made up for a stress test")).collect();
    assert_eq!(lines.len(), 2, "{shelf}");
    let doc = desk.0.json(&["shelf", "N.noise@quill:1h"]);
    assert_eq!(doc["instruments"][0]["series"][0]["made_up"], true);
    let out = desk.0.file("x.txt", "");
    let folder = std::path::Path::new(&out).parent().unwrap().display().to_string() + "/";
    let told = desk.run(&["deliver", "N.noise@quill:1h", "--out", &folder]);
    assert!(told.out.contains("N.noise_quill_1h_made-up.csv"), "{}", told.out);
    assert!(told.out.contains("assumed: rows made up of NOKSEK@quill:1m"), "{}", told.out);
    let origins = desk.run(&["deliver", "N.noise@quill:1h", "--out", "-", "--origin"]).out;
    assert!(origins.lines().nth(1).unwrap().ends_with(",100000"), "{origins}");
}

#[test]
fn a_recipe_makes_it_once_and_again_when_its_base_grows() {
    let desk = desk();
    let recipe = desk.0.file(
        "r.toml",
        "[[step]]\nact = \"compose\"\nname = \"N.gone\"\nlike = \"NOKSEK\"\nfrom = \"NOKSEK@quill:1m\"\nmissing = \"5%\"\nseed = 3\n",
    );
    assert_eq!(desk.run(&["run", &recipe]).code, 0);
    desk.run(&["run", &recipe]);
    let editions =
        || desk.0.json(&["shelf", "N.gone@quill:1m", "--editions"])["editions"].as_array().unwrap().len();
    assert_eq!(editions(), 1);
    let before = desk.rows("N.gone@quill:1m");
    desk.intake(&[("more.csv", bars(HEADER, (4000..4100).map(minute)))], &["--instrument", "NOKSEK"]);
    assert_eq!(desk.run(&["run", &recipe]).code, 0);
    let after = desk.rows("N.gone@quill:1m");
    assert_eq!((editions(), &after[..before.len()]), (2, before.as_slice()), "the past is as it was");
}

#[test]
fn what_cannot_be_made_up_is_refused_in_a_sentence() {
    let desk = desk();
    for (options, says) in [
        (&["--seed", "3"][..], "A seed is of chances"),
        (&["--missing", "100%"], "is not a share between 0 and 1"),
        (&["--delay=-2s"], "cannot be seen before they are there"),
        (&["--delay", "2s"], "by whole bars alone"),
        (&["--shuffle", "months"], "possible values: days, weeks"),
        (&["--mirror", "--inverse"], "not both at once"),
        (&["--adjusted", "all"], "knows no splits or dividends of NOKSEK"),
    ] {
        let told = vary(&desk, "X", options);
        assert!([1, 2].contains(&told.code), "{options:?} {}", told.out);
        assert!(told.err.contains(says), "{options:?}: {}", told.err);
    }
    let told = desk.run(&["compose", "X", "--like", "NOKSEK", "--noise", "3"]);
    assert!(told.err.contains("Say which rows X is to be made of"), "{}", told.err);
}

/// Four days with a split of two for one before the third, and what a vendor makes of them.
const SHARE: &str = "Date,Open,High,Low,Close,Adj Close,Volume\n\
    2024-03-04,100.00,101.00,99.00,100.00,49.50,1000\n\
    2024-03-05,100.00,104.00,99.00,102.00,50.49,1100\n\
    2024-03-06,51.00,52.00,50.00,51.50,50.985,2000\n\
    2024-03-07,51.00,52.00,50.00,51.00,51.00,2100\n";

#[test]
fn splits_and_dividends_are_worked_in_and_held_against_the_source() {
    let desk = Desk::new();
    let told = desk.intake(&[("d.csv", SHARE.into())], &["--instrument", "BLY", "--frame", "1d"]);
    assert_eq!(told.code, 0, "{}", told.err);
    let split = "Date,Split\n2024-03-06,2:1\n";
    // 0.515 of 51.50 is a hundredth: what was 51.50 before is 50.985.
    let dividend = "Date,Dividend\n2024-03-07,0.515\n";
    for (name, text) in [("s.csv", split), ("v.csv", dividend)] {
        let told = desk.intake(&[(name, text.into())], &["--instrument", "BLY"]);
        assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    }
    let told = desk.run(&[
        "compose",
        "BLY.adjusted",
        "--like",
        "BLY",
        "--from",
        "BLY@quill:1d",
        "--adjusted",
        "all",
    ]);
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    assert!(told.out.contains("4 adjusted closes are those of the source"), "{}", told.out);
    assert!(
        told.out.contains("2024-03-06  split 2:1: prices before x 0.50000000, volumes x 2.000000"),
        "{}",
        told.out
    );
    assert!(told.out.contains("2024-03-07  dividend 0.515: prices before x 0.99000000"), "{}", told.out);
    assert_eq!(
        desk.rows("BLY.adjusted@quill:1d"),
        [
            "2024-03-04T00:00:00Z,49.5000,49.9950,49.0050,49.5000,2000",
            "2024-03-05T00:00:00Z,49.5000,51.4800,49.0050,50.4900,2200",
            "2024-03-06T00:00:00Z,50.4900,51.4800,49.5000,50.9850,2000",
            "2024-03-07T00:00:00Z,51.0000,52.0000,50.0000,51.0000,2100",
        ]
    );
    // Ratios of other things are no splits.
    let figures = "Date,EPS,PE Ratio,Dividend Yield\n2024-03-06,2.10,12.3,3.5\n";
    desk.intake(&[("f.csv", figures.into())], &["--instrument", "BLY"]);
    let told = desk.run(&["compose", "BLY.adjusted", "--again"]);
    assert_eq!((told.code, told.out.matches("prices before x").count()), (0, 2), "{}{}", told.out, told.err);
    // Another split comes to be known: what was made before it is stale, and what it says is doubted.
    desk.intake(&[("s2.csv", "Date,Split\n2024-03-05,3:1\n".into())], &["--instrument", "BLY"]);
    assert_ne!(desk.run(&["deliver", "BLY.adjusted@quill:1d", "--out", "-"]).code, 0);
    let told = desk.run(&["compose", "BLY.adjusted", "--again"]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(told.out.contains("do not jump at the split 3:1 of 2024-03-05"), "{}", told.out);
    assert!(told.out.contains("adjusted closes are not those of the source"), "{}", told.out);
}
