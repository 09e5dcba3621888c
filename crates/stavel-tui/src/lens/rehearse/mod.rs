//! Rehearse: histories played in time, orders on paper, the journal.

mod asks;
mod blind;
mod calendar;
mod depth;
mod drawn;
mod facts;
mod journal;
mod panes;
mod picture;
mod play;
mod resume;
mod rules;
mod table;
mod trade;
mod ways;

use std::time::Duration;

use stavel_core::Error;
use stavel_core::model::time::{self, MINUTE, SECOND, WEEK, wall};
use stavel_core::model::{Frame, Micros, SeriesName, Span};
use stavel_core::rehearse::{DeskAct, DeskRules, Direction, FillPrice, PriceFactor};
use stavel_work::{ChartStep, ComposeStep, Opened, Opening, SheetValues, Step, open_replay, spread_source};

use super::drawer::{DrawAct, Drawer};
use super::{FactLine, Lens};
use crate::act::TableRow;
use crate::canvas::Canvas;
use crate::effect::{Effect, Effects, Pointer, Tone, ask, say, start, tell_done, warn};
use crate::jobs::{Errand, Slot};
use crate::mask::Mask;
use crate::next::Task;
use crate::scene_view::price_beside;
use crate::view::View;
use asks::RehearseQuestion;
use calendar::PlayCalendar;
use drawn::columns_on;
use panes::PlayPane;
use play::{PACES, Play, USUAL_PACE};
use resume::Kept;
use table::RehearseAct;
use trade::Dealing;

/// What is said before there is a tape.
const NOTHING_PLAYS: &str = "nothing plays yet";
/// Panes beside each other, at most.
const MOST_PANES: usize = 4;

/// What stands in the lens beside the chart.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
enum Face {
    #[default]
    Chart,
    Calendar,
    Journal,
}

/// The lens.
pub struct RehearseLens {
    play: Option<Play>,
    /// What the replay was asked for; not asked again for the same.
    wanted: String,
    opening: Errand<Opened>,
    /// Where it begins once it is open.
    begin: Micros,
    /// The moment that was chosen to begin at.
    begin_at: Option<Micros>,
    /// Nothing from this moment on is played; none plays as far as there are rows.
    until: Option<Micros>,
    /// Series that are played beside the one that is chosen.
    beside: Vec<SeriesName>,
    rules: DeskRules,
    account: Option<String>,
    reading: Errand<Vec<PlayPane>>,
    /// True while panes are read: time stands until then, so that no row is missed.
    is_reading: bool,
    long_bar: Errand<Option<Micros>>,
    /// Why nothing plays.
    trouble: Option<Error>,
    /// The series on which the missing spread can be measured, looked up once a spread is missing.
    spread_source: Slot<Option<SeriesName>>,
    /// The series whose spreads are assumed, once the user took it.
    spread_of: Option<SeriesName>,
    /// A place among [`PACES`].
    pace: usize,
    /// True once a rehearsal began at the moment for which the bench was opened.
    has_begun: bool,
    asked: Option<RehearseQuestion>,
    dealing: Dealing,
    face: Face,
    calendar: PlayCalendar,
    /// The line of the journal that is chosen, counted from the newest.
    journal_line: usize,
    /// What is drawn, and the price of its cursor.
    drawer: Drawer,
    /// The bar that points are put at; the newest until it is moved.
    cursor_at: Option<Micros>,
    /// The order whose line the pointer has taken up.
    dragged: Option<u32>,
    kept: Kept,
    /// In blind practice what prices are multiplied with, and whether names and dates are hidden still.
    blind: Option<PriceFactor>,
    is_hidden: bool,
    blind_series: Option<SeriesName>,
}

