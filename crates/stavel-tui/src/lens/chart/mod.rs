//! The chart: bars, a mean, volume and spread on one cursor.

mod drawn;

use std::sync::Arc;

use stavel_core::model::time::wall;
use stavel_core::model::{Micros, SeriesName, Span, Weight};
use stavel_core::store::{FactFilter, InstrumentFact, SeriesInfo};
use stavel_draw::{BarStyle, SceneRequest, drawings_on, scene};
use stavel_work::{
    ChartBars, ChartRoom, ChartSource, ChartStep, DossierStep, KeptBars, Step, bars_for_chart,
};
use strum::VariantNames;

use super::chart_view::{self, ChartScene};
use super::drawer::{DrawAct, Drawer};
use super::{FactLine, Lens, chart_facts};
use crate::act::TableRow;
use crate::canvas::{Canvas, thousands};
use crate::effect::{ChartPlace, Effect, Effects, Pointer, SecondSeries, ask, say, start};
use crate::jobs::Slot;
use crate::scene_view::{LABELS, draw_scene, price_at, price_beside, time_at};
use crate::theme;
use crate::view::{View, zoomed};
use drawn::{a_line, drawings, proposal_below};

/// The moving averages `m` goes through.
const AVERAGES: [usize; 4] = [0, 20, 50, 200];

/// Which dates `v` goes through: all, only events of some weight, none.
const DATES: [(&str, Option<Weight>); 4] = [
    ("", None),
    ("events: medium and high", Some(Weight::Medium)),
    ("events: high", Some(Weight::High)),
    ("no dates", None),
];

/// What can be done with the chart.
#[derive(Debug, Clone, Copy)]
pub enum ChartAct {
    CursorBack,
    CursorOn,
    Average,
    Beside,
    Gaps,
    Dates,
    Style,
    Ratio,
    Ranges,
    Instrument,
    Draw(DrawAct),
    Dossier,
}

/// The lens.
#[derive(Default)]
pub struct ChartLens {
    drawn: Slot<ChartScene>,
    /// Bars of a long history of ticks.
    kept: Slot<KeptBars>,
    /// The moment the cursor is at.
    cursor_at: Option<Micros>,
    /// A place among [`AVERAGES`].
    average: usize,
    /// True where time without rows is shown.
    shows_gaps: bool,
    /// A place among [`DATES`].
    dates: usize,
    style: BarStyle,
    /// True where equal heights are equal ratios.
    is_ratio: bool,
    /// True where the true range of each bar has a pane.
    has_ranges: bool,
    /// What is drawn on it, and the price of the cursor.
    drawer: Drawer,
    /// Where a drag began: the column, and the window then.
    dragged: Option<(u16, Span)>,
    /// What is laid over the series.
    beside: Option<SecondSeries>,
    asked: Option<ChartQuestion>,
}

