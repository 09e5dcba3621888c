//! Formulas over rows on a shelf, held against the same worked out plainly.

use super::*;
use crate::compose::ComposeRequest;
use crate::compose::test_shelf::{columns, empty_shelf, put_rows};
use crate::job::Job;
use crate::model::price::unit;
use crate::model::time::{DAY, HOUR, MINUTE, SECOND, parse};
use crate::model::{ABSENT, Columns, Field, Micros, SeriesName, Span};
use crate::store::Shelf;

struct Bench {
    _dir: tempfile::TempDir,
    shelf: Shelf,
}

impl Bench {
    fn new() -> Bench {
        let (dir, shelf) = empty_shelf();
        Bench { _dir: dir, shelf }
    }

    /// Puts rows on the shelf, as the whole of a series.
    fn put(&mut self, name: &str, fields: &[Field], decimals: u8, rows: &[(Micros, Vec<i64>)]) {
        put_rows(&mut self.shelf, name, columns(fields, decimals, rows));
    }

    fn quotes(&mut self, name: &str, decimals: u8, rows: &[(Micros, Vec<i64>)]) {
        self.put(name, &[Field::Bid, Field::Ask], decimals, rows);
    }

    fn request(name: &str, text: &str) -> FormulaRequest {
        let instrument = ComposeRequest { name: name.into(), ..ComposeRequest::default() };
        FormulaRequest { instrument, text: text.into(), ..FormulaRequest::default() }
    }

    fn make(&mut self, request: &FormulaRequest) -> crate::Result<FormulaDone> {
        compose_formula(&mut self.shelf, request, &Job::unwatched())
    }

    /// A formula of ticks whose prices hold for so long.
    fn ticks(&mut self, name: &str, text: &str, stale: Micros) -> FormulaDone {
        let request = FormulaRequest { stale: Some(stale), ..Bench::request(name, text) };
        self.make(&request).unwrap_or_else(|e| panic!("{text}: {e}"))
    }

    fn rows(&self, series: &SeriesName) -> Columns {
        let info = self.shelf.find(series).unwrap();
        self.shelf.read(&info.edition, Span::ALL).unwrap()
    }

    fn refused(&mut self, text: &str) -> String {
        let request = Bench::request("MADE", text);
        self.make(&request).err().unwrap_or_else(|| panic!("{text} was made")).to_string()
    }
}

/// Quotes at random moments, some at the same one, some with a side that is not known.
fn quotes(rng: &mut fastrand::Rng, from: i64, count: usize) -> Vec<(Micros, Vec<i64>)> {
    let mut time = parse("2024-03-28 12:00").unwrap();
    let mut price = from;
    (0..count)
        .map(|_| {
            time += match rng.u32(0..40) {
                0 => 3 * MINUTE,
                1..4 => 20 * SECOND,
                4..13 => 3 * SECOND,
                13..31 => SECOND,
                31..37 => 1,
                _ => 0,
            };
            price += rng.i64(-20..=20);
            let mut values = vec![price, price + rng.i64(0..9)];
            if rng.u32(0..12) == 0 {
                values[rng.usize(0..2)] = ABSENT;
            }
            (time, values)
        })
        .collect()
}

/// The last quote of a leg at a moment: bid, ask, and how old it is.
fn as_of(rows: &[(Micros, Vec<i64>)], moment: Micros) -> Option<(i128, i128, Micros)> {
    let before: Vec<&(Micros, Vec<i64>)> = rows.iter().filter(|(time, _)| *time <= moment).collect();
    let side = |side: usize| before.iter().rev().find(|(_, v)| v[side] != ABSENT).map(|(t, v)| (v[side], *t));
    let ((bid, bid_time), (ask, ask_time)) = (side(0)?, side(1)?);
    Some((bid.into(), ask.into(), moment - bid_time.min(ask_time)))
}

fn floor(up: i128, down: i128) -> i64 {
    up.div_euclid(down) as i64
}

