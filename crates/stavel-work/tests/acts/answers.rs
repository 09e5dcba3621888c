//! What a step says where it cannot be done, or is done with a doubt.

use crate::{Desk, quiet};

#[test]
fn a_series_that_is_not_there_is_told_with_those_that_are() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..5, 0));
    for step in [
        "act = 'check'\nseries = 'NOKSEK@tarn:1m'",
        "act = 'align'\nseries = 'NOKSEK@tarn:1m'\nto = 'NOKSEK@quill:1m'",
        "act = 'splice'\nseries = ['NOKSEK@tarn:1m', 'NOKSEK@quill:1m']\ninto = 'j'",
        "act = 'frames'\nseries = 'NOKSEK@tarn:1m'\nframes = ['1h']",
        "act = 'compose'\nname = 'X'\nfrom = 'NOKSEK@tarn:1m'",
        "act = 'deliver'\nseries = ['NOKSEK@tarn:1m']\nout = '~/x.csv'",
        "act = 'chart'\nseries = 'NOKSEK@tarn:1m'\nout = '~/x.svg'",
        "act = 'shelf'\nseries = 'NOKSEK@tarn:1m'\nremove = true",
        "act = 'undo'\nseries = 'NOKSEK@tarn:1m'",
    ] {
        let told = desk.fails(step);
        assert!(told.contains("NOKSEK@tarn:1m") && told.ends_with('.'), "{step}: {told}");
        assert_eq!(told.lines().count(), 1, "one sentence: {told}");
    }
    assert_eq!(desk.editions(), [("NOKSEK@quill:1m".into(), 1)]);
    assert!(!desk.path("x.csv").exists() && !desk.path("x.svg").exists());
}

#[test]
fn what_is_afloat_is_neither_joined_nor_framed_into_days_nor_played() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    std::fs::write(desk.path("NOKSEK.csv"), format!("Time,Open,High,Low,Close,Volume\n{}", quiet(4..6, 0)))
        .unwrap();
    desk.done("act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = 'tarn'\nclock = 'afloat'\nframe = '1m'");
    std::fs::write(desk.path("o.csv"), "time,side,lots\n2024-03-04T10:00:00Z,buy,1\n").unwrap();
    for step in [
        "act = 'splice'\nseries = ['NOKSEK@tarn:1m', 'NOKSEK@quill:1m']\ninto = 'j'",
        "act = 'deliver'\nseries = ['NOKSEK@tarn:1m']\nout = '~/x.csv'\nclock = 'UTC+2'",
        "act = 'rehearse'\nseries = 'NOKSEK@tarn:1m'\norders = '~/o.csv'",
        "act = 'check'\nseries = 'NOKSEK@quill:1m'\nagainst = 'NOKSEK@tarn:1m'",
    ] {
        let told = desk.fails(step);
        assert!(told.contains("afloat"), "{step}: {told}");
    }
}

#[test]
fn a_clock_that_is_said_anchors_and_its_days_follow() {
    let mut desk = Desk::new();
    std::fs::write(desk.path("NOKSEK.csv"), format!("Time,Open,High,Low,Close,Volume\n{}", quiet(4..6, 0)))
        .unwrap();
    desk.done("act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = 'tarn'\nclock = 'afloat'\nframe = '1m'");
    desk.done("act = 'align'\nseries = 'NOKSEK@tarn:1m'\nclock = 'UTC+2'\nanchor = true");
    let info = desk.shelf.find(&"NOKSEK@tarn:1m".parse().unwrap()).unwrap();
    assert!(!info.is_afloat());
    assert_eq!(stavel_core::model::time::rfc3339(info.edition.first), "2024-03-03T22:00:00Z");
    desk.done("act = 'undo'\nseries = 'NOKSEK@tarn:1m'");
    assert!(desk.shelf.find(&"NOKSEK@tarn:1m".parse().unwrap()).unwrap().is_afloat());
}

#[test]
fn what_nobody_said_is_told_as_assumed() {
    let mut desk = Desk::new();
    let report = {
        std::fs::write(
            desk.path("NOKSEK.csv"),
            format!("Time (UTC),Open,High,Low,Close,Volume\n{}", quiet(4..5, 0)),
        )
        .unwrap();
        desk.act("act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = 'quill'").unwrap()
    };
    let whats: Vec<&str> = report.assumed.iter().map(|d| d.what.as_str()).collect();
    assert_eq!(whats, ["side", "stamp"]);
    assert!(report.lines.iter().any(|l| l.contains("○ assumed: side bid, stamp open")), "{:?}", report.lines);
    let document = report.document();
    assert_eq!(document["assumed"].as_array().unwrap().len(), 2);
    let mut said = Desk::new();
    std::fs::copy(desk.path("NOKSEK.csv"), said.path("NOKSEK.csv")).unwrap();
    let report = said
        .act("act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = 'quill'\nside = 'mid'\nstamp = 'close'")
        .unwrap();
    assert!(report.assumed.is_empty(), "{:?}", report.assumed);
    assert!(report.document().get("assumed").is_none());
}

