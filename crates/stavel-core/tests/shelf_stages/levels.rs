//! Levels: what pictures of years are drawn from says what the rows say.

use stavel_core::bars::Builder;
use stavel_core::model::{OwnValues, Session};
use stavel_core::store::{LEVELS, Levels, Origin, SeriesInfo};

use super::*;

const TICKS: &str = "NOKSEK@quill:ticks";

fn levels_of(shelf: &Shelf) -> (SeriesInfo, Levels) {
    let info = shelf.find(&name(TICKS)).unwrap();
    let levels = shelf.levels(&info).unwrap();
    (info, levels)
}

fn session_of(shelf: &Shelf) -> Session {
    shelf.instrument("NOKSEK").unwrap().sheet.session
}

fn set(shelf: &mut Shelf, values: &[(&str, &str)]) {
    let said = values.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect();
    shelf.put_instrument("NOKSEK", &OwnValues { said, ..OwnValues::default() }).unwrap();
}

/// Adds rows behind those that are there, into files of their own.
fn append(shelf: &mut Shelf, rows: &Columns) {
    let edition = shelf.find(&name(TICKS)).unwrap().edition;
    let origin = Origin {
        provenance: edition.provenance,
        clock: edition.clock,
        fields: edition.fields,
        scale: edition.scale,
    };
    let mut draft = shelf.draft(&name(TICKS), origin).unwrap();
    draft.keep_files(|_, _| true).unwrap();
    draft.push(rows.clone()).unwrap();
    draft.commit().unwrap();
}

/// Bars of a frame out of the level that is read fastest, which is given too.
fn by_levels(shelf: &Shelf, frame: Frame, span: Span) -> Option<(Frame, Columns)> {
    let (_, levels) = levels_of(shelf);
    let session = session_of(shelf);
    let level = levels.best_for(frame, &session, span)?;
    let rows = levels.bars(level, span, &Job::unwatched()).unwrap();
    let mut builder = Builder::new(level, frame, Side::Bid, &rows.fields, rows.scale, &session).unwrap();
    builder.push(&rows);
    Some((level, builder.finish().bars))
}

/// Those out of the rows themselves.
fn by_rows(shelf: &Shelf, frame: Frame, span: Span) -> Columns {
    let making = FrameSettings { span, ..FrameSettings::default() };
    build_bars(shelf, &shelf.find(&name(TICKS)).unwrap(), frame, &making, &Job::unwatched()).unwrap().bars
}

/// Both say the same; a mean spread out of means that were rounded may differ by one point.
fn assert_alike(shelf: &Shelf, frame: Frame, span: Span) -> Frame {
    let (level, bars) = by_levels(shelf, frame, span).unwrap();
    // The first bar of a level is whole; nothing behind the span is in the last.
    let length = level.length();
    let plain = by_rows(shelf, frame, Span::new(span.from.div_euclid(length) * length, span.to));
    assert_eq!(bars.time, plain.time, "{frame}");
    for field in [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume] {
        assert_eq!(bars.column(field), plain.column(field), "{field:?} of {frame} by {level}");
    }
    let spreads = bars.column(Field::Spread).iter().zip(plain.column(Field::Spread));
    assert!(spreads.clone().all(|(a, b)| (a - b).abs() <= 1), "spreads of {frame}");
    level
}