fn ceiling(up: i128, down: i128) -> i64 {
    -floor(-up, down)
}

#[test]
fn ticks_are_joined_as_of_the_last_quote_on_both_sides() {
    let mut rng = fastrand::Rng::with_seed(3);
    let stale = 5 * SECOND;
    for round in 0..4 {
        let (a, b) = (quotes(&mut rng, 630_000, 400), quotes(&mut rng, 101_000 + round, 300));
        let mut bench = Bench::new();
        bench.quotes("NZDSEK@quill:ticks", 5, &a);
        bench.quotes("NOKSEK@quill:ticks", 5, &b);
        let (u, d): (i128, usize) = (unit(5).into(), 5);
        // Each by whole numbers alone: the lowest bid and the highest ask that the quotes allow.
        type Sides = fn(i128, i128, i128, i128, i128) -> (i64, i64);
        let formulas: [(&str, Sides); 6] = [
            ("NZDSEK / NOKSEK", |ab, aa, bb, ba, u| (floor(ab * u, ba), ceiling(aa * u, bb))),
            ("NZDSEK - NOKSEK", |ab, aa, bb, ba, _| ((ab - ba) as i64, (aa - bb) as i64)),
            ("NZDSEK * NOKSEK", |ab, aa, bb, ba, u| (floor(ab * bb, u), ceiling(aa * ba, u))),
            ("1 / NZDSEK + 0 * NOKSEK", |ab, aa, _, _, u| (floor(u * u, aa), ceiling(u * u, ab))),
            ("NZDSEK * NZDSEK + 0 * NOKSEK", |ab, aa, _, _, u| (floor(ab * ab, u), ceiling(aa * aa, u))),
            ("abs(NOKSEK - NZDSEK)", |ab, aa, bb, ba, _| ((ab - ba) as i64, (aa - bb) as i64)),
        ];
        let mut moments: Vec<Micros> = a.iter().chain(&b).map(|row| row.0).collect();
        moments.sort_unstable();
        moments.dedup();
        for (text, sides) in formulas {
            let name = format!("F{}", text.len());
            let own = [("decimals".to_owned(), d.to_string())].into();
            let mut request = FormulaRequest { stale: Some(stale), ..Bench::request(&name, text) };
            request.instrument.own = own;
            let done = bench.make(&request).unwrap();
            let (mut expected, mut left) = (Vec::new(), 0);
            for moment in &moments {
                match (as_of(&a, *moment), as_of(&b, *moment)) {
                    (Some((ab, aa, old)), Some((bb, ba, older))) if old <= stale && older <= stale => {
                        let (bid, ask) = sides(ab.min(aa), aa.max(ab), bb.min(ba), ba.max(bb), u);
                        expected.push((*moment, bid, ask));
                    }
                    _ => left += 1,
                }
            }
            let rows = bench.rows(&done.series.name);
            let made: Vec<(Micros, i64, i64)> = (0..rows.len())
                .map(|i| (rows.time[i], rows.column(Field::Bid)[i], rows.column(Field::Ask)[i]))
                .collect();
            assert!(expected.len() > 40, "{}", expected.len());
            assert_eq!(made, expected, "{text}");
            assert_eq!(done.left.sum(), left, "{text}");
        }
    }
}

fn noon(seconds: i64) -> Micros {
    parse("2024-03-29 12:00").unwrap() + seconds * SECOND
}

