use super::*;
use crate::model::time::{MINUTE, parse};
use crate::model::{Frame, Made, Provenance, Scale};
use crate::store::Origin;

fn shelf_with_bars(dir: &Path) -> (Shelf, SeriesName) {
    let mut shelf = Shelf::open_to_write(dir).unwrap();
    let name: SeriesName = "NOKSEK@joined:1m".parse().unwrap();
    let (fields, scale) = (vec![Field::Open, Field::Close, Field::Volume], Scale { price: 5, volume: 1 });
    let mut rows = Columns::empty(&fields, scale);
    for i in 0..300_000i64 {
        rows.time.push(parse("2023-10-29 00:30").unwrap() + i * MINUTE);
        [987_650 - i, -5 + i, i % 7].into_iter().zip(&mut rows.data).for_each(|(v, c)| c.push(v));
    }
    let origin =
        Origin { provenance: Provenance::of(Made::Unknown), clock: Some(Clock::utc()), fields, scale };
    let mut draft = shelf.draft(&name, origin).unwrap();
    draft.push(rows.clone()).unwrap();
    draft.commit().unwrap();
    (shelf, name)
}

fn order(series: SeriesName, format: FileFormat) -> DeliveryOrder {
    DeliveryOrder {
        series,
        format,
        clock: "Europe/Oslo".parse().unwrap(),
        span: Span::ALL,
        last: None,
        layout: None,
        origin: false,
        details: false,
        complete_only: false,
    }
}

#[test]
fn every_format_is_proved_and_the_same_twice() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    for &format in FileFormat::ALL {
        let order = order(name.clone(), format);
        let once = deliver(&shelf, &order, out.path(), &Job::unwatched()).unwrap();
        assert!(once.proved && once.rows == 300_000, "{format:?}");
        assert!(once.path.ends_with(format!("NOKSEK_joined_1m.{}", format.word())));
        let twice = deliver(&shelf, &order, &out.path().join("again"), &Job::unwatched()).unwrap();
        assert_eq!(once.sha256, twice.sha256);
    }
    let csv = std::fs::read_to_string(out.path().join("NOKSEK_joined_1m.csv")).unwrap();
    assert!(csv.starts_with("time,open,close,volume\n2023-10-29T02:30:00+02:00,9.87650,-0.00005,0.0\n"));
    assert!(csv.contains("2023-10-29T02:00:00+01:00,"), "the hour that comes twice is told apart");
    let last = DeliveryOrder { last: Some(3), ..order(name, FileFormat::Csv) };
    assert_eq!(deliver(&shelf, &last, &out.path().join("last.csv"), &Job::unwatched()).unwrap().rows, 3);
}

#[test]
fn marks_asked_for_are_there_even_where_no_row_has_one() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    for &format in FileFormat::ALL {
        let order = DeliveryOrder { origin: true, last: Some(2), ..order(name.clone(), format) };
        let delivery = deliver(&shelf, &order, out.path(), &Job::unwatched()).unwrap();
        assert!(delivery.proved && delivery.rows == 2, "{format:?}");
        let lines = first_lines(&shelf, &order, 3).unwrap().join(" ");
        assert!(lines.contains("origin"), "{format:?}: {lines}");
    }
    let csv = std::fs::read_to_string(out.path().join("NOKSEK_joined_1m.csv")).unwrap();
    assert!(csv.lines().skip(1).all(|line| line.ends_with(",0")), "{csv}");
}

#[test]
fn partial_bars_are_told_and_left_away_where_only_whole_ones_are_wanted() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (mut shelf, name) = shelf_with_bars(dir.path());
    let job = Job::unwatched();
    // The rows begin and end within an hour and within a week; both are the whole series in the longest frame.
    let frames: Vec<Frame> = ["1h", "3mo"].map(|f| f.parse().unwrap()).to_vec();
    let built = crate::frames::build_series(&mut shelf, &name, &frames, &Default::default(), &job).unwrap();
    for (series, &format) in built.iter().zip([FileFormat::Csv, FileFormat::Parquet].iter()) {
        let edition = &series.info.edition;
        let (first, last) = (series.partial_first, series.partial_last);
        assert!(last, "the rows end in the middle");
        let all = order(series.info.name.clone(), format);
        let whole = DeliveryOrder { complete_only: true, ..all.clone() };
        let told = |o: &DeliveryOrder| {
            let done = deliver(&shelf, o, &out.path().join(format!("a.{}", format.word())), &job).unwrap();
            assert!(done.proved);
            (done.rows, done.partial_first, done.partial_last)
        };
        assert_eq!(told(&all), (edition.rows, first, last));
        assert_eq!(told(&whole), (edition.rows - u64::from(first) - 1, false, false));
        // The last rows are the last of those that are whole; a span that ends before has no partial bar.
        let three = DeliveryOrder { last: Some(1), ..whole.clone() };
        assert_eq!(told(&three).0, 1);
        let before = DeliveryOrder { span: Span::new(i64::MIN / 4, edition.last), ..all };
        assert!(!told(&before).2);
    }
}

