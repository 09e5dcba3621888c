//! Compose: the spec sheet with inherited and own values told apart, and the session week.

use stavel_core::model::Instrument;
use stavel_core::model::instrument::KEYS;
use stavel_work::{ComposeStep, SheetValues, Step};

use super::compose_week::{self, WeekPaint};
use super::{FactLine, Lens, step};
use crate::act::TableRow;
use crate::canvas::{Canvas, cut_to, scroll};
use crate::effect::{Effects, ask, say, start, warn};
use crate::theme;
use crate::view::View;

/// What can be done with a spec sheet.
#[derive(Debug, Clone, Copy)]
pub enum ComposeAct {
    ChangeValue,
    ResetValue,
    NewInstrument,
    BuildRows,
    PaintWeek,
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
}

/// A question whose answer is awaited; it is kept, since an answer that comes to nothing is asked for again.
#[derive(Clone)]
enum ComposeQuestion {
    /// The value of a key of an instrument.
    Value(String, &'static str),
    /// The name of an instrument like another.
    NameLike(String),
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
            ComposeAct::PaintWeek,
            "p",
            "paint hours",
            "paint the hours of the week, and keep what was painted",
        )
        .command("stavel compose NAME --hours WEEK"),
        TableRow::new(ComposeAct::Stroke, "Space", "", "open or close the half hour under the cursor").rare(),
        TableRow::new(ComposeAct::StrokeBack, ",", "", "move half an hour back").rare(),
        TableRow::new(ComposeAct::StrokeOn, ".", "", "move half an hour on").rare(),
        TableRow::new(ComposeAct::HoursBack, "<", "", "move three hours back").rare(),
        TableRow::new(ComposeAct::HoursOn, ">", "", "move three hours on").rare(),
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
        match act {
            ComposeAct::PaintWeek => match self.paint.take() {
                None => {
                    self.paint = Some(WeekPaint::of(instrument));
                    Effects::new()
                }
                Some(paint) => match paint.week() {
                    Some(week) => {
                        let set = SheetValues::one("hours", &week.to_string());
                        start(Step::Compose(ComposeStep { name, set, ..Default::default() }))
                    }
                    None => {
                        self.paint = Some(paint);
                        warn("a market that is never open has no hours; Space opens some")
                    }
                },
            },
            ComposeAct::Stroke
            | ComposeAct::StrokeBack
            | ComposeAct::StrokeOn
            | ComposeAct::HoursBack
            | ComposeAct::HoursOn
            | ComposeAct::CopyDay
            | ComposeAct::ClearDay => say("p begins to paint the hours of the week"),
            ComposeAct::ChangeValue => {
                let key = &KEYS[self.at];
                let label = format!("{} of {name} ({})", key.name, key.about);
                let now = instrument.values.get(key.name).cloned().unwrap_or_default();
                self.asked = Some(ComposeQuestion::Value(name, key.name));
                ask(label, now)
            }
            ComposeAct::ResetValue => {
                let reset = vec![KEYS[self.at].name.to_owned()];
                start(Step::Compose(ComposeStep { name, reset, ..Default::default() }))
            }
            ComposeAct::NewInstrument => {
                self.asked = Some(ComposeQuestion::NameLike(name.clone()));
                ask(format!("name of the instrument like {name}"), format!("{name}.day"))
            }
            ComposeAct::BuildRows => match (&instrument.own.like, view.selected.cloned()) {
                (Some(like), Some(from)) if from.instrument == *like => {
                    start(Step::Compose(ComposeStep { name, from: Some(from), ..Default::default() }))
                }
                (Some(like), _) => say(format!("choose a series of {like} first (1): its rows are taken")),
                (None, _) => {
                    say(format!("{name} is like no other; n makes one like it, whose rows can be built"))
                }
            },
        }
    }

    fn let_go(&mut self) -> bool {
        self.paint.take().is_some() || self.other.take().is_some()
    }

    fn instrument_changed(&mut self) {
        self.paint = None;
    }

    fn choose(&mut self, down: bool, _view: &View<'_>) -> Effects {
        if let Some(paint) = &mut self.paint {
            paint.next_day(down);
            return Effects::new();
        }
        self.at = step(self.at, KEYS.len(), down);
        Effects::new()
    }

    fn answer(&mut self, text: &str, _view: &View<'_>) -> Effects {
        match self.asked.clone() {
            Some(ComposeQuestion::Value(name, key)) => {
                let set = SheetValues::one(key, text);
                start(Step::Compose(ComposeStep { name, set, ..Default::default() }))
            }
            Some(ComposeQuestion::NameLike(like)) => {
                self.other = Some(text.to_owned());
                let step = ComposeStep { name: text.into(), like: Some(like), ..Default::default() };
                start(Step::Compose(step))
            }
            None => Effects::new(),
        }
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        let Some(instrument) = self.shown(view) else {
            canvas.put(2, 1, "No instrument yet: take files in first (1, then i).", theme::words());
            return;
        };
        let like = instrument.own.like.as_deref().map(|l| format!(" like {l}")).unwrap_or_default();
        let x = canvas.put(1, 0, &instrument.name, theme::strong());
        let own = instrument.own.said.len();
        canvas.put(x, 0, &format!("{like}   {own} of {} values its own", KEYS.len()), theme::words());
        let side_by_side = canvas.width() >= 100;
        // On a low screen the sheet is worth more than the picture of its hours.
        // Hours that are being painted are seen at any size.
        let is_painting = self.paint.is_some();
        let week_lines = if side_by_side || canvas.height() >= 22 || is_painting { 14u16 } else { 0 };
        let rows = if side_by_side {
            canvas.height().saturating_sub(2)
        } else {
            canvas.height().saturating_sub(week_lines + 2)
        };
        let first = scroll(self.at, rows as usize, KEYS.len());
        for (i, key) in KEYS.iter().enumerate().skip(first).take(rows as usize) {
            let y = (i - first) as u16 + 2;
            let value = instrument.values.get(key.name).map_or("", String::as_str);
            let origin = instrument.origin(key.name);
            let is_own = origin == "own";
            let standing = instrument.standing(key.name);
            let style = if i == self.at { theme::chosen() } else { theme::words() };
            canvas.put(1, y, &format!("{:<14}", key.name), style);
            canvas.put(
                16,
                y,
                standing.mark(),
                theme::words().fg(if is_own { theme::RISING } else { theme::FAINT }),
            );
            let short = cut_to(value, 38);
            canvas.put(18, y, &short, if is_own { theme::strong() } else { theme::words() });
            if side_by_side || canvas.width() > 70 {
                canvas.put(58, y, origin, theme::faint());
            }
        }
        if week_lines == 0 {
            return;
        }
        let (x, y) = if side_by_side { (70, 1) } else { (0, canvas.height().saturating_sub(week_lines)) };
        let (width, height) = (canvas.width() - x, canvas.height().saturating_sub(y));
        compose_week::draw(instrument, self.paint.as_ref(), canvas.part(x, y, width, height));
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let Some(instrument) = self.shown(view) else { return Vec::new() };
        let key = &KEYS[self.at];
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
        if let Some(like) = &instrument.own.like {
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
        | ComposeAct::PaintWeek => return None,
    })
}

impl ComposeLens {
    fn shown<'a>(&self, view: &View<'a>) -> Option<&'a Instrument> {
        let other = self.other.as_deref().and_then(|n| view.snapshot.instrument(n));
        other.or_else(|| view.instrument())
    }
}
