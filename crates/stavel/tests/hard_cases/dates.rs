//! Dates, times of day and zones in the cells.

use super::*;

/// Takes a file in whose times are written so, and gives its rows' times.
fn times(desk: &Desk, times: impl Iterator<Item = String>, more: &[&str]) -> Result<Vec<String>, Told> {
    let told = desk
        .intake(&[("NOKSEK.csv", bars("time;open;high;low;close;volume", times).replace(',', ";"))], more);
    if told.code != 0 {
        return Err(told);
    }
    let series = desk.shelf()[0].0.clone();
    Ok(desk.rows(&series).iter().map(|row| row.split(',').next().unwrap().to_owned()).collect())
}

#[test]
fn five_days_running_tell_the_order_of_day_and_month() {
    let desk = Desk::new();
    let found = times(&desk, (4..9).map(|d| format!("{d:02}/03/2024")), &[]).ok().unwrap();
    assert_eq!(found[0], "2024-03-04T00:00:00Z");
    let desk = Desk::new();
    let found = times(&desk, (4..9).map(|d| format!("03/{d:02}/2024")), &[]).ok().unwrap();
    assert_eq!(found[4], "2024-03-08T00:00:00Z");
}

#[test]
fn dates_that_do_not_tell_their_order_are_asked_about_with_all_that_are_possible() {
    let desk = Desk::new();
    let told =
        times(&desk, (0..4).map(|i| format!("0{}/02/03", 1 + 2 * i)), &["--frame", "1d"]).err().unwrap();
    assert_eq!(told.code, 3);
    for order in ["year-first", "day-first", "month-first"] {
        assert!(told.err.contains(&format!("--dates {order}")), "{}", told.err);
    }
}

#[test]
fn compact_dates_are_year_first() {
    let desk = Desk::new();
    let found = times(&desk, (4..9).map(|d| format!("202403{d:02}")), &[]).ok().unwrap();
    assert_eq!((found.len(), found[0].as_str()), (5, "2024-03-04T00:00:00Z"));
    let desk = Desk::new();
    let found = times(&desk, (0..60).map(|m| format!("2024030410{m:02}00")), &[]).ok().unwrap();
    assert_eq!(found[59], "2024-03-04T10:59:00Z");
}

#[test]
fn a_month_in_words_may_stand_anywhere() {
    for day in ["Mar 4 2024", "4 March 2024", "04-Mar-24", "2024-Mar-04", "Mon Mar 04 2024"] {
        let desk = Desk::new();
        let found = times(&desk, (0..60).map(|m| format!("{day} 10:{m:02}")), &[]);
        let found = found.unwrap_or_else(|told| panic!("{day}: {}", told.err));
        assert_eq!((found.len(), found[59].as_str()), (60, "2024-03-04T10:59:00Z"), "{day}");
    }
}

#[test]
fn a_zone_in_the_cell_is_worked_in() {
    for (zone, first) in [
        ("GMT+0200", "08:00"),
        (" GMT+0200", "08:00"),
        ("+02:00", "08:00"),
        (" EST", "15:00"),
        (" CEST", "08:00"),
        ("Z", "10:00"),
        (" UTC-5", "15:00"),
    ] {
        let desk = Desk::new();
        let text = bars(HEADER, (0..60).map(|m| format!("2024-03-04 10:{m:02}:00{zone}")));
        let path = desk.0.file("NOKSEK.csv", text);
        let told = desk.run(&["intake", &path, "--source", "quill"]);
        assert_eq!(told.code, 0, "{zone}: {}", told.err);
        assert!(desk.rows("NOKSEK@quill:1m")[0].starts_with(&format!("2024-03-04T{first}")), "{zone}");
    }
}

#[test]
fn fractions_of_a_second_may_have_any_length() {
    for fraction in ["1", "123", "123456", "123456789", "12345678901234567890"] {
        let text: String = (0..50)
            .map(|i| format!("2024-03-04 10:00:{i:02}.{fraction},1.0834{},1.0836{}\n", i % 10, i % 10))
            .collect();
        let desk = Desk::new();
        let told = desk.intake(&[("NOKSEK.csv", format!("time,bid,ask\n{text}"))], &[]);
        assert_eq!((told.code, desk.shelf()[0].1), (0, 50), "{fraction}: {}", told.err);
    }
}

#[test]
fn a_month_stamped_at_its_close_becomes_that_month() {
    for ends in [
        ["2023-10-31", "2023-11-30", "2023-12-31", "2024-01-31", "2024-02-29"],
        ["2023-11-01", "2023-12-01", "2024-01-01", "2024-02-01", "2024-03-01"],
    ] {
        let desk = Desk::new();
        let found = times(&desk, ends.iter().map(ToString::to_string), &["--stamp", "close"]).ok().unwrap();
        let months: Vec<&str> = found.iter().map(|t| &t[..10]).collect();
        assert_eq!(months, ["2023-10-01", "2023-11-01", "2023-12-01", "2024-01-01", "2024-02-01"]);
    }
}

#[test]
fn months_written_as_their_last_days_are_stamped_at_the_close_by_themselves() {
    let desk = Desk::new();
    let ends = ["2023-10-31", "2023-11-30", "2023-12-29", "2024-01-31", "2024-02-29", "2024-03-14"];
    let found = times(&desk, ends.iter().map(ToString::to_string), &["--clock", "UTC"]).ok().unwrap();
    assert_eq!(&found[0][..10], "2023-10-01");
    assert_eq!(&found[5][..10], "2024-03-01", "the month that still runs");
}

#[test]
fn midnight_may_be_written_as_the_end_of_its_day() {
    let desk = Desk::new();
    let hours = (1..=72).map(|h: i64| format!("2024-03-{:02} {:02}:00", 4 + (h - 1) / 24, (h - 1) % 24 + 1));
    let found = times(&desk, hours, &["--clock", "UTC"]).ok().unwrap();
    assert_eq!((found.len(), found[0].as_str()), (72, "2024-03-04T00:00:00Z"));
    assert_eq!(found[71], "2024-03-06T23:00:00Z");
}
