//! A replay: one or many histories in one time, a desk, and the way back.
//!
//! Quotes of all histories come in order of time; of one time, in the order in which the histories were named. What a person
//! does is logged with its place among the quotes, so any earlier moment can be had again: the state of a mark before it is
//! taken up and the log is played from there.

use std::ops::Range;

use serde::{Deserialize, Serialize};

use super::book_tape::BookTape;
use super::desk::{Desk, DeskRules, DeskState, Entry};
use super::money::Traded;
use super::order::DeskAct;
use super::tape::{FillPrice, Tape, TapePlace};
use crate::model::{Columns, Micros};
use crate::{Error, Result};

/// A mark is set at the latest after so many quotes: they are played again within a tenth of a second.
const MARK_EVERY: u64 = 500_000;
/// Marks that are kept; of older ones every second goes.
const MOST_MARKS: usize = 200;

/// Something that a person did, with its place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Logged {
    /// Quotes that were played before.
    pub played: u64,
    /// The moment.
    pub now: Micros,
    /// What was done.
    pub what: ReplayAct,
}

impl Logged {
    /// Has a jump end at a moment at the latest.
    fn ends_by(&mut self, until: Micros) {
        if let ReplayAct::Jump(to) = &mut self.what {
            *to = (*to).min(until);
        }
    }
}

/// What a person does to a replay.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ReplayAct {
    /// Deals by somebody who sees the last quotes.
    Give(DeskAct),
    /// Deals between two quotes: it waits for the next.
    Submit(DeskAct),
    /// Goes on to a moment. What lies between is played where something is held or an order waits, and passed over elsewhere.
    Jump(Micros),
}

/// A state that can be taken up again.
struct Mark {
    state: DeskState,
    journal: usize,
    log: usize,
    tapes: Vec<TapePlace>,
    /// When the next row of each book comes.
    books: Vec<Option<Micros>>,
}

/// Is told of rows that are over: the place of their instrument, a piece and which of it.
pub type RowWatcher<'a> = dyn FnMut(usize, &Columns, Range<usize>) + 'a;

/// A replay.
pub struct Replay {
    tapes: Vec<Tape>,
    /// The recorded book of each instrument, where there is one.
    books: Vec<Option<BookTape>>,
    desk: Desk,
    log: Vec<Logged>,
    marks: Vec<Mark>,
}

impl Replay {
    /// A replay of tapes, of which each has an instrument of the desk.
    ///
    /// # Errors
    /// Where there is nothing to play.
    pub fn new(tapes: Vec<Tape>, traded: Vec<Traded>, rules: DeskRules) -> Result<Replay> {
        if tapes.iter().all(|tape| tape.next_time().is_none()) {
            return Err(Error::input("There is nothing to play in that span."));
        }
        let books = tapes.iter().map(|_| None).collect();
        let desk = Desk::new(traded, rules);
        let mut replay = Replay { tapes, books, desk, log: Vec::new(), marks: Vec::new() };
        replay.desk.state.now = replay.next_time().unwrap_or_default();
        replay.mark();
        Ok(replay)
    }

