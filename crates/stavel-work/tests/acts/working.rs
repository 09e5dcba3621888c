//! Acts that work, and their documents.

use serde_json::json;
use stavel_core::model::{Field, SeriesName};

use crate::{Desk, quiet};

#[test]
fn an_intake_counts_every_row_and_a_second_one_adds_what_is_new() {
    let mut desk = Desk::new();
    let first = desk.minutes("quill", &(quiet(4..6, 0) + "2024-03-06 00:00,x,1,1,1,1\n"));
    let taken = &first["series"][0];
    assert_eq!(taken["series"], "NOKSEK@quill:1m");
    let counts = |v: &serde_json::Value| {
        ["rows_read", "rows_kept", "rows_rejected", "rows_already_there"].map(|k| v[k].as_u64().unwrap())
    };
    assert_eq!(counts(taken), [2881, 2880, 1, 0]);
    let again = desk.minutes("quill", &quiet(5..7, 0));
    assert_eq!(counts(&again["series"][0]), [2880, 1440, 0, 1440]);
    assert_eq!(desk.editions(), [("NOKSEK@quill:1m".into(), 2)]);
    let same = desk.minutes("quill", &quiet(4..7, 0));
    assert_eq!(counts(&same["series"][0]), [4320, 0, 0, 4320], "nothing is new");
}

#[test]
fn of_two_bars_at_one_time_the_one_is_kept_that_was_asked_for() {
    for (prefer, close) in [("old", 98_047), ("new", 98_147)] {
        let mut desk = Desk::new();
        desk.minutes("quill", &quiet(4..5, 0));
        std::fs::write(
            desk.path("NOKSEK.csv"),
            format!("Time (UTC),Open,High,Low,Close,Volume\n{}", quiet(4..5, 100)),
        )
        .unwrap();
        desk.done(&format!(
            "act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = 'quill'\nclock = 'UTC'\nframe = '1m'\nprefer = '{prefer}'"
        ));
        let highest = desk.column("NOKSEK@quill:1m", Field::Open).into_iter().max().unwrap();
        assert_eq!(highest / 10, (close + 1) / 10, "{prefer}");
    }
}

#[test]
fn a_check_tells_kinds_and_a_mend_counts_what_it_did() {
    let mut desk = Desk::new();
    let text = quiet(4..9, 0).replace("2024-03-05 10:30,0.9", "2024-03-05 10:30,1.9");
    desk.minutes("quill", &text);
    let checked = desk.done("act = 'check'\nseries = 'NOKSEK@quill:1m'");
    let kinds: Vec<&str> =
        checked["findings"].as_array().unwrap().iter().map(|f| f["kind"].as_str().unwrap()).collect();
    assert!(kinds.contains(&"bad_ohlc"), "{kinds:?}");
    assert!(checked["grade"].as_f64().unwrap() < 100.0);
    assert_eq!(desk.editions()[0].1, 1, "a check changes nothing");
    let mended = desk.done("act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['bad_ohlc']");
    assert_eq!(desk.editions()[0].1, 2);
    assert!(mended.to_string().contains("bad_ohlc"), "{mended}");
    let (open, high) =
        (desk.column("NOKSEK@quill:1m", Field::Open), desk.column("NOKSEK@quill:1m", Field::High));
    assert!(open.iter().zip(&high).all(|(open, high)| open <= high), "every high holds its open");
}

