//! The stages on a shelf, one after the other and against each other's leftovers.

use std::collections::BTreeMap;

use stavel_core::align::{AlignWishes, anchor_series, study};
use stavel_core::check::{FindingKind, Mend, check_series, known_checks, mend_series};
use stavel_core::compose::{ComposeRequest, compose};
use stavel_core::frames::{FrameSettings, build_bars, build_series};
use stavel_core::job::Job;
use stavel_core::model::Stamp;
use stavel_core::model::time::{DAY, HOUR, parse, wall};
use stavel_core::model::variation::Variation;
use stavel_core::model::{Clock, Columns, Doubtful, Field, Frame, Scale, Session, Side, Span};
use stavel_core::rehearse::{
    BarEnds, DeskRules, Direction, Exit, LOT, OrderKind, RateRule, Replay, ShelfRows, Size, SpreadRule, Tape,
    Ticket, Traded, Until, read_orders, run_orders,
};
use stavel_core::store::{Shelf, StaleBecause};

mod desk;
mod histories;
mod joined;
mod levels;
mod tail;

use desk::*;

fn written_in(rows: &Columns, clock: &Clock) -> Columns {
    let mut rows = rows.clone();
    rows.time.iter_mut().for_each(|t| *t = clock.to_wall(*t));
    rows
}

#[test]
fn minutes_are_aligned_to_ticks_and_come_back_unchanged() {
    let (_dir, mut shelf) = desk();
    let vendor = ticks(span("2024-02-25", "2024-04-07"), 3);
    let clock: Clock = "America/New_York+7h".parse().unwrap();
    let broker = minutes_of(&vendor);
    put(&mut shelf, "NOKSEK@quill:ticks", &vendor, Some("UTC"));
    put(&mut shelf, "NOKSEK@tarn:1m", &written_in(&broker, &clock), None);
    let (tarn, quill) = (name("NOKSEK@tarn:1m"), name("NOKSEK@quill:ticks"));
    let found = study(&shelf, &tarn, &quill, &AlignWishes::default(), &Job::unwatched()).unwrap();
    assert!(found.is_sure() && found.fit.clock == clock && found.fit.confidence > 0.99);
    assert!(found.evidence.iter().all(|e| Some(e.range_here) == e.range_there && e.range_here > 0));
    let doubtful =
        anchor_series(&mut shelf, &tarn, &clock, Stamp::Open, Default::default(), &Job::unwatched()).unwrap();
    assert_eq!(doubtful, Doubtful::default());
    assert!(read(&shelf, "NOKSEK@tarn:1m") == broker);
    assert!(
        anchor_series(&mut shelf, &tarn, &clock, Stamp::Open, Default::default(), &Job::unwatched()).is_err(),
        "it is anchored already"
    );
    let again = study(&shelf, &tarn, &quill, &AlignWishes::default(), &Job::unwatched()).unwrap();
    assert_eq!(again.fit.clock, clock, "an anchored series is studied as it was written");
    assert!(study(&shelf, &tarn, &tarn, &AlignWishes::default(), &Job::unwatched()).is_err());
}

#[test]
fn an_afloat_series_is_no_measure_for_another() {
    let (_dir, mut shelf) = desk();
    let rows = minutes_of(&ticks(span("2024-03-03", "2024-03-10"), 3));
    put(&mut shelf, "NOKSEK@tarn:1m", &rows, None);
    put(&mut shelf, "NOKSEK@quill:1m", &rows, None);
    let err = study(
        &shelf,
        &name("NOKSEK@tarn:1m"),
        &name("NOKSEK@quill:1m"),
        &AlignWishes::default(),
        &Job::unwatched(),
    )
    .err()
    .unwrap();
    assert!(err.to_string().contains("afloat itself"), "{err}");
}

