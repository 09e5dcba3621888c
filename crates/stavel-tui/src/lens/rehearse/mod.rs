//! Rehearse: the chart growing in time, the quote, the position, the journal.

mod drawn;

use std::time::Duration;

use stavel_core::Error;
use stavel_core::bars::Builder;
use stavel_core::model::price::{as_float, scaled};
use stavel_core::model::time::{self, DAY, HOUR, MINUTE, SECOND, WEEK, wall};
use stavel_core::model::{Columns, Frame, Instrument, Micros, SeriesName, Shape, Side, Span};
use stavel_core::rehearse::{Account, Direction, FillPrice, SpreadRule, Tape, money_sheet, money_to};
use stavel_core::store::{FactFilter, InstrumentFact, fact_kind};
use stavel_draw::{SceneRequest, scene};
use stavel_work::{ChartStep, ComposeStep, SheetValues, Step, journal_lines, spread_rule_in_words};

use super::drawer::{DrawAct, Drawer};
use super::{FactLine, Lens, rests_on};
use crate::act::TableRow;
use crate::canvas::Canvas;
use crate::dates;
use crate::effect::{Effect, Effects, Tone, ask, say, start, tell_done, warn};
use crate::jobs::Errand;
use crate::scene_view::{LABELS, PriceLevel, PricePoint, SceneMarks, draw_scene, price_beside};
use crate::theme;
use crate::view::View;
use drawn::{columns_on, drawn_so_far};

/// Paces, as multiples of real time; 0 is as fast as it goes.
const PACES: [u32; 8] = [1, 5, 20, 60, 200, 500, 1000, 0];
/// Time played in a moment at the fastest pace.
const FASTEST: Micros = 2 * HOUR;
/// Most rows a tape is loaded with.
const MOST_ROWS: u64 = 4_000_000;

/// What is said before there is a tape.
const NOTHING_PLAYS: &str = "nothing plays yet";

/// One lot in hundredths: what a key buys or sells.
const LOT: i64 = 100;

/// A rehearsal that is on.
struct Play {
    series: SeriesName,
    instrument: Instrument,
    /// True where nobody has said what a step of the price is worth: profit is in points then.
    in_points: bool,
    tape: Tape,
    account: Account,
    /// The moment reached; the last quote may be a little older.
    now: Micros,
    running: bool,
    /// Decimals of money on the screen.
    money_decimals: u32,
}

/// What can be done in a rehearsal.
#[derive(Debug, Clone, Copy)]
pub enum RehearseAct {
    Run,
    Slower,
    Faster,
    Buy,
    Sell,
    Flat,
    Jump,
    NextSession,
    NextDay,
    SaySpread,
    CursorBack,
    CursorOn,
    Draw(DrawAct),
}

/// The lens.
pub struct RehearseLens {
    play: Option<Play>,
    /// What the tape was asked for; not asked again for the same.
    wanted: String,
    loading: Errand<Tape>,
    /// The series and its instrument that a tape is loaded of, and where the window began then.
    loaded: Option<(SeriesName, Instrument, Micros)>,
    /// Why nothing plays.
    trouble: Option<Error>,
    /// A place among [`PACES`].
    pace: usize,
    /// True once a rehearsal began at the moment for which the bench was opened.
    has_begun: bool,
    asked: Option<RehearseQuestion>,
    /// What is drawn, and the price of its cursor.
    drawer: Drawer,
    /// The bar that points are put at; the newest until it is moved.
    cursor_at: Option<Micros>,
}

/// A question whose answer is awaited; it is kept, since an answer that comes to nothing is asked for again.
#[derive(Clone)]
enum RehearseQuestion {
    JumpTo,
    /// The spread of an instrument.
    Spread(String),
}

impl Default for RehearseLens {
    fn default() -> Self {
        RehearseLens {
            play: None,
            wanted: String::new(),
            loading: Errand::default(),
            loaded: None,
            trouble: None,
            pace: 3,
            has_begun: false,
            asked: None,
            drawer: Drawer::default(),
            cursor_at: None,
        }
    }
}

