//! Whole intakes: files on a disk to editions on a shelf.

use std::io::Write;
use std::path::Path;

use stavel_core::Error;
use stavel_core::intake::{ClockHint, Hints, plan, take};
use stavel_core::job::Job;
use stavel_core::model::Stamp;
use stavel_core::model::time::{MINUTE, parse};
use stavel_core::model::{Clock, Field, Made, Side};

use crate::support::{Desk, minutes, quill};

#[test]
fn a_folder_and_a_zip_of_files_are_one_series() {
    let mut desk = Desk::new();
    desk.file("in/NOKSEK_1m_2023.csv", minutes("2023-12-31 23:00", 60, 1000));
    desk.file("in/NOKSEK_1m_2024.csv", minutes("2024-01-01 00:00", 60, 2000));
    desk.file("in/readme.md", "not a table");
    let taken = desk.take(&desk.dir.path().join("in"), quill()).unwrap();
    assert_eq!((taken.rows_kept, taken.series.as_str()), (120, "NOKSEK@quill:1m"));
    let path = desk.dir.path().join("more.zip");
    let mut zip = zip::ZipWriter::new(std::fs::File::create(&path).unwrap());
    for (name, text) in [
        ("a/NOKSEK_x.csv", minutes("2024-01-01 01:00", 30, 3000)),
        ("a/NOKSEK_y.csv", minutes("2024-01-01 01:30", 30, 4000)),
    ] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap();
    assert_eq!(desk.take(&path, quill()).unwrap().rows_kept, 60);
    let rows = desk.rows("NOKSEK@quill:1m");
    assert_eq!(rows.len(), 180);
    assert!(rows.time.windows(2).all(|w| w[1] - w[0] == MINUTE));
}

#[test]
fn adding_keeps_the_older_and_replacing_takes_the_newer() {
    let mut desk = Desk::new();
    let first = desk.file("NOKSEK_a.csv", minutes("2024-03-05 10:00", 10, 1000));
    let second = desk.file("NOKSEK_b.csv", minutes("2024-03-05 10:05", 10, 2000));
    desk.take(&first, quill()).unwrap();
    let added = desk.take(&second, quill()).unwrap();
    assert_eq!((added.rows_kept, added.rows_rejected, added.rows_already_there), (5, 5, 0));
    assert!(std::fs::read_to_string(added.rejects.unwrap()).unwrap().contains("with other values"));
    assert_eq!(desk.rows("NOKSEK@quill:1m").column(Field::Open)[5], 101_005);
    let replaced = desk.take(&second, Hints { replace: true, ..quill() }).unwrap();
    assert_eq!((replaced.rows_kept, replaced.edition), (10, 3));
    let rows = desk.rows("NOKSEK@quill:1m");
    assert_eq!((rows.len(), rows.column(Field::Open)[5]), (15, 102_000));
    desk.shelf.undo(&"NOKSEK@quill:1m".parse().unwrap()).unwrap();
    assert_eq!(desk.rows("NOKSEK@quill:1m").column(Field::Open)[5], 101_005);
}

#[test]
fn more_decimals_later_rescale_exactly() {
    let mut desk = Desk::new();
    // The finer price stands far behind the part that is looked at first.
    let mut text = minutes("2024-03-05 00:00", 3000, 1000);
    text.push_str("2024-03-08 10:00,1.1234567,1.2,1.1,1.15,2.25\n");
    let taken = desk.take(&desk.file("NOKSEK.csv", &text), quill()).unwrap();
    assert_eq!((taken.rows_kept, taken.rows_rejected), (3001, 0));
    let rows = desk.rows("NOKSEK@quill:1m");
    assert_eq!((rows.scale.price, rows.scale.volume), (7, 2));
    assert_eq!((rows.column(Field::Open)[0], rows.column(Field::Open)[3000]), (10_100_000, 11_234_567));
    let finer = desk.file("NOKSEK_2.csv", "Time (UTC),Open,High,Low,Close\n2024-03-09 10:00,1.123456789,1.2,1.1,1.15\n2024-03-09 10:01,1.1,1.2,1.1,1.15\n");
    desk.take(&finer, quill()).unwrap();
    let rows = desk.rows("NOKSEK@quill:1m");
    assert_eq!((rows.scale.price, rows.column(Field::Open)[0]), (9, 1_010_000_000));
}

#[test]
fn what_stood_out_of_order_is_stored_in_order_and_remembered() {
    let mut desk = Desk::new();
    let text = minutes("2024-03-05 10:00", 100, 1000);
    let mut lines: Vec<&str> = text.lines().collect();
    let late: Vec<&str> = lines.splice(11..21, []).collect();
    let at = 40;
    lines.splice(at..at, late);
    desk.take(&desk.file("NOKSEK.csv", &(lines.join("\r\n") + "\r\n")), quill()).unwrap();
    assert!(desk.rows("NOKSEK@quill:1m").is_sorted());
    let info = desk.shelf.find(&"NOKSEK@quill:1m".parse().unwrap()).unwrap();
    let Made::Intake(taken) = info.edition.provenance.made else { panic!("not taken in") };
    assert_eq!(taken.disorder.len(), 1);
    assert_eq!((taken.disorder[0].rows, taken.disorder[0].line), (10, 41));
}

