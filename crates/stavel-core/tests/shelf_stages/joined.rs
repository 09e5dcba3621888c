//! Joined series: framed on the way, in layers, and joined again when a source has changed.

use stavel_core::check::check_series;
use stavel_core::deliver::{DeliveryOrder, FileFormat, deliver};
use stavel_core::frames::{FrameSettings, build_bars};
use stavel_core::job::Job;
use stavel_core::model::time::{MINUTE, parse};
use stavel_core::model::{ABSENT, Columns, Field, Frame, SeriesName, Session, Side, Span};
use stavel_core::rehearse::{BarEnds, HeldRows, SpreadRule, Tape};
use stavel_core::splice::{Level, SpliceRule, SpliceWishes as Join, SplicedSeries, ask_of, splice_series};
use stavel_core::store::{Shelf, StaleBecause};

use crate::desk::*;

#[test]
fn ticks_beside_bars_are_framed_before_they_are_spliced() {
    let (_dir, mut shelf) = desk();
    let old = ticks(span("2024-03-03", "2024-03-16"), 3);
    let new = ticks(span("2024-03-11", "2024-03-16"), 4);
    put(&mut shelf, "NOKSEK@quill:1m", &minutes_of(&old), Some("UTC"));
    put(&mut shelf, "NOKSEK@tarn:ticks", &new, Some("UTC"));
    let sources = [name("NOKSEK@tarn:ticks"), name("NOKSEK@quill:1m")];
    let made = splice_series(&mut shelf, &sources, "joined", &Join::by(SpliceRule::Span), &Job::unwatched())
        .unwrap();
    assert_eq!(made.info.name, name("NOKSEK@joined:1m"));
    let (a, b) = (minutes_of(&new), minutes_of(&old));
    let cut = b.time.partition_point(|t| *t < a.time[0]);
    let joined = read(&shelf, "NOKSEK@joined:1m");
    let origin = joined.column(Field::Origin);
    assert!(origin[..cut].iter().all(|o| *o == 2) && origin[cut..cut + a.len()].iter().all(|o| *o == 1));
    let joined = joined.with_fields(&b.fields);
    assert!(joined.rows(0..cut) == b.rows(0..cut));
    assert!(joined.rows(cut..cut + a.len()) == a);
    assert_eq!(made.spliced.pieces.iter().map(|p| p.rows).sum::<u64>(), made.info.edition.rows);
    let one = name("NOKSEK@joined:1m");
    let err = splice_series(
        &mut shelf,
        &[one.clone(), sources[1].clone()],
        "joined",
        &Join::by(SpliceRule::Span),
        &Job::unwatched(),
    );
    assert!(err.err().unwrap().to_string().contains("may not overwrite"));
    put(&mut shelf, "NZDSEK@quill:1m", &b, Some("UTC"));
    let other = [one, name("NZDSEK@quill:1m")];
    let err = splice_series(&mut shelf, &other, "both", &Join::by(SpliceRule::Span), &Job::unwatched())
        .err()
        .unwrap();
    assert!(err.to_string().contains("different instruments"), "{err}");
}

