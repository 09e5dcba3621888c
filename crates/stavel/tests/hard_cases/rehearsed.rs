//! Histories that are played: which side their bars are of, and when bars end that are not of minutes.

use serde_json::Value;

use crate::{Desk, minute};

const ORDERS: &str = "time,side,lots,type,price,stop,target,until";

/// What a list of orders came to: how it ended, and the document.
fn played(desk: &Desk, series: &str, orders: &[&str], more: &[&str]) -> (i32, Value) {
    let list = desk.0.file("orders.csv", format!("{ORDERS}\n{}\n", orders.join("\n")));
    let told = desk.run(&[&["--json", "rehearse", series, "--orders", &list], more].concat());
    assert!(told.code == 0 || told.code == 3, "{} {}", told.code, told.err);
    (told.code, serde_json::from_str(&told.out).unwrap())
}

/// Times and prices of the fills.
fn fills(doc: &Value) -> Vec<(String, String)> {
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    doc["fills"].as_array().unwrap().iter().map(|fill| (text(&fill["time"]), text(&fill["price"]))).collect()
}

fn of(fills: &[(String, String)]) -> Vec<(&str, &str)> {
    fills.iter().map(|(time, price)| (&time[..16], price.as_str())).collect()
}

/// Bars of three hours that rise by a point a minute; `above` is how far the prices lie above those of the bid, `high` what the
/// high of the bar with that number adds.
fn rising(above: impl Fn(i64) -> i64, high: (i64, i64), without: Option<i64>) -> String {
    let mut text = "time,open,high,low,close\n".to_owned();
    for at in (0..180).filter(|at| Some(*at) != without) {
        let price = 98_000 + at + above(at);
        let top = price + if at == high.0 { high.1 } else { 10 };
        let cells = [price, top, price - 10, price].map(|points| format!("0.{points}"));
        text += &format!("{},{}\n", minute(at), cells.join(","));
    }
    text
}

#[test]
fn bars_of_bid_and_ask_are_played_as_one_market() {
    let desk = Desk::new();
    let options = ["--instrument", "NOKSEK", "--decimals", "5"];
    let bid = rising(|_| 0, (-1, 0), None);
    let ask = rising(|at| 5 + at % 7, (100, 100), Some(70));
    desk.intake(&[("bid.csv", bid)], &[&options[..], &["--side", "bid"]].concat());
    desk.intake(&[("ask.csv", ask)], &[&options[..], &["--side", "ask"]].concat());
    let orders = [
        "2024-03-04T01:00Z,buy,1,,,,,",
        "2024-03-04T01:01Z,sell,1,,,,,",
        // Its ask is missing then: the usual distance of both sides stands for it.
        "2024-03-04T01:10Z,buy,1,,,,,",
        "2024-03-04T01:11Z,sell,1,,,,,",
        // The bid never comes near the stop; the highest ask goes beyond it.
        "2024-03-04T01:30Z,sell,1,,,60pt,,",
    ];
    let (_, told) = played(&desk, "NOKSEK@quill:1m", &orders, &[]);
    let expected = [
        ("2024-03-04T01:00", "0.98069"),
        ("2024-03-04T01:01", "0.98061"),
        ("2024-03-04T01:10", "0.98078"),
        ("2024-03-04T01:11", "0.98071"),
        ("2024-03-04T01:30", "0.98090"),
        ("2024-03-04T01:40", "0.98150"),
    ];
    assert_eq!(of(&fills(&told)), expected);
    assert_eq!(told["ask"][0]["series"], "NOKSEK@quill:1m.ask");
    assert_eq!((&told["spreads"]["own"], &told["spreads"]["measured"]), (&358.into(), &2.into()));
    // Of the ask alone a buy pays what the bar says, and a sale gets less by the spread.
    desk.run(&["compose", "NOKSEK", "--set", "spread=9"]);
    let (_, told) = played(&desk, "NOKSEK@quill:1m.ask", &orders[..2], &[]);
    assert_eq!(of(&fills(&told)), [("2024-03-04T01:00", "0.98069"), ("2024-03-04T01:01", "0.98062")]);
    let side = |doc: &Value| doc["spreads"]["sheet"].as_u64().unwrap();
    assert_eq!(side(&told), 358, "{}", told["spreads"]);
}

#[test]
fn a_month_and_a_day_are_known_when_they_are_over_and_not_before() {
    let desk = Desk::new();
    let months = (1..=4)
        .map(|month| format!("2024-{month:02}-01,0.9{month}00,0.9{month}90,0.9{month}00,0.9{month}50"));
    let months = format!("time,open,high,low,close\n{}\n", months.collect::<Vec<_>>().join("\n"));
    let days = ["2024-10-25T22:00Z", "2024-10-26T22:00Z", "2024-10-27T23:00Z"];
    let days = days.iter().enumerate().map(|(i, day)| format!("{day},6.{i}00,6.{i}90,6.{i}00,6.{i}50"));
    let days = format!("time,open,high,low,close\n{}\n", days.collect::<Vec<_>>().join("\n"));
    let intake = |file: &str, text: String, more: &[&str]| {
        let told = desk.intake(&[(file, text)], more);
        assert_eq!(told.code, 0, "{}", told.err);
    };
    intake("months.csv", months, &["--instrument", "NOKSEK", "--frame", "1mo"]);
    intake("days.csv", days, &["--instrument", "NZDSEK", "--frame", "1d"]);
    for name in ["NOKSEK", "NZDSEK"] {
        assert_eq!(desk.run(&["compose", name, "--set", "spread=2"]).code, 0);
    }
    let (_, told) = played(&desk, "NOKSEK@quill:1mo", &["2024-01-15T12:00Z,sell,1,,,,,"], &[]);
    assert_eq!(of(&fills(&told)), [("2024-01-31T23:59", "0.9150")]);
    // The day has 25 hours: an hour before its end nobody knows how it ends.
    let (_, told) = played(&desk, "NZDSEK@quill:1d", &["2024-10-27T12:00Z,sell,1,,,,,"], &[]);
    assert_eq!(of(&fills(&told)), [("2024-10-27T22:59", "6.150")]);
    // Where playing ends within a bar its close is not there yet; where it begins within one, its close comes.
    let orders = ["2024-02-15T12:00Z,sell,1,,,,,"];
    let (code, told) = played(&desk, "NOKSEK@quill:1mo", &orders, &["--to", "2024-02-20"]);
    assert_eq!((code, fills(&told).len()), (3, 0), "{}", told["remarks"]);
    let (_, told) = played(&desk, "NOKSEK@quill:1mo", &orders, &["--from", "2024-02-10"]);
    assert_eq!(of(&fills(&told)), [("2024-02-29T23:59", "0.9250")]);
}
