//! The tape: quotes of a history in order of time.

use super::spreads::{SpreadFrom, SpreadRule, SpreadsUsed};
use crate::model::time::{DAY, SECOND};
use crate::model::{Columns, Field, Frame, Micros, Session, Shape, Span};
use crate::{Error, Result};

/// What could be traded at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TradeQuote {
    /// When it stands.
    pub time: Micros,
    /// In points.
    pub bid: i64,
    /// In points.
    pub ask: i64,
}

/// Where a jump ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FillPrice {
    /// At a quote, this time at or just after the moment asked for.
    At(Micros),
    /// There is nothing to play near the moment; the nearest time with data is this.
    Nothing {
        /// The nearest moment that has a quote.
        nearest: Micros,
    },
}

/// A history that plays forward. A tick is one quote; a bar is two, its open when it begins and its
/// close just before it ends, so that nothing is known of a bar before it is over.
pub struct Tape {
    rows: Columns,
    length: Micros,
    /// For rows that do not say their spread.
    spreads: SpreadRule,
    used: SpreadsUsed,
    /// When rows go on after those of the tape; a bar is over then at the latest.
    next: Option<Micros>,
    /// The row of the next quote, and whether that is a bar's close.
    row: usize,
    closes: bool,
    now: Option<TradeQuote>,
}

impl Tape {
    /// A tape of rows sorted by time. What rows do not say of their spread, the rule does.
    ///
    /// # Errors
    /// Where there are no rows; a question, where nothing says a spread that is needed.
    pub fn new(rows: Columns, frame: Frame, spreads: SpreadRule) -> Result<Tape> {
        if rows.is_empty() {
            return Err(Error::input("There is nothing to play in that span."));
        }
        if frame.is_counted() {
            return Err(Error::input(format!(
                "Bars of {frame} know no time of their own and cannot be played; name the ticks they are made of."
            )));
        }
        if rows.shape() == Shape::Depth {
            return Err(Error::input(
                "Depth rows alone cannot be played; name the ticks or bars of the instrument.",
            ));
        }
        let rows = rows.with_whole_bars();
        let (length, used) = (frame.length(), SpreadsUsed::default());
        let tape = Tape { rows, length, spreads, used, next: None, row: 0, closes: false, now: None };
        if tape.spreads.is_silent() && (0..tape.rows.len()).any(|row| tape.own_spread(row).is_none()) {
            return Err(tape.spreads.question());
        }
        Ok(tape)
    }

    /// Tells when rows go on after those of the tape: a bar that is cut there closes before.
    pub fn followed_by(mut self, next: Option<Micros>) -> Tape {
        self.next = next;
        self
    }

    /// How many quotes played so far had their spread from where.
    pub fn spreads_used(&self) -> SpreadsUsed {
        self.used
    }

    /// What is done where rows do not say their spread.
    pub fn spreads(&self) -> &SpreadRule {
        &self.spreads
    }

