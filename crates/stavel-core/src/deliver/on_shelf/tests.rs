use super::*;
use crate::deliver::PriceSides;
use crate::model::price::scaled;
use crate::model::time::{MINUTE, SECOND, parse};
use crate::model::{ABSENT, Clock, Field, Frame, Made, Provenance, Scale, SeriesName, Side};
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
    DeliveryOrder { clock: "Europe/Oslo".parse().unwrap(), ..DeliveryOrder::of(series, format) }
}

fn one(shelf: &Shelf, order: &DeliveryOrder, to: &Path) -> Delivery {
    let mut all = deliver(shelf, order, to, &Job::unwatched()).unwrap();
    assert_eq!(all.len(), 1);
    all.remove(0)
}

fn put(shelf: &mut Shelf, name: &str, rows: Columns) -> SeriesName {
    let name: SeriesName = name.parse().unwrap();
    let (fields, scale) = (rows.fields.clone(), rows.scale);
    let origin =
        Origin { provenance: Provenance::of(Made::Unknown), clock: Some(Clock::utc()), fields, scale };
    let mut draft = shelf.draft(&name, origin).unwrap();
    draft.push(rows).unwrap();
    draft.commit().unwrap();
    name
}

#[test]
fn every_format_is_proved_and_the_same_twice() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let of_one_file = FileFormat::ALL.iter().filter(|f| **f != FileFormat::Dataset);
    for &format in of_one_file {
        let mut order = order(name.clone(), format);
        if format == FileFormat::Html {
            order.last = Some(1000);
        }
        if format == FileFormat::Xlsx {
            order.clock = Clock::utc();
        }
        let rows = order.last.unwrap_or(300_000);
        let once = one(&shelf, &order, &out.path().join("a/"));
        assert!(once.proved && once.rows == rows, "{format:?}");
        let twice = one(&shelf, &order, &out.path().join("again/"));
        if format != FileFormat::Xlsx {
            // A workbook holds the time at which it was written.
            assert_eq!(once.sha256, twice.sha256, "{format:?}");
        }
    }
    let csv = std::fs::read_to_string(out.path().join("a/NOKSEK_joined_1m.csv")).unwrap();
    assert!(csv.starts_with("time,open,close,volume\n2023-10-29T02:30:00+02:00,9.87650,-0.00005,0.0\n"));
    assert!(csv.contains("2023-10-29T02:00:00+01:00,"), "the hour that comes twice is told apart");
    let last = DeliveryOrder { last: Some(3), ..order(name, FileFormat::Csv) };
    assert_eq!(one(&shelf, &last, &out.path().join("last.csv")).rows, 3);
}

/// Rows of each kind, some of whose values are absent.
fn rows_of_every_kind() -> Vec<(&'static str, Columns)> {
    use Field::*;
    let kinds: [(&str, &[Field]); 8] = [
        ("NOKSEK@a:ticks", &[Bid, Ask, BidVolume, AskVolume]),
        ("BLY@a:ticks", &[Volume, Last, Taker]),
        ("NOKSEK@a:1m", &[Open, High, Low, Close, Volume, Spread]),
        ("NOKSEK@a:1m.ask", &[Open, High, Low, Close]),
        ("NOKSEK@a:1h.mid", &[Open, High, Low, Close, Spread, TickCount]),
        ("NOKSEK@a:1d", &[Open, High, Low, Close, OpenInterest, AdjustedClose]),
        ("NOKSEK@a:1mo", &[Open, High, Low, Close]),
        ("NOKSEK@a:500t", &[Open, High, Low, Close, Volume, TickCount]),
    ];
    let fill = |(name, fields): (&'static str, &[Field])| {
        let mut rows = Columns::empty(fields, Scale { price: 5, volume: 2 });
        let step = name.parse::<SeriesName>().unwrap().frame.length().max(250_000);
        for i in 0..40i64 {
            rows.time.push(parse("2024-03-01").unwrap() + i * step);
            for (field, column) in rows.fields.iter().zip(&mut rows.data) {
                let value = if *field == Taker { 1 + i % 2 } else { 100_000 + 7 * i };
                // Of a bar one price at least is there, of a quote both are.
                let may_be_absent = !matches!(field, Open | Bid | Ask | Last);
                column.push(if may_be_absent && i % 5 == 2 { ABSENT } else { value });
            }
        }
        (name, rows)
    };
    kinds.into_iter().map(fill).collect()
}

