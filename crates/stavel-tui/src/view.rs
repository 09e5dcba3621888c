//! What a lens sees of the bench: nothing of it can be changed here.

use std::sync::Arc;
use std::time::Instant;

use stavel_core::check::CheckReport;
use stavel_core::job::Job;
use stavel_core::model::time::{DAY, HOUR};
use stavel_core::model::{Clock, Instrument, Micros, SeriesName, Span};
use stavel_core::store::SeriesInfo;
use stavel_work::{PlayPace, RehearseStep};

use crate::data::{CheckedEditions, Snapshot};
use crate::jobs::Threads;
use crate::next::{Guide, NextStep, WorkLog};
use crate::settings::Settings;

/// The bench as a lens sees it.
pub struct View<'a> {
    pub snapshot: &'a Snapshot,
    /// False until the shelf was read for the first time.
    pub is_read: bool,
    /// The series chosen; none where the shelf is empty.
    pub selected: Option<&'a SeriesName>,
    pub window: Span,
    /// Columns and rows of the screen.
    pub size: (u16, u16),
    /// What was found in the series that was checked last.
    pub found: Option<&'a FoundReport>,
    /// What is known of editions that were checked.
    pub checked: &'a CheckedEditions,
    /// The rehearsal that the bench was opened for, and its pace where one was said.
    pub begin: Option<&'a (RehearseStep, Option<PlayPace>)>,
    /// What was done on this bench that the catalog does not record.
    pub log: &'a WorkLog,
    /// What a person has settled.
    pub settings: &'a Settings,
    /// Reads on other threads.
    pub threads: &'a Threads,
    /// The work that runs, and when it began.
    pub job: Option<(&'a Job, Instant)>,
    /// What is being asked, and the answer that is being typed to it.
    pub typing: Option<(&'a str, &'a str)>,
}

/// What was found in an edition of a series.
#[derive(Debug, Clone)]
pub struct FoundReport {
    pub edition: i64,
    pub report: Arc<CheckReport>,
}

impl<'a> View<'a> {
    /// The instrument chosen; empty where the shelf is.
    pub fn instrument_name(&self) -> &'a str {
        self.selected.map_or("", |s| s.instrument.as_str())
    }

    /// The instrument chosen.
    pub fn instrument(&self) -> Option<&'a Instrument> {
        self.snapshot.instrument(self.instrument_name())
    }

    /// The series chosen.
    pub fn series(&self) -> Option<&'a SeriesInfo> {
        self.selected.and_then(|s| self.snapshot.find(s))
    }

    /// The clock that times are labelled in: the one settled, else that of the instrument's session.
    pub fn clock(&self) -> Clock {
        let of_session = || self.instrument().map_or_else(Clock::utc, |i| i.sheet.session.clock.clone());
        self.settings.clock.clone().unwrap_or_else(of_session)
    }

    /// What is next for the instrument chosen.
    pub fn next(&self) -> NextStep {
        self.guide().next(self.instrument_name(), self.selected)
    }

    /// What says what is next, for any instrument.
    pub fn guide(&self) -> Guide<'a> {
        Guide { snapshot: self.snapshot, checked: self.checked, log: self.log }
    }

    /// From the first to the last row of the instrument.
    pub fn whole(&self) -> Span {
        whole_of(self.snapshot, self.instrument_name())
    }

    /// Columns of the facts; 0 on a narrow screen.
    pub fn facts_width(&self) -> u16 {
        facts_width(self.size.0)
    }
}

/// From the first to the last row of an instrument, whatever the series.
pub fn whole_of(snapshot: &Snapshot, instrument: &str) -> Span {
    // A frame may begin before its rows do, as a month does.
    let ends = snapshot.roots_of(instrument).map(|s| Span::new(s.edition.first, s.edition.last + HOUR));
    ends.reduce(|a, b| Span::new(a.from.min(b.from), a.to.max(b.to))).unwrap_or(Span::new(0, DAY))
}

/// A window that shows so many times as much; a moment stays where it is on the screen.
pub fn zoomed(window: Span, about: Micros, factor: f64) -> Span {
    let part = |t: Micros| ((t as f64) * factor) as Micros;
    Span::new(about - part(about - window.from), about + part(window.to - about))
}

/// Columns of the facts on a screen with so many; 0 on a narrow one.
pub fn facts_width(columns: u16) -> u16 {
    if columns >= 120 { 34 } else { 0 }
}
