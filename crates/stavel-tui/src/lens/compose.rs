//! Compose: the spec sheet with inherited and own values told apart, and the session week.

use stavel_core::model::Instrument;
use stavel_core::model::instrument::KEYS;
use stavel_core::model::session::open_quarters;
use stavel_work::{ComposeStep, Step};

use super::{Fact, scroll, step};
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::Canvas;
use crate::overlay::{Overlay, Prompt};
use crate::theme;

#[derive(Default)]
pub struct State {
    at: usize,
    /// The instrument shown, where it is not the chosen series' own: one that has no rows yet.
    shown: Option<String>,
}

fn shown(app: &App) -> Option<&Instrument> {
    let other = app.compose.shown.as_deref().and_then(|n| app.snapshot.instrument(n));
    other.or_else(|| app.snapshot.instrument(app.instrument()))
}

pub fn act(app: &mut App, act: Act) {
    let Some(instrument) = shown(app).cloned() else { return };
    let name = instrument.name.clone();
    match act {
        Act::Up | Act::Down => app.compose.at = step(app.compose.at, KEYS.len(), act == Act::Down),
        Act::Enter => {
            let key = KEYS[app.compose.at].name;
            let label = format!("{key} of {name} ({})", KEYS[app.compose.at].about);
            let now = instrument.values.get(key).cloned().unwrap_or_default();
            app.overlay = Some(Overlay::Prompt(Prompt::new(label, &now, move |app, value| {
                let set = [(key.to_owned(), value.to_owned())].into();
                app.start(Step::Compose(ComposeStep { name, set, ..Default::default() }));
            })));
        }
        Act::NewInstrument => {
            let prompt = Prompt::new(
                format!("name of the instrument like {name}"),
                &format!("{name}.day"),
                move |app, new| {
                    app.compose.shown = Some(new.to_owned());
                    let step = ComposeStep { name: new.into(), like: Some(name), ..Default::default() };
                    app.start(Step::Compose(step));
                },
            );
            app.overlay = Some(Overlay::Prompt(prompt));
        }
        Act::Rows => match (&instrument.own.like, app.selected.clone()) {
            (Some(like), Some(from)) if from.instrument == *like => {
                app.start(Step::Compose(ComposeStep { name, from: Some(from), ..Default::default() }));
            }
            (Some(like), _) => {
                app.say(format!("choose a series of {like} first (1): its rows are taken"), Tone::Plain)
            }
            (None, _) => app.say(
                format!("{name} is like no other; n makes one like it, whose rows can be built"),
                Tone::Plain,
            ),
        },
        _ => {}
    }
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let Some(instrument) = shown(app) else {
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
    let first = scroll(app.compose.at, rows as usize, KEYS.len());
    for (i, key) in KEYS.iter().enumerate().skip(first).take(rows as usize) {
        let y = (i - first) as u16 + 2;
        let value = instrument.values.get(key.name).map_or("", String::as_str);
        let origin = instrument.origin(key.name);
        let is_own = origin == "own";
        let standing = instrument.standing(key.name);
        let style = if i == app.compose.at { theme::chosen() } else { theme::words() };
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

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(instrument) = shown(app) else { return Vec::new() };
    let key = &KEYS[app.compose.at];
    let sheet = &instrument.sheet;
    let mut out = vec![
        Fact::heading(key.name),
        Fact::words(key.about),
        Fact::words(instrument.values.get(key.name).cloned().unwrap_or_default()),
        Fact::words(match instrument.origin(key.name) {
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
        Fact::Gap,
        Fact::heading("what it means"),
        Fact::words(format!(
            "One lot that gains one point ({}) earns {} {}.",
            stavel_core::model::price::scaled(1, sheet.decimals),
            sheet.money(1, sheet.decimals).normalize(),
            sheet.quote
        )),
        Fact::words(format!(
            "The market is open {:.1} h a week.",
            sheet.session.week.minutes() as f64 / 60.0
        )),
        Fact::words(format!("Session days: {}.", sheet.session.clock.in_words())),
        Fact::words(format!("{} holidays.", sheet.session.holidays.len())),
        Fact::Gap,
    ];
    if let Some(like) = &instrument.own.like {
        out.push(Fact::words(format!(
            "b builds its rows from a series of {like}: choose that series on the shelf first."
        )));
    } else {
        out.push(Fact::words("n makes an instrument like this one, with values of its own."));
    }
    out
}