    /// The spread that a row says, of a tick the distance of bid and ask.
    fn own_spread(&self, row: usize) -> Option<i64> {
        let value = |field: Field| self.rows.cells(field).get(row);
        if self.is_bar(row) { value(Field::Spread) } else { Some(value(Field::Ask)? - value(Field::Bid)?) }
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

    /// When the next quote comes: of a bar that is cut short (by the end of its day) the close comes before
    /// the next row.
    fn time(&self) -> Micros {
        let (row, open) = (self.row, self.rows.time[self.row]);
        if !self.closes {
            return open;
        }
        let close = open + (self.length_of(row) - SECOND).max(0);
        match self.rows.time.get(row + 1).copied().or(self.next) {
            Some(next) => close.min(next - 1).max(open),
            None => close,
        }
    }

    fn quote(&self) -> (TradeQuote, SpreadFrom) {
        let (row, time) = (self.row, self.time());
        let value = |field: Field| self.rows.cells(field).get(row);
        let price = match self.is_bar(row) {
            true => value(if self.closes { Field::Close } else { Field::Open }),
            false => value(Field::Bid).or(value(Field::Last)),
        };
        let bid = price.unwrap_or_default();
        let (spread, from) = match self.own_spread(row) {
            Some(own) => (own, SpreadFrom::Rows),
            None => self.spreads.at(time).unwrap_or((0, SpreadFrom::Rows)),
        };
        (TradeQuote { time, bid, ask: bid + spread }, from)
    }

    /// The span the tape covers.
    pub fn span(&self) -> Span {
        let (first, last) = self.rows.ends().unwrap_or_default();
        Span::new(first, last + self.length_of(self.rows.len().saturating_sub(1)).max(1))
    }

    /// The quote now: the last one played.
    pub fn now(&self) -> Option<TradeQuote> {
        self.now
    }

    /// When the next quote comes.
    pub fn next_time(&self) -> Option<Micros> {
        (self.row < self.rows.len()).then(|| self.time())
    }

    /// Plays the next quote.
    pub fn step(&mut self) -> Option<TradeQuote> {
        if self.row == self.rows.len() {
            return None;
        }
        let (quote, from) = self.quote();
        self.used.count(from);
        self.now = Some(quote);
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
    pub fn play_to(&mut self, until: Micros, mut with: impl FnMut(TradeQuote)) {
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
    pub fn jump(&mut self, to: Micros) -> FillPrice {
        let row = self.rows.time.partition_point(|&t| t < to);
        let before = row.checked_sub(1).map(|i| self.rows.time[i]);
        match self.rows.time.get(row) {
            Some(&t) if t - to <= 7 * DAY => {
                self.go_to(row);
                FillPrice::At(t)
            }
            after => {
                let nearest = [before, after.copied()].into_iter().flatten().min_by_key(|t| (t - to).abs());
                FillPrice::Nothing { nearest: nearest.unwrap_or(to) }
            }
        }
    }

    /// Jumps to the next opening of the session after now.
    pub fn next_session(&mut self, session: &Session) -> FillPrice {
        let now = self.now().map_or(self.span().from, |q| q.time);
        let openings = session.open_spans(Span::new(now, now + 15 * DAY));
        match openings.iter().map(|s| s.from).find(|&from| from > now) {
            Some(opening) => self.jump(opening),
            None => FillPrice::Nothing { nearest: now },
        }
    }

    /// Jumps to the first quote of the next session day that has data.
    pub fn next_day(&mut self, session: &Session) -> FillPrice {
        let now = self.now().map_or(self.span().from, |q| q.time);
        let tomorrow = session.day_span(session.clock.day_of(now)).to;
        let row = self.rows.time.partition_point(|&t| t < tomorrow);
        match self.rows.time.get(row).copied() {
            Some(t) => {
                self.go_to(row);
                FillPrice::At(t)
            }
            None => FillPrice::Nothing { nearest: self.rows.time[self.rows.len() - 1] },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hour_spreads::HourSpreads;
    use crate::model::time::{HOUR, MINUTE, parse};
    use crate::model::{ABSENT, Clock, Scale};

    fn rule(usual: Option<i64>) -> SpreadRule {
        let hours = HourSpreads(vec![usual; crate::check::WEEK_HOURS]);
        SpreadRule::new("NOKSEK", hours, &Clock::utc(), None)
    }

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
        Tape::new(rows, Frame::M1, rule(Some(4))).unwrap()
    }

    #[test]
    fn a_bar_is_its_open_and_then_its_close() {
        let mut tape = tape();
        let start = tape.span().from;
        assert_eq!(tape.step(), Some(TradeQuote { time: start, bid: 10, ask: 13 }));
        assert_eq!(tape.played(), 0);
        assert_eq!(tape.step(), Some(TradeQuote { time: start + 59 * SECOND, bid: 12, ask: 15 }));
        assert_eq!(tape.played(), 1);
        assert_eq!(tape.step().unwrap().ask, 24, "an unknown spread is the usual one of its hour");
        let mut seen = 0;
        tape.play_to(start + HOUR, |_| seen += 1);
        assert_eq!((seen, tape.played()), (3, 3));
    }

    #[test]
    fn time_never_runs_backwards_where_a_bar_is_cut_by_the_end_of_its_day() {
        // Bars of four hours, the second cut after one.
        let start = parse("2024-03-05 16:00").unwrap();
        let rows = Columns {
            time: vec![start, start + 4 * HOUR, start + 5 * HOUR],
            fields: vec![Field::Open, Field::High, Field::Low, Field::Close],
            data: vec![vec![10; 3]; 4],
            scale: Scale { price: 2, volume: 0 },
        };
        let frame: Frame = "4h".parse().unwrap();
        assert!(Tape::new(rows.clone(), frame, rule(None)).is_err_and(|e| e.is_undecided()));
        let mut tape = Tape::new(rows, frame, rule(Some(3))).unwrap().followed_by(Some(start + 6 * HOUR));
        let times: Vec<Micros> = std::iter::from_fn(|| tape.step()).map(|q| q.time - start).collect();
        let close = |end: Micros| end * HOUR - 1;
        assert_eq!(times, [0, 4 * HOUR - SECOND, 4 * HOUR, close(5), 5 * HOUR, close(6)]);
        assert_eq!(tape.spreads_used(), SpreadsUsed { measured: 6, ..SpreadsUsed::default() });
    }

    #[test]
    fn jumps_land_or_name_the_nearest_data() {
        let mut tape = tape();
        let start = tape.span().from;
        assert_eq!(tape.jump(start + MINUTE - 1), FillPrice::At(start + MINUTE));
        assert_eq!(tape.now().unwrap().bid, 20);
        assert_eq!(tape.jump(start + 10 * DAY), FillPrice::Nothing { nearest: start + 2 * MINUTE });
        assert_eq!(tape.now().unwrap().bid, 20, "nothing moved");
        assert_eq!(tape.jump(start + 60 * DAY), FillPrice::Nothing { nearest: start + 30 * DAY });
        let session = Session {
            week: "mon-fri 08:00-17:00 Europe/Oslo".parse().unwrap(),
            clock: "Europe/Oslo".parse().unwrap(),
            ..Session::always()
        };
        assert_eq!(tape.next_day(&session), FillPrice::At(start + 30 * DAY));
        assert!(matches!(tape.next_session(&session), FillPrice::Nothing { .. }));
    }
}