#[test]
fn what_a_formula_makes_is_told() {
    let mut bench = Bench::new();
    let quotes = |price: i64| vec![(noon(0), vec![price, price + 20]), (noon(30), vec![price, price + 20])];
    bench.quotes("NZDSEK@quill:ticks", 5, &quotes(630_000));
    bench.quotes("NOKSEK@quill:ticks", 5, &quotes(100_000));
    let request = Bench::request("NZDNOK", "cross(NZDSEK, NOKSEK)");
    let done = bench.make(&request).unwrap();
    assert_eq!(done.series.name.to_string(), "NZDNOK@quill:ticks");
    assert_eq!(done.told, "NZDSEK / NOKSEK");
    assert_eq!(done.unit.unit.as_ref().unwrap().to_string(), "NOK for one NZD");
    assert_eq!((done.instrument.sheet.base.as_str(), done.instrument.sheet.quote.as_str()), ("NZD", "NOK"));
    assert_eq!(done.instrument.sheet.decimals, 5);
    assert!(done.is_two_sided && done.doubts.is_empty(), "{:?}", done.doubts);
    let assumed: Vec<&str> = done.assumed.iter().map(|d| d.what.as_str()).collect();
    assert_eq!(assumed, ["stale", "decimals"]);
    // Unlike currencies; a name that says another pair.
    let sum = bench.ticks("SUM", "NZDSEK + NOKSEK", HOUR);
    assert!(sum.doubts[0].contains("column 8") && sum.doubts[0].contains("unlike"), "{:?}", sum.doubts);
    let mut turned = Bench::request("NOKNZD", "NZDSEK / NOKSEK");
    turned.instrument.own = [("base", "NOK"), ("quote", "NZD")].map(|(k, v)| (k.into(), v.into())).into();
    let doubts = bench.make(&turned).unwrap().doubts;
    assert!(
        doubts[0].contains("gives NOK for one NZD, and the sheet of NOKNZD says NZD for one NOK"),
        "{doubts:?}"
    );
    // One price of each leg makes one price.
    let one = bench.ticks("MID", "NZDSEK.mid - NOKSEK.bid", HOUR);
    assert!(!one.is_two_sided);
    assert_eq!(bench.rows(&one.series.name).column(Field::Last), [530_010, 530_010]);
    // Money is counted in the points of the rows, whatever a kind's usual decimals are.
    assert_eq!((one.instrument.sheet.decimals, one.series.edition.scale.price), (5, 5));
    // Where the legs do not go together, a person is asked to look; where nothing is left, it is refused.
    let late: Vec<(Micros, Vec<i64>)> = (0..40).map(|i| (noon(i * 60), vec![7, 8])).collect();
    bench.quotes("BLY@quill:ticks", 2, &late);
    let lost = bench.ticks("LOST", "BLY + 0 * NZDSEK", SECOND);
    assert_eq!((lost.left.stale.as_slice(), lost.left.outside.as_slice()), (&[1, 0][..], &[0, 39][..]));
    assert!(lost.doubts.iter().any(|d| d.contains("1 of 2 moments make no row")), "{:?}", lost.doubts);
    let never = bench.refused("1 / (NZDSEK - NZDSEK)");
    assert!(never.contains("no value at any moment: 2 divided by 0; nothing was written"), "{never}");
    assert!(bench.shelf.find(&"MADE@quill:ticks".parse().unwrap()).is_err());
}

