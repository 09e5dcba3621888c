//! Moving written times to UTC, piece by piece.

use crate::intake::Stamp;
use crate::model::{Clock, Columns, Frame, Micros, Wall, Walls};

/// How many written times were no single moment.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Doubtful {
    /// Shown twice by the clock; told by the order of rows where both were written.
    pub twice: u64,
    /// Never shown; taken as the moment of the jump.
    pub never: u64,
}

/// Moves rows, in order of written time, to UTC. Rows of an hour that the clock showed twice come out in
/// order of UTC: of several rows written alike the first are of the first time round.
pub struct Mover {
    walls: Walls,
    /// What bars stamped at their close are moved back by.
    back: Micros,
    /// The doubtful time seen last, and how often.
    seen: (Micros, u32),
    /// Rows of a doubtful stretch that has not ended.
    held: Option<Columns>,
    pub doubtful: Doubtful,
}

impl Mover {
    pub fn new(clock: &Clock, stamp: Stamp, frame: Frame) -> Mover {
        Mover {
            walls: Walls::new(clock.clone()),
            back: stamp.back(frame),
            seen: (Micros::MIN, 0),
            held: None,
            doubtful: Doubtful::default(),
        }
    }

    /// Moves the next rows; gives those whose place is settled.
    pub fn push(&mut self, mut rows: Columns) -> Columns {
        // The end of a bar is what the wall showed; where it opened is a bar earlier in UTC.
        let mut settled = 0;
        for (i, t) in rows.time.iter_mut().enumerate() {
            let utc = match self.walls.read(*t) {
                Wall::Once(utc) => {
                    settled = i + 1;
                    utc
                }
                wall => self.in_doubt(*t, wall),
            };
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

    /// A written time that is no single moment, in UTC.
    fn in_doubt(&mut self, written: Micros, wall: Wall) -> Micros {
        match wall {
            Wall::Twice { first, second } => {
                self.doubtful.twice += 1;
                // Rows come in order of written time: those written alike follow each other.
                self.seen = match self.seen {
                    (before, n) if before == written => (written, n + 1),
                    _ => (written, 1),
                };
                if self.seen.1 > 1 { second } else { first }
            }
            _ => {
                self.doubtful.never += 1;
                wall.settle()
            }
        }
    }
}