#[test]
fn frames_of_ticks_follow_the_side_and_the_clock() {
    let (_dir, mut shelf) = desk();
    let rows = ticks(span("2024-03-03", "2024-03-16"), 5);
    put(&mut shelf, "NOKSEK@quill:ticks", &rows, Some("UTC"));
    let (ticks, job) = (name("NOKSEK@quill:ticks"), Job::unwatched());
    build_series(&mut shelf, &ticks, &[Frame::M1], &FrameSettings::default(), &job).unwrap();
    assert!(read(&shelf, "NOKSEK@quill:1m").with_fields(&BARS) == minutes_of(&rows));
    let ask = build_series(
        &mut shelf,
        &ticks,
        &[Frame::M1],
        &FrameSettings { sides: &[Side::Ask], ..FrameSettings::default() },
        &job,
    )
    .unwrap();
    assert_eq!(ask[0].info.name.to_string(), "NOKSEK@quill:1m.ask");
    let highest = |series: &str| read(&shelf, series).column(Field::High).iter().copied().max();
    assert_eq!(highest("NOKSEK@quill:1m.ask"), rows.column(Field::Ask).iter().copied().max());
    let info = shelf.find(&ticks).unwrap();
    let days = |clock: Option<&str>| {
        let clock = clock.map(|c| c.parse::<Clock>().unwrap());
        let making = FrameSettings { clock: clock.as_ref(), ..FrameSettings::default() };
        build_bars(&shelf, &info, Frame::D1, &making, &job).unwrap().bars.len()
    };
    assert_eq!((days(None), days(Some("UTC"))), (10, 12), "in UTC every week has a stub on Sunday");
}

#[test]
fn frames_built_together_are_those_built_one_by_one() {
    let (_dir, mut shelf) = desk();
    let rows = ticks(span("2024-03-03", "2024-03-16"), 5);
    put(&mut shelf, "NOKSEK@quill:ticks", &rows, Some("UTC"));
    let (ticks, job) = (name("NOKSEK@quill:ticks"), Job::unwatched());
    let frames: Vec<Frame> = ["1d", "1m", "1h"].map(|f| f.parse().unwrap()).to_vec();
    let together = build_series(
        &mut shelf,
        &ticks,
        &frames,
        &FrameSettings { sides: &[Side::Mid], ..FrameSettings::default() },
        &job,
    )
    .unwrap();
    for (frame, built) in frames.iter().zip(&together) {
        let info = shelf.find(&ticks).unwrap();
        let making = FrameSettings { sides: &[Side::Mid], ..FrameSettings::default() };
        let alone = build_bars(&shelf, &info, *frame, &making, &job).unwrap();
        assert_eq!(built.info.name.to_string(), format!("NOKSEK@quill:{frame}.mid"));
        // What is kept says more; what both say is the same.
        let kept = shelf.read(&built.info.edition, Span::ALL).unwrap();
        assert!(kept.has(Field::TickCount) && !alone.bars.has(Field::TickCount));
        assert!(kept.with_fields(&alone.bars.fields) == alone.bars, "{frame}");
        assert_eq!((built.partial_first, built.partial_last), (alone.partial_first, alone.partial_last));
    }
}

#[test]
fn what_was_built_knows_which_edition_it_came_from() {
    let (_dir, mut shelf) = desk();
    let rows = minutes_of(&ticks(span("2024-03-03", "2024-03-09"), 6));
    put(&mut shelf, "NOKSEK@quill:1m", &rows, Some("UTC"));
    let base = shelf.find(&name("NOKSEK@quill:1m")).unwrap();
    let built = build_series(
        &mut shelf,
        &base.name,
        &["1h".parse().unwrap()],
        &FrameSettings::default(),
        &Job::unwatched(),
    )
    .unwrap();
    let parents: Vec<i64> = built[0].info.edition.provenance.parents().map(|p| p.0).collect();
    assert_eq!(parents, [base.edition.id]);
    assert!(shelf.staleness(&built[0].info.edition).unwrap().is_empty());
    put(&mut shelf, "NOKSEK@quill:1m", &rows.rows(0..3000), Some("UTC"));
    let newer = shelf.find(&base.name).unwrap();
    assert_ne!(parents, [newer.edition.id]);
    let changed = StaleBecause::Source { series: base.name, is_there: true, is_of_many: false };
    assert_eq!(shelf.staleness(&built[0].info.edition).unwrap(), [changed]);
}

