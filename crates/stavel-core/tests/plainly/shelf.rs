//! Any row of acts on a shelf, against lists kept beside it.

use std::collections::BTreeMap;

use proptest::prelude::*;
use stavel_core::job::Job;
use stavel_core::model::time::{DAY, MINUTE};
use stavel_core::model::{Clock, Columns, Field, Made, Provenance, Scale, SeriesName, Span};
use stavel_core::store::{Origin, Shelf, rebuild};

/// An act on one of three series.
#[derive(Debug, Clone)]
enum Act {
    /// A new edition with so many rows from a day on.
    Write {
        series: usize,
        day: i64,
        rows: usize,
    },
    Remove(usize),
    Rename(usize, usize),
    Undo(usize),
    Redo(usize),
    UndoWhole,
    RedoWhole,
    Tidy,
    /// Closed and opened again.
    Reopen,
}

const NAMES: [&str; 3] = ["NOKSEK@quill:1m", "NOKSEK@tarn:1m", "BLY@quill:1m"];

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        6 => (0..3usize, 0..500i64, 1..40usize).prop_map(|(series, day, rows)| Act::Write { series, day, rows }),
        1 => (0..3usize).prop_map(Act::Remove),
        1 => (0..3usize, 0..3usize).prop_map(|(a, b)| Act::Rename(a, b)),
        2 => (0..3usize).prop_map(Act::Undo),
        2 => (0..3usize).prop_map(Act::Redo),
        2 => Just(Act::UndoWhole),
        2 => Just(Act::RedoWhole),
        1 => Just(Act::Tidy),
        1 => Just(Act::Reopen),
    ]
}

fn name(series: usize) -> SeriesName {
    NAMES[series].parse().unwrap()
}

fn rows(day: i64, count: usize) -> Columns {
    let mut rows = Columns::empty(&[Field::Open, Field::Close], Scale { price: 5, volume: 0 });
    for i in 0..count as i64 {
        rows.time.push((19_700 + day) * DAY + i * MINUTE);
        rows.data.iter_mut().for_each(|column| column.push(day * 100 + i));
    }
    rows
}

fn write(shelf: &mut Shelf, series: usize, rows: &Columns) {
    let origin = Origin {
        provenance: Provenance::of(Made::Intake(Box::default())),
        clock: Some(Clock::utc()),
        fields: rows.fields.clone(),
        scale: rows.scale,
    };
    let mut draft = shelf.draft(&name(series), origin).unwrap();
    draft.push(rows.clone()).unwrap();
    draft.commit().unwrap();
}

/// What is on a shelf: the rows of each series by its name.
fn held(shelf: &Shelf) -> BTreeMap<String, Columns> {
    let all = shelf.series().unwrap();
    all.iter().map(|s| (s.name.to_string(), shelf.read(&s.edition, Span::ALL).unwrap())).collect()
}

/// The plain version: whole states one after the other, for steps over whole acts.
struct Plain {
    now: BTreeMap<String, Columns>,
    back: Vec<BTreeMap<String, Columns>>,
    forth: Vec<BTreeMap<String, Columns>>,
}

impl Plain {
    fn change(&mut self, now: BTreeMap<String, Columns>) {
        self.back.push(std::mem::replace(&mut self.now, now));
        self.forth.clear();
    }

    /// Steps of single series and tidying have a past of their own; after them whole acts begin anew.
    fn begin_anew(&mut self, shelf: &Shelf) {
        *self = Plain { now: held(shelf), back: Vec::new(), forth: Vec::new() };
    }
}

