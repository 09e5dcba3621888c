//! Compose: the spec sheet with inherited and own values told apart, and the session week.

use ratatui::layout::Rect;
use stavel_core::compose::{FormulaPreview, preview_formula};
use stavel_core::measures::{WeekProfiler, count_quarters};
use stavel_core::model::{Field, Instrument, SeriesName, Span};
use stavel_work::{ChartStep, ChartView, ComposeStep, SheetValues, Step};

use super::compose_chain::{self, RollEdit, chain_of};
use super::compose_formula;
use super::compose_rows::{base_of, composed_of, formula_of, keys, rows_for, varied, with_day};
use super::compose_vary;
use super::compose_week::{self, WeekPaint, WeekRows, WeekShape};
use super::{FactLine, Lens, picture_of, step};
use crate::act::TableRow;
use crate::canvas::{Canvas, cut_to, scroll};
use crate::effect::{Effect, Effects, Pointer, ask, say, start, warn};
use crate::jobs::Slot;
use crate::theme;
use crate::view::View;

/// What can be done with a spec sheet.
#[derive(Debug, Clone, Copy)]
pub enum ComposeAct {
    ChangeValue,
    ResetValue,
    NewInstrument,
    BuildRows,
    VaryRows,
    Formula,
    Chain,
    PaintWeek,
    SingleDay,
    TurnZone,
    StrokeBack,
    StrokeOn,
    HoursBack,
    HoursOn,
    Stroke,
    CopyDay,
    ClearDay,
}

/// The lens.
#[derive(Default)]
pub struct ComposeLens {
    at: usize,
    /// The instrument shown, where it is not the chosen series' own: one that has no rows yet.
    other: Option<String>,
    asked: Option<ComposeQuestion>,
    /// The hours that are being painted.
    paint: Option<WeekPaint>,
    /// The rows that hours are for, over the week.
    shape: Slot<WeekShape>,
    /// What the formula that is being typed comes to.
    preview: Slot<FormulaPreview>,
    /// The rolls of the chain that is shown.
    rolls: RollEdit,
}

/// A question whose answer is awaited; it is kept, since an answer that comes to nothing is asked for again.
#[derive(Clone)]
enum ComposeQuestion {
    /// The value of a key of an instrument.
    Value(String, &'static str),
    /// The name of an instrument like another.
    NameLike(String),
    /// How the rows of an instrument are to differ from those they come from.
    Vary(String, Option<SeriesName>),
    /// An instrument and its formula.
    Formula,
    /// An instrument and its contracts.
    Chain,
    /// A single day with other hours.
    Day(String),
    /// The zone in which hours are painted.
    Zone,
}

impl Lens for ComposeLens {
    type Act = ComposeAct;
    const WORD: &'static str = "compose";
    const ABOUT: &'static str = "compose: instruments of one's own";
    const ROWS: &'static [TableRow<ComposeAct>] = &[
        TableRow::new(
            ComposeAct::ChangeValue,
            "Enter",
            "change value",
            "change the chosen value of the spec sheet",
        )
        .command("stavel compose NAME --set KEY=VALUE"),
        TableRow::new(
            ComposeAct::ResetValue,
            "r",
            "reset",
            "take the chosen value away: what it inherits, or its rows show, counts again",
        )
        .command("stavel compose NAME --reset KEY"),
        TableRow::new(ComposeAct::NewInstrument, "n", "new like this", "make an instrument like this one")
            .command("stavel compose NAME --like INSTRUMENT"),
        TableRow::new(
            ComposeAct::BuildRows,
            "a",
            "build rows",
            "build the rows of this instrument from the one it is like",
        )
        .command("stavel compose NAME --from SERIES"),
        TableRow::new(
            ComposeAct::VaryRows,
            "m",
            "vary rows",
            "build its rows with other days, times, prices or spreads than those they come from",
        )
        .command("stavel compose NAME --from SERIES"),
        TableRow::new(
            ComposeAct::Formula,
            "f",
            "formula",
            "make an instrument by a formula over others; what it comes to is shown while it is typed",
        )
        .command("stavel compose NAME --formula FORMULA"),
        TableRow::new(
            ComposeAct::Chain,
            "c",
            "chain",
            "put futures contracts one behind the other, with rolls that can be moved",
        )
        .command("stavel compose NAME --chain CONTRACTS"),
        TableRow::new(
            ComposeAct::PaintWeek,
            "p",
            "paint hours",
            "paint the hours of the week, and keep what was painted",
        )
        .command("stavel compose NAME --hours WEEK"),
        TableRow::new(
            ComposeAct::SingleDay,
            "e",
            "single day",
            "say the hours of a single day: closed, early, late, or open again",
        )
        .command("stavel compose NAME --set KEY=VALUE"),
        TableRow::new(ComposeAct::TurnZone, "t", "", "paint the hours on the wall of another zone").rare(),
        TableRow::new(ComposeAct::Stroke, "Space", "", "open or close the half hour under the cursor").rare(),
        TableRow::new(
            ComposeAct::StrokeBack,
            ",",
            "",
            "move half an hour back; of a chain, move the chosen roll a trading day back",
        )
        .rare(),
        TableRow::new(
            ComposeAct::StrokeOn,
            ".",
            "",
            "move half an hour on; of a chain, move the chosen roll a trading day on",
        )
        .rare(),
        TableRow::new(
            ComposeAct::HoursBack,
            "<",
            "",
            "move three hours back; of a chain, choose the roll before",
        )
        .rare(),
        TableRow::new(ComposeAct::HoursOn, ">", "", "move three hours on; of a chain, choose the next roll")
            .rare(),
        TableRow::new(ComposeAct::CopyDay, "d", "copy day", "give the next day the hours of this one").rare(),
        TableRow::new(ComposeAct::ClearDay, "x", "clear day", "close the whole day").rare(),
    ];