#[test]
fn an_instrument_of_ones_own_has_its_hours_its_costs_and_its_rows() {
    let (_dir, mut shelf) = desk();
    let rows = minutes_of(&ticks(span("2024-03-24", "2024-04-07"), 7));
    put(&mut shelf, "NOKSEK@quill:1m", &rows, Some("UTC"));
    let own = |pairs: &[(&str, &str)]| {
        pairs.iter().map(|(k, v)| (k.to_string(), v.to_string())).collect::<BTreeMap<_, _>>()
    };
    let request = ComposeRequest {
        name: "NOKSEK.day".into(),
        like: Some("NOKSEK".into()),
        own: own(&[("hours", "mon-fri 08:00-17:00 Europe/Oslo"), ("clock", "Europe/Oslo"), ("spread", "18")]),
        from: Some(name("NOKSEK@quill:1m")),
        ..ComposeRequest::default()
    };
    let made = compose(&mut shelf, &request, &Job::unwatched()).unwrap();
    assert_eq!(made.series.unwrap().edition.rows, 10 * 9 * 60);
    let day = read(&shelf, "NOKSEK.day@quill:1m");
    assert!(day.column(Field::Spread).iter().all(|s| *s == 18));
    let oslo: Clock = "Europe/Oslo".parse().unwrap();
    assert!(
        day.time.iter().all(|t| (8..17).contains(&(oslo.to_wall(*t).rem_euclid(DAY) / HOUR))),
        "summer time too"
    );
    // What the parent changes, the child has too, unless it owns it.
    let cost = ComposeRequest {
        name: "NOKSEK".into(),
        own: own(&[("commission", "7"), ("spread", "30")]),
        ..ComposeRequest::default()
    };
    compose(&mut shelf, &cost, &Job::unwatched()).unwrap();
    let child = shelf.instrument("NOKSEK.day").unwrap();
    assert_eq!((child.values["commission"].as_str(), child.values["spread"].as_str()), ("7", "18"));
    let itself = ComposeRequest {
        name: "NOKSEK".into(),
        from: Some(name("NOKSEK@quill:1m")),
        ..ComposeRequest::default()
    };
    assert!(
        compose(&mut shelf, &itself, &Job::unwatched()).err().unwrap().to_string().contains("from itself")
    );
    let moved = ComposeRequest {
        name: "LATE".into(),
        like: Some("NOKSEK".into()),
        from: Some(name("NOKSEK@quill:1m")),
        variation: Variation::moved(-30 * DAY),
        ..ComposeRequest::default()
    };
    let late = compose(&mut shelf, &moved, &Job::unwatched()).unwrap();
    // Sunday 21:00 in summer falls on a Friday, in the last hour of a winter week.
    assert_eq!(wall(late.series.unwrap().edition.first), "2024-02-23 21:00");
}

#[test]
fn crossed_and_repeated_ticks_are_found_and_mended_and_twins_are_not() {
    let (_dir, mut shelf) = desk();
    let mut rows = ticks(span("2024-03-03", "2024-03-09"), 8);
    let clean = rows.len();
    rows.data[1][500] = rows.data[0][500] - 3;
    let repeat = rows.rows(900..905);
    rows.append(&repeat);
    let mut twin = rows.rows(1000..1001);
    twin.data[2][0] += 1;
    rows.append(&twin);
    rows.sort();
    put(&mut shelf, "NOKSEK@quill:ticks", &rows, Some("UTC"));
    let series = name("NOKSEK@quill:ticks");
    let (_, report) = check_series(&shelf, &series, Span::ALL, &Job::unwatched()).unwrap();
    let counts = [
        FindingKind::Crossed,
        FindingKind::DuplicateTime,
        FindingKind::ConflictingTime,
        FindingKind::Missing,
        FindingKind::Spike,
    ]
    .map(|k| report.count(k).1);
    assert_eq!(counts, [1, 0, 0, 0, 0], "equal ticks are trades: {:?}", report.findings);
    let spread = report.spread.unwrap();
    assert!((8..20).contains(&spread.median) && spread.max == 19);
    mend_series(&mut shelf, &series, &[Mend::Kind(FindingKind::Crossed)], Span::ALL, &Job::unwatched())
        .unwrap();
    assert_eq!(shelf.find(&series).unwrap().edition.rows as usize, clean + 6 - 1);
    let mut mend = |mend| mend_series(&mut shelf, &series, &[mend], Span::ALL, &Job::unwatched());
    assert_eq!(mend(Mend::Kind(FindingKind::Crossed)).unwrap(), [(Mend::Kind(FindingKind::Crossed), 0)]);
    assert_eq!(mend(Mend::Safe).unwrap(), []);
    assert!(mend(Mend::Kind(FindingKind::DuplicateTime)).unwrap_err().to_string().contains("two trades"));
    assert_eq!(shelf.find(&series).unwrap().edition.number, 2, "no edition for nothing");
}

