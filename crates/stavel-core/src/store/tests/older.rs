//! A shelf of the version before is brought up when it is opened.

use std::io::Read;

use super::*;
use crate::model::ABSENT;

fn unpacked(root: &Path) {
    let bytes = include_bytes!("shelf-of-version-2.zip");
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(&bytes[..])).unwrap();
    for i in 0..archive.len() {
        let mut file = archive.by_index(i).unwrap();
        let path = root.join(&*file.name().unwrap());
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        let mut text = Vec::new();
        file.read_to_end(&mut text).unwrap();
        std::fs::write(path, text).unwrap();
    }
}

fn rows_of(shelf: &Shelf) -> Vec<(String, u64)> {
    shelf.series().unwrap().iter().map(|s| (s.name.to_string(), s.edition.rows)).collect()
}

#[test]
fn it_opens_is_brought_up_and_verifies() {
    let dir = tempfile::tempdir().unwrap();
    unpacked(dir.path());
    // Opened to read: whoever is first brings it up.
    let shelf = Shelf::open(dir.path()).unwrap();
    let series = rows_of(&shelf);
    let expected = [
        ("NOKSEK@joined:1m", 760),
        ("NOKSEK@joined:1h", 13),
        ("NOKSEK@other:1m", 120),
        ("NOKSEK@quill:ticks", 500),
        ("NOKSEK@tarn:1m", 400),
        ("NOKSEK@tarn:1h", 7),
        ("NOKSEK@tarn:1d", 20),
        ("NOKSEK@tarn:1d.built", 1),
    ];
    let mut told: Vec<(&str, u64)> = series.iter().map(|(n, r)| (n.as_str(), *r)).collect();
    told.sort_unstable();
    let mut wanted = expected.to_vec();
    wanted.sort_unstable();
    assert_eq!(told, wanted, "the broker's own days are back, the built ones beside them");
    let found = shelf.verify(None, &Job::unwatched()).unwrap();
    assert!(found.faults.is_empty() && found.lost.is_empty() && found.files == 11, "{found:?}");
    assert!(dir.path().join("catalog-before-3.db").exists() && dir.path().join("shelf.toml").exists());
    let data = files_in(dir.path(), "data");
    assert!(
        data.contains(&"instrument=NOKSEK/source=quill/frame=ticks/year=2024/2024-02-000001.parquet".into())
    );
    assert!(data.iter().all(|f| f.split('/').count() == 5), "{data:?}");
    assert_eq!(files_in(dir.path(), "afloat").len(), 1);
}

#[test]
fn its_unknown_spreads_are_absent_and_what_made_it_is_typed() {
    let dir = tempfile::tempdir().unwrap();
    unpacked(dir.path());
    let shelf = Shelf::open(dir.path()).unwrap();
    let tarn = shelf.find(&"NOKSEK@tarn:1m".parse().unwrap()).unwrap();
    let spreads = shelf.read(&tarn.edition, Span::ALL).unwrap();
    let spreads = spreads.column(Field::Spread);
    assert_eq!(spreads.iter().filter(|s| **s == ABSENT).count(), 80, "every fifth was 0 for not known");
    assert!(!spreads.contains(&0));
    let Made::Intake(taken) = &tarn.edition.provenance.made else { panic!("{:?}", tarn.edition.provenance) };
    assert_eq!((taken.rows_read, taken.files[0].name.as_str()), (400, "t1m.csv"));
    assert!(taken.files[0].sha256.is_some());
    let joined = shelf.find(&"NOKSEK@joined:1m".parse().unwrap()).unwrap();
    let (sources, ask) = crate::splice::ask_of(&joined).unwrap();
    assert_eq!(
        sources.iter().map(SeriesName::to_string).collect::<Vec<_>>(),
        ["NOKSEK@tarn:1m", "NOKSEK@quill:1m"]
    );
    assert_eq!(ask.rule, crate::splice::SpliceRule::Span);
    assert_eq!(shelf.staleness(&joined.edition).unwrap().len(), 1, "quill:1m was undone");
    assert_eq!(shelf.instrument("NOKSEK").unwrap().values["commission"], "3.50");
}

#[test]
fn what_could_be_undone_in_it_still_can() {
    let dir = tempfile::tempdir().unwrap();
    unpacked(dir.path());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    shelf.undo(&"NZDSEK@spare:1m".parse().unwrap()).unwrap();
    assert_eq!(shelf.find(&"NZDSEK@spare:1m".parse().unwrap()).unwrap().edition.rows, 600);
    let quill: SeriesName = "NOKSEK@quill:1m".parse().unwrap();
    shelf.redo(&quill).unwrap();
    assert_eq!(shelf.find(&quill).unwrap().edition.rows, 600);
    let joined = shelf.find(&"NOKSEK@joined:1m".parse().unwrap()).unwrap();
    assert!(shelf.staleness(&joined.edition).unwrap().is_empty(), "its source is back");
    let tarn: SeriesName = "NOKSEK@tarn:1m".parse().unwrap();
    shelf.undo(&tarn).unwrap();
    assert!(shelf.find(&tarn).is_err());
    shelf.redo(&tarn).unwrap();
    assert!(shelf.verify(None, &Job::unwatched()).unwrap().faults.is_empty());
    let next = put(&mut shelf, &bars("2024-04-01", 5)).edition;
    assert!(next.id > 10, "{next:?}");
}

#[test]
fn its_catalog_too_is_made_anew_from_the_files() {
    let dir = tempfile::tempdir().unwrap();
    unpacked(dir.path());
    std::fs::remove_file(dir.path().join("catalog.db")).unwrap();
    assert!(Shelf::open(dir.path()).err().unwrap().to_string().contains("made anew"));
    let rebuilt = rebuild(dir.path(), &Job::unwatched()).unwrap();
    assert_eq!(rebuilt.series, 7, "{rebuilt:?}");
    let shelf = Shelf::open(dir.path()).unwrap();
    let series = rows_of(&shelf);
    assert!(
        series.contains(&("NOKSEK@joined:1m".into(), 760))
            && series.contains(&("NOKSEK@other:1m".into(), 120))
    );
    assert!(shelf.find(&"NOKSEK@other:1m".parse().unwrap()).unwrap().is_afloat());
    let tarn = shelf.find(&"NOKSEK@tarn:1m".parse().unwrap()).unwrap();
    assert!(shelf.read(&tarn.edition, Span::ALL).unwrap().column(Field::Spread).contains(&ABSENT));
}

#[test]
fn bringing_it_up_goes_on_where_it_was_cut_short() {
    let dir = tempfile::tempdir().unwrap();
    unpacked(dir.path());
    let (db, version) = catalog::connect(&dir.path().join("catalog.db")).unwrap();
    assert_eq!(version, 2);
    // The catalog was brought up, and then the machine stopped: no file was moved, no mark was put.
    catalog::bring_up(&db, "0123").unwrap();
    drop(db);
    let shelf = Shelf::open(dir.path()).unwrap();
    assert!(shelf.verify(None, &Job::unwatched()).unwrap().faults.is_empty());
    assert_eq!(marker::Marker::read(dir.path()).unwrap().unwrap().id, "0123");
}