#[test]
fn mistakes_name_the_column_and_what_there_is() {
    let mut bench = Bench::new();
    let rows = [(noon(0), vec![100, 101])];
    bench.quotes("NZDSEK@quill:ticks", 5, &rows);
    bench.quotes("NOKSEK@quill:ticks", 5, &rows);
    bench.quotes("NOKSEK@tarn:ticks", 5, &rows);
    bench.quotes("BLY-2024-03@tarn:ticks", 2, &rows);
    bench.put(
        "BLY@tarn:1d",
        &[Field::Open, Field::High, Field::Low, Field::Close],
        2,
        &[(noon(0), vec![5, 6, 4, 5])],
    );
    bench.put("TRD@quill:ticks", &[Field::Last], 2, &[(noon(0), vec![5])]);
    for (text, told) in [
        ("NZDSEK / NOKEUX", "column 10: the shelf has no instrument NOKEUX; it has BLY, BLY-2024-03, NOKSEK"),
        ("NZDSEK - BLY", "The legs have no frame in common: NZDSEK has ticks; BLY has 1d"),
        (
            "NOKSEK * 2",
            "column 1: NOKSEK has rows from quill and tarn; say which (--source, or NOKSEK@SOURCE",
        ),
        ("NZDSEK@tarn", "column 1: NZDSEK has no rows from tarn; it has some from quill"),
        ("NZDSEK.last", "column 1: the rows of NZDSEK@quill:ticks are quotes"),
        ("TRD.ask", "column 1: the rows of TRD@quill:ticks are trades, which have one price; write .last"),
        ("BLY.mid", "column 1: the rows of BLY@tarn:1d do not know their spread"),
        ("BLY-2024-03 * 2", "column 1: BLY-2024-03 is the name of an instrument; put it in quotes"),
        ("TRD + BLY-2024", "no frame in common"),
        ("mean(NZDSEK, 5)", "look back over bars, and these are ticks"),
        ("cross(NZDSEK, BLY)", "column 15: nobody knows of which two currencies BLY is a pair"),
        ("index(NZDSEK, 2025-01-01)", "The index cannot begin on 2025-01-01 00:00"),
    ] {
        let error = bench.refused(text);
        assert!(error.contains(told), "{text}: {error}");
    }
    // The only source that all legs have is taken, and told.
    let both = bench.ticks("MADE", "NZDSEK - NOKSEK", HOUR);
    assert_eq!(both.legs[1].to_string(), "NOKSEK@quill:ticks");
    assert!(both.assumed.iter().any(|d| d.what == "source"));
    let mixed = bench.ticks("MIX", "NZDSEK - NOKSEK@tarn", HOUR);
    assert_eq!(mixed.series.name.to_string(), "MIX@mixed:ticks");
    // What comes from a series cannot make it, however long the way.
    bench.ticks("TWICE", "2 * MADE", HOUR);
    let circle = FormulaRequest { source: Some("quill".into()), ..Bench::request("MADE", "TWICE / 2") };
    let told = bench.make(&circle).err().unwrap().to_string();
    assert!(
        told.contains("TWICE@quill:ticks comes from MADE@quill:ticks; that would go in a circle"),
        "{told}"
    );
    let itself = bench.make(&Bench::request("NZDSEK", "NZDSEK + 1")).err().unwrap().to_string();
    assert!(itself.contains("NZDSEK@quill:ticks cannot be made from itself"), "{itself}");
}

#[test]
fn bars_that_begin_together_make_bars_with_a_spread() {
    use Field::{Close, High, Low, Open, Spread};
    let fields = [Open, High, Low, Close, Spread];
    let mut bench = Bench::new();
    let at = |minute: i64| noon(0) + minute * MINUTE;
    bench.put(
        "NZDSEK@quill:1m",
        &fields,
        5,
        &[
            (at(0), vec![600_000, 600_900, 599_000, 600_500, 10]),
            (at(1), vec![600_500, 600_500, 600_500, 600_500, 10]),
            (at(2), vec![600_500, 600_600, 600_400, 600_450, ABSENT]),
            (at(3), vec![600_500, 600_600, 600_400, 600_400, 10]),
        ],
    );
    bench.put(
        "NOKSEK@quill:1m",
        &fields,
        5,
        &[
            (at(0), vec![100_000, 100_500, 99_900, 100_100, 20]),
            (at(2), vec![100_000, 100_000, 100_000, 100_000, 20]),
            (at(3), vec![100_000, 100_000, 100_000, 100_000, 0]),
        ],
    );
    let request = Bench::request("GAP", "NZDSEK - NOKSEK");
    let done = bench.make(&request).unwrap();
    let rows = bench.rows(&done.series.name);
    assert_eq!(rows.time, [at(0), at(3)]);
    // Open 6.00000 less the ask 1.00020; close 6.00500 less 1.00120; 10 and 20 points of spread.
    assert_eq!(rows.column(Open), [499_980, 500_500]);
    assert_eq!(rows.column(Close), [500_380, 500_400]);
    assert_eq!(rows.column(High), [500_380, 500_500]);
    assert_eq!(rows.column(Low), [499_980, 500_400]);
    assert_eq!(rows.column(Spread), [30, 10]);
    assert_eq!((done.left.missing.as_slice(), done.left.one_sided.as_slice()), (&[0, 1][..], &[1, 0][..]));
    // The same with a close that stands in for the bar that is missing.
    let carried = FormulaRequest { stale: Some(MINUTE), ..Bench::request("GAP2", "NZDSEK - NOKSEK") };
    let done = bench.make(&carried).unwrap();
    assert_eq!(bench.rows(&done.series.name).column(Open), [499_980, 600_500 - 100_120, 500_500]);
    assert_eq!(done.left.carried, [0, 1], "that it stands in is counted");
    // One leg alone has its own highs and lows.
    let request = Bench::request("INV", "1 / NOKSEK");
    let done = bench.make(&request).unwrap();
    let rows = bench.rows(&done.series.name);
    assert_eq!(rows.column(High)[0], (1e5 / 99_920.0 * 1e5f64).floor() as i64);
    assert_eq!(rows.column(Low)[0], (1e5 / 100_520.0 * 1e5f64).floor() as i64);
}

