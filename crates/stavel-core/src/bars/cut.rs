//! Where one bar ends and the next begins.

use super::grid::{Grid, GridBar};
use super::open_bar::{BarRow, OpenBar};
use crate::model::frame::CountedBy;
use crate::model::{Frame, Session, Side};

/// What cuts rows into bars: time, or what was counted since the bar began.
pub(super) enum Cut {
    /// Bars of time.
    Time(Grid),
    /// Bars of ticks, volume or range; each session day begins a new one.
    Count {
        session: Session,
        by: CountedBy,
        /// Ticks, units of the volume's scale, or points.
        limit: i64,
    },
}

impl Cut {
    /// For bars of a frame; `volume` units make one of volume and `tick` points one tick size.
    pub fn new(frame: Frame, session: &Session, volume: i64, tick: i64) -> Cut {
        match frame {
            Frame::Counted { by, count } => {
                let one = match by {
                    CountedBy::Ticks => 1,
                    CountedBy::Volume => volume,
                    CountedBy::Range => tick,
                };
                Cut::Count { session: session.clone(), by, limit: i64::from(count).saturating_mul(one) }
            }
            _ => Cut::Time(Grid::new(frame, session)),
        }
    }

    /// The bar that a row opens.
    pub fn bar_at(&mut self, row: &BarRow, last_stamp: Option<i64>) -> GridBar {
        match self {
            Cut::Time(grid) => grid.bar_at(row.time),
            Cut::Count { session, .. } => {
                let span = session.day_span(session.clock.day_of(row.time));
                // Two bars may begin within one stamp of the ticks; a time is that of one bar.
                let stamp = last_stamp.map_or(row.time, |last| row.time.max(last + 1));
                GridBar { stamp, span, opens: true }
            }
        }
    }

    /// True where a bar that has rows takes one more; that the row lies in its span is known.
    #[inline(always)]
    pub fn takes(&self, now: &OpenBar, row: &BarRow, side: Side) -> bool {
        match self {
            Cut::Time(_) => true,
            Cut::Count { by, limit, .. } => match by {
                CountedBy::Ticks => now.rows < *limit,
                CountedBy::Volume => now.volume(side) < *limit,
                CountedBy::Range => now.bar.high.max(row.bar.high) - now.bar.low.min(row.bar.low) <= *limit,
            },
        }
    }

    /// True where a bar is as large as it may become.
    pub fn is_full(&self, now: &OpenBar, side: Side) -> bool {
        match self {
            Cut::Time(_) => false,
            Cut::Count { by, limit, .. } => match by {
                CountedBy::Ticks => now.rows >= *limit,
                CountedBy::Volume => now.volume(side) >= *limit,
                CountedBy::Range => now.bar.high - now.bar.low >= *limit,
            },
        }
    }
}
