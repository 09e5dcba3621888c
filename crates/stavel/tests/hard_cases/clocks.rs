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
