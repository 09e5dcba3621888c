//! What a check tells, and what is mended without looking.

use super::*;

/// Minutes of a week from Monday 2024-03-04 on, with a line replaced or added where one is given.
fn week(name: &str, changed: &[(i64, &str)]) -> Desk {
    let mut text = format!("{HEADER}\n");
    for i in 0..4 * 1440 {
        match changed.iter().find(|(at, _)| *at == i) {
            Some((_, lines)) => {
                lines.split('|').for_each(|cells| text += &format!("{},{cells}\n", minute(i)));
            }
            None => {
                let p = 8_340 + (i * 7_919) % 11;
                text +=
                    &format!("{},1.{p:05},1.{:05},1.{:05},1.{p:05},{}\n", minute(i), p + 6, p - 6, 5 + i % 9);
            }
        }
    }
    let desk = Desk::new();
    let told = desk.intake(&[(&format!("{name}.csv"), text)], &["--frame", "1m"]);
    assert!(matches!(told.code, 0 | 3), "{}", told.err);
    desk
}

fn kinds(desk: &Desk, series: &str) -> Vec<String> {
    let doc = desk.0.json(&["check", series]);
    doc["findings"].as_array().unwrap().iter().map(|f| f["kind"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn safe_without_looking_takes_only_what_cannot_lose_trade() {
    // A wick with volume, a bar repeated, two bars at one time, and a high below the low.
    let desk = week(
        "NOKSEK",
        &[
            (2000, "1.08340,1.18340,1.08339,1.08341,90"),
            (2100, "1.08340,1.08350,1.08330,1.08341,7|1.08340,1.08350,1.08330,1.08341,7"),
            (2200, "1.08340,1.08350,1.08330,1.08341,7|1.08340,1.08352,1.08330,1.08344,9"),
            (2300, "1.08340,1.08330,1.08350,1.08341,7"),
        ],
    );
    let before = desk.rows("NOKSEK@quill:1m");
    let told = desk.0.json(&["check", "NOKSEK@quill:1m", "--mend", "safe"]);
    let after = desk.rows("NOKSEK@quill:1m");
    assert_eq!(before.len() - after.len(), 1, "{told}");
    let certain = |kind: &str| {
        let all = told["findings"].as_array().unwrap();
        all.iter().find(|f| f["kind"] == kind).map(|f| (f["certain"].clone(), f["safe"].clone()))
    };
    assert_eq!(certain("spike"), Some((false.into(), false.into())), "a wick with volume may be trade");
    assert_eq!(certain("duplicate_time"), None, "the report is that of the mended series");
    assert_eq!(certain("conflicting_time"), Some((true.into(), false.into())));
}

#[test]
fn two_equal_ticks_of_one_moment_are_two_trades() {
    let line = |i: i64| format!("2024-03-04 10:{:02}:{:02}.250,1.0834{},1\n", i / 60, i % 60, i % 10);
    let text: String =
        (0..1800).flat_map(|i| std::iter::repeat_n(line(i), if i % 9 == 0 { 2 } else { 1 })).collect();
    let desk = Desk::new();
    desk.intake(&[("NOKSEK.csv", format!("time,last,volume\n{text}"))], &[]);
    assert_eq!(desk.shelf()[0].1, 2000);
    assert!(!kinds(&desk, "NOKSEK@quill:ticks").contains(&"duplicate_time".to_owned()));
    desk.run(&["check", "NOKSEK@quill:ticks", "--mend", "safe"]);
    assert_eq!(desk.shelf()[0].1, 2000);
    let told = desk.run(&["check", "NOKSEK@quill:ticks", "--mend", "duplicate_time"]);
    assert!(told.code == 2 && told.err.contains("two trades"), "{}", told.err);
}

#[test]
fn prices_below_zero_are_wrong_only_of_what_cannot_have_them() {
    let bars: [(i64, &str); 1] = [(2000, "-0.25,0.10,-0.30,0.05,9")];
    assert!(kinds(&week("NOKSEK", &bars), "NOKSEK@quill:1m").contains(&"non_positive".to_owned()));
    let barley = week("BLY", &bars);
    assert!(!kinds(&barley, "BLY@quill:1m").contains(&"non_positive".to_owned()));
}

#[test]
fn a_bounce_of_one_tick_between_bid_and_ask_is_no_spike() {
    // A market that stands still and goes up a tick of 25 points for one minute now and then.
    let mut text = format!("{HEADER}\n");
    for i in 0..3 * 1440 {
        let price = if i % 97 == 0 { "412.50" } else { "412.25" };
        text += &format!("{},{price},{price},{price},{price},{}\n", minute(i), 1 + i % 3);
    }
    let desk = Desk::new();
    desk.intake(&[("BLY.csv", text)], &[]);
    assert!(!kinds(&desk, "BLY@quill:1m").contains(&"spike".to_owned()));
}

/// A source's bars on the shelf, of a price that wanders by `seed`.
fn source(desk: &Desk, name: &str, source: &str, seed: u64, more: &[&str]) {
    let mut random = made_up(seed);
    let mut price = 108_340i64;
    let mut text = format!("{HEADER}\n");
    for i in 0..1440 {
        let open = price;
        price += random(21) as i64 - 10;
        let [o, h, l, c] = [open, open.max(price) + 2, open.min(price) - 2, price]
            .map(|p| format!("{}.{:05}", p / 100_000, p % 100_000));
        text += &format!("{},{o},{h},{l},{c},5\n", minute(i));
    }
    let path = desk.0.file(&format!("{source}_{name}.csv"), text);
    let told =
        desk.run(&[&["intake", &path, "--source", source, "--clock", "UTC", "--frame", "1m"], more].concat());
    assert_eq!(told.code, 0, "{}", told.err);
}

#[test]
fn a_splice_of_what_cannot_be_one_history_is_refused_or_asked_about() {
    let desk = Desk::new();
    source(&desk, "NOKSEK", "quill", 1, &[]);
    source(&desk, "NOKSEK", "tarn", 1, &[]);
    source(&desk, "NOKSEK", "other", 2, &[]);
    source(&desk, "NOKSEK", "asks", 1, &["--side", "ask"]);
    // The same rows an hour later: another clock.
    let rows = desk.rows("NOKSEK@quill:1m").join("\n").replace('T', " ").replace('Z', "");
    let late = rows.lines().map(|row| {
        format!("{}{:02}{}\n", &row[..11], (row[11..13].parse::<u32>().unwrap() + 1) % 24, &row[13..])
    });
    let late: String = late.filter(|row| &row[11..13] != "00").collect();
    let path = desk.0.file("late_NOKSEK.csv", format!("{HEADER}\n{late}"));
    assert_eq!(desk.run(&["intake", &path, "--source", "late", "--clock", "UTC", "--frame", "1m"]).code, 0);
    let splice = |second: &str| desk.run(&["splice", "NOKSEK@quill:1m", second, "--into", "joined"]);
    assert_eq!(splice("NOKSEK@tarn:1m").code, 0);
    let told = splice("NOKSEK@other:1m");
    assert!(told.code == 3 && told.out.contains("hardly agree"), "{}{}", told.out, told.err);
    let told = splice("NOKSEK@late:1m");
    assert!(told.code == 3 && told.out.contains("agree best 1 h apart"), "{}{}", told.out, told.err);
    let told = splice("NOKSEK@asks:1m.ask");
    assert!(
        told.code == 2 && told.err.contains("bid prices") && told.err.contains("ask prices"),
        "{}",
        told.err
    );
}

#[test]
fn filler_is_safe_to_drop_only_where_the_closed_hours_are_known() {
    // Four weeks of minutes, flat ones without volume from Friday 22:00 to Sunday 22:00, as the week of New York
    // in winter has it; or with trade on Saturdays, which the assumed week does not know of.
    let minutes = |saturdays: bool| {
        let mut text = format!("{HEADER}\n");
        for i in 0..28 * 1440i64 {
            let of_week = i % 10_080;
            let closed = (4 * 1440 + 1320..6 * 1440 + 1320).contains(&of_week);
            let is_saturday = of_week / 1440 == 5;
            let (price, volume) = match closed && !(saturdays && is_saturday) {
                true => (8_340, 0),
                false => (8_340 + (i * 7_919) % 11, 5),
            };
            let day = 8 + i / 1440;
            let date =
                if day > 31 { format!("2024-02-{:02}", day - 31) } else { format!("2024-01-{day:02}") };
            let (low, high) = (price.min(8_340), price.max(8_340));
            text += &format!(
                "{date} {:02}:{:02},1.08340,1.{high:05},1.{low:05},1.{price:05},{volume}\n",
                i / 60 % 24,
                i % 60
            );
        }
        text
    };
    // Where Saturdays trade, only the hours before and after them are closed.
    for (saturdays, left) in [(false, 28 * 1440 - 4 * 2880), (true, 28 * 1440 - 4 * 1440)] {
        let desk = Desk::new();
        desk.intake(&[("NOKSEK.csv", minutes(saturdays))], &["--frame", "1m"]);
        let told = desk.run(&["check", "NOKSEK@quill:1m", "--mend", "safe"]);
        assert_eq!(desk.shelf()[0].1, left, "{saturdays}: {}", told.out);
    }
}

#[test]
fn hours_are_learned_from_three_weeks_on_and_nothing_is_closed_by_hours_that_are_only_assumed() {
    // A market that trades every day from 08:00 to 20:00, Saturdays and Sundays too.
    let days =
        |count: i64| bars(HEADER, (0..count).flat_map(|d| (480..1200).map(move |m| minute(d * 1440 + m))));
    let desk = Desk::new();
    let told = desk.intake(&[("QBX.csv", days(25))], &["--clock", "UTC"]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(told.out.contains("hours of QBX learned: mon-sun 08:00-20:00 UTC"), "{}", told.out);
    let found = desk.0.json(&["check", "QBX@quill:1m"]);
    assert!(found["findings"].as_array().unwrap().iter().all(|f| f["kind"] != "closed_market"), "{found}");
    // A week is no evidence: its weekend is not told as closed, and cannot be dropped as such.
    let desk = Desk::new();
    let told = desk.intake(&[("QBX.csv", days(7))], &["--clock", "UTC"]);
    assert!(told.code == 0 && !told.out.contains("learned"), "{}", told.out);
    let told = desk.run(&["check", "QBX@quill:1m"]);
    assert!(!told.out.contains("closed_market"), "{}", told.out);
    let told = desk.run(&["check", "QBX@quill:1m", "--mend", "closed_market"]);
    assert!(told.code != 0 && told.err.contains("only assumed"), "{}{}", told.out, told.err);
    assert_eq!(desk.rows("QBX@quill:1m").len(), 7 * 720);
}
