//! The tape: quotes of a history in order of time.

use crate::counts::Counts;
use crate::model::time::{DAY, SECOND};
use crate::model::{Columns, Field, Frame, Micros, QuoteView, Session, Shape, Span};
use crate::{Error, Result};

/// What could be traded at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Quote {
    pub time: Micros,
    /// In points.
    pub bid: i64,
    pub ask: i64,
}

/// Where a jump ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Landing {
    /// At a quote, this time at or just after the moment asked for.
    At(Micros),
    /// There is nothing to play near the moment; the nearest time with data is this.
    Nothing { nearest: Micros },
}

/// Spreads that rows say, counted piece by piece.
#[derive(Default)]
pub struct KnownSpreads {
    bars: Counts,
    ticks: Counts,
}

impl KnownSpreads {
    /// The fields it looks at.
    pub const FIELDS: [Field; 3] = [Field::Spread, Field::Bid, Field::Ask];

    /// Counts those of the next rows.
    pub fn add(&mut self, rows: &Columns) {
        rows.cells(Field::Spread).present().for_each(|s| self.bars.add(s, 1));
        let view = QuoteView::new(rows);
        (0..rows.len()).filter_map(|i| view.spread(i)).for_each(|s| self.ticks.add(s, 1));
    }

    /// The median of what bars say, else of the ticks beside them; none where nothing says one.
    pub fn usual(&self) -> Option<i64> {
        [&self.bars, &self.ticks].into_iter().find(|c| c.total() > 0).map(Counts::median)
    }
}

/// A history that plays forward. A tick is one quote; a bar is two, its open when it begins and its
/// close just before it ends, so that nothing is known of a bar before it is over.
pub struct Tape {
    rows: Columns,
    length: Micros,
    /// Added to a bar's price to get its ask, in points, where the bar does not say its spread.
    spread: i64,
    /// True where nothing says what the spread is.
    is_assumed: bool,
    /// The row of the next quote, and whether that is a bar's close.
    row: usize,
    closes: bool,
    now: Option<Quote>,
}

impl Tape {
    /// A tape of rows sorted by time. `fixed_spread` (points) is used where rows do not say theirs; else
    /// the median of those that do, else one point.
    ///
    /// # Errors
    /// Where there are no rows.
    pub fn new(rows: Columns, frame: Frame, fixed_spread: Option<i64>) -> Result<Tape> {
        let mut known = KnownSpreads::default();
        if fixed_spread.is_none() {
            known.add(&rows);
        }
        Tape::with_spread(rows, frame, fixed_spread.or(known.usual()))
    }

    /// A tape of rows sorted by time, with the spread of rows that do not say theirs: one point where there is
    /// none.
    ///
    /// # Errors
    /// Where there are no rows.
    pub fn with_spread(rows: Columns, frame: Frame, said: Option<i64>) -> Result<Tape> {
        if rows.is_empty() {
            return Err(Error::input("There is nothing to play in that span."));
        }
        if rows.shape() == Shape::Depth {
            return Err(Error::input(
                "Depth rows alone cannot be played; name the ticks or bars of the instrument.",
            ));
        }
        let rows = rows.with_whole_bars();
        let is_assumed = said.is_none() && rows.shape() != Shape::Quotes;
        let (length, spread) = (frame.length(), said.unwrap_or(1));
        Ok(Tape { rows, length, spread, is_assumed, row: 0, closes: false, now: None })
    }

    /// The spread in points that is taken where neither the rows nor the sheet say one.
    pub fn assumed_spread(&self) -> Option<i64> {
        self.is_assumed.then_some(self.spread)
    }

    /// True where a row is a bar: two quotes, its open and its close.
    fn is_bar(&self, row: usize) -> bool {
        match self.rows.shape() {
            Shape::Bars => true,
            Shape::Layered => self.rows.column(Field::Covers)[row] > 0,
            Shape::Quotes | Shape::Trades | Shape::Depth => false,
        }
    }

    fn length_of(&self, row: usize) -> Micros {
        self.rows.column(Field::Covers).get(row).copied().unwrap_or(self.length)
    }

    fn quote(&self) -> Quote {
        let row = self.row;
        let time = self.rows.time[row] + if self.closes { (self.length_of(row) - SECOND).max(0) } else { 0 };
        let value = |field: Field| self.rows.cells(field).get(row);
        if self.is_bar(row) {
            let bid = value(if self.closes { Field::Close } else { Field::Open }).unwrap_or_default();
            return Quote { time, bid, ask: bid + value(Field::Spread).unwrap_or(self.spread) };
        }
        match (value(Field::Bid), value(Field::Ask)) {
            (Some(bid), Some(ask)) => Quote { time, bid, ask },
            _ => {
                let last = value(Field::Last).unwrap_or_default();
                Quote { time, bid: last, ask: last + self.spread }
            }
        }
    }

    /// The span the tape covers.
    pub fn span(&self) -> Span {
        let (first, last) = self.rows.ends().unwrap_or_default();
        Span::new(first, last + self.length_of(self.rows.len().saturating_sub(1)).max(1))
    }

    /// The quote now: the last one played.
    pub fn now(&self) -> Option<Quote> {
        self.now
    }

