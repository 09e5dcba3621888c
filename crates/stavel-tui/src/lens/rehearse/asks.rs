//! What is asked of a person before something is done.

use stavel_core::model::time::wall;

use super::table::RehearseAct;
use super::{NOTHING_PLAYS, RehearseLens, journal};
use crate::effect::{Effects, ask, say, warn};

/// A question whose answer is awaited; it is kept, since an answer that comes to nothing is asked for again.
#[derive(Clone)]
pub enum RehearseQuestion {
    JumpTo,
    /// The spread of an instrument.
    Spread(String),
    Order,
    Size,
    NameBracket,
    ClosePart,
    Money,
    Bookmark,
    ToBookmark,
    AddPane,
    Note,
    TakeUp,
    Report,
    /// The file for the picture of a moment: a line of the journal.
    Moment(usize),
}

impl RehearseLens {
    /// Asks for what an act needs to know first.
    pub(super) fn ask_for(&mut self, act: RehearseAct) -> Effects {
        use RehearseAct as Do;
        match act {
            Do::Size => {
                let size = self.dealing.size.clone();
                self.ask_about(RehearseQuestion::Size, "size of deals: lots as 0.50, or a risk as 1%", &size)
            }
            Do::NameBracket => self.ask_about(
                RehearseQuestion::NameBracket,
                "name and bracket; name - takes it away",
                "tight stop 20pt target 40pt",
            ),
            Do::ClosePart => {
                self.ask_about(RehearseQuestion::ClosePart, "close so many lots, or a share", "50%")
            }
            Do::Money => {
                let now = self.rules_in_words();
                self.ask_about(
                    RehearseQuestion::Money,
                    "balance, account, call, latency, slippage, queue, depth, hedged",
                    &now,
                )
            }
            Do::Jump => {
                let now = self.play.as_ref().map_or(0, |p| p.now);
                self.ask_about(
                    RehearseQuestion::JumpTo,
                    "jump to (UTC, as 2024-03-05 13:45)",
                    &wall(now)[..16],
                )
            }
            Do::Bookmark => self.ask_about(RehearseQuestion::Bookmark, "words for this moment", ""),
            Do::AddPane => self.ask_about(
                RehearseQuestion::AddPane,
                "another pane: a frame as 1h, a series as NZDSEK@quill:ticks, or - to take this one away",
                "1h",
            ),
            Do::Note => {
                self.ask_about(RehearseQuestion::Note, "a line for the journal (#word to find it by)", "")
            }
            Do::Report if self.is_hidden => warn("a report would tell what it is: reveal it first (V)"),
            Do::Report => self.ask_about(
                RehearseQuestion::Report,
                "report to .html .pdf, a table as run.csv trades by day-first, or all into run/",
                "rehearsal.html",
            ),
            _ => Effects::new(),
        }
    }

    pub(super) fn ask_about(&mut self, question: RehearseQuestion, label: &str, proposal: &str) -> Effects {
        if self.play.is_none() {
            return say(NOTHING_PLAYS);
        }
        self.asked = Some(question);
        ask(label, proposal)
    }

    /// Asks for the file of the picture of the moment that is chosen in the journal.
    pub(super) fn ask_for_moment(&mut self) -> Effects {
        if self.is_hidden {
            return warn("a picture would tell what it is: reveal it first (V)");
        }
        let lines = self.play.as_ref().map(journal::lines).unwrap_or_default();
        let Some((line, words)) = lines.iter().rev().nth(self.journal_line) else {
            return say("the journal is empty");
        };
        let label = format!("picture of {} to (.svg)", &words[..words.len().min(19)]);
        self.ask_about(RehearseQuestion::Moment(*line), &label, &format!("moment-{}.svg", line + 1))
    }
}
