//! How full each session day is, gathered row by row.

use super::DayCoverage;
use crate::model::time::MINUTE;
use crate::model::{Micros, Session, Span};

/// How full each session day is.
pub struct DayFill {
    days: Vec<(DayCoverage, Span)>,
    at: usize,
    reached: Micros,
}

impl DayFill {
    /// The session days of a span, empty as yet.
    pub fn new(session: &Session, span: Span) -> DayFill {
        let (first, last) =
            (session.clock.day_of(span.from), session.clock.day_of(span.to.max(span.from + 1) - 1));
        let mut open = session
            .open_spans(Span::new(session.day_span(first).from, session.day_span(last).to))
            .into_iter()
            .peekable();
        let mut days = Vec::new();
        for day in first..=last {
            let whole = session.day_span(day);
            let mut expected = 0;
            while let Some(s) = open.peek() {
                expected += s.overlap(&whole).map_or(0, |o| o.length());
                if s.to > whole.to {
                    break;
                }
                open.next();
            }
            if expected > 0 {
                days.push((DayCoverage { day, expected, present: 0 }, whole));
            }
        }
        DayFill { days, at: 0, reached: Micros::MIN }
    }

    /// The session day that holds a time, where one does; times mostly grow.
    pub fn day_at(&mut self, time: Micros) -> Option<Span> {
        while self.days.get(self.at).is_some_and(|(_, whole)| time >= whole.to) {
            self.at += 1;
        }
        self.days.get(self.at).map(|(_, whole)| *whole).filter(|whole| whole.holds(time))
    }

    /// What [`DayFill::row`] does for many rows of the day that holds them all.
    pub fn rows(&mut self, times: impl Iterator<Item = Micros>, step: Micros) {
        let Some((day, whole)) = self.days.get_mut(self.at) else { return };
        let mut reached = self.reached;
        for time in times {
            day.present +=
                if step == 0 { (time - reached.max(whole.from)).clamp(0, 5 * MINUTE) } else { step };
            reached = time;
        }
        self.reached = reached;
    }

    /// A row in open hours that stands for `step` of time (ticks: for the time since the last, up to a minute).
    #[inline]
    pub fn row(&mut self, time: Micros, step: Micros) {
        match self.day_at(time) {
            Some(_) => self.rows(std::iter::once(time), step),
            None => self.reached = time,
        }
    }

    /// The days from first to last row, and the share of open time that has rows. The first and last
    /// day count only where rows could be.
    pub fn finish(mut self, first: Micros, last: Micros) -> (Vec<DayCoverage>, f64) {
        self.days.retain(|(_, whole)| whole.to > first && whole.from < last);
        let shrink = |day: &mut (DayCoverage, Span)| {
            let seen = Span::new(day.1.from.max(first), day.1.to.min(last));
            day.0.expected = day.0.expected.min(seen.length().max(1));
        };
        if let Some(day) = self.days.first_mut() {
            shrink(day);
        }
        if let Some(day) = self.days.last_mut() {
            shrink(day);
        }
        let days: Vec<DayCoverage> = self.days.into_iter().map(|(d, _)| d).collect();
        let expected: Micros = days.iter().map(|d| d.expected).sum();
        let present: Micros = days.iter().map(|d| d.present.min(d.expected)).sum();
        let coverage = if expected == 0 { 0.0 } else { present as f64 / expected as f64 };
        (days, coverage)
    }
}
