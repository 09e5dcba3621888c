//! Deliver: the first lines exactly as they will be written, and what was proved.

use stavel_core::deliver::{Format, Order, first_lines};
use stavel_core::model::{Clock, Span};
use stavel_work::{DeliverStep, Report, Step};

use super::Fact;
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::{Canvas, bytes, thousands};
use crate::jobs::Slot;
use crate::overlay::{Overlay, Prompt};
use crate::theme;

#[derive(Default)]
pub struct State {
    lines: Slot<Vec<String>>,
    format: usize,
    own_clock: bool,
    /// Write of each row where it comes from.
    origin: bool,
    /// What was delivered since the bench was opened, newest last.
    done: Vec<Done>,
}

struct Done {
    path: String,
    rows: u64,
    bytes: u64,
    proved: bool,
}

impl State {
    fn format(&self) -> Format {
        Format::ALL[self.format]
    }

    /// Remembers the files of a delivery that was just done.
    pub fn note(&mut self, step: &Step, report: &Report) {
        if !matches!(step, Step::Deliver(_)) {
            return;
        }
        for f in report.json["files"].as_array().into_iter().flatten() {
            self.done.push(Done {
                path: f["path"].as_str().unwrap_or_default().into(),
                rows: f["rows"].as_u64().unwrap_or(0),
                bytes: f["bytes"].as_u64().unwrap_or(0),
                proved: f["proved"] == true,
            });
        }
    }
}

fn clock(app: &App) -> Clock {
    let own = app.snapshot.instrument(app.instrument()).map(|i| i.sheet.session.clock.clone());
    own.filter(|_| app.deliver.own_clock).unwrap_or_else(Clock::utc)
}

pub fn want(app: &mut App) {
    let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)) else { return };
    let order = Order {
        layout: None,
        series: info.name.clone(),
        format: app.deliver.format(),
        clock: clock(app),
        span: Span::ALL,
        last: None,
        origin: app.deliver.origin,
    };
    let key = format!("{} {:?} {} {}", info.edition.id, order.format, order.clock, order.origin);
    app.deliver.lines.want(
        key,
        &app.threads,
        |app| Some(&mut app.deliver.lines),
        move |shelf, _| first_lines(shelf, &order, 40),
    );
}

pub fn act(app: &mut App, act: Act) {
    match act {
        Act::Up | Act::Down => app.act(if act == Act::Up { Act::PreviousSeries } else { Act::NextSeries }),
        Act::Format => app.deliver.format = (app.deliver.format + 1) % Format::ALL.len(),
        Act::ClockChoice => app.deliver.own_clock = !app.deliver.own_clock,
        Act::Origins => app.deliver.origin = !app.deliver.origin,
        Act::Enter | Act::DeliverStale => {
            let Some(series) = app.selected.clone() else { return };
            let (format, clock, origin) = (app.deliver.format(), clock(app), app.deliver.origin);
            let Some(info) = app.snapshot.find(&series) else { return };
            if info.is_afloat() {
                return app.say(format!("{} is afloat: align it first (4)", series.short()), Tone::Wrong);
            }
            let stale_ok = act == Act::DeliverStale;
            if let Some(why) = app.snapshot.stale(info).filter(|_| !stale_ok) {
                let words =
                    format!("{} is stale: {why}; build it again, or a delivers it as it is", series.short());
                return app.say(words, Tone::Wrong);
            }
            let proposal =
                format!("{}_{}_{}.{}", series.instrument, series.source, series.frame_text(), format.word());
            app.overlay = Some(Overlay::Prompt(Prompt::new(
                "write it to (a file, or a folder ending in /)",
                &proposal,
                move |app, path| {
                    let clock = Some(clock).filter(|c| *c != Clock::utc());
                    let step = DeliverStep {
                        layout: None,
                        series: vec![series],
                        out: path.into(),
                        format,
                        clock,
                        from: None,
                        to: None,
                        last: None,
                        origin,
                        stale_ok,
                    };
                    app.start(Step::Deliver(step));
                },
            )));
        }
        _ => {}
    }
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let Some(series) = &app.selected else {
        canvas.put(2, 1, "Nothing chosen to deliver.", theme::words());
        return;
    };
    let mut x = canvas.put(1, 0, &format!("{series} as  "), theme::words());
    for (i, format) in Format::ALL.iter().enumerate() {
        let style = if i == app.deliver.format { theme::chosen() } else { theme::faint() };
        x = canvas.put(x, 0, &format!(" {} ", format.word()), style) + 1;
    }
    canvas.put(x + 2, 0, &format!("times in {}", clock(app)), theme::words());
    let kept = app.deliver.done.len().min(6) as u16;
    let preview = canvas.height().saturating_sub(kept + 4);
    canvas.put(1, 1, "the first lines, exactly as they will be written", theme::faint());
    match &app.deliver.lines.value {
        None => {
            canvas.put(3, 2, "reading …", theme::faint());
        }
        Some(Err(err)) => {
            canvas.paragraph(3, &err.to_string(), theme::words().fg(theme::WRONG));
        }
        Some(Ok(lines)) => {
            for (i, line) in lines.iter().take(preview as usize).enumerate() {
                let style = if i == 0 { theme::words().fg(theme::source(1)) } else { theme::words() };
                canvas.put_right(4, i as u16 + 2, &(i + 1).to_string(), theme::rule().fg(theme::FAINT));
                canvas.put(6, i as u16 + 2, line, style);
            }
        }
    }
    let y = preview + 2;
    canvas.rule(y, theme::rule());
    if app.deliver.done.is_empty() {
        canvas.put(
            1,
            y + 1,
            "nothing delivered yet: Enter writes the file, reads it back and compares it row by row",
            theme::faint(),
        );
    }
    for (i, done) in app.deliver.done.iter().rev().take(6).enumerate() {
        let (mark, colour) =
            if done.proved { ("✓ proved", theme::GOOD) } else { ("✗ differs", theme::WRONG) };
        let x = canvas.put(1, y + 1 + i as u16, mark, theme::words().fg(colour));
        let text = format!("  {} rows  {}  {}", thousands(done.rows), bytes(done.bytes), done.path);
        canvas.put(x, y + 1 + i as u16, &text, theme::words());
    }
}

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)) else { return Vec::new() };
    let mut out = vec![
        Fact::heading(info.name.to_string()),
        Fact::Pair("rows", thousands(info.edition.rows)),
        Fact::Pair("columns", info.edition.fields.iter().map(|f| f.name()).collect::<Vec<_>>().join(" ")),
        Fact::Gap,
        Fact::heading("the other series"),
    ];
    for s in app.snapshot.series_of(app.instrument()).filter(|s| s.name != info.name) {
        out.push(Fact::words(s.name.short()));
    }
    if info.edition.fields.contains(&stavel_core::model::Field::Spread) {
        out.insert(3, Fact::words("spread in points; empty where its source does not say it"));
    }
    if let Some(why) = app.snapshot.stale(info) {
        out.insert(1, Fact::words(format!("▲ stale: {why}; build it again, or a delivers it as it is")));
    }
    out.extend([
        Fact::words("↑ ↓ choose among them"),
        Fact::Gap,
        Fact::heading("proof"),
        Fact::words("A file counts as delivered when it was read back by other code and every row and digit was the same."),
    ]);
    out
}
