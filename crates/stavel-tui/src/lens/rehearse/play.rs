//! A rehearsal that is on: what plays, where it is in time, and its way through it.

use std::sync::Arc;
use std::time::Duration;

use stavel_core::Result;
use stavel_core::model::time::{DAY, HOUR, SECOND, length_in_words, wall};
use stavel_core::model::{Frame, Instrument, Micros, SeriesName, Span};
use stavel_core::rehearse::{DeskAct, Entry, FillPrice, PriceFactor, ReplayAct, Tape, TradeQuote};
use stavel_core::store::SeriesInfo;
use stavel_work::{KeptMark, Opened, entry_in_words};

use super::panes::{PaneRead, PlayPane};

/// Paces, as multiples of real time in hundredths; 0 is as fast as it goes.
pub const PACES: [u32; 12] = [25, 50, 100, 500, 2000, 6000, 20_000, 50_000, 100_000, 300_000, 1_000_000, 0];
/// A place among [`PACES`] that is good to begin with: 60 times.
pub const USUAL_PACE: usize = 5;
/// Quotes played in a moment at the fastest pace, at most: the screen is drawn in between.
const FASTEST: u64 = 500_000;

/// A pace in words.
pub fn pace_in_words(pace: usize) -> String {
    match PACES[pace] {
        0 => "max".to_owned(),
        n if n < 100 => format!("0.{n:02}x").trim_end_matches('0').replace("0x", "x"),
        n => format!("{}x", n / 100),
    }
}

/// The place among [`PACES`] that is nearest to a pace.
pub fn pace_near(pace: stavel_work::PlayPace) -> usize {
    let stavel_work::PlayPace::Times(times) = pace else { return PACES.len() - 1 };
    let distance = |hundredths: &u32| ((f64::from(*hundredths) / 100.0).ln() - times.ln()).abs();
    let timed = PACES.iter().enumerate().filter(|(_, hundredths)| **hundredths > 0);
    timed.min_by(|a, b| distance(a.1).total_cmp(&distance(b.1))).map_or(USUAL_PACE, |(place, _)| place)
}

/// A rehearsal that is on.
pub struct Play {
    opened: Opened,
    /// The moment reached; the last quote may be a little older.
    pub now: Micros,
    pub running: bool,
    /// Decimals of money on the screen.
    pub money_decimals: u32,
    /// The instruments and frames of its panes, also while they are read.
    pub layout: Vec<(usize, Frame)>,
    pub panes: Vec<PlayPane>,
    /// The pane that is worked in.
    pub focus: usize,
    /// Moments that a person wants to find again, with words.
    pub bookmarks: Vec<KeptMark>,
    /// What its prices are multiplied with, in blind practice.
    pub factor: Option<PriceFactor>,
    /// The order that is chosen, to be moved or taken back.
    pub chosen: Option<u32>,
    /// Why time stands, where rows could not be read.
    pub trouble: Option<stavel_core::Error>,
}

impl std::ops::Deref for Play {
    type Target = Opened;

    fn deref(&self) -> &Opened {
        &self.opened
    }
}

impl std::ops::DerefMut for Play {
    fn deref_mut(&mut self) -> &mut Opened {
        &mut self.opened
    }
}

impl Play {
    pub fn new(opened: Opened, money_decimals: u32) -> Play {
        let now = opened.replay.desk().now();
        Play {
            opened,
            now,
            running: false,
            money_decimals,
            layout: Vec::new(),
            panes: Vec::new(),
            focus: 0,
            bookmarks: Vec::new(),
            factor: None,
            chosen: None,
            trouble: None,
        }
    }

    /// The place of the instrument that is worked in.
    pub fn of(&self) -> usize {
        self.layout.get(self.focus).map_or(0, |(of, _)| *of)
    }

    /// The series that is worked in.
    pub fn series(&self) -> &SeriesName {
        &self.info().name
    }

    /// What a series is called: where several instruments are played, with its instrument.
    pub fn called(&self, of: usize) -> String {
        let name = &self.played[of].info.name;
        if self.played.len() > 1 { name.to_string() } else { name.short() }
    }

    pub fn info(&self) -> &SeriesInfo {
        &self.played[self.of()].info
    }

    pub fn instrument(&self) -> &Instrument {
        &self.played[self.of()].instrument
    }

    pub fn tape(&self) -> &Tape {
        &self.replay.tapes()[self.of()]
    }

    pub fn decimals(&self) -> u8 {
        self.info().edition.scale.price
    }

    /// The last quote of the instrument that is worked in.
    pub fn quote(&self) -> Option<TradeQuote> {
        self.replay.desk().quote(self.of())
    }

    /// What has to be read for panes of these instruments and frames, as of now.
    pub fn reads(&self, wanted: &[(usize, Frame)]) -> Vec<PaneRead> {
        let read = |(of, frame): &(usize, Frame)| {
            let one = &self.played[*of];
            // The row of the next quote is not over; nothing from its time on is read.
            let until = self.replay.tapes()[*of].not_over().unwrap_or(self.now + 1);
            PaneRead {
                of: *of,
                frame: *frame,
                info: one.info.clone(),
                instrument: Arc::new(one.instrument.clone()),
                until,
                factor: self.factor,
            }
        };
        wanted.iter().map(read).collect()
    }

    /// Plays up to a moment, at most so many quotes.
    fn play_to(&mut self, until: Micros, most: u64) -> Result<u64> {
        let panes = &mut self.panes;
        self.opened.replay.watch_to(until, most, &mut |of, rows, range| {
            for pane in panes.iter_mut().filter(|pane| pane.of == of) {
                pane.take(rows, range.clone());
            }
        })
    }

