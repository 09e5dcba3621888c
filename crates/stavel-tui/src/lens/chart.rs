//! The chart: bars, a mean, volume and spread on one cursor.

use stavel_core::check::FindingKind;
use stavel_core::model::columns::{CARRIED_SPREAD, FILLED, SHEET_SPREAD, is_filled};
use stavel_core::model::price::scaled;
use stavel_core::model::time::wall;
use stavel_core::model::{BarView, Clock, Columns, Field, Frame, Made, Micros, SeriesName, Span, present};
use stavel_draw::{Layer, Scene, SceneRequest, scene};
use stavel_work::{ChartStep, Step, bars_for_chart};

use super::{FactLine, Lens};
use crate::act::TableRow;
use crate::canvas::{Canvas, thousands};
use crate::effect::{ChartPlace, Effects, SecondSeries, ask, say, start};
use crate::jobs::Slot;
use crate::scene_view::{ColumnSlots, LABELS, draw_scene, line_colour};
use crate::theme;
use crate::view::View;

/// The moving averages `m` goes through.
const AVERAGES: [usize; 4] = [0, 20, 50, 200];

/// What can be done with the chart.
#[derive(Debug, Clone, Copy)]
pub enum ChartAct {
    CursorBack,
    CursorOn,
    Average,
    Beside,
    Save,
}

/// Bars to draw, and the scene made of them.
struct ChartScene {
    frame: Frame,
    bars: Columns,
    scene: Scene,
    series: SeriesName,
}

/// The lens.
#[derive(Default)]
pub struct ChartLens {
    drawn: Slot<ChartScene>,
    /// The moment the cursor is at.
    cursor_at: Option<Micros>,
    /// A place among [`AVERAGES`].
    average: usize,
    /// What is laid over the series.
    beside: Option<SecondSeries>,
    /// The chart that a file name is asked for.
    saving: Option<ChartStep>,
}

impl Lens for ChartLens {
    type Act = ChartAct;
    const WORD: &'static str = "chart";
    const ABOUT: &'static str = "the chart: look";
    const ROWS: &'static [TableRow<ChartAct>] = &[
        TableRow::new(ChartAct::CursorBack, ",", "", "move the cursor a bar back"),
        TableRow::new(ChartAct::CursorOn, ".", "cursor", "move the cursor a bar on"),
        TableRow::new(ChartAct::Average, "m", "mean", "another moving average, or none"),
        TableRow::new(ChartAct::Beside, "o", "overlay", "lay another series of the instrument over it"),
        TableRow::new(ChartAct::Save, "w", "save svg", "write the chart of the window to an SVG or PDF file")
            .command("stavel chart SERIES --out FILE"),
    ];

    fn act(&mut self, act: ChartAct, view: &View<'_>) -> Effects {
        match act {
            ChartAct::CursorBack => self.move_cursor(false),
            ChartAct::CursorOn => self.move_cursor(true),
            ChartAct::Average => self.average = (self.average + 1) % AVERAGES.len(),
            ChartAct::Beside => self.lay_next_over(view),
            ChartAct::Save => return self.ask_where_to_save(view),
        }
        Effects::new()
    }

    fn answer(&mut self, path: &str, _view: &View<'_>) -> Effects {
        let saving = self.saving.take();
        saving.map_or_else(Effects::new, |step| start(Step::Chart(ChartStep { out: path.into(), ..step })))
    }

    fn place_shown(&mut self, place: &ChartPlace) {
        self.cursor_at = Some(place.at);
        if place.beside.is_some() {
            self.beside.clone_from(&place.beside);
        }
    }

    fn cursor(&self) -> Option<Micros> {
        self.cursor_at
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.drawn.collect();
        Effects::new()
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        let Some(info) = view.series().cloned() else { return Effects::new() };
        let beside = self
            .beside
            .as_ref()
            .filter(|b| b.series.instrument == info.name.instrument && b.series != info.name);
        let beside = beside.and_then(|b| Some((view.snapshot.find(&b.series)?.clone(), b.by.clone())));
        // A clock is for a series that is afloat; it may have been anchored since.
        let beside = beside.map(|(series, by)| (by.filter(|_| series.is_afloat()), series));
        let (window, most, average) = (view.window, room(view), AVERAGES[self.average]);
        let clock = view.instrument().map_or_else(Clock::utc, |i| i.sheet.session.clock.clone());
        let key = format!(
            "{} {window:?} {most} {average} {:?}",
            info.edition.id,
            beside.as_ref().map(|(by, b)| (b.edition.id, by))
        );
        self.drawn.want(key, view.threads, move |shelf, job| {
            let (frame, bars) = bars_for_chart(shelf, &info, window, most, job)?;
            let other = match &beside {
                Some((Some((clock, back)), series)) => {
                    let written = Span::new(clock.to_wall(window.from), clock.to_wall(window.to));
                    let (_, mut rows) = bars_for_chart(shelf, series, written, most, job)?;
                    rows.time.iter_mut().for_each(|t| *t = clock.from_wall(*t).settle() - back);
                    Some((format!("{} by {clock}", series.name.short()), rows))
                }
                Some((None, series)) => {
                    let (_, rows) = bars_for_chart(shelf, series, window, most, job)?;
                    Some((series.name.short(), rows))
                }
                None => None,
            };
            let request = SceneRequest {
                title: info.name.to_string(),
                bars: &bars,
                with: other.as_ref().map(|(n, c)| (n.clone(), c)),
                average: Some(average),
                clock: &clock,
            };
            Ok(ChartScene { frame, scene: scene(&request), series: info.name.clone(), bars })
        });
        Effects::new()
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        match &self.drawn.value {
            None => {
                let words = if view.selected.is_some() { "reading …" } else { "nothing chosen" };
                canvas.put(2, 1, words, theme::faint());
            }
            Some(Err(err)) => {
                canvas.paragraph(1, &err.to_string(), theme::words().fg(theme::WRONG));
            }
            Some(Ok(drawn)) if drawn.bars.is_empty() => {
                canvas.put(2, 1, "no rows in this window", theme::words());
                canvas.put(2, 2, "0 shows the whole history, - zooms out", theme::faint());
            }
            Some(Ok(drawn)) => self.draw_bars(drawn, view, &mut canvas),
        }
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        match (self.drawn.get(), self.bar_at_cursor()) {
            (Some(drawn), Some(at)) => facts_of(drawn, at, view),
            _ => Vec::new(),
        }
    }
}