#[test]
fn a_file_that_was_changed_is_not_proved() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let info = shelf.find(&name).unwrap();
    for &format in FileFormat::ALL {
        let path = deliver(&shelf, &order(name.clone(), format), out.path(), &Job::unwatched()).unwrap().path;
        let holds = |path: &Path| {
            let rows = shelf.scan(&info.edition, Span::ALL, None).unwrap();
            proof::holds(path, format, &info.edition.fields, info.edition.scale, rows)
        };
        assert_eq!(holds(&path), Ok(true));
        let mut bytes = std::fs::read(&path).unwrap();
        if format == FileFormat::Parquet {
            bytes.truncate(bytes.len() / 2);
        } else {
            let at = bytes.windows(7).position(|w| w == b"9.87600").unwrap();
            bytes[at + 6] = b'1';
        }
        std::fs::write(&path, bytes).unwrap();
        assert_ne!(holds(&path), Ok(true), "{format:?}");
    }
}

#[test]
fn nothing_is_left_of_a_delivery_that_fails() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let job = Job::unwatched();
    job.stop();
    assert!(deliver(&shelf, &order(name, FileFormat::Csv), out.path(), &job).unwrap_err().is_cancelled());
    assert_eq!(std::fs::read_dir(out.path()).unwrap().count(), 0);
}

#[test]
fn a_delivery_that_is_not_proved_leaves_the_old_file_and_is_kept_beside_it() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    for format in [FileFormat::Csv, FileFormat::Json, FileFormat::Ndjson] {
        let path = out.path().join(format!("rows.{}", format.word()));
        std::fs::write(&path, "yesterday's").unwrap();
        let spoil = |file: &Path| {
            let mut bytes = std::fs::read(file).unwrap();
            let at = bytes.windows(7).position(|w| w == b"9.87600").unwrap();
            bytes[at + 6] = b'1';
            std::fs::write(file, bytes).unwrap();
            Ok(())
        };
        let order = order(name.clone(), format);
        let done = deliver_changed(&shelf, &order, &path, &Job::unwatched(), spoil).unwrap();
        assert!(!done.proved);
        assert_eq!(done.path, with_ending(&path, "unproved"));
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "yesterday's", "{format:?}");
        let done = deliver(&shelf, &order, &path, &Job::unwatched()).unwrap();
        assert!(done.proved && done.path == path);
        assert_ne!(std::fs::read_to_string(&path).unwrap(), "yesterday's");
    }
}

#[test]
fn numbers_that_no_float_holds_are_proved_digit_by_digit() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let name: SeriesName = "NOKSEK@joined:1m".parse().unwrap();
    let scale = Scale { price: 8, volume: 0 };
    let rows = Columns {
        time: vec![parse("2024-01-01").unwrap(), parse("2024-01-01 00:01").unwrap()],
        fields: vec![Field::Close],
        data: vec![vec![123_456_789_012_345_678, 123_456_789_012_345_679]],
        scale,
    };
    let provenance = Provenance::of(Made::Unknown);
    let origin = Origin { provenance, clock: Some(Clock::utc()), fields: rows.fields.clone(), scale };
    let mut draft = shelf.draft(&name, origin).unwrap();
    draft.push(rows).unwrap();
    draft.commit().unwrap();
    let one_digit = |file: &Path| {
        let text = std::fs::read_to_string(file).unwrap();
        std::fs::write(file, text.replace("1234567890.12345679", "1234567890.12345680")).unwrap();
        Ok(())
    };
    for format in [FileFormat::Json, FileFormat::Ndjson, FileFormat::Csv] {
        let order = order(name.clone(), format);
        assert!(deliver(&shelf, &order, out.path(), &Job::unwatched()).unwrap().proved);
        let done = deliver_changed(&shelf, &order, out.path(), &Job::unwatched(), one_digit).unwrap();
        assert!(!done.proved, "{format:?}: the last of eighteen digits is another");
    }
}

#[test]
fn what_a_source_wrote_beside_its_bars_is_delivered_and_what_ticks_left_there_is_not() {
    use Field::{AskVolume, BidVolume, Close, SpreadHigh, SpreadLow, SpreadOpen, TickCount};
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let of_source = vec![Close, TickCount, BidVolume, AskVolume];
    let of_ticks = vec![Close, TickCount, BidVolume, AskVolume, SpreadOpen, SpreadHigh, SpreadLow];
    for (name, fields, left) in
        [("NOKSEK@quill:1m", of_source.clone(), of_source), ("NOKSEK@tarn:1m", of_ticks, vec![Close])]
    {
        let name: SeriesName = name.parse().unwrap();
        let scale = Scale { price: 5, volume: 0 };
        let (provenance, clock) = (Provenance::of(Made::Unknown), Some(Clock::utc()));
        let origin = Origin { provenance, clock, fields: fields.clone(), scale };
        let mut rows = Columns::empty(&fields, scale);
        rows.time.push(MINUTE);
        rows.data.iter_mut().for_each(|column| column.push(3));
        let mut draft = shelf.draft(&name, origin).unwrap();
        draft.push(rows).unwrap();
        draft.commit().unwrap();
        let order = order(name, FileFormat::Csv);
        assert_eq!(what_is_delivered(&shelf, &order).unwrap().edition.fields, left);
        let asked_for = DeliveryOrder { details: true, ..order };
        assert_eq!(what_is_delivered(&shelf, &asked_for).unwrap().edition.fields, fields);
    }
}