#[test]
fn longer_bars_of_levels_are_those_of_the_rows_in_every_frame_and_session() {
    let (_dir, mut shelf) = desk();
    let rows = ticks_each(3_000_000, span("2024-03-03", "2024-04-14"), 3);
    put(&mut shelf, TICKS, &rows, Some("UTC"));
    let (info, levels) = levels_of(&shelf);
    assert!(levels.bytes() > 0 && levels.bytes() * 20 <= info.edition.bytes, "{} bytes", levels.bytes());
    let whole = Span::new(info.edition.first, info.edition.last + 1);
    for frame in ["30m", "1h", "4h", "1d", "1w", "1mo"] {
        assert_alike(&shelf, frame.parse().unwrap(), whole);
    }
    // A window that begins and ends anywhere has whole bars of the level.
    let part = span("2024-03-05 13:11", "2024-04-11 09:52");
    assert_alike(&shelf, "4h".parse().unwrap(), part);
    for (hours, clock) in [
        ("mon-fri 09:30-16:15 America/New_York", "America/New_York"),
        ("sun 17:00 - fri 17:00 America/New_York", "Asia/Kolkata"),
        ("mon-sun 00:00-24:00 UTC", "Australia/Lord_Howe"),
    ] {
        set(&mut shelf, &[("hours", hours), ("clock", clock), ("settlement", "14:45 UTC")]);
        for frame in ["4h", "1d", "1w"] {
            let level = assert_alike(&shelf, frame.parse().unwrap(), whole);
            assert!(level.length() <= 15 * 60_000_000, "{level} for {hours} by {clock}");
        }
    }
    set(&mut shelf, &[("hours", "sun 17:02 - fri 17:00 America/New_York"), ("clock", "UTC")]);
    let session = session_of(&shelf);
    assert_eq!(levels.best_for(Frame::D1, &session, whole), None, "no level has bars that begin at 17:02");
}

#[test]
fn files_that_meet_within_a_bar_have_it_together_and_levels_come_back_where_they_are_lost() {
    let (dir, mut shelf) = desk();
    let rows = ticks(span("2024-03-03", "2024-03-30"), 5);
    let cut = rows.time.partition_point(|t| *t < parse("2024-03-14 10:07").unwrap());
    let origin = |shelf: &Shelf| shelf.find(&name(TICKS)).unwrap();
    put(&mut shelf, TICKS, &rows.rows(0..cut), Some("UTC"));
    let first = origin(&shelf);
    append(&mut shelf, &rows.rows(cut..rows.len()));
    let (info, _) = levels_of(&shelf);
    let whole = Span::new(info.edition.first, info.edition.last + 1);
    let hour: Frame = "4h".parse().unwrap();
    assert!(shelf.segments(&info.edition).unwrap().len() > 1);
    assert_alike(&shelf, hour, whole);
    let (_, before) = by_levels(&shelf, hour, whole).unwrap();

    // Without its folder the rows are read; then levels are made anew, byte for byte what they were.
    let folder = dir.path().join(LEVELS);
    let bytes = |folder: &std::path::Path| -> BTreeMap<String, Vec<u8>> {
        let files = std::fs::read_dir(folder).unwrap().map(|file| file.unwrap().path());
        files.map(|f| (f.file_name().unwrap().to_string_lossy().into(), std::fs::read(f).unwrap())).collect()
    };
    let written = bytes(&folder);
    std::fs::remove_dir_all(&folder).unwrap();
    assert!(by_levels(&shelf, hour, whole).is_none(), "nothing is kept, so rows are as fast");
    levels_of(&shelf).1.make_missing(&Job::unwatched()).unwrap();
    let again = bytes(&folder);
    assert_eq!(again, written);
    // One that is cut counts as none.
    for name in again.keys() {
        std::fs::write(folder.join(name), b"PAR1").unwrap();
    }
    assert_eq!(by_levels(&shelf, hour, whole).unwrap().1, before);

    // What is undone and tidied away takes its levels along, and nothing else is touched.
    std::fs::write(folder.join("mine.txt"), "mine").unwrap();
    shelf.undo(&name(TICKS)).unwrap();
    assert_eq!(shelf.find(&name(TICKS)).unwrap().edition.id, first.edition.id);
    shelf.tidy(None, &Job::unwatched()).unwrap();
    let left = bytes(&folder);
    assert!(left.contains_key("mine.txt") && left.len() < again.len() + 1, "{:?}", left.keys());
}