/// Bars that fit beside the labels and facts.
fn room(view: &View<'_>) -> usize {
    view.size.0.saturating_sub(view.facts_width() + LABELS + 1).max(20) as usize
}

impl ChartLens {
    /// Place of the bar under the cursor.
    fn bar_at_cursor(&self) -> Option<usize> {
        let drawn = self.drawn.get()?;
        let last = drawn.bars.len().checked_sub(1)?;
        let at = self.cursor_at.unwrap_or(Micros::MAX);
        Some(drawn.bars.time.partition_point(|t| *t <= at).saturating_sub(1).min(last))
    }

    fn move_cursor(&mut self, on: bool) {
        let Some(at) = self.bar_at_cursor() else { return };
        if let Some(drawn) = self.drawn.get() {
            let to = if on { (at + 1).min(drawn.bars.len() - 1) } else { at.saturating_sub(1) };
            self.cursor_at = Some(drawn.bars.time[to]);
        }
    }

    /// Lays the next of the other series of the instrument over it; after the last, none.
    fn lay_next_over(&mut self, view: &View<'_>) {
        let others: Vec<&SeriesName> = view
            .snapshot
            .series_of(view.instrument_name())
            .filter(|s| Some(&s.name) != view.selected && !s.is_afloat())
            .map(|s| &s.name)
            .collect();
        let at = others.iter().position(|o| Some(*o) == self.beside.as_ref().map(|b| &b.series));
        let next = others.get(at.map_or(0, |at| at + 1));
        self.beside = next.map(|series| SecondSeries { series: (*series).clone(), by: None });
    }

    fn ask_where_to_save(&mut self, view: &View<'_>) -> Effects {
        let Some(series) = view.selected.cloned() else { return say("nothing is chosen to draw") };
        let proposal = format!("{}_{}.svg", series.instrument, series.source);
        self.saving = Some(ChartStep {
            series,
            with: self.beside.as_ref().map(|b| b.series.clone()),
            from: Some(wall(view.window.from)),
            to: Some(wall(view.window.to)),
            ma: Some(AVERAGES[self.average]).filter(|n| *n > 0),
            out: Default::default(),
        });
        ask("write the chart to (.svg or .pdf)", proposal)
    }

