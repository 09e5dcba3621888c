//! A scene as a picture.

use plotters::coord::Shift;
use plotters::prelude::{
    ChartBuilder, Circle, DrawingArea, DrawingBackend, LabelAreaPosition, LineSeries, PathElement, Polygon,
    Rectangle,
};
use plotters::style::{Color, RGBColor, ShapeStyle, TRANSPARENT};

use stavel_core::model::Weight;

use crate::axes::{Axes, BarSlots, PaneAxis};
use crate::chart_drawings::{draw_deal, draw_deals, draw_drawings};
use crate::look::{GroundColours, PictureLook};
use crate::marks::{MarkKind, SceneMark};
use crate::pane::{Candle, Layer, Pane};
use crate::picture::{DrawResult, FINE, Picture, words};
use crate::scene::Scene;

const LEFT: i32 = 16;
const RIGHT: i32 = 92;
/// Above the panes: the title, and a line for the legend.
const TOP: i32 = 62;
const BOTTOM: i32 = 34;
/// Above the bars, where marks stand.
const MARKS: i32 = 18;

/// A scene with its look.
pub struct Sheet<'s> {
    pub scene: &'s Scene,
    pub look: PictureLook,
}

impl Picture for Scene {
    fn size(&self) -> (u32, u32) {
        PictureLook::default().size
    }

    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> DrawResult<B> {
        Sheet { scene: self, look: PictureLook::default() }.draw(area)
    }
}

impl Picture for Sheet<'_> {
    fn size(&self) -> (u32, u32) {
        self.look.size
    }

    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> DrawResult<B> {
        let (scene, palette) = (self.scene, self.look.ground.palette());
        area.fill(&palette.ground)?;
        area.draw_text(&scene.title, &words(15, palette.words), (LEFT * FINE, 14 * FINE))?;
        draw_legend(scene, palette, area)?;
        let height = self.look.size.1 as i32;
        let inside = height - TOP - BOTTOM;
        let slots = BarSlots { count: scene.times.len(), ticks: scene.ticks.clone() };
        let mut top = TOP;
        for (i, pane) in scene.panes.iter().enumerate() {
            let is_last = i + 1 == scene.panes.len();
            let own = (f64::from(inside) * pane.share) as i32;
            let end = if is_last { height } else { top + own };
            let (_, below) = area.split_vertically(top * FINE);
            let (part, _) = below.split_vertically((end - top) * FINE);
            let place = PanePlace { is_first: i == 0, is_last };
            draw_pane(scene, pane, &slots, (place, palette), &part)?;
            top = end;
        }
        Ok(())
    }
}

/// Where a pane stands among the others.
#[derive(Clone, Copy)]
struct PanePlace {
    is_first: bool,
    is_last: bool,
}

/// What the lines and marks mean, below the title.
fn draw_legend<B: DrawingBackend>(
    scene: &Scene,
    palette: &GroundColours,
    area: &DrawingArea<B, Shift>,
) -> DrawResult<B> {
    let (mut x, y) = (LEFT + 4, 40);
    let put = |words_of: &str, x: &mut i32| -> DrawResult<B> {
        area.draw_text(words_of, &words(11, palette.words), ((*x + 14) * FINE, (y - 5) * FINE))?;
        *x += 30 + 7 * words_of.chars().count() as i32;
        Ok(())
    };
    let mut line = 0;
    for layer in scene.panes.iter().flat_map(|pane| &pane.layers) {
        let Layer::Line { name, is_second, .. } = layer else { continue };
        let colour = line_colour(palette, line, *is_second);
        line += usize::from(!is_second);
        // A second series is dashed in its pane, and so here.
        let strokes: &[(i32, i32)] = if *is_second { &[(0, 4), (6, 10)] } else { &[(0, 10)] };
        for (from, to) in strokes {
            let stroke = [((x + from) * FINE, y * FINE), ((x + to) * FINE, y * FINE)];
            area.draw(&PathElement::new(stroke, colour.stroke_width(2 * FINE as u32)))?;
        }
        put(name, &mut x)?;
    }
    let mut kinds: Vec<MarkKind> = scene.marks.iter().map(|mark| mark.kind).collect();
    kinds.sort_unstable();
    kinds.dedup();
    for kind in kinds {
        draw_shape(kind, (x + 5, y), palette, area)?;
        put(kind.word(), &mut x)?;
    }
    for (is_buy, word) in [(true, "bought"), (false, "sold")] {
        if scene.deals.iter().any(|deal| deal.is_buy == is_buy) {
            // A deal is drawn from its tip.
            let tip = if is_buy { y - 5 } else { y + 4 };
            draw_deal(is_buy, ((x + 5) * FINE, tip * FINE), palette, area)?;
            put(word, &mut x)?;
        }
    }
    Ok(())
}