impl Lens for RehearseLens {
    type Act = RehearseAct;
    const WORD: &'static str = "rehearse";
    const ABOUT: &'static str = "rehearse: replay, trade on paper";
    const ROWS: &'static [TableRow<RehearseAct>] = &[
        TableRow::new(RehearseAct::Run, "Space", "run/hold", "let time run, or hold it")
            .command("stavel rehearse SERIES"),
        TableRow::new(RehearseAct::Slower, "<", "", "a slower pace"),
        TableRow::new(RehearseAct::Faster, ">", "pace", "a faster pace, up to as fast as it goes"),
        TableRow::new(RehearseAct::Buy, "b", "buy", "buy one lot at the ask"),
        TableRow::new(RehearseAct::Sell, "s", "sell", "sell one lot at the bid"),
        TableRow::new(RehearseAct::Flat, "x", "flat", "close the position"),
        TableRow::new(RehearseAct::Jump, "j", "jump", "jump to a time"),
        TableRow::new(RehearseAct::NextSession, "n", "session", "jump to the next opening"),
        TableRow::new(RehearseAct::NextDay, "d", "day", "jump to the next session day that has data"),
        TableRow::new(RehearseAct::SaySpread, "p", "spread", "say the spread of rows that say none"),
        TableRow::new(RehearseAct::CursorBack, ",", "", "move the cursor of what is drawn a bar back").rare(),
        TableRow::new(RehearseAct::CursorOn, ".", "", "move the cursor of what is drawn a bar on").rare(),
        TableRow::new(
            RehearseAct::Draw(DrawAct::Kind),
            "w",
            "draw",
            "draw: a level, line, ray, box, measured range, text",
        ),
        TableRow::new(
            RehearseAct::Draw(DrawAct::Place),
            "Enter",
            "",
            "put a point of what is drawn at the cursor",
        )
        .rare(),
        TableRow::new(RehearseAct::Draw(DrawAct::Choose), "v", "", "choose the next of what is drawn").rare(),
        TableRow::new(
            RehearseAct::Draw(DrawAct::Move),
            "a",
            "",
            "move a point of the drawing that is chosen, or its next",
        )
        .rare(),
        TableRow::new(
            RehearseAct::Draw(DrawAct::Colour),
            "c",
            "",
            "another colour for the drawing that is chosen",
        )
        .rare(),
        TableRow::new(RehearseAct::Draw(DrawAct::Words), "e", "", "words beside the drawing that is chosen")
            .rare(),
        TableRow::new(RehearseAct::Draw(DrawAct::Remove), "r", "", "take the drawing that is chosen away")
            .rare(),
    ];

    fn act(&mut self, act: RehearseAct, view: &View<'_>) -> Effects {
        match act {
            RehearseAct::Faster => self.pace = (self.pace + 1).min(PACES.len() - 1),
            RehearseAct::Slower => self.pace = self.pace.saturating_sub(1),
            RehearseAct::Run => {
                let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
                play.running = !play.running && play.tape.next_time().is_some();
                return say(if play.running { "running" } else { "held" });
            }
            RehearseAct::Buy => return self.deal(Some(Direction::Buy)),
            RehearseAct::Sell => return self.deal(Some(Direction::Sell)),
            RehearseAct::Flat => return self.deal(None),
            RehearseAct::Jump => {
                let now = self.play.as_ref().map_or(0, |p| p.now);
                self.asked = Some(RehearseQuestion::JumpTo);
                return ask("jump to (UTC, as 2024-03-05 13:45)", &wall(now)[..16]);
            }
            RehearseAct::SaySpread => return self.ask_for_spread(view),
            RehearseAct::CursorBack => self.move_cursor(false, view),
            RehearseAct::CursorOn => self.move_cursor(true, view),
            RehearseAct::Draw(act) => return self.draw_act(act, view),
            RehearseAct::NextSession => {
                return self.jump(|p| (p.tape.next_session(&p.instrument.sheet.session), p.now));
            }
            RehearseAct::NextDay => {
                return self.jump(|p| (p.tape.next_day(&p.instrument.sheet.session), p.now));
            }
        }
        Effects::new()
    }

    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        if !self.drawer.is_at_work() {
            return vec![Effect::NextSeries { back: !down }];
        }
        let (_, height) = chart_room(view.size.1);
        if let Some(play) = &self.play {
            let bars = bars_so_far(play, columns_on(view));
            if let Some(at) = self.drawn_point(play, &bars) {
                let clock = &play.instrument.sheet.session.clock;
                let made = scene(&SceneRequest::of(&bars, clock));
                self.drawer.put_price(price_beside(&made, at.price, down, height));
            }
        }
        Effects::new()
    }

    fn let_go(&mut self) -> bool {
        self.drawer.let_go() || self.cursor_at.take().is_some()
    }

    fn answer(&mut self, text: &str, _view: &View<'_>) -> Effects {
        if let Some(effects) = self.drawer.answer(text) {
            return effects;
        }
        match self.asked.clone() {
            Some(RehearseQuestion::JumpTo) => match time::parse(text) {
                Ok(to) => self.jump_to(to),
                Err(err) => vec![Effect::Complain(err)],
            },
            Some(RehearseQuestion::Spread(name)) => {
                let set = SheetValues::one("spread", text);
                start(Step::Compose(Box::new(ComposeStep { name, set, ..Default::default() })))
            }
            None => Effects::new(),
        }
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        let (Some(info), Some(instrument)) = (view.series().cloned(), view.instrument()) else {
            return Effects::new();
        };
        let key = format!("{} {:?}", info.edition.id, instrument.sheet.spread);
        if self.wanted == key {
            return self.window_for(view).map(Effect::Window).into_iter().collect();
        }
        self.wanted = key;
        (self.play, self.trouble, self.loading) = (None, None, Errand::default());
        if info.is_afloat() {
            let short = info.name.short();
            return warn(format!("{short} is afloat: its session days are not known; align it first (4)"));
        }
        // What does not fit is played from where the window begins.
        let span = if info.edition.rows > MOST_ROWS { view.window } else { Span::ALL };
        self.loaded = Some((info.name.clone(), instrument.clone(), view.window.from));
        let sheet = instrument.sheet.clone();
        self.loading.send(view.threads, move |shelf, _| {
            let spreads = SpreadRule::of(shelf, &info, &sheet)?;
            Tape::new(shelf.read(&info.edition, span)?, info.name.frame, spreads)
        });
        Effects::new()
    }

    fn collect(&mut self, view: &View<'_>) -> Effects {
        match self.loading.collect() {
            Some(Ok(tape)) => self.begin(tape, view),
            Some(Err(err)) => {
                self.trouble = Some(err);
                Effects::new()
            }
            None => Effects::new(),
        }
    }

    fn pass(&mut self, passed: Duration) -> bool {
        let pace = PACES[self.pace];
        let Some(play) = self.play.as_mut().filter(|p| p.running) else { return false };
        let Some(next) = play.tape.next_time() else {
            play.running = false;
            return true;
        };
        let step = if pace == 0 { FASTEST } else { passed.as_micros() as Micros * pace as Micros };
        // Nobody wants to watch a closed market.
        if next - play.now > HOUR {
            play.now = next - SECOND;
        }
        play.now += step;
        let account = &mut play.account;
        play.tape.play_to(play.now, |quote| account.pass(quote.time));
        true
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        let play = self.play.as_ref()?;
        let bars = bars_so_far(play, columns_on(view));
        if bars.len() < 2 {
            return None;
        }
        let step = ChartStep::of(play.series.clone(), Default::default());
        // What lies ahead is not in the file either.
        Some(ChartStep { from: bars.time.first().map(|t| wall(*t)), to: Some(wall(play.now)), ..step })
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        let Some(play) = &self.play else {
            if let Some(trouble) = &self.trouble {
                let width = canvas.width().saturating_sub(4);
                let mut words = canvas.part(2, 1, width, 3);
                words.paragraph(0, &trouble.to_string(), theme::words().fg(theme::WRONG));
                let hint = match trouble.is_undecided() {
                    true => "p says the spread; ] [ choose another series",
                    false => "] [ choose another series",
                };
                canvas.put(2, 5, hint, theme::words());
                return;
            }
            let text = if view.series().is_some_and(stavel_core::store::SeriesInfo::is_afloat) {
                "This series is afloat: align it first (4), or choose another (])."
            } else {
                "reading …"
            };
            canvas.put(2, 1, text, theme::faint());
            return;
        };
        let pace = match PACES[self.pace] {
            0 => "max".to_owned(),
            n => format!("{n}x"),
        };
        let clock = &play.instrument.sheet.session.clock;
        let (mark, colour) =
            if play.running { ("▶ runs", theme::GOOD) } else { ("‖ held", theme::RISING) };
        let x = canvas.put(1, 0, mark, theme::words().fg(colour));
        let words = format!(
            "  pace {pace:<5} {}  UTC {}   wall {}",
            play.series,
            wall(play.now / SECOND * SECOND),
            wall(clock.to_wall(play.now) / SECOND * SECOND)
        );
        canvas.put(x, 0, &words, theme::words());
        let (journal, height) = chart_room(canvas.height());
        let bars = bars_so_far(play, columns_of(canvas.width()));
        let request = SceneRequest::of(&bars, clock);
        let width = canvas.width();
        if bars.is_empty() {
            canvas.put(
                1,
                3,
                "no bar is over yet: Space lets time run, < and > change its pace",
                theme::faint(),
            );
        } else {
            let made = scene(&request);
            let mut marks = marks_of(play, &bars);
            self.add_drawings(play, &bars, &made, view, &mut marks);
            draw_scene(&made, &marks, canvas.part(0, 2, width, height));
        }
        quote_line(play, &mut canvas);
        let y = height + 2;
        canvas.rule(y, theme::rule());
        let lines = journal_lines(&play.account, play.money_decimals);
        if lines.is_empty() {
            canvas.put(
                1,
                y + 1,
                "the journal is empty: b buys one lot at the ask, s sells one at the bid",
                theme::faint(),
            );
        }
        for (i, line) in lines.iter().rev().take(journal as usize).enumerate() {
            canvas.put(1, y + 1 + i as u16, line, if i == 0 { theme::words() } else { theme::faint() });
        }
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let Some(play) = &self.play else { return Vec::new() };
        let mut out = facts_of(play);
        out.extend(dates_so_far(play, view));
        let bars = bars_so_far(play, columns_on(view));
        if let Some(at) = self.drawn_point(play, &bars) {
            out.extend(self.drawer.facts(&drawn_so_far(play, view), at, bars.scale.price.into()));
        }
        out
    }
}