    fn draw_bars(&self, drawn: &ChartScene, view: &View<'_>, canvas: &mut Canvas<'_>) {
        let title = format!("{}  bars of {}", drawn.scene.title, drawn.frame);
        let x = canvas.put(1, 0, &title, theme::words());
        let cursor = self.bar_at_cursor();
        if view.facts_width() > 0 {
            legend(&drawn.scene, canvas, x + 3);
        } else if let Some(at) = cursor {
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
        draw_scene(&drawn.scene, cursor, canvas.part(0, 2, width, height.saturating_sub(2)));
        draw_marks(view, drawn, canvas.part(0, 1, width, 1));
    }
}

/// What check found in this series and where its sources meet, above the bars.
fn draw_marks(view: &View<'_>, drawn: &ChartScene, mut canvas: Canvas<'_>) {
    let slots = ColumnSlots::of(&drawn.scene, canvas.width());
    let end = drawn.bars.time.last().map_or(0, |t| t + drawn.frame.length());
    let mut mark = |from: Micros, to: Micros, mark: &str, colour| {
        let slot = drawn.bars.time.partition_point(|t| *t <= from).saturating_sub(1).max(slots.first);
        if to > drawn.bars.time[slots.first] && from < end {
            canvas.put(slots.middle(slot), 0, mark, theme::words().fg(colour));
        }
    };
    let info = view.snapshot.find(&drawn.series);
    let found = view.found.filter(|f| info.is_some_and(|info| info.edition.id == f.edition));
    let found = found.into_iter().flat_map(|f| &f.report.findings);
    let mut found: Vec<_> = found.filter(|f| f.kind != FindingKind::ClosedMarket).collect();
    // The worst is drawn last, so that it is the one seen.
    found.sort_by_key(|f| f.kind.severity());
    for f in found {
        let (shape, colour) = theme::severity(f.kind.severity());
        mark(f.span.from, f.span.to, shape, colour);
    }
    if let Some(Made::Splice(joining)) = info.map(|s| &s.edition.provenance.made) {
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
fn bar_facts(bars: &Columns, at: usize) -> Vec<FactLine> {
    let mut out = Vec::new();
    for (field, column) in bars.fields.iter().zip(&bars.data) {
        let value = match (field, present(column[at])) {
            (_, None) => "not known".to_owned(),
            (Field::Spread, Some(v)) => format!("{v} points"),
            (Field::Origin, Some(v)) => origin_in_words(v),
            (_, Some(v)) => scaled(v, bars.scale.of(*field)),
        };
        out.push(FactLine::Pair(field.name(), value));
    }
    out
}

fn facts_of(drawn: &ChartScene, at: usize, view: &View<'_>) -> Vec<FactLine> {
    let instrument = view.snapshot.instrument(&drawn.series.instrument);
    let clock = instrument.map_or_else(Clock::utc, |i| i.sheet.session.clock.clone());
    let time = drawn.bars.time[at];
    let afloat = view.snapshot.find(&drawn.series).is_some_and(stavel_core::store::SeriesInfo::is_afloat);
    let mut out = vec![FactLine::heading(format!("bar of {}", drawn.frame))];
    if afloat {
        out.push(FactLine::Pair("written", wall(time)));
    } else {
        out.push(FactLine::Pair("UTC", wall(time)));
        out.push(FactLine::Pair("wall", wall(clock.to_wall(time))));
    }
    out.extend(bar_facts(&drawn.bars, at));
    out.push(FactLine::Gap);
    out.push(FactLine::heading("window"));
    let decimals = drawn.bars.scale.price;
    let view = BarView::new(&drawn.bars);
    let bars = || (0..view.len()).filter_map(|i| view.bar(i));
    let highest = bars().map(|b| b.high).max().map(|v| scaled(v, decimals));
    let lowest = bars().map(|b| b.low).min().map(|v| scaled(v, decimals));
    out.push(FactLine::Pair("bars", thousands(drawn.bars.len() as u64)));
    out.extend(highest.map(|v| FactLine::Pair("highest", v)));
    out.extend(lowest.map(|v| FactLine::Pair("lowest", v)));
    if !afloat {
        out.push(FactLine::Gap);
        out.push(FactLine::words(format!("labels in {clock}: {}", clock.in_words())));
    }
    out
}
