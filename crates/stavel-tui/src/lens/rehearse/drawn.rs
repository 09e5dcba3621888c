//! Drawing in a rehearsal: only on what was played, and nothing is seen before its moment.

use stavel_core::model::price::as_float;
use stavel_core::model::time::wall;
use stavel_core::model::{BarView, Columns, DrawnPoint};
use stavel_draw::{Scene, drawings_on};
use stavel_work::PlacedDrawing;

use super::picture::{bars_of, columns_of};
use super::play::Play;
use super::{NOTHING_PLAYS, RehearseLens};
use crate::effect::{Effects, say, warn};
use crate::lens::drawer::{DrawAct, DrawPlace};
use crate::scene_view::SceneMarks;
use crate::view::View;

impl RehearseLens {
    /// The bar that points are put at, and the price of the cursor.
    pub(super) fn drawn_point(&self, play: &Play, bars: &Columns) -> Option<DrawnPoint> {
        let last = bars.len().checked_sub(1)?;
        let at = self.cursor_at.map_or(last, |at| bars.time.partition_point(|t| *t <= at).saturating_sub(1));
        let decimals = play.decimals();
        let close = || Some(as_float(BarView::new(bars).bar(at)?.close, decimals));
        Some(DrawnPoint { time: bars.time[at], price: self.drawer.price().or_else(close)? })
    }

    pub(super) fn move_cursor(&mut self, on: bool, view: &View<'_>) {
        let Some(play) = &self.play else { return };
        let bars = bars_of(play, columns_on(view));
        let Some(at) = self.drawn_point(play, &bars).and_then(|at| bars.time.binary_search(&at.time).ok())
        else {
            return;
        };
        let to = if on { at + 1 } else { at.saturating_sub(1) };
        // At the newest bar it goes on with time.
        self.cursor_at = bars.time.get(to).copied().filter(|_| to + 1 < bars.len());
    }

    pub(super) fn draw_act(&mut self, act: DrawAct, view: &View<'_>) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        if play.factor.is_some() {
            return warn(
                "drawings are kept at real prices, and those of blind practice are not: it draws nothing",
            );
        }
        let bars = bars_of(play, columns_on(view));
        let Some(at) = self.drawn_point(play, &bars) else { return say("no bar is over yet") };
        let drawings = drawn_so_far(play, view);
        let place = DrawPlace { series: play.series(), at, drawings: &drawings, rehearsed: Some(play.now) };
        self.drawer.act(act, &place)
    }

    /// Adds what is drawn to the marks of a chart, and the cursor while something is being drawn.
    pub(super) fn add_drawings(
        &self,
        play: &Play,
        bars: &Columns,
        made: &Scene,
        view: &View<'_>,
        marks: &mut SceneMarks,
    ) {
        let Some(at) = self.drawn_point(play, bars) else { return };
        let shown = self.drawer.shown(&drawn_so_far(play, view), at);
        marks.drawings = drawings_on(&made.times, bars.scale.price.into(), &shown);
        let is_at_work = self.drawer.is_at_work();
        if is_at_work || self.cursor_at.is_some() {
            let clock = &play.instrument().sheet.session.clock;
            let slot = made.times.binary_search(&at.time).ok();
            marks.cursor = slot.map(|slot| (slot, wall(clock.to_wall(at.time))));
            marks.cursor_price = is_at_work.then_some(at.price);
        }
    }
}

/// What is drawn and known by now: nothing that was drawn at a later moment, nor on times that lie ahead; in blind practice
/// nothing.
pub(super) fn drawn_so_far(play: &Play, view: &View<'_>) -> Vec<PlacedDrawing> {
    // Rescaled prices are not those that it was drawn at.
    let Some(info) = view.snapshot.find(play.series()).filter(|_| play.factor.is_none()) else {
        return Vec::new();
    };
    view.snapshot.drawings_on(info).into_iter().filter(|drawn| drawn.known_from() <= play.now).collect()
}

/// Bars that have room beside the facts.
pub(super) fn columns_on(view: &View<'_>) -> usize {
    columns_of(view.size.0.saturating_sub(view.facts_width()))
}