impl RehearseLens {
    /// The window that shows what is played, where the present one does not: a week about it.
    fn window_for(&self, view: &View<'_>) -> Option<Span> {
        let play = self.play.as_ref().filter(|play| !view.window.holds(play.now))?;
        let half = view.window.length().min(WEEK) / 2;
        Some(Span::new(play.now - half, play.now + half))
    }

    /// Begins to play a tape.
    fn begin(&mut self, mut tape: Tape, view: &View<'_>) -> Effects {
        let Some((series, instrument, window_from)) = self.loaded.take() else { return Effects::new() };
        let asked = view.begin_at.filter(|_| !std::mem::replace(&mut self.has_begun, true));
        let from = asked.unwrap_or(window_from.max(tape.span().from));
        let landing = tape.jump(from);
        let decimals = tape.rows().scale.price;
        let (sheet, in_points) = money_sheet(&instrument, decimals);
        let account = Account::new(sheet, decimals);
        let now = tape.now().map_or(tape.span().from, |q| q.time);
        self.play = Some(Play {
            series,
            instrument,
            in_points,
            tape,
            account,
            now,
            running: false,
            money_decimals: view.settings.money_decimals(),
        });
        vec![landing_in_words(landing, from)]
    }

    /// Asks for the spread of rows that say none, in points; it is kept on the spec sheet.
    fn ask_for_spread(&mut self, view: &View<'_>) -> Effects {
        let name = view.instrument_name().to_owned();
        let now = view.instrument().and_then(|i| i.sheet.spread);
        let label = format!("spread of {name} in points, where rows say none");
        self.asked = Some(RehearseQuestion::Spread(name));
        ask(label, now.map(|points| points.to_string()).unwrap_or_default())
    }

