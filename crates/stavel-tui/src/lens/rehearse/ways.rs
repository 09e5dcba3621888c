//! Ways through time: jumps, marked moments, and the panes that are read anew after them.

use stavel_core::model::time::{day_of, wall};
use stavel_core::model::{Frame, Micros, SeriesName};
use stavel_core::rehearse::{Entry, FillPrice, Tape};
use stavel_work::KeptMark;

use super::{
    MOST_PANES, NOTHING_PLAYS, RehearseLens, RehearseQuestion, calendar, facts, landing_in_words, panes,
};
use crate::effect::{Effect, Effects, say, tell_done, warn};
use crate::lens::drawer::Drawer;
use crate::view::View;

/// What the journal got on the way to another moment.
fn on_the_way(entries: &[Entry]) -> Option<String> {
    let count = |is_one: fn(&&Entry) -> bool| entries.iter().filter(is_one).count();
    let deals = count(|entry| matches!(entry, Entry::Deal(_)));
    let calls = count(|entry| matches!(entry, Entry::MarginCall { .. }));
    Some(match (calls, deals, entries.len()) {
        (_, _, 0) => return None,
        (0, 0, _) => "no order was filled, but the journal has new lines".to_owned(),
        (0, 1, _) => "there was one fill".to_owned(),
        (0, deals, _) => format!("there were {deals} fills"),
        (_, deals, _) => format!("there was a margin call; fills: {deals}"),
    })
}

impl RehearseLens {
    /// Goes to a moment, where there is something to play.
    pub(super) fn go_to(&mut self, to: Micros, view: &View<'_>) -> Effects {
        self.go_to_before(to, usize::MAX, view)
    }

    /// The same; of what was done at that very moment only so much stays.
    fn go_to_before(&mut self, to: Micros, done: usize, view: &View<'_>) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        let told = play.replay.desk().journal().len();
        let is_back = to < play.now || done < play.replay.log().len();
        let landing = match is_back {
            true if to < play.began => {
                let began = wall(play.began);
                return warn(format!(
                    "this rehearsal began at {began}; C chooses an earlier day to begin with"
                ));
            }
            true => Ok(FillPrice::At(to)),
            false => play.look(to),
        };
        let gone = landing.and_then(|landing| {
            if matches!(landing, FillPrice::At(_)) {
                play.go_to(to, done)?;
            }
            Ok(landing)
        });
        match gone {
            Ok(FillPrice::At(_)) => {
                // A point that was placed may lie ahead now.
                (self.drawer, self.cursor_at) = (Drawer::default(), None);
                let (layout, now) = (play.layout.clone(), play.now);
                let near = play.tape().bar();
                let happened = play.replay.desk().journal().get(told..).and_then(on_the_way);
                self.read_panes(&layout, view);
                self.save();
                if is_back {
                    return say(format!("back at {}: account and orders are as they were then", wall(now)));
                }
                let mut landing = landing_in_words(FillPrice::At(now), to, near);
                if let (Effect::Say(text, _), Some(happened)) = (&mut landing, happened) {
                    text.push_str(&format!("; on the way {happened}"));
                }
                vec![landing]
            }
            Ok(nothing) => {
                let mut effect = landing_in_words(nothing, to, 0);
                let other = calendar::plays_on(view, play.series(), day_of(to));
                if let (Effect::Say(text, _), Some(other)) = (&mut effect, other) {
                    text.push_str(&format!("; {other} has rows on that day (C)"));
                }
                vec![effect]
            }
            Err(err) => vec![Effect::Complain(err)],
        }
    }

    /// The spine as a slider: while it is held the moment is told, where it is let go time goes to.
    pub(super) fn slide_to(&mut self, to: Micros, is_let_go: bool, view: &View<'_>) -> Option<Effects> {
        let play = self.play.as_ref().filter(|_| !self.is_hidden)?;
        if !is_let_go {
            let way = if to < play.now { "back to" } else { "on to" };
            return Some(say(format!("{way} {}", &wall(to)[..16])));
        }
        // What lies before the beginning begins another rehearsal, which the calendar does.
        Some(self.go_to(to, view))
    }