    fn act(&mut self, act: ComposeAct, view: &View<'_>) -> Effects {
        let Some(instrument) = self.shown(view) else { return say("there is no instrument yet") };
        let name = instrument.name.clone();
        if let (Some(paint), Some(stroke)) = (&mut self.paint, stroke_of(act)) {
            stroke(paint);
            return Effects::new();
        }
        if let Some(effects) = self.edit_rolls(act, instrument, view) {
            return effects;
        }
        match act {
            ComposeAct::PaintWeek => self.paint_week(instrument),
            ComposeAct::TurnZone if self.paint.is_some() => self.ask_zone(),
            // Strokes on hours that are being painted are done above.
            ComposeAct::Stroke
            | ComposeAct::StrokeBack
            | ComposeAct::StrokeOn
            | ComposeAct::HoursBack
            | ComposeAct::HoursOn
            | ComposeAct::CopyDay
            | ComposeAct::ClearDay
            | ComposeAct::TurnZone => say("p begins to paint the hours of the week"),
            ComposeAct::SingleDay => {
                self.asked = Some(ComposeQuestion::Day(name));
                ask("a day and its hours, as 2024-12-24 -13:00, 2024-12-25 closed, or 2024-12-27 open", "")
            }
            ComposeAct::VaryRows => self.vary(instrument, view),
            ComposeAct::Formula => {
                self.asked = Some(ComposeQuestion::Formula);
                ask(compose_formula::ASKED, formula_of(instrument, view))
            }
            ComposeAct::Chain => {
                self.asked = Some(ComposeQuestion::Chain);
                ask(compose_chain::ASKED, compose_chain::proposal(instrument, view))
            }
            ComposeAct::ChangeValue => {
                let Some(key) = keys(instrument).get(self.at).copied() else { return Effects::new() };
                let label = format!("{} of {name} ({})", key.name, key.about);
                let now = instrument.values.get(key.name).cloned().unwrap_or_default();
                self.asked = Some(ComposeQuestion::Value(name, key.name));
                ask(label, now)
            }
            ComposeAct::ResetValue => {
                let reset: Vec<String> =
                    keys(instrument).get(self.at).map(|k| k.name.to_owned()).into_iter().collect();
                start(Step::Compose(Box::new(ComposeStep { name, reset, ..Default::default() })))
            }
            ComposeAct::NewInstrument => {
                self.asked = Some(ComposeQuestion::NameLike(name.clone()));
                ask(format!("name of the instrument like {name}"), format!("{name}.day"))
            }
            ComposeAct::BuildRows if composed_of(instrument, view).is_some() => {
                start(Step::Compose(Box::new(ComposeStep { name, again: true, ..Default::default() })))
            }
            ComposeAct::BuildRows => match (&instrument.own.like, view.selected.cloned()) {
                (Some(like), Some(from)) if from.instrument == *like => {
                    start(Step::Compose(Box::new(ComposeStep {
                        name,
                        from: Some(from),
                        ..Default::default()
                    })))
                }
                (Some(like), _) => say(format!("choose a series of {like} first (1): its rows are taken")),
                (None, _) => {
                    say(format!("{name} is like no other; n makes one like it, whose rows can be built"))
                }
            },
        }
    }

