//! Numbers in all their writings.

use super::*;

/// Takes minutes whose cells behind the time are written so, and gives the last row behind its time.
fn last_row(name: &str, header: &str, cells: impl Fn(usize) -> String, more: &[&str]) -> (Told, String) {
    let mark = if header.contains(';') { ';' } else { ',' };
    let lines: String = (0..50).map(|i| format!("2024-03-04 10:{i:02}{mark}{}\n", cells(i))).collect();
    let desk = Desk::new();
    let told = desk.intake(&[(&format!("{name}.csv"), format!("{header}\n{lines}"))], more);
    if !matches!(desk.shelf().as_slice(), [_]) {
        return (told, String::new());
    }
    let rows = desk.rows(&desk.shelf()[0].0);
    let last = rows.last().map_or(String::new(), |row| row.split_once("Z,").unwrap().1.to_owned());
    assert_eq!(rows.len(), 50, "no row is lost");
    (told, last)
}

#[test]
fn the_decimal_mark_is_one_for_the_whole_file() {
    let header = "time;open;high;low;close;volume";
    let (told, row) = last_row("NOKSEK", header, |_| "1,08342;1,08352;1,08332;1,08347;2.410".into(), &[]);
    assert_eq!((told.code, row.as_str()), (0, "1.08342,1.08352,1.08332,1.08347,2410"));
    let (told, row) = last_row("NOKSEK", header, |_| "1.08342;1.08352;1.08332;1.08347;2,410".into(), &[]);
    assert_eq!((told.code, row.as_str()), (0, "1.08342,1.08352,1.08332,1.08347,2410"));
}

#[test]
fn blanks_of_any_kind_may_stand_between_thousands() {
    let header = "time;open;high;low;close;volume";
    for blank in [" ", "\u{a0}", "\u{202f}"] {
        let cells = |_| "10_834,25;10_835,25;10_833,00;10_834,50;1_250_000".replace('_', blank);
        let (told, row) = last_row("BLY", header, cells, &[]);
        assert_eq!(
            (told.code, row.as_str()),
            (0, "10834.25,10835.25,10833.00,10834.50,1250000"),
            "{}",
            told.err
        );
    }
}

#[test]
fn prices_in_thirty_seconds_are_read_as_fractions() {
    let (told, row) = last_row("BLY", HEADER, |i| format!("108'20,108'25,108'18,108'{:02},5", i % 32), &[]);
    assert_eq!((told.code, row.as_str()), (0, "108.62500,108.78125,108.56250,108.53125,5"));
    let (told, row) = last_row("BLY", HEADER, |_| "108-20,108-25+,108-18,108-22+,5".into(), &[]);
    assert_eq!((told.code, row.as_str()), (0, "108.625000,108.796875,108.562500,108.703125,5"));
}

#[test]
fn the_tails_of_binary_fractions_are_rounded_and_told_once() {
    let cells = |i: usize| match i % 7 {
        3 => "1.0834,1.0835000000000001,1.0833,1.0833999999999999,5".to_owned(),
        _ => "1.0834,1.0835,1.0833,1.0834,5".to_owned(),
    };
    let (told, row) = last_row("NOKSEK", HEADER, cells, &[]);
    assert_eq!((told.code, row.as_str()), (0, "1.0834,1.0835,1.0833,1.0834,5"));
    assert!(told.out.contains("14 prices ended in the tail of a binary fraction"), "{}", told.out);
}

#[test]
fn exponents_and_thousands_as_a_letter_are_numbers() {
    let (told, row) = last_row("NOKSEK", HEADER, |_| "1.0834E0,1.0835e+0,10833e-4,1.0834,12.3K".into(), &[]);
    assert_eq!((told.code, row.as_str()), (0, "1.0834,1.0835,1.0833,1.0834,12300"));
}

#[test]
fn a_cell_that_is_no_number_beside_the_prices_costs_that_cell_only() {
    let cells = |i: usize| match i {
        49 => "1.0834,1.0835,1.0833,1.0834,0.12345678901234567".to_owned(),
        12 => "1.0834,1.0835,1.0833,1.0834,lots".to_owned(),
        _ => "1.0834,1.0835,1.0833,1.0834,5".to_owned(),
    };
    let (told, row) = last_row("NOKSEK", HEADER, cells, &[]);
    assert_eq!((told.code, row.as_str()), (3, "1.0834,1.0835,1.0833,1.0834,"));
    assert!(told.out.contains("2 cells beside the prices"), "{}", told.out);
}

#[test]
fn decimals_that_were_said_are_obeyed() {
    let row = |decimals| {
        last_row("NOKSEK", HEADER, |_| "1.08345,1.0836,1.0833,1.08349,5".into(), &["--decimals", decimals])
    };
    let (told, finer) = row("6");
    assert_eq!((told.code, finer.as_str()), (0, "1.083450,1.083600,1.083300,1.083490,5"));
    let (told, coarser) = row("3");
    assert_eq!((told.code, coarser.as_str()), (0, "1.083,1.084,1.083,1.083,5"));
    assert!(told.out.contains("rounded to the decimals that were said"), "{}", told.out);
}

#[test]
fn spreads_written_as_prices_or_in_pips_are_understood() {
    let header = "time,open,high,low,close,volume,spread";
    for (spread, points) in [("0.00012", "12"), ("1.2", "12"), ("12", "12"), ("0", "0"), ("", "")] {
        let cells = |i: usize| {
            let other = if spread.contains('.') && i == 0 { spread } else { "0" };
            format!("1.08340,1.08350,1.08330,1.08340,5,{}", if i == 49 { spread } else { other })
        };
        let (told, row) = last_row("NOKSEK", header, cells, &[]);
        assert_eq!(told.code, 0, "{}", told.err);
        assert_eq!(row, format!("1.08340,1.08350,1.08330,1.08340,5,{points}"));
    }
    // Of prices with four decimals a pip and a half is finer than their point.
    let (told, row) = last_row("NOKSEK", header, |_| "1.0834,1.0835,1.0833,1.0834,5,1.5".into(), &[]);
    assert_eq!((told.code, row.as_str()), (0, "1.08340,1.08350,1.08330,1.08340,5,15"));
    // Beside prices of two decimals, 1.5 may be anything.
    let (told, _) = last_row("BLY", header, |_| "412.25,412.50,412.00,412.25,5,1.5".into(), &[]);
    assert!(told.code == 3 && told.err.contains("spreads ="), "{}", told.err);
}

#[test]
fn spreads_as_prices_are_points_of_each_instrument_of_a_symbol_column() {
    let line = |i: usize| {
        format!(
            "NOKSEK,2024-03-04 10:{i:02},1.08340,1.08350,1.08330,1.08341,0.00012\n\
            NZDSEK,2024-03-04 10:{i:02},6.340,6.350,6.330,6.341,0.01200\n"
        )
    };
    let text = format!("symbol,time,open,high,low,close,spread\n{}", (0..50).map(line).collect::<String>());
    let desk = Desk::new();
    assert_eq!(desk.intake(&[("all.csv", text)], &[]).code, 0);
    assert!(desk.rows("NOKSEK@quill:1m")[0].ends_with(",1.08341,12"));
    assert!(desk.rows("NZDSEK@quill:1m")[0].ends_with(",6.341,12"));
}
