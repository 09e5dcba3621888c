//! Chains held against tables worked by hand (those of docs/chains.md) and against rows put together plainly.

use super::*;
use crate::compose::ComposeRequest;
use crate::compose::test_shelf::{columns, empty_shelf, put_rows};
use crate::job::Job;
use crate::model::chain::{RollAdjust, RollAt, RollDate, RollReason, RollRule};
use crate::model::time::{DAY, MINUTE, SECOND, date, parse};
use crate::model::{ABSENT, Columns, Field, Micros, Span};
use crate::store::Shelf;

/// The days of March 2024, closes in points of two decimals and volumes of the table in docs/chains.md.
const MARCH: [(i64, i64, i64); 8] = [
    (4, 41250, 900),
    (5, 41300, 800),
    (7, 41400, 500),
    (8, 41350, 300),
    (11, 41200, 100),
    (12, 41100, 50),
    (13, 41050, 20),
    (14, 41000, 10),
];
const MAY: [(i64, i64, i64); 9] = [
    (4, 41600, 200),
    (5, 41625, 400),
    (6, 41700, 700),
    (7, 41775, 900),
    (8, 41700, 1000),
    (11, 41575, 900),
    (13, 41400, 600),
    (14, 41375, 500),
    (15, 41350, 400),
];
const JULY: [(i64, i64, i64); 10] = [
    (4, 41900, 20),
    (5, 41950, 30),
    (6, 42000, 40),
    (7, 42075, 60),
    (8, 42025, 500),
    (11, 41900, 950),
    (12, 41800, 1200),
    (13, 41750, 1300),
    (14, 41725, 1400),
    (15, 41700, 1500),
];

struct Bench {
    _dir: tempfile::TempDir,
    shelf: Shelf,
}

fn day(of_march: i64) -> Micros {
    parse("2024-03-01").unwrap() + (of_march - 1) * DAY
}

impl Bench {
    fn empty() -> Bench {
        let (dir, shelf) = empty_shelf();
        Bench { _dir: dir, shelf }
    }

    /// The three contracts of the table, in bars of a day.
    fn with_table() -> Bench {
        let mut bench = Bench::empty();
        bench.daily("BLY-2024-03", &MARCH);
        bench.daily("BLY-2024-05", &MAY);
        bench.daily("BLY-2024-07", &JULY);
        bench
    }

    fn daily(&mut self, name: &str, rows: &[(i64, i64, i64)]) {
        let bars: Vec<(Micros, Vec<i64>)> = rows
            .iter()
            .map(|(d, close, volume)| (day(*d), vec![close - 25, close + 50, close - 75, *close, *volume]))
            .collect();
        let fields = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume];
        self.put(&format!("{name}@quill:1d"), &fields, &bars);
    }

    fn put(&mut self, name: &str, fields: &[Field], rows: &[(Micros, Vec<i64>)]) {
        put_rows(&mut self.shelf, name, columns(fields, 2, rows));
    }

    fn make(&mut self, request: &ChainRequest) -> crate::Result<ChainDone> {
        compose_chain(&mut self.shelf, request, &Job::unwatched())
    }

    fn chain(&mut self, rule: RollRule, adjust: RollAdjust, forward: bool) -> ChainDone {
        self.make(&ChainRequest { adjust: Some(adjust), forward, ..request(rule) }).unwrap()
    }

    fn refused(&mut self, request: &ChainRequest) -> String {
        self.make(request).err().expect("a chain was made").to_string()
    }

    fn rows(&self, done: &ChainDone) -> Columns {
        self.shelf.read(&self.shelf.find(&done.series.name).unwrap().edition, Span::ALL).unwrap()
    }

    fn closes(&self, done: &ChainDone) -> Vec<(i64, i64)> {
        let rows = self.rows(done);
        let of_march = rows.time.iter().map(|t| (t - day(1)) / DAY + 1);
        of_march.zip(rows.column(Field::Close).iter().copied()).collect()
    }

    fn say(&mut self, name: &str, key: &str, value: &str) {
        let own = [(key.to_owned(), value.to_owned())].into();
        let request = ComposeRequest { name: name.into(), own, ..ComposeRequest::default() };
        crate::compose::compose(&mut self.shelf, &request, &Job::unwatched()).unwrap();
    }
}

