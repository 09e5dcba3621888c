//! Rehearsals beside a recorded order book.

use serde_json::{Value, json};

use crate::support::Program;

/// Ticks of a contract and its book, five levels a side, each of so many.
fn with_depth(size: u32, kind: &[&str]) -> Program {
    let p = Program::new();
    let (mut ticks, mut depth) = ("time,bid,ask\n".to_owned(), "time,side,level,price,size\n".to_owned());
    for second in 0..120 {
        let time = format!("2024-03-05T10:{:02}:{:02}Z", second / 60, second % 60);
        ticks += &format!("{time},410.25,410.50\n");
        for level in 0..5 {
            let behind = f64::from(level) * 0.25;
            depth += &format!(
                "{time},bid,{level},{:.2},{size}\n{time},ask,{level},{:.2},{size}\n",
                410.25 - behind,
                410.5 + behind
            );
        }
    }
    for (name, text) in [("BLY-2024-05_ticks.csv", ticks), ("BLY-2024-05_depth.csv", depth)] {
        let path = p.file(name, text);
        p.json(&["intake", &path, "--source", "tarn"]);
    }
    let usual = [
        "compose",
        "BLY-2024-05",
        "--set",
        "tick_size=0.25",
        "--set",
        "tick_value=12.50",
        "--set",
        "quote=SEK",
    ];
    p.json(&[&usual[..], kind].concat());
    p
}

/// The exit code, the document and the lines of a run.
fn run(p: &Program, orders: &str, more: &[&str]) -> (i32, Value, String) {
    let path = p.file("orders.csv", orders);
    let play = [&["rehearse", "BLY-2024-05@tarn:ticks", "--orders", &path], more].concat();
    let (code, out, err) = p.told(&[&play[..], &["--json"]].concat());
    let told = serde_json::from_str(&out).unwrap_or_else(|e| panic!("{e}: {out} {err}"));
    (code, told, p.told(&play).1)
}

const SMALL: &str = "time,side,lots\n2024-03-05T10:00:30Z,buy,5\n";

#[test]
fn contracts_are_dealt_level_by_level() {
    let p = with_depth(2, &["--set", "kind=futures"]);
    let (code, told, lines) = run(&p, SMALL, &[]);
    assert_eq!(code, 0, "{lines}");
    let fills: Vec<_> = told["fills"].as_array().unwrap().iter().map(|f| (&f["lots"], &f["price"])).collect();
    let parts =
        [("2.00", "410.50"), ("2.00", "410.75"), ("1.00", "411.00")].map(|(l, p)| (json!(l), json!(p)));
    assert_eq!(fills, parts.iter().map(|(l, p)| (l, p)).collect::<Vec<_>>());
    assert_eq!(told["depth"], json!([{"series": "BLY-2024-05@tarn:depth", "edition": 1, "sizes": "lots"}]));
    assert!(lines.contains("3 fills found their size in it"), "{lines}");
    // Closed in parts as well it is one trade.
    let both = format!("{SMALL}2024-03-05T10:01:00Z,sell,5\n");
    assert_eq!(run(&p, &both, &[]).1["statistics"]["trades"], 1);
    // More than there is is doubtful.
    let (code, told, lines) = run(&p, &SMALL.replace(",5", ",11"), &[]);
    assert_eq!(
        (code, &told["fills"][5]["depth"], &told["fills"][5]["price"]),
        (3, &json!("beyond"), &json!("411.50"))
    );
    assert!(lines.contains("the recorded depth had no more"), "{lines}");
    let (code, told, lines) = run(&p, SMALL, &["--depth", "none"]);
    assert_eq!(
        (code, told["fills"].as_array().unwrap().len(), &told["depth"]),
        (0, 1, &json!([])),
        "{lines}"
    );
}

#[test]
fn sizes_of_which_nobody_said_what_they_count_are_not_dealt_by() {
    let p = with_depth(200, &["--set", "contract_size=50"]);
    let (code, told, lines) = run(&p, SMALL, &[]);
    assert_eq!((code, told["fills"].as_array().unwrap().len()), (3, 1), "{lines}");
    assert!(lines.contains("--depth lots, or --depth units"), "{lines}");
    // A lot is fifty units, so two hundred are four lots.
    let (code, told, lines) = run(&p, SMALL, &["--depth", "units"]);
    let lots: Vec<&str> =
        told["fills"].as_array().unwrap().iter().map(|f| f["lots"].as_str().unwrap()).collect();
    assert_eq!((code, lots), (0, vec!["4.00", "1.00"]), "{lines}");
    assert_eq!(
        p.told(&["rehearse", "BLY-2024-05@tarn:ticks", "--orders", "orders.csv", "--depth", "much"]).0,
        2
    );
}

#[test]
fn a_usual_spread_is_of_what_came_before_and_says_so_where_it_cannot_be() {
    let p = Program::new();
    let mut text = "time,open,high,low,close,spread\n".to_owned();
    for (day, spread) in [(5, "10"), (6, ""), (7, "30"), (8, "30")] {
        for minute in 0..60 {
            text += &format!("2024-03-{day:02} 10:{minute:02},1.02500,1.02510,1.02490,1.02500,{spread}\n");
        }
    }
    let path = p.file("NOKSEK_1m.csv", text);
    p.json(&["intake", &path, "--source", "quill", "--instrument", "NOKSEK", "--clock", "UTC"]);
    let orders = p.file("orders.csv", "time,side,lots\n2024-03-06T10:30:00Z,buy,1\n");
    let ask = |from: &[&str]| {
        let run = [&["rehearse", "NOKSEK@quill:1m", "--orders", &orders], from].concat();
        let lines = p.told(&run).1;
        let price = lines.split("bought 1.00 at ").nth(1).unwrap_or_else(|| panic!("{lines}"));
        (price[..7].to_owned(), lines.contains("measured over later rows"))
    };
    assert_eq!(ask(&["--from", "2024-03-06"]), ("1.02510".to_owned(), false));
    assert_eq!(ask(&[]), ("1.02530".to_owned(), true), "from the first row on nothing came before");
}
