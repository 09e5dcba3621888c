//! Nothing that a person owns is ever deleted.

use super::*;

fn closed_shelf_with_rows(root: &Path) {
    let mut shelf = Shelf::open_to_write(root).unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
}

#[test]
fn a_folder_with_other_things_in_it_is_not_made_a_shelf() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::create_dir(dir.path().join("data")).unwrap();
    std::fs::write(dir.path().join("data/mine.csv"), "time,close\n").unwrap();
    for opened in [Shelf::open(dir.path()), Shelf::open_to_write(dir.path())] {
        let told = opened.err().unwrap().to_string();
        assert!(told.contains("is not a shelf") && told.contains("there is data"), "{told}");
    }
    let left: Vec<_> = std::fs::read_dir(dir.path()).unwrap().flatten().map(|e| e.file_name()).collect();
    assert_eq!(left, ["data"], "nothing was made there");
    assert!(dir.path().join("data/mine.csv").exists());
}

#[test]
fn an_empty_folder_and_one_that_is_not_there_become_shelves_of_their_own() {
    let dir = tempfile::tempdir().unwrap();
    for path in [dir.path().join("new/deep"), dir.path().to_owned()] {
        if path.exists() {
            std::fs::remove_dir_all(path.join("new")).unwrap();
        }
        let shelf = Shelf::open(&path).unwrap();
        let marker = marker::Marker::read(&path).unwrap().unwrap();
        assert_eq!(marker.id, catalog::shelf_id(&shelf.db).unwrap());
        assert_eq!((marker.id.len(), marker.version), (32, 3));
    }
}

#[test]
fn foreign_files_in_data_are_left_alone_and_told() {
    let dir = tempfile::tempdir().unwrap();
    closed_shelf_with_rows(dir.path());
    std::fs::write(dir.path().join("data/mine.csv"), "time,close\n").unwrap();
    std::fs::write(dir.path().join("data/instrument=NOKSEK/notes.txt"), "mine").unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-03-01", 10));
    let found = shelf.verify(None, &Job::unwatched()).unwrap();
    assert_eq!(found.strangers, ["data/instrument=NOKSEK/notes.txt", "data/mine.csv"]);
    assert!(found.faults.is_empty() && found.lost.is_empty(), "{found:?}");
}

#[test]
fn data_files_that_nobody_names_are_set_aside_and_listed() {
    let dir = tempfile::tempdir().unwrap();
    closed_shelf_with_rows(dir.path());
    let inside = "instrument=NOKSEK/source=quill/frame=1m/year=2024/from-a-friend.parquet";
    let real = files_in(dir.path(), "data")[0].clone();
    std::fs::copy(dir.path().join("data").join(real), dir.path().join("data").join(inside)).unwrap();
    let shelf = Shelf::open(dir.path()).unwrap();
    assert_eq!(shelf.verify(None, &Job::unwatched()).unwrap().lost, [format!("data/{inside}")]);
    drop(shelf);
    let shelf = Shelf::open_to_write(dir.path()).unwrap();
    let aside = format!("lost/data/{inside}");
    assert_eq!(shelf.set_aside, std::slice::from_ref(&aside));
    assert!(dir.path().join(&aside).exists());
    assert_eq!(shelf.verify(None, &Job::unwatched()).unwrap().lost, [aside]);
    assert!(shelf.journal(5).unwrap()[0].text.contains("set aside in lost/"));
}

#[test]
fn a_catalog_that_is_lost_stops_everything_until_it_is_made_anew() {
    let dir = tempfile::tempdir().unwrap();
    closed_shelf_with_rows(dir.path());
    let files = files_in(dir.path(), "data");
    std::fs::remove_file(dir.path().join("catalog.db")).unwrap();
    for opened in [Shelf::open(dir.path()), Shelf::open_to_write(dir.path())] {
        let told = opened.err().unwrap().to_string();
        assert!(told.contains("The catalog") && told.contains("made anew"), "{told}");
    }
    assert_eq!(files_in(dir.path(), "data"), files, "nothing was touched");
}

