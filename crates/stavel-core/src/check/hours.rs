//! The hours of the week: how busy each is.

use super::piece::{CheckRows, OPEN, TRADE};
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

    /// The hours of the week of times in order, 0 from Monday 00:00 on.
    pub fn of_all(&mut self, times: &[Micros], hours: &mut Vec<u8>) {
        hours.clear();
        while let Some(&t) = times.get(hours.len()) {
            // Clocks change at quarters of an hour.
            if t < self.from || t >= self.from + HOUR / 4 {
                self.from = t.div_euclid(HOUR / 4) * (HOUR / 4);
                let wall = self.clock.to_wall(self.from);
                self.hour = ((wall - monday_of(day_of(wall)) * DAY) / HOUR) as u8;
            }
            let end = self.from + HOUR / 4;
            let same = times[hours.len()..].iter().take_while(|t| **t < end).count();
            hours.resize(hours.len() + same, self.hour);
        }
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

/// The hour that is being gathered.
#[derive(Debug, Clone, Copy, Default)]
struct HourSoFar {
    hour: u8,
    begun: Micros,
    last: Micros,
    rows: u64,
    moved: i64,
    steady: i64,
}

/// Gathers what each hour of the week is like, and how each week's days run.
pub struct HourWatch {
    stats: Vec<HourStats>,
    now: HourSoFar,
    /// The price before; 0 where there is none.
    before: i64,
    /// Movement by hour of the wall's day, for each week: begin and 24 sums.
    weeks: Vec<(i64, [f32; 24])>,
}

impl Default for HourWatch {
    fn default() -> Self {
        let stats = vec![HourStats::default(); WEEK_HOURS];
        HourWatch { stats, now: HourSoFar::default(), before: 0, weeks: Vec::new() }
    }
}

impl HourWatch {
    pub fn piece(&mut self, piece: &CheckRows<'_>, hours: &[u8]) {
        let [_, high, low, close] = piece.prices;
        for (i, &time) in piece.time.iter().enumerate() {
            if piece.marks[i] & (OPEN | TRADE) != OPEN | TRADE {
                continue;
            }
            if hours[i] != self.now.hour || time - self.now.last > 2 * HOUR {
                self.end_hour();
                self.now = HourSoFar { hour: hours[i], begun: time, ..HourSoFar::default() };
            }
            let step = if self.before == 0 { 0 } else { (close[i] - self.before).abs() };
            let moved = (high[i] - low[i]).max(step);
            self.before = close[i];
            self.now.last = time;
            self.now.rows += 1;
            self.now.moved += moved;
            // A jump over a hole is no movement of its hour.
            self.now.steady += moved.min(high[i] >> 7);
        }
    }

    /// Adds the hour that has ended to its hour of the week, and to its week.
    fn end_hour(&mut self) {
        if self.now.rows == 0 {
            return;
        }
        let stats = &mut self.stats[self.now.hour as usize];
        stats.rows += self.now.rows;
        stats.seen += 1;
        stats.moved += self.now.moved;
        let week = monday_of(day_of(self.now.begun));
        if self.weeks.last().is_none_or(|(w, _)| *w != week) {
            self.weeks.push((week, [0.0; 24]));
        }
        if let Some((_, day)) = self.weeks.last_mut() {
            day[self.now.hour as usize % 24] += self.now.steady as f32;
        }
    }

    pub fn finish(mut self, spreads: Option<&[Option<i64>]>) -> (Vec<HourStats>, Vec<(i64, [f32; 24])>) {
        self.end_hour();
        let mut stats = self.stats;
        for (hour, spread) in stats.iter_mut().zip(spreads.unwrap_or_default()) {
            hour.spread = *spread;
        }
        (stats, self.weeks)
    }
}