/// A mark with its middle at a place in points.
fn draw_shape<B: DrawingBackend>(
    kind: MarkKind,
    (x, y): (i32, i32),
    palette: &GroundColours,
    area: &DrawingArea<B, Shift>,
) -> DrawResult<B> {
    let at = |dx: i32, dy: i32| (x * FINE + dx, y * FINE + dy);
    let r = 4 * FINE;
    let diamond = vec![at(0, -r), at(r, 0), at(0, r), at(-r, 0)];
    let up = vec![at(0, -r), at(r, r), at(-r, r)];
    match kind {
        MarkKind::Event(Some(Weight::High)) => area.draw(&Circle::new(at(0, 0), r, palette.event.filled())),
        MarkKind::Event(Some(Weight::Medium)) => {
            area.draw(&Circle::new(at(0, 0), r, palette.event.stroke_width(4)))?;
            area.draw(&Circle::new(at(0, 0), r / 2, palette.event.filled()))
        }
        MarkKind::Event(Some(Weight::Low)) => {
            area.draw(&Circle::new(at(0, 0), r / 2, palette.event.stroke_width(4)))
        }
        MarkKind::Event(None) => area.draw(&Circle::new(at(0, 0), r / 3, palette.event.filled())),
        MarkKind::Holiday => {
            area.draw(&Rectangle::new([at(-r, -r / 3), at(r, r / 3)], palette.faint.filled()))
        }
        MarkKind::Action => area.draw(&PathElement::new(closed(diamond), palette.event.stroke_width(4))),
        MarkKind::Gap => {
            area.draw(&PathElement::new([at(-r, -r), at(r, r)], palette.wrong.stroke_width(5)))?;
            area.draw(&PathElement::new([at(-r, r), at(r, -r)], palette.wrong.stroke_width(5)))
        }
        MarkKind::Seam => area.draw(&PathElement::new([at(0, -r), at(0, r)], palette.words.stroke_width(6))),
        MarkKind::Fault => area.draw(&Polygon::new(diamond, palette.wrong.filled())),
        MarkKind::Doubt => area.draw(&PathElement::new(closed(up), palette.rising.stroke_width(4))),
    }
}

fn closed(mut path: Vec<(i32, i32)>) -> Vec<(i32, i32)> {
    path.extend(path.first().copied());
    path
}

/// The colour of a line: those of a pane's own bars go through theirs, a second series has its own.
fn line_colour(palette: &GroundColours, line: usize, is_second: bool) -> RGBColor {
    if is_second { palette.second } else { palette.lines[line % palette.lines.len()] }
}

