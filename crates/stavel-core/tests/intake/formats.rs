//! One table in every format and layout gives the same rows.

use std::io::Write;
use std::path::Path;

use proptest::prelude::*;
use stavel_core::intake::{ClockHint, Hints, plan};
use stavel_core::model::DateOrder;
use stavel_core::model::price::scaled;
use stavel_core::model::time::{DAY, HOUR, MINUTE, civil_from_days, day_of, parse, wall};
use stavel_core::model::{Columns, Field, Micros};
use stavel_core::{Advice, Setting};

use crate::support::{Desk, minutes, quill};

/// Twenty minutes of bars as (time, open, high, low, close, volume), prices with five decimals.
fn table() -> Vec<(Micros, [i64; 5])> {
    let start = parse("2024-03-14 10:00").unwrap();
    (0..20)
        .map(|i| (start + i * MINUTE, [102_345 + i, 102_400 + i, 102_300 + i, 102_350 - i, 7 + i]))
        .collect()
}

fn price(v: i64) -> String {
    scaled(v, 5)
}

/// Lines of cells, joined by `between`.
fn lines(
    header: bool,
    between: &str,
    cell: impl Fn(Micros, usize, i64) -> String,
    time: impl Fn(Micros) -> String,
) -> String {
    let names = ["time", "open", "high", "low", "close", "volume"].join(between) + "\n";
    let row = |(t, values): &(Micros, [i64; 5])| {
        let cells: Vec<String> = values.iter().enumerate().map(|(i, v)| cell(*t, i, *v)).collect();
        format!("{}{between}{}\n", time(*t), cells.join(between))
    };
    let body: String = table().iter().map(row).collect();
    if header { names + &body } else { body }
}

fn plain(_: Micros, i: usize, v: i64) -> String {
    if i < 4 { price(v) } else { v.to_string() }
}

fn expect_table(desk: &mut Desk, path: &Path, hints: Hints) {
    let taken = desk.take(path, hints).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
    let what = format!("{} as {}", path.display(), taken.layout);
    assert_eq!((taken.rows_kept, taken.rows_rejected), (20, 0), "{what}");
    let rows: Columns = desk.rows(&taken.series);
    let got: Vec<(Micros, Vec<i64>)> =
        (0..20).map(|i| (rows.time[i], rows.data.iter().map(|c| c[i]).collect())).collect();
    let want: Vec<(Micros, Vec<i64>)> = table().into_iter().map(|(t, v)| (t, v.to_vec())).collect();
    assert_eq!(got, want, "{what}");
}

fn day_first(t: Micros) -> String {
    let (y, m, d) = civil_from_days(day_of(t));
    format!("{d:02}.{m:02}.{y} {}", &wall(t)[11..])
}

