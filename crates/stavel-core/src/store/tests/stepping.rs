//! Everything that changes can be stepped back and forth, by series and by whole acts.

use super::*;

type Seen = (Vec<(String, u64)>, Vec<String>, usize, Vec<String>);

/// What is on a shelf: series with their rows, instruments, dated facts, layouts.
fn seen(shelf: &Shelf) -> Seen {
    let series = shelf.series().unwrap();
    let instruments = shelf.instruments().unwrap();
    let facts = instruments.iter().map(|i| shelf.facts(&i.name).unwrap().len()).sum();
    let values = |i: &Instrument| format!("{} {:?}", i.name, i.own.said);
    (
        series
            .iter()
            .map(|s| (s.name.to_string(), shelf.read(&s.edition, Span::ALL).unwrap().len() as u64))
            .collect(),
        instruments.iter().map(values).collect(),
        facts,
        shelf.layouts().unwrap().into_iter().filter_map(|l| l.name).collect(),
    )
}

fn said(key: &str, value: &str) -> OwnValues {
    OwnValues { said: [(key.to_owned(), value.to_owned())].into(), ..OwnValues::default() }
}

/// Every kind of change, one act each.
fn acts() -> Vec<fn(&mut Shelf)> {
    vec![
        |shelf| drop(put(shelf, &bars("2024-01-01", 10))),
        |shelf| drop(put(shelf, &bars("2024-01-01", 30))),
        |shelf| drop(shelf.put_instrument("NOKSEK", &said("commission", "3.5")).unwrap()),
        |shelf| drop(shelf.put_instrument("NOKSEK", &said("commission", "4")).unwrap()),
        |shelf| shelf.rename(&name(), &"NZDSEK@tarn:1m".parse().unwrap()).unwrap(),
        |shelf| {
            let fact = InstrumentFact {
                source: "q".into(),
                time: 1,
                kind: "event".into(),
                values: Default::default(),
            };
            shelf.put_facts("BLY", &[fact]).unwrap();
        },
        |shelf| {
            let layout = Layout::plain(&[crate::model::Use::Moment]);
            shelf.save_layout("mine", &layout).unwrap();
        },
        |shelf| shelf.remove(&"NZDSEK@tarn:1m".parse().unwrap()).unwrap(),
    ]
}

#[test]
fn every_kind_of_act_is_undone_and_redone() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let mut states = vec![seen(&shelf)];
    for act in acts() {
        act(&mut shelf);
        states.push(seen(&shelf));
    }
    for round in 0..2 {
        for state in states.iter().rev().skip(1) {
            shelf.undo_act().unwrap();
            assert_eq!(seen(&shelf), *state, "round {round}");
        }
        assert!(shelf.undo_act().unwrap_err().to_string().contains("nothing to step back over"));
        assert_eq!(data_files(dir.path()), 0);
        for state in states.iter().skip(1) {
            shelf.redo_act().unwrap();
            assert_eq!(seen(&shelf), *state, "round {round}");
        }
        assert!(shelf.redo_act().unwrap_err().to_string().contains("nothing to step forth over"));
        assert!(shelf.verify(None, &Job::unwatched()).unwrap().faults.is_empty());
    }
}

#[test]
fn a_series_is_stepped_alone_and_its_empty_instrument_goes_and_comes_with_it() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    put(&mut shelf, &bars("2024-01-01", 30));
    shelf.undo(&name()).unwrap();
    assert_eq!(shelf.find(&name()).unwrap().edition.rows, 10);
    shelf.undo(&name()).unwrap();
    assert_eq!(seen(&shelf), (vec![], vec![], 0, vec![]), "nothing is left of it");
    assert!(shelf.undo(&name()).unwrap_err().to_string().contains("nothing to step back over"));
    for rows in [10, 30] {
        shelf.redo(&name()).unwrap();
        assert_eq!(shelf.find(&name()).unwrap().edition.rows, rows);
    }
    assert!(shelf.redo(&name()).unwrap_err().to_string().contains("nothing to step forth over"));
    assert!(shelf.undo(&"NOKSEK@nowhere:1m".parse().unwrap()).is_err());
}