fn draw_pane<B: DrawingBackend>(
    scene: &Scene,
    pane: &Pane,
    slots: &BarSlots,
    (place, palette): (PanePlace, &GroundColours),
    area: &DrawingArea<B, Shift>,
) -> DrawResult<B> {
    let above = if place.is_first { 6 + MARKS } else { 6 };
    let mut axes = ChartBuilder::on(area)
        .margin_left(LEFT * FINE)
        .margin_top(above * FINE)
        .margin_bottom(if place.is_last { 0 } else { 6 * FINE })
        .set_label_area_size(LabelAreaPosition::Right, RIGHT * FINE)
        .set_label_area_size(LabelAreaPosition::Bottom, if place.is_last { BOTTOM * FINE } else { 0 })
        .build_cartesian_2d(slots.clone(), PaneAxis::of(pane))?;
    for (from, to) in &scene.shades {
        let corners = [(*from as f64, pane.low), (*to as f64, pane.high)];
        axes.plotting_area().draw(&Rectangle::new(corners, palette.shade.filled()))?;
    }
    axes.configure_mesh()
        .label_style(words(11, palette.words))
        .axis_style(ShapeStyle { color: palette.rule.to_rgba(), filled: false, stroke_width: 2 })
        .bold_line_style(ShapeStyle { color: palette.rule.to_rgba(), filled: false, stroke_width: 2 })
        .light_line_style(TRANSPARENT)
        .draw()?;
    let mut line = 0;
    for layer in &pane.layers {
        match layer {
            Layer::Candles(candles) => draw_candles(candles, palette, &mut axes)?,
            Layer::Strokes(bars) => draw_strokes(bars, palette, &mut axes)?,
            Layer::Columns(values) => draw_columns(values, pane, palette, &mut axes)?,
            Layer::Line { values, is_second, .. } => {
                draw_line(values, (line_colour(palette, line, *is_second), *is_second), &mut axes)?;
                line += usize::from(!is_second);
            }
        }
    }
    if place.is_first {
        draw_drawings(scene, pane, palette, &mut axes)?;
        draw_deals(scene, pane, palette, &mut axes)?;
        draw_marks(scene, pane, palette, &mut axes)?;
    }
    draw_name(&pane.name, (LEFT + 4, above - 2), palette, area)
}

/// Marks above the bars; a seam goes through the whole pane.
fn draw_marks<B: DrawingBackend>(
    scene: &Scene,
    pane: &Pane,
    palette: &GroundColours,
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    let plot = axes.plotting_area().strip_coord_spec();
    // The whole page, so that what stands above the bars has a place.
    let (left, top) = plot.get_base_pixel();
    for SceneMark { slot, kind } in &scene.marks {
        let middle = *slot as f64 + 0.5;
        if *kind == MarkKind::Seam {
            let through = [(*slot as f64, pane.low), (*slot as f64, pane.high)];
            axes.draw_series(LineSeries::new(through, palette.words.mix(0.5).stroke_width(2)))?;
        }
        let (x, y) = axes.backend_coord(&(middle, pane.high));
        draw_shape(*kind, ((x - left) / FINE, (y - top) / FINE - MARKS / 2 - 2), palette, &plot)?;
    }
    Ok(())
}

/// A name in the upper part of a pane, with no rule through it.
fn draw_name<B: DrawingBackend>(
    name: &str,
    (x, y): (i32, i32),
    palette: &GroundColours,
    area: &DrawingArea<B, Shift>,
) -> DrawResult<B> {
    let width = 7 * name.chars().count() as i32;
    let behind = [((x - 2) * FINE, y * FINE), ((x + width) * FINE, (y + 14) * FINE)];
    area.draw(&Rectangle::new(behind, palette.ground.filled()))?;
    area.draw_text(name, &words(11, palette.faint), (x * FINE, (y + 3) * FINE))
}

/// The part of a slot that is left free at each side of a bar.
const GAP: f64 = 0.14;

fn coloured(candle: &Candle, palette: &GroundColours) -> RGBColor {
    if candle.rises() { palette.rising } else { palette.falling }
}

fn draw_candles<B: DrawingBackend>(
    candles: &[Option<Candle>],
    palette: &GroundColours,
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    // At least a fifth of a point can be seen of a body whose open is its close.
    let (low, high) = (axes.y_range().start, axes.y_range().end);
    let thin = (high - low) / f64::from(axes.plotting_area().dim_in_pixel().1) * 0.8;
    for (slot, candle) in candles.iter().enumerate().filter_map(|(i, c)| Some((i, c.as_ref()?))) {
        let (from, colour) = (slot as f64, coloured(candle, palette));
        let (upper, lower) = (candle.open.max(candle.close), candle.open.min(candle.close));
        let middle = from + 0.5;
        let wick = [(middle, candle.high), (middle, candle.low)];
        axes.draw_series(LineSeries::new(wick, colour.stroke_width(3)))?;
        let body = [(from + GAP, upper + thin), (from + 1.0 - GAP, lower - thin)];
        axes.plotting_area().draw(&Rectangle::new(body, colour.filled()))?;
    }
    Ok(())
}