#[test]
fn one_table_in_many_writings() {
    let mut desk = Desk::new();
    let us_time = |t: Micros| {
        let (y, m, d) = civil_from_days(day_of(t));
        let (h, min) = (t.rem_euclid(DAY) / HOUR, t / MINUTE % 60);
        format!("{m}/{d}/{y} {}:{min:02} {}", (h + 11) % 12 + 1, if h < 12 { "AM" } else { "PM" })
    };
    let comma = |t: Micros, i: usize, v: i64| plain(t, i, v).replace('.', ",");
    let thousands =
        |t: Micros, i: usize, v: i64| if i < 4 { format!("\"{}\"", price(v)) } else { plain(t, i, v) };
    let texts: Vec<(&str, String)> = vec![
        ("plain.csv", lines(true, ",", plain, wall)),
        ("bare.csv", lines(false, ",", plain, wall)),
        ("crlf.csv", lines(true, ",", plain, wall).replace('\n', "\r\n")),
        ("mark.csv", "\u{feff}".to_owned() + &lines(true, ";", comma, day_first)),
        ("tabs.tsv", lines(true, "\t", plain, us_time)),
        ("pipes.txt", lines(true, "|", plain, |t| (t / 1_000_000).to_string())),
        ("millis.csv", lines(false, ",", plain, |t| (t / 1000).to_string())),
        ("nanos.csv", lines(true, ",", plain, |t| format!("{t}000"))),
        ("days.csv", lines(true, ",", plain, |t| format!("{:.9}", t as f64 / DAY as f64 + 25_569.0))),
        ("zoned.csv", lines(true, ",", plain, |t| wall(t + 2 * HOUR).replace(' ', "T") + ":00+02:00")),
        ("blanks.txt", lines(false, "  ", plain, wall)),
        ("quoted.csv", lines(true, ",", thousands, |t| format!("\"{}\"", wall(t)))),
        ("compact.csv", lines(false, ",", plain, |t| wall(t).replace(['-', ':'], "") + "00")),
        ("trailing.csv", lines(true, ",", plain, wall).replace('\n', ",\n")),
        (
            "head.csv",
            format!("Prices of NOKSEK\n# made up\n\n{}# the end\n\n", lines(true, ",", plain, wall)),
        ),
        ("word.csv", lines(true, ",", plain, |t| wall(t).replace("2024-03-14", "14-Mar-24"))),
    ];
    for (name, text) in texts {
        let path = desk.file(&format!("NOKSEK_{name}"), text);
        let source = name.split('.').next().unwrap().to_owned();
        expect_table(
            &mut desk,
            &path,
            Hints { source, clock: Some(ClockHint::Known("UTC".parse().unwrap())), ..quill() },
        );
    }
}

#[test]
fn one_table_in_many_formats() {
    let mut desk = Desk::new();
    let text = lines(true, ",", plain, wall);
    let utf16 = |big: bool| {
        let unit = |u: u16| if big { u.to_be_bytes() } else { u.to_le_bytes() };
        std::iter::once(0xfeff).chain(text.encode_utf16()).flat_map(unit).collect::<Vec<u8>>()
    };
    let record = |(t, v): &(Micros, [i64; 5])| {
        format!(
            r#"{{"time":"{}","open":{},"high":{},"low":{},"close":{},"volume":{}}}"#,
            wall(*t),
            price(v[0]),
            price(v[1]),
            price(v[2]),
            price(v[3]),
            v[4]
        )
    };
    let records: Vec<String> = table().iter().map(record).collect();
    let column = |name: &str, cells: Vec<String>| format!("\"{name}\":[{}]", cells.join(","));
    let columns: Vec<String> = [("open", 0), ("high", 1), ("low", 2), ("close", 3)]
        .map(|(name, i)| column(name, table().iter().map(|r| price(r.1[i])).collect()))
        .into_iter()
        .chain([column("volume", table().iter().map(|r| r.1[4].to_string()).collect())])
        .collect();
    let times = column("time", table().iter().map(|r| (r.0 / 1000).to_string()).collect());
    let html_row = |line: &str, tag: &str| {
        format!("<tr>{}</tr>", line.split(',').map(|c| format!("<{tag}>{c}</{tag}>")).collect::<String>())
    };
    let html: String =
        text.lines().enumerate().map(|(i, l)| html_row(l, if i == 0 { "th" } else { "td" })).collect();
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gz.write_all(text.as_bytes()).unwrap();
    let files: Vec<(&str, Vec<u8>)> = vec![
        ("little.csv", utf16(false)),
        ("big.csv", utf16(true)),
        ("array.json", format!("{{\"of\":\"NOKSEK\",\"rows\":[{}]}}", records.join(",\n")).into()),
        ("lines.ndjson", records.join("\n").into()),
        (
            "columns.json",
            format!("{{\"status\":\"ok\",\"result\":{{{times},{}}}}}", columns.join(",")).into(),
        ),
        (
            "page.html",
            format!("<html><body><p>x<table><tr><td>menu</td></tr></table><table>{html}</table></body>")
                .into(),
        ),
        ("packed.csv.gz", gz.finish().unwrap()),
        ("packed2.csv.zst", zstd::encode_all(text.as_bytes(), 1).unwrap()),
    ];
    for (name, bytes) in files {
        let path = desk.file(&format!("NOKSEK_{name}"), bytes);
        let source = name.split('.').next().unwrap().to_owned();
        expect_table(
            &mut desk,
            &path,
            Hints { source, clock: Some(ClockHint::Known("UTC".parse().unwrap())), ..quill() },
        );
    }
    // What the shelf itself holds is Parquet.
    let info = desk.shelf.find(&"NOKSEK@little:1m".parse().unwrap()).unwrap();
    let file = desk.shelf.root().join("data").join(&desk.shelf.segments(&info.edition).unwrap()[0].path);
    let hints = Hints { source: "parquet".into(), instrument: Some("NOKSEK".into()), ..quill() };
    expect_table(&mut desk, &file, hints);
}