impl Default for RehearseLens {
    fn default() -> Self {
        RehearseLens {
            play: None,
            wanted: String::new(),
            opening: Errand::default(),
            begin: 0,
            begin_at: None,
            until: None,
            beside: Vec::new(),
            rules: DeskRules::default(),
            account: None,
            reading: Errand::default(),
            is_reading: false,
            long_bar: Errand::default(),
            trouble: None,
            spread_source: Slot::default(),
            spread_of: None,
            pace: USUAL_PACE,
            has_begun: false,
            asked: None,
            dealing: Dealing::default(),
            face: Face::Chart,
            calendar: PlayCalendar::default(),
            journal_line: 0,
            drawer: Drawer::default(),
            cursor_at: None,
            dragged: None,
            kept: Kept::default(),
            blind: None,
            is_hidden: false,
            blind_series: None,
        }
    }
}

impl Lens for RehearseLens {
    type Act = RehearseAct;
    const WORD: &'static str = "rehearse";
    const ABOUT: &'static str = "rehearse: replay, trade on paper";
    const ROWS: &'static [TableRow<RehearseAct>] = table::ROWS;

    fn act(&mut self, act: RehearseAct, view: &View<'_>) -> Effects {
        use RehearseAct as Do;
        match act {
            Do::Bookmark if self.face == Face::Calendar => self.calendar.end_here(view),
            Do::Size
            | Do::NameBracket
            | Do::ClosePart
            | Do::Money
            | Do::Jump
            | Do::Bookmark
            | Do::AddPane
            | Do::Note
            | Do::Report => self.ask_for(act),
            Do::Faster => self.change_pace(true),
            Do::Slower => self.change_pace(false),
            Do::Run => {
                let mut effects = self.run_or_hold();
                if self.play.as_ref().is_some_and(|play| play.running) {
                    effects.push(Effect::Rehearsed(view.instrument_name().to_owned()));
                }
                effects
            }
            Do::StepQuote => self.step(Play::step_quote),
            Do::StepBar => self.step(|play| play.step_time(play.bar_length())),
            Do::StepMinute => self.step(|play| play.step_time(MINUTE)),
            Do::BackBar => {
                let to = self.play.as_ref().map(|play| play.now - play.bar_length());
                to.map_or_else(|| say(NOTHING_PLAYS), |to| self.go_to(to, view))
            }
            Do::Buy => self.deal(Direction::Buy),
            Do::Sell => self.deal(Direction::Sell),
            Do::Order => self.ask_for_order(),
            Do::Bracket => self.next_bracket(),
            Do::Flat => self.flat(),
            Do::Reverse => {
                let of = self.play.as_ref().map_or(0, Play::of);
                self.give(DeskAct::Reverse { of })
            }
            Do::ChooseOrder => self.choose_order(),
            Do::CancelOrder => self.cancel_chosen(),
            Do::NextSession => self.go_to_next_opening(view),
            Do::NextDay => self.go_to_next_day(view),
            Do::NextEvent => self.go_to_next_event(view),
            Do::NextLongBar => self.go_to_next_long_bar(view),
            Do::NextFinding => self.go_to_next_finding(view),
            Do::ToBookmark => self.ask_for_bookmark(),
            Do::NextPane => self.next_pane(),
            Do::Calendar if self.is_hidden => warn("the calendar would tell what it is: reveal it first (V)"),
            Do::Calendar => self.turn_to(Face::Calendar),
            Do::Journal => self.turn_to(Face::Journal),
            Do::TakeUp => self.ask_which_to_take_up(view),
            Do::Blind => self.blind_or_reveal(view),
            Do::SaySpread => self.ask_for_spread(view),
            Do::MeasureSpread => self.take_measured_spread(),
            Do::CursorBack if self.face == Face::Calendar => self.calendar.move_day(false, view),
            Do::CursorOn if self.face == Face::Calendar => self.calendar.move_day(true, view),
            Do::CursorBack | Do::CursorOn => {
                // The bar is on the chart.
                self.face = Face::Chart;
                self.move_cursor(matches!(act, Do::CursorOn), view);
                Effects::new()
            }
            Do::Draw(DrawAct::Place) if self.face == Face::Calendar => self.play_day(view),
            Do::Draw(DrawAct::Place) if self.face == Face::Journal => self.ask_for_moment(),
            Do::Draw(act) => self.draw_act(act, view),
        }
    }

    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        if self.face == Face::Calendar {
            return self.calendar.choose(down, view);
        }
        if self.face == Face::Journal {
            return self.choose_line(down);
        }
        if self.drawer.is_at_work() {
            return self.move_price(down, view);
        }
        if self.play.as_ref().is_some_and(|play| play.chosen.is_some()) {
            let points = self.points_a_line(view);
            return self.move_order(down, points);
        }
        if self.play.as_ref().is_some_and(|play| play.replay.desk().is_engaged()) {
            return warn(
                "something is held or waits: ] [ choose another series, and this rehearsal is kept (Q)",
            );
        }
        vec![Effect::NextSeries { back: !down }]
    }

    fn let_go(&mut self) -> bool {
        let chosen = self.play.as_mut().and_then(|play| play.chosen.take()).is_some();
        let face = std::mem::take(&mut self.face) != Face::Chart;
        self.drawer.let_go() || self.cursor_at.take().is_some() || chosen || face
    }

    fn answer(&mut self, text: &str, view: &View<'_>) -> Effects {
        if let Some(effects) = self.drawer.answer(text) {
            return effects;
        }
        let Some(asked) = self.asked.clone() else { return Effects::new() };
        match asked {
            RehearseQuestion::JumpTo => match time::parse(text) {
                Ok(to) => self.go_to(to, view),
                Err(err) => vec![Effect::Complain(err)],
            },
            RehearseQuestion::Spread(name) => {
                let set = SheetValues::one("spread", text);
                start(Step::Compose(Box::new(ComposeStep { name, set, ..Default::default() })))
            }
            RehearseQuestion::Order => self.order_by_words(text),
            RehearseQuestion::Size => self.set_size(text),
            RehearseQuestion::NameBracket => self.name_bracket(text, view),
            RehearseQuestion::ClosePart => self.close_part(text),
            RehearseQuestion::Money => self.set_rules(text),
            RehearseQuestion::Bookmark => self.bookmark(text),
            RehearseQuestion::ToBookmark => self.go_to_bookmark(text, view),
            RehearseQuestion::AddPane => self.change_panes(text, view),
            RehearseQuestion::Note => self.note(text),
            RehearseQuestion::TakeUp => self.take_up(text, view),
            RehearseQuestion::Report => self.write_report(text, view),
            RehearseQuestion::Moment(line) => self.write_moment(line, text, view),
        }
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        let (Some(info), Some(instrument)) = (view.series().cloned(), view.instrument()) else {
            return Effects::new();
        };
        if let Some((begin, pace)) = view.begin.filter(|_| !self.has_begun) {
            self.take_over(begin, *pace);
        }
        self.see_if_blind_goes_on(view);
        let others: Vec<String> = self.beside.iter().map(ToString::to_string).collect();
        let key = format!(
            "{} {:?} {:?} {} {:?} {:?}",
            info.edition.id,
            instrument.sheet.spread,
            self.spread_of,
            others.join(" "),
            self.rules,
            self.account
        );
        if self.trouble.as_ref().is_some_and(Error::is_undecided) {
            let name = info.name.clone();
            let key = format!("{name} {}", view.snapshot.version);
            self.spread_source.want(key, view.threads, move |shelf, _| spread_source(shelf, &name));
        }
        if self.wanted == key {
            return self.window_for(view).map(Effect::Window).into_iter().collect();
        }
        self.wanted = key;
        let now = self.play.as_ref().filter(|play| *play.series() == info.name).map(|play| play.now);
        (self.play, self.trouble, self.opening, self.is_reading) = (None, None, Errand::default(), false);
        if info.is_afloat() {
            let short = info.name.short();
            return warn(format!("{short} is afloat: its session days are not known; align it first (4)"));
        }
        self.begin = self.begin_at.take().or(now).unwrap_or(view.window.from.max(info.edition.first));
        let mut series = vec![info.name.clone()];
        series.extend(self.beside.iter().filter(|other| other.instrument != info.name.instrument).cloned());
        self.kept.anew(view.threads.root());
        let again = self
            .kept
            .again
            .take()
            .filter(|again| again.head.series.iter().any(|(name, _)| *name == info.name));
        let (rules, account, factor) = (self.rules.clone(), self.account.clone(), self.blind);
        let spread_of = self.spread_of.clone();
        let until = again.as_ref().map_or(self.until, |again| again.head.until);
        let begin = again.as_ref().map_or(self.begin, |again| again.head.begin);
        self.kept.marks = again.as_ref().map(|again| again.marks.clone()).unwrap_or_default();
        self.opening.send(view.threads, move |shelf, _| {
            let opening = Opening {
                series: &series,
                span: Span::new(Micros::MIN, until.unwrap_or(Micros::MAX)),
                begin: Some(begin),
                factor,
                rules: rules.clone(),
                account: account.as_deref(),
                prices_only: false,
                spread_of: spread_of.as_ref(),
            };
            let mut opened = open_replay(shelf, &opening)?;
            match &again {
                Some(again) if again.head.beside != opened.beside() => {
                    return Err(Error::input(
                        "The ask or the depth beside it is another now, so it would come out differently; it is kept as it was.",
                    ));
                }
                Some(again) => {
                    opened.replay.replay_log(again.log.clone(), Micros::MAX)?;
                    opened.replay.play_to(again.reached, u64::MAX)?;
                }
                // The first price is there from the beginning.
                None => {
                    opened.replay.play_to(opened.began, u64::MAX)?;
                }
            }
            Ok(opened)
        });
        Effects::new()
    }

    fn due(&self, view: &View<'_>) -> Option<(String, RehearseAct)> {
        if self.trouble.is_some() {
            let other = self.proposed_spread(view)?;
            let words = format!("replay with the spread of {}, as an assumption", other.short());
            return Some((words, RehearseAct::MeasureSpread));
        }
        let play = self.play.as_ref().filter(|play| !self.is_reading && !play.running)?;
        let is_next = view.next().task == Task::Rehearse && play.replay.next_time().is_some();
        is_next.then(|| ("start the replay".into(), RehearseAct::Run))
    }

    fn reads(&self, _view: &View<'_>) -> Option<String> {
        let is_opening = self.play.is_none() && self.trouble.is_none() || self.is_reading;
        (is_opening || self.spread_source.is_reading()).then(|| "opening the replay …".into())
    }

    fn collect(&mut self, view: &View<'_>) -> Effects {
        self.spread_source.collect();
        let mut effects = match self.opening.collect() {
            Some(Ok(opened)) => self.begin(opened, view),
            Some(Err(err)) => {
                self.trouble = Some(err);
                Effects::new()
            }
            None => Effects::new(),
        };
        match self.reading.collect() {
            Some(Ok(panes)) => {
                self.is_reading = false;
                if let Some(play) = &mut self.play {
                    play.panes = panes;
                    play.focus = play.focus.min(play.panes.len().saturating_sub(1));
                }
            }
            Some(Err(err)) => {
                self.is_reading = false;
                effects.push(Effect::Complain(err));
            }
            None => {}
        }
        match self.long_bar.collect() {
            Some(Ok(Some(at))) => effects.extend(self.go_to(at, view)),
            Some(Ok(None)) => effects.extend(say("no bar ahead is longer than usual")),
            Some(Err(err)) => effects.push(Effect::Complain(err)),
            None => {}
        }
        effects
    }

    fn pass(&mut self, passed: Duration) -> bool {
        if self.is_reading {
            return false;
        }
        let pace = self.pace;
        let moved = self.play.as_mut().is_some_and(|play| play.pass(passed, pace));
        if moved && self.kept.is_due(passed) {
            self.save();
        }
        moved
    }

    fn pointed(&mut self, pointer: Pointer, size: (u16, u16), view: &View<'_>) -> Option<Effects> {
        self.point(pointer, size, view)
    }

    fn slid(&mut self, to: Micros, is_let_go: bool, view: &View<'_>) -> Option<Effects> {
        self.slide_to(to, is_let_go, view)
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        self.picture_step(view)
    }

    fn draw(&self, view: &View<'_>, canvas: Canvas<'_>) {
        self.draw_all(view, canvas);
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        self.all_facts(view)
    }

    fn cursor(&self) -> Option<Micros> {
        self.play.as_ref().map(|play| play.now)
    }

    fn hides(&self) -> Option<Mask> {
        self.mask()
    }
}