fn request(rule: RollRule) -> ChainRequest {
    ChainRequest {
        instrument: ComposeRequest { name: "BLY.chain".into(), ..ComposeRequest::default() },
        of: vec!["BLY-*".into()],
        source: None,
        frame: None,
        rule,
        adjust: None,
        forward: false,
        moved: Default::default(),
    }
}

fn on(text: &str, to: Option<&str>, line: usize) -> RollDate {
    RollDate { at: text.parse().unwrap(), from: None, to: to.map(Into::into), line }
}

/// Each roll: its day, the contract after it, and its gap.
fn rolls(done: &ChainDone) -> Vec<(String, &str, Option<i64>)> {
    done.made.rolls.iter().map(|r| (date(r.at / DAY), r.to.as_str(), r.gap())).collect()
}

#[test]
fn volume_rolls_as_in_the_table() {
    let mut bench = Bench::with_table();
    let done = bench.chain(RollRule::Volume, RollAdjust::None, false);
    // May had more on the 7th and July on the 11th; each is known the day after.
    assert_eq!(
        rolls(&done),
        [("2024-03-08".into(), "BLY-2024-05", Some(375)), ("2024-03-12".into(), "BLY-2024-07", Some(325))]
    );
    let none = [
        (4, 41250),
        (5, 41300),
        (7, 41400),
        (8, 41700),
        (11, 41575),
        (12, 41800),
        (13, 41750),
        (14, 41725),
        (15, 41700),
    ];
    assert_eq!(bench.closes(&done), none);
    assert_eq!(done.series.name.to_string(), "BLY.chain@quill:1d");
    // March has no row on the 6th: it is not known whether May had more, and the chain has a hole.
    assert_eq!(
        done.doubts,
        [
            "BLY-2024-03 has no rows on 1 of the trading days for which it stands in the chain, first on 2024-03-06: a hole"
        ]
    );
    assert_eq!(done.instrument.values["kind"], "futures");
    assert_eq!(done.instrument.values["base"], "BLY");
}

#[test]
fn prices_are_adjusted_as_in_the_table() {
    let mut bench = Bench::with_table();
    let mut closes = |adjust, forward| {
        let done = bench.chain(RollRule::Volume, adjust, forward);
        bench.closes(&done).into_iter().map(|row| row.1).collect::<Vec<i64>>()
    };
    use RollAdjust::{Difference, Ratio};
    assert_eq!(closes(Difference, false), [41950, 42000, 42100, 42025, 41900, 41800, 41750, 41725, 41700]);
    assert_eq!(closes(Difference, true), [41250, 41300, 41400, 41325, 41200, 41100, 41050, 41025, 41000]);
    assert_eq!(closes(Ratio, false), [41949, 42000, 42102, 42026, 41900, 41800, 41750, 41725, 41700]);
    assert_eq!(closes(Ratio, true), [41250, 41300, 41400, 41326, 41202, 41103, 41054, 41030, 41005]);
    let done = bench.chain(RollRule::Volume, Difference, false);
    let rows = bench.rows(&done);
    assert_eq!([Field::Open, Field::High, Field::Low].map(|f| rows.column(f)[0]), [41925, 42000, 41875]);
    assert_eq!(rows.column(Field::Volume)[0], 900);
}

#[test]
fn days_before_expiry_are_trading_days_and_an_expiry_that_was_said_counts() {
    let mut bench = Bench::with_table();
    let done = bench.chain(RollRule::Days(3), RollAdjust::Difference, false);
    // March traded last on the 14th; the 13th, 12th and 11th are three trading days before. May and July go on.
    assert_eq!(rolls(&done), [("2024-03-11".into(), "BLY-2024-05", Some(350))]);
    let expiries: Vec<_> =
        done.made.contracts.iter().map(|c| (c.expiry.map(date), c.is_expiry_said)).collect();
    assert_eq!(expiries, [(Some("2024-03-14".into()), false), (None, false), (None, false)]);
    assert!(done.assumed.iter().any(|d| d.what == "expiry"), "an expiry that was found is told");
    assert!(
        done.doubts.iter().any(|d| d.contains("BLY-2024-05 has no rows on 1 of the trading days")),
        "{:?}",
        done.doubts
    );
    bench.say("BLY-2024-03", "expiry", "2024-03-13");
    bench.say("BLY-2024-05", "expiry", "2024-03-19");
    let done = bench.chain(RollRule::Days(3), RollAdjust::Difference, false);
    // From the 19th back: 18, 15, 14. The days after the last row are those of the session week.
    assert_eq!(
        rolls(&done),
        [("2024-03-08".into(), "BLY-2024-05", Some(375)), ("2024-03-14".into(), "BLY-2024-07", Some(350))]
    );
    assert!(!done.assumed.iter().any(|d| d.what == "expiry"));
}