#[test]
fn a_catalog_of_an_earlier_day_is_not_written_to() {
    let dir = tempfile::tempdir().unwrap();
    closed_shelf_with_rows(dir.path());
    let catalog = dir.path().join("catalog.db");
    let copy = dir.path().join("yesterday.db");
    Shelf::open(dir.path()).unwrap().db.execute("VACUUM INTO ?1", [copy.to_str().unwrap()]).unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-03-01", 20));
    drop(shelf);
    for ending in ["-wal", "-shm"] {
        let _ = std::fs::remove_file(dir.path().join(format!("catalog.db{ending}")));
    }
    std::fs::rename(&copy, &catalog).unwrap();
    let before = (files_in(dir.path(), "data"), files_in(dir.path(), "past"));
    let told = Shelf::open_to_write(dir.path()).err().unwrap().to_string();
    assert!(told.contains("older than its data") && told.contains("1 data files"), "{told}");
    assert_eq!((files_in(dir.path(), "data"), files_in(dir.path(), "past")), before);
    assert!(Shelf::open(dir.path()).is_ok(), "it can be looked at");
    assert_eq!(rebuild(dir.path(), &Job::unwatched()).unwrap().rows, 20);
    assert_eq!(Shelf::open(dir.path()).unwrap().find(&name()).unwrap().edition.rows, 20);
}

#[test]
fn a_catalog_of_another_shelf_is_not_written_to() {
    let (here, there) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    closed_shelf_with_rows(here.path());
    closed_shelf_with_rows(there.path());
    for ending in ["", "-wal", "-shm"] {
        let file = format!("catalog.db{ending}");
        let _ = std::fs::remove_file(here.path().join(&file));
        let _ = std::fs::copy(there.path().join(&file), here.path().join(&file));
    }
    let told = Shelf::open_to_write(here.path()).err().unwrap().to_string();
    assert!(told.contains("of another shelf"), "{told}");
    assert_eq!(data_files(here.path()), 1);
}

#[test]
fn the_catalog_is_made_anew_from_the_files_alone() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let own = OwnValues { said: [("commission".into(), "3.5".into())].into(), ..OwnValues::default() };
    shelf.put_instrument("NOKSEK", &own).unwrap();
    put(&mut shelf, &bars("2023-12-31 23:00", 100));
    put(&mut shelf, &bars("2023-12-31 22:00", 200));
    let mut afloat = Origin { clock: None, ..origin("intake") };
    afloat.provenance.made = Made::Intake(Box::new(TakenIn { rows_read: 77, ..TakenIn::default() }));
    let floating: SeriesName = "NOKSEK@tarn:1m.ask".parse().unwrap();
    let mut draft = shelf.draft(&floating, afloat).unwrap();
    draft.push(bars("2024-01-01", 30)).unwrap();
    draft.commit().unwrap();
    let before: Vec<(String, EditionInfo)> =
        shelf.series().unwrap().into_iter().map(|s| (s.name.to_string(), s.edition)).collect();
    let rows: Vec<Columns> = before.iter().map(|b| shelf.read(&b.1, Span::ALL).unwrap()).collect();
    let sheet = shelf.instrument("NOKSEK").unwrap().values;
    drop(shelf);
    for ending in ["", "-wal", "-shm"] {
        let _ = std::fs::remove_file(dir.path().join(format!("catalog.db{ending}")));
    }
    let rebuilt = rebuild(dir.path(), &Job::unwatched()).unwrap();
    assert_eq!((rebuilt.series, rebuilt.files, rebuilt.rows, rebuilt.old_catalog), (2, 3, 230, None));
    assert_eq!(rebuilt.set_aside, 2, "the files of the first edition wait in lost/");
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    assert!(shelf.verify(None, &Job::unwatched()).unwrap().faults.is_empty());
    for (i, (name, then)) in before.iter().enumerate() {
        let now = shelf.find(&name.parse().unwrap()).unwrap().edition;
        assert_eq!(
            (now.id, now.number, &now.clock, now.scale),
            (then.id, then.number, &then.clock, then.scale)
        );
        assert_eq!((&now.provenance, &now.fields), (&then.provenance, &then.fields));
        assert_eq!(shelf.read(&now, Span::ALL).unwrap(), rows[i]);
    }
    assert_eq!(shelf.instrument("NOKSEK").unwrap().values, sheet);
    let next = put(&mut shelf, &bars("2024-05-01", 5)).edition;
    assert!(next.id > before.iter().map(|b| b.1.id).max().unwrap(), "ids are not given twice");
    assert_eq!(next.number, 3);
}

