//! How far prices go: in a bar, and in a session day.

use super::averages::smoothed;
use crate::counts::Frequencies;
use crate::model::{BarView, Columns, Micros, Session, Span};

/// The true range of each bar in points: the largest of high less low and of the ways from the close before to the high
/// and to the low. The first has no close before. None for a bar without prices. (J. Welles Wilder, "New Concepts in
/// Technical Trading Systems", 1978.)
pub fn true_ranges(bars: &Columns) -> Vec<Option<i64>> {
    let view = BarView::new(bars);
    let mut before: Option<i64> = None;
    (0..view.len())
        .map(|i| {
            let bar = view.bar(i)?;
            let range = match before {
                Some(close) => bar.high.max(close) - bar.low.min(close),
                None => bar.high - bar.low,
            };
            before = Some(bar.close);
            Some(range)
        })
        .collect()
}

/// Wilder's average of true ranges: begun with the mean of the first `n`, then moved by an `n`th of the way to each new
/// one, in points.
pub fn average_true_range(ranges: &[Option<i64>], n: usize) -> Vec<Option<f64>> {
    let values: Vec<Option<f64>> = ranges.iter().map(|r| r.map(|r| r as f64)).collect();
    smoothed(&values, n, 1.0 / n as f64)
}

/// Ranges of session days in points.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
pub struct RangeStats {
    /// Days that were counted.
    pub days: u64,
    /// The middle one of all in order.
    pub median: i64,
    /// What nine of ten days do not exceed.
    pub p90: i64,
    /// The largest.
    pub max: i64,
}

/// Gathers how far prices go in each session day, piece by piece in order of time.
pub struct SessionRanges {
    session: Session,
    day: Span,
    now: Option<(i64, i64)>,
    counts: Frequencies,
    most: i64,
}

impl SessionRanges {
    /// For the session days of a session.
    pub fn new(session: &Session) -> SessionRanges {
        let (counts, day) = (Frequencies::default(), Span::new(0, 0));
        SessionRanges { session: session.clone(), day, now: None, counts, most: 0 }
    }

    /// Takes the next prices of a time: the highest and the lowest.
    #[inline]
    pub fn add(&mut self, time: Micros, high: i64, low: i64) {
        if !self.day.holds(time) {
            self.end_day();
            self.day = self.session.day_span(self.session.clock.day_of(time));
        }
        self.now = Some(self.now.map_or((high, low), |(h, l)| (h.max(high), l.min(low))));
    }

    fn end_day(&mut self) {
        if let Some((high, low)) = self.now.take() {
            self.counts.add(high - low, 1);
            self.most = self.most.max(high - low);
        }
    }

    /// What the days had; none without any.
    pub fn finish(mut self) -> Option<RangeStats> {
        self.end_day();
        let days = self.counts.total();
        (days > 0).then(|| RangeStats {
            days,
            median: self.counts.median(),
            p90: self.counts.quantile(0.9),
            max: self.most,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{HOUR, parse};
    use crate::model::{ABSENT, Field, Scale};

    #[test]
    fn a_true_range_reaches_over_the_gap_before_its_bar() {
        let bars = Columns {
            time: vec![0, 1, 2, 3],
            fields: vec![Field::High, Field::Low, Field::Close],
            data: vec![vec![10, 30, ABSENT, 15], vec![5, 28, ABSENT, 14], vec![8, 29, ABSENT, 15]],
            scale: Scale::default(),
        };
        let ranges = true_ranges(&bars);
        // From 8 up to 30, and from 29 down to 14: a bar without prices is passed over.
        assert_eq!(ranges, [Some(5), Some(22), None, Some(15)]);
        assert_eq!(average_true_range(&ranges, 2), [None, Some(13.5), None, Some(14.25)]);
    }

    #[test]
    fn session_ranges_are_those_of_session_days() {
        let session = Session { clock: "America/New_York+7h".parse().unwrap(), ..Session::always() };
        let mut ranges = SessionRanges::new(&session);
        let from = parse("2024-03-04 22:00").unwrap();
        for (hour, price) in [(0, 10), (5, 50), (23, 20), (24, 20), (30, 25), (48, 90)] {
            ranges.add(from + hour * HOUR, price, price);
        }
        assert_eq!(ranges.finish(), Some(RangeStats { days: 3, median: 5, p90: 40, max: 40 }));
        assert_eq!(SessionRanges::new(&session).finish(), None);
    }
}
