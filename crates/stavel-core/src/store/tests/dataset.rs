//! The whole shelf is one dataset: one depth, current rows once, a handful of files.

use super::*;
use crate::model::ABSENT;
use crate::model::provenance::Framing;
use crate::model::time::DAY;

#[test]
fn ticks_and_bars_lie_at_one_depth() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2023-12-31 23:00", 120));
    let ticks: SeriesName = "NOKSEK@quill:ticks".parse().unwrap();
    let rows = Columns {
        time: vec![parse("2024-01-31").unwrap(), parse("2024-02-01").unwrap()],
        fields: vec![Field::Bid, Field::Ask],
        data: vec![vec![1, 2], vec![3, 4]],
        scale: Scale { price: 5, volume: 0 },
    };
    let mut draft = shelf.draft(&ticks, Origin { fields: rows.fields.clone(), ..origin("intake") }).unwrap();
    draft.push(rows).unwrap();
    draft.commit().unwrap();
    assert_eq!(
        files_in(dir.path(), "data"),
        [
            "instrument=NOKSEK/source=quill/frame=1m/year=2023/2023-000001.parquet",
            "instrument=NOKSEK/source=quill/frame=1m/year=2024/2024-000001.parquet",
            "instrument=NOKSEK/source=quill/frame=ticks/year=2024/2024-01-000002.parquet",
            "instrument=NOKSEK/source=quill/frame=ticks/year=2024/2024-02-000002.parquet",
        ]
    );
}

#[test]
fn rows_that_are_being_written_are_not_yet_in_the_dataset() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2023-12-31 23:00", 120));
    let before = files_in(dir.path(), "data");
    let mut draft = shelf.draft(&name(), origin("intake")).unwrap();
    draft.push(bars("2022-12-31 23:00", 1_200_000)).unwrap();
    assert_eq!(files_in(dir.path(), "data"), before);
    assert!(!files_in(dir.path(), "writing").is_empty());
    draft.commit().unwrap();
    assert!(files_in(dir.path(), "writing").is_empty());
    assert!(files_in(dir.path(), "data").iter().all(|f| !before.contains(f)), "the old ones went out");
}

#[test]
fn a_series_whose_clock_is_not_known_is_no_part_of_the_dataset() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut draft = shelf.draft(&name(), Origin { clock: None, ..origin("intake") }).unwrap();
    draft.push(bars("2024-01-01", 10)).unwrap();
    draft.commit().unwrap();
    assert_eq!((data_files(dir.path()), files_in(dir.path(), "afloat").len()), (0, 1));
    put(&mut shelf, &bars("2024-01-01", 10));
    assert_eq!((data_files(dir.path()), files_in(dir.path(), "afloat").len()), (1, 0));
    shelf.undo(&name()).unwrap();
    assert_eq!((data_files(dir.path()), files_in(dir.path(), "afloat").len()), (0, 1));
}

#[test]
fn absent_values_come_back_absent_and_zeros_as_zeros() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut rows =
        bars("2024-01-01", 5).with_fields(&[Field::Open, Field::Close, Field::Volume, Field::Spread]);
    *rows.column_mut(Field::Spread).unwrap() = vec![ABSENT, 0, 7, ABSENT, ABSENT];
    *rows.column_mut(Field::Open).unwrap() = vec![1, ABSENT, 2, ABSENT, 3];
    let mut draft = shelf.draft(&name(), Origin { fields: rows.fields.clone(), ..origin("intake") }).unwrap();
    draft.push(rows.clone()).unwrap();
    let info = draft.commit().unwrap();
    assert_eq!(shelf.read(&info.edition, Span::ALL).unwrap(), rows);
    let span = Span::new(rows.time[1], rows.time[4]);
    assert_eq!(shelf.read(&info.edition, span).unwrap(), rows.rows(1..4));
    let only = shelf.scan(&info.edition, Span::ALL, Some(&[Field::High, Field::Spread])).unwrap();
    let only = only.map(Result::unwrap).next().unwrap();
    assert_eq!(only.data, [vec![ABSENT; 5], vec![ABSENT, 0, 7, ABSENT, ABSENT]]);
}

#[test]
fn sixty_days_added_one_by_one_leave_a_handful_of_files() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut all = bars("2024-01-01", 0);
    for day in 0..60 {
        let mut rows = bars("2024-01-01", 1440);
        rows.time.iter_mut().for_each(|t| *t += day * DAY);
        all.append(&rows);
        let mut draft = shelf.draft(&name(), origin("intake")).unwrap();
        draft.keep_files(|_, _| true).unwrap();
        draft.push(rows).unwrap();
        draft.commit().unwrap();
        assert!(data_files(dir.path()) <= 6, "day {day}: {}", data_files(dir.path()));
    }
    let info = shelf.find(&name()).unwrap();
    assert_eq!((info.edition.number, info.edition.rows), (60, 60 * 1440));
    assert_eq!(shelf.read(&info.edition, Span::ALL).unwrap(), all);
    shelf.undo(&name()).unwrap();
    assert_eq!(shelf.find(&name()).unwrap().edition.rows, 59 * 1440);
    shelf.redo(&name()).unwrap();
    let tidied = shelf.tidy(None, &Job::unwatched()).unwrap();
    assert!(tidied.editions == 59 && tidied.joined > 0, "{tidied:?}");
    assert_eq!((data_files(dir.path()), files_in(dir.path(), "past").len()), (1, 0));
    let after = shelf.find(&name()).unwrap();
    assert_eq!((after.edition.id, after.edition.number), (info.edition.id, 60), "the edition is the same");
    assert_eq!(shelf.read(&after.edition, Span::ALL).unwrap(), all);
    assert!(shelf.verify(None, &Job::unwatched()).unwrap().faults.is_empty());
}