/// A question whose answer is awaited.
#[derive(Clone)]
enum ChartQuestion {
    /// The file of the dossier of a series.
    Dossier(SeriesName),
    /// A series of any instrument.
    Beside,
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
        TableRow::new(ChartAct::Gaps, "t", "gaps", "show time without rows, or leave it out"),
        TableRow::new(
            ChartAct::Dates,
            "v",
            "dates",
            "show events, holidays and other dates: all, the weightier, none",
        ),
        TableRow::new(ChartAct::Style, "y", "", "draw bars as candles, as strokes, or as a line").rare(),
        TableRow::new(
            ChartAct::Ratio,
            "R",
            "",
            "equal heights are equal ratios of prices, or equal differences",
        )
        .rare(),
        TableRow::new(ChartAct::Ranges, "r", "", "the true range of each bar in a pane of its own").rare(),
        TableRow::new(
            ChartAct::Instrument,
            "i",
            "",
            "show a series of another instrument on the same time, below",
        )
        .rare(),
        TableRow::new(
            ChartAct::Draw(DrawAct::Kind),
            "d",
            "draw",
            "draw: a level, line, ray, box, measured range, text",
        )
        .command("stavel draw SERIES level --at 'TIME, PRICE'"),
        TableRow::new(
            ChartAct::Draw(DrawAct::Place),
            "Enter",
            "",
            "put a point of what is drawn at the cursor",
        )
        .rare(),
        TableRow::new(ChartAct::Draw(DrawAct::Choose), "n", "", "choose the next of what is drawn").rare(),
        TableRow::new(
            ChartAct::Draw(DrawAct::Move),
            "a",
            "",
            "move a point of the drawing that is chosen, or its next",
        )
        .rare(),
        TableRow::new(
            ChartAct::Draw(DrawAct::Colour),
            "c",
            "",
            "another colour for the drawing that is chosen",
        )
        .rare(),
        TableRow::new(ChartAct::Draw(DrawAct::Words), "e", "", "words beside the drawing that is chosen")
            .rare(),
        TableRow::new(ChartAct::Draw(DrawAct::Remove), "x", "", "take the drawing that is chosen away")
            .command("stavel draw SERIES --remove NUMBER")
            .rare(),
        TableRow::new(ChartAct::Dossier, "D", "", "write the dossier of the series: is it fit to test on?")
            .command("stavel dossier SERIES --out FILE")
            .rare(),
    ];

    fn act(&mut self, act: ChartAct, view: &View<'_>) -> Effects {
        match act {
            ChartAct::CursorBack => self.move_cursor(false),
            ChartAct::CursorOn => self.move_cursor(true),
            ChartAct::Average => self.average = (self.average + 1) % AVERAGES.len(),
            ChartAct::Beside => self.lay_next_over(view),
            ChartAct::Gaps => self.shows_gaps = !self.shows_gaps,
            ChartAct::Dates => self.dates = (self.dates + 1) % DATES.len(),
            ChartAct::Style => {
                let all = BarStyle::VARIANTS;
                let at = all.iter().position(|style| *style == self.style.to_string()).unwrap_or(0);
                self.style = all[(at + 1) % all.len()].parse().unwrap_or_default();
                return say(format!("bars as {}", self.style));
            }
            ChartAct::Ratio => {
                self.is_ratio = !self.is_ratio;
                let equal = if self.is_ratio { "ratios" } else { "differences" };
                return say(format!("equal heights are equal {equal} of prices"));
            }
            ChartAct::Ranges => self.has_ranges = !self.has_ranges,
            ChartAct::Instrument => {
                self.asked = Some(ChartQuestion::Beside);
                return ask(
                    "series below, of any instrument (INSTRUMENT@SOURCE:FRAME)",
                    proposal_below(view),
                );
            }
            ChartAct::Draw(act) => return self.draw_act(act, view),
            ChartAct::Dossier => {
                let Some(series) = view.selected.cloned() else { return say("nothing is chosen") };
                let proposal = format!("{}_{}_dossier.html", series.instrument, series.source);
                self.asked = Some(ChartQuestion::Dossier(series));
                return ask("write the dossier to (.html or .pdf)", proposal);
            }
        }
        Effects::new()
    }

    fn answer(&mut self, text: &str, view: &View<'_>) -> Effects {
        if let Some(effects) = self.drawer.answer(text) {
            return effects;
        }
        match self.asked.clone() {
            Some(ChartQuestion::Dossier(series)) => {
                start(Step::Dossier(DossierStep { series, out: text.into() }))
            }
            Some(ChartQuestion::Beside) => self.lay_below(text, view),
            None => Effects::new(),
        }
    }

    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        if !self.drawer.is_at_work() {
            return vec![Effect::NextSeries { back: !down }];
        }
        let height = view.size.1.saturating_sub(ABOVE);
        if let (Some(drawn), Some(at)) = (self.drawn.get(), self.drawn_point()) {
            self.drawer.put_price(price_beside(&drawn.scene, at.price, down, height));
        }
        Effects::new()
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

    fn pointed(&mut self, pointer: Pointer, size: (u16, u16), view: &View<'_>) -> Option<Effects> {
        let (width, height) = (size.0, size.1.saturating_sub(ABOVE));
        let drawn = self.drawn.get()?;
        let time = |x: u16| time_at(&drawn.scene, x, width);
        match pointer {
            Pointer::Press(x, y) => {
                let price = y.checked_sub(ABOVE).and_then(|line| price_at(&drawn.scene, line, height));
                self.cursor_at = time(x).or(self.cursor_at);
                self.drawer.put_price(price);
                if self.drawer.is_at_work() {
                    // Below the bars there is no price to draw at.
                    return Some(match price {
                        Some(_) => self.draw_act(DrawAct::Place, view),
                        None => Effects::new(),
                    });
                }
                let (reach, times) = (a_line(&drawn.scene, height), drawn.scene.times.clone());
                let at = self.drawn_point().filter(|_| price.is_some());
                let is_taken = at.is_some_and(|at| self.drawer.grab(at, reach, &times, &drawings(view)));
                self.dragged = (!is_taken).then_some((x, view.window));
                Some(Effects::new())
            }
            Pointer::Drag(x, y) if self.drawer.is_dragging() => {
                let price = y.checked_sub(ABOVE).and_then(|line| price_at(&drawn.scene, line, height));
                self.cursor_at = time(x).or(self.cursor_at);
                self.drawer.put_price(price.or(self.drawer.price()));
                Some(Effects::new())
            }
            Pointer::Release(..) => {
                self.dragged = None;
                match self.drawer.is_dragging() {
                    true => Some(self.released(view)),
                    false => None,
                }
            }
            Pointer::Drag(x, _) => {
                let (from, window) = self.dragged?;
                let columns = i64::from(width.saturating_sub(LABELS).max(1));
                let by = (i64::from(from) - i64::from(x)) * window.length() / columns;
                Some(vec![Effect::Window(Span::new(window.from + by, window.to + by))])
            }
            Pointer::WheelUp(x, _) => Some(vec![Effect::Window(zoomed(view.window, time(x)?, 0.8))]),
            Pointer::WheelDown(x, _) => Some(vec![Effect::Window(zoomed(view.window, time(x)?, 1.25))]),
        }
    }

    fn let_go(&mut self) -> bool {
        self.dragged = None;
        self.drawer.let_go() || self.beside.take().is_some()
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.kept.collect();
        self.drawn.collect();
        Effects::new()
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        let Some(info) = view.series().cloned() else { return Effects::new() };
        let beside = self.beside.as_ref().filter(|b| b.series != info.name);
        let is_beside = beside.is_some_and(|b| b.series.instrument != info.name.instrument);
        let beside = beside.and_then(|b| Some((view.snapshot.find(&b.series)?.clone(), b.by.clone())));
        // A clock is for a series that is afloat; it may have been anchored since.
        let beside = beside.map(|(series, by)| (by.filter(|_| series.is_afloat()), series));
        let (window, columns, average) = (view.window, room(view), AVERAGES[self.average]);
        let (clock, gaps) = (view.clock(), self.shows_gaps);
        let (style, is_log, has_ranges) = (self.style, self.is_ratio, self.has_ranges);
        let key = format!(
            "{} {window:?} {columns} {average} {gaps} {style} {is_log} {has_ranges} {:?}",
            info.edition.id,
            beside.as_ref().map(|(by, b)| (b.edition.id, by))
        );
        let source = view.snapshot.quick_source(&info, window, columns).clone();
        let Some(kept) = self.kept_of(&source, view) else { return Effects::new() };
        self.drawn.want(key, view.threads, move |shelf, job| {
            let room = if gaps { ChartRoom::ColumnsOfTime(columns) } else { ChartRoom::Columns(columns) };
            let from = ChartSource { series: &source, kept: kept.as_deref() };
            let ChartBars { frame, bars, lead } = bars_for_chart(shelf, from, window, room, average, job)?;
            let frame = frame.unwrap_or(info.name.frame);
            let like = ChartRoom::Frame(frame);
            let other = match &beside {
                Some((Some((clock, back)), series)) => {
                    let written = Span::new(clock.to_wall(window.from), clock.to_wall(window.to));
                    let mut rows =
                        bars_for_chart(shelf, ChartSource::rows(series), written, like, 0, job)?.bars;
                    rows.time.iter_mut().for_each(|t| *t = clock.from_wall(*t).settle() - back);
                    Some((format!("{} by {clock}", series.name.short()), rows))
                }
                Some((None, series)) => Some((
                    if is_beside { series.name.to_string() } else { series.name.short() },
                    bars_for_chart(shelf, ChartSource::rows(series), window, like, 0, job)?.bars,
                )),
                None => None,
            };
            let request = SceneRequest {
                title: info.name.to_string(),
                bars: &bars,
                with: other.as_ref().map(|(n, c)| (n.clone(), c)),
                is_beside,
                style,
                is_log,
                has_ranges,
                average: Some(average),
                lead,
                gaps: gaps.then(|| frame.length()),
                ..SceneRequest::of(&bars, &clock)
            };
            let scene = scene(&request);
            let (series, is_afloat) = (info.name.clone(), info.is_afloat());
            Ok(ChartScene { frame, scene, series, is_afloat, bars: bars.rows(lead..bars.len()) })
        });
        Effects::new()
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        Some(ChartStep {
            style: self.style,
            ratio: self.is_ratio,
            ranges: self.has_ranges,
            with: self.beside.as_ref().map(|b| b.series.clone()),
            from: Some(wall(view.window.from)),
            to: Some(wall(view.window.to)),
            ma: Some(AVERAGES[self.average]).filter(|n| *n > 0),
            plain: self.dates + 1 == DATES.len(),
            weight: DATES[self.dates].1,
            ..ChartStep::of(view.selected.cloned()?, Default::default())
        })
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        match &self.drawn.value {
            None => {
                let words = match (self.progress_in_words(), view.selected) {
                    (Some(words), _) => words,
                    (None, Some(_)) => "reading …".to_owned(),
                    (None, None) => "nothing chosen".to_owned(),
                };
                canvas.put(2, 1, &words, theme::faint());
            }
            Some(Err(err)) => {
                canvas.paragraph(1, &err.to_string(), theme::words().fg(theme::WRONG));
            }
            Some(Ok(drawn)) if drawn.bars.is_empty() => {
                canvas.put(2, 1, "no rows in this window", theme::words());
                canvas.put(2, 2, "0 shows the whole history, - zooms out", theme::faint());
            }
            Some(Ok(drawn)) => {
                self.draw_chart(drawn, view, &mut canvas);
                if let Some(words) = self.progress_in_words() {
                    canvas.put_right(canvas.width().saturating_sub(1), 0, &words, theme::faint());
                }
            }
        }
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        match (self.drawn.get(), self.bar_at_cursor()) {
            (Some(drawn), Some(at)) => {
                let mut out = chart_facts::facts(drawn, at, &self.dates_of(drawn, view), view);
                if let Some(point) = self.drawn_point() {
                    out.extend(self.drawer.facts(&drawings(view), point, drawn.bars.scale.price.into()));
                }
                out
            }
            _ => Vec::new(),
        }
    }
}

