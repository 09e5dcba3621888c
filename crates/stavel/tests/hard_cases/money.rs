//! Money: orders, spreads, values of the sheet.

use super::*;

#[test]
fn orders_before_the_rows_in_holes_and_in_closed_hours_do_not_fill_in_silence() {
    // Minutes of Monday and of Wednesday; nothing of Tuesday.
    let desk = Desk::new();
    let times = (600..1200).chain(2880 + 600..2880 + 1200).map(minute);
    desk.intake(&[("NOKSEK.csv", bars(HEADER, times))], &["--frame", "1m"]);
    desk.0.json(&["compose", "NOKSEK", "--set", "spread=0"]);
    let orders = "time,side,lots\n2024-03-04T09:00Z,buy,1\n2024-03-04T12:00Z,buy,1\n2024-03-05T12:00Z,buy,1\n\
        2024-03-06T09:50Z,sell,1\n2024-03-07T10:00Z,sell,1\n";
    let path = desk.0.file("orders.csv", orders);
    let told = desk.run(&["rehearse", "NOKSEK@quill:1m", "--orders", &path, "--json"]);
    assert_eq!(told.code, 3, "{}", told.err);
    let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    let fills: Vec<&str> =
        doc["fills"].as_array().unwrap().iter().map(|f| f["time"].as_str().unwrap()).collect();
    assert_eq!(fills, ["2024-03-04T12:00:00Z", "2024-03-06T10:00:00Z"]);
    assert_eq!(doc["unfilled"], 3);
    let remarks: Vec<&str> = doc["remarks"].as_array().unwrap().iter().map(|r| r.as_str().unwrap()).collect();
    let expected = ["is refused", "expired", "waited 10 min", "rows end before it"];
    assert!(remarks.len() == 4 && remarks.iter().zip(expected).all(|(r, e)| r.contains(e)), "{remarks:?}");
}

#[test]
fn a_column_of_an_orders_file_that_is_not_understood_is_refused() {
    let desk = Desk::new();
    desk.intake(&[("NOKSEK.csv", bars(HEADER, (0..600).map(minute)))], &[]);
    let path = desk.0.file("orders.csv", "time,side,lots,limit\n2024-03-04T09:00Z,buy,1,1.05\n");
    let told = desk.run(&["rehearse", "NOKSEK@quill:1m", "--orders", &path]);
    assert!(told.code == 1 && told.err.contains("'limit'"), "{}", told.err);
    desk.0.json(&["compose", "NOKSEK", "--set", "spread=0"]);
    // The columns may stand in any order.
    let path = desk.0.file("orders.csv", "lots,time,side\n1,2024-03-04T09:00Z,buy\n");
    let told = desk.run(&["rehearse", "NOKSEK@quill:1m", "--orders", &path, "--json"]);
    assert_eq!(serde_json::from_str::<serde_json::Value>(&told.out).unwrap()["position"], "1.00");
}

#[test]
fn a_contract_size_may_have_decimals() {
    let desk = Desk::new();
    desk.intake(&[("BLY.csv", bars(HEADER, (0..600).map(minute)))], &[]);
    desk.0.json(&["compose", "BLY", "--set", "contract_size=12.5", "--set", "tick_size=0.25"]);
    // 12.5 units a quarter of a point: a lot earns 50 for four points.
    let path =
        desk.0.file("orders.csv", "time,side,lots\n2024-03-04T09:00Z,buy,1\n2024-03-04T09:10Z,sell,1\n");
    desk.0.json(&["compose", "BLY", "--set", "spread=0"]);
    let told = desk.run(&["rehearse", "BLY@quill:1m", "--orders", &path, "--json"]);
    let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    let price = |i: usize| doc["fills"][i]["price"].as_str().unwrap().parse::<f64>().unwrap();
    let profit: f64 = doc["fills"][1]["profit"].as_str().unwrap().parse().unwrap();
    assert!((profit - (price(1) - price(0)) * 12.5).abs() < 0.01, "{doc}");
}