#[test]
fn mends_are_saved_for_other_series_and_read_again() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0).replace("2024-03-05 10:30,0.9", "2024-03-05 10:30,1.9"));
    desk.done(
        "act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['bad_ohlc', 'duplicate_time']\nsave_mends = '~/m.toml'",
    );
    let saved = std::fs::read_to_string(desk.path("m.toml")).unwrap();
    assert!(saved.contains("bad_ohlc") && saved.contains("duplicate_time"), "{saved}");
    desk.minutes("tarn", &quiet(4..6, 0).replace("2024-03-05 11:30,0.9", "2024-03-05 11:30,1.9"));
    desk.done("act = 'check'\nseries = 'NOKSEK@tarn:1m'\nmends = '~/m.toml'");
    let (open, high) =
        (desk.column("NOKSEK@tarn:1m", Field::Open), desk.column("NOKSEK@tarn:1m", Field::High));
    assert!(open.iter().zip(&high).all(|(open, high)| open <= high));
    std::fs::write(desk.path("bad.toml"), "mend = ['dance']").unwrap();
    let told = desk.fails("act = 'check'\nseries = 'NOKSEK@tarn:1m'\nmends = '~/bad.toml'");
    assert!(told.contains("bad.toml") && told.contains("dance"), "{told}");
}

#[test]
fn a_splice_says_who_serves_what_and_how_they_agree() {
    let mut desk = Desk::new();
    desk.minutes("tarn", &quiet(6..9, 0));
    desk.minutes("quill", &quiet(4..8, 30));
    let joined = desk.done("act = 'splice'\nseries = ['NOKSEK@tarn:1m', 'NOKSEK@quill:1m']\ninto = 'joined'");
    assert_eq!(joined["series"], "NOKSEK@joined:1m");
    assert_eq!(joined["rows"], 5 * 1440);
    let pieces: Vec<(&str, u64)> = (joined["pieces"].as_array().unwrap().iter())
        .map(|p| (p["series"].as_str().unwrap(), p["rows"].as_u64().unwrap()))
        .collect();
    assert_eq!(pieces, [("NOKSEK@quill:1m", 2 * 1440), ("NOKSEK@tarn:1m", 3 * 1440)]);
    assert_eq!(joined["overlap"]["rows"], 2 * 1440);
    assert_eq!(joined["overlap"]["median_diff"].to_string(), "0.0003", "30 points");
    let opens = desk.column("NOKSEK@joined:1m", Field::Open);
    assert_eq!(opens[0] - 30, desk.column("NOKSEK@quill:1m", Field::Open)[0] - 30, "left as it is");
    let shifted = desk.done(
        "act = 'splice'\nseries = ['NOKSEK@tarn:1m', 'NOKSEK@quill:1m']\ninto = 'level'\nlevel = 'shift'",
    );
    assert_eq!(shifted["rows"], 5 * 1440);
    let (own, moved) =
        (desk.column("NOKSEK@quill:1m", Field::Open), desk.column("NOKSEK@level:1m", Field::Open));
    assert!(moved[..2880].iter().zip(&own).all(|(moved, own)| moved + 30 == *own), "30 points lower");
}

#[test]
fn frames_by_name_and_all_the_usual_ones() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..9, 0));
    let built = desk.done("act = 'frames'\nseries = 'NOKSEK@quill:1m'\nframes = ['7m', '4h']\nclock = 'UTC'");
    let told: Vec<(&str, u64)> = (built["series"].as_array().unwrap().iter())
        .map(|s| (s["series"].as_str().unwrap(), s["rows"].as_u64().unwrap()))
        .collect();
    assert_eq!(told, [("NOKSEK@quill:7m", 5 * 206), ("NOKSEK@quill:4h", 5 * 6)]);
    desk.done("act = 'frames'\nseries = 'NOKSEK@quill:1m'\nframes = ['all']\nclock = 'UTC'");
    let names: Vec<String> = desk.editions().into_iter().map(|e| e.0).collect();
    for frame in ["5m", "15m", "30m", "1h", "4h", "1d", "1w", "1mo"] {
        assert!(names.contains(&format!("NOKSEK@quill:{frame}")), "{frame} is missing of {names:?}");
    }
    let told = desk.fails("act = 'frames'\nseries = 'NOKSEK@quill:1h'\nframes = ['90m']\nclock = 'UTC'");
    assert!(told.contains("90m") && told.contains("1h"), "{told}");
}

