//! New rows woven into old ones, against a slow plain way of doing it.

use proptest::prelude::*;
use stavel_core::intake::Hints;
use stavel_core::model::time::{DAY, parse, wall};
use stavel_core::model::{Field, Micros};

use crate::support::{Desk, quill};

type Row = (Micros, i64);

/// What adding new rows to old ones gives: the rows, then kept, already there, conflicting.
fn plainly(old: &[Row], new: &[Row], bars: bool, prefer_new: bool) -> (Vec<Row>, [u64; 3]) {
    let mut out: Vec<(Row, u8)> = old.iter().map(|r| (*r, 0)).collect();
    let [mut kept, mut already, mut conflicts] = [0; 3];
    let mut new = new.to_vec();
    new.sort_by_key(|r| r.0);
    let mut at = 0;
    while at < new.len() {
        let time = new[at].0;
        let group: Vec<Row> = new[at..].iter().copied().take_while(|r| r.0 == time).collect();
        at += group.len();
        let there: Vec<Row> = old.iter().copied().filter(|r| r.0 == time).collect();
        let fresh: Vec<Row> = group.iter().copied().filter(|r| !there.contains(r)).collect();
        already += (group.len() - fresh.len()) as u64;
        if there.is_empty() || !bars {
            kept += fresh.len() as u64;
            out.extend(fresh.iter().map(|r| (*r, 1)));
        } else if prefer_new && fresh.len() == group.len() {
            kept += fresh.len() as u64;
            out.retain(|(r, _)| r.0 != time);
            out.extend(fresh.iter().map(|r| (*r, 1)));
        } else {
            conflicts += fresh.len() as u64;
        }
    }
    out.sort_by_key(|(r, age)| (r.0, *age));
    (out.into_iter().map(|(r, _)| r).collect(), [kept, already, conflicts])
}

fn file_of(rows: &[Row], bars: bool) -> String {
    let head = if bars { "time (utc),open,high,low,close\n" } else { "time (utc),last\n" };
    let line = |(t, v): &Row| match bars {
        true => format!("{},{v},{v},{v},{v}\n", wall(*t)),
        false => format!("{},{v}\n", wall(*t)),
    };
    head.to_owned() + &rows.iter().map(line).collect::<String>()
}

/// Times over a few months and a turn of the year, so that several files are touched.
fn rows() -> impl Strategy<Value = Vec<Row>> {
    let start = parse("2023-11-15").unwrap();
    proptest::collection::vec((0i64..120, 1i64..4), 1..60)
        .prop_map(move |rows| rows.into_iter().map(|(d, v)| (start + d * DAY, v)).collect())
}

fn rows_on(desk: &Desk, series: &str, field: Field) -> Vec<Row> {
    let rows = desk.rows(series);
    rows.time.iter().copied().zip(rows.column(field).iter().copied()).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn weaving_is_merging(mut first in rows(), second in rows(), third in rows(), bars: bool, prefer_new: bool, sorted: bool) {
        let mut desk = Desk::new();
        if bars {
            first.sort();
            first.dedup_by_key(|r| r.0);
        }
        let (series, field) = if bars { ("X@quill:1d", Field::Close) } else { ("X@quill:ticks", Field::Last) };
        let hints = || Hints {
            instrument: Some("X".into()),
            frame: bars.then(|| "1d".parse().unwrap()),
            prefer_new,
            ..quill()
        };
        let mut expected: Vec<Row> = Vec::new();
        for (i, mut new) in [first, second, third].into_iter().enumerate() {
            if sorted {
                new.sort_by_key(|r| r.0);
            }
            let path = desk.file(&format!("x{i}.csv"), file_of(&new, bars));
            let taken = desk.take(&path, hints()).unwrap();
            let (rows, [kept, already, conflicts]) = plainly(&expected, &new, bars, prefer_new);
            prop_assert_eq!((taken.rows_kept, taken.rows_already_there, taken.rows_conflicting), (kept, already, conflicts));
            prop_assert_eq!(taken.rows_read, new.len() as u64);
            prop_assert_eq!(&rows_on(&desk, series, field), &rows);
            expected = rows;
            prop_assert!(desk.shelf.verify(None, &Default::default()).unwrap().faults.is_empty());
        }
    }

    #[test]
    fn replacing_takes_the_place_of_a_span(first in rows(), second in rows()) {
        let mut desk = Desk::new();
        let hints = |replace| Hints { instrument: Some("X".into()), replace, ..quill() };
        let path = desk.file("a.csv", file_of(&first, false));
        desk.take(&path, hints(false)).unwrap();
        let path = desk.file("b.csv", file_of(&second, false));
        let taken = desk.take(&path, hints(true)).unwrap();
        let (from, to) = (second.iter().map(|r| r.0).min().unwrap(), second.iter().map(|r| r.0).max().unwrap());
        let mut expected: Vec<Row> = first.iter().copied().filter(|r| r.0 < from || r.0 > to).collect();
        prop_assert_eq!(taken.rows_replaced as usize, first.len() - expected.len());
        expected.extend(&second);
        expected.sort_by_key(|r| r.0);
        prop_assert_eq!(rows_on(&desk, "X@quill:ticks", Field::Last), expected);
        desk.shelf.undo(&"X@quill:ticks".parse().unwrap()).unwrap();
        let mut first = first;
        first.sort_by_key(|r| r.0);
        prop_assert_eq!(rows_on(&desk, "X@quill:ticks", Field::Last), first);
    }
}

#[test]
fn a_file_without_news_is_taken_over_unwritten() {
    let mut desk = Desk::new();
    let days: Vec<Row> = (0..100).map(|d| (parse("2024-01-01").unwrap() + d * DAY, d)).collect();
    let hints = || Hints { instrument: Some("X".into()), ..quill() };
    let path = desk.file("a.csv", file_of(&days, false));
    desk.take(&path, hints()).unwrap();
    let before = desk.shelf.find(&"X@quill:ticks".parse().unwrap()).unwrap();
    // One row more in February, between all the others once again.
    let mut more = days.clone();
    more.insert(40, (days[39].0 + 7, 5));
    let path = desk.file("b.csv", file_of(&more, false));
    assert_eq!(desk.take(&path, hints()).unwrap().rows_kept, 1);
    let after = desk.shelf.find(&"X@quill:ticks".parse().unwrap()).unwrap();
    let files = |e| desk.shelf.segments(e).unwrap().into_iter().map(|s| s.path).collect::<Vec<_>>();
    let (before, after) = (files(&before.edition), files(&after.edition));
    let same: Vec<bool> = before.iter().zip(&after).map(|(a, b)| a == b).collect();
    assert_eq!(same, [true, false, true, true], "January, March and April are as they were");
    assert_eq!(desk.rows("X@quill:ticks").len(), 101);
}