    fn let_go(&mut self) -> bool {
        self.paint.take().is_some() || self.rolls.let_go() || self.other.take().is_some()
    }

    fn instrument_changed(&mut self) {
        self.paint = None;
    }

    fn pointed(&mut self, pointer: Pointer, size: (u16, u16), view: &View<'_>) -> Option<Effects> {
        let (x, y, is_press) = match pointer {
            Pointer::Press(x, y) => (x, y, true),
            Pointer::Drag(x, y) => (x, y, false),
            Pointer::Release(..) | Pointer::WheelUp(..) | Pointer::WheelDown(..) => return None,
        };
        let place = week_place(size, self.paint.is_some())?;
        let (day, half, wide) =
            compose_week::cell_at(x.checked_sub(place.x)?, y.checked_sub(place.y)?, place.width)?;
        let instrument = self.shown(view)?;
        // A press on the picture of the hours begins to paint them.
        self.paint.get_or_insert_with(|| WeekPaint::of(instrument)).brush(day, half, wide, is_press);
        Some(Effects::new())
    }

    /// Has the rows read over the hours of the week.
    fn want(&mut self, view: &View<'_>) -> Effects {
        if let Some(request) = Self::formula_typed(view).and_then(compose_formula::request_of) {
            let key = format!("{request:?} {}", view.snapshot.version);
            self.preview.want(key, view.threads, move |shelf, _| preview_formula(shelf, &request));
        }
        let Some(instrument) = self.shown(view) else { return Effects::new() };
        self.rolls.want(instrument, view);
        let paint = self.paint.as_ref();
        let zone = paint.map_or(&instrument.sheet.session.week.zone, WeekPaint::zone).clone();
        let Some(info) = rows_for(instrument, view).filter(|s| !s.is_afloat()) else { return Effects::new() };
        let (key, edition) = (format!("{} {zone}", info.edition.id), info.edition.clone());
        self.shape.want(key, view.threads, move |shelf, job| {
            let seen = [Field::High, Field::Low, Field::Volume, Field::Spread];
            let fields: Vec<Field> = seen.into_iter().filter(|f| edition.fields.contains(f)).collect();
            let (mut shape, mut hours) = (WeekShape::default(), WeekProfiler::new(&zone));
            for rows in shelf.scan(&edition, Span::ALL, Some(&fields))? {
                let rows = rows?;
                job.advance(rows.len() as u64)?;
                count_quarters(&rows.time, &zone, &mut shape.quarters);
                hours.push(&rows);
            }
            shape.hours = hours.finish();
            Ok(shape)
        });
        Effects::new()
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.shape.collect();
        self.preview.collect();
        self.rolls.collect();
        Effects::new()
    }

    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        if let Some(paint) = &mut self.paint {
            paint.next_day(down);
            return Effects::new();
        }
        self.at = step(self.at, self.shown(view).map_or(0, |i| keys(i).len()), down);
        Effects::new()
    }

    fn answer(&mut self, text: &str, view: &View<'_>) -> Effects {
        match self.asked.clone() {
            Some(ComposeQuestion::Value(name, key)) => {
                let set = SheetValues::one(key, text);
                start(Step::Compose(Box::new(ComposeStep { name, set, ..Default::default() })))
            }
            Some(ComposeQuestion::NameLike(like)) => {
                self.other = Some(text.to_owned());
                let step = ComposeStep { name: text.into(), like: Some(like), ..Default::default() };
                start(Step::Compose(Box::new(step)))
            }
            Some(ComposeQuestion::Vary(name, from)) => varied(&name, from, text),
            Some(ComposeQuestion::Formula) => match compose_formula::step_of(text) {
                Ok(step) => {
                    self.other = Some(step.name.clone());
                    start(Step::Compose(Box::new(step)))
                }
                Err(error) => vec![Effect::Complain(error)],
            },
            Some(ComposeQuestion::Chain) => match compose_chain::step_of(text) {
                Ok(step) => {
                    self.other = Some(step.name.clone());
                    start(Step::Compose(Box::new(step)))
                }
                Err(error) => vec![Effect::Complain(error)],
            },
            Some(ComposeQuestion::Day(name)) => match view.snapshot.instrument(&name) {
                Some(instrument) => with_day(instrument, text),
                None => Effects::new(),
            },
            Some(ComposeQuestion::Zone) => match (text.parse(), &mut self.paint) {
                (Ok(zone), Some(paint)) => {
                    paint.turn_to(zone, view.window.from + view.window.length() / 2);
                    Effects::new()
                }
                (Err(error), _) => vec![Effect::Complain(error)],
                (Ok(_), None) => Effects::new(),
            },
            None => Effects::new(),
        }
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        picture_of(view, ChartView::Week)
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        let Some(instrument) = self.shown(view) else {
            canvas.put(2, 1, "No instrument yet: take files in first (1, then i).", theme::words());
            return;
        };
        let like = instrument.own.like.as_deref().map(|l| format!(" like {l}")).unwrap_or_default();
        let x = canvas.put(1, 0, &instrument.name, theme::strong());
        let own = instrument.own.said.len();
        let keys = keys(instrument);
        canvas.put(x, 0, &format!("{like}   {own} of {} values its own", keys.len()), theme::words());
        if let Some((from, lines)) = composed_of(instrument, view) {
            let width = if canvas.width() >= SIDE_BY_SIDE { 68 } else { canvas.width() - 2 };
            let told = format!("rows of {from}: {}", lines.join("; "));
            canvas.part(1, 1, width, 1).put(0, 0, &told, theme::faint());
        }
        let is_doing = self.paint.is_some()
            || self.rolls.is_open()
            || Self::formula_typed(view).is_some()
            || compose_vary::typed(view.typing).is_some();
        let place = week_place((canvas.width(), canvas.height()), is_doing);
        let side_by_side = canvas.width() >= SIDE_BY_SIDE;
        if let Some((_, made)) = chain_of(instrument, view).filter(|_| place.is_none()) {
            let rolls = made.rolls.len();
            canvas.put_right(canvas.width() - 1, 0, &format!("< shows its rolls ({rolls})"), theme::faint());
        }
        let below = place.filter(|_| !side_by_side).map_or(0, |place| place.height);
        let rows = canvas.height().saturating_sub(below + 2);
        let first = scroll(self.at, rows as usize, keys.len());
        for (i, key) in keys.iter().enumerate().skip(first).take(rows as usize) {
            let y = (i - first) as u16 + 2;
            let value = instrument.values.get(key.name).map_or("", String::as_str);
            let value = if value.is_empty() { "–" } else { value };
            let origin = instrument.origin(key.name);
            let is_own = origin == "own";
            let standing = instrument.standing(key.name);
            let style = if i == self.at { theme::chosen() } else { theme::words() };
            canvas.put(1, y, &format!("{:<14}", key.name), style);
            canvas.put(
                16,
                y,
                if origin == "not known" { " " } else { standing.mark() },
                theme::words().fg(if is_own { theme::RISING } else { theme::FAINT }),
            );
            let short = cut_to(value, 38);
            canvas.put(18, y, &short, if is_own { theme::strong() } else { theme::words() });
            if side_by_side || canvas.width() > 70 {
                canvas.put(58, y, origin, theme::faint());
            }
        }
        let Some(place) = place else { return };
        if let Some(line) = Self::formula_typed(view) {
            let part = canvas.part(place.x, place.y, place.width, place.height);
            return compose_formula::draw(line, &self.preview, part);
        }
        if let Some((from, line)) = compose_vary::typed(view.typing) {
            return compose_vary::draw(from, line, canvas.part(place.x, place.y, place.width, place.height));
        }
        let mut place = place;
        if let Some((info, made)) = chain_of(instrument, view).filter(|_| self.paint.is_none()) {
            let part = canvas.part(place.x, place.y, place.width, place.height);
            let below = self.rolls.draw(info, made, part) + 1;
            // The hours of the week stand below, where there is room for them.
            if below + WEEK_LINES > place.height {
                return;
            }
            place = Rect { y: place.y + below, height: place.height - below, ..place };
        }
        let info = rows_for(instrument, view);
        let series = info.map(|s| s.name.to_string()).unwrap_or_default();
        let scale = info.map(|s| s.edition.scale).unwrap_or_default();
        let rows = WeekRows { shape: self.shape.get().map(|shape| &**shape), series: &series, scale };
        let part = canvas.part(place.x, place.y, place.width, place.height);
        compose_week::draw(instrument, self.paint.as_ref(), &rows, part);
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let Some(instrument) = self.shown(view) else { return Vec::new() };
        let Some(key) = keys(instrument).get(self.at).copied() else { return Vec::new() };
        let sheet = &instrument.sheet;
        let mut out = vec![
            FactLine::heading(key.name),
            FactLine::words(key.about),
            FactLine::words(instrument.values.get(key.name).cloned().unwrap_or_default()),
            FactLine::words(match instrument.origin(key.name) {
                "own" => "● said: its own value".to_owned(),
                "found" => "◐ found in its rows".to_owned(),
                "inherited" => format!(
                    "{} {}, from {}",
                    instrument.standing(key.name).mark(),
                    instrument.standing(key.name),
                    instrument.own.like.as_deref().unwrap_or_default()
                ),
                "not known" => "not known: nobody has said it".to_owned(),
                _ => "○ assumed: nobody has said it and no rows show it".to_owned(),
            }),
            FactLine::Gap,
            FactLine::heading("what it means"),
            FactLine::words(format!(
                "One lot that gains one point ({}) earns {} {}.",
                stavel_core::model::price::scaled(1, sheet.decimals),
                sheet.money(1, sheet.decimals).normalize(),
                sheet.quote
            )),
            FactLine::words(format!(
                "The market is open {:.1} h a week.",
                sheet.session.week.minutes() as f64 / 60.0
            )),
            FactLine::words(format!("Session days: {}.", sheet.session.clock.in_words())),
            FactLine::words(format!("{} holidays.", sheet.session.holidays.len())),
            FactLine::Gap,
        ];
        if let Some((from, lines)) = composed_of(instrument, view) {
            out.push(FactLine::heading("its rows"));
            out.push(FactLine::words(format!("made of {from}")));
            out.extend(lines.into_iter().map(FactLine::words));
            out.push(FactLine::words(match base_of(instrument, view) {
                Some(_) => "a makes them again of what it is now; m changes how they differ.",
                None => "a makes them again of what these are now.",
            }));
        } else if let Some(like) = &instrument.own.like {
            out.push(FactLine::words(format!(
                "a builds its rows from a series of {like}: choose that series on the shelf first."
            )));
        } else {
            out.push(FactLine::words("n makes an instrument like this one, with values of its own."));
        }
        out
    }
}

