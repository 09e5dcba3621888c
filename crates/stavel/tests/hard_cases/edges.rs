//! Numbers and times at the ends of what can be held: they are refused or told, never wrapped around.

use crate::{Desk, Told};

fn minutes(rows: impl IntoIterator<Item = (usize, String)>) -> String {
    let rows =
        rows.into_iter().map(|(m, values)| format!("2024-03-05 {:02}:{:02},{values}\n", m / 60, m % 60));
    "Time (UTC),Open,High,Low,Close,Volume\n".to_owned() + &rows.collect::<String>()
}

fn took(desk: &Desk, name: &str, text: String, more: &[&str]) -> Told {
    let told = desk.intake(&[(name, text)], &[&["--instrument", "NOKSEK"], more].concat());
    assert!(told.err.is_empty() || told.code != 0, "{}", told.err);
    told
}

#[test]
fn volumes_that_add_up_to_more_than_can_be_held_are_absent_and_told() {
    let desk = Desk::new();
    let rows = (0..130).map(|m| {
        let volume: u64 = if m < 60 { 90_000_000_000_000_000 } else { 5 };
        (m, format!("1.1000,1.1002,1.0999,1.1001,{volume}"))
    });
    assert_eq!(took(&desk, "a.csv", minutes(rows), &[]).code, 0);
    let told = desk.run(&["frames", "NOKSEK@quill:1m", "1h", "--clock", "UTC"]);
    assert_eq!(told.code, 3, "{}{}", told.out, told.err);
    assert!(told.out.contains("18 digits that a column holds are absent: 1"), "{}", told.out);
    let volumes: Vec<String> =
        desk.rows("NOKSEK@quill:1h").iter().map(|r| r.split(',').nth(5).unwrap().to_owned()).collect();
    assert_eq!(volumes, ["", "300", "50"]);
}

#[test]
fn a_price_or_volume_of_more_than_18_digits_is_kept_out_with_its_reason() {
    let desk = Desk::new();
    let rows = (0..60).map(|m| {
        let (price, volume) = match m {
            20 => ("9223372036854775.8079", "5"),
            30 => ("1.1001", "99999999999999999999"),
            _ => ("1.1001", "5"),
        };
        (m, format!("1.1000,{price},1.0999,1.1000,{volume}"))
    });
    let told = took(&desk, "a.csv", minutes(rows), &[]);
    let row = |m: &str| desk.rows("NOKSEK@quill:1m").into_iter().find(|r| r.contains(m));
    assert!(told.out.contains("are no numbers that fit"), "{}", told.out);
    assert_eq!(row("T00:30").unwrap(), "2024-03-05T00:30:00Z,1.1000,1.1001,1.0999,1.1000,");
    let high = row("T00:20").map(|r| r.split(',').nth(2).unwrap().to_owned());
    assert!(high.is_none() || high.as_deref() == Some("9223372036854775.8079"), "{high:?}");
}

#[test]
fn a_finer_file_that_leaves_no_room_for_older_prices_changes_nothing() {
    let desk = Desk::new();
    let coarse = (0..60).map(|m| (m, format!("{0},{0},{0},{0},5", 40_000_000_000_000_000u64 + m as u64)));
    assert_eq!(took(&desk, "a.csv", minutes(coarse), &["--decimals", "0"]).code, 0);
    let before = desk.rows("NOKSEK@quill:1m");
    let fine = (100..160).map(|m| (m, format!("1.1234{m:03},1.2,1.1,1.15,5")));
    let told = desk.intake(&[("b.csv", minutes(fine))], &["--instrument", "NOKSEK", "--decimals", "7"]);
    assert_ne!(told.code, 0, "{}", told.out);
    assert!(told.err.contains("18 digits"), "{}", told.err);
    assert_eq!(desk.rows("NOKSEK@quill:1m"), before);
    assert!(desk.run(&["shelf", "--verify"]).code == 0);
}