#[test]
fn an_index_begins_at_its_level_and_a_basket_adds_up() {
    use Field::{Close, High, Low, Open};
    let fields = [Open, High, Low, Close];
    let mut bench = Bench::new();
    let day = |n: i64, price: i64| (noon(0) + n * DAY, vec![price; 4]);
    bench.put("BLY@quill:1d", &fields, 2, &[day(0, 20_000), day(1, 25_000), day(2, 24_000)]);
    bench.put("OAT@quill:1d", &fields, 2, &[day(0, 10_000), day(1, 10_000), day(2, 12_000)]);
    let request = Bench::request("IDX", "index(basket(0.5, BLY, 2, OAT), 2024-03-30)");
    let done = bench.make(&request).unwrap();
    assert_eq!(done.told, "100 * ((0.5 * BLY + 2 * OAT) / 325)");
    assert!(!done.is_two_sided && done.assumed.iter().any(|d| d.what == "side"));
    let decimals = done.series.edition.scale.price;
    let closes: Vec<f64> = bench
        .rows(&done.series.name)
        .column(Close)
        .iter()
        .map(|c| *c as f64 / unit(decimals) as f64)
        .collect();
    let near = |a: f64, b: f64| (a - b).abs() <= 0.6 / unit(decimals) as f64;
    assert!(
        near(closes[0], 300.0 / 3.25) && closes[1] == 100.0 && near(closes[2], 360.0 / 3.25),
        "{closes:?}"
    );
}

