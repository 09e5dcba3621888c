//! Drawings and deals on a picture of bars.

use plotters::coord::Shift;
use plotters::prelude::{DrawingArea, DrawingBackend, LineSeries, Polygon};
use plotters::style::{Color, RGBColor};
use stavel_core::model::DrawingColour;

use crate::axes::Axes;
use crate::look::GroundColours;
use crate::pane::Pane;
use crate::picture::{DrawResult, FINE, words};
use crate::scene::Scene;

/// The colour that a drawing has in a picture.
fn colour_of(colour: DrawingColour, palette: &GroundColours) -> RGBColor {
    match colour {
        DrawingColour::Violet => palette.event,
        DrawingColour::Green => palette.good,
        DrawingColour::Red => palette.wrong,
        DrawingColour::Grey => palette.words,
    }
}

/// Draws what a person drew; its words stand a little above their place.
pub fn draw_drawings<B: DrawingBackend>(
    scene: &Scene,
    pane: &Pane,
    palette: &GroundColours,
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    let slots = scene.times.len() as f64;
    for drawing in &scene.drawings {
        let colour = colour_of(drawing.colour, palette);
        for stretch in drawing.stretches(pane, slots) {
            let points = stretch.map(|(slot, share)| (slot, pane.value_at(share)));
            axes.draw_series(LineSeries::new(points, colour.stroke_width(6)))?;
        }
        let Some((slot, share)) = drawing.words_at(pane, slots).filter(|_| !drawing.words.is_empty()) else {
            continue;
        };
        let plot = axes.plotting_area().strip_coord_spec();
        let (left, top) = plot.get_base_pixel();
        let (x, y) = axes.backend_coord(&(slot, pane.value_at(share)));
        // Words that would run over the right edge end there.
        let wide = 7 * FINE * drawing.words.chars().count() as i32;
        let room = plot.dim_in_pixel().0 as i32 - wide;
        let at = ((x - left + 4 * FINE).min(room.max(0)), (y - top - 15 * FINE).max(0));
        plot.draw_text(&drawing.words, &words(11, colour), at)?;
    }
    Ok(())
}

/// Deals as triangles at their prices: up for what was bought, down for what was sold.
pub fn draw_deals<B: DrawingBackend>(
    scene: &Scene,
    pane: &Pane,
    palette: &GroundColours,
    axes: &mut Axes<'_, B>,
) -> DrawResult<B> {
    for deal in scene.deals.iter().filter(|deal| (pane.low..=pane.high).contains(&deal.price)) {
        let plot = axes.plotting_area().strip_coord_spec();
        let (left, top) = plot.get_base_pixel();
        let (x, y) = axes.backend_coord(&(deal.slot as f64 + 0.5, deal.price));
        draw_deal(deal.is_buy, (x - left, y - top), palette, &plot)?;
    }
    Ok(())
}

/// A deal with its tip at a place.
pub fn draw_deal<B: DrawingBackend>(
    is_buy: bool,
    (x, y): (i32, i32),
    palette: &GroundColours,
    area: &DrawingArea<B, Shift>,
) -> DrawResult<B> {
    let (reach, colour) = if is_buy { (9 * FINE, palette.good) } else { (-9 * FINE, palette.wrong) };
    let corners = vec![(x, y), (x + 5 * FINE, y + reach), (x - 5 * FINE, y + reach)];
    area.draw(&Polygon::new(corners, colour.filled()))
}
