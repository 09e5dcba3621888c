//! The quotes of the broker's stream, as they are made, and how the stream is to go wrong.

use stavel_core::model::time::{Micros, day_of};

use super::history::MadeUpHistory;
use crate::market::MarketQuote;

/// How the stream is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct LiveSwitch {
    /// Quotes a second, of all instruments of a connection together.
    pub per_second: u32,
    /// How many messages in a hundred are junk, beside the quotes.
    pub junk: u32,
    /// After so many quotes the connection breaks off; 0 for never.
    pub breaks: u64,
    /// After so many quotes in all there are no more, and the connections end; 0 for never.
    pub ends: u64,
}

impl Default for LiveSwitch {
    fn default() -> LiveSwitch {
        LiveSwitch { per_second: 20, junk: 0, breaks: 0, ends: 0 }
    }
}

/// The quotes of the stream, one after the other from a moment on: whoever connects later goes on where it is by then.
pub struct LiveTape {
    from: Micros,
    /// The quotes that were sent so far.
    pub sent: u64,
    next_day: i64,
    quotes: Vec<(usize, MarketQuote)>,
    /// The place of the next quote among those of its day.
    pub at: usize,
    /// The junk that was sent so far.
    junk: usize,
}

impl LiveTape {
    pub fn new(from: Micros) -> LiveTape {
        LiveTape { from, sent: 0, next_day: day_of(from), quotes: Vec::new(), at: 0, junk: 0 }
    }

    /// The number of the next piece of junk.
    pub fn next_junk(&mut self) -> usize {
        self.junk += 1;
        self.junk - 1
    }

    /// The next quote of any of the histories, with the number of its history. A weekend is passed over.
    pub fn next(&mut self, histories: &[MadeUpHistory]) -> Option<(usize, MarketQuote)> {
        for _ in 0..10 {
            if let Some(next) = self.quotes.get(self.at).copied() {
                (self.at, self.sent) = (self.at + 1, self.sent + 1);
                return Some(next);
            }
            let all = histories.iter().enumerate();
            let of_day = all.flat_map(|(i, history)| {
                history.quotes(self.next_day).into_iter().map(move |quote| (i, quote))
            });
            self.quotes = of_day.filter(|(_, quote)| quote.time > self.from).collect();
            self.quotes.sort_by_key(|(_, quote)| quote.time);
            (self.at, self.next_day) = (0, self.next_day + 1);
        }
        None
    }
}
