use super::*;

fn found(text: &str, name: &str) -> Result<Sniffed> {
    sniff(text.as_bytes(), "a.csv", name, None)
}

fn words(text: &str) -> String {
    found(text, "a.csv").map_or_else(|e| e.to_string(), |s| s.layout.in_words())
}

#[test]
fn common_files_are_understood() {
    for (text, expected) in [
        (
            "13.03.2024 13:45:12.345,1.02345,1.02349,1.20,0.75\n13.03.2024 13:45:13.100,1.02344,1.02348,0.2,0.7\n",
            "comma, no header, day-first dates: time bid ask bid_volume ask_volume",
        ),
        (
            "Time (UTC),Open,High,Low,Close,Volume\n2024-03-05 13:45:00,1,2,0.5,1.5,9\n",
            "comma, header, year-first dates: time open high low close volume",
        ),
        (
            "Date;Time;Open;High;Low;Close;Volume;Spread\n2024/03/05;15:45;1;2;1;2;9;18\n",
            "semicolon, header, year-first dates: date time open high low close volume spread",
        ),
        (
            "03/25/2024\t09:00\t412.25\t412.50\t412.00\t412.25\n",
            "tab, no header, month-first dates: date time open high low close",
        ),
        (
            "date,close,high,low,open\n2024-03-05,1,2,1,2\n",
            "comma, header, year-first dates: time close high low open",
        ),
        (
            "[day],[time],[open],[high],[low],[close],[ticks],[volume],[spread]\n2024/03/05,13:45:00,1,2,0.5,1.5,9,0,2\n",
            "comma, header, year-first dates: date time open high low close tick_count volume spread",
        ),
        (
            "# made by hand\nZeit;Open;High;Low;Close\n\n13.03.2024 10:00;1.234,5;1.240,25;1.230,0;1.235,5\n",
            "semicolon, header, 1 lines before it, decimal comma, day-first dates: time open high low close",
        ),
        (
            "Prices of the week\n\n2024-03-05 10:00,1.5,2.5,1.0,2.0,10,\n2024-03-05 10:01,1.5,2.5,1.0,2.0,11,\n",
            "comma, no header, 2 lines before it, year-first dates: time open high low close volume -",
        ),
        (
            "1709646312345,NOKSEK,1.02345,1.02349\n1709646313345,NZDSEK,6.4,6.5\n",
            "comma, no header: unix-ms symbol bid ask",
        ),
        (
            "time,side,level,price,size,act\n2024-03-05T10:00:00Z,bid,0,1.5,3,new\n",
            "comma, header, year-first dates: time side level price size act",
        ),
        (
            "2024-03-05 10:00:00  412.25  3  B\n2024-03-05 10:00:01  412.50  1  S\n",
            "blanks, no header, year-first dates: date time last volume side",
        ),
        (
            "date,open,high,low,close,adj close,volume,open interest\n2024-03-05,1,2,1,2,1.9,9,100\n",
            "comma, header, year-first dates: time open high low close adjusted_close volume open_interest",
        ),
        ("ex date,dividend\n2024-03-15,1.25\n", "comma, header, year-first dates: time dividend"),
        (
            "date\u{1f}open\u{1f}high\u{1f}low\u{1f}close\n45356.5\u{1f}1\u{1f}2\u{1f}1\u{1f}2\n",
            "cells, header: day-number open high low close",
        ),
        (
            "\"13/03/2024\",\"1:45 PM\",\"1,234.50\",\"1,240.25\",\"1,230.00\",\"1,235.50\"\n",
            "comma, no header, day-first dates: date time open high low close",
        ),
    ] {
        assert_eq!(words(text), expected, "{text}");
    }
}