#[test]
fn sheets_of_workbooks() {
    let mut desk = Desk::new();
    let dir = desk.dir.path().to_owned();
    let path = dir.join("NOKSEK.xlsx");
    let mut book = rust_xlsxwriter::Workbook::new();
    let cover = book.add_worksheet();
    cover.set_name("about").unwrap().write(0, 0, "prices of NOKSEK").unwrap();
    let sheet = book.add_worksheet();
    sheet.set_name("bars").unwrap();
    let format = rust_xlsxwriter::Format::new().set_num_format("yyyy-mm-dd hh:mm");
    for (i, name) in ["time", "open", "high", "low", "close", "volume"].iter().enumerate() {
        sheet.write(0, i as u16, *name).unwrap();
    }
    for (i, (t, values)) in table().into_iter().enumerate() {
        let serial = t as f64 / DAY as f64 + 25_569.0;
        sheet.write_with_format(i as u32 + 1, 0, serial, &format).unwrap();
        for (c, v) in values.into_iter().enumerate() {
            let value = if c < 4 { v as f64 / 100_000.0 } else { v as f64 };
            sheet.write(i as u32 + 1, c as u16 + 1, value).unwrap();
        }
    }
    book.save(&path).unwrap();
    let planned = plan(&desk.shelf, std::slice::from_ref(&path), &quill()).unwrap();
    assert_eq!(planned.left.len(), 1, "the sheet without a table is passed over: {:?}", planned.left);
    let clock = Some(ClockHint::Known("UTC".parse().unwrap()));
    expect_table(&mut desk, &path, Hints { clock, instrument: Some("NOKSEK".into()), ..quill() });
}

#[test]
fn many_instruments_in_one_file_and_both_sides_side_by_side() {
    let mut desk = Desk::new();
    let rows: String = (0..40)
        .map(|i| {
            format!("2024-03-14 10:{:02}:00Z,{},{},{}\n", i / 2, ["NOK/SEK", "NZDSEK"][i % 2], i + 1, i + 2)
        })
        .collect();
    let path = desk.file("all.csv", format!("time,symbol,bid,ask\n{rows}"));
    let taken = desk.take_all(&path, &quill()).unwrap();
    let names: Vec<(&str, u64)> = taken.iter().map(|t| (t.series.as_str(), t.rows_kept)).collect();
    assert_eq!(names, [("NOKSEK@quill:ticks", 20), ("NZDSEK@quill:ticks", 20)]);
    assert_eq!(desk.rows("NZDSEK@quill:ticks").column(Field::Bid)[..2], [2, 4]);

    let text = "time,bid open,bid high,bid low,bid close,ask open,ask high,ask low,ask close\n\
        2024-03-14 10:00Z,1,4,1,2,3,6,3,4\n2024-03-14 10:01Z,1,4,1,2,3,6,3,4\n";
    let taken = desk.take_all(&desk.dir.path().join(desk.file("BLY.csv", text)), &quill()).unwrap();
    let names: Vec<&str> = taken.iter().map(|t| t.series.as_str()).collect();
    assert_eq!(names, ["BLY@quill:1m", "BLY@quill:1m.ask"]);
    assert_eq!(desk.rows("BLY@quill:1m.ask").column(Field::High), [6, 6]);
    // In two files the names tell the sides.
    desk.file("two/NZDSEK_bid.csv", minutes("2024-03-14 10:00", 5, 10));
    desk.file("two/NZDSEK_ask.csv", minutes("2024-03-14 10:00", 5, 20));
    let names: Vec<String> = desk
        .take_all(&desk.dir.path().join("two"), &quill())
        .unwrap()
        .into_iter()
        .map(|t| t.series)
        .collect();
    assert_eq!(names, ["NZDSEK@quill:1m", "NZDSEK@quill:1m.ask"]);
}

