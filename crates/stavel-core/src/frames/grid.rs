//! Where the bars of a frame begin and end.

use crate::model::time::{DAY, HOUR, MINUTE, civil_from_days, days_from_civil, monday_of};
use crate::model::{Frame, Micros, Session, Span, Unit};

/// Bars of one frame in one session.
///
/// Minutes and hours count from the opening of the session day, in time that passes (so a day with
/// 23 or 25 hours has fewer or more bars), and begin anew with the next session day. A day is a
/// session day; a week begins with Monday's session day; a month with its first session day that
/// opens. Several days, weeks or months are grouped by counting from 1970.
#[derive(Debug, Clone)]
pub struct Grid {
    session: Session,
    count: i64,
    unit: Unit,
    /// The bar asked for last, and the session day it lies in: neighbours nearly always share them.
    bar: Span,
    day: Span,
    opening: Micros,
}

impl Grid {
    /// The grid of a frame; ticks have none and are treated as minutes.
    pub fn new(frame: Frame, session: &Session) -> Grid {
        let (count, unit) = match frame {
            Frame::Bars { count, unit } => (count as i64, unit),
            Frame::Ticks | Frame::Depth => (1, Unit::Minute),
        };
        let nothing = Span::new(0, 0);
        Grid { session: session.clone(), count, unit, bar: nothing, day: nothing, opening: 0 }
    }

    /// The bar that holds a moment.
    pub fn bar_at(&mut self, t: Micros) -> Span {
        if !self.bar.holds(t) {
            self.bar = match self.unit {
                Unit::Minute => self.within_day(t, self.count * MINUTE),
                Unit::Hour => self.within_day(t, self.count * HOUR),
                Unit::Day | Unit::Week | Unit::Month => self.of_days(self.session.clock.day_of(t)),
            };
        }
        self.bar
    }

    fn within_day(&mut self, t: Micros, length: Micros) -> Span {
        if !self.day.holds(t) {
            let day = self.session.clock.day_of(t);
            self.day = self.session.day_span(day);
            self.opening = self.session.day_opening(day);
        }
        let from = self.opening + (t - self.opening).div_euclid(length) * length;
        // Rows before the opening belong to bars that end with it; no bar reaches over a day's ends.
        let to = if from < self.opening {
            (from + length).min(self.opening)
        } else {
            (from + length).min(self.day.to)
        };
        Span::new(from.max(self.day.from), to)
    }

    /// The bar of whole session days that holds a day.
    fn of_days(&self, day: i64) -> Span {
        let n = self.count;
        let (first, next) = match self.unit {
            Unit::Week => {
                // Weeks are counted from Monday, 5 January 1970.
                let week = (monday_of(day) - 4).div_euclid(7 * n) * 7 * n + 4;
                (week, week + 7 * n)
            }
            Unit::Month => {
                let (year, month, _) = civil_from_days(day);
                let from = (year * 12 + month - 1).div_euclid(n) * n;
                let start = |m: i64| days_from_civil(m.div_euclid(12), m.rem_euclid(12) + 1, 1);
                (start(from), start(from + n))
            }
            _ => {
                let from = day.div_euclid(n) * n;
                (from, from + n)
            }
        };
        let opens = match self.unit {
            // A week is stamped with Monday whether or not that Monday trades.
            Unit::Week => first,
            _ => (first..next).take(10).find(|&d| self.session.opens_on(d)).unwrap_or(first),
        };
        let from =
            if opens <= day { self.session.day_opening(opens) } else { self.session.day_span(first).from };
        Span::new(from, self.session.day_span(next).from)
    }

    /// The bars that begin in a span of session time, for pictures.
    pub fn bars_in(&mut self, span: Span) -> Vec<Span> {
        let mut out: Vec<Span> = Vec::new();
        for open in self.session.open_spans(span) {
            let mut t = open.from;
            while t < open.to && out.len() < 10_000 {
                let bar = self.bar_at(t);
                if out.last() != Some(&bar) {
                    out.push(bar);
                }
                t = bar.to.max(t + 1);
            }
        }
        out
    }

    /// How much of a span the market is open.
    pub fn open_time(&self, span: Span) -> Micros {
        self.session.open_spans(span).iter().map(Span::length).sum()
    }
}

/// True where one frame's bars can be made of another's.
pub fn can_build(from: Frame, to: Frame) -> bool {
    match (from, to) {
        (_, Frame::Ticks | Frame::Depth) | (Frame::Depth, _) => false,
        (Frame::Ticks, _) => true,
        (Frame::Bars { count: a, unit: x }, Frame::Bars { count: b, unit: y }) => match (x, y) {
            _ if x > y => false,
            (Unit::Minute | Unit::Hour, Unit::Minute | Unit::Hour) => {
                to.length() % from.length() == 0 && to.length() > from.length()
            }
            _ if x == y => b > a && b % a == 0,
            // A day holds whole bars only of frames that divide it; others would be cut by its end.
            (Unit::Minute | Unit::Hour, _) => DAY % from.length() == 0,
            (Unit::Day, _) => a == 1,
            _ => false,
        },
    }
}