#[test]
fn an_unknown_spread_is_that_of_its_hour_else_of_the_sheet_else_asked_for() {
    let desk = Desk::new();
    desk.intake(&[("NOKSEK.csv", bars(HEADER, (0..600).map(minute)))], &[]);
    let orders = "time,side,lots\n2024-03-04T01:30Z,buy,1\n2024-03-04T05:30Z,sell,1\n";
    let path = desk.0.file("orders.csv", orders);
    let play = ["rehearse", "NOKSEK@quill:1m", "--orders", &path];
    let told = desk.run(&play);
    assert!(
        told.code == 3 && told.out.is_empty() && told.err.contains("compose NOKSEK --set spread="),
        "{}{}",
        told.out,
        told.err
    );
    desk.0.json(&["compose", "NOKSEK", "--set", "spread=9"]);
    let told = desk.run(&play);
    assert!(told.code == 0 && told.out.contains("quotes is that of the spec sheet"), "{}", told.out);
    // Half of the rows of hour 1 say 30 points, those of hour 5 say 50; the others say none.
    let rows: String = (0..600)
        .map(|i| {
            let spread = match (i / 60, i % 2) {
                (1, 0) => "30",
                (5, 0) => "50",
                _ => "",
            };
            format!("{},1.08340,1.08350,1.08330,1.08340,5,{spread}\n", minute(i))
        })
        .collect();
    let desk = Desk::new();
    let told = desk.intake(&[("NOKSEK.csv", format!("{HEADER},spread\n{rows}"))], &[]);
    assert_eq!(told.code, 0, "{}", told.err);
    let orders = "time,side,lots\n2024-03-04T01:31Z,buy,1\n2024-03-04T05:31Z,buy,1\n";
    let path = desk.0.file("orders.csv", orders);
    let doc = desk.0.json(&["rehearse", "NOKSEK@quill:1m", "--orders", &path]);
    let price = |i: usize| doc["fills"][i]["price"].as_str().unwrap().to_owned();
    assert_eq!([price(0), price(1)], ["1.08370", "1.08390"]);
    assert_eq!(doc["spreads"]["own"], 120);
    assert_eq!(doc["spreads"]["measured"], 1080);
}

#[test]
fn without_a_value_of_a_tick_the_result_is_in_points() {
    let desk = Desk::new();
    desk.intake(&[("BLY.csv", bars(HEADER, (0..600).map(minute)))], &[]);
    desk.0.json(&["compose", "BLY", "--set", "spread=0", "--set", "commission=3"]);
    let path = desk.0.file(
        "orders.csv",
        "time,side,lots\n2024-03-04T00:01Z,buy,1\n2024-03-04T00:02Z,buy,1\n2024-03-04T00:04Z,sell,2\n",
    );
    let told = desk.run(&["rehearse", "BLY@quill:1m", "--orders", &path]);
    assert!(told.code == 0 && told.out.contains("this is in points, without costs"), "{}", told.out);
    let doc = desk.0.json(&["rehearse", "BLY@quill:1m", "--orders", &path]);
    let points: f64 = (0..3)
        .map(|i| {
            let price: f64 = doc["fills"][i]["price"].as_str().unwrap().parse().unwrap();
            [-1.0, -1.0, 2.0][i] * price * 100_000.0
        })
        .sum();
    let realised: f64 = doc["realised"].as_str().unwrap().parse().unwrap();
    assert!((realised - points).abs() < 0.01 && doc["currency"] == "points", "{doc}");
}

#[test]
fn values_of_a_sheet_that_do_not_fit_together_are_told() {
    let desk = Desk::new();
    desk.intake(&[("BLY.csv", bars(HEADER, (0..600).map(minute)))], &[]);
    let set =
        ["compose", "BLY", "--set", "contract_size=50", "--set", "tick_size=0.25", "--set", "tick_value=10"];
    let told = desk.run(&set);
    assert!(told.code == 3 && told.out.contains("is worth 12.5, but tick_value is 10"), "{}", told.out);
}

