//! Moving written times to UTC, piece by piece.

use crate::model::Stamp;
use crate::model::{Clock, Columns, Doubtful, Frame, Micros, Unfold};

/// Moves rows, in order of written time, to UTC. Rows of an hour that the clock showed twice come out in
/// order of UTC.
pub struct Mover {
    unfold: Unfold,
    stamp: Stamp,
    frame: Frame,
    /// What bars stamped at their close are moved back by.
    back: Micros,
    /// Rows of a doubtful stretch that has not ended.
    held: Option<Columns>,
}

impl Mover {
    /// For rows written in a clock, with bars stamped at one of their ends.
    pub fn new(clock: &Clock, stamp: Stamp, frame: Frame) -> Mover {
        Mover { unfold: Unfold::new(Some(clock), frame), stamp, frame, back: stamp.back(frame), held: None }
    }

    /// How many of the times so far were no single moment.
    pub fn doubtful(&self) -> Doubtful {
        self.unfold.doubtful
    }

    /// Moves the next rows; gives those whose place is settled.
    pub fn push(&mut self, mut rows: Columns) -> Columns {
        // The end of a bar is what the wall showed; where it opened is a bar earlier in UTC.
        let mut settled = 0;
        for (i, t) in rows.time.iter_mut().enumerate() {
            let (utc, is_sure) = self.unfold.read(self.stamp.calendar_open(self.frame, *t));
            if is_sure {
                settled = i + 1;
            }
            *t = utc - self.back;
        }
        let rest = (settled < rows.len()).then(|| rows.rows(settled..rows.len()));
        rows.truncate(settled);
        if settled > 0 {
            if let Some(mut held) = self.held.take() {
                held.append(&rows);
                rows = held;
            }
            rows.sort();
        }
        match (&mut self.held, rest) {
            (Some(held), Some(rest)) => held.append(&rest),
            (held @ None, rest) => *held = rest,
            (Some(_), None) => {}
        }
        rows
    }

    /// The rows that waited.
    pub fn finish(&mut self) -> Option<Columns> {
        let mut rows = self.held.take()?;
        rows.sort();
        Some(rows)
    }
}
