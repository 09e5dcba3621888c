//! Rows made ready for the detectors: repeats marked, placed in the session, with their hours and spreads.

use std::sync::Arc;

use super::CheckSubject;
use super::hours::WeekHour;
use super::order::RowOrder;
use super::piece::{CheckRows, TRADE};
use super::place::SessionPlacer;
use super::spreads::SpreadWatch;
use crate::model::{ABSENT, Columns, Field, Micros, QuoteView, Shape};

/// A stretch of rows with what several detectors need to know of each.
#[derive(Default)]
pub struct Ready {
    rows: Arc<Columns>,
    marks: Vec<u8>,
    /// The hour of the week of each row.
    pub hours: Vec<u8>,
    /// Ask less bid of quotes.
    between: Vec<i64>,
    /// The usual spread by then, in points, about.
    pub usual_spread: i64,
}

impl Ready {
    /// The rows as the detectors see them.
    pub fn piece(&self) -> CheckRows<'_> {
        let rows = &*self.rows;
        let shape = rows.shape();
        let spread = if shape == Shape::Quotes { &self.between } else { rows.column(Field::Spread) };
        let prices = CheckRows::prices_of(rows);
        CheckRows { shape, time: &rows.time, prices, spread, marks: &self.marks, rows }
    }
}

/// Makes rows ready, stretch after stretch.
pub struct RowPreparer {
    pub order: RowOrder,
    pub place: SessionPlacer,
    pub spreads: SpreadWatch,
    week_hour: WeekHour,
}

impl RowPreparer {
    pub fn new(subject: &CheckSubject<'_>) -> RowPreparer {
        RowPreparer {
            order: RowOrder::default(),
            place: SessionPlacer::new(subject),
            spreads: SpreadWatch::default(),
            week_hour: WeekHour::new(&subject.session.clock),
        }
    }

    /// Makes the next rows ready in the room of those that are done with. Findings of one kind at most `join`
    /// apart are one.
    pub fn take(&mut self, rows: Arc<Columns>, mut room: Ready, join: Micros) -> Ready {
        let prices = CheckRows::prices_of(&rows);
        let shape = rows.shape();
        mark_trade(shape, prices, CheckRows::volume_of(&rows), rows.len(), &mut room.marks);
        self.order.piece(&rows, join, &mut room.marks);
        self.place.piece(&rows.time, join, &mut room.marks);
        room.between.clear();
        if shape == Shape::Quotes {
            let view = QuoteView::new(&rows);
            room.between.extend((0..rows.len()).map(|i| view.spread(i).unwrap_or(ABSENT)));
        }
        self.week_hour.of_all(&rows.time, &mut room.hours);
        room.rows = rows;
        self.spreads.piece(&room.piece(), &room.hours);
        room.usual_spread = self.spreads.usual();
        room
    }
}

/// Marks rows with trade in them: flat bars without volume have none.
fn mark_trade(
    shape: Shape,
    [open, high, low, close]: [&[i64]; 4],
    volume: &[i64],
    rows: usize,
    marks: &mut Vec<u8>,
) {
    marks.clear();
    if shape != Shape::Bars || volume.is_empty() {
        return marks.resize(rows, TRADE);
    }
    // A flat bar whose volume is not known may well have been traded.
    let trade = |i: usize| volume[i] != 0 || open[i] != close[i] || high[i] != low[i];
    marks.extend((0..rows).map(|i| if trade(i) { TRADE } else { 0 }));
}