#[test]
fn days_that_nobody_defined_are_built_but_a_person_is_wanted() {
    let mut desk = Desk::new();
    std::fs::write(
        desk.path("BLY.csv"),
        format!("Time (UTC),Open,High,Low,Close,Volume\n{}", quiet(4..6, 0)),
    )
    .unwrap();
    desk.done("act = 'intake'\npaths = ['~/BLY.csv']\nsource = 'quill'\nframe = '1m'");
    let hours = desk.act("act = 'frames'\nseries = 'BLY@quill:1m'\nframes = ['1h']").unwrap();
    assert!(!hours.wants_person, "{:?}", hours.lines);
    let days = desk.act("act = 'frames'\nseries = 'BLY@quill:1m'\nframes = ['1d']").unwrap();
    assert!(days.wants_person);
    assert!(days.lines.iter().any(|l| l.contains("when a session day of BLY begins")), "{:?}", days.lines);
    let said = desk.act("act = 'frames'\nseries = 'BLY@quill:1m'\nframes = ['1d']\nclock = 'UTC'").unwrap();
    assert!(!said.wants_person, "{:?}", said.lines);
}

#[test]
fn files_that_are_none_are_told_by_name_and_nothing_is_made() {
    let mut desk = Desk::new();
    std::fs::write(desk.path("empty.csv"), "").unwrap();
    std::fs::write(desk.path("noise.csv"), [0u8, 159, 146, 150, 7, 7].repeat(50)).unwrap();
    std::fs::write(desk.path("words.csv"), "once upon a time\nthere was a market\n".repeat(9)).unwrap();
    for (file, told) in [
        ("empty.csv", "empty.csv"),
        ("noise.csv", "noise.csv"),
        ("words.csv", "words.csv"),
        ("gone.csv", "There is no file"),
        ("*.xyz", "*.xyz"),
    ] {
        let sentence = desk.fails(&format!("act = 'intake'\npaths = ['~/{file}']\nsource = 'quill'"));
        assert!(sentence.contains(told), "{file}: {sentence}");
        assert!(!sentence.contains('\u{7}'), "nothing of a file reaches the terminal raw");
    }
    assert!(desk.editions().is_empty() && desk.shelf.instruments().unwrap().is_empty());
}

#[test]
fn names_that_cannot_be_folders_are_refused() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..5, 0));
    for source in ["", "a b", "../up", "a/b", "a@b", "x:y", "ü".repeat(200).as_str()] {
        let told = desk.fails(&format!(
            "act = 'splice'\nseries = ['NOKSEK@quill:1m', 'NOKSEK@quill:1m']\ninto = '{source}'"
        ));
        assert!(!told.is_empty());
        let told = desk.fails(&format!("act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = '{source}'"));
        assert!(told.contains("source"), "{source}: {told}");
    }
    assert_eq!(desk.editions().len(), 1);
}

#[test]
fn pages_and_charts_end_as_what_they_are() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..5, 0));
    for (step, told) in [
        ("act = 'chart'\nseries = 'NOKSEK@quill:1m'\nout = '~/x.png'", ".svg"),
        ("act = 'chart'\nseries = 'NOKSEK@quill:1m'\nout = '~/x'", ".svg"),
        ("act = 'check'\nseries = 'NOKSEK@quill:1m'\nreport = '~/x.txt'", ".html or .pdf"),
        (
            "act = 'chart'\nseries = 'NOKSEK@quill:1m'\nfrom = '2030-01-01'\nout = '~/x.svg'",
            "nothing to draw",
        ),
        ("act = 'chart'\nseries = 'NOKSEK@quill:1m'\nfrom = 'soon'\nout = '~/x.svg'", "soon"),
    ] {
        let sentence = desk.fails(step);
        assert!(sentence.contains(told), "{step}: {sentence}");
    }
    let left: Vec<_> = std::fs::read_dir(desk.dir.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(left.len(), 2, "only the file and the shelf: {left:?}");
}

#[test]
fn of_a_series_that_is_afloat_no_coverage_is_told_and_none_is_held_against_it() {
    let mut desk = Desk::new();
    // Weekdays only: the days between are no hole, for nobody knows when the market is open.
    let rows: String = [4..9, 11..16].into_iter().map(|days| quiet(days, 0)).collect();
    std::fs::write(desk.path("NOKSEK.csv"), format!("Time,Open,High,Low,Close,Volume\n{rows}")).unwrap();
    desk.done("act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = 'tarn'\nclock = 'afloat'\nframe = '1m'");
    let report = desk.act("act = 'check'\nseries = 'NOKSEK@tarn:1m'\nreport = '~/page.html'").unwrap();
    let document = report.document();
    assert!(document["coverage"].is_null() && document["stats"]["minutes_missing"].is_null(), "{document}");
    assert_eq!(document["missing_days"].as_array().unwrap().len(), 0);
    assert_eq!(document["stats"]["months"].as_array().unwrap().len(), 0, "no month is told to be full");
    assert!(!document["points_lost"].to_string().contains("open time"), "{}", document["points_lost"]);
    assert!(report.lines[0].contains("open time not known"), "{:?}", report.lines);
    assert!(
        std::fs::read_to_string(desk.path("page.html")).unwrap().contains("not known while it is afloat")
    );
    desk.done("act = 'align'\nseries = 'NOKSEK@tarn:1m'\nclock = 'UTC'\nanchor = true");
    let anchored = desk.done("act = 'check'\nseries = 'NOKSEK@tarn:1m'");
    assert!(anchored["coverage"].as_f64().unwrap() > 0.5, "{anchored}");
}
