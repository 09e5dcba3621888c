//! The command line, as other programs use it.

use crate::support::{Program, demo};

fn bars(rows: usize) -> String {
    let mut text = String::from("Time (UTC),Open,High,Low,Close,Volume\n");
    for i in 0..rows {
        text.push_str(&format!(
            "2024-03-{:02} {:02}:{:02},9.87650,9.90000,9.80000,9.8{:04},5\n",
            4 + i / 1440,
            i / 60 % 24,
            i % 60,
            i % 10_000
        ));
    }
    text
}

#[test]
fn the_log_tells_what_was_done_and_the_outputs_stay_as_they_are() {
    let p = Program::new();
    let (file, log) = (p.file("NOKSEK.csv", bars(100)), p.dir.path().join("a.log"));
    let log_path = log.to_string_lossy().into_owned();
    let quiet = Program::new();
    let plain = quiet.told(&["intake", &file, "--source", "quill"]);
    assert_eq!(p.told(&["intake", &file, "--source", "quill", "--log", &log_path]), plain);
    let wrong = p.told(&["check", "NOKSEK@tarn:1m", "--mend", "spike", "--log", &log_path]);
    assert_eq!(wrong.0, 1, "{}", wrong.2);
    let told = std::fs::read_to_string(&log).unwrap();
    for words in [
        "step begins command=\"stavel intake",
        "decided series=NOKSEK@quill:1m what=\"clock\"",
        "edition written series=NOKSEK@quill:1m",
        "step failed",
    ] {
        assert!(told.contains(words), "no {words:?} in {told}");
    }
    assert!(!told.contains('\u{1b}'), "no colours in a file");
    let nowhere = p.told(&["shelf", "--log", "no/such/folder/a.log"]);
    assert_eq!((nowhere.0, nowhere.1.as_str()), (1, ""));
    assert!(nowhere.2.contains("no/such/folder/a.log cannot be written"), "{}", nowhere.2);
}

#[test]
fn the_recipe_rebuilds_the_example_and_twice_changes_nothing() {
    let p = Program::new();
    let copy = p.dir.path().join("demo");
    copy_folder(&demo(), &copy);
    let recipe = copy.join("noksek.toml").to_string_lossy().into_owned();
    let done = p.json(&["run", &recipe]);
    let steps = done["steps"].as_array().unwrap();
    assert!(steps.iter().all(|s| s["done"] == "now"));
    let report = |act: &str| &steps.iter().find(|s| s["act"] == act).unwrap()["report"];
    assert_eq!(report("align")["clock"], "America/New_York+7h");
    assert_eq!(report("align")["anchored"], true);
    assert!(report("deliver")["files"].as_array().unwrap().iter().all(|f| f["proved"] == true));
    assert_eq!(report("rehearse")["position"], "0.00");
    let hash = |p: &std::path::Path| std::fs::read(p).unwrap();
    let files = [
        "NOKSEK_joined_1h.csv",
        "NOKSEK_joined_4h.json",
        "NOKSEK_joined_1m.parquet",
        "noksek.svg",
        "noksek.pdf",
    ];
    let first: Vec<Vec<u8>> = files.iter().map(|f| hash(&copy.join("out").join(f))).collect();
    let again = p.json(&["run", &recipe]);
    // A rehearsal and spec sheets leave nothing on the shelf that could have changed, so they are skipped too.
    assert!(again["steps"].as_array().unwrap().iter().all(|s| s["done"] == "before"), "{again}");
    let other = Program::new();
    std::fs::remove_dir_all(copy.join("out")).unwrap();
    other.json(&["run", &recipe]);
    for (f, bytes) in files.iter().zip(first) {
        assert!(hash(&copy.join("out").join(f)) == bytes, "{f} differs between two runs");
    }
}

fn copy_folder(from: &std::path::Path, to: &std::path::Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap().map(Result::unwrap) {
        if entry.file_name() == "out" {
            continue;
        }
        let target = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy_folder(&entry.path(), &target);
        } else {
            std::fs::copy(entry.path(), target).unwrap();
        }
    }
}