fn framed(from: i64) -> Origin {
    let framing = Framing {
        frame: "1d".parse().unwrap(),
        side: Default::default(),
        clock: None,
        partial_first: false,
        partial_last: false,
        empty: Default::default(),
        too_large: 0,
    };
    let inputs = vec![crate::model::Input::Edition { id: from, series: name() }];
    Origin { provenance: Provenance::of(Made::Frames(framing)).reading(inputs), ..origin("intake") }
}

fn put_as(shelf: &mut Shelf, series: &str, origin: Origin, rows: usize) -> SeriesInfo {
    let mut draft = shelf.draft(&series.parse().unwrap(), origin).unwrap();
    draft.push(bars("2024-01-01", rows)).unwrap();
    draft.commit().unwrap()
}

#[test]
fn bars_that_were_built_lie_beside_those_the_source_brought() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let base = put(&mut shelf, &bars("2024-01-01", 10)).edition.id;
    let named = |text: &str| text.parse::<SeriesName>().unwrap();
    let alone = put_as(&mut shelf, "NOKSEK@quill:1d", framed(base), 3);
    assert_eq!(alone.name.to_string(), "NOKSEK@quill:1d", "alone it needs no mark");
    assert_eq!(shelf.find(&named("NOKSEK@quill:1d.built")).unwrap().id, alone.id);
    let own = put_as(&mut shelf, "NOKSEK@quill:1d", origin("intake"), 5);
    assert_eq!((own.name.to_string().as_str(), own.edition.number), ("NOKSEK@quill:1d", 1));
    let again = put_as(&mut shelf, "NOKSEK@quill:1d", framed(base), 4);
    assert_eq!((again.name.to_string().as_str(), again.edition.number), ("NOKSEK@quill:1d.built", 2));
    let rows = |text: &str| shelf.find(&named(text)).unwrap().edition.rows;
    assert_eq!((rows("NOKSEK@quill:1d"), rows("NOKSEK@quill:1d.built")), (5, 4));
    let folders: Vec<String> = files_in(dir.path(), "data")
        .iter()
        .filter_map(|f| Some(f.split('/').nth(2)?.to_owned()))
        .filter(|f| f.contains("1d"))
        .collect();
    assert_eq!(folders, ["frame=1d.built", "frame=1d"]);
    shelf.undo(&named("NOKSEK@quill:1d.built")).unwrap();
    assert_eq!(shelf.find(&named("NOKSEK@quill:1d.built")).unwrap().edition.rows, 3);
    shelf.undo(&named("NOKSEK@quill:1d")).unwrap();
    assert_eq!(shelf.find(&named("NOKSEK@quill:1d")).unwrap().edition.rows, 3, "only the built one is left");
}

#[test]
fn a_mend_stays_with_the_series_it_is_of() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let base = put(&mut shelf, &bars("2024-01-01", 10)).edition.id;
    let built = put_as(&mut shelf, "NOKSEK@quill:1d", framed(base), 3);
    let mended = put_as(&mut shelf, "NOKSEK@quill:1d", origin("check"), 2);
    assert_eq!((mended.id, mended.edition.number), (built.id, 2));
}

#[test]
fn an_edition_is_stale_once_anything_it_was_made_of_changes() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let base = put(&mut shelf, &bars("2024-01-01", 10)).edition.id;
    let mut origin_of_built = framed(base);
    let sheet = shelf.instrument("NOKSEK").unwrap();
    origin_of_built.provenance.inputs.extend(sheet.inputs(&Instrument::SESSION));
    let built = put_as(&mut shelf, "NOKSEK@quill:1d", origin_of_built, 3);
    let parent = crate::model::Input::Edition { id: built.edition.id, series: built.name.clone() };
    let mut weekly = framed(base);
    weekly.provenance.inputs = vec![parent];
    let weekly = put_as(&mut shelf, "NOKSEK@quill:1w", weekly, 1);
    let stale = |shelf: &Shelf, info: &SeriesInfo| -> Vec<String> {
        shelf.staleness(&info.edition).unwrap().iter().map(StaleBecause::to_string).collect()
    };
    assert!(stale(&shelf, &built).is_empty() && stale(&shelf, &weekly).is_empty());
    put(&mut shelf, &bars("2024-01-01", 12));
    assert_eq!(stale(&shelf, &built), ["quill:1m has changed"]);
    assert_eq!(stale(&shelf, &weekly), ["quill:1d is stale"]);
    shelf.undo(&name()).unwrap();
    assert!(stale(&shelf, &built).is_empty(), "stepping back makes it good again");
    let own = OwnValues { said: [("holidays".into(), "2024-12-25".into())].into(), ..sheet.own.clone() };
    shelf.put_instrument("NOKSEK", &own).unwrap();
    assert_eq!(stale(&shelf, &built), ["holidays of NOKSEK changed"]);
    assert_eq!(shelf.stale_editions().unwrap().len(), 2);
    shelf.undo_act().unwrap();
    shelf.rename(&name(), &"NOKSEK@vendor:1m".parse().unwrap()).unwrap();
    assert!(stale(&shelf, &built).is_empty(), "another name is no other edition");
    shelf.remove(&"NOKSEK@vendor:1m".parse().unwrap()).unwrap();
    assert_eq!(stale(&shelf, &built), ["quill:1m is off the shelf"]);
}