#[test]
fn a_contract_that_is_missing_around_its_roll_is_told() {
    let mut bench = Bench::with_table();
    let missing: Vec<_> = MARCH.iter().copied().filter(|row| !(7..=8).contains(&row.0)).collect();
    bench.daily("BLY-2024-03", &missing);
    let done = bench.chain(RollRule::Days(3), RollAdjust::Difference, false);
    // The last day on which both traded before the 11th is the 5th.
    assert_eq!(rolls(&done), [("2024-03-11".into(), "BLY-2024-05", Some(325))]);
    let told = done.doubts.join("\n");
    assert!(told.contains("is that of 2024-03-05, 4 trading days before"), "{told}");
    assert!(
        told.contains(
            "BLY-2024-03 has no rows on 3 of the trading days for which it stands in the chain, first on 2024-03-06"
        ),
        "{told}"
    );
    // By volume: on no day both are known and May has more, until the 11th.
    let done = bench.chain(RollRule::Volume, RollAdjust::None, false);
    assert_eq!(done.made.rolls[0].at, day(12));
}

#[test]
fn a_contract_that_ends_before_its_rule_speaks_is_followed_and_told() {
    let mut bench = Bench::empty();
    bench.daily("BLYH4", &[(4, 41250, 900), (5, 41300, 800), (6, 41300, 0)]);
    bench.daily("BLYK4", &[(4, 41600, 10), (5, 41600, 10), (6, 41700, 20), (7, 41775, 30)]);
    let request =
        ChainRequest { of: vec!["BLYH4".into(), "BLYK4@quill".into()], ..request(RollRule::Volume) };
    let done = bench.make(&request).unwrap();
    // On the 6th the nearer had no trade left: May had more.
    assert_eq!((done.made.rolls[0].at, done.made.rolls[0].why), (day(7), RollReason::Rule));
    bench.daily("BLYH4", &[(4, 41250, 900), (5, 41300, 800)]);
    let done = bench.make(&request).unwrap();
    assert_eq!((done.made.rolls[0].at, done.made.rolls[0].why), (day(6), RollReason::Ended));
    assert!(done.doubts[0].contains("BLYH4 ended before anything said that it rolls"), "{:?}", done.doubts);
    assert_eq!(done.made.contracts[1].month, "2024-05");
}

#[test]
fn volume_that_falls_back_is_told() {
    let mut bench = Bench::empty();
    let near: Vec<_> = [4, 5, 6, 7, 8, 11, 12].map(|d| (d, 41250, 900)).to_vec();
    let mut far = near.clone();
    far.iter_mut().for_each(|row| row.2 = if row.0 == 6 { 5000 } else { 100 });
    bench.daily("BLYH24", &near);
    bench.daily("BLYK24", &far);
    let done = bench.make(&ChainRequest { of: vec!["BLY*".into()], ..request(RollRule::Volume) }).unwrap();
    assert!(done.doubts[0].contains("on 4 of the 4 days after that it had more again"), "{:?}", done.doubts);
}

#[test]
fn dates_are_kept_as_said_and_out_of_order_is_refused() {
    let mut bench = Bench::with_table();
    let dates = |dates: &[RollDate]| request(RollRule::Dates(dates.to_vec()));
    let done =
        bench.make(&dates(&[on("2024-03-07", None, 1), on("2024-03-12 10:00", Some("2024-07"), 2)])).unwrap();
    assert_eq!(
        done.made.rolls.iter().map(|r| r.at).collect::<Vec<_>>(),
        [day(7), parse("2024-03-12 10:00").unwrap()]
    );
    assert_eq!(done.assumed[0].what, "adjust", "that nothing is adjusted is told");
    // A date that is not reached yet is none, but one that is out of order after it is a mistake.
    let beyond = [on("2024-03-07", None, 1), on("2024-05-14", None, 2), on("2024-03-11", None, 3)];
    assert!(bench.refused(&dates(&beyond)).contains("Line 3 of the dates"));
    let done = bench.make(&dates(&[on("2024-03-07", None, 1), on("2024-05-14", None, 2)])).unwrap();
    assert_eq!(done.made.rolls.len(), 1);
    for (said, told) in [
        (
            &[on("2024-03-07", None, 2), on("2024-03-05", None, 3)][..],
            "Line 3 of the dates, 2024-03-05: it is not after 2024-03-07 of line 2",
        ),
        (
            &[on("2024-03-07", Some("BLY-2024-09"), 4)],
            "Line 4 of the dates, 2024-03-07: the chain has no contract BLY-2024-09",
        ),
        (&[on("2024-03-07", Some("BLY-2024-03"), 4)], "is not of a later month than BLY-2024-03"),
        (
            &[on("2024-03-05", None, 1), on("2024-03-07", None, 2), on("2024-03-11", None, 3)],
            "Line 3 of the dates, 2024-03-11: no contract is left",
        ),
    ] {
        let refused = bench.refused(&dates(said));
        assert!(refused.contains(told), "{refused}");
    }
}