    /// Plays recorded books beside the tapes, one for each or none: rows of a book that have the time of a quote come before it.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn with_books(mut self, books: Vec<Option<BookTape>>) -> Result<Replay> {
        self.books = books;
        self.seek_books(self.desk.state.now)?;
        self.marks.clear();
        self.mark();
        Ok(self)
    }

    fn seek_books(&mut self, to: Micros) -> Result<()> {
        for (tape, book) in self.books.iter_mut().zip(&mut self.desk.state.books) {
            if let Some(tape) = tape {
                *book = tape.seek(to)?;
            }
        }
        Ok(())
    }

    fn advance_books(&mut self, until: Micros) -> Result<()> {
        for (tape, book) in self.books.iter_mut().zip(&mut self.desk.state.books) {
            if let Some(tape) = tape {
                tape.advance(until, book)?;
            }
        }
        Ok(())
    }

    /// The desk.
    pub fn desk(&self) -> &Desk {
        &self.desk
    }

    /// The tapes, as they were named.
    pub fn tapes(&self) -> &[Tape] {
        &self.tapes
    }

    /// What was done so far.
    pub fn log(&self) -> &[Logged] {
        &self.log
    }

    /// When the next quote comes; none at the end.
    pub fn next_time(&self) -> Option<Micros> {
        self.tapes.iter().filter_map(Tape::next_time).min()
    }

    /// The tape whose quote comes next.
    fn next_tape(&self) -> Option<usize> {
        let times = self.tapes.iter().enumerate().filter_map(|(i, tape)| Some((tape.next_time()?, i)));
        times.min().map(|(_, i)| i)
    }

    fn mark(&mut self) {
        let state = self.desk.state.clone();
        if self
            .marks
            .last()
            .is_some_and(|mark| mark.state.played == state.played && mark.log == self.log.len())
        {
            return;
        }
        if self.marks.len() == MOST_MARKS {
            let mut place = 0;
            self.marks.retain(|_| {
                place += 1;
                place == 1 || place > MOST_MARKS / 2 || place % 2 == 0
            });
        }
        let tapes = self.tapes.iter().map(Tape::place).collect();
        let books = self.books.iter().map(|book| book.as_ref().and_then(BookTape::next_time)).collect();
        self.marks.push(Mark { state, journal: self.desk.journal.len(), log: self.log.len(), tapes, books });
    }

    /// Plays the next quote: the place of its instrument; none at the end.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn step(&mut self) -> Result<Option<usize>> {
        let Some(of) = self.next_tape() else { return Ok(None) };
        let time = self.tapes[of].next_time().unwrap_or(self.desk.state.now);
        self.advance_books(time)?;
        self.play_run(of, 1, &mut |_, _, _| {})?;
        Ok(Some(of))
    }

    /// Plays quotes up to and with a moment, at most so many: how many were played.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn play_to(&mut self, until: Micros, most: u64) -> Result<u64> {
        self.watch_to(until, most, &mut |_, _, _| {})
    }

    /// The same, for somebody who looks at the rows that are over.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn watch_to(&mut self, until: Micros, most: u64, watcher: &mut RowWatcher<'_>) -> Result<u64> {
        let before = self.desk.played();
        let mut since_mark = before - self.marks.last().map_or(0, |mark| mark.state.played).min(before);
        loop {
            let played = self.desk.played() - before;
            let Some(of) = self.next_tape().filter(|_| played < most) else { break };
            let Some(time) = self.tapes[of].next_time().filter(|t| *t <= until) else { break };
            self.advance_books(time)?;
            let run = self.run_of(of, until).min((most - played) as usize);
            self.play_run(of, run, watcher)?;
            since_mark += run as u64;
            if since_mark >= MARK_EVERY {
                self.mark();
                since_mark = 0;
            }
        }
        if until < Micros::MAX && self.next_time().is_none_or(|t| t > until) {
            self.desk.state.now = self.desk.state.now.max(until);
            self.advance_books(until)?;
        }
        Ok(self.desk.played() - before)
    }

    /// How many quotes at hand of a tape come before those of all others, up to a moment; one at least.
    fn run_of(&self, of: usize, until: Micros) -> usize {
        let (piece, at) = self.tapes[of].piece();
        let mut end = piece.time.len();
        if piece.time.last().is_some_and(|last| *last > until) {
            end = at + piece.time[at..].partition_point(|t| *t <= until);
        }
        for (other, tape) in self.tapes.iter().enumerate().filter(|(other, _)| *other != of) {
            let Some(next) = tape.next_time() else { continue };
            let comes_before = |t: &Micros| if of < other { *t <= next } else { *t < next };
            if piece.time[end - 1] >= next {
                end = at + piece.time[at..end].partition_point(comes_before);
            }
            end = end.max(at + 1);
        }
        // What an order finds in a book is what was told by then.
        let told = self.books.iter().flatten().filter_map(BookTape::next_time).min();
        if let Some(told) = told.filter(|told| piece.time[end - 1] >= *told) {
            end = (at + piece.time[at..end].partition_point(|t| *t < told)).max(at + 1);
        }
        end - at
    }

    fn play_run(&mut self, of: usize, run: usize, watcher: &mut RowWatcher<'_>) -> Result<()> {
        let (piece, at) = self.tapes[of].piece();
        let over = piece.rows_over(at)..piece.rows_over(at + run);
        if !over.is_empty() {
            watcher(of, &piece.rows, over);
        }
        if piece.has_bars() {
            for i in at..at + run {
                let quote = super::TradeQuote { time: piece.time[i], bid: piece.bid[i], ask: piece.ask[i] };
                match piece.reach_of(i) {
                    Some(reach) => self.desk.take_bar(of, reach, quote),
                    None => self.desk.take(of, quote),
                }
            }
        } else {
            self.desk.run(of, &piece.time[at..at + run], &piece.bid[at..at + run], &piece.ask[at..at + run]);
        }
        self.tapes[of].pass(run)
    }

    /// Does something at this moment; a moment that lies before the last is taken for the last.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn act(&mut self, now: Micros, what: ReplayAct) -> Result<()> {
        let now = now.max(self.desk.state.now);
        self.log.push(Logged { played: self.desk.played(), now, what: what.clone() });
        self.perform(now, what)?;
        self.mark();
        Ok(())
    }

    fn perform(&mut self, now: Micros, what: ReplayAct) -> Result<()> {
        self.desk.state.now = self.desk.state.now.max(now);
        self.advance_books(now)?;
        match what {
            ReplayAct::Give(act) => self.desk.give(now, act),
            ReplayAct::Submit(act) => self.desk.submit(now, act),
            ReplayAct::Jump(to) if self.desk.is_engaged() => {
                self.play_to(to - 1, u64::MAX)?;
                self.desk.state.now = self.desk.state.now.max(to);
                self.advance_books(self.desk.state.now)?;
            }
            ReplayAct::Jump(to) => self.skip_to(to)?,
        }
        Ok(())
    }

    /// Goes on to a moment; the quotes that stand there are known, those between are not played.
    fn skip_to(&mut self, to: Micros) -> Result<()> {
        for (of, tape) in self.tapes.iter_mut().enumerate() {
            if tape.next_time().is_some_and(|t| t < to) {
                let standing = tape.seek(to)?;
                self.desk.state.quotes[of] = standing.or(self.desk.state.quotes[of]);
            }
        }
        self.desk.state.now = self.desk.state.now.max(to);
        self.seek_books(self.desk.state.now)
    }

    /// Where a jump to a moment would end: the nearest of all tapes.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn look(&self, to: Micros) -> Result<FillPrice> {
        let mut best: Option<FillPrice> = None;
        for tape in &self.tapes {
            let found = tape.look(to)?;
            let rank = |f: &FillPrice| match f {
                FillPrice::At(t) => (0, *t - to),
                FillPrice::Nothing { nearest } => (1, (*nearest - to).abs()),
            };
            if best.as_ref().is_none_or(|b| rank(&found) < rank(b)) {
                best = Some(found);
            }
        }
        Ok(best.unwrap_or(FillPrice::Nothing { nearest: to }))
    }

    /// Goes back to an earlier moment: account, orders and journal are as they were, and what was done later was never done.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn back(&mut self, to: Micros) -> Result<()> {
        self.back_before(to, usize::MAX)
    }

    /// The same, to the moment before the thing was done that has a place in the log: several may be done at one moment.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn back_before(&mut self, to: Micros, done: usize) -> Result<()> {
        let is_before = |mark: &Mark| mark.state.now <= to && mark.log <= done;
        let place = self.marks.iter().rposition(is_before).unwrap_or(0);
        self.marks.truncate(place + 1);
        let (log_from, tapes, books) = {
            let mark = &self.marks[place];
            self.desk.state = mark.state.clone();
            self.desk.journal.truncate(mark.journal);
            (mark.log, mark.tapes.clone(), mark.books.clone())
        };
        for (tape, row) in self.books.iter_mut().zip(books) {
            if let Some(tape) = tape {
                tape.go_to(row)?;
            }
        }
        for (tape, place) in self.tapes.iter_mut().zip(tapes) {
            tape.go_to(place)?;
        }
        let mut rest = self.log.split_off(log_from);
        // The mark may lie on the way of a jump that went further: it ends here now.
        if let Some(last) = self.log.last_mut() {
            last.ends_by(to);
        }
        rest.truncate(done.saturating_sub(log_from));
        self.replay_log(rest, to)?;
        self.play_to(to, u64::MAX)?;
        Ok(())
    }

    /// Plays a log from here on, up to a moment.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn replay_log(&mut self, log: Vec<Logged>, until: Micros) -> Result<()> {
        for mut entry in log.into_iter().take_while(|entry| entry.now <= until) {
            let ahead = entry.played.saturating_sub(self.desk.played());
            self.play_to(Micros::MAX, ahead)?;
            entry.ends_by(until);
            self.log.push(entry.clone());
            self.perform(entry.now, entry.what)?;
        }
        Ok(())
    }

    /// The last line of the journal.
    pub fn last_entry(&self) -> Option<&Entry> {
        self.desk.journal.last()
    }
}
