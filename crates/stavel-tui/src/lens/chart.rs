//! The chart: bars, a mean, volume and spread on one cursor.

use stavel_core::check::Kind;
use stavel_core::model::columns::{CARRIED_SPREAD, FILLED, SHEET_SPREAD, is_filled};
use stavel_core::model::price::scaled;
use stavel_core::model::time::wall;
use stavel_core::model::{BarView, Clock, Columns, Field, Frame, Made, Micros, SeriesName, Span, present};
use stavel_draw::{Layer, Scene, SceneRequest, scene};
use stavel_work::bars_for_chart;
use stavel_work::{ChartStep, Step};

use super::Fact;
use crate::act::Act;
use crate::app::App;
use crate::canvas::{Canvas, thousands};
use crate::jobs::Slot;
use crate::overlay::{Overlay, Prompt};
use crate::scene_view::{LABELS, Slots, draw_scene, line_colour};
use crate::theme;

/// The moving averages `m` goes through.
const AVERAGES: [usize; 4] = [0, 20, 50, 200];

/// Bars to draw, and the scene made of them.
pub struct Drawn {
    pub frame: Frame,
    pub bars: Columns,
    pub scene: Scene,
    pub series: SeriesName,
}

#[derive(Default)]
pub struct State {
    pub drawn: Slot<Drawn>,
    /// The moment the cursor is at.
    pub cursor_at: Option<Micros>,
    average: usize,
    pub overlay: Option<SeriesName>,
    /// The clock an afloat series is laid over by, and what its bars are moved back by.
    pub overlay_clock: Option<(Clock, Micros)>,
}

impl State {
    /// Place of the bar under the cursor.
    fn cursor(&self) -> Option<usize> {
        let drawn = self.drawn.get()?;
        let last = drawn.bars.len().checked_sub(1)?;
        let at = self.cursor_at.unwrap_or(Micros::MAX);
        Some(drawn.bars.time.partition_point(|t| *t <= at).saturating_sub(1).min(last))
    }

    /// Time of the bar under the cursor, where a person put it there.
    pub fn cursor_time(&self) -> Option<Micros> {
        self.cursor_at
    }
}

/// Bars that fit beside the labels and facts.
fn room(app: &App) -> usize {
    let facts = crate::view::facts_width(app.size.0);
    app.size.0.saturating_sub(facts + LABELS + 1).max(20) as usize
}

pub fn want(app: &mut App) {
    let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)).cloned() else { return };
    let overlay = app.chart.overlay.as_ref().and_then(|s| app.snapshot.find(s)).cloned();
    let overlay = overlay.filter(|o| o.name.instrument == info.name.instrument && o.name != info.name);
    let by = app.chart.overlay_clock.clone().filter(|_| overlay.as_ref().is_some_and(|o| o.is_afloat()));
    let (window, most, average) = (app.window, room(app), AVERAGES[app.chart.average]);
    let clock = app
        .snapshot
        .instrument(&info.name.instrument)
        .map_or_else(Clock::utc, |i| i.sheet.session.clock.clone());
    let key = format!(
        "{} {window:?} {most} {average} {:?} {by:?}",
        info.edition.id,
        overlay.as_ref().map(|o| o.edition.id)
    );
    app.chart.drawn.want(
        key,
        &app.threads,
        |app| Some(&mut app.chart.drawn),
        move |shelf, job| {
            let (frame, bars) = bars_for_chart(shelf, &info, window, most, job)?;
            let other = match (&overlay, &by) {
                (Some(o), Some((clock, back))) => {
                    let written = Span::new(clock.to_wall(window.from), clock.to_wall(window.to));
                    let (_, mut rows) = bars_for_chart(shelf, o, written, most, job)?;
                    rows.time.iter_mut().for_each(|t| *t = clock.from_wall(*t).settle() - back);
                    Some((format!("{} by {clock}", o.name.short()), rows))
                }
                (Some(o), None) => {
                    let (_, rows) = bars_for_chart(shelf, o, window, most, job)?;
                    Some((o.name.short(), rows))
                }
                (None, _) => None,
            };
            let request = SceneRequest {
                title: info.name.to_string(),
                bars: &bars,
                with: other.as_ref().map(|(n, c)| (n.clone(), c)),
                average: Some(average),
                clock: &clock,
            };
            Ok(Drawn { frame, scene: scene(&request), series: info.name.clone(), bars })
        },
    );
}