#[test]
fn a_roll_moved_by_hand_stays_there_when_the_chain_grows() {
    let mut bench = Bench::with_table();
    let moved = |at: &str| ChainRequest {
        moved: [("BLY-2024-03".to_owned(), at.parse::<RollAt>().unwrap())].into(),
        ..request(RollRule::Volume)
    };
    let done = bench.make(&moved("2024-03-11")).unwrap();
    let whys: Vec<_> = done.made.rolls.iter().map(|r| (date(r.at / DAY), r.why)).collect();
    assert_eq!(whys, [("2024-03-11".into(), RollReason::Moved), ("2024-03-12".into(), RollReason::Rule)]);
    let refused = bench.refused(&moved("2024-03-19"));
    assert!(refused.contains("after the last row of all contracts"), "{refused}");
    let rule = RollRule::Dates(vec![on("2024-03-07", None, 1), on("2024-03-11", None, 2)]);
    let refused = bench.refused(&ChainRequest { rule, ..moved("2024-03-12") });
    assert!(refused.contains("2024-03-11T00:00:00Z is not after that from BLY-2024-03"), "{refused}");
    // By its rule the chain never leaves July.
    let moved = [("BLY-2024-07".to_owned(), RollAt::Day(19_796))].into();
    let done = bench.make(&ChainRequest { moved, ..request(RollRule::Volume) }).unwrap();
    assert!(
        done.doubts.iter().any(|d| d.contains("the chain does not roll out of BLY-2024-07")),
        "{:?}",
        done.doubts
    );
    let of_none = ChainRequest {
        moved: [("BLY-2025-03".to_owned(), RollAt::Day(0))].into(),
        ..request(RollRule::Volume)
    };
    assert!(bench.refused(&of_none).contains("no contract BLY-2025-03 whose roll could be moved"));
}

#[test]
fn what_does_not_make_a_chain_is_refused_in_a_sentence() {
    let mut bench = Bench::with_table();
    let of = |of: &[&str]| ChainRequest {
        of: of.iter().map(ToString::to_string).collect(),
        ..request(RollRule::Volume)
    };
    assert!(bench.refused(&of(&["BLY-2024-03"])).contains("two contracts or more"));
    assert!(bench.refused(&of(&["WHT-*"])).contains("no contract WHT-*@*"));
    let mut by_interest = request(RollRule::OpenInterest);
    assert!(bench.refused(&by_interest).contains("know no open interest"));
    by_interest.frame = Some("1m".parse().unwrap());
    assert!(bench.refused(&by_interest).contains("no contract BLY-*@*:1m"));
    bench.daily("BLYH24", &MARCH);
    assert!(bench.refused(&of(&["BLY*"])).contains("are both of 2024-03"));
    bench.daily("BLX-2024-09", &JULY);
    assert!(bench.refused(&of(&["BL?-*"])).contains("two products"));
    // A ratio of prices below 0 is none.
    bench.daily("GAP-2024-03", &[(4, -150, 9), (5, -100, 1)]);
    bench.daily("GAP-2024-05", &[(4, 150, 5), (5, 100, 8), (6, 100, 8)]);
    let ratio = ChainRequest { adjust: Some(RollAdjust::Ratio), ..of(&["GAP-*"]) };
    assert!(bench.refused(&ratio).contains("adjust by difference"));
}

