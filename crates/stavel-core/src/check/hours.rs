//! The hours of the week: how busy each is.

use super::piece::{OPEN, Piece, TRADE};
use crate::model::Clock;
use crate::model::time::{DAY, HOUR, Micros, day_of, monday_of};

/// Hours in a week.
pub const WEEK_HOURS: usize = 168;

/// Tells the hour of the week on a wall, quickly for times that mostly grow.
pub struct WeekHour {
    clock: Clock,
    /// The hour of UTC looked at last, and its hour of the week.
    from: Micros,
    hour: u8,
}

impl WeekHour {
    pub fn new(clock: &Clock) -> WeekHour {
        WeekHour { clock: clock.clone(), from: Micros::MIN / 2, hour: 0 }
    }

    /// The hour of the week, 0 from Monday 00:00 on.
    #[inline]
    pub fn of(&mut self, t: Micros) -> u8 {
        // Clocks change at quarters of an hour.
        if t < self.from || t >= self.from + HOUR / 4 {
            self.from = t.div_euclid(HOUR / 4) * (HOUR / 4);
            let wall = self.clock.to_wall(self.from);
            self.hour = ((wall - monday_of(day_of(wall)) * DAY) / HOUR) as u8;
        }
        self.hour
    }
}

/// What an hour of the week is like.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct HourStats {
    /// Rows with trade in open time.
    pub rows: u64,
    /// How often the hour was seen with rows.
    pub seen: u32,
    /// Sum of high less low, in points; of ticks the steps between them.
    pub moved: i64,
    /// Median spread in points, where it is known.
    pub spread: Option<i64>,
}

impl HourStats {
    /// Rows an hour.
    pub fn activity(&self) -> f64 {
        self.rows as f64 / self.seen.max(1) as f64
    }
    /// Points moved an hour.
    pub fn movement(&self) -> f64 {
        self.moved as f64 / self.seen.max(1) as f64
    }
}

/// Gathers what each hour of the week is like, and how each week's days run.
pub struct Hours {
    stats: Vec<HourStats>,
    last: Option<(u8, Micros)>,
    before: Option<i64>,
    /// Movement by hour of the wall's day, for each week: begin and 24 sums.
    pub(super) weeks: Vec<(i64, [f32; 24])>,
}

impl Default for Hours {
    fn default() -> Self {
        Hours { stats: vec![HourStats::default(); WEEK_HOURS], last: None, before: None, weeks: Vec::new() }
    }
}

impl Hours {
    pub fn piece(&mut self, piece: &Piece<'_>, hours: &[u8]) {
        let [_, high, low, close] = piece.prices;
        for i in 0..piece.time.len() {
            if piece.marks[i] & (OPEN | TRADE) != OPEN | TRADE {
                continue;
            }
            let (hour, time) = (hours[i], piece.time[i]);
            let step = self.before.map_or(0, |b| (close[i] - b).abs());
            self.before = Some(close[i]);
            let moved = (high[i] - low[i]).max(step);
            let is_new = self.last.is_none_or(|(h, t)| h != hour || time - t > 2 * HOUR);
            self.last = Some((hour, time));
            let stats = &mut self.stats[hour as usize];
            stats.rows += 1;
            stats.seen += u32::from(is_new);
            stats.moved += moved;
            let week = monday_of(day_of(time));
            if self.weeks.last().is_none_or(|(w, _)| *w != week) {
                self.weeks.push((week, [0.0; 24]));
            }
            if let Some((_, day)) = self.weeks.last_mut() {
                // A jump over a hole is no movement of its hour.
                day[hour as usize % 24] += moved.min(high[i] / 100) as f32;
            }
        }
    }

    pub fn finish(self, spreads: Option<&[Option<i64>]>) -> (Vec<HourStats>, Vec<(i64, [f32; 24])>) {
        let mut stats = self.stats;
        for (hour, spread) in stats.iter_mut().zip(spreads.unwrap_or_default()) {
            hour.spread = *spread;
        }
        (stats, self.weeks)
    }
}
