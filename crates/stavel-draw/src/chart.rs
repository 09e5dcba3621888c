//! A scene as a picture.

use std::ops::Range;

use plotters::coord::Shift;
use plotters::coord::ranged1d::{KeyPointHint, NoDefaultFormatting, Ranged, ValueFormatter};
use plotters::coord::types::RangedCoordf64;
use plotters::prelude::Cartesian2d;
use plotters::prelude::{
    ChartBuilder, ChartContext, DrawingArea, DrawingBackend, LabelAreaPosition, LineSeries, Rectangle,
};
use plotters::style::{Color, RGBColor, ShapeStyle, TRANSPARENT};

use crate::picture::{DrawResult, FINE, Picture, colour, words};
use crate::scene::{Candle, Layer, Pane, Scene, Tick};

/// Size of the picture in points.
const SIZE: (u32, u32) = (1200, 720);
const LEFT: i32 = 16;
const RIGHT: i32 = 92;
const TOP: i32 = 48;
const BOTTOM: i32 = 34;

const INK: RGBColor = colour(0x0d1117);
const WORDS: RGBColor = colour(0xc8c2b0);
const FAINT: RGBColor = colour(0x6b7280);
const RULE: RGBColor = colour(0x2a303c);
const RISING: RGBColor = colour(0xe6c384);
const FALLING: RGBColor = colour(0x7e9cd8);
const COLUMN: RGBColor = colour(0x54546d);
const LINES: [RGBColor; 3] = [colour(0x7fb4ca), colour(0xc0a36e), colour(0xb48ead)];

/// The time axis: slots from left to right, labelled where the scene says.
#[derive(Clone)]
struct BarSlots {
    count: usize,
    ticks: Vec<Tick>,
}

impl Ranged for BarSlots {
    type FormatOption = NoDefaultFormatting;
    type ValueType = f64;

    fn map(&self, slot: &f64, (from, to): (i32, i32)) -> i32 {
        from + ((slot / self.count.max(1) as f64) * f64::from(to - from)).round() as i32
    }

    fn key_points<H: KeyPointHint>(&self, _most: H) -> Vec<f64> {
        self.ticks.iter().map(|tick| tick.slot as f64 + 0.5).collect()
    }

    fn range(&self) -> Range<f64> {
        0.0..self.count as f64
    }
}

impl ValueFormatter<f64> for BarSlots {
    fn format(slot: &f64) -> String {
        format!("{slot:.0}")
    }

    fn format_ext(&self, slot: &f64) -> String {
        let tick = self.ticks.iter().find(|tick| tick.slot == *slot as usize);
        tick.map_or_else(String::new, |tick| tick.label.clone())
    }
}

/// A pane with its axes.
type Axes<'a, B> = ChartContext<'a, B, Cartesian2d<BarSlots, RangedCoordf64>>;

impl Picture for Scene {
    fn size(&self) -> (u32, u32) {
        SIZE
    }

    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> DrawResult<B> {
        area.fill(&INK)?;
        area.draw_text(&self.title, &words(15, WORDS), (LEFT * FINE, 16 * FINE))?;
        let inside = SIZE.1 as i32 - TOP - BOTTOM;
        let slots = BarSlots { count: self.times.len(), ticks: self.ticks.clone() };
        let mut top = TOP;
        for (i, pane) in self.panes.iter().enumerate() {
            let is_last = i + 1 == self.panes.len();
            let height = (f64::from(inside) * pane.share) as i32;
            let end = if is_last { SIZE.1 as i32 } else { top + height };
            let (_, below) = area.split_vertically(top * FINE);
            let (part, _) = below.split_vertically((end - top) * FINE);
            draw_pane(pane, &slots, is_last, &part)?;
            top = end;
        }
        Ok(())
    }
}

fn draw_pane<B: DrawingBackend>(
    pane: &Pane,
    slots: &BarSlots,
    is_last: bool,
    area: &DrawingArea<B, Shift>,
) -> DrawResult<B> {
    let mut axes = ChartBuilder::on(area)
        .margin_left(LEFT * FINE)
        .margin_top(6 * FINE)
        .margin_bottom(if is_last { 0 } else { 6 * FINE })
        .set_label_area_size(LabelAreaPosition::Right, RIGHT * FINE)
        .set_label_area_size(LabelAreaPosition::Bottom, if is_last { BOTTOM * FINE } else { 0 })
        .build_cartesian_2d(slots.clone(), pane.low..pane.high)?;
    axes.configure_mesh()
        .label_style(words(11, WORDS))
        .axis_style(ShapeStyle { color: RULE.to_rgba(), filled: false, stroke_width: 2 })
        .bold_line_style(ShapeStyle { color: RULE.to_rgba(), filled: false, stroke_width: 2 })
        .light_line_style(TRANSPARENT)
        .y_labels(if pane.share > 0.4 { 8 } else { 3 })
        .y_label_formatter(&|value| format!("{value:.*}", pane.decimals))
        .draw()?;
    let mut line = 0;
    for layer in &pane.layers {
        match layer {
            Layer::Candles(candles) => draw_candles(candles, &mut axes)?,
            Layer::Columns(values) => draw_columns(values, pane, &mut axes)?,
            Layer::Line { name, values } => {
                let colour = LINES[line % LINES.len()];
                line += 1;
                draw_line(values, colour, &mut axes)?;
                draw_name(&format!("― {name}"), LEFT + 60 + 150 * line as i32, colour, area)?;
            }
        }
    }
    draw_name(&pane.name, LEFT + 4, FAINT, area)
}