#[test]
fn every_kind_of_rows_comes_back_out_of_every_format() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    for (name, rows) in rows_of_every_kind() {
        let name = put(&mut shelf, name, rows);
        for &format in FileFormat::ALL {
            let order = DeliveryOrder { details: true, ..DeliveryOrder::of(name.clone(), format) };
            let done = deliver(&shelf, &order, out.path(), &Job::unwatched()).unwrap();
            assert!(done.iter().all(|d| d.proved), "{name} as {format:?}");
            assert_eq!(done.iter().map(|d| d.rows).sum::<u64>(), 40, "{name} as {format:?}");
        }
        for g in crate::model::layout::GENERAL {
            let layout = general(g.name);
            let order =
                DeliveryOrder { layout, details: true, ..DeliveryOrder::of(name.clone(), FileFormat::Csv) };
            let done = deliver(&shelf, &order, out.path(), &Job::unwatched());
            // Days without times hold bars of days and longer ones only.
            let fits = g.name != "dates-only" || name.frame.is_of_days();
            assert_eq!(done.is_ok(), fits, "{name} as {}: {:?}", g.name, done.err());
            assert!(done.iter().flatten().all(|d| d.proved), "{name} as {}", g.name);
        }
    }
}

#[test]
fn what_a_layout_cannot_hold_is_refused_before_anything_is_written() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let told = |change: &dyn Fn(&mut DeliveryOrder)| {
        let mut order = DeliveryOrder::of(name.clone(), FileFormat::Csv);
        order.layout = general("plain-times");
        change(&mut order);
        let told =
            deliver(&shelf, &order, &out.path().join("x.csv"), &Job::unwatched()).unwrap_err().to_string();
        assert_eq!(std::fs::read_dir(out.path()).unwrap().count(), 0, "{told}");
        told
    };
    let layout =
        |order: &mut DeliveryOrder, change: &dyn Fn(&mut Layout)| change(order.layout.as_mut().unwrap());
    let lost = told(&|o| layout(o, &|l| l.writing.decimals = Some(3)));
    assert!(lost.contains("fewer decimals") && lost.contains("--decimals"), "{lost}");
    let twice = told(&|o| o.clock = "Europe/Oslo".parse().unwrap());
    assert!(twice.contains("showed 2023-10-29 02:00 twice") && twice.contains("--clock UTC"), "{twice}");
    let days = told(&|o| o.layout = general("dates-only"));
    assert!(days.contains("'2023-10-29,9.87650") && days.contains("session days"), "{days}");
    let minutes = told(&|o| layout(o, &|l| l.writing.forms.moment = Some("%Y-%m-%d %H:00".into())));
    assert!(minutes.contains("choose a form of times"), "{minutes}");
    let missing = told(&|o| layout(o, &|l| l.columns = vec![Use::Moment, Use::Field(Field::Bid)]));
    assert!(missing.contains("has no bid"), "{missing}");
    let twice = told(&|o| {
        layout(o, &|l| l.columns = vec![Use::Moment, Use::Field(Field::Close), Use::Field(Field::Close)]);
    });
    assert!(twice.contains("close twice"), "{twice}");
    let page = told(&|o| (o.format, o.layout) = (FileFormat::Html, None));
    assert!(page.contains("--last 100000"), "{page}");
    let name = told(&|o| {
        layout(o, &|l| {
            l.header = Some(vec!["Zeit 値".into(), "values".into()]);
            l.writing.encoding = crate::model::layout::TextEncoding::Windows1252;
        });
    });
    assert!(name.contains("'Zeit 値'"), "{name}");
}