#[test]
fn prices_that_fall_below_0_are_doubted_again_and_again() {
    let mut bench = Bench::empty();
    let request = ChainRequest {
        of: vec!["BLY*".into()],
        adjust: Some(RollAdjust::Difference),
        ..request(RollRule::Volume)
    };
    let told = |done: ChainDone| {
        done.doubts.iter().filter(|d| d.contains("3 rows have a price of 0 or less")).count()
    };
    bench.daily("BLYH24", &[(4, 420, 9), (5, 420, 9), (6, 430, 9)]);
    bench.daily("BLYK24", &[(5, 100, 5), (6, 10, 20), (7, 100, 20)]);
    // A gap of 10 - 430: lows of 420 - 75 and of 430 - 75 lie below it.
    assert_eq!(told(bench.make(&request).unwrap()), 1);
    bench.daily("BLYK24", &[(5, 100, 5), (6, 10, 20), (7, 100, 20), (8, 100, 20)]);
    assert_eq!(told(bench.make(&request).unwrap()), 1, "also when only new rows came");
}

/// Trades at odd moments of some days: time, price, volume.
fn trades(rng: &mut fastrand::Rng, days: &[i64], level: i64) -> Vec<(Micros, Vec<i64>)> {
    let mut price = level;
    let mut rows = Vec::new();
    for of_march in days {
        let mut time = day(*of_march) + 9 * 60 * MINUTE;
        for _ in 0..200 {
            time += rng.i64(0..90) * SECOND;
            price += rng.i64(-9..=9);
            rows.push((time, vec![rng.i64(1..5), price]));
        }
    }
    rows
}

/// Bars of a minute out of trades, plainly.
fn minutes(trades: &[(Micros, Vec<i64>)]) -> Vec<(Micros, Vec<i64>)> {
    let mut bars: Vec<(Micros, Vec<i64>)> = Vec::new();
    for (time, row) in trades {
        let (at, price) = (time / MINUTE * MINUTE, row[1]);
        match bars.last_mut() {
            Some((t, bar)) if *t == at => {
                (bar[1], bar[2], bar[3]) = (bar[1].max(price), bar[2].min(price), price);
                bar[4] += row[0];
            }
            _ => bars.push((at, vec![price, price, price, price, row[0]])),
        }
    }
    bars
}

#[test]
fn ticks_and_their_minutes_are_chained_alike() {
    let mut rng = fastrand::Rng::with_seed(5);
    let (all, near_days) = ([4, 5, 6, 7, 8, 11, 12, 13], [4, 5, 6, 11, 12]);
    let (near, far) = (trades(&mut rng, &near_days, 41_000), trades(&mut rng, &all, 41_400));
    let mut bench = Bench::empty();
    let of_bars = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume];
    for (name, rows) in [("BLYH24", &near), ("BLYK24", &far)] {
        bench.put(&format!("{name}@quill:ticks"), &[Field::Volume, Field::Last], rows);
        bench.put(&format!("{name}@quill:1m"), &of_bars, &minutes(rows));
    }
    let at = |frame: &str| ChainRequest {
        of: vec!["BLY*".into()],
        frame: Some(frame.parse().unwrap()),
        adjust: Some(RollAdjust::Difference),
        ..request(RollRule::Dates(vec![on("2024-03-11", None, 1)]))
    };
    let (ticks, bars) = (bench.make(&at("ticks")).unwrap(), bench.make(&at("1m")).unwrap());
    let gap = ticks.made.rolls[0].gap().unwrap();
    // Plainly: the last minute of the 6th in which both traded.
    let (of_near, of_far) = (minutes(&near), minutes(&far));
    let common = of_near.iter().rev().filter(|row| row.0 < day(11));
    let plain = common.filter_map(|(t, bar)| Some(of_far.iter().find(|f| f.0 == *t)?.1[3] - bar[3])).next();
    assert_eq!((Some(gap), bars.made.rolls[0].gap()), (plain, plain));
    assert!(
        ticks.doubts.iter().any(|d| d.contains("is that of 2024-03-06, 3 trading days before")),
        "{:?}",
        ticks.doubts
    );
    let parts = |near: &[(Micros, Vec<i64>)], far: &[(Micros, Vec<i64>)], prices: &[usize]| {
        let moved = near.iter().filter(|r| r.0 < day(11)).map(|(t, v)| {
            let value = |(at, v): (usize, &i64)| if prices.contains(&at) { v + gap } else { *v };
            (*t, v.iter().enumerate().map(value).collect::<Vec<i64>>())
        });
        moved.chain(far.iter().filter(|r| r.0 >= day(11)).cloned()).collect::<Vec<_>>()
    };
    for (done, plain) in
        [(&ticks, parts(&near, &far, &[1])), (&bars, parts(&of_near, &of_far, &[0, 1, 2, 3]))]
    {
        let rows = bench.rows(done);
        // Columns stand in the order of the fields.
        let row = |i: usize| (rows.time[i], rows.data.iter().map(|c| c[i]).collect::<Vec<i64>>());
        let made: Vec<_> = (0..rows.len()).map(row).collect();
        assert_eq!(made, plain);
    }
}

