//! Rows in the session: open or closed, what is missing, how full each day is.

use super::days::DayFill;
use super::piece::{OPEN, REPEATED, TRADE};
use super::runs::RowRuns;
use super::slip::Slips;
use super::tally::OctaveCounts;
use super::{CheckSubject, DayCoverage, FindingKind, MissingSpan, RowRun};
use crate::model::session::OpenHours;
use crate::model::time::{DAY, HOUR, MINUTE};
use crate::model::{Frame, Micros, Span};

/// Places each row in the session.
pub struct SessionPlacer {
    open: OpenHours,
    slips: Slips,
    days: DayFill,
    runs: RowRuns,
    frame: Frame,
    /// First row of open hours, and the end of the last.
    seen: Option<(Micros, Micros)>,
    gaps: Vec<MissingSpan>,
    pauses: OctaveCounts,
    /// Pauses of a minute or less.
    brisk: u64,
    /// Flat rows without volume in closed and in open hours.
    pub filler_closed: u64,
    pub filler_open: u64,
}

/// What is known of a series' place in time.
pub struct SessionPlaces {
    pub runs: Vec<RowRun>,
    pub slips: Vec<(Span, Micros)>,
    pub gaps: Vec<MissingSpan>,
    pub days: Vec<DayCoverage>,
    pub coverage: f64,
    /// First and last row of open hours.
    pub seen: (Micros, Micros),
}

impl SessionPlacer {
    pub fn new(subject: &CheckSubject<'_>) -> SessionPlacer {
        let reach = Span::new(subject.span.from - 8 * DAY, subject.span.to + 8 * DAY);
        let open = OpenHours::new(subject.session, reach);
        SessionPlacer {
            slips: Slips::new(open.spans()),
            days: DayFill::new(subject.session, subject.span),
            open,
            runs: RowRuns::default(),
            frame: subject.frame,
            seen: None,
            gaps: Vec::new(),
            pauses: OctaveCounts::default(),
            brisk: 0,
            filler_closed: 0,
            filler_open: 0,
        }
    }

    /// Takes rows in order of time, as [`SessionPlacer::row`] does one by one.
    pub fn piece(&mut self, times: &[Micros], join: Micros, marks: &mut [u8]) {
        let mut at = 0;
        while at < times.len() {
            let calm = self.calm_until(times[at]).map_or(0, |end| times[at..].partition_point(|t| *t < end));
            if calm == 0 {
                self.row(times[at], join, &mut marks[at]);
                at += 1;
            } else {
                self.calm(&times[at..at + calm], &mut marks[at..at + calm]);
                at += calm;
            }
        }
    }

    /// Up to when nothing but the row before matters to a row: within one session day, far from the opening
    /// and the closing.
    fn calm_until(&mut self, time: Micros) -> Option<Micros> {
        self.seen?;
        let span = self.open.span_at(time)?;
        let day = self.days.day_at(time)?;
        (time >= span.from + HOUR).then(|| (span.to - HOUR).min(day.to)).filter(|end| time < *end)
    }

    fn calm(&mut self, times: &[Micros], marks: &mut [u8]) {
        let step = self.frame.length().min(DAY);
        let (first, mut from) = self.seen.unwrap_or_default();
        let mut filler = 0;
        for (time, mark) in times.iter().zip(&mut *marks) {
            filler += u64::from(*mark & TRADE == 0);
            *mark |= OPEN;
            if *mark & REPEATED == 0 {
                if *time - from > MINUTE {
                    self.pause(from, *time);
                } else {
                    self.brisk += 1;
                }
                from = *time + step;
            }
        }
        self.filler_open += filler;
        self.seen = Some((first, from));
        let counted = times.iter().zip(marks).filter(|(_, mark)| **mark & REPEATED == 0);
        self.days.rows(counted.map(|(time, _)| *time), step);
    }

    /// A pause of rows longer than a minute.
    fn pause(&mut self, from: Micros, to: Micros) {
        if to - from > self.longest_quiet() {
            let open = self.open.open_between(from, to);
            if open > self.longest_quiet() {
                self.gaps.push(MissingSpan { span: Span::new(from, to), open });
            }
        } else {
            self.pauses.add(to - from);
        }
    }

    /// Takes a row whose marks say whether it repeats another and whether there is trade in it; marks
    /// whether the market is open.
    #[inline]
    fn row(&mut self, time: Micros, join: Micros, mark: &mut u8) {
        let has_trade = *mark & TRADE != 0;
        // A bar that begins before the opening and reaches into open hours is a bar of open hours.
        let length = self.frame.length();
        let is_open =
            self.open.is_open(time) || length > MINUTE && self.open.open_between(time, time + length) > 0;
        if has_trade {
            self.slips.trade(time);
        } else if is_open {
            self.filler_open += 1;
        } else {
            self.filler_closed += 1;
        }
        if !is_open {
            self.runs.add_with(FindingKind::ClosedMarket, time, join, has_trade);
            return;
        }
        *mark |= OPEN;
        if *mark & REPEATED != 0 {
            return;
        }
        let step = self.frame.length().min(DAY);
        self.days.row(time, step);
        let (first, from) = *self.seen.get_or_insert((time, time));
        if time - from > MINUTE {
            self.pause(from, time);
        } else {
            self.brisk += 1;
        }
        self.seen = Some((first, time + step));
    }

    /// The longest open time without a row that a quiet market explains.
    fn longest_quiet(&self) -> Micros {
        (2 * self.frame.length()).max(30 * MINUTE - 1)
    }

    pub fn finish(mut self) -> SessionPlaces {
        let (first, end) = self.seen.unwrap_or_default();
        let (days, coverage) = self.days.finish(first, end);
        // Where rows are thin by nature, only what is long for this market is a hole.
        self.pauses.add_many(MINUTE, self.brisk);
        let thin = 4 * self.pauses.quantile(0.995);
        self.gaps.retain(|g| g.open > thin);
        let step = if self.seen.is_some() { self.frame.length().min(DAY) } else { 0 };
        SessionPlaces {
            runs: self.runs.done(),
            slips: self.slips.found(),
            gaps: self.gaps,
            days,
            coverage,
            seen: (first, end - step),
        }
    }
}