#[test]
fn volumes_of_all_frames_add_up_to_those_of_the_minutes() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..9, 0));
    desk.done("act = 'frames'\nseries = 'NOKSEK@quill:1m'\nframes = ['5m', '9h', '1d', '1w']\nclock = 'UTC'");
    let sum =
        |frame: &str| -> i64 { desk.column(&format!("NOKSEK@quill:{frame}"), Field::Volume).iter().sum() };
    let minutes = sum("1m");
    assert_eq!(["5m", "9h", "1d", "1w"].map(sum), [minutes; 4]);
}

#[test]
fn an_instrument_like_another_has_its_rows_with_a_spread_of_its_own() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    let made = desk.done(
        "act = 'compose'\nname = 'NOKSEK.day'\nlike = 'NOKSEK'\nfrom = 'NOKSEK@quill:1m'\nshift = '1h'\n\
         [set]\nspread = '18'\nhours = 'mon-fri 08:00-17:00 UTC'",
    );
    assert_eq!(made["instrument"], "NOKSEK.day");
    assert_eq!(desk.column("NOKSEK.day@quill:1m", Field::Spread), vec![18; 2 * 9 * 60]);
    let told = desk.fails("act = 'compose'\nname = 'X'\n[set]\nmood = 'good'");
    assert!(told.contains("mood"), "{told}");
    let told = desk.fails("act = 'compose'\nname = 'X'\nlike = 'NOSUCH'");
    assert!(told.contains("NOSUCH"), "{told}");
}

#[test]
fn a_delivery_tells_files_that_hold_what_the_series_holds() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    for format in ["csv", "json", "ndjson", "parquet"] {
        let told = desk.done(&format!(
            "act = 'deliver'\nseries = ['NOKSEK@quill:1m']\nout = '~/x.{format}'\nformat = '{format}'\nlast = 100"
        ));
        let file = &told["files"][0];
        assert_eq!((&file["rows"], &file["proved"]), (&json!(100), &json!(true)), "{format}");
        let bytes = std::fs::metadata(desk.path(&format!("x.{format}"))).unwrap().len();
        assert_eq!(file["bytes"].as_u64(), Some(bytes), "{format}");
        assert_eq!(file["sha256"].as_str().unwrap().len(), 64);
    }
    let text = std::fs::read_to_string(desk.path("x.csv")).unwrap();
    assert_eq!(text.lines().count(), 101);
    assert!(text.lines().last().unwrap().starts_with("2024-03-05T23:59:00Z,"));
}

#[test]
fn two_series_go_into_a_folder_and_not_into_one_file() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..5, 0));
    desk.minutes("tarn", &quiet(4..5, 0));
    let both = "series = ['NOKSEK@quill:1m', 'NOKSEK@tarn:1m']";
    let told = desk.done(&format!("act = 'deliver'\n{both}\nout = '~/out/'"));
    assert_eq!(told["files"].as_array().unwrap().len(), 2);
    assert_eq!(std::fs::read_dir(desk.path("out")).unwrap().count(), 3, "and their manifest");
    let told = desk.fails(&format!("act = 'deliver'\n{both}\nout = '~/one.csv'"));
    assert!(told.contains("need a folder"), "{told}");
    assert!(!desk.path("one.csv").exists());
}