#[test]
fn it_follows_its_contracts_and_keeps_what_stands() {
    let mut bench = Bench::with_table();
    let done = bench.chain(RollRule::Volume, RollAdjust::None, false);
    assert!(bench.shelf.staleness(&done.series.edition).unwrap().is_empty());
    // A new month has come: the pattern names it, and the chain is stale.
    bench.daily("BLY-2024-09", &[(13, 42000, 10), (14, 42100, 5000), (15, 42200, 6000), (18, 42200, 10)]);
    let info = bench.shelf.find(&done.series.name).unwrap();
    let stale = bench.shelf.staleness(&info.edition).unwrap();
    assert!(stale[0].to_string().contains("BLY-*@quill:1d names other contracts now"), "{stale:?}");
    let again = bench.chain(RollRule::Volume, RollAdjust::None, false);
    assert_eq!(again.made.rolls.len(), 3);
    let whole = bench.rows(&again);
    // The same as made from nothing.
    let mut fresh = Bench::with_table();
    fresh.daily("BLY-2024-09", &[(13, 42000, 10), (14, 42100, 5000), (15, 42200, 6000), (18, 42200, 10)]);
    let done = fresh.chain(RollRule::Volume, RollAdjust::None, false);
    assert_eq!(whole, fresh.rows(&done));
    // A row of the past changes: what is before it stands, what is after is made anew.
    for adjust in [RollAdjust::None, RollAdjust::Difference] {
        bench.chain(RollRule::Volume, adjust, true);
        let mut changed = MAY;
        changed[4].1 = 41725;
        bench.daily("BLY-2024-05", &changed);
        fresh.daily("BLY-2024-05", &changed);
        let (a, b) =
            (bench.chain(RollRule::Volume, adjust, true), fresh.chain(RollRule::Volume, adjust, true));
        assert_eq!(bench.rows(&a), fresh.rows(&b));
        bench.daily("BLY-2024-05", &MAY);
        fresh.daily("BLY-2024-05", &MAY);
    }
}

#[test]
fn quotes_and_spreads_go_with_the_level() {
    let mut bench = Bench::empty();
    let quotes = |level: i64| {
        let row =
            |of_march: i64| (day(of_march), vec![level, if of_march == 5 { ABSENT } else { level + 50 }]);
        (4..8).map(row).collect::<Vec<_>>()
    };
    bench.put("BLYH24@tarn:ticks", &[Field::Bid, Field::Ask], &quotes(40_000));
    bench.put("BLYK24@tarn:ticks", &[Field::Bid, Field::Ask], &quotes(44_000));
    let ratio = ChainRequest {
        of: vec!["BLY*".into()],
        adjust: Some(RollAdjust::Ratio),
        ..request(RollRule::Dates(vec![on("2024-03-06", None, 1)]))
    };
    let done = bench.make(&ratio).unwrap();
    let rows = bench.rows(&done);
    assert_eq!(rows.column(Field::Bid), [44_000; 4]);
    assert_eq!(rows.column(Field::Ask), [44_055, ABSENT, 44_050, 44_050]);
    let bars = |level: i64| {
        vec![(day(4), vec![level, level, level, level, 50]), (day(6), vec![level, level, level, level, 50])]
    };
    let fields = [Field::Open, Field::High, Field::Low, Field::Close, Field::Spread];
    bench.put("BLYH24@tarn:1d", &fields, &bars(40_000));
    bench.put("BLYK24@tarn:1d", &fields, &bars(44_000));
    let done = bench.make(&ChainRequest { frame: Some("1d".parse().unwrap()), ..ratio }).unwrap();
    assert_eq!(bench.rows(&done).column(Field::Spread), [55, 50]);
}