#[test]
fn decimals_that_were_asked_for_are_rounded_counted_and_proved() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut rows = Columns::empty(&[Field::Close], Scale { price: 3, volume: 0 });
    rows.time = (0..4).map(|i| i * MINUTE).collect();
    rows.data = vec![vec![1_005, 1_004, -1_005, 2_000]];
    let name = put(&mut shelf, "BLY@a:1m", rows);
    let mut layout = general("plain-times").unwrap();
    layout.writing.decimals = Some(2);
    let order = DeliveryOrder {
        layout: Some(layout.clone()),
        decimals: (Some(2), None),
        ..DeliveryOrder::of(name.clone(), FileFormat::Csv)
    };
    let done = one(&shelf, &order, &out.path().join("x.csv"));
    assert!(done.proved && done.rounded == 3);
    let text = std::fs::read_to_string(&done.path).unwrap();
    let closes: Vec<&str> = text.lines().skip(1).filter_map(|l| l.split(',').nth(1)).collect();
    assert_eq!(closes, ["1.01", "1.00", "-1.01", "2.00"]);
    layout.writing.decimals = Some(6);
    let order = DeliveryOrder { layout: Some(layout), ..order };
    let done = one(&shelf, &order, &out.path().join("y.csv"));
    assert!(done.proved && done.rounded == 0);
    assert!(std::fs::read_to_string(&done.path).unwrap().contains(&format!(",{}\n", scaled(1_005_000, 6))));
}

#[test]
fn spreads_are_written_in_the_unit_of_the_layout() {
    use crate::model::layout::SpreadUnit;
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut rows = Columns::empty(&[Field::Close, Field::Spread], Scale { price: 5, volume: 0 });
    rows.time = vec![0, MINUTE];
    rows.data = vec![vec![987_650, 987_651], vec![12, ABSENT]];
    let name = put(&mut shelf, "NOKSEK@a:1m", rows);
    for (spreads, decimals, text) in [
        (SpreadUnit::Points, 5, "9.87650,12"),
        (SpreadUnit::Pips, 5, "9.87650,1.2"),
        (SpreadUnit::Prices, 5, "9.87650,0.00012"),
        (SpreadUnit::Prices, 7, "9.8765000,0.0001200"),
        (SpreadUnit::Prices, 4, "9.8765,0.0001"),
    ] {
        let mut layout = general("plain-times").unwrap();
        (layout.spreads, layout.writing.decimals) = (spreads, Some(decimals));
        let order = DeliveryOrder {
            layout: Some(layout),
            decimals: (Some(2), None),
            ..DeliveryOrder::of(name.clone(), FileFormat::Csv)
        };
        let done = one(&shelf, &order, &out.path().join("x.csv"));
        assert!(done.proved, "{spreads:?} {decimals}");
        let written = std::fs::read_to_string(&done.path).unwrap();
        assert!(written.contains(&format!(",{text}\n")), "{spreads:?}: {written}");
        assert!(written.trim_end().ends_with(','), "an absent spread is an empty cell");
    }
}

