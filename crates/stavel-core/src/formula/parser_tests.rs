use super::{Formula, parse};

fn currencies(name: &str) -> Option<(String, String)> {
    (name.len() == 6).then(|| (name[..3].to_owned(), name[3..].to_owned()))
}

fn read(text: &str) -> crate::Result<Formula> {
    parse(text, &currencies)
}

#[test]
fn formulas_are_written_as_they_are_read() {
    for (text, told) in [
        ("NZDSEK/NOKSEK", "NZDSEK / NOKSEK"),
        ("NZDSEK - (NOKSEK - 1.5e-2)", "NZDSEK - (NOKSEK - 0.015)"),
        ("(NZDSEK - NOKSEK) - 1", "NZDSEK - NOKSEK - 1"),
        ("A / (B / C) / D", "A / (B / C) / D"),
        ("-A ^ 2", "-A^2"),
        ("(-A)^2", "(-A)^2"),
        ("2^-A", "2^-A"),
        ("A^B^C", "A^B^C"),
        ("(A^B)^C", "(A^B)^C"),
        ("A - -B", "A - -B"),
        (
            "'BLY-2024-03'.close - \"BLY-2024-06@quill\".last",
            "'BLY-2024-03'.close - 'BLY-2024-06@quill'.last",
        ),
        ("NOK.x@quill.bid + NOKSEK.mid", "NOK.x@quill.bid + NOKSEK.mid"),
        ("'a.bid'", "'a.bid'"),
        ("min(A,B , .5)+max(A,abs(B))", "min(A, B, 0.5) + max(A, abs(B))"),
        (
            "round(mean(A - B, 20), -1) * stdev(A, 5) + lag(A, 1)",
            "round(mean(A - B, 20), -1) * stdev(A, 5) + lag(A, 1)",
        ),
        ("ratio(A, B) + spread(A, B)", "A / B + (A - B)"),
        ("inverse(A + B)", "1 / (A + B)"),
        ("basket(0.6, A, 0.4, B)", "0.6 * A + 0.4 * B"),
        ("cross(NZDSEK, NOKSEK)", "NZDSEK / NOKSEK"),
        ("cross(SEKNZD, SEKNOK)", "SEKNOK / SEKNZD"),
        ("cross(NZDSEK, SEKNOK)", "NZDSEK * SEKNOK"),
        ("cross(SEKNZD, NOKSEK)", "SEKNZD * NOKSEK"),
    ] {
        let formula = read(text).unwrap_or_else(|e| panic!("{text}: {e}"));
        assert_eq!(formula.to_string(), told);
        assert_eq!(read(told).unwrap().to_string(), told);
    }
}

#[test]
fn an_index_waits_for_what_it_begins_with() {
    let mut index = read("index(NZDSEK / 2, 2024-01-02)").unwrap();
    let [(0, from)] = index.to_measure().collect::<Vec<_>>()[..] else { panic!("one number") };
    assert_eq!(crate::model::time::wall(from), "2024-01-02 00:00");
    assert_eq!(index.measured_by(0).to_string(), "NZDSEK / 2");
    index.set_measured(0, 3.25);
    assert_eq!(index.to_string(), "100 * (NZDSEK / 2 / 3.25)");
}

#[test]
fn mistakes_are_told_with_their_column_and_what_was_expected() {
    for (text, told) in [
        ("", "column 1: it ends where a number, an instrument, a function or '(' is expected"),
        ("A +", "column 4: it ends where a number, an instrument, a function or '(' is expected"),
        ("A B", "column 3: 'B' stands where an operator or the end is expected"),
        ("(A + 2", "column 7: it ends where ')' is expected"),
        ("A + )", "column 5: ')' stands where a number"),
        ("2 + 3", "column 1: it names no instrument"),
        ("A % 2", "column 3: '%' means nothing"),
        ("A + \u{1b}[31m", "column 5: a character that cannot be shown"),
        ("sine(A)", "column 1: there is no function sine; there are abs min"),
        ("abs(A, B)", "column 1: 2 values stand in a call of 1: abs(x)"),
        ("max(A)", "column 1: max needs two values at least"),
        ("mean(A)", "column 7: ')' stands where ',' of mean(x, bars) is expected"),
        ("mean(A, 2.5)", "column 9: mean(x, bars) takes a whole number from 1 to 10000"),
        ("stdev(A, 1)", "column 10: stdev(x, bars) takes a whole number from 2"),
        ("lag(A, B)", "column 8: 'B' stands where the whole number"),
        ("'A'.left", "column 1: '.left' is no price of an instrument; write .bid .ask .mid .last .close"),
        ("'A", "column 1: a name begins with a quote and has none at its end"),
        ("A@quill:1m + 1", "column 1: a frame stands in a formula"),
        ("3A", "column 2: 'A' follows the number 3 at once"),
        ("1.2.3 * A", "column 1: 1.2.3 is not a number"),
        ("basket(1, A, 2)", "column 1: a basket is pairs"),
        ("index(A, 100)", "column 10: the number 100 stands where the date"),
        ("index(A, 2024-13-02)", "column 10: the date 2024-13-02 stands where a date of the calendar"),
        ("cross(NZDSEK, BLY)", "column 15: nobody knows of which two currencies BLY is a pair"),
        ("cross(NZDSEK, NOKEUX)", "column 1: NZDSEK and NOKEUX have no currency in common"),
        ("cross(NZDSEK, 2)", "column 15: a cross is made of two instruments"),
        ("'../x'", "column 1: '../x' cannot name an instrument"),
    ] {
        let error = read(text).unwrap_err().to_string();
        assert!(error.contains(told) && error.ends_with('.'), "{text}: {error}");
    }
    for deep in [format!("{}A", "(".repeat(5000)), format!("{}A", "-".repeat(5000)), "A+".repeat(5000) + "A"]
    {
        assert!(read(&deep).is_err());
    }
}

#[test]
fn units_follow_the_currencies() {
    let told = |text: &str| {
        let told = read(text).unwrap().unit(&currencies);
        (told.unit.map(|u| u.to_string()), told.doubts.len())
    };
    let is = |text: &str| Some(text.to_owned());
    assert_eq!(told("NZDSEK / NOKSEK"), (is("NOK for one NZD"), 0));
    assert_eq!(told("1 / NZDSEK"), (is("NZD for one SEK"), 0));
    assert_eq!(told("NZDSEK - NZDSEK.mid + 2"), (is("SEK for one NZD"), 0));
    assert_eq!(told("sqrt(NZDSEK * NZDSEK)"), (is("SEK for one NZD"), 0));
    assert_eq!(told("(NZDSEK / NOKSEK)^2"), (is("NOK^2 NZD^-2"), 0));
    assert_eq!(told("NZDSEK / NZDSEK.ask"), (is("a number without a unit"), 0));
    assert_eq!(told("index(NZDSEK, 2024-01-02)"), (is("a number without a unit"), 0));
    assert_eq!(told("NZDSEK + NOKSEK"), (None, 1));
    assert_eq!(told("max(NZDSEK, NOKSEK, 3) * 2"), (None, 1));
    assert_eq!(told("ln(NZDSEK) + ln(NOKSEK)"), (is("a number without a unit"), 0));
    assert_eq!(told("BLY + NOKSEK"), (None, 0));
    let doubt = &read("2 * (NZDSEK + NOKSEK)").unwrap().unit(&currencies).doubts[0];
    assert_eq!(doubt, "column 13: SEK for one NZD and SEK for one NOK are put together, which are unlike");
}
