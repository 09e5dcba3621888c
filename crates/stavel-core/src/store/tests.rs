mod dataset;
mod keeping;
mod older;
mod stepping;

use super::home::files_in;
use super::*;
use crate::job::Job;
use crate::model::provenance::{Mending, TakenIn};
use crate::model::time::{MINUTE, parse};
use crate::model::{Clock, OwnValues, Provenance, Scale};

fn name() -> SeriesName {
    "NOKSEK@quill:1m".parse().unwrap()
}

fn bars(from: &str, rows: usize) -> Columns {
    let start = parse(from).unwrap();
    let mut c = Columns::empty(&[Field::Open, Field::Close], Scale { price: 5, volume: 0 });
    for i in 0..rows {
        c.time.push(start + i as i64 * MINUTE);
        c.data[0].push(100_000 + i as i64);
        c.data[1].push(100_000 - i as i64);
    }
    c
}

fn origin(act: &'static str) -> Origin {
    let made = match act {
        "check" => Made::Check(Mending::default()),
        _ => Made::Intake(Box::<TakenIn>::default()),
    };
    Origin {
        provenance: Provenance::of(made),
        clock: Some(Clock::utc()),
        fields: vec![Field::Open, Field::Close],
        scale: Scale { price: 5, volume: 0 },
    }
}

fn put(shelf: &mut Shelf, rows: &Columns) -> SeriesInfo {
    let mut draft = shelf.draft(&name(), origin("intake")).unwrap();
    draft.push(rows.clone()).unwrap();
    draft.commit().unwrap()
}

fn data_files(root: &Path) -> usize {
    files_in(root, "data").len()
}

#[test]
fn rows_come_back_over_years_and_by_span() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let rows = bars("2023-12-31 20:00", 600);
    let info = put(&mut shelf, &rows);
    assert_eq!((info.edition.rows, info.edition.number), (600, 1));
    assert_eq!(data_files(dir.path()), 2, "one file a year");
    assert_eq!(shelf.read(&info.edition, Span::ALL).unwrap(), rows);
    let span = Span::new(parse("2024-01-01").unwrap(), parse("2024-01-01 00:03").unwrap());
    assert_eq!(shelf.read(&info.edition, span).unwrap(), rows.rows(240..243));
}

#[test]
fn undo_steps_back_and_data_holds_only_current_files() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let (one, two) = (bars("2024-01-01", 10), bars("2024-02-01", 20));
    put(&mut shelf, &one);
    let second = put(&mut shelf, &two);
    assert_eq!((second.edition.number, data_files(dir.path())), (2, 1));
    shelf.undo(&name()).unwrap();
    assert_eq!(shelf.read(&shelf.find(&name()).unwrap().edition, Span::ALL).unwrap(), one);
    assert_eq!(data_files(dir.path()), 1);
    shelf.undo(&name()).unwrap();
    assert_eq!(data_files(dir.path()), 0);
    assert!(shelf.find(&name()).unwrap_err().to_string().contains("nothing of NOKSEK"));
    assert_eq!(put(&mut shelf, &one).edition.number, 3);
}

#[test]
fn unchanged_years_are_shared_between_editions() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2023-12-31 20:00", 600));
    let cut = parse("2024-01-01").unwrap();
    let mut draft = shelf.draft(&name(), origin("check")).unwrap();
    let rest = draft.keep_files(|_, last| last < cut).unwrap();
    assert_eq!(rest.len(), 1);
    draft.push(bars("2024-01-01", 5)).unwrap();
    let info = draft.commit().unwrap();
    assert_eq!(info.edition.rows, 245);
    let read = shelf.read(&info.edition, Span::ALL).unwrap();
    assert!(read.is_sorted() && read.len() == 245);
}

#[test]
fn a_dropped_draft_and_stray_files_leave_no_trace() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    let mut draft = shelf.draft(&name(), origin("intake")).unwrap();
    draft.push(bars("2025-01-01", 10)).unwrap();
    drop(draft);
    assert_eq!(data_files(dir.path()), 1);
    drop(shelf);
    let stray = dir.path().join("data/instrument=NOKSEK/source=quill/frame=1m/year=2030");
    std::fs::create_dir_all(&stray).unwrap();
    std::fs::write(stray.join("000009.parquet.tmp"), b"half").unwrap();
    let shelf = Shelf::open_to_write(dir.path()).unwrap();
    assert_eq!(data_files(dir.path()), 1);
    assert!(!stray.exists());
    assert_eq!(shelf.find(&name()).unwrap().edition.rows, 10);
}

#[test]
fn rows_out_of_order_and_empty_editions_are_refused() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut draft = shelf.draft(&name(), origin("intake")).unwrap();
    draft.push(bars("2024-01-02", 3)).unwrap();
    assert!(draft.push(bars("2024-01-01", 3)).is_err());
    drop(draft);
    let draft = shelf.draft(&name(), origin("intake")).unwrap();
    assert!(draft.commit().is_err());
    assert!(shelf.series().unwrap().is_empty());
}

#[test]
fn a_second_writer_a_newer_shelf_and_junk_are_told_in_a_sentence() {
    let dir = tempfile::tempdir().unwrap();
    let writer = Shelf::open_to_write(dir.path()).unwrap();
    let err = Shelf::open_to_write(dir.path()).err().unwrap();
    assert!(err.is_locked() && err.to_string().contains(&std::process::id().to_string()), "{err}");
    assert!(Shelf::open(dir.path()).is_ok(), "readers are welcome");
    drop(writer);
    let db = Connection::open(dir.path().join("catalog.db")).unwrap();
    db.pragma_update(None, "user_version", 99).unwrap();
    drop(db);
    assert!(Shelf::open(dir.path()).err().unwrap().to_string().contains("newer Stavel"));
    let junk = tempfile::tempdir().unwrap();
    std::fs::write(junk.path().join("catalog.db"), vec![7u8; 5000]).unwrap();
    assert!(Shelf::open(junk.path()).err().unwrap().to_string().contains("not a catalog"));
}

#[test]
fn instruments_inherit_and_cannot_go_in_circles() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let own = |like: Option<&str>, k: &str, v: &str| OwnValues {
        like: like.map(str::to_owned),
        said: [(k.to_string(), v.to_string())].into(),
        ..OwnValues::default()
    };
    shelf.put_instrument("NOKSEK", &own(None, "commission", "3.5")).unwrap();
    shelf.put_instrument("NOKSEK.day", &own(Some("NOKSEK"), "spread", "18")).unwrap();
    assert_eq!(shelf.instrument("NOKSEK.day").unwrap().values["commission"], "3.5");
    assert!(shelf.put_instrument("NOKSEK", &own(Some("NOKSEK.day"), "spread", "1")).is_err());
    assert!(shelf.put_instrument("X", &own(Some("nowhere"), "spread", "1")).is_err());
}