/// What an act does to hours that are being painted.
fn stroke_of(act: ComposeAct) -> Option<fn(&mut WeekPaint)> {
    Some(match act {
        ComposeAct::Stroke => WeekPaint::paint,
        ComposeAct::StrokeBack => |paint| paint.move_by(-1),
        ComposeAct::StrokeOn => |paint| paint.move_by(1),
        ComposeAct::HoursBack => |paint| paint.move_by(-6),
        ComposeAct::HoursOn => |paint| paint.move_by(6),
        ComposeAct::CopyDay => WeekPaint::copy_day,
        ComposeAct::ClearDay => WeekPaint::clear_day,
        ComposeAct::ChangeValue
        | ComposeAct::NewInstrument
        | ComposeAct::BuildRows
        | ComposeAct::ResetValue
        | ComposeAct::VaryRows
        | ComposeAct::Formula
        | ComposeAct::Chain
        | ComposeAct::SingleDay
        | ComposeAct::TurnZone
        | ComposeAct::PaintWeek => return None,
    })
}

/// Columns from which the week stands beside the sheet.
const SIDE_BY_SIDE: u16 = 100;

/// Lines of the picture of the hours.
const WEEK_LINES: u16 = 14;

/// Where the picture of the hours lies in a lens so large; none on a low screen, where the sheet is worth more. Hours that
/// are being painted are seen at any size.
fn week_place((width, height): (u16, u16), is_painting: bool) -> Option<Rect> {
    if width >= SIDE_BY_SIDE {
        return Some(Rect { x: 70, y: 1, width: width - 70, height: height.saturating_sub(1) });
    }
    let lines = WEEK_LINES.min(height);
    (height >= 22 || is_painting).then(|| Rect { x: 0, y: height - lines, width, height: lines })
}

