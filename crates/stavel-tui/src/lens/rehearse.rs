//! Rehearse: the chart growing in time, the quote, the position, the journal.

use std::time::Duration;

use stavel_core::Error;
use stavel_core::frames::Builder;
use stavel_core::model::price::scaled;
use stavel_core::model::time::{self, DAY, HOUR, MINUTE, SECOND, wall};
use stavel_core::model::{Columns, Frame, Instrument, Micros, SeriesName, Shape, Side, Span};
use stavel_core::rehearse::{Account, Direction, Landing, SpreadRule, Tape, money, money_sheet};
use stavel_draw::{SceneRequest, scene};
use stavel_work::{ComposeStep, Step};

use super::{Fact, rests_on};
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::Canvas;
use crate::overlay::{Overlay, Prompt};
use crate::scene_view::{LABELS, draw_scene};
use crate::theme;

/// Paces, as multiples of real time; 0 is as fast as it goes.
const PACES: [u32; 8] = [1, 5, 20, 60, 200, 500, 1000, 0];
/// Time played in a moment at the fastest pace.
const FASTEST: Micros = 2 * HOUR;
/// Most rows a tape is loaded with.
const MOST_ROWS: u64 = 4_000_000;

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
}

pub struct State {
    play: Option<Play>,
    /// What the tape was asked for; not asked again for the same.
    asked: String,
    /// Why nothing plays.
    trouble: Option<Error>,
    pace: usize,
    /// Where to begin, when the bench was opened for that.
    pub start_at: Option<Micros>,
}

impl Default for State {
    fn default() -> Self {
        State { play: None, asked: String::new(), trouble: None, pace: 3, start_at: None }
    }
}

impl State {
    /// Lets time pass; true where something moved.
    pub fn run(&mut self, passed: Duration) -> bool {
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
}

pub fn want(app: &mut App) {
    let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)).cloned() else { return };
    let Some(instrument) = app.snapshot.instrument(&info.name.instrument).cloned() else { return };
    let key = format!("{} {:?}", info.edition.id, instrument.sheet.spread);
    if app.rehearse.asked == key {
        return;
    }
    app.rehearse.asked = key.clone();
    app.rehearse.play = None;
    app.rehearse.trouble = None;
    if info.is_afloat() {
        return app.say(
            format!("{} is afloat: its session days are not known; align it first (4)", info.name.short()),
            Tone::Wrong,
        );
    }
    // What does not fit is played from where the window begins.
    let span =
        if info.edition.rows > MOST_ROWS { Span::new(app.window.from, app.window.to) } else { Span::ALL };
    let (name, window) = (info.name.clone(), app.window);
    let job = std::sync::Arc::new(stavel_core::job::Job::unwatched());
    let sheet = instrument.sheet.clone();
    let work = move |shelf: &stavel_core::store::Shelf, _: &stavel_core::job::Job| {
        let spreads = SpreadRule::of(shelf, &info, &sheet)?;
        Tape::new(shelf.read(&info.edition, span)?, info.name.frame, spreads)
    };
    app.threads.read(job, work, move |app, tape| {
        if app.rehearse.asked != key {
            return;
        }
        match tape {
            Err(err) => {
                app.rehearse.trouble = Some(err);
            }
            Ok(mut tape) => {
                let from = app.rehearse.start_at.take().unwrap_or(window.from.max(tape.span().from));
                let landing = tape.jump(from);
                let decimals = tape.rows().scale.price;
                let (sheet, in_points) = money_sheet(&instrument, decimals);
                let account = Account::new(sheet, decimals);
                let now = tape.now().map_or(tape.span().from, |q| q.time);
                app.rehearse.play =
                    Some(Play { series: name, instrument, in_points, tape, account, now, running: false });
                tell_landing(app, landing, from);
            }
        }
    });
}

/// Says where a jump ended; what is not there is named with the nearest time that is.
fn tell_landing(app: &mut App, landing: Landing, asked: Micros) {
    match landing {
        Landing::At(t) if t - asked < MINUTE => app.say(format!("at {}", wall(t)), Tone::Plain),
        Landing::At(t) => app.say(
            format!("nothing to play at {}; at {}, when data begin again", wall(asked), wall(t)),
            Tone::Plain,
        ),
        Landing::Nothing { nearest } => app.say(
            format!(
                "nothing to play at {}; the nearest data are at {} (j jumps there)",
                wall(asked),
                wall(nearest)
            ),
            Tone::Wrong,
        ),
    }
}