    pub(super) fn go_to_next_opening(&mut self, view: &View<'_>) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        match Tape::next_opening(&play.instrument().sheet.session, play.now) {
            Some(opening) => self.go_to(opening, view),
            None => warn("the session week has no opening in the next two weeks"),
        }
    }

    pub(super) fn go_to_next_day(&mut self, view: &View<'_>) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        let session = &play.instrument().sheet.session;
        let tomorrow = session.day_span(session.clock.day_of(play.now)).to;
        match play.look(tomorrow) {
            Ok(FillPrice::At(first)) => self.go_to(first, view),
            // However far it is: the day that has data next.
            Ok(FillPrice::Nothing { nearest }) if nearest > play.now => self.go_to(nearest, view),
            Ok(FillPrice::Nothing { .. }) => warn("no later day has data; C shows what can be played"),
            Err(err) => vec![Effect::Complain(err)],
        }
    }

    pub(super) fn go_to_next_event(&mut self, view: &View<'_>) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        match facts::next_event(play, view) {
            Some(at) => self.go_to(at, view),
            None => warn("no event with a time of its own lies ahead"),
        }
    }

    pub(super) fn go_to_next_finding(&mut self, view: &View<'_>) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        let found = view.found.filter(|found| found.edition == play.info().edition.id);
        let Some(found) = found else { return warn("nothing was checked yet: 3 checks the series") };
        let ahead = found.report.findings.iter().map(|f| f.span.from).filter(|from| *from > play.now).min();
        ahead.map_or_else(|| say("no finding lies ahead"), |at| self.go_to(at, view))
    }

    /// Has the next bar looked for that is longer than nineteen of twenty before it; only where it begins is told.
    pub(super) fn go_to_next_long_bar(&mut self, view: &View<'_>) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        let Some(pane) = play.panes.get(play.focus) else { return Effects::new() };
        let seen = pane.bars(400, play.tape());
        let (info, frame, now) = (play.info().clone(), pane.frame, play.now);
        self.long_bar
            .send(view.threads, move |shelf, job| panes::next_long_bar(shelf, &info, frame, now, &seen, job));
        say("looking for the next long bar …")
    }

    pub(super) fn bookmark(&mut self, text: &str) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        let (at, done) = (play.now, play.replay.log().len());
        play.bookmarks.push(KeptMark { at, done, words: text.trim().to_owned() });
        let count = play.bookmarks.len();
        self.save();
        tell_done(format!("marked as {count}: G goes back to it"))
    }

    pub(super) fn ask_for_bookmark(&mut self) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        if play.bookmarks.is_empty() {
            return warn("nothing is marked yet: B marks this moment");
        }
        let last = play.bookmarks.len().to_string();
        self.ask_about(RehearseQuestion::ToBookmark, "go back to the mark with number", &last)
    }

    pub(super) fn go_to_bookmark(&mut self, text: &str, view: &View<'_>) -> Effects {
        let at = text.trim().parse::<usize>().ok().and_then(|n| n.checked_sub(1));
        let at = at.and_then(|at| self.play.as_ref()?.bookmarks.get(at).map(|mark| (mark.at, mark.done)));
        match at {
            Some((at, done)) => self.go_to_before(at, done, view),
            None => warn(format!("there is no mark '{}'", text.trim())),
        }
    }

    pub(super) fn next_pane(&mut self) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        play.focus = (play.focus + 1) % play.layout.len().max(1);
        play.chosen = None;
        let Some((of, frame)) = play.layout.get(play.focus) else { return Effects::new() };
        say(format!("{} in {frame}", play.called(*of)))
    }

    /// Adds a pane of a frame or of another series, or takes the one away that is worked in.
    pub(super) fn change_panes(&mut self, text: &str, view: &View<'_>) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        let mut layout = play.layout.clone();
        let text = text.trim();
        if text == "-" {
            if layout.len() < 2 {
                return warn("one pane has to stay");
            }
            layout.remove(play.focus.min(layout.len() - 1));
            play.focus = play.focus.min(layout.len() - 1);
        } else if layout.len() == MOST_PANES {
            return warn("there is room for four panes; - takes one away");
        } else if let Ok(frame) = text.parse::<Frame>() {
            let of = play.of();
            let rows = play.played[of].info.name.frame;
            if frame.is_counted()
                || frame.is_ticks()
                || !stavel_core::bars::can_build(rows, frame) && frame != rows
            {
                return warn(format!("bars of {frame} cannot grow out of {rows}"));
            }
            layout.push((of, frame));
        } else {
            return self.add_series(text, view);
        }
        self.read_panes(&layout, view);
        Effects::new()
    }

    /// Plays another instrument beside: the replay begins anew with it, so no deal may have been made.
    pub(super) fn add_series(&mut self, text: &str, view: &View<'_>) -> Effects {
        let name = match text.parse::<SeriesName>() {
            Ok(name) => name,
            Err(err) => return vec![Effect::Complain(err)],
        };
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        if let Some(of) = play.played.iter().position(|one| one.info.name == name) {
            let frame = play.panes.get(play.focus).map_or(Frame::M1, |pane| pane.frame);
            let mut layout = play.layout.clone();
            layout.push((of, panes::nearest_frame(&play.played[of].info, frame)));
            self.read_panes(&layout, view);
            return Effects::new();
        }
        if view.snapshot.find(&name).is_none() {
            return warn(format!("{name} is not on the shelf; C shows what can be played"));
        }
        if !play.replay.desk().journal().is_empty() {
            return warn("another instrument comes in before the first order; h or j goes back to before it");
        }
        if play.played.iter().any(|one| one.info.name.instrument == name.instrument) {
            return warn(format!(
                "{} plays already; another of its series is chosen with ]",
                name.instrument
            ));
        }
        self.beside.push(name);
        Effects::new()
    }
}