/// Does an act on both; true where stepping over whole acts can be compared after it.
fn done(shelf: &mut Shelf, plain: &mut Plain, act: &Act, root: &std::path::Path) {
    match *act {
        Act::Write { series, day, rows: count } => {
            let rows = rows(day, count);
            write(shelf, series, &rows);
            let mut now = plain.now.clone();
            now.insert(NAMES[series].into(), rows);
            plain.change(now);
        }
        Act::Remove(series) => {
            let is_there = plain.now.contains_key(NAMES[series]);
            assert_eq!(shelf.remove(&name(series)).is_ok(), is_there);
            if is_there {
                let mut now = plain.now.clone();
                now.remove(NAMES[series]);
                plain.change(now);
            }
        }
        Act::Rename(from, to) => {
            // A name that was ever used is taken, so only what the shelf does is followed.
            let could = shelf.rename(&name(from), &name(to)).is_ok();
            assert!(!could || plain.now.contains_key(NAMES[from]), "what is not there got another name");
            assert!(!could || from == to || !plain.now.contains_key(NAMES[to]), "two series in one name");
            if could && from != to {
                let mut now = plain.now.clone();
                let rows = now.remove(NAMES[from]).unwrap();
                now.insert(NAMES[to].into(), rows);
                plain.change(now);
            } else if could {
                plain.begin_anew(shelf);
            }
        }
        Act::Undo(series) | Act::Redo(series) => {
            let before = held(shelf);
            let is_undo = matches!(act, Act::Undo(_));
            let stepped = if is_undo { shelf.undo(&name(series)) } else { shelf.redo(&name(series)) };
            if stepped.is_ok() {
                plain.begin_anew(shelf);
            }
            let others = |all: &BTreeMap<String, Columns>| {
                all.iter().filter(|(n, _)| **n != NAMES[series]).map(|(_, r)| r.clone()).collect::<Vec<_>>()
            };
            let touched = others(&before).iter().filter(|rows| !others(&held(shelf)).contains(rows)).count();
            assert!(touched <= 1, "a step of one series touched {touched} others");
        }
        Act::UndoWhole | Act::RedoWhole => {
            let is_undo = matches!(act, Act::UndoWhole);
            let expected = if is_undo { plain.back.pop() } else { plain.forth.pop() };
            let stepped = if is_undo { shelf.undo_act() } else { shelf.redo_act() };
            match expected {
                Some(state) => {
                    assert!(stepped.is_ok(), "{:?}", stepped.err());
                    let was = std::mem::replace(&mut plain.now, state);
                    if is_undo { plain.forth.push(was) } else { plain.back.push(was) }
                }
                // Older acts than those kept here may be stepped over.
                None => plain.begin_anew(shelf),
            }
        }
        Act::Tidy => {
            shelf.tidy(None, &Job::unwatched()).unwrap();
            assert_eq!(held(shelf), plain.now, "tidying takes nothing that is in use");
            assert_eq!(
                shelf.tidy(None, &Job::unwatched()).unwrap().files,
                0,
                "there is nothing left to tidy"
            );
            plain.begin_anew(shelf);
        }
        Act::Reopen => {
            // The lock is given back when a shelf is dropped.
            let (other, place) = (tempfile::tempdir().unwrap(), root.to_owned());
            *shelf = Shelf::open_to_write(other.path()).unwrap();
            *shelf = Shelf::open_to_write(&place).unwrap();
            assert!(shelf.set_aside.is_empty(), "{:?}", shelf.set_aside);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn a_shelf_holds_what_lists_beside_it_hold(acts in proptest::collection::vec(act(), 1..25)) {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path().join("shelf");
        let mut shelf = Shelf::open_to_write(&root).unwrap();
        let mut plain = Plain { now: BTreeMap::new(), back: Vec::new(), forth: Vec::new() };
        for act in &acts {
            done(&mut shelf, &mut plain, act, &root);
            prop_assert_eq!(&held(&shelf), &plain.now, "after {:?}", act);
        }
        let verified = shelf.verify(None, &Job::unwatched()).unwrap();
        prop_assert!(verified.faults.is_empty(), "{:?}", verified.faults);
        // A catalog made anew from the files holds the same rows.
        drop(shelf);
        if !plain.now.is_empty() {
            rebuild(&root, &Job::unwatched()).unwrap();
            let again = Shelf::open(&root).unwrap();
            for (series, rows) in &plain.now {
                let kept = held(&again);
                prop_assert_eq!(kept.get(series), Some(rows), "{} of {:?}", series, kept.keys());
            }
        }
    }
}