#[test]
fn a_mend_that_multiplies_beyond_what_can_be_held_is_refused() {
    let desk = Desk::new();
    let rows = (0..60).map(|m| (m, format!("{0},{0},{0},{0},5", 4_000_000_000_000u64 + m as u64)));
    assert_eq!(took(&desk, "a.csv", minutes(rows), &[]).code, 0);
    let before = desk.rows("NOKSEK@quill:1m");
    let mend = "rescale=2024-03-05T00:00:00Z/2024-03-06T00:00:00Z=1000000";
    let told = desk.run(&["check", "NOKSEK@quill:1m", "--mend", mend]);
    assert_eq!(told.code, 1, "{}{}", told.out, told.err);
    assert!(told.err.contains("18 digits") && told.err.contains("nothing was changed"), "{}", told.err);
    assert_eq!(desk.rows("NOKSEK@quill:1m"), before);
    let told = desk.run(&["check", "NOKSEK@quill:1m", "--mend", &mend.replace("=1000000", "=1000001")]);
    assert!(told.code == 2 && told.err.contains("at most 1000000"), "{}", told.err);
}

#[test]
fn a_shift_out_of_the_calendar_is_refused() {
    let desk = Desk::new();
    let rows = (0..60).map(|m| (m, "1.1000,1.1002,1.0999,1.1001,5".to_owned()));
    assert_eq!(took(&desk, "a.csv", minutes(rows), &[]).code, 0);
    for shift in ["-99999999d", "9999999d", "106751991d"] {
        let told = desk.run(&["compose", "X", "--from", "NOKSEK@quill:1m", "--shift", shift]);
        assert_eq!(told.code, 2, "{shift}: {}{}", told.out, told.err);
        assert!(told.err.contains("years 1 to 9999"), "{}", told.err);
    }
    assert_eq!(desk.shelf(), [("NOKSEK@quill:1m".to_owned(), 60)]);
}

#[test]
fn spreads_beyond_all_measure_are_findings_and_no_overflow() {
    let desk = Desk::new();
    let rows: String = (0..400)
        .map(|m| {
            let ask = if m % 97 == 96 { "92233720368547" } else { "1.102" };
            let bid = if m % 101 == 100 { "-92233720368547" } else { "1.100" };
            format!("2024-03-05 {:02}:{:02}:07,{bid},{ask}\n", m / 60, m % 60)
        })
        .collect();
    assert_eq!(took(&desk, "a.csv", format!("Time (UTC),Bid,Ask\n{rows}"), &[]).code, 0);
    let told = desk.run(&["check", "NOKSEK@quill:ticks", "--json"]);
    let doc: serde_json::Value =
        serde_json::from_str(&told.out).unwrap_or_else(|e| panic!("{e}: {}", told.err));
    let kinds: Vec<&str> =
        doc["findings"].as_array().unwrap().iter().map(|f| f["kind"].as_str().unwrap()).collect();
    assert!(kinds.contains(&"non_positive") && kinds.contains(&"spike"), "{kinds:?}");
    assert!(doc["grade"].as_f64().unwrap() < 100.0);
}

#[test]
fn years_that_no_history_has_are_refused_in_a_sentence() {
    for (day, is_read) in
        [("1950-01-03", true), ("2099-12-30", true), ("9999-12-30", false), ("0000-01-01", false)]
    {
        let desk = Desk::new();
        let rows: String =
            (0..30).map(|m| format!("{day} 10:{m:02},1.1000,1.1002,1.0999,1.1001,5\n")).collect();
        let told = took(&desk, "a.csv", format!("Time (UTC),Open,High,Low,Close,Volume\n{rows}"), &[]);
        if is_read {
            assert_eq!(told.code, 0, "{}", told.err);
            assert!(desk.rows("NOKSEK@quill:1m")[0].starts_with(day), "{day}");
        } else {
            assert_eq!(told.code, 1, "{}", told.out);
            assert!(desk.shelf().is_empty() && told.err.contains("a.csv"), "{day}: {}", told.err);
        }
    }
}