#[test]
fn a_rehearsal_by_a_list_of_orders_tells_deals_and_money() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    desk.done("act = 'compose'\nname = 'NOKSEK'\n[set]\nspread = '10'\ncommission = '2'");
    let orders = "time,side,lots\n2024-03-04T10:00:00Z,buy,1\n2024-03-04T11:00:00Z,sell,1\n";
    std::fs::write(desk.path("o.csv"), orders).unwrap();
    let told = desk.done("act = 'rehearse'\nseries = 'NOKSEK@quill:1m'\norders = '~/o.csv'");
    let fills = told["fills"].as_array().unwrap();
    assert_eq!(fills.len(), 2);
    let price =
        |i: usize| fills[i]["price"].as_str().map_or_else(|| fills[i]["price"].to_string(), str::to_owned);
    let opens = desk.column("NOKSEK@quill:1m", Field::Open);
    assert_eq!(price(0), format!("0.{}", opens[600] + 10), "bought at the ask");
    assert_eq!(price(1), format!("0.{}", opens[660]), "sold at the bid");
    assert_eq!(told["position"], "0.00");
    let told = desk.fails("act = 'rehearse'\nseries = 'NOKSEK@quill:1m'");
    assert!(told.contains("needs orders"), "{told}");
    std::fs::write(desk.path("o.csv"), "time,side,lots\nnoon,buy,1\n").unwrap();
    let told = desk.fails("act = 'rehearse'\nseries = 'NOKSEK@quill:1m'\norders = '~/o.csv'");
    assert!(told.contains("noon") || told.contains("line 2"), "{told}");
}

#[test]
fn a_chart_of_a_second_series_and_a_mean_is_drawn() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    desk.minutes("tarn", &quiet(4..6, 9));
    let report = desk
        .act("act = 'chart'\nseries = 'NOKSEK@quill:1m'\nwith = 'NOKSEK@tarn:1m'\nma = 20\nto = '2024-03-04 06:00'\nout = '~/c.svg'")
        .unwrap();
    assert_eq!(report.files, [desk.path("c.svg")]);
    let svg = std::fs::read_to_string(desk.path("c.svg")).unwrap();
    assert!(
        svg.contains("NOKSEK@quill:1m") && svg.contains("NOKSEK@tarn:1m") || svg.contains("tarn:1m"),
        "{svg:.300}"
    );
    assert!(svg.matches("<polyline").count() >= 2, "the mean and the second series are lines");
}

#[test]
fn a_series_is_renamed_with_its_editions_and_removed() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..5, 0));
    desk.minutes("quill", &quiet(5..6, 0));
    let told = desk.done("act = 'shelf'\nseries = 'NOKSEK@quill:1m'\nrename = 'NOKSEK@vendor:1m'");
    assert_eq!((&told["renamed"], &told["to"]), (&json!("NOKSEK@quill:1m"), &json!("NOKSEK@vendor:1m")));
    let name: SeriesName = "NOKSEK@vendor:1m".parse().unwrap();
    assert_eq!(desk.shelf.editions(&name).unwrap().len(), 2);
    desk.minutes("quill", &quiet(4..5, 0));
    let told = desk.fails("act = 'shelf'\nseries = 'NOKSEK@quill:1m'\nrename = 'NOKSEK@vendor:1m'");
    assert!(told.contains("NOKSEK@vendor:1m"), "{told}");
    desk.done("act = 'shelf'\nseries = 'NOKSEK@vendor:1m'\nremove = true");
    assert_eq!(desk.editions(), [("NOKSEK@quill:1m".into(), 1)]);
}

#[test]
fn frames_built_again_keep_their_clock_and_their_filling() {
    let mut desk = Desk::new();
    let mut rows = quiet(4..7, 0);
    // A hole of some hours, which a filled frame bridges.
    rows = rows.lines().filter(|l| !l.starts_with("2024-03-05 1")).map(|l| format!("{l}\n")).collect();
    desk.minutes("quill", &rows);
    let build = |desk: &mut Desk, more: &str| {
        desk.done(&format!("act = 'frames'\nseries = 'NOKSEK@quill:1m'\n{more}"))["series"]
            .as_array()
            .unwrap()
            .clone()
    };
    let filled = build(&mut desk, "frames = ['1h']\nempty = 'fill'");
    assert_eq!(filled[0]["filled"], 10, "{filled:?}");
    build(&mut desk, "frames = ['1d']\nclock = 'Europe/Oslo'");
    let days = desk.column("NOKSEK@quill:1d", Field::Close);
    // Rows of a later day: both are stale, and are built again as they were.
    let more = rows + &quiet(7..8, 0);
    desk.minutes("quill", &more);
    let again = build(&mut desk, "frames = ['1h', '1d', '4h']\nagain = true");
    let of =
        |frame: &str| again.iter().find(|s| s["series"].as_str().unwrap().contains(frame)).unwrap().clone();
    assert_eq!((&of(":1h")["filled"], &of(":4h")["filled"]), (&10.into(), &0.into()), "{again:?}");
    assert!(of(":1d")["first"].as_str().unwrap().contains("T23:00:00"), "midnight in Oslo: {again:?}");
    let later = desk.column("NOKSEK@quill:1d", Field::Close);
    assert_eq!(later[..days.len() - 1], days[..days.len() - 1]);
}

