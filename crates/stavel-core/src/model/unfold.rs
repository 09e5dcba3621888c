//! Written times to UTC, row by row: the one rule for hours that a clock showed twice, or never.

use super::{Clock, Frame, Micros, Wall, Walls};

/// How many written times were no single moment.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Doubtful {
    /// Shown twice by the clock; told by the order of rows.
    pub twice: u64,
    /// Never shown; taken as the moment of the jump.
    pub never: u64,
}

/// Moves the times of rows, in the order they are written, to UTC.
///
/// An hour that the clock showed twice is told by the order of its rows. Where written times go back within
/// it, what follows is the second time round. Where bars come in pairs written alike, the rows were sorted by
/// what the wall showed: the first of each pair is of the first time round. Where neither happens the rows
/// are of the first.
pub struct Unfold {
    /// None leaves times as written.
    walls: Option<Walls>,
    /// One row has a time for itself.
    is_bars: bool,
    /// The row before, as written and in UTC.
    before: (Micros, Micros),
    order: HourOrder,
    /// Rows at times that the clock showed twice or never, so far.
    pub doubtful: Doubtful,
}

/// How the rows of the hour at hand are ordered.
#[derive(Clone, Copy, PartialEq)]
enum HourOrder {
    Unknown,
    InUtc,
    AsWritten,
}

impl Unfold {
    /// For a clock (none leaves times as written) and rows of a frame.
    pub fn new(clock: Option<&Clock>, frame: Frame) -> Unfold {
        let walls = clock.filter(|c| **c != Clock::utc()).cloned().map(Walls::new);
        let (before, order) = ((Micros::MIN, Micros::MIN), HourOrder::Unknown);
        Unfold { walls, is_bars: frame.is_bars(), before, order, doubtful: Doubtful::default() }
    }

    /// True where times stay as written.
    pub fn is_idle(&self) -> bool {
        self.walls.is_none()
    }

    /// The next row's time in UTC, and whether that is a single moment.
    #[inline]
    pub fn read(&mut self, written: Micros) -> (Micros, bool) {
        let Some(walls) = &mut self.walls else { return (written, true) };
        match walls.read(written) {
            Wall::Once(utc) => {
                (self.before, self.order) = ((written, utc), HourOrder::Unknown);
                (utc, true)
            }
            wall => (self.settle(written, wall), false),
        }
    }

    #[cold]
    fn settle(&mut self, written: Micros, wall: Wall) -> Micros {
        let utc = match wall {
            Wall::Twice { first, second } => {
                self.doubtful.twice += 1;
                let is_alike = self.is_bars && written == self.before.0;
                if first < self.before.1 && written < self.before.0 {
                    self.order = HourOrder::InUtc;
                } else if is_alike && self.order == HourOrder::Unknown {
                    self.order = HourOrder::AsWritten;
                }
                let is_second = match self.order {
                    HourOrder::AsWritten => is_alike,
                    _ => first < self.before.1,
                };
                if is_second { second } else { first }
            }
            _ => {
                self.doubtful.never += 1;
                wall.settle()
            }
        };
        self.before = (written, utc);
        utc
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{MINUTE, SECOND, parse};

    fn oslo() -> Clock {
        "Europe/Oslo".parse().unwrap()
    }

    fn moved(written: &[Micros], frame: Frame) -> (Vec<Micros>, Doubtful) {
        let mut unfold = Unfold::new(Some(&oslo()), frame);
        let utc = written.iter().map(|t| unfold.read(*t).0).collect();
        (utc, unfold.doubtful)
    }

    /// Five hours around the night on which the clock goes back.
    fn night() -> Vec<Micros> {
        (0..300).map(|i| parse("2024-10-26 22:00").unwrap() + i * MINUTE).collect()
    }

    #[test]
    fn the_hour_shown_twice_is_told_by_where_the_rows_go_back() {
        let written: Vec<Micros> = night().iter().map(|t| oslo().to_wall(*t)).collect();
        assert_eq!(moved(&written, Frame::M1), (night(), Doubtful { twice: 120, never: 0 }));
    }

    #[test]
    fn bars_sorted_as_written_come_in_pairs() {
        let mut written: Vec<Micros> = night().iter().map(|t| oslo().to_wall(*t)).collect();
        written.sort();
        let (mut utc, doubtful) = moved(&written, Frame::M1);
        assert_eq!((utc[120], utc[121]), (night()[120], night()[180]));
        utc.sort();
        assert_eq!((utc, doubtful.twice), (night(), 120));
    }

    #[test]
    fn two_ticks_of_one_moment_are_not_two_hours() {
        let tick = parse("2024-10-27 02:30:00").unwrap();
        let first = parse("2024-10-27 00:30").unwrap();
        let later = tick + SECOND;
        let (utc, _) = moved(&[tick, tick, later, later, tick], Frame::Ticks);
        assert_eq!(utc, [first, first, first + SECOND, first + SECOND, first + 60 * MINUTE]);
    }

    #[test]
    fn a_bar_written_twice_before_the_rows_go_back_moves_no_other() {
        let mut written: Vec<Micros> = night().iter().map(|t| oslo().to_wall(*t)).collect();
        written.insert(130, written[130]);
        let (mut utc, _) = moved(&written, Frame::M1);
        utc.remove(131);
        assert_eq!(utc, night());
    }

    #[test]
    fn a_time_never_shown_is_the_jump() {
        let (utc, doubtful) = moved(&[parse("2024-03-31 02:30").unwrap()], Frame::M1);
        assert_eq!((utc[0], doubtful.never), (parse("2024-03-31 01:00").unwrap(), 1));
    }
}