impl ComposeLens {
    /// Begins to paint the hours, or keeps what was painted.
    fn paint_week(&mut self, instrument: &Instrument) -> Effects {
        let Some(paint) = self.paint.take() else {
            self.paint = Some(WeekPaint::of(instrument));
            return Effects::new();
        };
        match paint.week() {
            Some(week) => {
                let (name, set) = (instrument.name.clone(), SheetValues::one("hours", &week.to_string()));
                start(Step::Compose(Box::new(ComposeStep { name, set, ..Default::default() })))
            }
            None => {
                self.paint = Some(paint);
                warn("a market that is never open has no hours; Space opens some")
            }
        }
    }

    /// What the keys of strokes and `a` do to the rolls of a chain; none where none is shown, or nothing is to be done.
    fn edit_rolls(&mut self, act: ComposeAct, instrument: &Instrument, view: &View<'_>) -> Option<Effects> {
        let (info, made) = chain_of(instrument, view)?;
        match act {
            ComposeAct::StrokeBack => Some(self.rolls.shift(made, -1)),
            ComposeAct::StrokeOn => Some(self.rolls.shift(made, 1)),
            ComposeAct::HoursBack | ComposeAct::HoursOn => {
                self.rolls.choose(made, matches!(act, ComposeAct::HoursOn));
                Some(Effects::new())
            }
            ComposeAct::BuildRows => self.rolls.write(info, made),
            _ => None,
        }
    }