/// Bars that fit beside the labels and facts.
fn room(view: &View<'_>) -> usize {
    view.size.0.saturating_sub(view.facts_width() + LABELS + 1).max(20) as usize
}

impl ChartLens {
    /// The dates that are shown: those of the window, where its clock is known.
    fn dates_of<'v>(&self, drawn: &ChartScene, view: &View<'v>) -> Vec<&'v InstrumentFact> {
        if drawn.is_afloat || self.dates + 1 == DATES.len() {
            return Vec::new();
        }
        let filter =
            FactFilter { weight: DATES[self.dates].1, span: Some(view.window), ..FactFilter::default() };
        view.snapshot.facts_about(&drawn.series.instrument, &filter)
    }

    /// The bars kept of a series, where a chart of the window pays for them; nothing while they are still being read.
    fn kept_of(&mut self, source: &SeriesInfo, view: &View<'_>) -> Option<Option<Arc<KeptBars>>> {
        let key = source.edition.id.to_string();
        let is_kept = self.kept.is_for(&key);
        if !is_kept && !KeptBars::pay_for(source, view.window) {
            return Some(None);
        }
        let series = source.clone();
        self.kept.want(key, view.threads, move |shelf, job| KeptBars::read(shelf, &series, job));
        // Where they cannot be read, neither can the rows: that is told when the chart is read.
        is_kept.then(|| self.kept.get().cloned())
    }

    /// How far the reading of a long history is.
    fn progress_in_words(&self) -> Option<String> {
        let (done, total) = self.kept.progress().filter(|(_, total)| *total > 0)?;
        Some(format!("reading … {} of {} rows", thousands(done), thousands(total)))
    }

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
            if !self.drawer.is_at_work() {
                self.drawer.put_price(None);
            }
        }
    }

    /// Draws the chart with its title above it.
    fn draw_chart(&self, drawn: &ChartScene, view: &View<'_>, canvas: &mut Canvas<'_>) {
        let cursor = self.bar_at_cursor();
        if view.facts_width() > 0 {
            let x = chart_view::title(drawn, self.shows_gaps, canvas);
            canvas.put(x + 2, 0, DATES[self.dates].0, theme::faint());
        } else if let Some(at) = cursor {
            chart_view::bar_line(drawn, at, &view.clock(), canvas);
        }
        let mut marks = chart_view::marks_of(drawn, cursor, self.drawer.price(), &view.clock());
        if let Some(at) = self.drawn_point() {
            let shown = self.drawer.shown(&drawings(view), at);
            marks.drawings = drawings_on(&drawn.scene.times, drawn.bars.scale.price.into(), &shown);
        }
        let (width, height) = (canvas.width(), canvas.height());
        draw_scene(&drawn.scene, &marks, canvas.part(0, ABOVE, width, height.saturating_sub(ABOVE)));
        chart_view::above(view, drawn, &self.dates_of(drawn, view), canvas.part(0, 1, width, 1));
    }
}

/// Lines above the bars: the title, and marks of findings, seams and events.
const ABOVE: u16 = 2;
