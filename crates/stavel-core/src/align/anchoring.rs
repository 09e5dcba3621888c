//! Moving written times to UTC, piece by piece.

use std::collections::HashMap;

use crate::intake::Stamp;
use crate::model::{Clock, Columns, Frame, Micros, Span, Wall};

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
    clock: Clock,
    /// What bars stamped at their close are moved back by.
    back: Micros,
    plain: (Span, Micros),
    /// How often each doubtful time was seen in this stretch.
    seen: HashMap<Micros, u32>,
    /// Rows of a doubtful stretch that has not ended.
    held: Option<Columns>,
    pub doubtful: Doubtful,
}

impl Mover {
    pub fn new(clock: &Clock, stamp: Stamp, frame: Frame) -> Mover {
        let back = match (stamp, frame) {
            (Stamp::Close, frame @ Frame::Bars { .. }) => frame.length(),
            _ => 0,
        };
        let plain = (Span::new(0, 0), 0);
        Mover {
            clock: clock.clone(),
            back,
            plain,
            seen: HashMap::new(),
            held: None,
            doubtful: Doubtful::default(),
        }
    }

    /// Moves the next rows; gives those whose place is settled.
    pub fn push(&mut self, mut rows: Columns) -> Columns {
        // The end of a bar is what the wall showed; where it opened is a bar earlier in UTC.
        let mut settled = 0;
        for (i, t) in rows.time.iter_mut().enumerate() {
            if self.plain.0.holds(*t) {
                *t -= self.plain.1 + self.back;
                settled = i + 1;
            } else {
                let (utc, sure) = self.look_up(*t);
                *t = utc - self.back;
                settled = if sure { i + 1 } else { settled };
            }
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

    /// A written time in UTC, and whether it is beyond doubt.
    fn look_up(&mut self, wall: Micros) -> (Micros, bool) {
        if let Some(plain) = self.clock.plain_span(wall) {
            self.plain = plain;
            self.seen.clear();
            return (wall - plain.1, true);
        }
        match self.clock.from_wall(wall) {
            Wall::Once(utc) => (utc, true),
            Wall::Twice { first, second } => {
                self.doubtful.twice += 1;
                let times = self.seen.entry(wall).or_default();
                *times += 1;
                (if *times > 1 { second } else { first }, false)
            }
            Wall::Never { at } => {
                self.doubtful.never += 1;
                (at, false)
            }
        }
    }
}