    /// When the next quote comes.
    pub fn next_time(&self) -> Option<Micros> {
        (self.row < self.rows.len()).then(|| self.quote().time)
    }

    /// Plays the next quote.
    pub fn step(&mut self) -> Option<Quote> {
        if self.row == self.rows.len() {
            return None;
        }
        self.now = Some(self.quote());
        if self.is_bar(self.row) && !self.closes {
            self.closes = true;
        } else {
            self.closes = false;
            self.row += 1;
        }
        self.now
    }

    fn go_to(&mut self, row: usize) {
        (self.row, self.closes) = (row, false);
        self.step();
    }

    /// Plays every quote up to and with a moment.
    pub fn play_to(&mut self, until: Micros, mut with: impl FnMut(Quote)) {
        while self.next_time().is_some_and(|t| t <= until) {
            if let Some(quote) = self.step() {
                with(quote);
            }
        }
    }

    /// The rows that are over: every row but one that is still open.
    pub fn played(&self) -> usize {
        self.row
    }

    /// All rows of the tape.
    pub fn rows(&self) -> &Columns {
        &self.rows
    }

    /// Jumps so that the next quote is the first at or after `to`. Where none follows within a week (a
    /// weekend and holidays may lie between), nothing moves and the nearest time with data is named.
    pub fn jump(&mut self, to: Micros) -> Landing {
        let row = self.rows.time.partition_point(|&t| t < to);
        let before = row.checked_sub(1).map(|i| self.rows.time[i]);
        match self.rows.time.get(row) {
            Some(&t) if t - to <= 7 * DAY => {
                self.go_to(row);
                Landing::At(t)
            }
            after => {
                let nearest = [before, after.copied()].into_iter().flatten().min_by_key(|t| (t - to).abs());
                Landing::Nothing { nearest: nearest.unwrap_or(to) }
            }
        }
    }

    /// Jumps to the next opening of the session after now.
    pub fn next_session(&mut self, session: &Session) -> Landing {
        let now = self.now().map_or(self.span().from, |q| q.time);
        let openings = session.open_spans(Span::new(now, now + 15 * DAY));
        match openings.iter().map(|s| s.from).find(|&from| from > now) {
            Some(opening) => self.jump(opening),
            None => Landing::Nothing { nearest: now },
        }
    }

    /// Jumps to the first quote of the next session day that has data.
    pub fn next_day(&mut self, session: &Session) -> Landing {
        let now = self.now().map_or(self.span().from, |q| q.time);
        let tomorrow = session.day_span(session.clock.day_of(now)).to;
        let row = self.rows.time.partition_point(|&t| t < tomorrow);
        match self.rows.time.get(row).copied() {
            Some(t) => {
                self.go_to(row);
                Landing::At(t)
            }
            None => Landing::Nothing { nearest: self.rows.time[self.rows.len() - 1] },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{HOUR, MINUTE, parse};
    use crate::model::{ABSENT, Scale};

    fn tape() -> Tape {
        let start = parse("2024-03-05 10:00").unwrap();
        let times = [0, 1, 2, 30 * 24 * 60];
        let rows = Columns {
            time: times.iter().map(|m| start + m * MINUTE).collect(),
            fields: vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Spread],
            data: vec![
                vec![10, 20, 30, 40],
                vec![15; 4],
                vec![5; 4],
                vec![12, 22, 32, 42],
                vec![3, ABSENT, 5, 0],
            ],
            scale: Scale { price: 2, volume: 0 },
        };
        Tape::new(rows, Frame::M1, None).unwrap()
    }

    #[test]
    fn a_bar_is_its_open_and_then_its_close() {
        let mut tape = tape();
        let start = tape.span().from;
        assert_eq!(tape.step(), Some(Quote { time: start, bid: 10, ask: 13 }));
        assert_eq!(tape.played(), 0);
        assert_eq!(tape.step(), Some(Quote { time: start + 59 * SECOND, bid: 12, ask: 15 }));
        assert_eq!(tape.played(), 1);
        assert_eq!(tape.step().unwrap().ask, 23, "an unknown spread is the median of the known");
        let mut seen = 0;
        tape.play_to(start + HOUR, |_| seen += 1);
        assert_eq!((seen, tape.played()), (3, 3));
    }

    #[test]
    fn jumps_land_or_name_the_nearest_data() {
        let mut tape = tape();
        let start = tape.span().from;
        assert_eq!(tape.jump(start + MINUTE - 1), Landing::At(start + MINUTE));
        assert_eq!(tape.now().unwrap().bid, 20);
        assert_eq!(tape.jump(start + 10 * DAY), Landing::Nothing { nearest: start + 2 * MINUTE });
        assert_eq!(tape.now().unwrap().bid, 20, "nothing moved");
        assert_eq!(tape.jump(start + 60 * DAY), Landing::Nothing { nearest: start + 30 * DAY });
        let session = Session {
            week: "mon-fri 08:00-17:00 Europe/Oslo".parse().unwrap(),
            clock: "Europe/Oslo".parse().unwrap(),
            holidays: vec![],
        };
        assert_eq!(tape.next_day(&session), Landing::At(start + 30 * DAY));
        assert!(matches!(tape.next_session(&session), Landing::Nothing { .. }));
    }
}
