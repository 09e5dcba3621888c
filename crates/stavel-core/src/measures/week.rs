//! The shape of a week: how much is traded, how far prices go and how wide spreads are in each of its hours.

use crate::counts::Frequencies;
use crate::model::time::{DAY, HOUR, day_of, monday_of};
use crate::model::{BarView, Clock, Columns, Field, Micros, QuoteView, Shape};

/// Hours in a week.
const WEEK_HOURS: usize = 168;

/// One hour of the week, over all weeks. What no row says is none.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct HourProfile {
    /// Weeks in which the hour had rows.
    pub weeks: u64,
    /// Rows in an hour, on average over those weeks.
    pub rows: f64,
    /// Volume in an hour, on average over those weeks, in units of its scale.
    pub volume: Option<f64>,
    /// Points from the highest to the lowest price of the hour, on average.
    pub range: Option<f64>,
    /// Spread in points: the median, what nine of ten rows and what 99 of a hundred do not exceed.
    pub spread: Option<[i64; 3]>,
}

/// Gathers the shape of the week, piece by piece in order of time.
pub struct WeekProfiler {
    wall: Clock,
    hours: Vec<HourCounts>,
    now: Option<FillingHour>,
}

#[derive(Clone, Default)]
struct HourCounts {
    weeks: u64,
    rows: u64,
    volume: i128,
    has_volume: bool,
    range: i128,
    spreads: Frequencies,
}

/// The hour that is being filled.
struct FillingHour {
    begin: Micros,
    ends: Option<(i64, i64)>,
}

impl WeekProfiler {
    /// Hours are those of a wall, from Monday 00:00 on.
    pub fn new(wall: &Clock) -> WeekProfiler {
        WeekProfiler { wall: wall.clone(), hours: vec![HourCounts::default(); WEEK_HOURS], now: None }
    }

    /// Takes the next rows: bars, quotes (their bids) or trades.
    pub fn push(&mut self, rows: &Columns) {
        let shape = rows.shape();
        let (bars, quotes) = (BarView::new(rows), QuoteView::new(rows));
        let volumes = if shape == Shape::Quotes { quotes.bid_volume } else { bars.volume };
        let last = rows.cells(Field::Last);
        for (i, &time) in rows.time.iter().enumerate() {
            let hour = self.begin(time);
            let counts = &mut self.hours[hour];
            counts.rows += 1;
            if let Some(volume) = volumes.get(i) {
                counts.volume += i128::from(volume);
                counts.has_volume = true;
            }
            let spread = if shape == Shape::Quotes { quotes.spread(i) } else { bars.spread.get(i) };
            if let Some(spread) = spread {
                counts.spreads.add(spread, 1);
            }
            let ends = match shape {
                Shape::Bars => bars.bar(i).map(|bar| (bar.high, bar.low)),
                Shape::Quotes => quotes.bid.get(i).map(|bid| (bid, bid)),
                _ => last.get(i).map(|last| (last, last)),
            };
            if let (Some((high, low)), Some(now)) = (ends, &mut self.now) {
                now.ends = Some(now.ends.map_or((high, low), |(h, l)| (h.max(high), l.min(low))));
            }
        }
    }

    /// The hour of the week that holds a moment; the one before it ends where it is another.
    fn begin(&mut self, time: Micros) -> usize {
        let shown = self.wall.to_wall(time);
        let begin = shown.div_euclid(HOUR) * HOUR;
        let hour = ((shown - monday_of(day_of(shown)) * DAY) / HOUR) as usize % WEEK_HOURS;
        if self.now.as_ref().is_none_or(|now| now.begin != begin) {
            self.end();
            self.hours[hour].weeks += 1;
            self.now = Some(FillingHour { begin, ends: None });
        }
        hour
    }

    fn end(&mut self) {
        let Some(now) = self.now.take() else { return };
        let hour = ((now.begin - monday_of(day_of(now.begin)) * DAY) / HOUR) as usize % WEEK_HOURS;
        if let Some((high, low)) = now.ends {
            self.hours[hour].range += i128::from(high - low);
        }
    }