#[test]
fn afloat_series_are_judged_by_their_rows_only() {
    let (_dir, mut shelf) = desk();
    let mut rows = minutes_of(&ticks(span("2024-03-03", "2024-03-16"), 9));
    rows.data[1][100] = rows.data[2][100] - 5;
    put(&mut shelf, "NOKSEK@tarn:1m", &written_in(&rows, &"UTC+9".parse().unwrap()), None);
    let (_, report) = check_series(&shelf, &name("NOKSEK@tarn:1m"), Span::ALL, &Job::unwatched()).unwrap();
    let kinds: Vec<FindingKind> = report.findings.iter().map(|f| f.kind).collect();
    assert_eq!(kinds, [FindingKind::BadOhlc, FindingKind::StubDay]);
    let some = span("2024-03-05", "2024-03-06");
    let (_, part) = check_series(&shelf, &name("NOKSEK@tarn:1m"), some, &Job::unwatched()).unwrap();
    assert_eq!(part.rows, 1440);
}

#[test]
fn what_a_whole_check_found_is_known_until_rows_or_hours_change() {
    let (dir, mut shelf) = desk();
    let mut rows = minutes_of(&ticks(span("2024-03-03", "2024-03-16"), 9));
    let series = name("NOKSEK@quill:1m");
    put(&mut shelf, "NOKSEK@quill:1m", &rows, Some("UTC"));
    let known =
        |shelf: &Shelf| known_checks(shelf).unwrap().get(&shelf.find(&series).unwrap().edition.id).copied();
    assert_eq!(known(&shelf), None);
    let job = Job::unwatched();
    check_series(&shelf, &series, span("2024-03-05", "2024-03-06"), &job).unwrap();
    assert_eq!(known(&shelf), None, "a part says nothing of the whole");
    let (_, report) = check_series(&shelf, &series, Span::ALL, &job).unwrap();
    let mark = report.mark();
    // Another process that opens the shelf knows it, and a shelf that sees no such table knows nothing.
    assert_eq!(known(&Shelf::open(dir.path()).unwrap()), Some(mark));
    // Other hours: what was missing or closed is another thing.
    let own = BTreeMap::from([("hours".to_owned(), "mon-fri 08:00-17:00 Europe/Oslo".to_owned())]);
    let request = ComposeRequest { name: "NOKSEK".into(), own, ..ComposeRequest::default() };
    compose(&mut shelf, &request, &Job::unwatched()).unwrap();
    assert_eq!(known(&shelf), None);
    check_series(&shelf, &series, Span::ALL, &job).unwrap();
    let closed = known(&shelf).expect("kept for the new hours");
    assert!(closed != mark && (closed.points < mark.points || closed.has_safe_mends), "{closed:?} {mark:?}");
    // Other rows: another edition.
    rows.data[1][100] = rows.data[2][100] - 5;
    put(&mut shelf, "NOKSEK@quill:1m", &rows, Some("UTC"));
    assert_eq!(known(&shelf), None);
    shelf.undo(&series).unwrap();
    assert_eq!(known(&shelf), Some(closed), "an edition that is stepped back to is still known");
}

