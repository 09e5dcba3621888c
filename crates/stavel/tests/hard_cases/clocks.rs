//! Clocks and stamps.

use super::*;

#[test]
fn a_market_that_opens_at_one_past_one_is_not_stamped_at_the_close() {
    let times = (0..12 * 1440).map(minute).filter(|t| &t[11..] >= "01:01");
    let desk = Desk::new();
    desk.intake(&[("BLY.csv", bars(HEADER, times))], &[]);
    assert!(desk.rows("BLY@quill:1m")[0].starts_with("2024-03-04T01:01"));
}

#[test]
fn a_stamp_that_is_known_of_a_series_is_that_of_its_later_files() {
    let desk = Desk::new();
    desk.intake(&[("NOKSEK_a.csv", bars(HEADER, (1..601).map(minute)))], &["--stamp", "close"]);
    let told = desk.intake(&[("NOKSEK_b.csv", bars(HEADER, (601..901).map(minute)))], &[]);
    assert!(told.code == 0 && !told.out.contains("stamp"), "nothing is assumed of it: {}", told.out);
    let rows = desk.rows("NOKSEK@quill:1m");
    assert_eq!((rows.len(), &rows[899][..16]), (900, "2024-03-04T14:59"));
}

#[test]
fn the_hour_shown_twice_is_told_by_order_even_where_a_file_is_sorted_by_what_the_wall_showed() {
    // Five hours around the night on which the clocks of Oslo go back.
    let wall = |i: i64| {
        let wall = if i < 180 { i } else { i - 60 };
        format!("2024-10-27 {:02}:{:02}", wall / 60, wall % 60)
    };
    let in_order = bars(HEADER, (0..300).map(wall));
    let (head, body) = in_order.split_once('\n').unwrap();
    let mut lines: Vec<&str> = body.lines().collect();
    lines.sort_by_key(|line| &line[..16]);
    let sorted = format!("{head}\n{}\n", lines.join("\n"));
    let (a, b) = (Desk::new(), Desk::new());
    a.intake(&[("NOKSEK.csv", in_order)], &["--clock", "Europe/Oslo"]);
    b.intake(&[("NOKSEK.csv", sorted)], &["--clock", "Europe/Oslo"]);
    let rows = a.rows("NOKSEK@quill:1m");
    assert_eq!((rows.len(), &rows[299][..16]), (300, "2024-10-27T02:59"));
    assert_eq!(b.rows("NOKSEK@quill:1m"), rows);
}

/// Hours of a price that wanders, over some weeks from a day on, Sunday evening to Friday evening; `wall` says
/// how far the clock was ahead of UTC at an hour counted from the first.
fn hours(first_day: &str, weeks: i64, wall: impl Fn(i64) -> i64) -> String {
    let mut random = made_up(5);
    let start: i64 = stavel_core::model::time::parse(first_day).unwrap() / 3_600_000_000;
    let mut price = 1_083_400i64;
    let mut text = format!("{HEADER}\n");
    for i in 0..weeks * 168 {
        let of_week = (start + i + 72).rem_euclid(168);
        let (open, swing) = (price, 20 + random(60) as i64 * if of_week % 24 == 14 { 9 } else { 1 });
        price += random(2 * swing as u64 + 1) as i64 - swing;
        // 0 is Monday midnight; the market is closed from Friday 21:00 to Sunday 21:00.
        if (117..165).contains(&of_week) {
            continue;
        }
        let (high, low) = (open.max(price) + random(40) as i64, open.min(price) - random(40) as i64);
        let written = stavel_core::model::time::wall((start + i + wall(i)) * 3_600_000_000);
        let [open, high, low, close] =
            [open, high, low, price].map(|p| format!("{}.{:06}", p / 1_000_000, p % 1_000_000));
        text += &format!("{written},{open},{high},{low},{close},5\n");
    }
    text
}