#[test]
fn a_rebuild_keeps_the_old_catalog_and_takes_over_what_only_it_knows() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    let fact =
        InstrumentFact { source: "quill".into(), time: 5, kind: "event".into(), values: Default::default() };
    shelf.put_facts("BLY", std::slice::from_ref(&fact)).unwrap();
    shelf.note("", "", "something was done").unwrap();
    drop(shelf);
    let rebuilt = rebuild(dir.path(), &Job::unwatched()).unwrap();
    let old = rebuilt.old_catalog.unwrap();
    assert!(dir.path().join(&old).is_file(), "{old}");
    let shelf = Shelf::open(dir.path()).unwrap();
    assert_eq!(shelf.facts("BLY").unwrap(), [fact]);
    assert!(shelf.journal(10).unwrap().iter().any(|l| l.text == "something was done"));
    assert_eq!(shelf.find(&name()).unwrap().edition.rows, 10);
}

#[test]
fn only_unfinished_files_of_its_own_are_removed() {
    let dir = tempfile::tempdir().unwrap();
    closed_shelf_with_rows(dir.path());
    let path = "instrument=NOKSEK/source=quill/frame=1m/year=2030/2030-000009.parquet";
    for unfinished in [format!("writing/{path}"), format!("writing/{path}.tmp")] {
        let place = dir.path().join(unfinished);
        std::fs::create_dir_all(place.parent().unwrap()).unwrap();
        std::fs::write(place, b"half").unwrap();
    }
    std::fs::create_dir(dir.path().join("sorting-x1")).unwrap();
    std::fs::write(dir.path().join("plan.txt"), b"a person's own").unwrap();
    let shelf = Shelf::open_to_write(dir.path()).unwrap();
    assert!(files_in(dir.path(), "writing").is_empty() && shelf.set_aside.is_empty());
    assert!(!dir.path().join("sorting-x1").exists());
    assert!(dir.path().join("plan.txt").exists());
    assert_eq!(data_files(dir.path()), 1);
}

#[test]
fn an_edition_id_is_never_given_twice() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let first = put(&mut shelf, &bars("2024-01-01", 10)).edition;
    let second = put(&mut shelf, &bars("2024-02-01", 10)).edition;
    drop(shelf.draft(&name(), origin("intake")).unwrap());
    shelf.undo(&name()).unwrap();
    shelf.tidy(None, &Job::unwatched()).unwrap();
    let third = put(&mut shelf, &bars("2024-03-01", 10)).edition;
    assert!(first.id < second.id && second.id + 1 < third.id, "{first:?} {second:?} {third:?}");
    assert_eq!(third.number, 3, "nor its number within the series");
    shelf.remove(&name()).unwrap();
    shelf.tidy(None, &Job::unwatched()).unwrap();
    assert!(shelf.series().unwrap().is_empty());
    let fourth = put(&mut shelf, &bars("2024-03-01", 10)).edition;
    assert!(fourth.id > third.id && fourth.number == 4);
}

#[test]
fn an_unreadable_row_of_the_catalog_is_told_and_never_a_default() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    for (change, what) in [
        ("UPDATE edition SET clock = 'Europe/Nowhere'", "clock"),
        ("UPDATE edition SET clock = NULL, fields = 'open,colour'", "column"),
        ("UPDATE edition SET fields = 'open', provenance = '{}'", "provenance"),
    ] {
        shelf.db.execute(change, []).unwrap();
        let told = shelf.find(&name()).unwrap_err().to_string();
        assert!(told.contains(what) && told.contains("cannot be read"), "{told}");
    }
}

#[test]
fn a_reader_gets_its_rows_while_editions_come_and_go_or_one_sentence() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let first = put(&mut shelf, &bars("2024-01-01", 10));
    let reader = Shelf::open(dir.path()).unwrap();
    let scan = reader.scan(&first.edition, Span::ALL, None).unwrap();
    put(&mut shelf, &bars("2024-02-01", 20));
    let rows: usize = scan.map(|piece| piece.unwrap().len()).sum();
    assert_eq!(rows, 10, "the files were moved to past/ meanwhile");
    let scan = reader.scan(&first.edition, Span::ALL, None).unwrap();
    shelf.tidy(None, &Job::unwatched()).unwrap();
    let told = scan.map(|piece| piece.unwrap_err().to_string()).collect::<Vec<_>>();
    assert!(told.len() == 1 && told[0].contains("moved or tidied away"), "{told:?}");
}
