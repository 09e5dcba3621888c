//! Written times to UTC, row by row.

use super::Stamp;
use crate::model::{Clock, Frame, Micros, Wall, Walls};

/// Moves the times of a file, in its order, to UTC by a clock, and bars stamped at their close to their
/// open.
///
/// A wall time that a clock showed twice is taken as the second where the first would lie before the row
/// above; one that was never shown as the moment of the jump. Both are counted.
pub struct Anchor {
    /// None leaves times as written.
    walls: Option<Walls>,
    back: Micros,
    before: Micros,
    pub doubtful: u64,
    pub never: u64,
}

impl Anchor {
    /// For a clock (none leaves times as written) and for bars of `frame` stamped at `stamp`.
    pub fn new(clock: Option<&Clock>, stamp: Stamp, frame: Frame) -> Anchor {
        let walls = clock.filter(|c| **c != Clock::utc()).cloned().map(Walls::new);
        Anchor { walls, back: stamp.back(frame), before: Micros::MIN, doubtful: 0, never: 0 }
    }

    /// Moves the times of rows that follow those moved before.
    pub fn move_times(&mut self, times: &mut [Micros]) {
        let Some(walls) = &mut self.walls else {
            if self.back != 0 {
                times.iter_mut().for_each(|t| *t -= self.back);
            }
            return;
        };
        for t in times {
            let utc = match walls.read(*t) {
                Wall::Once(utc) => utc,
                Wall::Twice { first, second } => {
                    self.doubtful += 1;
                    if first < self.before { second } else { first }
                }
                Wall::Never { at } => {
                    self.never += 1;
                    at
                }
            };
            self.before = utc;
            *t = utc - self.back;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{MINUTE, parse};

    #[test]
    fn the_hour_shown_twice_is_told_by_the_order_of_rows() {
        let clock: Clock = "Europe/Oslo".parse().unwrap();
        let start = parse("2024-10-26 22:00").unwrap();
        let utc: Vec<Micros> = (0..300).map(|i| start + i * MINUTE).collect();
        let mut times: Vec<Micros> = utc.iter().map(|t| clock.to_wall(*t)).collect();
        let mut anchor = Anchor::new(Some(&clock), Stamp::Open, Frame::M1);
        // In pieces, as blocks of a file come.
        times.chunks_mut(37).for_each(|c| anchor.move_times(c));
        assert_eq!(times, utc);
        assert_eq!((anchor.doubtful, anchor.never), (120, 0));
        let mut jump = [parse("2024-03-31 02:30").unwrap()];
        anchor.move_times(&mut jump);
        assert_eq!((jump[0], anchor.never), (parse("2024-03-31 01:00").unwrap(), 1));
    }
}