#[test]
fn depth_trades_and_dated_facts() {
    let mut desk = Desk::new();
    let depth = "time,side,level,price,size,act\n2024-03-14T10:00:00Z,bid,0,1.5,3,new\n2024-03-14T10:00:00Z,ask,0,1.6,2,gone\n";
    let taken = desk.take(&desk.dir.path().join(desk.file("NOKSEK_depth.csv", depth)), quill()).unwrap();
    assert_eq!(taken.series, "NOKSEK@quill:depth");
    let rows = desk.rows(&taken.series);
    assert_eq!(
        (rows.column(Field::Taker), rows.column(Field::Act), rows.column(Field::Size)),
        (&[1, 2][..], &[1, 3][..], &[3, 2][..])
    );
    let trades = "2024-03-14T10:00:00.5Z,412.25,3,B\n2024-03-14T10:00:01Z,412.50,1,S\n";
    let taken = desk.take(&desk.dir.path().join(desk.file("BLY.csv", trades)), quill()).unwrap();
    let rows = desk.rows(&taken.series);
    assert_eq!((rows.column(Field::Last), rows.column(Field::Taker)), (&[41225, 41250][..], &[1, 2][..]));

    let facts = desk.file("acts.csv", "symbol,ex date,dividend,currency\nBLY,2024-03-15,1.25,SEK\nBLY,2024-06-14,1.30,SEK\nNOKSEK,2024-06-14,0,SEK\n");
    let planned = plan(&desk.shelf, &[facts], &quill()).unwrap();
    assert!(planned.plans.is_empty());
    for (round, kept) in [(1, 2), (2, 0)] {
        let taken =
            stavel_core::intake::take_facts(&mut desk.shelf, &planned.facts[0], &Default::default()).unwrap();
        assert_eq!((taken[0].rows_kept, taken[0].rows_read), (kept, 2), "round {round}");
    }
    let facts = desk.shelf.facts("BLY").unwrap();
    assert_eq!(
        (facts.len(), facts[0].kind.as_str(), facts[0].values["dividend"].as_str()),
        (2, "dividend", "1.25")
    );
    // An announcement of which only the day is said has no moment; one at midnight has.
    for (name, table) in [
        ("days.csv", "symbol,date,announcement\nNZDSEK,2024-03-15,fair\n"),
        ("moments.csv", "symbol,time,announcement\nNZDSEK,2024-03-16 00:00,call\n"),
    ] {
        let planned = plan(&desk.shelf, &[desk.file(name, table)], &quill()).unwrap();
        stavel_core::intake::take_facts(&mut desk.shelf, &planned.facts[0], &Default::default()).unwrap();
    }
    let events = desk.shelf.facts("NZDSEK").unwrap();
    let told: Vec<(&str, bool)> = events.iter().map(|e| (e.name().unwrap(), e.has_moment())).collect();
    assert_eq!(told, [("fair", false), ("call", true)]);
}