#[test]
fn the_sheet_tells_its_money_in_the_currency_of_an_account_as_of_a_day() {
    let desk = Desk::new();
    let pair = |name: &str, closes: [&str; 2]| {
        let rows = format!(
            "Time (UTC),Open,High,Low,Close\n2024-03-04 10:00,{0},{0},{0},{0}\n2024-03-05 10:00,{1},{1},{1},{1}\n",
            closes[0], closes[1]
        );
        let told = desk.intake(&[("p.csv", rows)], &["--instrument", name, "--frame", "1m"]);
        assert_eq!(told.code, 0, "{}", told.err);
    };
    pair("NOKSEK", ["1.00000", "1.25000"]);
    pair("NZDSEK", ["6.00000", "6.40000"]);
    desk.0.json(&[
        "compose",
        "NOKSEK",
        "--set",
        "commission=7.00 round",
        "--set",
        "swap_kind=points",
        "--set",
        "swap_long=-3",
    ]);
    let account =
        |args: &[&str]| desk.0.json(&[&["sheet", "NOKSEK", "--account"], args].concat())["account"].clone();
    // A tick of 0.00001 in 100,000 is one SEK.
    let nok = account(&["NOK", "--at", "2024-03-05 12:00"]);
    assert_eq!(
        (&nok["rate"], &nok["tick_value"], &nok["commission"], &nok["swap_long"]),
        (&"0.8".into(), &"0.8".into(), &"2.8".into(), &"-2.4".into())
    );
    assert_eq!(nok["swap_short"], serde_json::Value::Null, "nobody has said it");
    assert_eq!(account(&["NOK", "--at", "2024-03-04 12:00"])["tick_value"], "1");
    let nzd = account(&["NZD"]);
    assert_eq!((&nzd["tick_value"], &nzd["legs"][0]["turned"]), (&"0.15625".into(), &true.into()));
    let told = desk.run(&["sheet", "NOKSEK", "--account", "EUR"]);
    assert!(
        told.code == 3 && told.out.contains("no pair on the shelf leads from SEK to EUR"),
        "{}",
        told.out
    );
    let told = desk.run(&["sheet", "NOKSEK", "--account", "NOK", "--at", "2024-03-20"]);
    assert!(told.code == 3 && told.out.contains("which is long before"), "{}", told.out);
}

#[test]
fn a_kind_has_the_values_that_apply_to_it_and_the_others_are_told() {
    let desk = Desk::new();
    let rows = "Time (UTC),Open,High,Low,Close\n2024-03-04 10:00,7,7,7,7\n2024-03-05 10:00,7,7,7,7\n";
    desk.intake(&[("p.csv", rows.to_owned())], &["--instrument", "BLY", "--frame", "1m"]);
    desk.0.json(&[
        "compose",
        "BLY",
        "--set",
        "kind=futures",
        "--set",
        "lot_min=1",
        "--set",
        "margin=2% to 10, 5%",
    ]);
    let sheet = desk.run(&["sheet", "BLY"]).out;
    assert!(
        !sheet.contains("swap_long") && sheet.contains("settlement") && sheet.contains("2% to 10, 5%"),
        "{sheet}"
    );
    assert!(sheet.lines().any(|l| l.contains("lot_max") && l.contains('–')), "not known, not 0: {sheet}");
    let told = desk.run(&["compose", "BLY", "--set", "swap_long=-3"]);
    assert!(told.code == 3 && told.out.contains("a thing of kind futures has none"), "{}", told.out);
    for (value, says) in
        [("commission=free", "not a commission"), ("margin=5%, 2%", "not a margin"), ("kind=bond", "cfd")]
    {
        let told = desk.run(&["compose", "BLY", "--set", value]);
        assert!(told.code != 0 && told.err.contains(says), "{value}: {}", told.err);
    }
}

#[test]
fn holidays_come_from_a_calendar_and_hours_without_a_zone_keep_theirs() {
    let desk = Desk::new();
    let rows = "Time (UTC),Open,High,Low,Close\n2024-03-04 10:00,7,7,7,7\n2024-03-05 10:00,7,7,7,7\n";
    desk.intake(&[("p.csv", rows.to_owned())], &["--instrument", "BLY", "--frame", "1m"]);
    desk.0.json(&["compose", "BLY", "--hours", "mon-fri 08:00-16:00 Europe/Oslo"]);
    let told = desk.run(&["compose", "BLY", "--hours", "mon-fri 09:00-15:30"]);
    assert!(
        told.code == 0 && told.out.contains("hours told in Europe/Oslo, as before"),
        "{}{}",
        told.out,
        told.err
    );
    let ics = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART:20241224T120000Z\r\nDTEND:20241224T230000Z\r\nSUMMARY:early\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
    let path = desk.0.file("days.ics", ics);
    assert_eq!(desk.run(&["compose", "BLY", "--holidays", &path]).code, 0);
    let doc = desk.0.json(&["sheet", "BLY"]);
    let value = |key: &str| {
        doc["values"].as_array().unwrap().iter().find(|v| v["key"] == key).unwrap()["value"].clone()
    };
    assert_eq!(
        (value("holidays"), value("hours")),
        ("2024-12-24 -13:00".into(), "mon-fri 09:00-15:30 Europe/Oslo".into())
    );
    let told = desk.run(&["compose", "BLY", "--holidays", "nowhere.ics"]);
    assert!(told.code == 1 && told.err.contains("nowhere.ics"), "{}", told.err);
}