#[test]
fn bars_are_stamped_where_the_layout_says_and_days_end_on_the_wall() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let oslo: Clock = "Europe/Oslo".parse().unwrap();
    let mut rows = Columns::empty(&[Field::Close], Scale { price: 0, volume: 0 });
    // The day on which the clock is set forward has 23 hours.
    rows.time = ["2024-03-30", "2024-03-31", "2024-04-01"]
        .map(|day| oslo.day_start(crate::model::time::day_of(parse(day).unwrap())))
        .to_vec();
    rows.data = vec![vec![1, 2, 3]];
    let days = put(&mut shelf, "BLY@a:1d", rows.clone());
    rows.time = (0..3).map(|i| parse("2024-03-05 23:58").unwrap() + i * MINUTE).collect();
    let minutes = put(&mut shelf, "BLY@a:1m", rows);
    let written = |name: &SeriesName, layout: &str, clock: &Clock| {
        let mut layout = general(layout).unwrap();
        layout.writing.stamp = Some(crate::model::Stamp::Close);
        let order = DeliveryOrder {
            layout: Some(layout),
            clock: clock.clone(),
            ..DeliveryOrder::of(name.clone(), FileFormat::Csv)
        };
        let done = one(&shelf, &order, &out.path().join("x.csv"));
        assert!(done.proved);
        let text = std::fs::read_to_string(&done.path).unwrap();
        text.lines().skip(1).map(|l| l.split(',').next().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(written(&days, "dates-only", &oslo), ["2024-03-31", "2024-04-01", "2024-04-02"]);
    assert_eq!(written(&minutes, "plain-times", &Clock::utc())[1], "2024-03-06 00:00:00");
    assert_eq!(written(&minutes, "rfc3339", &oslo)[2], "2024-03-06T01:01:00+01:00");
}

#[test]
fn packed_encoded_and_cut_files_hold_the_same_rows() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let plain = one(&shelf, &DeliveryOrder::of(name.clone(), FileFormat::Csv), &out.path().join("plain.csv"));
    let plain = std::fs::read(plain.path).unwrap();
    for by in [Compress::Gz, Compress::Zst, Compress::Zip] {
        let order = DeliveryOrder { compress: by, ..DeliveryOrder::of(name.clone(), FileFormat::Csv) };
        let done = one(&shelf, &order, out.path());
        assert!(
            done.proved
                && done.path.to_string_lossy().ends_with(&format!("NOKSEK_joined_1m.csv.{}", by.word()))
        );
        let mut back = Vec::new();
        std::io::Read::read_to_end(&mut FilePacking::of(by, &done.path).open(&done.path).unwrap(), &mut back)
            .unwrap();
        assert!(back == plain, "{by:?}");
        assert!(done.bytes < plain.len() as u64);
    }
    let months = DeliveryOrder {
        split: Some(crate::deliver::Split::Month),
        ..DeliveryOrder::of(name.clone(), FileFormat::Csv)
    };
    let done = deliver(&shelf, &months, out.path(), &Job::unwatched()).unwrap();
    assert!(done.len() == 8 && done.iter().all(|d| d.proved));
    assert_eq!(done.iter().map(|d| d.rows).sum::<u64>(), 300_000);
    assert!(done[1].path.ends_with("NOKSEK_joined_1m_2023-11.csv"));
    let mut joined = Vec::new();
    for (i, file) in done.iter().enumerate() {
        let text = std::fs::read(&file.path).unwrap();
        let head = text.iter().position(|c| *c == b'\n').unwrap() + 1;
        joined.extend_from_slice(if i == 0 { &text } else { &text[head..] });
    }
    assert!(joined == plain);
    let mut layout = general("decimal-comma").unwrap();
    layout.writing.encoding = crate::model::layout::TextEncoding::Utf16;
    let order =
        DeliveryOrder { layout: Some(layout), last: Some(2), ..DeliveryOrder::of(name, FileFormat::Csv) };
    let done = one(&shelf, &order, &out.path().join("wide.csv"));
    let words: Vec<u16> =
        std::fs::read(&done.path).unwrap().chunks(2).map(|c| u16::from_le_bytes([c[0], c[1]])).collect();
    let text = String::from_utf16(&words).unwrap();
    assert!(done.proved && text.starts_with("\u{feff}time;open;close;volume\r\n"), "{text}");
    assert!(text.contains(";2,99998;") || text.contains(','), "{text}");
}

#[test]
fn names_of_files_say_what_was_asked_for() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let named = |pattern: &str| {
        let order = DeliveryOrder {
            names: Some(pattern.into()),
            last: Some(3),
            ..DeliveryOrder::of(name.clone(), FileFormat::Csv)
        };
        ReadyDelivery::of(&shelf, &order)
            .unwrap()
            .paths(out.path())
            .map(|p| p[0].file_name().unwrap().to_string_lossy().into_owned())
    };
    assert_eq!(named("{instrument}-{frame}").unwrap(), "NOKSEK-1m.csv");
    assert_eq!(named("{source}_{from}_{to}.txt").unwrap(), "joined_2024-05-24_2024-05-24.txt");
    for bad in ["{what}", "../{instrument}", "", ".hidden"] {
        assert!(named(bad).unwrap_err().to_string().contains("names no file"), "{bad}");
    }
}

#[test]
fn the_last_lines_are_those_at_the_end_of_the_file() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    for format in [FileFormat::Csv, FileFormat::Json, FileFormat::Ndjson] {
        let order = DeliveryOrder::of(name.clone(), format);
        let text = std::fs::read_to_string(one(&shelf, &order, out.path()).path).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(first_lines(&shelf, &order, 4).unwrap(), lines[..4], "{format:?}");
        assert_eq!(
            last_lines(&shelf, &order, 4).unwrap().last().unwrap(),
            lines.last().unwrap(),
            "{format:?}"
        );
    }
}

#[test]
fn the_lines_of_columns_are_shown_as_they_begin() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let order = DeliveryOrder::of(name, FileFormat::JsonColumns);
    let text = std::fs::read_to_string(one(&shelf, &order, out.path()).path).unwrap();
    let shown = first_lines(&shelf, &order, 5).unwrap();
    assert_eq!((shown.len(), text.lines().count()), (5, 5));
    for (shown, line) in shown.iter().zip(text.lines()) {
        let begin = shown.trim_end_matches(['}', ',', ']']);
        assert!(line.starts_with(begin), "{shown}");
    }
    assert!(shown[2].starts_with("\"open\":[9.87650,9.87649,"), "{}", shown[2]);
}