#[test]
fn a_saved_layout_is_known_again_and_a_stamp_at_the_close_is_seen() {
    let mut desk = Desk::new();
    // Nothing tells that the third column is the ask and the fourth no price.
    let text = "Kl,A1,A2,A3\n2024-03-14 10:00:01,1.5,1.6,9\n2024-03-14 10:00:02,1.5,1.6,9\n";
    let path = desk.file("NOKSEK.csv", text);
    let told = desk.take(&path, quill()).unwrap_err();
    assert_eq!(told.advice(), Some(&Advice::Say(Setting::Layout)));
    let toml = "delimiter = ','\nheader = ['Kl', 'A1', 'A2', 'A3']\ncolumns = ['moment', 'bid', 'ask', '-']\ndates = 'year-first'\nclock = 'Europe/Oslo'\n";
    desk.shelf.save_layout("kl", &stavel_core::model::Layout::from_toml(toml).unwrap()).unwrap();
    let taken = desk.take(&path, quill()).unwrap();
    assert_eq!((taken.clock.as_str(), taken.rows_kept), ("Europe/Oslo", 2));
    assert!(taken.layout.contains("layout kl"), "{}", taken.layout);

    // Five days from 10:01 to 12:00: stamped at the close.
    let days: String = (1..6)
        .map(|d| {
            minutes(&format!("2024-03-1{d} 10:01"), 120, 10)
                .lines()
                .skip(1)
                .map(|l| format!("{l}\n"))
                .collect::<String>()
        })
        .collect();
    let taken = desk.take(&desk.dir.path().join(desk.file("NZDSEK.csv", days)), quill()).unwrap();
    assert_eq!(desk.rows(&taken.series).time[0], parse("2024-03-11 10:00").unwrap());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    /// Any table written in any of many layouts is read back equal.
    #[test]
    fn any_table_in_any_layout_comes_back(
        steps in proptest::collection::vec((1i64..90_000, 100_000i64..999_999, -40i64..40), 20..80),
        between in 0usize..4, comma: bool, order in 0usize..3, header: bool, crlf: bool,
    ) {
        let (mut time, mut rows) = (parse("2024-03-01").unwrap(), Vec::new());
        for (step, bid, spread) in steps {
            time += step * 1000;
            rows.push((time, bid, bid + spread.abs()));
        }
        // A day above twelve decides the order of dates.
        rows.push((time + 20 * DAY, 111_111, 111_112));
        let between = [";", "\t", "|", ","][between];
        let comma = comma && between != ",";
        let number = |v: i64| { let t = scaled(v, 5); if comma { t.replace('.', ",") } else { t } };
        let date = |t: Micros| {
            let (y, m, d) = civil_from_days(day_of(t));
            match order {
                0 => format!("{y}-{m:02}-{d:02}"),
                1 => format!("{d:02}.{m:02}.{y}"),
                _ => format!("{m}/{d}/{y}"),
            }
        };
        let of_day = |t: Micros| { let w = t.rem_euclid(DAY); format!("{:02}:{:02}:{:02}.{:03}", w / HOUR, w / MINUTE % 60, w / 1_000_000 % 60, w / 1000 % 1000) };
        let end = if crlf { "\r\n" } else { "\n" };
        let mut text = if header { ["time", "bid", "ask"].join(between) + end } else { String::new() };
        for (t, bid, ask) in &rows {
            text += &[format!("{} {}", date(*t), of_day(*t)), number(*bid), number(*ask)].join(between);
            text += end;
        }
        let mut desk = Desk::new();
        let path = desk.file("X.csv", text);
        let hints = Hints { instrument: Some("X".into()), clock: Some(ClockHint::Afloat), ..quill() };
        let taken = desk.take(&path, hints);
        prop_assert!(taken.is_ok(), "{:?}", taken);
        let got = desk.rows("X@quill:ticks");
        let got: Vec<(Micros, i64, i64)> = (0..got.len()).map(|i| (got.time[i], got.column(Field::Bid)[i], got.column(Field::Ask)[i])).collect();
        prop_assert_eq!(got, rows);
    }
}

#[test]
fn the_order_of_dates_is_never_guessed() {
    let mut desk = Desk::new();
    let path = desk.file("NOKSEK.csv", "05.03.2024 10:00:00,1.1,1.2\n05.03.2024 10:00:01,1.1,1.2\n");
    let err = desk.take(&path, quill()).unwrap_err();
    assert!(err.is_undecided(), "{err}");
    let asked = Advice::Choose(Setting::Dates, vec!["day-first".into(), "month-first".into()]);
    assert_eq!(err.advice(), Some(&asked));
    let said = Hints { dates: Some(DateOrder::MonthFirst), ..quill() };
    assert_eq!(desk.take(&path, said).unwrap().first, "2024-05-03T10:00:00Z");
}

