//! Check and align by commands: cross-checks, learned weeks, reports, lists of mends, clocks of one's own.

use crate::support::Program;

const QUILL: &str = "NOKSEK@quill:1m";
const TARN: &str = "NOKSEK@tarn:1m";

#[test]
fn mends_are_saved_applied_to_another_series_limited_to_a_span_and_undone() {
    let p = Program::new().with_noksek();
    let rows = |series: &str| p.json(&["check", series])["rows"].as_u64().unwrap();
    let whole = rows(QUILL);
    let before = p.json(&["check", QUILL]);
    let mended = p.json(&[
        "check",
        QUILL,
        "--mend",
        "clock_slip,spike,duplicate_time,filler",
        "--save-mends",
        "m.toml",
    ]);
    // A week of filler and trade together is moved an hour back.
    assert!(
        mended["mended"]["clock_slip"].as_u64().unwrap() > 7000 && mended["mended"]["spike"] == 1,
        "{}",
        mended["mended"]
    );
    let after = p.json(&["check", QUILL]);
    let count = |json: &serde_json::Value, kind: &str| {
        json["findings"].as_array().unwrap().iter().filter(|f| f["kind"] == kind).count()
    };
    assert_eq!((count(&after, "clock_slip"), count(&after, "spike"), count(&after, "missing")), (0, 0, 2));
    // Filler that stood where the moved rows belong has given way: no conflicts.
    assert_eq!(count(&after, "conflicting_time"), 0);
    assert!(after["rows"].as_u64().unwrap() < whole - 10_000);
    assert!(after["grade"].as_u64() > before["grade"].as_u64());
    p.json(&["undo", QUILL]);
    assert_eq!(rows(QUILL), whole);
    // The same list on a day without any of that changes nothing; holes of the day are filled and marked.
    let day = ["--from", "2024-03-19", "--to", "2024-03-20"];
    let listed = p.json(&[&["check", QUILL, "--mends", "m.toml"], &day[..]].concat());
    assert!(listed["mended"].as_object().unwrap().values().all(|n| n == 0), "{}", listed["mended"]);
    let filled = p.json(&[&["check", QUILL, "--mend", "missing"], &day[..]].concat());
    assert_eq!(filled["mended"]["missing"], 60);
    assert_eq!(rows(QUILL), whole + 60);
    // Lines that others read have the columns they know.
    let (_, csv, _) = p.told(&["deliver", QUILL, "--out", "-", "--last", "2"]);
    assert!(csv.starts_with("time,open,high,low,close,volume\n"), "{csv}");
}

#[test]
fn series_are_held_against_each_other_and_a_page_is_kept() {
    let p = Program::new().with_noksek();
    let (code, _, err) = p.told(&["check", TARN, "--against", QUILL]);
    assert!(code == 1 && err.contains("is afloat") && err.contains("stavel align"), "{err}");
    p.json(&["align", TARN, "--to", QUILL, "--anchor"]);
    let held = p.json(&["check", TARN, "--against", QUILL, "--report", "out/check.html"]);
    let against = &held["against"];
    assert!(
        against["all"]["both"].as_u64().unwrap() > 30_000 && against["months"].as_array().unwrap().len() >= 2
    );
    // The vendor's slipped week shows as the broker's own, an hour the other way.
    let slip = held["findings"].as_array().unwrap().iter().find(|f| f["kind"] == "clock_slip").unwrap();
    assert!(slip["detail"].as_str().unwrap().contains("1 h early"), "{slip}");
    let page = std::fs::read_to_string(p.dir.path().join("out/check.html")).unwrap();
    assert!(page.contains("<svg") && page.contains("Completeness by day") && page.ends_with("</html>\n"));
    p.json(&["check", TARN, "--report", "check.pdf"]);
    assert!(std::fs::read(p.dir.path().join("check.pdf")).unwrap().starts_with(b"%PDF"));
    let learned = p.json(&["check", TARN, "--learn"]);
    assert_eq!(learned["learned"]["hours"], "sun 17:00 - fri 17:00 America/New_York");
    // An edition is held against the one before it.
    p.json(&["check", QUILL, "--mend", "spike"]);
    let editions = p.json(&["check", QUILL, "--against", "1"]);
    assert_eq!(editions["against"]["all"]["only_there"], 1, "{}", editions["against"]["all"]);
}

#[test]
fn a_clock_is_scanned_chosen_and_told_with_its_evidence() {
    let p = Program::new().with_noksek();
    let scan = p.json(&["align", TARN, "--to", QUILL, "--scan"]);
    assert_eq!((&scan["clock"], &scan["scan"][0]["clock"]), (&scan["scan"][0]["clock"], &scan["clock"]));
    assert_eq!(scan["stamp"], "open");
    let words = scan["in_words"].to_string();
    assert!(words.contains("17:00 in New York") && words.contains("5 daily bars"), "{words}");
    let (session, days) = (&scan["session"], &scan["daily_bars"]);
    assert!(
        session["before"]["stub_days"].as_u64() > Some(2) && session["after"]["stub_days"] == 0,
        "{session}"
    );
    assert!(days["after"]["close"].as_u64() > days["before"]["close"].as_u64(), "{days}");
    // A clock that is wrong in some weeks is rated and, as it was chosen, taken.
    let own = p.json(&["align", TARN, "--to", QUILL, "--clock", "UTC+2", "--anchor"]);
    assert!(own["anchored"] == true && own["chosen"] == true && own["clock"] == "UTC+2");
    assert!(own["confidence"].as_f64() < scan["confidence"].as_f64());
    let shelf = p.json(&["shelf"]).to_string();
    assert!(shelf.contains("UTC+2"));
}

#[test]
fn what_cannot_be_judged_is_told_in_one_sentence() {
    let p = Program::new().with_noksek();
    p.file("bad.toml", "mend = ['spike', 'everything']");
    for (args, code, words) in [
        (
            &["check", QUILL, "--from", "2024-03-20", "--to", "2024-03-10"][..],
            2,
            "the first must be the earlier",
        ),
        (&["check", QUILL, "--from", "2030-01-01"], 1, "has no rows in that span"),
        (&["check", QUILL, "--mend", "stub_day"], 2, "no mend for stub_day"),
        (&["check", QUILL, "--mends", "bad.toml"], 1, "bad.toml is not a list of mends"),
        (&["check", TARN, "--mend", "missing"], 1, "is afloat"),
        (&["check", QUILL, "--against", QUILL], 2, "cannot be held against itself"),
        (&["check", QUILL, "--against", "7"], 1, "has no edition 7"),
        (&["check", QUILL, "--report", "page.doc"], 2, "must end in .html or .pdf"),
        (&["check", QUILL, "--save-mends", "x.toml"], 2, "no mends to save"),
        (&["align", QUILL, "--to", TARN], 1, "is afloat itself"),
        (&["align", TARN, "--to", QUILL, "--clock", "UTC+2, from soon UTC+3"], 2, "soon"),
    ] {
        let (got, out, err) = p.told(args);
        assert_eq!(got, code, "{args:?}: {err}");
        assert!(err.contains(words) && out.is_empty(), "{args:?}: {err}");
        assert!(err.trim_end().lines().count() <= 3, "{args:?}: {err}");
    }
}