#[test]
fn layers_give_the_frames_of_ticks_and_of_minutes_and_play() {
    let (_dir, mut shelf) = desk();
    let old = ticks(span("2024-03-03", "2024-03-16"), 3);
    let new = ticks(span("2024-03-11 10:30:20", "2024-03-14 07:12:40"), 4);
    put(&mut shelf, "NOKSEK@quill:1m", &minutes_of(&old), Some("UTC"));
    put(&mut shelf, "NOKSEK@tarn:ticks", &new, Some("UTC"));
    let sources = [name("NOKSEK@tarn:ticks"), name("NOKSEK@quill:1m")];
    let ask = Join { layered: true, ..Join::by(SpliceRule::Span) };
    let made = splice_series(&mut shelf, &sources, "layers", &ask, &Job::unwatched()).unwrap();
    let layers = name("NOKSEK@layers:ticks");
    assert_eq!(made.info.name, layers);

    // Minutes that the ticks cut are theirs.
    let (ours, theirs) = (minutes_of(&new), minutes_of(&old));
    let cut = theirs.time.partition_point(|t| *t < ours.time[0]);
    let on = theirs.time.partition_point(|t| *t <= *ours.time.last().unwrap());
    let mut expected = theirs.rows(0..cut);
    expected.append(&ours);
    expected.append(&theirs.rows(on..theirs.len()));
    let info = shelf.find(&layers).unwrap();
    let build = |frame: &str, side| {
        build_bars(
            &shelf,
            &info,
            frame.parse().unwrap(),
            &FrameSettings { sides: &[side], ..FrameSettings::default() },
            &Job::unwatched(),
        )
        .unwrap()
        .bars
    };
    let minutes = build("1m", Side::Bid);
    let origin = minutes.column(Field::Origin);
    assert!(origin[..cut].iter().all(|o| *o == 2) && origin[cut] == 1, "each bar knows its source");
    assert!(minutes.with_fields(&expected.fields) == expected);
    // An hour of bars shows the same as its minutes do.
    let (hours, asks) = (build("1h", Side::Bid), build("1m", Side::Ask));
    let volume = |rows: &Columns| rows.column(Field::Volume).iter().sum::<i64>();
    assert_eq!(volume(&hours), volume(&expected));
    let spread = expected.column(Field::Spread)[0];
    assert_eq!(asks.column(Field::Open)[0], expected.column(Field::Open)[0] + spread);

    // A minute plays as its open and close, a tick as itself.
    let rows = shelf.read(&info.edition, Span::ALL).unwrap();
    let minutes = rows.column(Field::Covers).iter().filter(|c| **c == MINUTE).count();
    assert_eq!(minutes + new.len(), rows.len());
    let info = shelf.find(&layers).unwrap();
    let sheet = shelf.instrument("NOKSEK").unwrap().sheet;
    let spreads = SpreadRule::of(&shelf, &info, None, &sheet, None).unwrap();
    let mut tape = Tape::new(
        Box::new(HeldRows(rows)),
        BarEnds::new(Frame::Ticks, &Session::always()),
        spreads,
        Span::ALL,
    )
    .unwrap();
    let (mut quotes, mut last) = (0, 0);
    while let Some(quote) = tape.next() {
        assert!(last <= quote.time && quote.ask > quote.bid);
        (quotes, last) = (quotes + 1, quote.time);
        tape.pass(1).unwrap();
    }
    assert_eq!(quotes, 2 * minutes + new.len());

    let err = check_series(&shelf, &layers, Span::ALL, &Job::unwatched()).err().unwrap();
    assert!(err.to_string().contains("build frames"), "{err}");
    let out = tempfile::tempdir().unwrap();
    let mut order = DeliveryOrder::of(layers, FileFormat::Csv);
    let err = deliver(&shelf, &order, out.path(), &Job::unwatched()).err().unwrap();
    assert!(err.to_string().contains("layers"), "{err}");
    order.format = FileFormat::Parquet;
    assert!(deliver(&shelf, &order, out.path(), &Job::unwatched()).unwrap()[0].proved);
    let bars_only = [name("NOKSEK@quill:1m"), name("NOKSEK@tarn:1m")];
    put(&mut shelf, "NOKSEK@tarn:1m", &ours, Some("UTC"));
    let err = splice_series(&mut shelf, &bars_only, "layers", &ask, &Job::unwatched()).err().unwrap();
    assert!(err.to_string().contains("Layers are ticks and minutes"), "{err}");
}

/// Some minutes of each of three years.
fn years(seed: u64) -> Columns {
    let mut rows = minutes_of(&ticks(span("2022-03-07", "2022-03-09"), seed));
    for part in [span("2023-03-06", "2023-03-08"), span("2024-03-04", "2024-03-06")] {
        rows.append(&minutes_of(&ticks(part, seed)));
    }
    rows
}

fn join(shelf: &mut Shelf, into: &str, ask: &Join) -> SplicedSeries {
    let sources = [name("NOKSEK@tarn:1m"), name("NOKSEK@quill:1m")];
    splice_series(shelf, &sources, into, ask, &Job::unwatched()).unwrap()
}

/// Joins again and beside it from nothing: both hold the same.
fn join_again(shelf: &mut Shelf, fresh: &str, ask: &Join) -> SplicedSeries {
    let again = join(shelf, "joined", ask);
    let anew = join(shelf, fresh, ask);
    assert_eq!(anew.kept, 0);
    assert!(read(shelf, "NOKSEK@joined:1m") == read(shelf, &format!("NOKSEK@{fresh}:1m")));
    assert_eq!(again.spliced.pieces, anew.spliced.pieces);
    assert_eq!(again.spliced.seams, anew.spliced.seams);
    assert_eq!(again.spliced.rows, again.info.edition.rows);
    again
}

