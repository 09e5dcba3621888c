//! What stands on the bars of the chart beside them: drawings, and a second series over or below.

use stavel_core::model::price::as_float;
use stavel_core::model::{BarView, DrawnPoint, SeriesName};
use stavel_core::store::SeriesInfo;
use stavel_draw::{Pane, Scene};
use stavel_work::PlacedDrawing;

use super::ChartLens;
use crate::effect::{Effect, Effects, SecondSeries, say, warn};
use crate::lens::drawer::{DrawAct, DrawPlace};
use crate::view::View;

impl ChartLens {
    /// The bar under the cursor and its price.
    pub(super) fn drawn_point(&self) -> Option<DrawnPoint> {
        let (drawn, at) = (self.drawn.get()?, self.bar_at_cursor()?);
        let close = || Some(as_float(BarView::new(&drawn.bars).bar(at)?.close, drawn.bars.scale.price));
        Some(DrawnPoint { time: drawn.bars.time[at], price: self.drawer.price().or_else(close)? })
    }

    pub(super) fn draw_act(&mut self, act: DrawAct, view: &View<'_>) -> Effects {
        let (Some(at), Some(drawn)) = (self.drawn_point(), self.drawn.get()) else {
            return say("there is no bar to draw on");
        };
        let (series, drawings) = (drawn.series.clone(), drawings(view));
        self.drawer.act(act, &DrawPlace { series: &series, at, drawings: &drawings, rehearsed: None })
    }

    /// The button was let go: a point that was moved or drawn is put there. A click alone leaves the first point of two.
    pub(super) fn released(&mut self, view: &View<'_>) -> Effects {
        match self.drawn_point() {
            Some(at) if !self.drawer.is_at_first(at) => self.draw_act(DrawAct::Place, view),
            _ => Effects::new(),
        }
    }

    /// Shows a series of any instrument on the same time, in a pane of its own.
    pub(super) fn lay_below(&mut self, text: &str, view: &View<'_>) -> Effects {
        let series: SeriesName = match text.trim().parse() {
            Ok(series) => series,
            Err(err) => return vec![Effect::Complain(err)],
        };
        match view.snapshot.find(&series) {
            None => warn(format!("{series} is not on the shelf; Tab in the question completes names")),
            Some(info) if info.is_afloat() => {
                warn(format!("{series} is afloat: it has no place in this time"))
            }
            Some(_) => {
                self.beside = Some(SecondSeries { series, by: None });
                Effects::new()
            }
        }
    }

    /// Lays the next of the other series of the instrument over it; after the last, none.
    pub(super) fn lay_next_over(&mut self, view: &View<'_>) {
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
}

/// What is drawn on the series that is chosen.
pub(super) fn drawings(view: &View<'_>) -> Vec<PlacedDrawing> {
    view.series().map_or_else(Vec::new, |info| view.snapshot.drawings_on(info))
}

/// The prices of one line of the first pane of a scene of some height.
pub(super) fn a_line(scene: &Scene, height: u16) -> f64 {
    let of = |pane: &Pane| (pane.high - pane.low) / (f64::from(height.max(2) - 1) * pane.share);
    scene.panes.first().map_or(0.0, of)
}

/// A series of another instrument, to be shown below.
pub(super) fn proposal_below(view: &View<'_>) -> String {
    let is_other = |s: &&SeriesInfo| s.name.instrument != view.instrument_name() && !s.is_afloat();
    let all = view.snapshot.series.iter().filter(is_other);
    all.max_by_key(|s| view.selected.is_some_and(|own| own.source == s.name.source))
        .map_or_else(String::new, |s| s.name.to_string())
}