#[test]
fn a_reader_goes_on_while_a_writer_steps_back() {
    let (dir, mut shelf) = desk();
    let rows = minutes_of(&ticks(span("2024-03-03", "2024-03-16"), 10));
    put(&mut shelf, "NOKSEK@quill:1m", &rows.rows(0..5000), Some("UTC"));
    put(&mut shelf, "NOKSEK@quill:1m", &rows, Some("UTC"));
    let reader = Shelf::open(dir.path()).unwrap();
    let info = reader.find(&name("NOKSEK@quill:1m")).unwrap();
    let scan = reader.scan(&info.edition, Span::ALL, None).unwrap();
    // The edition that is being read moves to the past before its first file is opened.
    shelf.undo(&info.name).unwrap();
    let read: usize = scan.map(|piece| piece.unwrap().len()).sum();
    assert_eq!(read, rows.len());
    assert_eq!(reader.find(&info.name).unwrap().edition.rows, 5000);
}

#[test]
fn columns_are_read_alone_and_by_row_group() {
    let (_dir, mut shelf) = desk();
    let rows = ticks(span("2024-01-07", "2024-03-02"), 11);
    assert!(rows.len() > 140_000, "more than one row group in a month");
    put(&mut shelf, "NOKSEK@quill:ticks", &rows, Some("UTC"));
    let info = shelf.find(&name("NOKSEK@quill:ticks")).unwrap();
    let mut asks = Vec::new();
    for piece in shelf.scan(&info.edition, Span::ALL, Some(&[Field::Ask])).unwrap() {
        let piece = piece.unwrap();
        assert_eq!(piece.fields, [Field::Ask]);
        asks.extend_from_slice(piece.column(Field::Ask));
    }
    assert!(asks == rows.column(Field::Ask));
    let day = span("2024-02-14", "2024-02-15");
    let found = shelf.read(&info.edition, day).unwrap();
    assert!(found == rows.rows(rows.range_of(day)) && !found.is_empty());
}