#[test]
fn clocks_stamps_and_sides_are_as_said() {
    let mut desk = Desk::new();
    let text = minutes("2024-03-05 10:00", 10, 1000).replace(" (UTC)", "");
    let path = desk.file("NOKSEK.csv", &text);
    let oslo = ClockHint::Known("Europe/Oslo".parse().unwrap());
    desk.take(&path, Hints { clock: Some(oslo), stamp: Some(Stamp::Close), ..quill() }).unwrap();
    assert_eq!(desk.rows("NOKSEK@quill:1m").time[0], parse("2024-03-05 08:59").unwrap());
    // Without a word the series' own clock is taken for more of it.
    let more = desk.file("NOKSEK_more.csv", minutes("2024-03-05 12:00", 5, 1000).replace(" (UTC)", ""));
    assert_eq!(desk.take(&more, quill()).unwrap().clock, "Europe/Oslo");
    let tarn = Hints { source: "tarn".into(), ..Hints::default() };
    assert_eq!(desk.take(&path, tarn.clone()).unwrap().clock, "afloat");
    let utc = Some(ClockHint::Known(Clock::utc()));
    let err = desk.take(&path, Hints { clock: utc, ..tarn }).unwrap_err();
    assert!(err.to_string().contains("align the series first"), "{err}");
    let ask = Hints { side: Some(Side::Ask), clock: Some(ClockHint::Afloat), ..quill() };
    assert_eq!(desk.take(&path, ask).unwrap().series, "NOKSEK@quill:1m.ask");
}

#[test]
fn dates_are_decided_by_a_late_row_or_a_sibling_or_asked_for() {
    let desk = Desk::new();
    let ticks = |day: &str, rows: usize| format!("{day} 10:00:00.000,1.10000,1.10010\n").repeat(rows);
    let late = desk.file("a/NOKSEK.csv", &(ticks("05.03.2024", 4000) + &ticks("13.03.2024", 1)));
    let order = |path: &Path| {
        plan(&desk.shelf, &[path.to_owned()], &quill()).map(|p| p.plans[0].preview.rows.time[0])
    };
    assert_eq!(order(&late).unwrap(), parse("2024-03-05 10:00").unwrap());
    let open = desk.file("b/NOKSEK_1.csv", ticks("05.03.2024", 10));
    assert!(order(&open).unwrap_err().is_undecided());
    desk.file("b/NOKSEK_2.csv", ticks("25.03.2024", 10));
    assert_eq!(order(open.parent().unwrap()).unwrap(), parse("2024-03-05 10:00").unwrap());
}

#[test]
fn doubtful_wall_times_are_counted() {
    let mut desk = Desk::new();
    let text = minutes("2024-03-31 01:00", 180, 1000).replace(" (UTC)", "");
    let oslo = Some(ClockHint::Known("Europe/Oslo".parse().unwrap()));
    desk.take(&desk.file("NOKSEK.csv", &text), Hints { clock: oslo, ..quill() }).unwrap();
    let info = desk.shelf.find(&"NOKSEK@quill:1m".parse().unwrap()).unwrap();
    let Made::Intake(taken) = info.edition.provenance.made else { panic!("not taken in") };
    assert_eq!(taken.times_shown_twice + taken.times_never_shown, 60);
}

#[test]
fn stopping_leaves_the_shelf_as_it_was() {
    let mut desk = Desk::new();
    let path = desk.file("NOKSEK.csv", minutes("2024-03-05 10:00", 5000, 1000));
    let plans = plan(&desk.shelf, &[path], &quill()).unwrap();
    let job = Job::unwatched();
    job.stop();
    let err: Error = take(&mut desk.shelf, &plans.plans[0], &job).unwrap_err();
    assert!(err.is_cancelled());
    assert!(desk.shelf.series().unwrap().is_empty());
    let (_, done, total) = job.state();
    assert!(done <= total && total > 0);
}

#[test]
fn the_hash_that_is_kept_is_that_of_the_files_own_bytes() {
    let mut desk = Desk::new();
    let text = minutes("2024-03-05 10:00", 3000, 1000);
    let plain = desk.file("NOKSEK.csv", &text);
    let utf16: Vec<u8> =
        [0xff, 0xfe].into_iter().chain(text.encode_utf16().flat_map(u16::to_le_bytes)).collect();
    let wide = desk.file("NZDSEK.csv", utf16);
    let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packer.write_all(text.as_bytes()).unwrap();
    let packed = desk.file("BLYSEK.csv.gz", packer.finish().unwrap());
    for (path, series) in [(plain, "NOKSEK@quill:1m"), (wide, "NZDSEK@quill:1m"), (packed, "BLYSEK@quill:1m")]
    {
        desk.take(&path, quill()).unwrap();
        let info = desk.shelf.find(&series.parse().unwrap()).unwrap();
        let Made::Intake(taken) = info.edition.provenance.made else { panic!("not taken in") };
        let (bytes, hash) = stavel_core::fingerprint::blake3_of(&path).unwrap();
        assert_eq!((taken.files[0].bytes, taken.files[0].blake3.as_deref()), (bytes, Some(hash.as_str())));
    }
}
