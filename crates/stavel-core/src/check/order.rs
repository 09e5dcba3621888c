//! Rows at one time: the same row again, or another one.

use super::piece::REPEATED;
use super::runs::RowRuns;
use super::{FindingKind, RowRun};
use crate::model::{Columns, Micros, Shape};

/// Compares each row with those at its time.
#[derive(Default)]
pub struct RowOrder {
    /// The time of the row before and the values of all rows at it, as far as they were needed.
    time: Option<Micros>,
    group: Vec<Vec<i64>>,
    runs: RowRuns,
}

impl RowOrder {
    /// Marks the rows that are one too many.
    pub fn piece(&mut self, rows: &Columns, join: Micros, marks: &mut [u8]) {
        // Two ticks of one moment are two ticks, and two equal ones two trades.
        if rows.shape() != Shape::Bars {
            return;
        }
        for (i, mark) in marks.iter_mut().enumerate() {
            let time = rows.time[i];
            if self.time != Some(time) {
                self.time = Some(time);
                self.group.clear();
                continue;
            }
            let values = |i: usize| rows.data.iter().map(|c| c[i]).collect::<Vec<i64>>();
            if self.group.is_empty() && i > 0 {
                self.group.push(values(i - 1));
            }
            let row = values(i);
            let kind = if self.group.contains(&row) {
                FindingKind::DuplicateTime
            } else {
                FindingKind::ConflictingTime
            };
            self.group.push(row);
            self.runs.add(kind, time, join);
            *mark |= REPEATED;
        }
        // The group may go on in the next piece.
        if let Some(last) = rows.len().checked_sub(1)
            && self.group.is_empty()
        {
            self.group.push(rows.data.iter().map(|c| c[last]).collect());
        }
    }

    pub fn finish(self) -> Vec<RowRun> {
        self.runs.done()
    }
}