#[test]
fn one_undo_takes_back_all_that_one_act_did() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    shelf.begin_act("run").unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    shelf.begin_act("a step within").unwrap();
    shelf.put_instrument("NZDSEK", &said("commission", "1")).unwrap();
    shelf.end_act("", "a step within").unwrap();
    shelf.end_act("", "two things").unwrap();
    let both = seen(&shelf);
    let undone = shelf.undo_act().unwrap();
    assert_eq!((undone.text.as_str(), undone.changes.len()), ("two things", 3), "{undone:?}");
    assert_eq!(seen(&shelf), (vec![], vec![], 0, vec![]));
    shelf.redo_act().unwrap();
    assert_eq!(seen(&shelf), both);
}

#[test]
fn an_act_that_fails_leaves_nothing_to_undo() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    let before = seen(&shelf);
    shelf.begin_act("intake").unwrap();
    put(&mut shelf, &bars("2024-01-01", 30));
    shelf.put_instrument("NZDSEK", &said("commission", "1")).unwrap();
    shelf.abandon_act().unwrap();
    assert_eq!(seen(&shelf), before);
    assert!(shelf.redo_act().is_err(), "what failed is not offered again");
    shelf.undo_act().unwrap();
    assert!(shelf.series().unwrap().is_empty());
}

#[test]
fn a_new_change_ends_what_could_be_redone_of_the_same_thing() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    put(&mut shelf, &bars("2024-01-01", 30));
    shelf.undo_act().unwrap();
    put(&mut shelf, &bars("2024-01-01", 50));
    assert!(shelf.redo(&name()).is_err() && shelf.redo_act().is_err());
    shelf.undo(&name()).unwrap();
    assert_eq!(shelf.find(&name()).unwrap().edition.rows, 10);
}

#[test]
fn tidying_ends_what_can_be_undone_of_a_series() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    put(&mut shelf, &bars("2024-01-01", 30));
    let tidied = shelf.tidy(Some(&name()), &Job::unwatched()).unwrap();
    assert_eq!((tidied.editions, tidied.files), (1, 1));
    assert!(shelf.undo(&name()).unwrap_err().to_string().contains("tidied away"));
    assert_eq!(shelf.find(&name()).unwrap().edition.rows, 30);
}

#[test]
fn a_name_that_was_tidied_can_be_taken_and_one_that_can_come_back_cannot() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let other: SeriesName = "NOKSEK@other:1m".parse().unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    shelf.rename(&name(), &other).unwrap();
    put(&mut shelf, &bars("2024-01-01", 20));
    shelf.remove(&other).unwrap();
    assert!(shelf.rename(&name(), &other).unwrap_err().to_string().contains("until it is tidied"));
    shelf.tidy(None, &Job::unwatched()).unwrap();
    shelf.rename(&name(), &other).unwrap();
    assert_eq!(shelf.find(&other).unwrap().edition.rows, 20);
    shelf.undo(&other).unwrap();
    assert_eq!(shelf.find(&name()).unwrap().edition.rows, 20);
    assert!(shelf.verify(None, &Job::unwatched()).unwrap().faults.is_empty());
}

#[test]
fn what_was_undone_last_comes_back_first_and_what_was_passed_over_only_by_its_series() {
    let dir = tempfile::tempdir().unwrap();
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let other: SeriesName = "NOKSEK@tarn:1m".parse().unwrap();
    put(&mut shelf, &bars("2024-01-01", 10));
    shelf.undo_act().unwrap();
    let mut draft = shelf.draft(&other, origin("intake")).unwrap();
    draft.push(bars("2024-01-02", 5)).unwrap();
    draft.commit().unwrap();
    shelf.undo_act().unwrap();
    shelf.redo_act().unwrap();
    let names = |shelf: &Shelf| shelf.series().unwrap().into_iter().map(|s| s.name).collect::<Vec<_>>();
    assert_eq!(names(&shelf), std::slice::from_ref(&other));
    assert!(shelf.redo_act().is_err(), "something was done after the first was undone");
    shelf.redo(&name()).unwrap();
    assert_eq!(names(&shelf), [name(), other]);
}