/// A name in the upper part of a pane, with no rule through it.
fn draw_name<B: DrawingBackend>(
    name: &str,
    x: i32,
    colour: RGBColor,
    area: &DrawingArea<B, Shift>,
) -> DrawResult<B> {
    let width = 7 * name.chars().count() as i32;
    let behind = [((x - 2) * FINE, 6 * FINE), ((x + width) * FINE, 20 * FINE)];
    area.draw(&Rectangle::new(behind, INK.filled()))?;
    area.draw_text(name, &words(11, colour), (x * FINE, 9 * FINE))
}

/// The part of a slot that is left free at each side of a bar.
const GAP: f64 = 0.14;

fn draw_candles<B: DrawingBackend>(candles: &[Option<Candle>], axes: &mut Axes<'_, B>) -> DrawResult<B> {
    // At least a fifth of a point can be seen of a body whose open is its close.
    let (low, high) = (axes.y_range().start, axes.y_range().end);
    let thin = (high - low) / f64::from(axes.plotting_area().dim_in_pixel().1) * 0.8;
    for (slot, candle) in candles.iter().enumerate().filter_map(|(i, c)| Some((i, c.as_ref()?))) {
        let (from, colour) = (slot as f64, if candle.rises() { RISING } else { FALLING });
        let (upper, lower) = (candle.open.max(candle.close), candle.open.min(candle.close));
        let middle = from + 0.5;
        let wick = [(middle, candle.high), (middle, candle.low)];
        axes.draw_series(LineSeries::new(wick, colour.stroke_width(3)))?;
        let body = [(from + GAP, upper + thin), (from + 1.0 - GAP, lower - thin)];
        axes.plotting_area().draw(&Rectangle::new(body, colour.filled()))?;
    }
    Ok(())
}

fn draw_columns<B: DrawingBackend>(
    values: &[Option<f64>],
    pane: &Pane,
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    for (slot, value) in values.iter().enumerate().filter_map(|(slot, v)| Some((slot as f64, (*v)?))) {
        let column = [(slot + GAP, value), (slot + 1.0 - GAP, pane.low)];
        axes.plotting_area().draw(&Rectangle::new(column, COLUMN.filled()))?;
    }
    Ok(())
}

/// A line, broken where there is no value.
fn draw_line<B: DrawingBackend>(
    values: &[Option<f64>],
    colour: RGBColor,
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    let points: Vec<Option<(f64, f64)>> =
        values.iter().enumerate().map(|(slot, v)| Some((slot as f64 + 0.5, (*v)?))).collect();
    for run in points.split(Option::is_none).filter(|run| !run.is_empty()) {
        let run = run.iter().flatten().copied();
        axes.draw_series(LineSeries::new(run, colour.stroke_width(5)))?;
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
        // The background, one behind each name, a body a bar, and a column a bar for volume and for spread.
        assert_eq!(picture.matches("<rect").count(), 1 + 4 + 50 * 3);
        assert!(picture.contains("&lt;script&gt;") && picture.contains("mean of 5"));
        assert!(picture.contains("03-06") && picture.contains("width=\"1200\""));
        let pdf = to_pdf(&made).unwrap();
        assert!(pdf.starts_with(b"%PDF") && pdf.ends_with(b"%%EOF"));
        let text = String::from_utf8_lossy(&pdf);
        // Words stand in it as words, and every bar and column is a filled rectangle.
        assert!(text.contains("(NOKSEK <script>) Tj") && text.contains("(03-06) Tj"));
        assert_eq!(text.matches(" re").count(), 1 + 4 + 50 * 3);
    }

    #[test]
    fn an_empty_scene_is_a_picture_too() {
        let rows = bars(0);
        let clock = Clock::utc();
        let request = SceneRequest::of(&rows, &clock);
        assert!(to_svg(&scene(&request)).unwrap().contains("<svg"));
    }
}