#[test]
fn what_grows_or_changes_is_worked_out_from_its_month_on_and_comes_to_the_same() {
    use Field::{Close, High, Low, Open, Spread};
    let fields = [Open, High, Low, Close, Spread];
    let mut rng = fastrand::Rng::with_seed(8);
    let mut bars = |count: i64, from: i64| -> Vec<(Micros, Vec<i64>)> {
        let bar = |i: i64, rng: &mut fastrand::Rng| {
            let close = from + rng.i64(0..500);
            let spread = if rng.u32(0..40) == 0 { ABSENT } else { rng.i64(1..9) };
            (parse("2024-01-15").unwrap() + i * HOUR, vec![close, close + 9, close - 9, close, spread])
        };
        let all: Vec<(Micros, Vec<i64>)> = (0..count).map(|i| bar(i, &mut rng)).collect();
        all.into_iter().filter(|_| rng.u32(0..30) > 0).collect()
    };
    let (a, b) = (bars(2400, 60_000), bars(2400, 10_000));
    for text in ["A / B", "A - mean(lag(A, 3), 40) + B", "stdev(A.mid / B.mid, 20)"] {
        let mut bench = Bench::new();
        bench.put("A@quill:1h", &fields, 3, &a[..1500]);
        bench.put("B@quill:1h", &fields, 3, &b[..1400]);
        let request = Bench::request("F", text);
        bench.make(&request).unwrap();
        bench.put("A@quill:1h", &fields, 3, &a);
        let stale = bench
            .shelf
            .staleness(&bench.shelf.find(&"F@quill:1h".parse().unwrap()).unwrap().edition)
            .unwrap();
        assert_eq!(stale.len(), 1, "it follows its legs");
        let mut changed = b.clone();
        changed[1300].1[3] += 7;
        bench.put("B@quill:1h", &fields, 3, &changed);
        let grown = bench.make(&request).unwrap();
        let before = bench.shelf.segments(&grown.series.edition).unwrap();
        let fresh = bench
            .make(&FormulaRequest {
                instrument: ComposeRequest { name: "NEW".into(), ..Default::default() },
                ..request.clone()
            })
            .unwrap();
        assert!(bench.rows(&grown.series.name) == bench.rows(&fresh.series.name), "{text}");
        assert_eq!(grown.left, fresh.left, "{text}");
        assert!(!before.is_empty());
        let again = bench.make(&request).unwrap();
        assert_eq!(again.left, fresh.left, "{text}: nothing new");
    }
}

#[test]
fn a_side_that_is_not_told_any_more_does_not_hold_and_one_that_is_not_asked_for_is_not_waited_for() {
    let mut bench = Bench::new();
    let half = |s: i64, bid: i64, ask: i64| (noon(s), vec![bid, ask]);
    let rows = [half(0, 100, 110), half(8, ABSENT, 111), half(16, ABSENT, 112), half(24, 103, 113)];
    bench.quotes("NOKSEK@quill:ticks", 5, &rows);
    let both = bench.ticks("BOTH", "2 * NOKSEK", 10 * SECOND);
    assert_eq!(bench.rows(&both.series.name).time, [noon(0), noon(8), noon(24)]);
    assert_eq!(both.left.stale, [1]);
    let ask = bench.ticks("ASK", "2 * NOKSEK.ask", 10 * SECOND);
    assert_eq!(bench.rows(&ask.series.name).column(Field::Last).len(), 4);
}

#[test]
fn a_leg_that_grows_after_a_pause_is_counted_as_if_it_had_never_ended() {
    let mut bench = Bench::new();
    let day = |n: i64| noon(0) + n * DAY;
    let all: Vec<(Micros, Vec<i64>)> = (0..120).map(|n| (day(n), vec![5, 6])).collect();
    let paused: Vec<(Micros, Vec<i64>)> =
        all.iter().filter(|(t, _)| !(day(10)..day(90)).contains(t)).cloned().collect();
    bench.quotes("NZDSEK@quill:ticks", 2, &all);
    bench.quotes("NOKSEK@quill:ticks", 2, &paused[..10]);
    let ended = bench.ticks("F", "NZDSEK - NOKSEK", HOUR);
    assert_eq!((ended.left.outside[1], ended.left.stale[1]), (110, 0));
    bench.quotes("NOKSEK@quill:ticks", 2, &paused);
    let grown = bench.ticks("F", "NZDSEK - NOKSEK", HOUR);
    assert_eq!((grown.left.outside[1], grown.left.stale[1]), (0, 80));
    assert!(!grown.doubts.is_empty(), "a hole of 80 days is for a person");
    // Nor does an index begin half a year later than was said.
    let told = bench.refused("index(NOKSEK, 2023-09-01)");
    assert!(
        told.contains("cannot begin on 2023-09-01 00:00: all its legs have prices from 2024-03-29 12:00 on"),
        "{told}"
    );
}