impl RehearseLens {
    /// Takes over what the bench was opened with.
    fn take_over(&mut self, begin: &stavel_work::RehearseStep, pace: Option<stavel_work::PlayPace>) {
        self.has_begun = true;
        let moment = |text: &Option<String>| text.as_deref().and_then(|text| time::parse(text).ok());
        (self.begin_at, self.until) = (moment(&begin.from), moment(&begin.to));
        self.pace = pace.map_or(self.pace, play::pace_near);
        self.beside = begin.series.iter().skip(1).cloned().collect();
        self.account.clone_from(&begin.account);
        match begin.rules() {
            Ok(rules) => self.rules = rules,
            Err(err) => self.trouble = Some(err),
        }
    }

    fn turn_to(&mut self, face: Face) -> Effects {
        if let Some(play) = &self.play {
            self.calendar.begin_at(time::day_of(play.now));
        }
        self.face = if self.face == face { Face::Chart } else { face };
        Effects::new()
    }

    fn change_pace(&mut self, faster: bool) -> Effects {
        self.pace = if faster { (self.pace + 1).min(PACES.len() - 1) } else { self.pace.saturating_sub(1) };
        Effects::new()
    }

    fn run_or_hold(&mut self) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        let can_run = play.replay.next_time().is_some();
        play.running = !play.running && can_run;
        match (play.running, can_run, play.why_still()) {
            (true, ..) => say("running"),
            (false, false, Some(why)) => warn(why),
            _ => say("held"),
        }
    }

    fn step(&mut self, step: impl FnOnce(&mut Play) -> stavel_core::Result<()>) -> Effects {
        let is_reading = self.is_reading;
        let Some(play) = self.play.as_mut().filter(|_| !is_reading) else { return say(NOTHING_PLAYS) };
        play.running = false;
        if let Err(err) = step(play) {
            return vec![Effect::Complain(err)];
        }
        play.replay.next_time().is_none().then(|| play.why_still()).flatten().map_or_else(Effects::new, warn)
    }

    fn next_bracket(&mut self) -> Effects {
        if self.dealing.brackets.is_empty() {
            return self.ask_about(
                RehearseQuestion::NameBracket,
                "name and bracket; name - takes it away",
                "tight stop 20pt target 40pt",
            );
        }
        self.dealing.next_bracket();
        say(self.dealing.in_words())
    }

    fn set_size(&mut self, text: &str) -> Effects {
        let text = text.trim();
        match stavel_core::rehearse::order_in_line(&format!("buy {text}"), "") {
            Ok(_) if !text.is_empty() => {
                self.dealing.size = text.to_owned();
                say(self.dealing.in_words())
            }
            Ok(_) => warn("a size must be above zero"),
            Err(why) => warn(why),
        }
    }

    /// The window that shows what is played, where the present one does not: a week about it.
    fn window_for(&self, view: &View<'_>) -> Option<Span> {
        let play = self.play.as_ref().filter(|play| !view.window.holds(play.now))?;
        let half = view.window.length().min(WEEK) / 2;
        Some(Span::new(play.now - half, play.now + half))
    }

    /// Begins to play what was opened.
    fn begin(&mut self, opened: Opened, view: &View<'_>) -> Effects {
        let began = opened.began;
        let mut play = Play::new(opened, view.settings.money_decimals());
        play.bookmarks = std::mem::take(&mut self.kept.marks);
        play.factor = self.blind;
        let bar = play.tape().bar();
        let frame = if play.series().frame.is_ticks() { Frame::M1 } else { play.series().frame };
        let frames = play.played.iter().take(MOST_PANES).map(|one| panes::nearest_frame(&one.info, frame));
        let layout: Vec<(usize, Frame)> = frames.enumerate().collect();
        self.play = Some(play);
        self.read_panes(&layout, view);
        let mut effects = match self.kept.told.take() {
            Some(told) => tell_done(told),
            None => vec![landing_in_words(FillPrice::At(began), self.begin, bar)],
        };
        effects.extend(self.read_brackets(view));
        effects
    }

    /// Has panes read as of now; until they are there, time stands.
    fn read_panes(&mut self, layout: &[(usize, Frame)], view: &View<'_>) {
        let Some(play) = &mut self.play else { return };
        let reads = play.reads(layout);
        play.layout = layout.to_vec();
        play.panes.clear();
        self.is_reading = true;
        self.reading
            .send(view.threads, move |shelf, job| reads.iter().map(|read| read.read(shelf, job)).collect());
    }

    /// Asks for the spread of rows that say none, in points; it is kept on the spec sheet.
    fn ask_for_spread(&mut self, view: &View<'_>) -> Effects {
        let name = view.instrument_name().to_owned();
        let now = view.instrument().and_then(|i| i.sheet.spread);
        let label = format!("spread of {name} in points, where rows say none");
        self.asked = Some(RehearseQuestion::Spread(name));
        ask(label, now.map(|points| points.to_string()).unwrap_or_default())
    }

    /// The series on which the missing spread can be measured.
    fn proposed_spread(&self, view: &View<'_>) -> Option<SeriesName> {
        let is_question = self.trouble.as_ref().is_some_and(Error::is_undecided);
        let found = self.spread_source.get().filter(|_| is_question)?.as_ref().clone()?;
        (found.instrument == view.instrument_name()).then_some(found)
    }

    /// Replays with the spreads of another series of the instrument, marked as assumed.
    fn take_measured_spread(&mut self) -> Effects {
        match self.spread_source.get().and_then(|found| found.as_ref().clone()) {
            Some(other) => {
                self.spread_of = Some(other);
                Effects::new()
            }
            None => say("no other series of this instrument has spreads; p sets one in points"),
        }
    }

    fn note(&mut self, text: &str) -> Effects {
        let words: Vec<&str> = text.split_whitespace().collect();
        let (tags, rest): (Vec<&str>, Vec<&str>) = words.into_iter().partition(|word| word.starts_with('#'));
        let tag = tags.first().map_or(String::new(), |tag| tag[1..].to_owned());
        self.give(DeskAct::Note { text: rest.join(" "), tag })
    }

    fn move_price(&mut self, down: bool, view: &View<'_>) -> Effects {
        if let Some(play) = &self.play {
            let bars = picture::bars_of(play, columns_on(view));
            if let Some(at) = self.drawn_point(play, &bars) {
                let clock = &play.instrument().sheet.session.clock;
                let made = picture::scene_with_orders(play, play.of(), &bars, clock);
                let height = picture::chart_room(view.size.1, play.panes.len()).1;
                self.drawer.put_price(price_beside(&made, at.price, down, height));
            }
        }
        Effects::new()
    }

    /// Has the series that is chosen played from a moment on, with nothing done yet.
    fn begin_anew(&mut self, begin: Micros) {
        self.play = None;
        self.wanted.clear();
        self.begin_at = Some(begin);
    }
}

/// Where a jump ended; what is not there is named with the nearest time that is. A quote within a minute, or a bar, of the moment
/// that was asked for is that moment's.
fn landing_in_words(landing: FillPrice, asked: Micros, bar: Micros) -> Effect {
    match landing {
        FillPrice::At(t) if t - asked < MINUTE.max(bar) => {
            Effect::Say(format!("at {}", wall(t / SECOND * SECOND)), Tone::Plain)
        }
        FillPrice::At(t) => {
            let text = format!("nothing to play at {}; at {}, when data begin again", wall(asked), wall(t));
            Effect::Say(text, Tone::Plain)
        }
        FillPrice::Nothing { nearest } => {
            let text = format!(
                "nothing to play at {}; the nearest data are at {} (j jumps there)",
                wall(asked),
                wall(nearest)
            );
            Effect::Say(text, Tone::Wrong)
        }
    }
}