#[test]
fn marks_asked_for_are_there_even_where_no_row_has_one() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    for &format in FileFormat::ALL {
        let order = DeliveryOrder { origin: true, last: Some(2), ..order(name.clone(), format) };
        let delivery = one(&shelf, &order, out.path());
        assert!(delivery.proved && delivery.rows == 2, "{format:?}");
        let lines = first_lines(&shelf, &order, 90).unwrap().join(" ");
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
            let done = one(&shelf, o, &out.path().join(format!("a.{}", format.word())));
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
fn nothing_is_left_of_a_delivery_that_fails() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let job = Job::unwatched();
    job.stop();
    assert!(deliver(&shelf, &order(name, FileFormat::Csv), out.path(), &job).unwrap_err().is_cancelled());
    assert_eq!(std::fs::read_dir(out.path()).unwrap().count(), 0);
}

/// Writes as another way does, but for one digit.
struct Spoiled<T>(T);

impl<T: RowsAsText> RowsAsText for Spoiled<T> {
    fn head(&self) -> Vec<u8> {
        self.0.head()
    }
    fn push_rows(
        &self,
        rows: &Columns,
        range: std::ops::Range<usize>,
        is_first: bool,
        out: &mut Vec<u8>,
    ) -> u64 {
        let rounded = self.0.push_rows(rows, range, is_first, out);
        if let Some(at) = out.windows(7).position(|w| w == b"9.87600") {
            out[at + 6] = b'1';
        }
        rounded
    }
    fn tail(&self, has_rows: bool) -> Vec<u8> {
        self.0.tail(has_rows)
    }
    fn holds(&self, text: &[u8], rows: &Columns, range: std::ops::Range<usize>, is_first: bool) -> bool {
        self.0.holds(text, rows, range, is_first)
    }
}

#[test]
fn a_delivery_that_is_not_proved_leaves_the_old_file_and_is_kept_beside_it() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (shelf, name) = shelf_with_bars(dir.path());
    let path = out.path().join("rows.csv");
    for compress in [Compress::None, Compress::Gz] {
        std::fs::write(&path, "yesterday's").unwrap();
        let order = DeliveryOrder { compress, ..order(name.clone(), FileFormat::Csv) };
        let mut prepared = ReadyDelivery::of(&shelf, &order).unwrap();
        let lines = lines_of(&order, &prepared.info).unwrap();
        prepared.text = Some(Box::new(Spoiled(lines)));
        let done = prepared
            .write(&path, &Job::unwatched(), &|_| None, &mut |_| panic!("the old file stays"))
            .unwrap()
            .remove(0);
        assert!(!done.proved);
        assert_eq!(done.path, with_ending(&path, "unproved"));
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "yesterday's", "{compress:?}");
    }
    let done = one(&shelf, &order(name, FileFormat::Csv), &path);
    assert!(done.proved && done.path == path);
    assert_ne!(std::fs::read_to_string(&path).unwrap(), "yesterday's");
}

/// Files that are read back as a whole are held against a series that differs in its last digit.
#[test]
fn numbers_that_no_float_holds_are_proved_digit_by_digit() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut rows = Columns::empty(&[Field::Close], Scale { price: 8, volume: 0 });
    rows.time = vec![parse("2024-01-01").unwrap(), parse("2024-01-01 00:01").unwrap()];
    rows.data = vec![vec![123_456_789_012_345_678, 123_456_789_012_345_679]];
    let name = put(&mut shelf, "NOKSEK@joined:1m", rows.clone());
    rows.data[0][1] += 1;
    let other = put(&mut shelf, "NOKSEK@other:1m", rows.clone());
    for format in
        [FileFormat::Json, FileFormat::JsonColumns, FileFormat::Ndjson, FileFormat::Csv, FileFormat::Parquet]
    {
        assert!(one(&shelf, &DeliveryOrder::of(name.clone(), format), out.path()).proved, "{format:?}");
    }
    let (info, reader) =
        what_is_delivered(&shelf, &DeliveryOrder::of(other.clone(), FileFormat::JsonColumns)).unwrap();
    let columns = out.path().join("NOKSEK_joined_1m.json");
    one(&shelf, &DeliveryOrder::of(name.clone(), FileFormat::JsonColumns), out.path());
    assert!(
        !json_columns::holds(&reader, &info, Span::ALL, &columns).unwrap(),
        "the last of eighteen digits is another"
    );
    let told = deliver(&shelf, &DeliveryOrder::of(name, FileFormat::Xlsx), out.path(), &Job::unwatched())
        .unwrap_err();
    assert!(
        told.to_string().contains("1234567890.12345678") && told.to_string().contains("15 digits"),
        "{told}"
    );
    let told = deliver(&shelf, &DeliveryOrder::of(other, FileFormat::Dataset), out.path(), &Job::unwatched())
        .unwrap_err();
    assert!(told.to_string().contains("choose parquet"), "{told}");
}