pub fn act(app: &mut App, act: Act) {
    match act {
        Act::CursorLeft | Act::CursorRight => move_cursor(app, act == Act::CursorRight),
        Act::Average => app.chart.average = (app.chart.average + 1) % AVERAGES.len(),
        Act::Overlay => {
            let others: Vec<SeriesName> = app
                .snapshot
                .series_of(app.instrument())
                .filter(|s| Some(&s.name) != app.selected.as_ref() && !s.is_afloat())
                .map(|s| s.name.clone())
                .collect();
            let at = others.iter().position(|o| Some(o) == app.chart.overlay.as_ref());
            app.chart.overlay_clock = None;
            app.chart.overlay = match at {
                None => others.first().cloned(),
                Some(at) => others.get(at + 1).cloned(),
            };
        }
        Act::SaveChart => save(app),
        Act::Up | Act::Down => app.act(if act == Act::Up { Act::PreviousSeries } else { Act::NextSeries }),
        _ => {}
    }
}

fn move_cursor(app: &mut App, right: bool) {
    let Some(at) = app.chart.cursor() else { return };
    if let Some(drawn) = app.chart.drawn.get() {
        let to = if right { (at + 1).min(drawn.bars.len() - 1) } else { at.saturating_sub(1) };
        app.chart.cursor_at = Some(drawn.bars.time[to]);
    }
}

fn save(app: &mut App) {
    let Some(series) = app.selected.clone() else { return };
    let (window, average) = (app.window, AVERAGES[app.chart.average]);
    let with = app.chart.overlay.clone();
    let proposal = format!("{}_{}.svg", series.instrument, series.source);
    let prompt = Prompt::new("write the chart to (.svg or .pdf)", &proposal, move |app, path| {
        app.start(Step::Chart(ChartStep {
            series,
            with,
            from: Some(wall(window.from)),
            to: Some(wall(window.to)),
            ma: Some(average).filter(|n| *n > 0),
            out: path.into(),
        }));
    });
    app.overlay = Some(Overlay::Prompt(prompt));
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    match &app.chart.drawn.value {
        None => {
            canvas.put(
                2,
                1,
                if app.selected.is_some() { "reading …" } else { "nothing chosen" },
                theme::faint(),
            );
        }
        Some(Err(err)) => {
            canvas.paragraph(1, &err.to_string(), theme::words().fg(theme::WRONG));
        }
        Some(Ok(drawn)) if drawn.bars.is_empty() => {
            canvas.put(2, 1, "no rows in this window", theme::words());
            canvas.put(2, 2, "0 shows the whole history, - zooms out", theme::faint());
        }
        Some(Ok(drawn)) => {
            let title = format!("{}  bars of {}", drawn.scene.title, drawn.frame);
            let x = canvas.put(1, 0, &title, theme::words());
            if crate::view::facts_width(app.size.0) > 0 {
                legend(&drawn.scene, &mut canvas, x + 3);
            } else if let Some(at) = app.chart.cursor() {
                // Without room for facts the bar under the cursor is told here.
                let value = |f: Field| {
                    let cell = drawn.bars.cells(f).get(at);
                    cell.map_or("–".to_owned(), |v| scaled(v, drawn.bars.scale.price))
                };
                let words = format!(
                    "{}  O {} H {} L {} C {}",
                    wall(drawn.bars.time[at]),
                    value(Field::Open),
                    value(Field::High),
                    value(Field::Low),
                    value(Field::Close)
                );
                canvas.put(0, 0, &format!("{words:<80}"), theme::words());
            }
            let (width, height) = (canvas.width(), canvas.height());
            let cursor = app.chart.cursor();
            draw_scene(&drawn.scene, cursor, canvas.part(0, 2, width, height.saturating_sub(2)));
            draw_marks(app, drawn, canvas.part(0, 1, width, 1));
        }
    }
}