    /// Lets time pass at a pace; true where something moved.
    pub fn pass(&mut self, passed: Duration, pace: usize) -> bool {
        if !self.running || self.panes.is_empty() {
            return false;
        }
        let Some(next) = self.replay.next_time() else {
            self.running = false;
            return true;
        };
        // Nobody wants to watch a closed market.
        if next - self.now > HOUR {
            self.now = next - SECOND;
        }
        let played = match PACES[pace] {
            0 => self.play_to(Micros::MAX, FASTEST).inspect(|_| self.now = self.replay.desk().now()),
            pace => {
                self.now += passed.as_micros() as Micros * Micros::from(pace) / 100;
                self.play_to(self.now, u64::MAX)
            }
        };
        if let Err(err) = played {
            (self.running, self.trouble) = (false, Some(err));
        }
        true
    }

    /// Plays the next quote.
    pub fn step_quote(&mut self) -> Result<()> {
        if let Some(next) = self.replay.next_time() {
            self.play_to(next, 1)?;
            self.now = self.now.max(next);
        }
        Ok(())
    }

    /// Plays so much time; where the market is closed for longer than an hour, up to its first quote.
    pub fn step_time(&mut self, by: Micros) -> Result<()> {
        let Some(next) = self.replay.next_time() else { return Ok(()) };
        let to = self.now + by;
        self.now = if next > to && next - self.now > HOUR { next } else { to };
        self.play_to(self.now, u64::MAX)?;
        Ok(())
    }

    /// The end of the bar of the pane that is worked in; half a day on where bars have no length of their own.
    pub fn bar_length(&self) -> Micros {
        self.panes
            .get(self.focus)
            .map(|pane| pane.frame.length())
            .filter(|length| *length > 0)
            .unwrap_or(DAY / 2)
    }

    /// Goes to another moment: on, or back to how everything was then. Of what was done at that very moment only so much stays.
    /// Panes have to be read anew.
    pub fn go_to(&mut self, to: Micros, done: usize) -> Result<()> {
        self.running = false;
        if to < self.now || done < self.replay.log().len() {
            let to = to.max(self.began);
            self.replay.back_before(to, done)?;
            self.now = to;
        } else {
            self.opened.replay.act(self.now, ReplayAct::Jump(to))?;
            self.now = to;
            // The first quote there is seen at once.
            if let Some(next) = self.replay.next_time() {
                self.replay.play_to(next, u64::MAX)?;
                self.now = next;
            }
        }
        self.chosen = None;
        let now = self.now;
        self.bookmarks.retain(|mark| mark.at <= now);
        Ok(())
    }

    /// Does something at the desk: the lines of the journal that it made, in words.
    pub fn give(&mut self, act: DeskAct) -> Result<Vec<String>> {
        let before = self.replay.desk().journal().len();
        self.opened.replay.act(self.now, ReplayAct::Give(act))?;
        let desk = self.opened.replay.desk();
        if self.chosen.is_some_and(|id| desk.order(id).is_none()) {
            self.chosen = None;
        }
        let made = desk.journal()[before..].iter();
        Ok(made
            .filter_map(|entry| entry_in_words(desk, entry, &self.opened.currency, self.money_decimals))
            .collect())
    }

    /// At how many prices the order was dealt that was filled first since a line of the journal.
    pub fn parts_since(&self, line: usize) -> usize {
        let deals = || {
            self.replay.desk().journal()[line..].iter().filter_map(|entry| match entry {
                Entry::Deal(deal) => Some(deal.order),
                _ => None,
            })
        };
        let Some(first) = deals().next() else { return 0 };
        deals().take_while(|order| *order == first).count()
    }

    /// True where the last act was refused.
    pub fn was_refused(&self) -> bool {
        matches!(self.replay.last_entry(), Some(Entry::Refused(_)))
    }

    /// Why nothing moves, where time does not run though it could, and what does play.
    pub fn why_still(&self) -> Option<String> {
        let desk = self.replay.desk();
        if let Some(err) = &self.trouble {
            return Some(err.to_string());
        }
        let Some(next) = self.tape().next_time() else {
            let goes_on = |tape: &Tape| tape.next_time().is_some();
            return Some(match self.replay.tapes().iter().position(goes_on) {
                Some(other) => {
                    format!("the rows of {} end here; {} goes on", self.called(self.of()), self.called(other))
                }
                None => format!("the rows end here ({}): j goes back", wall(desk.now() / SECOND * SECOND)),
            });
        };
        let gap = next - self.now;
        if gap <= self.tape().patience() {
            return None;
        }
        let session = &self.instrument().sheet.session;
        let open = session.open_spans(Span::new(self.now, self.now + 1));
        Some(match (open.is_empty(), Tape::next_opening(session, self.now)) {
            (true, Some(opening)) => format!("closed; it opens {} (n)", wall(opening)),
            _ => format!("no rows for {}: a hole in {}", length_in_words(gap), self.called(self.of())),
        })
    }

    /// Where a jump would end.
    pub fn look(&self, to: Micros) -> Result<FillPrice> {
        self.replay.look(to)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paces_are_told_as_people_say_them() {
        let told: Vec<String> = (0..PACES.len()).map(pace_in_words).collect();
        assert_eq!(told[..4], ["0.25x", "0.5x", "1x", "5x"]);
        assert_eq!(
            [0.3, 60.0, 55.0, 1e6].map(|times| pace_near(stavel_work::PlayPace::Times(times))),
            [0, 5, 5, 10]
        );
        assert_eq!(pace_near(stavel_work::PlayPace::Max), PACES.len() - 1);
        assert_eq!((told[USUAL_PACE].as_str(), told.last().unwrap().as_str()), ("60x", "max"));
    }
}
