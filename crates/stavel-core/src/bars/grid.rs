//! Where the bars of a frame begin and end.

use crate::model::session::SundayPart;
use crate::model::time::{DAY, HOUR, MINUTE, civil_from_days, days_from_civil, monday_of, weekday};
use crate::model::{Frame, Micros, Session, Span, Unit};

/// Rows this long after a close, or before an opening, belong to that session where its neighbour days are
/// closed.
const STRAY: Micros = 6 * HOUR;

/// A bar of a grid.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GridBar {
    /// Its time: the opening of its first session day, or where it begins within one.
    pub stamp: Micros,
    /// The rows it takes: also those before the opening and after the close of its session days.
    pub span: Span,
    /// False for a day on which the session does not open at all.
    pub opens: bool,
}

/// Bars of one frame in one session.
///
/// Minutes and hours count from the opening of the session day, in time that passes (so a day with
/// 23 or 25 hours has fewer or more bars), and begin anew with the next session day. A day is a
/// session day; a week begins with Monday's session day, and with the Sunday before it where the market opens then; a
/// month with its first session day that opens. A Sunday on which the week begins may count as Monday in days and
/// months too ([`SundayPart`]). Several days, weeks or months are grouped by counting from 1970.
#[derive(Debug, Clone)]
pub struct Grid {
    session: Session,
    count: i64,
    unit: Unit,
    /// The bar asked for last, and the session day it lies in: neighbours nearly always share them.
    bar: GridBar,
    day: Span,
    opening: Micros,
}

impl Grid {
    /// The grid of a frame; ticks, and bars that are counted, have none and are treated as minutes.
    pub fn new(frame: Frame, session: &Session) -> Grid {
        let (count, unit) = match frame {
            Frame::Bars { count, unit } => (count as i64, unit),
            Frame::Ticks | Frame::Depth | Frame::Counted { .. } => (1, Unit::Minute),
        };
        let nothing = Span::new(0, 0);
        let bar = GridBar { stamp: 0, span: nothing, opens: true };
        Grid { session: session.clone(), count, unit, bar, day: nothing, opening: 0 }
    }

    /// The bar that holds a moment.
    pub fn bar_at(&mut self, t: Micros) -> GridBar {
        if !self.bar.span.holds(t) {
            self.bar = match self.unit {
                Unit::Minute => self.within_day(t, self.count * MINUTE),
                Unit::Hour => self.within_day(t, self.count * HOUR),
                Unit::Day if self.count == 1 => self.of_one_day(t),
                Unit::Day | Unit::Week | Unit::Month => self.of_days(self.day_counted(t)),
            };
        }
        self.bar
    }

    /// True where a Sunday on which the trading week begins counts as Monday: always in weeks, in other frames where the
    /// session says so.
    fn is_sunday_monday(&self) -> bool {
        self.unit == Unit::Week || self.session.sunday == SundayPart::Monday
    }

    /// The session day that a moment is counted to.
    fn day_counted(&self, t: Micros) -> i64 {
        let day = self.session.clock.day_of(t);
        day + i64::from(self.is_sunday_monday() && self.session.week_begins_on(day))
    }

    /// When what is counted to a day begins.
    fn start_of(&self, day: i64) -> Micros {
        let takes_sunday =
            weekday(day) == 0 && self.is_sunday_monday() && self.session.week_begins_on(day - 1);
        self.session.day_span(day - i64::from(takes_sunday)).from
    }

    /// The bar of one session day. A row on a day without a session is that of the session it follows or
    /// precedes, where that is near; else its day is a bar that the session does not know of.
    fn of_one_day(&self, t: Micros) -> GridBar {
        let session = &self.session;
        let day = self.day_counted(t);
        let own = self.of_days(day);
        let opens = |day: i64| session.opens_on(day);
        let reaches = |day: i64| {
            let open = session.open_spans(session.day_span(day));
            let (first, last) = (open.first().map(|s| s.from), open.last().map(|s| s.to));
            (first.unwrap_or(own.span.from) - STRAY, last.unwrap_or(own.span.to) + STRAY)
        };
        if opens(day) {
            // Where the neighbour day is closed, the bar takes what strays into it.
            let (early, late) = reaches(day);
            let from = if opens(day - 1) { own.span.from } else { early.min(own.span.from) };
            let to = if opens(day + 1) { own.span.to } else { late.max(own.span.to) };
            return GridBar { span: Span::new(from, to), ..own };
        }
        for neighbour in [day - 1, day + 1] {
            let (early, late) = reaches(neighbour);
            if opens(neighbour) && t >= early && t < late {
                let of = self.of_days(neighbour);
                let span = Span::new(of.span.from.min(early), of.span.to.max(late));
                return GridBar { span, ..of };
            }
        }
        // What is left of the day between what strays into it from either side.
        let mut span = own.span;
        if opens(day - 1) {
            span.from = span.from.max(reaches(day - 1).1);
        }
        if opens(day + 1) {
            span.to = span.to.min(reaches(day + 1).0);
        }
        GridBar { span, opens: false, ..own }
    }

    fn within_day(&mut self, t: Micros, length: Micros) -> GridBar {
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
        let span = Span::new(from.max(self.day.from), to);
        GridBar { stamp: span.from, span, opens: true }
    }

    /// The bar of whole session days that holds a day.
    fn of_days(&self, day: i64) -> GridBar {
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
        let begin = self.start_of(first);
        let stamp = if opens <= day { self.session.day_opening(opens) } else { begin };
        let span = Span::new(begin.min(stamp), self.start_of(next));
        GridBar { stamp, span, opens: true }
    }

    /// When the last session day of a bar of days ends, of the bar that holds a moment. Rows that the bar takes after that do not
    /// move it.
    pub fn days_end_at(&self, t: Micros) -> Micros {
        self.of_days(self.day_counted(t)).span.to
    }

    /// The bars that begin in a span of session time, for pictures.
    pub fn bars_in(&mut self, span: Span) -> Vec<Span> {
        let mut out: Vec<Span> = Vec::new();
        for open in self.session.open_spans(span) {
            let mut t = open.from;
            while t < open.to && out.len() < 10_000 {
                let bar = self.bar_at(t);
                let shown = Span::new(bar.stamp, bar.span.to);
                if out.last() != Some(&shown) {
                    out.push(shown);
                }
                t = bar.span.to.max(t + 1);
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
        (_, Frame::Ticks | Frame::Depth) | (Frame::Depth | Frame::Counted { .. }, _) => false,
        (Frame::Ticks, _) => true,
        (_, Frame::Counted { .. }) => false,
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
