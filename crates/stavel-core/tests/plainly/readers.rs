//! Readers beside a writer: what is read is always one edition, whole.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use stavel_core::job::Job;
use stavel_core::model::time::{DAY, MINUTE};
use stavel_core::model::{Clock, Columns, Field, Made, Provenance, Scale, SeriesName, Span};
use stavel_core::store::{Origin, Shelf};

const NAME: &str = "NOKSEK@quill:1m";

/// Rows of two years that all hold one value.
fn rows(value: i64) -> Columns {
    let mut rows = Columns::empty(&[Field::Open, Field::Close], Scale { price: 5, volume: 0 });
    for i in 0..4000 {
        // The first half lies in one year, the rest in the next: two files.
        rows.time.push((19_720 + i / 2000 * 40) * DAY + i * MINUTE);
        rows.data.iter_mut().for_each(|column| column.push(value));
    }
    rows
}

fn write(shelf: &mut Shelf, value: i64) {
    let rows = rows(value);
    let origin = Origin {
        provenance: Provenance::of(Made::Intake(Box::default())),
        clock: Some(Clock::utc()),
        fields: rows.fields.clone(),
        scale: rows.scale,
    };
    let mut draft = shelf.draft(&NAME.parse().unwrap(), origin).unwrap();
    draft.push(rows).unwrap();
    draft.commit().unwrap();
}

/// Tells readers that nothing more is written.
struct EndOfWriting<'a>(&'a AtomicBool);

impl Drop for EndOfWriting<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Release);
    }
}

/// Reads the series once; a reader that lost a file to the writer reads again, as the bench does.
fn value_read(root: &std::path::Path) -> Option<i64> {
    let shelf = Shelf::open(root).ok()?;
    let info = shelf.current(&NAME.parse::<SeriesName>().unwrap()).ok()??;
    let rows = shelf.read(&info.edition, Span::ALL).ok()?;
    assert_eq!(rows.len(), 4000, "an edition is whole");
    let value = rows.column(Field::Open)[0];
    for field in [Field::Open, Field::Close] {
        assert!(rows.column(field).iter().all(|v| *v == value), "rows of two editions in one reading");
    }
    Some(value)
}

#[test]
fn no_reader_ever_sees_half_of_an_edition() {
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().join("shelf");
    let mut shelf = Shelf::open_to_write(&root).unwrap();
    write(&mut shelf, 0);
    let (ended, readings) = (AtomicBool::new(false), AtomicU64::new(0));
    std::thread::scope(|scope| {
        // Readers end with the writer, also where that fails.
        let _end = EndOfWriting(&ended);
        for _ in 0..3 {
            scope.spawn(|| {
                let mut latest = -1;
                while !ended.load(Ordering::Acquire) {
                    if let Some(value) = value_read(&root) {
                        readings.fetch_add(1, Ordering::Relaxed);
                        // Steps back show an older value again; nothing else does.
                        assert!(value >= latest - 1, "{value} after {latest}");
                        latest = value;
                    }
                }
            });
        }
        for value in 1..40 {
            write(&mut shelf, value);
            if value % 5 == 0 {
                shelf.undo_act().unwrap();
                shelf.redo_act().unwrap();
            }
            if value % 11 == 0 {
                shelf.tidy(None, &Job::unwatched()).unwrap();
            }
        }
    });
    assert!(readings.into_inner() > 0, "nothing was read meanwhile");
    assert_eq!(value_read(&root), Some(39));
    assert!(shelf.verify(None, &Job::unwatched()).unwrap().faults.is_empty());
}

#[test]
fn a_second_writer_is_refused_and_readers_are_not() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    write(&mut shelf, 7);
    let err = Shelf::open_to_write(dir.path()).err().unwrap();
    assert!(err.is_locked(), "{err}");
    assert_eq!(value_read(dir.path()), Some(7));
    let mut reader = Shelf::open(dir.path()).unwrap();
    let name: SeriesName = NAME.parse().unwrap();
    for refused in [
        reader.remove(&name).err(),
        reader.undo(&name).err(),
        reader.undo_act().err(),
        reader.rename(&name, &"NOKSEK@x:1m".parse().unwrap()).err(),
        reader.tidy(None, &Job::unwatched()).err(),
        reader.ensure_instrument("BLY").err(),
    ] {
        assert!(refused.is_some(), "a reader changed the shelf");
    }
    drop(shelf);
    assert!(Shelf::open_to_write(dir.path()).is_ok(), "the lock is given back");
}

#[test]
fn a_draft_that_is_let_go_leaves_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    write(&mut shelf, 1);
    let files = |folder: &str| -> usize {
        let mut count = 0;
        let mut open = vec![dir.path().join(folder)];
        while let Some(path) = open.pop() {
            for entry in std::fs::read_dir(path).into_iter().flatten().flatten() {
                if entry.path().is_dir() { open.push(entry.path()) } else { count += 1 }
            }
        }
        count
    };
    let before = files("data");
    let info = shelf.find(&NAME.parse().unwrap()).unwrap();
    let origin = Origin {
        provenance: Provenance::of(Made::Intake(Box::default())),
        clock: Some(Clock::utc()),
        fields: info.edition.fields.clone(),
        scale: info.edition.scale,
    };
    let mut draft = shelf.draft(&info.name, origin).unwrap();
    draft.push(rows(2)).unwrap();
    drop(draft);
    assert_eq!(files("data"), before);
    assert_eq!(value_read(dir.path()), Some(1));
    write(&mut shelf, 3);
    assert_eq!(value_read(dir.path()), Some(3), "the next one is written as if it had never been");
    let verified = shelf.verify(None, &Job::unwatched()).unwrap();
    assert!(verified.faults.is_empty() && verified.strangers.is_empty(), "{:?}", verified.strangers);
}