#[test]
fn documents_have_the_fields_others_rely_on() {
    let p = Program::new().with_noksek();
    let has = |doc: &serde_json::Value, fields: &[&str]| {
        for f in fields {
            assert!(doc.get(f).is_some(), "no {f} in {doc}");
        }
    };
    let check = p.json(&["check", "NOKSEK@quill:1m"]);
    has(
        &check,
        &["series", "rows", "first", "last", "coverage", "missing_days", "gaps", "findings", "stats"],
    );
    has(&check["stats"], &["max_range", "max_body", "max_gap", "spread"]);
    has(&check["findings"][0], &["kind", "severity", "from", "to", "rows", "detail"]);
    let align = p.json(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor"]);
    has(&align, &["clock", "confidence", "weeks", "alternatives", "evidence", "anchored"]);
    has(&align["weeks"][0], &["week", "offset_minutes", "correlation", "agrees"]);
    assert_eq!(align["weeks"][0]["offset_minutes"], 120);
    let splice = p.json(&["splice", "NOKSEK@tarn:1m", "NOKSEK@quill:1m", "--into", "joined"]);
    has(&splice, &["series", "edition", "rows", "pieces", "seams", "overlap"]);
    let sum: u64 = splice["pieces"].as_array().unwrap().iter().map(|p| p["rows"].as_u64().unwrap()).sum();
    assert_eq!(Some(sum), splice["rows"].as_u64());
    assert_eq!(p.json(&["splice", "NOKSEK@joined:1m", "--refresh"])["unchanged"], true);
    let (code, _, err) = p.told(&["splice", "NOKSEK@tarn:1m", "--refresh"]);
    assert!(code == 1 && err.contains("not by a splice"), "{err}");
    let frames = p.json(&["frames", "NOKSEK@joined:1m", "1h", "1d"]);
    has(
        &frames["series"][0],
        &["series", "edition", "rows", "first", "last", "partial_first", "partial_last"],
    );
    let shelf = p.json(&["shelf"]);
    has(
        &shelf["instruments"][0]["series"][0],
        &["series", "rows", "first", "last", "clock", "edition", "bytes", "updated"],
    );
    let deliver = p.json(&["deliver", "NOKSEK@joined:1h", "--out", "out/", "--last", "5"]);
    has(&deliver["files"][0], &["path", "series", "rows", "bytes", "sha256", "proved"]);
    let (code, out, _) = p.told(&["deliver", "NOKSEK@joined:1d", "--out", "-", "--last", "1"]);
    assert!(
        code == 0 && out.starts_with("time,open,high,low,close,volume,spread\n") && out.lines().count() == 2,
        "{out}"
    );
    p.json(&["check", "NOKSEK@quill:1m", "--mend", "spike"]);
    let joined = &p.json(&["shelf", "NOKSEK@joined:1m"])["instruments"][0]["series"][0];
    assert_eq!(joined["stale"], true);
    assert_eq!(joined["why_stale"], serde_json::json!(["quill:1m has changed"]));
    assert_eq!(p.json(&["splice", "NOKSEK@joined:1m", "--refresh"])["unchanged"], false);
    let fresh = p.json(&["shelf", "NOKSEK@joined:1m"]);
    assert!(fresh["instruments"][0]["series"][0].get("stale").is_none());
    p.json(&["check", "NOKSEK@joined:1m", "--mend", "missing"]);
    let again = p.json(&["splice", "NOKSEK@tarn:1m", "NOKSEK@quill:1m", "--into", "joined"]);
    assert_eq!((&again["put_aside"], &again["kept_rows"]), (&"check".into(), &0.into()));
    p.json(&["undo", "NOKSEK@joined:1h"]);
    assert_eq!(p.told(&["check", "NOKSEK@joined:1h"]).0, 1);
}

#[test]
fn prices_come_out_as_they_went_in() {
    let p = Program::new();
    let file = p.file("NOKSEK.csv", bars(1000));
    let taken = p.json(&["intake", &file, "--source", "quill"]);
    assert_eq!(taken["series"][0]["rows_kept"], 1000);
    let again = p.json(&["intake", &file, "--source", "quill"]);
    assert_eq!(
        (&again["series"][0]["rows_kept"], &again["series"][0]["rows_already_there"]),
        (&0.into(), &1000.into())
    );
    let (_, out, _) = p.told(&["deliver", "NOKSEK@quill:1m", "--out", "-"]);
    let expected =
        bars(1000).replace("Time (UTC),Open,High,Low,Close,Volume", "time,open,high,low,close,volume");
    let expected: Vec<String> =
        expected.lines().map(|l| l.replacen(' ', "T", 1).replacen(",9.87650", ":00Z,9.87650", 1)).collect();
    assert_eq!(out.lines().collect::<Vec<_>>(), expected);
}

#[test]
fn rejected_rows_are_kept_in_a_file_and_exit_is_three() {
    let p = Program::new();
    let text = bars(100).replacen(
        "9.80005,5\n",
        "9.80005,5\n2024-03-04 00:05,1.0x,1,1,1,1\n2024-03-04 00:06,1\n",
        1,
    );
    let (code, out, _) = p.told(&["intake", &p.file("NOKSEK.csv", text), "--source", "quill", "--json"]);
    let doc: serde_json::Value = serde_json::from_str(&out).unwrap();
    let taken = &doc["series"][0];
    assert_eq!((code, &taken["rows_read"], &taken["rows_rejected"]), (3, &102.into(), &2.into()));
    let rejects = std::fs::read_to_string(taken["rejects"].as_str().unwrap()).unwrap();
    assert!(
        rejects.contains(",8,")
            && rejects.contains("column 2 is not a number")
            && rejects.contains("2 columns where 6 are needed"),
        "{rejects}"
    );
}

#[test]
fn bad_input_is_one_sentence_and_an_unchanged_shelf() {
    let p = Program::new();
    p.json(&["intake", &p.file("NOKSEK.csv", bars(50)), "--source", "quill"]);
    let before = p.json(&["shelf"]);
    let zip = std::fs::read(demo().join("quill/NOKSEK_ticks/NOKSEK_ticks_2024-03.zip")).unwrap();
    let cases = [
        ("/nowhere/NOKSEK.csv".to_owned(), 1, "There is no file"),
        (p.file("empty.csv", ""), 1, "is empty"),
        (p.file("junk.csv", (0..4000u32).map(|i| (i * 7919 % 251) as u8).collect::<Vec<_>>()), 1, "not a table"),
        (p.file("short.zip", &zip[..zip.len() / 2]), 1, "damaged or cut short"),
        (p.file("few.csv", "Time (UTC),Open,High,Low,Close,Volume\n2024-03-05 10:00,1,2,0.5,1\n2024-03-05 10:01,1,2\n2024-03-05 10:02,1\n"), 1, "columns where 6 are needed"),
        (p.file("words.csv", "Time (UTC),Open,High,Low,Close\n2024-03-05 10:00,a,b,c,d\n2024-03-05 10:01,a,b,c,d\n"), 1, "is not a number"),
        (p.file("header.csv", "Time (UTC),Open,High,Low,Close\n"), 1, "a header but no rows"),
        (p.file("dates.csv", "time,open,high,low,close\n05/03/2024 10:00,1,1,1,1\n05/03/2024 10:01,1,1,1,1\n"), 3, "--dates"),
    ];
    for (path, code, words) in cases {
        let (got, out, err) = p.told(&["intake", &path, "--source", "other", "--instrument", "XXXYYY"]);
        assert_eq!(got, code, "{path}: {err}");
        assert!(
            err.contains(words) && err.trim_end().lines().count() == 1 && out.is_empty(),
            "{path}: {err}"
        );
        assert_eq!(p.json(&["shelf"]), before, "{path}");
    }
    for (args, code, words) in [
        (&["check", "NOKSEK@quill"][..], 2, "not a series"),
        (&["check", "NOKSEK@tarn:1m"], 1, "it has NOKSEK@quill:1m"),
        (
            &["check", "NOKSEK@quill:1m", "--from", "2024-03-06", "--to", "2024-03-05"],
            2,
            "must be the earlier",
        ),
        (&["frames", "NOKSEK@quill:1m", "1x"], 2, "not a frame"),
        (&["splice", "NOKSEK@quill:1m", "NOKSEK@quill:1m", "--into", "quill"], 2, "may not overwrite"),
        (&["splice", "NOKSEK@quill:1m", "--into", "joined"], 2, "two series or more"),
        (&["splice", "NOKSEK@quill:1m", "--refresh", "--into", "joined"], 2, "cannot be used with"),
        (&["compose", "X", "--like", "NOWHERE"], 1, "no instrument NOWHERE"),
        (&["compose", "NOKSEK", "--set", "hours=sometimes"], 2, "not a session week"),
        (&["run", "/nowhere.toml"], 1, "cannot be read"),
    ] {
        let (got, _, err) = p.told(args);
        assert!(got == code && err.contains(words), "{args:?} gave {got}: {err}");
        assert_eq!(p.json(&["shelf"]), before, "{args:?}");
    }
}

#[test]
fn an_afloat_series_says_what_to_do() {
    let p = Program::new().with_noksek();
    for args in [
        &["splice", "NOKSEK@tarn:1m", "NOKSEK@quill:1m", "--into", "joined"][..],
        &["deliver", "NOKSEK@tarn:1m", "--out", "x.csv"],
        &["frames", "NOKSEK@tarn:1m", "1h"],
    ] {
        let (code, _, err) = p.told(args);
        assert!(code == 1 && err.contains("afloat") && err.contains("align"), "{args:?}: {err}");
    }
    let shifted = p.json(&[
        "intake",
        &demo().join("quill/NZDSEK_1m").to_string_lossy(),
        "--source",
        "other",
        "--instrument",
        "NOKSEK",
        "--clock",
        "UTC",
    ]);
    assert_eq!(shifted["series"][0]["series"], "NOKSEK@other:1m");
    let (code, out, _) =
        p.told(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@other:1m", "--anchor", "--json"]);
    assert!(code == 3 && out.contains("\"clock\": null"), "another instrument is no clock: {out}");
}

#[test]
fn a_locked_and_a_newer_shelf_are_told() {
    let p = Program::new();
    let file = p.file("NOKSEK.csv", bars(50));
    p.json(&["intake", &file, "--source", "quill"]);
    let lock = std::fs::File::options().write(true).open(p.shelf().join("writer.lock")).unwrap();
    fs4::fs_std::FileExt::lock_exclusive(&lock).unwrap();
    let (code, _, err) = p.told(&["undo", "NOKSEK@quill:1m"]);
    assert!(code == 1 && err.contains("being written by another Stavel"), "{err}");
    assert_eq!(p.told(&["check", "NOKSEK@quill:1m"]).0, 0, "reading goes on");
    drop(lock);
    // The catalog's version lies at byte 60 of an SQLite file.
    let path = p.shelf().join("catalog.db");
    let mut bytes = std::fs::read(&path).unwrap();
    bytes[60..64].copy_from_slice(&99u32.to_be_bytes());
    std::fs::write(&path, bytes).unwrap();
    let (code, _, err) = p.told(&["shelf"]);
    assert!(code == 1 && err.contains("newer Stavel"), "{err}");
}

#[test]
fn the_shelf_is_kept_in_order_by_commands() {
    let p = Program::new();
    let file = p.file("NOKSEK.csv", bars(100));
    p.json(&["intake", &file, "--source", "quill"]);
    let more = p.file("NOKSEK_more.csv", bars(120));
    let taken = p.json(&["intake", &more, "--source", "quill"]);
    assert_eq!(
        (&taken["series"][0]["rows_kept"], &taken["series"][0]["rows_already_there"]),
        (&20.into(), &100.into())
    );
    let editions = p.json(&["shelf", "NOKSEK@quill:1m", "--editions"]);
    let made_from = &editions["editions"][0]["provenance"]["made"]["files"][0];
    assert_eq!(made_from["bytes"], std::fs::metadata(&more).unwrap().len());
    assert_eq!(made_from["blake3"].as_str().unwrap().len(), 64);
    let compared = p.json(&["shelf", "NOKSEK@quill:1m", "--compare", "1"]);
    assert_eq!((&compared["same"], &compared["only_in_current"]), (&100.into(), &20.into()));

    p.json(&["shelf", "NOKSEK@quill:1m", "--rename", "NOKSEK@vendor:1m"]);
    p.json(&["shelf", "NOKSEK@vendor:1m", "--remove"]);
    assert_eq!(p.json(&["shelf"])["instruments"][0]["series"], serde_json::json!([]));
    p.json(&["undo", "NOKSEK@vendor:1m"]);
    let series = p.json(&["shelf"])["instruments"][0]["series"][0].clone();
    assert_eq!((&series["series"], &series["rows"]), (&"NOKSEK@vendor:1m".into(), &120.into()));
    assert_eq!(p.json(&["shelf", "--tidy"])["editions"], 1);
    assert_eq!(p.json(&["shelf", "--verify"])["faults"], serde_json::json!([]));

    // A file that was changed behind the catalog's back is found.
    let data = p.shelf().join("data/instrument=NOKSEK/source=vendor/frame=1m/year=2024");
    let file = std::fs::read_dir(&data).unwrap().next().unwrap().unwrap().path();
    let mut bytes = std::fs::read(&file).unwrap();
    bytes[40] ^= 1;
    std::fs::write(&file, bytes).unwrap();
    let (code, out, _) = p.told(&["shelf", "--verify"]);
    assert!(code == 3 && out.contains("its hash is another"), "{out}");
}

#[test]
fn rejected_rows_are_shown_and_taken_again_with_a_layout() {
    let p = Program::new();
    let mut text = bars(60);
    (0..3).for_each(|i| text.push_str(&format!("05.03.2024 10:0{i};9,80001;9,80009;9,79991;9,80005;7\n")));
    let (code, _, err) = p.told(&["intake", &p.file("NOKSEK.csv", text), "--source", "quill"]);
    assert_eq!(code, 3, "{err}");
    let (_, out, _) = p.told(&["intake", "--rejects", "NOKSEK-quill-1m-1"]);
    assert!(out.contains("3 rows:") && out.contains("05.03.2024 10:02;9,80001"), "{out}");
    let toml = "delimiter = ';'\ndecimal = ','\ndates = 'day-first'\n\
        columns = ['moment', 'open', 'high', 'low', 'close', 'volume']\n";
    let file = p.file("other.toml", toml);
    assert_eq!(p.json(&["layout", "save", "other", &file])["saved"], "other");
    assert!(p.told(&["layout", "show", "other"]).1.contains("day-first"));
    assert_eq!(p.json(&["layout", "list"])["layouts"][0]["name"], "other");
    let taken = p.json(&["intake", "--rejects", "NOKSEK-quill-1m-1", "--retake", "--layout", "other"]);
    assert_eq!(
        (&taken["series"][0]["series"], &taken["series"][0]["rows_kept"]),
        (&"NOKSEK@quill:1m".into(), &3.into())
    );
    let (code, _, err) = p.told(&["intake", "--rejects", "nothing"]);
    assert!(code == 1 && err.contains("NOKSEK-quill-1m-1"), "{err}");
}

#[test]
fn what_a_layout_reads_it_also_writes() {
    let p = Program::new();
    let line =
        |i: u32| format!("{:02}.03.2024 10:00:{:02}.5;9,8{i:04};9,8{:04};x\n", 4 + i / 50, i % 50, i + 9);
    let text = "Zeit;Geld;Brief;Rest\n".to_owned() + &(0..900).map(line).collect::<String>();
    let toml = "delimiter = ';'\ndecimal = ','\ndates = 'day-first'\nclock = 'Europe/Oslo'\n\
        header = ['Zeit', 'Geld', 'Brief', 'Rest']\ncolumns = ['moment', 'bid', 'ask', '-']\n";
    p.json(&["layout", "save", "zgb", &p.file("zgb.toml", toml)]);
    let taken = p.json(&["intake", &p.file("NOKSEK.csv", &text), "--source", "quill"]);
    assert_eq!(
        (&taken["series"][0]["rows_kept"], &taken["series"][0]["clock"]),
        (&900.into(), &"Europe/Oslo".into())
    );
    let out = p.dir.path().join("out.csv").to_string_lossy().into_owned();
    let done = p.json(&["deliver", "NOKSEK@quill:ticks", "--out", &out, "--layout", "zgb"]);
    assert_eq!(done["files"][0]["proved"], true);
    let written = std::fs::read_to_string(&out).unwrap();
    assert_eq!(written, text.replace(".5;", ".500;").replace(";x", ";"));
    let (code, _, err) = p.told(&["deliver", "NOKSEK@quill:ticks", "--out", &out, "--layout", "none"]);
    assert!(code == 2 && err.contains("there are zgb, rfc3339"), "{err}");
}

#[test]
fn errors_are_documents_under_json_and_sentences_beside_it() {
    let p = Program::new();
    for (args, exit, words) in [
        (&["check", "NOKSEK@quill:1m"][..], 1, "take it in first"),
        (&["check"][..], 2, "<SERIES>"),
        (&["chart", "NOKSEK@quill:1m", "--out", "x.jpg", "--ma", "many"][..], 2, "many"),
        (&["auto", "a.csv", "--broker", "b.csv"][..], 1, "a.csv"),
    ] {
        let (code, out, err) = p.told(&[args, &["--json"]].concat());
        let document: serde_json::Value =
            serde_json::from_str(&out).unwrap_or_else(|e| panic!("{args:?}: {e}: {out}"));
        assert_eq!((code, &document["error"]["exit"]), (exit, &exit.into()), "{args:?}: {err}");
        let sentence = document["error"]["sentence"].as_str().unwrap();
        assert!(sentence.contains(words) && sentence.lines().count() == 1, "{args:?}: {sentence}");
        assert!(!err.is_empty());
        let (_, out, _) = p.told(args);
        assert!(out.is_empty(), "without --json nothing is on standard output: {out}");
    }
}

#[test]
fn completions_man_pages_and_the_build_are_told() {
    let p = Program::new();
    for shell in ["bash", "zsh", "fish"] {
        let (code, out, err) = p.told(&["completions", shell]);
        assert!(code == 0 && out.contains("rehearse") && out.contains("carry-spread"), "{shell}: {err}");
    }
    let (code, out, _) = p.told(&["man"]);
    assert!(code == 0 && out.contains(".TH stavel 1"));
    let (code, _, err) = p.told(&["man", "--out", "pages"]);
    assert_eq!(code, 0, "{err}");
    let page = std::fs::read_to_string(p.dir.path().join("pages/stavel-splice.1")).unwrap();
    assert!(page.contains("\\-\\-carry\\-spread") && page.contains("Examples"), "{page}");
    let (_, version, _) = p.told(&["--version"]);
    assert!(version.starts_with("stavel 0.1.0 (") && version.trim().ends_with(')'), "{version}");
    // Every command shows how it is used.
    let (_, help, _) = p.told(&["--help"]);
    let commands = help.lines().skip_while(|l| *l != "Commands:").skip(1).take_while(|l| !l.is_empty());
    let names: Vec<&str> =
        commands.filter_map(|l| l.strip_prefix("  ")?.split(' ').next()).filter(|w| !w.is_empty()).collect();
    assert!(names.len() > 14, "{help}");
    for name in names {
        let (_, help, _) = p.told(&[name, "--help"]);
        assert!(help.contains("Examples:\n  stavel "), "{name}: {help}");
    }
}