    /// Jumps where `to` says. With a position only forwards: the nights in between are settled, but no deal was ever
    /// made after what is then to come.
    fn jump_to(&mut self, to: Micros) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        if play.account.position() != 0 && to < play.now {
            return warn("with a position there is no way back in time: x closes it first");
        }
        self.jump(|play| (play.tape.jump(to), to))
    }

    fn jump(&mut self, go: impl FnOnce(&mut Play) -> (FillPrice, Micros)) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        // A point that was placed may lie ahead now.
        (self.drawer, self.cursor_at) = (Drawer::default(), None);
        let before = play.now;
        let costs = play.account.costs();
        let (landing, asked) = go(play);
        if let Some(quote) = play.tape.now().filter(|_| matches!(landing, FillPrice::At(_))) {
            play.now = quote.time;
            // Without a position time may go back; the nights of a position are settled.
            play.account.pass(quote.time);
        }
        let swap = play.account.costs() - costs;
        let asked = match landing {
            FillPrice::At(t) if asked == before => t,
            _ => asked,
        };
        if !swap.is_zero()
            && let Some(line) = journal_lines(&play.account, play.money_decimals).pop()
        {
            return say(line);
        }
        vec![landing_in_words(landing, asked)]
    }

    /// Deals one lot, or closes the position where no direction is given.
    fn deal(&mut self, direction: Option<Direction>) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        let Some(quote) = play.tape.now() else { return say(NOTHING_PLAYS) };
        let position = play.account.position();
        let (direction, lots) = match direction {
            Some(direction) => (direction, LOT),
            None if position > 0 => (Direction::Sell, position),
            None if position < 0 => (Direction::Buy, -position),
            None => return say("there is no position to close"),
        };
        play.account.deal(direction, lots, &quote);
        journal_lines(&play.account, play.money_decimals).pop().map_or_else(Effects::new, tell_done)
    }
}