#[test]
fn a_sheet_tells_each_value_how_it_is_known_from_where_and_since_when() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    desk.done("act = 'compose'\nname = 'NOKSEK'\n[set]\ncommission = '35'\nholidays = '2024-12-25, 2024-12-24 -13:00'");
    desk.done("act = 'compose'\nname = 'NOKSEK.day'\nlike = 'NOKSEK'\n[set]\nspread = '18'");
    let values = |desk: &Desk| stavel_work::sheet_values(&desk.shelf, "NOKSEK.day").unwrap();
    let told = |desk: &Desk, key: &str| {
        let v = values(desk).into_iter().find(|v| v.key == key).unwrap();
        (v.value, v.standing.to_string(), v.from.unwrap_or_default(), v.since.is_some())
    };
    let row =
        |value: &str, standing: &str, from: &str, since| (value.into(), standing.into(), from.into(), since);
    assert_eq!(told(&desk, "spread"), row("18", "said", "NOKSEK.day", true));
    assert_eq!(told(&desk, "commission"), row("35", "said", "NOKSEK", true));
    assert_eq!(told(&desk, "decimals"), row("5", "found", "NOKSEK", true));
    assert_eq!(told(&desk, "contract_size"), row("100000", "assumed", "", false));
    // A value said again keeps its date; another one has a later one.
    let since = |desk: &Desk, key: &str| values(desk).into_iter().find(|v| v.key == key).unwrap().since;
    let (first, holidays) = (since(&desk, "commission"), since(&desk, "holidays"));
    desk.done("act = 'compose'\nname = 'NOKSEK'\n[set]\ncommission = '40'");
    assert!(since(&desk, "commission") > first && since(&desk, "holidays") == holidays);
    let csv = stavel_work::sheet_csv(&desk.shelf, "NOKSEK.day").unwrap();
    assert!(csv.starts_with("key,value,standing,from,since\n"), "{csv}");
    assert!(csv.contains("\nholidays,\"2024-12-25, 2024-12-24 -13:00\",said,NOKSEK,20"), "{csv}");
    assert!(csv.contains("\ncontract_size,100000,assumed,,\n"), "{csv}");
    // A value that is reset is inherited again; one that is not its own cannot be.
    desk.done("act = 'compose'\nname = 'NOKSEK.day'\nreset = ['spread']");
    assert_eq!(told(&desk, "spread"), row("data", "assumed", "", false));
    assert!(
        desk.fails("act = 'compose'\nname = 'NOKSEK.day'\nreset = ['commission']")
            .contains("no commission of its own")
    );
    assert!(
        desk.fails("act = 'compose'\nname = 'NOKSEK.day'\nreset = ['commision']")
            .contains("has no key 'commision'")
    );
    let same = desk.act("act = 'compose'\nname = 'NOKSEK'\n[set]\ncommission = '40'").unwrap();
    assert!(same.lines[0].contains("nothing to change; stavel sheet NOKSEK shows it"), "{:?}", same.lines);
    assert!(
        desk.fails("act = 'compose'\nname = 'NOKSEK'\n[set]\nsunday = 'friday'")
            .contains("write own or monday")
    );
}
