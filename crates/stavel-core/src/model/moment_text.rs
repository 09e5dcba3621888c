//! Moments as text on the wall of a clock.

use super::time::written::{push_date, push_parts, push_time};
use super::time::{DAY, HOUR, MINUTE, Micros, Span, day_of};
use super::{Clock, Wall};

/// Writes the moments of rows, of which neighbours mostly share their day and their offset from UTC.
pub struct MomentWriter<'c> {
    clock: &'c Clock,
    /// Moments around the last one that share its offset.
    plain: (Span, Micros),
    day: i64,
    date: Vec<u8>,
    offset: Vec<u8>,
}

impl<'c> MomentWriter<'c> {
    /// A writer of the times that a clock shows.
    pub fn new(clock: &'c Clock) -> MomentWriter<'c> {
        MomentWriter {
            clock,
            plain: (Span::new(0, 0), 0),
            day: i64::MIN,
            date: Vec::new(),
            offset: Vec::new(),
        }
    }

    /// What the clock shows at a moment.
    #[inline]
    pub fn wall(&mut self, t: Micros) -> Micros {
        if !self.plain.0.holds(t) {
            self.look_up(t);
        }
        t + self.plain.1
    }

    fn look_up(&mut self, t: Micros) {
        let offset = self.clock.offset_at(t);
        let wall = t + offset;
        // Where the clock showed a time twice, only this moment is sure to be at this offset.
        let span = match self.clock.from_wall(wall) {
            Wall::Once(_) => self.clock.plain_span(wall).map_or(Span::new(t, t + 1), |(span, _)| {
                Span::new(span.from.saturating_sub(offset), span.to.saturating_sub(offset))
            }),
            _ => Span::new(t, t + 1),
        };
        self.plain = (span, offset);
        self.offset.clear();
        push_offset(&mut self.offset, offset);
    }

    /// Appends a moment as RFC 3339 has it: `2024-03-05T15:45:00+02:00`, `Z` for UTC.
    #[inline]
    pub fn push(&mut self, out: &mut Vec<u8>, t: Micros) {
        let wall = self.wall(t);
        let day = day_of(wall);
        if day != self.day {
            self.day = day;
            self.date.clear();
            push_date(&mut self.date, day);
            self.date.push(b'T');
        }
        out.extend_from_slice(&self.date);
        push_time(out, wall.rem_euclid(DAY));
        out.extend_from_slice(&self.offset);
    }
}

/// Appends the distance of a clock from UTC: `Z`, `+02:00`.
pub fn push_offset(out: &mut Vec<u8>, offset: Micros) {
    if offset == 0 {
        out.push(b'Z');
    } else {
        // RFC 3339 has no seconds in an offset; a clock that has them is told by its nearest minute.
        out.push(if offset < 0 { b'-' } else { b'+' });
        push_parts(out, &[(offset.abs() / HOUR, 2), (offset.abs() / MINUTE % 60, 2)], Some(b':'));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;

    fn push_moment(out: &mut Vec<u8>, t: Micros, clock: &Clock) {
        MomentWriter::new(clock).push(out, t);
    }

    #[test]
    fn a_moment_names_the_offset_of_its_clock() {
        let at = |clock: &str, moment: &str| {
            let mut out = Vec::new();
            push_moment(&mut out, parse(moment).unwrap(), &clock.parse().unwrap());
            String::from_utf8(out).unwrap()
        };
        assert_eq!(at("Europe/Oslo", "2024-03-31 00:59:59"), "2024-03-31T01:59:59+01:00");
        assert_eq!(at("Europe/Oslo", "2024-03-31 01:00"), "2024-03-31T03:00:00+02:00");
        assert_eq!(at("UTC-3:30", "2024-03-31 01:00"), "2024-03-30T21:30:00-03:30");
        assert_eq!(at("UTC", "2024-03-31 01:00"), "2024-03-31T01:00:00Z");
    }

    #[test]
    fn one_writer_for_many_rows_writes_each_as_one_for_itself() {
        let clock: Clock = "America/New_York+7h".parse().unwrap();
        let mut writer = MomentWriter::new(&clock);
        let from = parse("2023-10-28").unwrap();
        // Through both changes of a year, in steps that meet every hour of the day.
        for i in 0..20_000 {
            let t = from + i * 37 * MINUTE;
            let (mut one, mut many) = (Vec::new(), Vec::new());
            push_moment(&mut one, t, &clock);
            writer.push(&mut many, t);
            assert_eq!(one, many);
            assert_eq!(writer.wall(t), clock.to_wall(t));
        }
    }
}
