//! Costs: what was measured, what is said, and what nobody knows.

use crate::{Desk, minute};

/// Bars whose spread is wide in the hour before midnight and absent in each seventh row.
fn with_spreads() -> String {
    let line = |i: i64| {
        let spread = match i {
            i if i % 7 == 3 => String::new(),
            i if i / 60 % 24 == 23 => "80".into(),
            i => (10 + i % 3).to_string(),
        };
        format!("{},1.08340,1.08360,1.08330,1.08350,{spread}\n", minute(i))
    };
    format!("time,open,high,low,close,spread\n{}", (0..2880).map(line).collect::<String>())
}

fn desk() -> Desk {
    let desk = Desk::new();
    let told = desk.intake(&[("n.csv", with_spreads())], &["--instrument", "NOKSEK"]);
    assert_eq!(told.code, 0, "{}", told.err);
    desk.run(&["compose", "NOKSEK", "--set", "clock=UTC"]);
    desk
}

fn costs(desk: &Desk, args: &[&str]) -> (i32, serde_json::Value) {
    let told = desk.run(&[&["--json", "costs"], args].concat());
    (told.code, serde_json::from_str(&told.out).unwrap_or_else(|e| panic!("{e}: {} {}", told.out, told.err)))
}

#[test]
fn spreads_are_those_of_the_rows_that_know_theirs() {
    let desk = desk();
    let (code, doc) = costs(&desk, &["NOKSEK"]);
    assert_eq!(code, 3, "the commission is not known: {doc}");
    let spread = &doc["spread"];
    let hours = spread["by_hour"].as_array().unwrap();
    assert_eq!(hours.len(), 168);
    assert_eq!((hours[10].as_i64(), hours[23].as_i64(), hours[47].as_i64()), (Some(11), Some(80), Some(80)));
    assert!(hours[60].is_null(), "Wednesday has no rows");
    assert_eq!((spread["median"].as_i64(), spread["proposed"].as_i64()), (Some(11), Some(80)));
    assert_eq!(spread["rows_unknown"].as_i64(), Some(411));
    assert_eq!(spread["at_roll"]["p90"].as_i64(), Some(80));
    assert!(spread["around_events"].is_null());
    assert_eq!(doc["round_turn"]["with_commission"], false);
    assert!(
        doc["commission"]["value"].is_null() || doc["commission"]["standing"] == "assumed",
        "{}",
        doc["commission"]
    );
}

#[test]
fn a_round_turn_is_spread_and_both_commissions_in_points_and_money() {
    let desk = desk();
    let values = [
        "--set",
        "commission=3.5",
        "--set",
        "tick_size=0.00001",
        "--set",
        "tick_value=1",
        "--set",
        "quote=SEK",
    ];
    let swaps = ["--set", "swap_long=-4", "--set", "swap_short=1.5", "--set", "swap_triple=wed"];
    desk.run(&[&["compose", "NOKSEK"], &values[..], &swaps].concat());
    let (code, doc) = costs(&desk, &["NOKSEK"]);
    assert_eq!(code, 0, "{doc}");
    let turn = &doc["round_turn"];
    assert_eq!((turn["usual"]["points"].as_f64(), turn["usual"]["money"].as_f64()), (Some(18.0), Some(18.0)));
    assert_eq!(turn["by_hour"][23]["money"].as_f64(), Some(87.0));
    assert_eq!(doc["night"]["long"]["money"].as_f64(), Some(-4.0));
    assert_eq!(doc["night"]["triple"]["value"], "wed");
    let (code, doc) = costs(&desk, &["NOKSEK", "--account", "NOK"]);
    assert_eq!(code, 0, "{doc}");
    // The last close is a bid of 1.08350 with a spread of 80 points: one SEK is 1 / 1.08390 NOK.
    let money = doc["round_turn"]["usual"]["money"].as_f64().unwrap();
    assert!((money - 18.0 / 1.0839).abs() < 1e-4, "{money}");
    let (code, doc) = costs(&desk, &["NOKSEK", "--account", "EUR"]);
    assert_eq!(code, 3, "no pair leads there: {doc}");
    assert!(
        doc["round_turn"]["usual"]["money"].is_null()
            && doc["round_turn"]["usual"]["points"].as_f64() == Some(18.0)
    );
}

#[test]
fn a_composed_instrument_costs_what_its_own_sheet_says() {
    let desk = desk();
    let made = desk.run(&[
        "compose",
        "NOKSEK.wide",
        "--like",
        "NOKSEK",
        "--set",
        "spread=40",
        "--set",
        "commission=0",
    ]);
    assert_eq!(made.code, 0, "{}", made.err);
    let (_, doc) = costs(&desk, &["NOKSEK.wide"]);
    assert_eq!((doc["spread"]["fixed"].as_i64(), doc["spread"]["proposed"].as_i64()), (Some(40), Some(40)));
    assert_eq!(doc["round_turn"]["usual"]["points"].as_f64(), Some(40.0));
    let none = desk.run(&["costs", "BLY"]);
    assert_eq!(none.code, 1, "{}", none.out);
    let told = desk.run(&["costs", "NOKSEK", "--csv"]);
    assert!(told.out.starts_with("table,what,value,unit,standing,since\n"), "{}", told.out);
    assert!(told.out.contains("spread in points,mon 23:00,80,80,80,"), "{}", told.out);
}