#[test]
fn orders_of_a_file_fill_at_the_first_quote_and_mistakes_are_placed() {
    let (_dir, mut shelf) = desk();
    let rows = ticks(span("2024-03-05", "2024-03-06"), 12);
    put(&mut shelf, "NOKSEK@quill:ticks", &rows, Some("UTC"));
    let info = shelf.find(&name("NOKSEK@quill:ticks")).unwrap();
    let sheet = shelf.instrument("NOKSEK").unwrap().sheet;
    let spreads = SpreadRule::of(&shelf, &info, None, &sheet, None).unwrap();
    let source = ShelfRows::prices_only(shelf.reader(&info.edition).unwrap(), Span::ALL);
    let tape =
        Tape::new(Box::new(source), BarEnds::new(Frame::Ticks, &Session::always()), spreads, Span::ALL)
            .unwrap();
    let (decimals, patience) = (rows.scale.price, tape.patience());
    let traded = Traded { name: "NOKSEK".into(), sheet, decimals, rate: RateRule::Same, patience };
    let mut replay = Replay::new(vec![tape], vec![traded], DeskRules::default()).unwrap();
    let order = |time: &str, direction| (parse(time).unwrap(), Ticket::market(0, direction, LOT * 3 / 2));
    let orders = [
        order("2024-03-05 10:00", Direction::Buy),
        order("2024-03-05 11:00", Direction::Sell),
        order("2024-03-07 10:00", Direction::Buy),
    ];
    let done = run_orders(&mut replay, &orders, i64::MAX, &Job::unwatched()).unwrap();
    let at = |time: &str| rows.time.partition_point(|t| *t < parse(time).unwrap());
    let (buy, sell) = (at("2024-03-05 10:00"), at("2024-03-05 11:00"));
    let deals: Vec<_> = replay.desk().deals().collect();
    assert_eq!((deals[0].time, deals[0].price), (rows.time[buy], rows.column(Field::Ask)[buy]));
    assert_eq!((deals[1].time, deals[1].price), (rows.time[sell], rows.column(Field::Bid)[sell]));
    assert_eq!((done.unfilled(), replay.desk().account().position(0)), (1, 0));
    assert_eq!(done.quotes, rows.len() as u64);
    let points = deals[1].price - deals[0].price;
    assert_eq!(replay.desk().account().realised().to_string().parse::<f64>().unwrap(), points as f64 * 1.5);
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("orders.csv");
    for (text, told) in [
        ("time,side,lots\n2024-03-05T10:00Z,hold,1\n", "line 2: the side must be"),
        ("time,side,lots\n2024-03-05T10:00Z,buy,1\nsoon,buy,1\n", "line 3: the time must be"),
        ("time,side,lots\n2024-03-05T10:00Z,buy,0\n", "line 2: the lots must be"),
        ("time,side,lots\n2024-03-05T10:00Z,buy\n", "line 2: it has 2 cells"),
    ] {
        std::fs::write(&file, text).unwrap();
        let err = read_orders(&file).unwrap_err().to_string();
        assert!(err.contains(told), "{err}");
    }
    std::fs::write(&file, "time,side,lots\n2024-03-05 11:00, sell ,1.5\n2024-03-05T10:00Z,buy,0.01\n")
        .unwrap();
    let sizes = read_orders(&file).unwrap().into_iter().map(|o| o.size).collect::<Vec<_>>();
    assert_eq!(sizes, [Size::Lots(LOT / 100), Size::Lots(LOT * 3 / 2)]);
    let all = "time,instrument,side,type,lots,price,stop,target,until\n\
        2024-03-05T10:00Z,NOKSEK,buy,stop-limit,1%,1.02500/1.02520,50pt,1.03,day\n\
        2024-03-05T10:01Z,NOKSEK,sell,trailing,0.1,40pt,trail 30pt,,2024-03-05T12:00Z\n";
    std::fs::write(&file, all).unwrap();
    let tickets: Vec<Ticket> = read_orders(&file).unwrap().iter().map(|o| o.ticket(0, 5).unwrap()).collect();
    assert_eq!(tickets[0].kind, OrderKind::StopLimit { stop: 102_500, limit: 102_520 });
    assert_eq!((tickets[0].stop, tickets[0].target), (Some(Exit::Away(50)), Some(Exit::At(103_000))));
    assert_eq!((tickets[0].until, tickets[0].size), (Until::Day, Size::Risk(1.into())));
    assert_eq!((tickets[1].kind, tickets[1].stop), (OrderKind::Trailing(40), Some(Exit::Trail(30))));
    assert_eq!(tickets[1].until, Until::Time(parse("2024-03-05 12:00").unwrap()));
    let too_fine = read_orders(&file).unwrap()[0].ticket(0, 3).unwrap_err().to_string();
    assert!(too_fine.contains("line 2: the price 1.02520 has more decimals than the 3"), "{too_fine}");
    for (line, told) in [
        ("NOKSEK,buy,limit,1,,,,", "an order of type limit needs a price"),
        ("NOKSEK,buy,,1,1.02,,,", "an order with a price needs a type"),
        ("NOKSEK,buy,market,1,1.02,,,", "a market order has no price"),
        ("NOKSEK,buy,fill,1,,,,", "'fill' is not a type of order"),
        ("NOKSEK,buy,stop-limit,1,1.02,,,", "needs two prices"),
        ("NOKSEK,buy,trailing,1,1.02,,,", "needs a distance"),
        ("NOKSEK,buy,,101%,,,,", "the risk must be"),
        ("NOKSEK,buy,,1,,-5pt,,", "the stop '-5pt' must be a price"),
        ("NOKSEK,buy,,1,,,,later", "until must be day"),
    ] {
        std::fs::write(&file, format!("{}\n2024-03-05T10:00Z,{line}\n", all.lines().next().unwrap()))
            .unwrap();
        let err = read_orders(&file).unwrap_err().to_string();
        assert!(err.contains(told) && err.contains("line 2"), "{err}");
    }
}