    fn ask_zone(&mut self) -> Effects {
        let zone = self.paint.as_ref().map(|p| p.zone().to_string()).unwrap_or_default();
        self.asked = Some(ComposeQuestion::Zone);
        ask("the zone in which the hours are painted, as Europe/Oslo or UTC", zone)
    }

    /// Asks how the rows are to differ from those they come from.
    fn vary(&mut self, instrument: &Instrument, view: &View<'_>) -> Effects {
        let name = instrument.name.clone();
        let chosen = view.selected.cloned().filter(|s| s.instrument != name);
        let from = base_of(instrument, view).or(chosen);
        let Some(from) = from else {
            return say(format!("choose the series that {name} is to be made of on the shelf first (1)"));
        };
        let label = format!("{}{from}, changed by", compose_vary::ASKED);
        self.asked = Some(ComposeQuestion::Vary(name, Some(from)));
        ask(label, "")
    }

    /// The line of a formula that is being typed.
    fn formula_typed<'a>(view: &View<'a>) -> Option<&'a str> {
        view.typing.filter(|(asked, _)| *asked == compose_formula::ASKED).map(|(_, line)| line)
    }

    fn shown<'a>(&self, view: &View<'a>) -> Option<&'a Instrument> {
        let other = self.other.as_deref().and_then(|n| view.snapshot.instrument(n));
        other.or_else(|| view.instrument())
    }
}