#[test]
fn what_is_the_same_still_is_kept_when_a_source_has_changed() {
    let (_dir, mut shelf) = desk();
    let vendor = years(1);
    let broker = years(2);
    let from = broker.time.partition_point(|t| *t < span("2023-03-07", "2024-01-01").from);
    let of_year = |year: &str| vendor.time.partition_point(|t| *t < span(year, "2030-01-01").from) as u64;
    put(&mut shelf, "NOKSEK@quill:1m", &vendor, Some("UTC"));
    put(&mut shelf, "NOKSEK@tarn:1m", &broker.rows(from..broker.len() - 900), Some("UTC"));
    let ask = Join::by(SpliceRule::Span);
    let first = join(&mut shelf, "joined", &ask);
    assert_eq!((first.kept, first.is_unchanged), (0, false));
    let same = join(&mut shelf, "joined", &ask);
    assert!(same.is_unchanged && same.info.edition.id == first.info.edition.id);

    // The broker brings more: the years before stay.
    put(&mut shelf, "NOKSEK@tarn:1m", &broker.rows(from..broker.len() - 10), Some("UTC"));
    let joined = shelf.find(&name("NOKSEK@joined:1m")).unwrap();
    assert_eq!(
        shelf.staleness(&joined.edition).unwrap(),
        [StaleBecause::Source { series: name("NOKSEK@tarn:1m"), is_there: true, is_of_many: false }]
    );
    assert_eq!(ask_of(&joined).unwrap().1, ask);
    let again = join_again(&mut shelf, "anew1", &ask);
    assert_eq!(again.kept, of_year("2024-01-01"));
    assert_eq!(again.rebuilt_from, Some(vendor.time[of_year("2024-01-01") as usize]));
    assert!(shelf.staleness(&again.info.edition).unwrap().is_empty());

    // A value of the vendor changes in the year that the broker enters.
    let mut mended = vendor.clone();
    let row = of_year("2023-01-01") as usize + 7;
    mended.data[3][row] += 1;
    put(&mut shelf, "NOKSEK@quill:1m", &mended, Some("UTC"));
    assert_eq!(join_again(&mut shelf, "anew2", &ask).kept, of_year("2023-01-01"));

    // Where the broker begins a day earlier, the vendor's rows of that day go, though they did not change.
    let earlier = broker.time.partition_point(|t| *t < span("2023-03-06 12:00", "2024-01-01").from);
    put(&mut shelf, "NOKSEK@tarn:1m", &broker.rows(earlier..broker.len() - 10), Some("UTC"));
    assert_eq!(join_again(&mut shelf, "anew3", &ask).kept, of_year("2023-01-01"));

    // Another rule, or a level that moves all: nothing can stay.
    assert_eq!(join_again(&mut shelf, "anew4", &Join::by(SpliceRule::Holes)).kept, 0);
    let shifted = Join { level: Level::Shift, ..Join::by(SpliceRule::Holes) };
    assert_eq!(join_again(&mut shelf, "anew5", &shifted).kept, 0);
    put(&mut shelf, "NOKSEK@tarn:1m", &broker.rows(earlier..broker.len() - 400), Some("UTC"));
    join_again(&mut shelf, "anew6", &Join { anew: true, ..shifted });
}

#[test]
fn only_a_joined_series_is_refreshed() {
    let (_dir, mut shelf) = desk();
    put(&mut shelf, "NOKSEK@quill:1m", &years(1), Some("UTC"));
    let series: SeriesName = name("NOKSEK@quill:1m");
    let err = ask_of(&shelf.find(&series).unwrap()).err().unwrap();
    assert!(err.to_string().contains("not by a splice"), "{err}");
}

#[test]
fn levels_and_spreads_stay_as_they_were_measured_unless_that_is_asked_for() {
    let (_dir, mut shelf) = desk();
    let (tarn, quill) = (name("NOKSEK@tarn:1m"), name("NOKSEK@quill:1m"));
    let all = minutes_of(&ticks(span("2024-02-04", "2024-03-02"), 4));
    // The broker's rows of the last two weeks; the vendor's lie 5 points above, later 9, and know no spread.
    let broker = all.rows(all.range_of(span("2024-02-18", "2024-03-02")));
    let vendor = |until: &str, late: i64| {
        let mut rows = all.rows(all.range_of(span("2024-02-04", until)));
        let from = rows.time.partition_point(|t| *t < parse("2024-02-24").unwrap());
        for (field, column) in rows.fields.clone().iter().zip(&mut rows.data) {
            match field {
                Field::Spread => column.fill(ABSENT),
                f if f.is_price() => {
                    column.iter_mut().enumerate().for_each(|(i, v)| *v += if i < from { 5 } else { late });
                }
                _ => {}
            }
        }
        rows
    };
    put(&mut shelf, "NOKSEK@tarn:1m", &broker, Some("UTC"));
    put(&mut shelf, "NOKSEK@quill:1m", &vendor("2024-02-24", 5), Some("UTC"));
    let ask = Join { level: Level::Shift, carry_spread: true, ..Join::by(SpliceRule::Span) };
    let series = [tarn, quill];
    let job = Job::unwatched();
    let first = splice_series(&mut shelf, &series, "joined", &ask, &job).unwrap();
    let before = read(&shelf, "NOKSEK@joined:1m");
    assert!(!first.keeps_older && first.gaps[0].as_ref().unwrap().median == 5);
    // Another week of the vendor moves the median to 9 points.
    put(&mut shelf, "NOKSEK@quill:1m", &vendor("2024-03-02", 9), Some("UTC"));
    let again = splice_series(&mut shelf, &series, "joined", &ask, &job).unwrap();
    assert_eq!((again.keeps_older, again.gaps[0].as_ref().unwrap().median), (true, 9));
    assert!(read(&shelf, "NOKSEK@joined:1m") == before, "no row of the past has changed");
    let anew = splice_series(&mut shelf, &series, "joined", &Join { anew: true, ..ask }, &job).unwrap();
    let after = read(&shelf, "NOKSEK@joined:1m");
    let open = |rows: &Columns| rows.column(Field::Open)[0];
    assert_eq!((anew.keeps_older, open(&before) - open(&after)), (false, 4));
}