/// A vendor in UTC and a broker whose clock is to be found.
fn both(first_day: &str, weeks: i64, wall: impl Fn(i64) -> i64) -> Desk {
    let desk = Desk::new();
    let paths = [("v", hours(first_day, weeks, |_| 0)), ("b", hours(first_day, weeks, wall))]
        .map(|(name, text)| desk.0.file(&format!("{name}_NOKSEK.csv"), text));
    let vendor = desk.run(&["intake", &paths[0], "--source", "quill", "--clock", "UTC", "--frame", "1h"]);
    let broker = desk.run(&["intake", &paths[1], "--source", "tarn", "--clock", "afloat", "--frame", "1h"]);
    assert_eq!((vendor.code, broker.code), (0, 0), "{} {}", vendor.err, broker.err);
    desk
}

const ALIGN: [&str; 5] = ["align", "NOKSEK@tarn:1h", "--to", "NOKSEK@quill:1h", "--anchor"];

#[test]
fn a_clock_is_taken_only_where_it_explains_all_but_single_weeks() {
    // One slipped week among thirty, then three in a row.
    let one = both("2024-01-01", 30, |i| if i / 168 == 12 { 5 } else { 2 + i64::from(i / 168 > 9) });
    let told = one.run(&ALIGN);
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    let three =
        both(
            "2024-01-01",
            30,
            |i| if (12..15).contains(&(i / 168)) { 5 } else { 2 + i64::from(i / 168 > 9) },
        );
    let told = three.run(&ALIGN);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(
        told.out.contains("series, speak against it: 2024-03-2") && told.out.contains("--accept"),
        "{}",
        told.out
    );
    assert_eq!(three.0.json(&["shelf"])["instruments"][0]["series"][1]["clock"], "afloat");
    let told = three.run(&[&ALIGN[..], &["--accept"]].concat());
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
}

