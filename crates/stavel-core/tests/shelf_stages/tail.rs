//! Frames whose source has changed are what they would be if they were built for the first time.

use stavel_core::frames::{BuiltSeries, FrameSettings, build_series};
use stavel_core::job::Job;
use stavel_core::model::time::parse;
use stavel_core::model::{Columns, Field, Frame, Made, Side};
use stavel_core::store::Shelf;

use super::desk::{desk, name, put, read, span, ticks};

const FRAMES: [&str; 7] = ["1m", "1h", "1d", "1w", "1mo", "70t", "25r"];

fn frames() -> Vec<Frame> {
    FRAMES.iter().map(|f| f.parse().unwrap()).collect()
}

fn build(shelf: &mut Shelf) -> Vec<BuiltSeries> {
    let source = name("NOKSEK@quill:ticks");
    build_series(shelf, &source, &frames(), &FrameSettings::default(), &Job::unwatched()).unwrap()
}

/// Builds of `before`, then of `after`, and asks for the same as of `after` alone.
fn follows(what: &str, before: &Columns, after: &Columns) -> Vec<BuiltSeries> {
    let (_here, mut shelf) = desk();
    shelf.ensure_instrument("NOKSEK").unwrap();
    put(&mut shelf, "NOKSEK@quill:ticks", before, Some("UTC"));
    build(&mut shelf);
    put(&mut shelf, "NOKSEK@quill:ticks", after, Some("UTC"));
    let followed = build(&mut shelf);
    let (_there, mut fresh) = desk();
    fresh.ensure_instrument("NOKSEK").unwrap();
    put(&mut fresh, "NOKSEK@quill:ticks", after, Some("UTC"));
    let built = build(&mut fresh);
    for (a, b) in followed.iter().zip(&built) {
        let series = a.info.name.to_string();
        assert_eq!(read(&shelf, &series), read(&fresh, &series), "{what} {series}");
        let told = |s: &BuiltSeries| (s.partial_first, s.partial_last, s.on_closed_days, s.info.edition.rows);
        assert_eq!(told(a), told(b), "{what} {series}");
    }
    followed
}

#[test]
fn frames_follow_a_source_that_grew_shrank_changed_or_began_earlier() {
    let whole = ticks(span("2023-12-04 05:00", "2024-02-13 11:30"), 5);
    let part = |from: &str, to: &str| {
        let (from, to) = (parse(from).unwrap(), parse(to).unwrap());
        whole.rows(whole.range_of(stavel_core::model::Span::new(from, to)))
    };
    let most = part("2023-12-04", "2024-02-08 13:17:30");
    let grown = follows("grown", &most, &whole);
    follows("grown by a week's end", &part("2023-12-04", "2024-02-02 22:00"), &whole);
    follows("shrunk", &whole, &part("2023-12-04", "2024-01-16 09:00:10"));
    follows("begun earlier", &part("2023-12-18 10:00", "2024-02-13 11:30"), &whole);
    follows("as it was", &whole, &whole);
    let mut changed = whole.clone();
    let at = changed.time.partition_point(|t| *t < parse("2024-01-10 12:00").unwrap());
    changed.column_mut(Field::Bid).unwrap()[at] += 400;
    follows("one tick changed", &whole, &changed);
    let mut holed = whole.clone();
    holed.retain(|i| !(at..at + 9_000).contains(&i));
    follows("a hole", &whole, &holed);
    follows("a hole filled", &holed, &whole);
    assert!(grown.iter().all(|s| matches!(s.info.edition.provenance.made, Made::Frames(_))));
}

#[test]
fn what_stands_is_taken_over_unread_and_other_settings_build_anew() {
    let (_dir, mut shelf) = desk();
    shelf.ensure_instrument("NOKSEK").unwrap();
    let whole = ticks(span("2023-12-04 05:00", "2024-02-13 11:30"), 5);
    let less = whole.rows(0..whole.len() - 20_000);
    put(&mut shelf, "NOKSEK@quill:ticks", &less, Some("UTC"));
    let files = |shelf: &Shelf| {
        let info = shelf.find(&name("NOKSEK@quill:1m")).unwrap();
        let files = shelf.segments(&info.edition).unwrap();
        files.iter().map(|f| (f.id, f.first)).collect::<Vec<_>>()
    };
    build(&mut shelf);
    let before = files(&shelf);
    put(&mut shelf, "NOKSEK@quill:ticks", &whole, Some("UTC"));
    build(&mut shelf);
    let after = files(&shelf);
    assert_eq!(before[0], after[0], "the year before is the same file");
    assert_ne!(before.last(), after.last());
    // On another clock nothing stands.
    let source = name("NOKSEK@quill:ticks");
    let oslo = "Europe/Oslo".parse().unwrap();
    let settings =
        FrameSettings { clock: Some(&oslo), sides: &[Side::Bid, Side::Ask], ..FrameSettings::default() };
    build_series(&mut shelf, &source, &frames(), &settings, &Job::unwatched()).unwrap();
    assert!(files(&shelf).iter().all(|f| !after.contains(f)));
}