#[test]
fn bars_of_fewer_prices_keep_what_they_have_and_are_whole_to_compute_with() {
    let mut desk = Desk::new();
    let text = "date,close,volume\n2024-03-14,1.5,7\n2024-03-15,1.25,8\n2024-03-18,1.75,9\n";
    let hints = Hints { frame: Some("1d".parse().unwrap()), ..quill() };
    let path = desk.file("BLY.csv", text);
    desk.take(&path, hints).unwrap();
    let rows = desk.rows("BLY@quill:1d");
    assert_eq!(rows.fields, [Field::Close, Field::Volume], "what is absent stays absent");
    let rows = rows.with_whole_bars();
    for field in [Field::Open, Field::High, Field::Low, Field::Close] {
        assert_eq!(rows.column(field), [150, 125, 175], "{field:?}");
    }
    let path = desk.file("NOKSEK.csv", "date,open,close\n2024-03-14,1,3\n2024-03-15,5,2\n2024-03-18,1,1\n");
    desk.take(&path, quill()).unwrap();
    let rows = desk.rows("NOKSEK@quill:1d").with_whole_bars();
    assert_eq!((rows.column(Field::High), rows.column(Field::Low)), (&[3, 5, 1][..], &[1, 2, 1][..]));
}

#[test]
fn rejects_of_every_symbol_and_every_intake_are_kept() {
    let mut desk = Desk::new();
    let file = |price: u32| -> String {
        let row = |i: usize| {
            format!("2024-03-14 10:0{}Z,{},{price},{price},{price},{price}\n", i / 2, ["AAA", "BBB"][i % 2])
        };
        "time,symbol,open,high,low,close\n".to_owned() + &(0..8).map(row).collect::<String>()
    };
    let first = desk.file("all.csv", file(1));
    desk.take_all(&first, &quill()).unwrap();
    let second = desk.file("all.csv", file(2));
    let mut paths = Vec::new();
    for _ in 0..2 {
        paths.extend(desk.take_all(&second, &quill()).unwrap().into_iter().map(|t| t.rejects.unwrap()));
    }
    let lines: Vec<usize> =
        paths.iter().map(|p| std::fs::read_to_string(p).unwrap().lines().count()).collect();
    assert_eq!(lines, [5, 5, 5, 5], "four conflicts and a header each");
    paths.sort();
    paths.dedup();
    assert_eq!(paths.len(), 4);
}

#[test]
fn a_file_of_many_symbols_is_taken_whole_or_not_at_all() {
    let mut desk = Desk::new();
    // The last symbol cannot name an instrument, which is seen only when its turn comes.
    let long = "Z".repeat(60);
    let row = |i: usize| format!("2024-03-14 10:0{i}Z,{},1.5,1.6\n", if i < 4 { "AAA" } else { &long });
    let rows: String = (0..6).map(row).collect();
    let path = desk.file("all.csv", format!("time,symbol,bid,ask\n{rows}"));
    assert!(desk.take_all(&path, &quill()).unwrap_err().to_string().contains("cannot name"));
    assert!(desk.shelf.series().unwrap().is_empty());
}

#[test]
fn times_that_name_their_zone_belong_to_no_other_clock() {
    let mut desk = Desk::new();
    let rows = "2024-03-14T10:00:00+02:00,1.5,1.6\n2024-03-14T10:00:01+02:00,1.5,1.6\n";
    let path = desk.file("NOKSEK.csv", format!("time,bid,ask\n{rows}"));
    let oslo = Hints { clock: Some(ClockHint::Known("Europe/Oslo".parse().unwrap())), ..quill() };
    assert!(desk.take(&path, oslo).unwrap_err().to_string().contains("their own zones"));
    assert_eq!(desk.take(&path, quill()).unwrap().first, "2024-03-14T08:00:00Z");
}