#[test]
fn headers_of_other_languages_are_understood_where_the_numbers_prove_them() {
    let bars = |names: &str| {
        words(&format!("{names}\n13.03.2024 10:00;1,5;2,5;1,0;2,0;9\n13.03.2024 10:01;2,0;2,6;1,9;2,1;0\n"))
    };
    let expected = "semicolon, header, decimal comma, day-first dates: time open high low close volume";
    assert_eq!(bars("Datum;Eröffnung;Hoch;Tief;Schluss;Volumen"), expected);
    assert_eq!(bars("Data;Apertura;Max;Min;Chiusura;Volumi"), expected, "two of the names are known");
    assert_eq!(
        words("Zeit,Geld,Brief\n2024-03-05 10:00:00,1.50000,1.50014\n2024-03-05 10:00:01,1.50001,1.50013\n"),
        "comma, header, year-first dates: time bid ask"
    );
    let s = found("Datum,Auf,Hoch,Tief,Zu\n2024-03-05 10:00,1,2,0.5,1.5\n", "a").unwrap();
    assert!(s.why[1].contains("name is not known") && s.why[0].contains("Datum"), "{:?}", s.why);
    // Names that speak against the numbers, numbers that prove nothing, and tables of facts are left as they are.
    for text in [
        "Datum,Low,Hoch,Tief,Schluss\n2024-03-05 10:00,1,2,0.5,1.5\n",
        "Datum,Regen,Wind,Sonne,Nebel\n2024-03-05 10:00,1,2,3,4\n",
        "Datum,innen,außen\n2024-03-05 10:00,21.5,21.9\n2024-03-05 10:01,21.4,21.2\n",
        "Datum,Regen\n2024-03-05 10:00,1\n",
        "Datum,Preis,Menge\n2024-03-05 10:00,1.5,900\n",
    ] {
        assert!(words(text).contains("Say what its columns are"), "{text}: {}", words(text));
    }
}

#[test]
fn the_date_may_stand_in_the_name() {
    let s = found("0,1.02345,1.02349\n250,1.02346,1.02350\n", "NOKSEK_2024-03-05.csv").unwrap();
    assert_eq!(s.layout.in_words(), "comma, no header: day-ms bid ask");
    assert_eq!(s.layout.day, Some(19_787));
    let s = found("10:00:00.5,1.5,1.6\n10:00:01,1.5,1.6\n", "NOKSEK_20240305_ticks.csv").unwrap();
    assert_eq!((s.layout.day, s.layout.columns[0].clone()), (Some(19_787), Use::Time));
}

#[test]
fn decimals_clock_sides_and_undecided_dates() {
    let s = found("time,last,volume\n05.03.2024 10:00:00Z,412.250,1.5\n", "a").unwrap();
    let l = &s.layout;
    assert_eq!((l.price_decimals, l.volume_decimals, l.says_utc, s.dates), (3, 1, true, None));
    let text = "time,bidopen,bidhigh,bidlow,bidclose,askopen,askhigh,asklow,askclose\n2024-03-05 10:00,1,2,1,2,3,4,3,4\n";
    let s = found(text, "a").unwrap();
    assert_eq!(s.sides, [Side::Bid, Side::Ask]);
    assert_eq!(s.layout.in_words(), "comma, header, year-first dates: time open high low close - - - -");
    let ask = sniff(text.as_bytes(), "a", "a", Some(Side::Ask)).unwrap();
    assert_eq!(ask.layout.in_words(), "comma, header, year-first dates: time - - - - open high low close");
    // What names no side beside what names the ask is the bid, and each side has its own volume.
    let text = "time,open,high,low,close,volume,ask_open,ask_high,ask_low,ask_close,ask_volume\n2024-03-05 10:00,1,2,1,2,7,3,4,3,4,9\n";
    let s = found(text, "a").unwrap();
    assert_eq!(s.sides, [Side::Bid, Side::Ask]);
    let words = "comma, header, year-first dates: time open high low close volume - - - - -";
    assert_eq!(s.layout.in_words(), words);
    let ask = sniff(text.as_bytes(), "a", "a", Some(Side::Ask)).unwrap();
    let words = "comma, header, year-first dates: time - - - - - open high low close volume";
    assert_eq!(ask.layout.in_words(), words);
}

#[test]
fn what_is_no_table_is_told() {
    assert!(words("\u{0}\u{1}\u{2}").contains("not a table"));
    assert!(words("\n\n").contains("only blank lines"));
    assert!(words("hello world\nthis is prose\n").contains("no column of times"));
    assert!(words("time,colour\n2024-03-05 10:00,red\n").contains("no prices"));
}