    /// Each hour of the week, 168 of them.
    pub fn finish(mut self) -> Vec<HourProfile> {
        self.end();
        let profile = |h: &HourCounts| {
            let of_weeks = |sum: f64| sum / h.weeks.max(1) as f64;
            let spread = (h.spreads.total() > 0)
                .then(|| [h.spreads.median(), h.spreads.quantile(0.9), h.spreads.quantile(0.99)]);
            HourProfile {
                weeks: h.weeks,
                rows: of_weeks(h.rows as f64),
                volume: h.has_volume.then(|| of_weeks(h.volume as f64)),
                range: (h.weeks > 0).then(|| of_weeks(h.range as f64)),
                spread,
            }
        };
        self.hours.iter().map(profile).collect()
    }
}

/// Counts rows by the quarter of an hour of the week on a wall, from Monday 00:00 on: 672 of them.
pub fn count_quarters(times: &[Micros], wall: &Clock, counts: &mut Vec<u64>) {
    const QUARTER: Micros = HOUR / 4;
    counts.resize(WEEK_HOURS * 4, 0);
    for time in times {
        let shown = wall.to_wall(*time);
        let quarter = (shown - monday_of(day_of(shown)) * DAY) / QUARTER;
        counts[quarter as usize % (WEEK_HOURS * 4)] += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{MINUTE, WEEK, parse};
    use crate::model::{ABSENT, Scale};

    #[test]
    fn an_hour_of_the_week_tells_what_its_weeks_had() {
        // Two weeks of one hour: Tuesday, 5 March 2024, 09:00 in Oslo is 08:00 UTC.
        let from = parse("2024-03-05 08:00").unwrap();
        let mut rows = Columns::empty(
            &[Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread],
            Scale::default(),
        );
        for week in 0..2 {
            for m in 0..60 {
                rows.time.push(from + week * WEEK + m * MINUTE);
                let spread = if m == 7 { ABSENT } else { 10 + week * 10 };
                let values = [100 + m, 90, 95, 2 + week, spread];
                rows.data.iter_mut().zip(values).for_each(|(c, v)| c.push(v));
            }
        }
        let mut profiler = WeekProfiler::new(&"Europe/Oslo".parse().unwrap());
        (0..rows.len()).step_by(7).for_each(|i| profiler.push(&rows.rows(i..rows.len().min(i + 7))));
        let week = profiler.finish();
        let tuesday = week[24 + 9];
        assert_eq!((week.len(), tuesday.weeks, tuesday.rows), (168, 2, 60.0));
        assert_eq!((tuesday.volume, tuesday.range), (Some(150.0), Some(69.0)));
        assert_eq!(tuesday.spread, Some([20, 20, 20]), "the upper one of two in the middle");
        assert_eq!(week[24 + 10], HourProfile::default(), "an hour without rows knows nothing");
    }

    #[test]
    fn rows_are_counted_by_the_quarter_of_the_week_on_any_wall() {
        let mut counts = Vec::new();
        let at = |text: &str| parse(text).unwrap();
        let times = [at("2024-03-03 23:50"), at("2024-03-04 00:14"), at("2024-03-11 00:16")];
        count_quarters(&times, &Clock::utc(), &mut counts);
        assert_eq!((counts.len(), counts[0], counts[1], counts[671]), (672, 1, 1, 1));
        let mut oslo = Vec::new();
        count_quarters(&times, &"Europe/Oslo".parse().unwrap(), &mut oslo);
        assert_eq!((oslo[3], oslo[4], oslo[5]), (1, 1, 1));
    }

    #[test]
    fn quotes_tell_their_spread_and_trades_none() {
        let quotes = Columns {
            time: vec![0, MINUTE],
            fields: vec![Field::Bid, Field::Ask, Field::BidVolume],
            data: vec![vec![10, 12], vec![14, 15], vec![1, ABSENT]],
            scale: Scale::default(),
        };
        let mut profiler = WeekProfiler::new(&Clock::utc());
        profiler.push(&quotes);
        // 1 January 1970 was a Thursday.
        let hour = profiler.finish()[72];
        assert_eq!((hour.rows, hour.volume, hour.range), (2.0, Some(1.0), Some(2.0)));
        assert_eq!(hour.spread, Some([4, 4, 4]));
        let trades = Columns {
            time: vec![0],
            fields: vec![Field::Last],
            data: vec![vec![10]],
            scale: Scale::default(),
        };
        let mut profiler = WeekProfiler::new(&Clock::utc());
        profiler.push(&trades);
        let hour = profiler.finish()[72];
        assert_eq!((hour.volume, hour.range, hour.spread), (None, Some(0.0), None));
    }
}