pub fn act(app: &mut App, act: Act) {
    match act {
        Act::Faster => app.rehearse.pace = (app.rehearse.pace + 1).min(PACES.len() - 1),
        Act::Slower => app.rehearse.pace = app.rehearse.pace.saturating_sub(1),
        Act::Up | Act::Down => app.act(if act == Act::Up { Act::PreviousSeries } else { Act::NextSeries }),
        Act::Run => {
            if let Some(play) = &mut app.rehearse.play {
                play.running = !play.running && play.tape.next_time().is_some();
                let word = if play.running { "running" } else { "held" };
                app.say(word, Tone::Plain);
            }
        }
        Act::Buy => deal(app, Some(Direction::Buy)),
        Act::Sell => deal(app, Some(Direction::Sell)),
        Act::Flat => deal(app, None),
        Act::Jump => {
            let now = app.rehearse.play.as_ref().map_or(0, |p| p.now);
            let label = "jump to (UTC, as 2024-03-05 13:45)";
            app.overlay = Some(Overlay::Prompt(Prompt::new(label, &wall(now)[..16], |app, text| {
                match time::parse(text) {
                    Ok(to) => jump_to(app, to),
                    Err(err) => app.complain(&err),
                }
            })));
        }
        Act::SaySpread => say_spread(app),
        Act::NextSession => jump(app, |p| (p.tape.next_session(&p.instrument.sheet.session), p.now)),
        Act::NextDay => jump(app, |p| (p.tape.next_day(&p.instrument.sheet.session), p.now)),
        _ => {}
    }
}

/// Asks for the spread of rows that say none, in points; it is kept on the spec sheet.
fn say_spread(app: &mut App) {
    let name = app.instrument().to_owned();
    let now = app.snapshot.instrument(&name).and_then(|i| i.sheet.spread);
    let label = format!("spread of {name} in points, where rows say none");
    let proposal = now.map(|points| points.to_string()).unwrap_or_default();
    app.overlay = Some(Overlay::Prompt(Prompt::new(&label, &proposal, move |app, typed| {
        let set = [("spread".to_owned(), typed.trim().to_owned())].into();
        app.start(Step::Compose(ComposeStep { name, set, ..Default::default() }));
    })));
}

/// Jumps where `to` says. With a position only forwards: the nights in between are settled, but no deal was ever
/// made after what is then to come.
fn jump_to(app: &mut App, to: Micros) {
    let Some(play) = &app.rehearse.play else { return };
    if play.account.position() != 0 && to < play.now {
        return app.say("with a position there is no way back in time: x closes it first", Tone::Wrong);
    }
    jump(app, |play| (play.tape.jump(to), to));
}

fn jump(app: &mut App, go: impl FnOnce(&mut Play) -> (Landing, Micros)) {
    let Some(play) = &mut app.rehearse.play else { return };
    let before = play.now;
    let costs = play.account.costs();
    let (landing, asked) = go(play);
    if let Some(quote) = play.tape.now().filter(|_| matches!(landing, Landing::At(_))) {
        play.now = quote.time;
        // Without a position time may go back; the nights of a position are settled.
        play.account.pass(quote.time);
    }
    let swap = play.account.costs() - costs;
    let asked = match landing {
        Landing::At(t) if asked == before => t,
        _ => asked,
    };
    if !swap.is_zero()
        && let Some(line) = play.account.journal_lines().pop()
    {
        return app.say(line, Tone::Plain);
    }
    tell_landing(app, landing, asked);
}