fn draw_strokes<B: DrawingBackend>(
    bars: &[Option<Candle>],
    palette: &GroundColours,
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    for (slot, bar) in bars.iter().enumerate().filter_map(|(i, c)| Some((i, c.as_ref()?))) {
        let (middle, colour) = (slot as f64 + 0.5, coloured(bar, palette));
        let reach = 0.5 - GAP;
        let strokes = [
            [(middle, bar.high), (middle, bar.low)],
            [(middle - reach, bar.open), (middle, bar.open)],
            [(middle, bar.close), (middle + reach, bar.close)],
        ];
        for stroke in strokes {
            axes.draw_series(LineSeries::new(stroke, colour.stroke_width(4)))?;
        }
    }
    Ok(())
}

fn draw_columns<B: DrawingBackend>(
    values: &[Option<f64>],
    pane: &Pane,
    palette: &GroundColours,
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    for (slot, value) in values.iter().enumerate().filter_map(|(slot, v)| Some((slot as f64, (*v)?))) {
        let column = [(slot + GAP, value), (slot + 1.0 - GAP, pane.low)];
        axes.plotting_area().draw(&Rectangle::new(column, palette.columns.filled()))?;
    }
    Ok(())
}

/// A line, broken where there is no value. That of a second series is dashed: each other slot is left out.
fn draw_line<B: DrawingBackend>(
    values: &[Option<f64>],
    (colour, is_dashed): (RGBColor, bool),
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    let points: Vec<Option<(f64, f64)>> =
        values.iter().enumerate().map(|(slot, v)| Some((slot as f64 + 0.5, (*v)?))).collect();
    for run in points.split(Option::is_none).filter(|run| !run.is_empty()) {
        let run: Vec<(f64, f64)> = run.iter().flatten().copied().collect();
        if is_dashed {
            // Six tenths of each way are drawn.
            for way in run.windows(2) {
                let (from, to) = (way[0], way[1]);
                let end = (from.0 + (to.0 - from.0) * 0.6, from.1 + (to.1 - from.1) * 0.6);
                axes.draw_series(LineSeries::new([from, end], colour.stroke_width(5)))?;
            }
        } else {
            axes.draw_series(LineSeries::new(run, colour.stroke_width(5)))?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use stavel_core::model::Clock;

    use crate::scene::{SceneRequest, scene, tests::bars};
    use crate::{to_pdf, to_svg};

    #[test]
    fn a_picture_is_drawn_twice_alike_with_every_bar_and_harmless_words() {
        let rows = bars(50);
        let clock = Clock::utc();
        let request = SceneRequest {
            title: "NOKSEK <script>".into(),
            average: Some(5),
            ..SceneRequest::of(&rows, &clock)
        };
        let made = scene(&request);
        let picture = to_svg(&made).unwrap();
        assert_eq!(picture, to_svg(&made).unwrap());
        // The background, one behind each name of a pane, a body a bar, and a column a bar for volume and for spread.
        assert_eq!(picture.matches("<rect").count(), 1 + 3 + 50 * 3);
        assert!(picture.contains("&lt;script&gt;") && picture.contains("mean of 5"));
        assert!(picture.contains("03-06") && picture.contains("width=\"1200\""));
        let pdf = to_pdf(&made).unwrap();
        assert!(pdf.starts_with(b"%PDF") && pdf.ends_with(b"%%EOF"));
        let text = String::from_utf8_lossy(&pdf);
        // Words stand in it as words, and every bar and column is a filled rectangle.
        assert!(text.contains("(NOKSEK <script>) Tj") && text.contains("(03-06) Tj"));
        assert_eq!(text.matches(" re").count(), 1 + 3 + 50 * 3);
    }

    #[test]
    fn an_empty_scene_is_a_picture_too() {
        let rows = bars(0);
        let clock = Clock::utc();
        let request = SceneRequest::of(&rows, &clock);
        assert!(to_svg(&scene(&request)).unwrap().contains("<svg"));
    }
}
