//! Compose: the spec sheet with inherited and own values told apart, and the session week.

use stavel_core::model::Instrument;
use stavel_core::model::instrument::KEYS;
use stavel_core::model::session::open_quarters;
use stavel_work::{ComposeStep, SheetValues, Step};

use super::{FactLine, Lens, step};
use crate::act::TableRow;
use crate::canvas::{Canvas, scroll};
use crate::effect::{Effects, ask, say, start};
use crate::theme;
use crate::view::View;

/// What can be done with a spec sheet.
#[derive(Debug, Clone, Copy)]
pub enum ComposeAct {
    ChangeValue,
    NewInstrument,
    BuildRows,
}

/// The lens.
#[derive(Default)]
pub struct ComposeLens {
    at: usize,
    /// The instrument shown, where it is not the chosen series' own: one that has no rows yet.
    other: Option<String>,
    asked: Option<ComposeQuestion>,
}

/// A question whose answer is awaited.
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
        TableRow::new(ComposeAct::NewInstrument, "n", "new like this", "make an instrument like this one")
            .command("stavel compose NAME --like INSTRUMENT"),
        TableRow::new(
            ComposeAct::BuildRows,
            "b",
            "build rows",
            "build the rows of this instrument from the one it is like",
        )
        .command("stavel compose NAME --from SERIES"),
    ];

    fn act(&mut self, act: ComposeAct, view: &View<'_>) -> Effects {
        let Some(instrument) = self.shown(view) else { return say("there is no instrument yet") };
        let name = instrument.name.clone();
        match act {
            ComposeAct::ChangeValue => {
                let key = &KEYS[self.at];
                let label = format!("{} of {name} ({})", key.name, key.about);
                let now = instrument.values.get(key.name).cloned().unwrap_or_default();
                self.asked = Some(ComposeQuestion::Value(name, key.name));
                ask(label, now)
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

    fn choose(&mut self, down: bool, _view: &View<'_>) -> Effects {
        self.at = step(self.at, KEYS.len(), down);
        Effects::new()
    }

    fn answer(&mut self, text: &str, _view: &View<'_>) -> Effects {
        match self.asked.take() {
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
        let week_lines = if side_by_side || canvas.height() >= 22 { 10u16 } else { 0 };
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
            let short: String = value.chars().take(38).collect();
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
        draw_week(instrument, canvas.part(x, y, width, height));
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
                "b builds its rows from a series of {like}: choose that series on the shelf first."
            )));
        } else {
            out.push(FactLine::words("n makes an instrument like this one, with values of its own."));
        }
        out
    }
}

impl ComposeLens {
    fn shown<'a>(&self, view: &View<'a>) -> Option<&'a Instrument> {
        let other = self.other.as_deref().and_then(|n| view.snapshot.instrument(n));
        other.or_else(|| view.instrument())
    }
}

/// The session week as a grid of days and half hours, on the wall of its zone.
fn draw_week(instrument: &Instrument, mut canvas: Canvas<'_>) {
    let week = &instrument.sheet.session.week;
    let quarters = open_quarters(week);
    let across = if canvas.width() >= 56 { 2 } else { 1 };
    canvas.put(1, 0, &format!("hours in {}", week.zone), theme::words());
    for hour in (0..24).step_by(3) {
        canvas.put(6 + hour * across, 1, &format!("{hour:02}"), theme::faint());
    }
    for (day, name) in ["mon", "tue", "wed", "thu", "fri", "sat", "sun"].iter().enumerate() {
        let y = day as u16 + 2;
        canvas.put(1, y, name, theme::faint());
        for cell in 0..24 * across as usize {
            let each = 4 / across as usize;
            let from = day * 96 + cell * each;
            let open = quarters[from..from + each].iter().filter(|q| **q).count();
            let (mark, style) = match open {
                0 => ("·", theme::rule()),
                n if n == each => ("█", theme::words().fg(theme::source(0))),
                _ => ("▌", theme::words().fg(theme::source(0))),
            };
            canvas.put(6 + cell as u16, y, mark, style);
        }
    }
}
