//! New rows beside those already on the shelf.

use crate::model::Columns;

/// What became of new rows. `already + conflicts.len() + kept` is their number.
pub struct Merged {
    pub rows: Columns,
    pub kept: u64,
    pub already: u64,
    /// New rows (by place) whose time is taken by a row with other values.
    pub conflicts: Vec<usize>,
}

/// Adds `new` to `old`, both sorted by time, with the same fields and scale.
///
/// A new row that equals one already there at its time adds nothing. Another at the same time is a
/// conflict for bars, where the older is kept, and one more tick for ticks. Rows that are repeated
/// within `new` stay: what a file holds is for check to judge.
pub fn merge(old: &Columns, new: &Columns, ticks: bool) -> Merged {
    let mut out =
        Merged { rows: Columns::empty(&new.fields, new.scale), kept: 0, already: 0, conflicts: Vec::new() };
    let (mut o, mut n) = (0, 0);
    while o < old.len() || n < new.len() {
        if n == new.len() || o < old.len() && old.time[o] < new.time[n] {
            out.rows.push_from(old, o);
            o += 1;
            continue;
        }
        let time = new.time[n];
        let there = o..o + old.time[o..].partition_point(|&t| t <= time);
        for i in there.clone() {
            out.rows.push_from(old, i);
        }
        while n < new.len() && new.time[n] == time {
            if there.clone().any(|i| old.same_values(i, new, n)) {
                out.already += 1;
            } else if there.is_empty() || ticks {
                out.rows.push_from(new, n);
                out.kept += 1;
            } else {
                out.conflicts.push(n);
            }
            n += 1;
        }
        o = there.end;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Field, Scale};
    use proptest::prelude::*;

    fn columns(rows: &[(i64, i64)]) -> Columns {
        Columns {
            time: rows.iter().map(|r| r.0).collect(),
            fields: vec![Field::Close],
            data: vec![rows.iter().map(|r| r.1).collect()],
            scale: Scale::default(),
        }
    }

    #[test]
    fn conflicts_keep_the_older_bar_but_both_ticks() {
        let (old, new) = (columns(&[(1, 10), (3, 30)]), columns(&[(1, 11), (2, 20), (3, 30)]));
        let bars = merge(&old, &new, false);
        assert_eq!((bars.kept, bars.already, bars.conflicts.as_slice()), (1, 1, &[0][..]));
        assert_eq!(bars.rows, columns(&[(1, 10), (2, 20), (3, 30)]));
        assert_eq!(merge(&old, &new, true).rows, columns(&[(1, 10), (1, 11), (2, 20), (3, 30)]));
    }

    proptest! {
        #[test]
        fn counts_add_up_and_a_second_time_adds_nothing(
            mut old in proptest::collection::vec((0i64..20, 0i64..3), 0..30),
            mut new in proptest::collection::vec((0i64..20, 0i64..3), 0..30),
            ticks: bool,
        ) {
            old.sort();
            new.sort_by_key(|r| r.0);
            let (old, new) = (columns(&old), columns(&new));
            let once = merge(&old, &new, ticks);
            prop_assert!(once.rows.is_sorted());
            prop_assert_eq!(once.rows.len() as u64, old.len() as u64 + once.kept);
            prop_assert_eq!(once.kept + once.already + once.conflicts.len() as u64, new.len() as u64);
            let twice = merge(&once.rows, &new, ticks);
            prop_assert_eq!((twice.kept, twice.rows), (0, once.rows));
        }
    }
}