/// Where a jump ended; what is not there is named with the nearest time that is.
fn landing_in_words(landing: FillPrice, asked: Micros) -> Effect {
    match landing {
        FillPrice::At(t) if t - asked < MINUTE => Effect::Say(format!("at {}", wall(t)), Tone::Plain),
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

/// The bars played so far that fit, newest last; the bar that is still open is built from its quotes.
fn bars_so_far(play: &Play, columns: usize) -> Columns {
    let rows = play.tape.rows();
    let end = play.tape.played();
    if !play.series.frame.is_ticks() {
        return rows.rows(end.saturating_sub(columns)..end);
    }
    let from = rows.time.partition_point(|t| *t < play.now - columns as Micros * MINUTE);
    let session = &play.instrument.sheet.session;
    let builder = Builder::new(Frame::Ticks, Frame::M1, Side::Bid, &rows.fields, rows.scale, session);
    match builder {
        Ok(mut builder) => {
            builder.push(&rows.rows(from.min(end)..end));
            let bars = builder.finish().bars;
            bars.rows(bars.len().saturating_sub(columns)..bars.len())
        }
        Err(_) => Columns::default(),
    }
}

/// Bid, ask and the mean price of the position, marked on the scale, and the deals at their bars.
fn marks_of(play: &Play, bars: &Columns) -> SceneMarks {
    let decimals = play.tape.rows().scale.price;
    let price = |points: i64| as_float(points, decimals);
    let mut levels = Vec::new();
    if let Some(mean) = play.account.mean_price() {
        let price = mean / stavel_core::model::price::unit(decimals) as f64;
        levels.push(PriceLevel { price, name: "own", colour: theme::GOOD });
    }
    if let Some(quote) = play.tape.now() {
        levels.push(PriceLevel { price: price(quote.ask), name: "ask", colour: theme::RISING });
        levels.push(PriceLevel { price: price(quote.bid), name: "bid", colour: theme::FALLING });
    }
    let in_view =
        play.account.deals().iter().filter(|d| bars.time.first().is_some_and(|first| d.time >= *first));
    let points = in_view.map(|deal| PricePoint {
        slot: bars.time.partition_point(|t| *t <= deal.time).saturating_sub(1),
        price: price(deal.price),
        mark: if deal.direction == Direction::Buy { "▲" } else { "▼" },
        colour: theme::CHOSEN,
    });
    let points = points.collect();
    SceneMarks { levels, points, ..SceneMarks::default() }
}

fn quote_line(play: &Play, canvas: &mut Canvas<'_>) {
    let Some(quote) = play.tape.now() else { return };
    let decimals = play.tape.rows().scale.price;
    canvas.pieces(
        1,
        1,
        &[
            ("bid ".to_owned(), theme::faint()),
            (scaled(quote.bid, decimals), theme::strong().fg(theme::FALLING)),
            ("   ask ".to_owned(), theme::faint()),
            (scaled(quote.ask, decimals), theme::strong().fg(theme::RISING)),
            (
                format!(
                    "   spread {} points   position {}",
                    quote.ask - quote.bid,
                    scaled(play.account.position(), 2)
                ),
                theme::words(),
            ),
            (
                format!(
                    "   open {} {}",
                    money_to(play.account.open_profit(&quote), play.money_decimals),
                    play.account.sheet().quote
                ),
                theme::words(),
            ),
        ],
    );
}

/// Two columns a bar: one for it and one for the gap.
fn columns_of(width: u16) -> usize {
    width.saturating_sub(LABELS) as usize / 2
}

/// The lines of the journal and of the chart above it.
fn chart_room(height: u16) -> (u16, u16) {
    let journal = if height > 20 { 7 } else { 3 };
    (journal, height.saturating_sub(journal + 3))
}

/// The latest dates of the last days, up to the moment reached: what is announced later is not known yet.
fn dates_so_far(play: &Play, view: &View<'_>) -> Vec<FactLine> {
    let span = Span::new(play.now - 5 * DAY, play.now + 1);
    let filter = FactFilter { span: Some(span), ..FactFilter::default() };
    let facts = view.snapshot.facts_about(&play.series.instrument, &filter);
    // When in its day something was said that has no time is not known: it is only told when the day is over.
    let is_known = |fact: &&&InstrumentFact| {
        fact.has_moment() || fact.kind == fact_kind::HOLIDAY || fact.time + DAY <= play.now
    };
    let lines = facts.iter().rev().filter(is_known).filter_map(|fact| {
        let (shape, _) = dates::mark(fact)?;
        Some(FactLine::words(format!("{shape} {}", dates::in_words(fact))))
    });
    let lines: Vec<FactLine> = lines.take(3).collect();
    if lines.is_empty() {
        return lines;
    }
    [FactLine::Gap, FactLine::heading("announced")].into_iter().chain(lines).collect()
}

fn facts_of(play: &Play) -> Vec<FactLine> {
    let Some(quote) = play.tape.now() else { return Vec::new() };
    let account = &play.account;
    let sheet = account.sheet();
    let decimals = play.tape.rows().scale.price;
    let money = |amount| money_to(amount, play.money_decimals);
    let mut out = vec![
        FactLine::heading("account"),
        FactLine::Pair("position", format!("{} lots", scaled(account.position(), 2))),
    ];
    if let Some(mean) = account.mean_price() {
        let price = mean / stavel_core::model::price::unit(decimals) as f64;
        out.push(FactLine::Pair("at", format!("{price:.*}", decimals as usize + 1)));
    }
    out.extend([
        FactLine::Pair("open", format!("{} {}", money(account.open_profit(&quote)), sheet.quote)),
        FactLine::Pair("realised", format!("{} {}", money(account.realised()), sheet.quote)),
        FactLine::Pair("of it costs", money(-account.costs())),
        FactLine::Pair("deals", account.deals().len().to_string()),
        FactLine::Gap,
        FactLine::heading("spec sheet"),
        FactLine::Pair("one point", format!("{} {}", sheet.money(1, decimals).normalize(), sheet.quote)),
        FactLine::Pair("commission", sheet.commission.to_string()),
        FactLine::Pair("swap", format!("{} / {} {}", sheet.swap_long, sheet.swap_short, sheet.swap_kind)),
    ]);
    if play.in_points {
        out.push(FactLine::words(
            "nobody has said what a step of the price is worth: profit is in points (7 says it)",
        ));
    } else {
        out.extend(rests_on(&play.instrument, &["contract_size", "tick_size", "tick_value"]));
    }
    out.extend([
        FactLine::Gap,
        FactLine::heading("tape"),
        FactLine::words(if play.tape.rows().shape() == Shape::Layered {
            "layers: recorded ticks where there are some, elsewhere a minute's open and its close"
        } else if play.series.frame.is_ticks() {
            "recorded ticks"
        } else {
            "bars: the open when a bar begins, its close when it ends"
        }),
    ]);
    let used = play.tape.spreads_used();
    if used.measured + used.sheet > 0 {
        out.push(FactLine::words(spread_rule_in_words(play.tape.spreads().source())));
    }
    let left = play.tape.span().to - play.now;
    out.push(FactLine::Pair(
        "left",
        if left > DAY { format!("{} days", left / DAY) } else { time::length_in_words(left.max(0)) },
    ));
    out
}