/// Deals one lot, or closes the position where no direction is given.
fn deal(app: &mut App, direction: Option<Direction>) {
    let Some(play) = &mut app.rehearse.play else { return };
    let Some(quote) = play.tape.now() else { return };
    let position = play.account.position();
    let (direction, lots) = match direction {
        Some(direction) => (direction, LOT),
        None if position > 0 => (Direction::Sell, position),
        None if position < 0 => (Direction::Buy, -position),
        None => return app.say("there is no position to close", Tone::Plain),
    };
    play.account.deal(direction, lots, &quote);
    if let Some(line) = play.account.journal_lines().pop() {
        app.say(line, Tone::Good);
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
            builder.finish().bars
        }
        Err(_) => Columns::default(),
    }
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let Some(play) = &app.rehearse.play else {
        if let Some(trouble) = &app.rehearse.trouble {
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
        let text = if app.selected.as_ref().and_then(|s| app.snapshot.find(s)).is_some_and(|s| s.is_afloat())
        {
            "This series is afloat: align it first (4), or choose another (])."
        } else {
            "reading …"
        };
        canvas.put(2, 1, text, theme::faint());
        return;
    };
    let pace = match PACES[app.rehearse.pace] {
        0 => "max".to_owned(),
        n => format!("{n}x"),
    };
    let clock = &play.instrument.sheet.session.clock;
    let (mark, colour) = if play.running { ("▶ runs", theme::GOOD) } else { ("‖ held", theme::RISING) };
    let x = canvas.put(1, 0, mark, theme::words().fg(colour));
    let words = format!(
        "  pace {pace:<5} {}  UTC {}   wall {}",
        play.series,
        wall(play.now / SECOND * SECOND),
        wall(clock.to_wall(play.now) / SECOND * SECOND)
    );
    canvas.put(x, 0, &words, theme::words());
    let journal = if canvas.height() > 20 { 7 } else { 3 };
    let height = canvas.height().saturating_sub(journal + 3);
    let columns = canvas.width().saturating_sub(LABELS) as usize;
    let bars = bars_so_far(play, columns);
    let request = SceneRequest { title: String::new(), bars: &bars, with: None, average: None, clock };
    let width = canvas.width();
    if bars.is_empty() {
        canvas.put(1, 3, "no bar is over yet: Space lets time run, < and > change its pace", theme::faint());
    } else {
        draw_scene(&scene(&request), None, canvas.part(0, 2, width, height));
    }
    quote_line(play, &mut canvas);
    let y = height + 2;
    canvas.rule(y, theme::rule());
    let lines = play.account.journal_lines();
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
                format!("   open {} {}", money(play.account.open_profit(&quote)), play.account.sheet().quote),
                theme::words(),
            ),
        ],
    );
}

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(play) = &app.rehearse.play else { return Vec::new() };
    let Some(quote) = play.tape.now() else { return Vec::new() };
    let account = &play.account;
    let sheet = account.sheet();
    let decimals = play.tape.rows().scale.price;
    let mut out = vec![
        Fact::heading("account"),
        Fact::Pair("position", format!("{} lots", scaled(account.position(), 2))),
    ];
    if let Some(mean) = account.mean_price() {
        let price = mean / stavel_core::model::price::unit(decimals) as f64;
        out.push(Fact::Pair("at", format!("{price:.*}", decimals as usize + 1)));
    }
    out.extend([
        Fact::Pair("open", format!("{} {}", money(account.open_profit(&quote)), sheet.quote)),
        Fact::Pair("realised", format!("{} {}", money(account.realised()), sheet.quote)),
        Fact::Pair("of it costs", money(-account.costs())),
        Fact::Pair("deals", account.deals().len().to_string()),
        Fact::Gap,
        Fact::heading("spec sheet"),
        Fact::Pair("one point", format!("{} {}", sheet.money(1, decimals).normalize(), sheet.quote)),
        Fact::Pair("commission", format!("{} a side", sheet.commission)),
        Fact::Pair("swap", format!("{} / {}", sheet.swap_long, sheet.swap_short)),
    ]);
    if play.in_points {
        out.push(Fact::words(
            "nobody has said what a step of the price is worth: profit is in points (7 says it)",
        ));
    } else {
        out.extend(rests_on(&play.instrument, &["contract_size", "tick_size", "tick_value"]));
    }
    out.extend([
        Fact::Gap,
        Fact::heading("tape"),
        Fact::words(if play.tape.rows().shape() == Shape::Layered {
            "layers: real ticks where there are some, elsewhere a minute's open and its close"
        } else if play.series.frame.is_ticks() {
            "real ticks"
        } else {
            "bars: the open when a bar begins, its close when it ends"
        }),
    ]);
    let used = play.tape.spreads_used();
    if used.measured + used.sheet > 0 {
        out.push(Fact::words(play.tape.spreads().in_words()));
    }
    let left = play.tape.span().to - play.now;
    out.push(Fact::Pair(
        "left",
        if left > DAY { format!("{} days", left / DAY) } else { time::length_in_words(left.max(0)) },
    ));
    out
}