#[test]
fn a_winter_is_no_reason_to_move_a_spring_file() {
    let desk = both("2023-11-06", 12, |_| 2);
    let told = desk.run(&ALIGN);
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    assert!(
        told.out.contains("America/New_York+7h") && told.out.contains("also possible: UTC+2"),
        "{}",
        told.out
    );
    let told = desk.run(&[&ALIGN[..4], &["--json"]].concat());
    let doc: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    // New York and Athens part on the second Sunday of March.
    assert_eq!((&doc["decided_until"], &doc["against"]), (&"2024-03-10".into(), &serde_json::json!([])));
    let spring = desk.0.file("b2_NOKSEK.csv", hours("2024-04-01", 3, |_| 3));
    let told = desk.run(&["intake", &spring, "--source", "tarn", "--frame", "1h"]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(told.err.contains("it never changed there") && told.err.contains("--clock"), "{}", told.err);
    // Unless the vendor's spring is there to tell: the broker's was an hour ahead, as New York's rule has it.
    let vendor = desk.0.file("v2_NOKSEK.csv", hours("2024-04-01", 3, |_| 0));
    let told = desk.run(&["intake", &vendor, "--source", "quill", "--clock", "UTC", "--frame", "1h"]);
    assert_eq!(told.code, 0, "{}", told.err);
    let fixed = desk.0.file("b2_NOKSEK.csv", hours("2024-04-01", 3, |_| 2));
    let told = desk.run(&["intake", &fixed, "--source", "tarn", "--frame", "1h"]);
    assert_eq!(told.code, 3, "{}", told.out);
    assert!(
        told.err.contains("NOKSEK@quill:1h fits other offsets from UTC") && told.err.contains("+120 min"),
        "{}",
        told.err
    );
    let spring = desk.0.file("b2_NOKSEK.csv", hours("2024-04-01", 3, |_| 3));
    let told = desk.run(&["intake", &spring, "--source", "tarn", "--frame", "1h"]);
    assert_eq!(told.code, 0, "{}", told.err);
    // A later winter's rows lie where the clock is known.
    let winter = desk.0.file("b3_NOKSEK.csv", hours("2024-01-29", 3, |_| 2));
    let told = desk.run(&["intake", &winter, "--source", "tarn", "--frame", "1h"]);
    assert_eq!(told.code, 0, "{}", told.err);
}

#[test]
fn a_clock_that_is_known_needs_no_other_series() {
    let desk = Desk::new();
    desk.intake(&[("NOKSEK.csv", bars(HEADER, (0..300).map(minute)))], &["--clock", "afloat"]);
    let told = desk.run(&["align", "NOKSEK@quill:1m", "--clock", "Europe/Oslo", "--anchor"]);
    assert_eq!(told.code, 0, "{}", told.err);
    assert!(desk.rows("NOKSEK@quill:1m")[0].starts_with("2024-03-03T23:00"));
    assert_eq!(desk.run(&["align", "NOKSEK@quill:1m", "--anchor"]).code, 2);
    // Whoever says the clock has not said the stamp: of later files it is assumed still.
    let told =
        desk.intake(&[("NOKSEK_b.csv", bars(HEADER, (300..600).map(minute)))], &["--clock", "Europe/Oslo"]);
    assert!(told.code == 0 && told.out.contains("stamp open"), "{}{}", told.out, told.err);
    // Minutes that the clock never showed: it is hardly theirs.
    let desk = Desk::new();
    let night = bars(HEADER, (0..300).map(|i| format!("2024-03-31 {:02}:{:02}", i / 60, i % 60)));
    desk.intake(&[("NOKSEK.csv", night)], &["--clock", "afloat"]);
    let told = desk.run(&["align", "NOKSEK@quill:1m", "--clock", "Europe/Oslo", "--anchor"]);
    assert!(told.code == 3 && told.out.contains("never showed 60"), "{}", told.out);
}

#[test]
fn a_clock_changed_in_mid_week_is_found_but_not_taken_unasked() {
    // Wednesday of the eleventh week at 14:00 UTC.
    let change = 10 * 168 + 2 * 24 + 14;
    let desk = both("2024-01-01", 24, |i| if i < change { 5 } else { 2 });
    let told = desk.run(&ALIGN);
    assert_eq!(told.code, 3, "{}{}", told.out, told.err);
    assert!(told.out.contains("changed while the market was open, at about 2024-03-13"), "{}", told.out);
    // One day on which the two are not alike, at the very end, is enough to ask.
    let desk = both("2024-01-01", 24, |i| if i < 23 * 168 + 72 { 5 } else { 2 });
    let told = desk.run(&ALIGN);
    assert_eq!(told.code, 3, "{}{}", told.out, told.err);
    assert!(told.out.contains("not alike by it: 2024-06-1"), "{}", told.out);
}

#[test]
fn a_reference_that_is_itself_stamped_at_the_close_is_told() {
    let minutes = |late: i64| {
        let mut random = made_up(3);
        let mut price = 1_083_400i64;
        let mut text = format!("{HEADER}\n");
        for i in 0..21 * 1440i64 {
            price += random(81) as i64 - 40;
            let [low, high] = [price - random(60) as i64, price + random(60) as i64];
            let day = i / 1440;
            if day % 7 > 4 {
                continue;
            }
            let p = [price, high, low, price].map(|p| format!("{}.{:06}", p / 1_000_000, p % 1_000_000));
            text += &format!("{},{},5\n", minute(i + late), p.join(","));
        }
        text
    };
    let desk = Desk::new();
    let paths = [("v", minutes(1)), ("b", minutes(120))]
        .map(|(name, text)| desk.0.file(&format!("{name}_NOKSEK.csv"), text));
    for (path, source, clock) in [(&paths[0], "quill", "UTC"), (&paths[1], "tarn", "afloat")] {
        let told = desk.run(&["intake", path, "--source", source, "--clock", clock, "--stamp", "open"]);
        assert_eq!(told.code, 0, "{}", told.err);
    }
    let told = desk.run(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor"]);
    assert_eq!(told.code, 3, "{}{}", told.out, told.err);
    assert!(told.out.contains("NOKSEK@quill:1m may be stamped at their close"), "{}", told.out);
}