/// What check found in this series and where its sources meet, above the bars.
fn draw_marks(app: &App, drawn: &Drawn, mut canvas: Canvas<'_>) {
    let slots = Slots::of(&drawn.scene, canvas.width());
    let end = drawn.bars.time.last().map_or(0, |t| t + drawn.frame.length());
    let mut mark = |from: Micros, to: Micros, mark: &str, colour| {
        let slot = drawn.bars.time.partition_point(|t| *t <= from).saturating_sub(1).max(slots.first);
        if to > drawn.bars.time[slots.first] && from < end {
            canvas.put(slots.middle(slot), 0, mark, theme::words().fg(colour));
        }
    };
    let found = app.check.found_in(app, &drawn.series).into_iter().flat_map(|r| &r.findings);
    let mut found: Vec<_> = found.filter(|f| f.kind != Kind::ClosedMarket).collect();
    // The worst is drawn last, so that it is the one seen.
    found.sort_by_key(|f| f.kind.severity());
    for f in found {
        let (shape, colour) = theme::severity(f.kind.severity());
        mark(f.span.from, f.span.to, shape, colour);
    }
    if let Some(Made::Splice(joining)) = app.snapshot.find(&drawn.series).map(|s| &s.edition.provenance.made)
    {
        joining.seams.iter().for_each(|at| mark(*at, at + 1, "┃", theme::CHOSEN));
    }
}

fn legend(scene: &Scene, canvas: &mut Canvas<'_>, mut x: u16) {
    let lines = scene.panes.iter().flat_map(|p| &p.layers).filter_map(|l| match l {
        Layer::Line { name, .. } => Some(name),
        _ => None,
    });
    for (i, name) in lines.enumerate() {
        x = canvas.put(x, 0, &format!("• {name}"), theme::words().fg(line_colour(i))) + 2;
    }
}

/// What the origin of a row says, in words.
fn origin_in_words(origin: i64) -> String {
    let mut words = match origin % FILLED {
        0 => vec!["as its source has it".to_owned()],
        place => vec![format!("source {place} of the splice")],
    };
    if is_filled(origin) {
        words.push("filled".into());
    }
    match origin / CARRIED_SPREAD * CARRIED_SPREAD {
        CARRIED_SPREAD => words.push("spread carried over".into()),
        SHEET_SPREAD => words.push("spread of the sheet".into()),
        _ => {}
    }
    words.join(", ")
}

/// A bar's values as facts.
pub fn bar_facts(bars: &Columns, at: usize) -> Vec<Fact> {
    let mut out = Vec::new();
    for (field, column) in bars.fields.iter().zip(&bars.data) {
        let value = match (field, present(column[at])) {
            (_, None) => "not known".to_owned(),
            (Field::Spread, Some(v)) => format!("{v} points"),
            (Field::Origin, Some(v)) => origin_in_words(v),
            (_, Some(v)) => scaled(v, bars.scale.of(*field)),
        };
        out.push(Fact::Pair(field.name(), value));
    }
    out
}

pub fn facts(app: &App) -> Vec<Fact> {
    let (Some(drawn), Some(at)) = (app.chart.drawn.get(), app.chart.cursor()) else { return Vec::new() };
    let instrument = app.snapshot.instrument(&drawn.series.instrument);
    let clock = instrument.map_or_else(Clock::utc, |i| i.sheet.session.clock.clone());
    let time = drawn.bars.time[at];
    let afloat = app.snapshot.find(&drawn.series).is_some_and(|s| s.is_afloat());
    let mut out = vec![Fact::heading(format!("bar of {}", drawn.frame))];
    if afloat {
        out.push(Fact::Pair("written", wall(time)));
    } else {
        out.push(Fact::Pair("UTC", wall(time)));
        out.push(Fact::Pair("wall", wall(clock.to_wall(time))));
    }
    out.extend(bar_facts(&drawn.bars, at));
    out.push(Fact::Gap);
    out.push(Fact::heading("window"));
    let decimals = drawn.bars.scale.price;
    let view = BarView::new(&drawn.bars);
    let bars = || (0..view.len()).filter_map(|i| view.bar(i));
    let highest = bars().map(|b| b.high).max().map(|v| scaled(v, decimals));
    let lowest = bars().map(|b| b.low).min().map(|v| scaled(v, decimals));
    out.push(Fact::Pair("bars", thousands(drawn.bars.len() as u64)));
    out.extend(highest.map(|v| Fact::Pair("highest", v)));
    out.extend(lowest.map(|v| Fact::Pair("lowest", v)));
    if !afloat {
        out.push(Fact::Gap);
        out.push(Fact::words(format!("labels in {clock}: {}", clock.in_words())));
    }
    out
}