#[test]
fn a_quote_that_says_nothing_of_a_side_is_no_row_of_that_side() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut rows = Columns::empty(&[Field::Bid, Field::Ask], Scale { price: 1, volume: 0 });
    rows.time = (0..4).map(|i| parse("2024-03-05").unwrap() + i * SECOND).collect();
    rows.data = vec![vec![ABSENT, 11, 12, ABSENT], vec![21, ABSENT, 22, 23]];
    let name = put(&mut shelf, "NOKSEK@a:ticks", rows);
    for (side, expected) in [
        (Side::Bid, "time,bid\n2024-03-05T00:00:01Z,1.1\n2024-03-05T00:00:02Z,1.2\n"),
        (
            Side::Ask,
            "time,ask\n2024-03-05T00:00:00Z,2.1\n2024-03-05T00:00:02Z,2.2\n2024-03-05T00:00:03Z,2.3\n",
        ),
    ] {
        let order = DeliveryOrder {
            sides: PriceSides::Only(side),
            ..DeliveryOrder::of(name.clone(), FileFormat::Csv)
        };
        let done = one(&shelf, &order, out.path());
        assert_eq!(std::fs::read_to_string(&done.path).unwrap(), expected);
        let rows = expected.lines().count() as u64 - 1;
        assert_eq!((done.proved, done.rows), (true, rows));
        let last = DeliveryOrder { last: Some(1), ..order };
        assert_eq!(last_lines(&shelf, &last, 1).unwrap(), [expected.lines().last().unwrap()]);
        assert_eq!(one(&shelf, &last, out.path()).rows, 1);
    }
}

#[test]
fn a_workbook_goes_on_on_further_sheets_and_a_changed_cell_is_seen() {
    let (dir, out) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut rows = Columns::empty(&[Field::Close, Field::Volume], Scale { price: 5, volume: 0 });
    for i in 0..25 {
        rows.time.push(parse("2024-03-05 22:00").unwrap() + i * 777_001_000);
        rows.data[0].push(987_650 + i);
        rows.data[1].push(if i % 3 == 0 { ABSENT } else { i });
    }
    let name = put(&mut shelf, "NOKSEK@a:ticks", rows.clone());
    rows.data[0][24] += 1;
    let other = put(&mut shelf, "NOKSEK@b:ticks", rows);
    let order = DeliveryOrder::of(name, FileFormat::Xlsx);
    let (info, reader) = what_is_delivered(&shelf, &order).unwrap();
    let path = out.path().join("x.xlsx");
    let job = Job::unwatched();
    let (rows, proved) =
        workbook::write_in_sheets(&reader, &info, &order, Span::ALL, &path, (10, &job)).unwrap();
    assert!(proved && rows == 25);
    let (_, others) = what_is_delivered(&shelf, &DeliveryOrder::of(other, FileFormat::Xlsx)).unwrap();
    assert!(!workbook::holds(&others, &info, &order, (Span::ALL, 3), &path, &job).unwrap());
    assert!(
        !workbook::holds(&reader, &info, &order, (Span::ALL, 2), &path, &job).unwrap(),
        "a sheet is not read"
    );
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
        assert_eq!(what_is_delivered(&shelf, &order).unwrap().0.edition.fields, left);
        let asked_for = DeliveryOrder { details: true, ..order };
        assert_eq!(what_is_delivered(&shelf, &asked_for).unwrap().0.edition.fields, fields);
    }
}
