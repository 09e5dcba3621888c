//! A scene drawn with characters: candles in half cells, columns too, lines in dots.

use ratatui::style::{Color, Style};
use stavel_core::model::Micros;
use stavel_draw::{Candle, EdgeKind, Layer, Pane, Scene, SceneDrawing};

use crate::braille::DotLine;
use crate::canvas::{self, Canvas};
use crate::theme;

/// Columns for the price labels.
pub const LABELS: u16 = 12;

/// Where the slots of a scene lie: together they fill the columns there are.
pub struct ColumnSlots {
    /// The first slot that is drawn; the newest always are.
    pub first: usize,
    count: usize,
    columns: u16,
}

impl ColumnSlots {
    pub fn of(scene: &Scene, width: u16) -> ColumnSlots {
        let columns = width.saturating_sub(LABELS).max(1);
        let first = scene.times.len().saturating_sub(columns as usize);
        ColumnSlots { first, count: (scene.times.len() - first).max(1), columns }
    }

    /// First column of a slot; slots are at most six columns wide, and stand at the right.
    fn left(&self, slot: usize) -> u16 {
        let wide = self.count * usize::from(WIDEST);
        let (used, from) = match wide < usize::from(self.columns) {
            true => (wide, usize::from(self.columns) - wide),
            false => (usize::from(self.columns), 0),
        };
        (from + (slot - self.first) * used / self.count) as u16
    }

    /// Columns of the narrowest slot.
    fn each(&self) -> u16 {
        (self.columns / self.count.min(usize::from(u16::MAX)) as u16).clamp(1, WIDEST)
    }

    /// Columns that a body fills: from two columns on, one is left free beside it.
    fn body(&self) -> u16 {
        if self.each() > 1 { self.each() - 1 } else { 1 }
    }

    /// The column its wick stands in.
    pub fn middle(&self, slot: usize) -> u16 {
        self.left(slot) + (self.body() - 1) / 2
    }

    /// The place of the middle of a slot in dots, two to a column.
    fn dots_at(&self, slot: f64) -> i64 {
        let within = slot - self.first as f64;
        let whole = within.floor().clamp(0.0, self.count as f64 - 1.0);
        let left = f64::from(self.left(self.first + whole as usize));
        // Between the middles of two slots the way is straight.
        let middle = f64::from(self.body() - 1) / 2.0;
        ((left + middle + (within - whole - 0.5) * f64::from(self.each())) * 2.0).round() as i64 + 1
    }

    /// The slot that lies at a column; none left of the first.
    pub fn slot_at(&self, column: u16) -> Option<usize> {
        let slots = self.first..self.first + self.count;
        slots.rev().find(|slot| self.left(*slot) <= column)
    }
}

/// The widest slot, in columns.
const WIDEST: u16 = 6;

/// A price that is marked across the chart and on its scale.
pub struct PriceLevel {
    pub price: f64,
    /// What it is, in a letter or two; empty where the price says enough.
    pub name: &'static str,
    pub colour: Color,
}

/// A mark at a bar and a price.
pub struct PricePoint {
    pub slot: usize,
    pub price: f64,
    pub mark: &'static str,
    pub colour: Color,
}

/// What is shown of a scene beside itself.
#[derive(Default)]
pub struct SceneMarks {
    /// The slot under the cursor, and its time in words.
    pub cursor: Option<(usize, String)>,
    /// The price under the cursor.
    pub cursor_price: Option<f64>,
    pub levels: Vec<PriceLevel>,
    pub points: Vec<PricePoint>,
    pub drawings: Vec<SceneDrawing>,
}

/// Lines that the prices have at least before anything stands below them, and that what is below has.
const LEAST_ABOVE: u16 = 5;
const LEAST_BELOW: u16 = 2;

/// The lines of the panes of a scene; the lowest are left out where there is no room for them.
fn pane_heights(scene: &Scene, inside: u16) -> Vec<u16> {
    let below = usize::from(inside.saturating_sub(LEAST_ABOVE) / LEAST_BELOW);
    let panes = &scene.panes[..scene.panes.len().min(1 + below)];
    let whole: f64 = panes.iter().map(|pane| pane.share).sum();
    let mut left = inside;
    let height = |(i, pane): (usize, &Pane)| {
        let after = LEAST_BELOW * (panes.len() - 1 - i) as u16;
        let wished = (f64::from(inside) * pane.share / whole).round() as u16;
        let height = if after == 0 { left } else { wished.max(LEAST_BELOW).min(left - after) };
        left -= height;
        height
    };
    panes.iter().enumerate().map(height).collect()
}

/// Draws a scene with a slot for each bar, the newest at the right; the last line is the time axis.
pub fn draw_scene(scene: &Scene, marks: &SceneMarks, mut canvas: Canvas<'_>) {
    let slots = ColumnSlots::of(scene, canvas.width());
    if canvas.height() < 5 || canvas.width() < LABELS + 8 {
        return;
    }
    let inside = canvas.height() - 1;
    draw_time(scene, &slots, inside, &mut canvas);
    let mut top = 0;
    for (i, (pane, height)) in scene.panes.iter().zip(pane_heights(scene, inside)).enumerate() {
        let width = canvas.width();
        let mut part = canvas.part(0, top, width, height);
        draw_pane(pane, &slots, &mut part);
        if i == 0 {
            marks.drawings.iter().for_each(|drawing| draw_drawing(pane, drawing, scene, &slots, &mut part));
            marks.levels.iter().for_each(|level| draw_level(pane, level, &mut part));
            let height = part.height();
            for point in marks.points.iter().filter(|p| p.slot >= slots.first) {
                let y = (half_of(pane, height, point.price) / 2) as u16;
                part.put(slots.middle(point.slot), y, point.mark, theme::strong().fg(point.colour));
            }
            if let Some(price) = marks.cursor_price {
                draw_cursor_price(pane, price, &mut part);
            }
        }
        top += height;
    }
    if let Some((slot, time)) = marks.cursor.as_ref().filter(|(slot, _)| *slot >= slots.first) {
        let x = slots.middle(*slot);
        for y in 0..inside {
            let place = (canvas.area.x + x, canvas.area.y + y);
            canvas.buffer[place].set_bg(theme::CURSOR);
        }
        let label = format!(" {time} ");
        let most = (canvas.width() - LABELS).saturating_sub(canvas::columns(&label));
        canvas.put(x.saturating_sub(canvas::columns(&label) / 2).min(most), inside, &label, theme::chosen());
    }
}

/// Lines where days begin and time was left out, and the labels of the time axis.
fn draw_time(scene: &Scene, slots: &ColumnSlots, inside: u16, canvas: &mut Canvas<'_>) {
    let shown = || scene.edges.iter().filter(|e| e.slot > slots.first);
    // Lines close together are no help.
    let room = usize::from(slots.columns / 6);
    let days = shown().count() <= room;
    let breaks = shown().filter(|e| e.kind == EdgeKind::Break).count() <= room;
    for edge in shown() {
        let mark = match edge.kind {
            EdgeKind::Day if days => "╎",
            EdgeKind::Break if breaks => "┃",
            _ => continue,
        };
        let x = slots.left(edge.slot).saturating_sub(u16::from(slots.each() > 1));
        (0..inside).for_each(|y| {
            canvas.put(x, y, mark, theme::rule());
        });
    }
    let mut free = 0;
    for tick in scene.ticks.iter().filter(|t| t.slot >= slots.first) {
        let x = slots.middle(tick.slot);
        if x >= free && x + canvas::columns(&tick.label) < slots.columns {
            free = canvas.put(x, inside, &format!("╵{}", tick.label), theme::faint()) + 1;
        }
    }
}

/// The half of a cell that a value lies in, counted from the top of a pane.
fn half_of(pane: &Pane, height: u16, value: f64) -> i64 {
    let halves = f64::from(height) * 2.0;
    let share = 1.0 - pane.share_of(value);
    ((share * (halves - 1.0)).round() as i64).clamp(0, halves as i64 - 1)
}

fn draw_pane(pane: &Pane, slots: &ColumnSlots, canvas: &mut Canvas<'_>) {
    let mut line = 0;
    if !pane.layers.iter().any(|layer| matches!(layer, Layer::Columns(_))) {
        draw_prices(pane, canvas);
    }
    for layer in &pane.layers {
        match layer {
            Layer::Strokes(bars) => draw_strokes(pane, bars, slots, canvas),
            Layer::Candles(candles) => {
                let height = canvas.height();
                let known =
                    candles.iter().enumerate().skip(slots.first).filter_map(|(i, c)| Some((i, (*c)?)));
                for (slot, candle) in known {
                    let place = (slots.left(slot), slots.middle(slot), slots.body());
                    let colour = if candle.rises() { theme::RISING } else { theme::FALLING };
                    draw_candle(&candle, place, colour, &|v| half_of(pane, height, v), canvas);
                }
            }
            Layer::Columns(values) => draw_columns(pane, values, slots, canvas),
            Layer::Line { values, .. } => {
                draw_line(pane, values, slots, line, canvas);
                line += 1;
            }
        }
    }
}

/// Prices on the scale, with dots across.
fn draw_prices(pane: &Pane, canvas: &mut Canvas<'_>) {
    let (right, height) = (canvas.width() - LABELS, canvas.height());
    for label in pane.labels() {
        let y = (half_of(pane, height, label) / 2) as u16;
        canvas.put(right + 1, y, &format!("{label:.*}", pane.decimals), theme::faint());
        for x in (0..right).step_by(4) {
            canvas.put(x, y, "·", theme::rule());
        }
    }
}

/// Bars as strokes from low to high, with the open at the left and the close at the right.
fn draw_strokes(pane: &Pane, bars: &[Option<Candle>], slots: &ColumnSlots, canvas: &mut Canvas<'_>) {
    let height = canvas.height();
    for (slot, bar) in bars.iter().enumerate().skip(slots.first) {
        let Some(bar) = bar else { continue };
        let line = |price: f64| (half_of(pane, height, price) / 2) as u16;
        let style = theme::words().fg(if bar.rises() { theme::RISING } else { theme::FALLING });
        let (open, close) = (line(bar.open), line(bar.close));
        for y in line(bar.high)..=line(bar.low) {
            let mark = match (y == open, y == close) {
                (true, true) => "┼",
                (true, false) => "┤",
                (false, true) => "├",
                (false, false) => "│",
            };
            canvas.put(slots.middle(slot), y, mark, style);
        }
    }
}

fn draw_columns(pane: &Pane, values: &[Option<f64>], slots: &ColumnSlots, canvas: &mut Canvas<'_>) {
    let (height, right) = (canvas.height(), canvas.width() - LABELS);
    // Halves join without a gap; finer characters do not.
    let halves = f64::from(height) * 2.0;
    for (slot, value) in values.iter().enumerate().skip(slots.first) {
        let Some(value) = value else { continue };
        let filled = (value / pane.high.max(f64::MIN_POSITIVE) * halves).round() as i64;
        for y in 0..height {
            let mark = match filled - 2 * i64::from(height - 1 - y) {
                ..=0 => continue,
                1 => "▄",
                _ => "█",
            };
            canvas.put(slots.left(slot), y, &mark.repeat(slots.body() as usize), theme::faint());
        }
    }
    canvas.put(right + 1, 0, &pane.name, theme::faint());
    if height > 1 {
        canvas.put(right + 1, height - 1, &format!("max {:.0}", pane.high), theme::faint());
    }
}

/// A line through the middles of its slots, in dots; the second and later ones are broken, so that they can be told
/// apart without colour.
fn draw_line(pane: &Pane, values: &[Option<f64>], slots: &ColumnSlots, line: usize, canvas: &mut Canvas<'_>) {
    let (width, height) = (canvas.width() - LABELS, canvas.height());
    let mut dots = DotLine::new(width, height, if line == 0 { 1 } else { 2 });
    let rows = f64::from(height) * 4.0 - 1.0;
    for (slot, value) in values.iter().enumerate().skip(slots.first) {
        // Halves are clamped to the pane; a line may leave it.
        let point = value.map(|v| {
            let share = 1.0 - pane.share_of(v);
            (i64::from(slots.middle(slot)) * 2, (share * rows).round() as i64)
        });
        dots.to(point);
    }
    dots.draw(theme::words().fg(line_colour(line)), canvas);
}

/// Something drawn: its lines in dots, its words beside it, and its points where it is chosen.
fn draw_drawing(
    pane: &Pane,
    drawing: &SceneDrawing,
    scene: &Scene,
    slots: &ColumnSlots,
    canvas: &mut Canvas<'_>,
) {
    let (count, colour) = (scene.times.len() as f64, theme::drawn(drawing.colour));
    let (width, height) = (canvas.width() - LABELS, canvas.height());
    let rows = f64::from(height) * 4.0 - 1.0;
    for stretch in drawing.stretches(pane, count) {
        let mut dots = DotLine::new(width, height, 1);
        for (slot, share) in stretch {
            dots.to(Some((slots.dots_at(slot), ((1.0 - share) * rows).round() as i64)));
        }
        dots.draw(theme::words().fg(colour), canvas);
    }
    let cell = |slot: f64, share: f64| {
        let x = u16::try_from(slots.dots_at(slot) / 2).ok().filter(|x| *x < width)?;
        Some((x, ((1.0 - share) * (f64::from(height) - 1.0)).round() as u16))
    };
    let style = if drawing.is_chosen { theme::strong().fg(colour) } else { theme::words().fg(colour) };
    if drawing.is_chosen {
        for point in &drawing.points {
            let share = pane.share_of(point.price);
            if let Some((x, y)) = cell(point.slot, share).filter(|_| (0.0..=1.0).contains(&share)) {
                canvas.put(x, y, "◆", style);
            }
        }
    }
    if let Some((x, y)) = drawing.words_at(pane, count).and_then(|(slot, share)| cell(slot, share)) {
        let wide = canvas::columns(&drawing.words).min(width);
        canvas.part(0, 0, width, height).put(
            (x + 1).min(width - wide),
            y.saturating_sub(1),
            &drawing.words,
            style,
        );
    }
}

/// A price marked on the scale, with dots across what is empty.
fn draw_level(pane: &Pane, level: &PriceLevel, canvas: &mut Canvas<'_>) {
    if !(pane.low..=pane.high).contains(&level.price) {
        return;
    }
    let right = canvas.width() - LABELS;
    let y = (half_of(pane, canvas.height(), level.price) / 2) as u16;
    for x in 0..right {
        let place = (canvas.area.x + x, canvas.area.y + y);
        if matches!(canvas.buffer[place].symbol(), " " | "·" | "╎" | "┃") {
            canvas.put(x, y, "┈", theme::words().fg(level.colour));
        }
    }
    scale_label(pane, level.price, level.name, y, Style::new().fg(theme::GROUND).bg(level.colour), canvas);
}

fn draw_cursor_price(pane: &Pane, price: f64, canvas: &mut Canvas<'_>) {
    let y = (half_of(pane, canvas.height(), price) / 2) as u16;
    for x in 0..canvas.width() - LABELS {
        let place = (canvas.area.x + x, canvas.area.y + y);
        canvas.buffer[place].set_bg(theme::CURSOR);
    }
    scale_label(pane, price, "", y, theme::chosen(), canvas);
}

fn scale_label(pane: &Pane, price: f64, name: &str, y: u16, style: Style, canvas: &mut Canvas<'_>) {
    let right = canvas.width() - LABELS;
    let text = format!("{price:.*}", pane.decimals);
    let label = if name.is_empty() { format!(" {text} ") } else { format!("{name} {text}") };
    canvas.put(right, y, &format!("{label:<width$}", width = LABELS as usize - 1), style);
}

/// Draws a candle: its first column, that of its wick, and the columns of its body; `half_of` gives the half of a
/// cell that a price lies in.
pub fn draw_candle(
    candle: &Candle,
    (left, middle, wide): (u16, u16, u16),
    colour: Color,
    half_of: &impl Fn(f64) -> i64,
    canvas: &mut Canvas<'_>,
) {
    let (high, low) = (half_of(candle.high), half_of(candle.low));
    let (top, bottom) = (half_of(candle.open.max(candle.close)), half_of(candle.open.min(candle.close)));
    for y in high / 2..=low / 2 {
        let (upper, lower) = (2 * y, 2 * y + 1);
        let body = |half: i64| (top..=bottom).contains(&half);
        let wick = |half: i64| (high..=low).contains(&half);
        let (mark, is_body) = match (body(upper), body(lower)) {
            (true, true) => ("█", true),
            (true, false) => ("▀", true),
            (false, true) => ("▄", true),
            (false, false) if wick(upper) && wick(lower) => ("│", false),
            (false, false) if wick(upper) => ("╵", false),
            (false, false) => ("╷", false),
        };
        let style = theme::words().fg(colour);
        if is_body {
            canvas.put(left, y as u16, &mark.repeat(wide as usize), style);
        } else {
            canvas.put(middle, y as u16, mark, style);
        }
    }
}

/// The price that lies at a line of the first pane of a scene of some height.
pub fn price_at(scene: &Scene, line: u16, height: u16) -> Option<f64> {
    let pane = scene.panes.first()?;
    let own = *pane_heights(scene, height.saturating_sub(1)).first()?;
    let share = (f64::from(line) + 0.5) / f64::from(own.max(1));
    (line < own).then(|| in_points(pane, pane.value_at(1.0 - share)))
}

/// The price that lies a line above one in the first pane of a scene of some height, or below it.
pub fn price_beside(scene: &Scene, price: f64, down: bool, height: u16) -> Option<f64> {
    let pane = scene.panes.first()?;
    let own = *pane_heights(scene, height.saturating_sub(1)).first()?;
    let line = 1.0 / f64::from(own.max(1));
    let share = pane.share_of(price) + if down { -line } else { line };
    Some(in_points(pane, pane.value_at(share.clamp(0.0, 1.0))))
}

/// A price rounded to the decimals of a pane.
fn in_points(pane: &Pane, price: f64) -> f64 {
    let unit = 10f64.powi(pane.decimals as i32);
    (price * unit).round() / unit
}

/// The time of the slot at a column of a scene of some width.
pub fn time_at(scene: &Scene, column: u16, width: u16) -> Option<Micros> {
    let slots = ColumnSlots::of(scene, width);
    scene.times.get(slots.slot_at(column)?).copied()
}

/// The colour of a scene's line.
pub fn line_colour(i: usize) -> Color {
    [theme::GOOD, theme::source(2), theme::source(0)][i % 3]
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::buffer::Buffer;
    use ratatui::layout::Rect;

    fn drawn(candles: Vec<Candle>, width: u16) -> Vec<String> {
        let times = (0..candles.len() as i64).collect();
        let pane = Pane {
            name: "price".into(),
            share: 1.0,
            low: 0.0,
            high: 7.0,
            decimals: 0,
            is_log: false,
            layers: vec![Layer::Candles(candles.into_iter().map(Some).collect())],
        };
        let scene = Scene { times, panes: vec![pane], ..Scene::default() };
        let area = Rect { x: 0, y: 0, width: width + LABELS, height: 5 };
        let mut buffer = Buffer::empty(area);
        draw_scene(&scene, &SceneMarks::default(), Canvas::new(&mut buffer, area));
        (0..4)
            .map(|y| (0..width).map(|x| buffer[(x, y)].symbol()).collect::<String>().replace('·', " "))
            .collect()
    }

    #[test]
    fn a_candle_is_drawn_in_half_cells() {
        // Eight halves from 7 at the top to 0: the body fills 5 down to 2, wicks reach 6 and 1.
        let candle = Candle { open: 2.0, high: 6.0, low: 1.0, close: 5.0 };
        let flat = Candle { open: 3.0, high: 3.0, low: 3.0, close: 3.0 };
        let mut many = vec![flat; 7];
        many.push(candle);
        assert_eq!(drawn(many, 8), ["       ╷", "       █", "▀▀▀▀▀▀▀█", "       ╵"]);
    }

    #[test]
    fn few_bars_are_wide_and_of_too_many_the_newest_are_seen() {
        let flat = |v: f64| Candle { open: v, high: v, low: v, close: v };
        assert_eq!(drawn(vec![flat(7.0), flat(7.0)], 8)[0], "▀▀▀ ▀▀▀ ");
        // Three bars fill ten columns; one is no wider than six.
        assert_eq!(drawn(vec![flat(7.0); 3], 10)[0], "▀▀ ▀▀ ▀▀  ");
        assert_eq!(drawn(vec![flat(7.0)], 10)[0], "    ▀▀▀▀▀ ");
        let row = &drawn((0..20).map(|i| flat(if i < 16 { 0.0 } else { 7.0 })).collect(), 8)[0];
        assert_eq!(row, "    ▀▀▀▀");
    }

    #[test]
    fn panes_have_room_or_are_left_out_and_fill_the_height_together() {
        let pane = |share: f64| Pane {
            name: String::new(),
            share,
            low: 0.0,
            high: 7.0,
            decimals: 0,
            is_log: false,
            layers: Vec::new(),
        };
        for shares in [vec![1.0], vec![0.7, 0.15, 0.15], vec![0.5, 0.2, 0.1, 0.1, 0.1]] {
            let scene = Scene { panes: shares.iter().map(|s| pane(*s)).collect(), ..Scene::default() };
            for inside in 0..60 {
                let heights = pane_heights(&scene, inside);
                assert_eq!(heights.iter().sum::<u16>(), inside, "{heights:?}");
                assert!(heights[1..].iter().all(|height| *height >= LEAST_BELOW), "{heights:?} of {inside}");
                assert!(heights.len() == 1 || heights[0] >= LEAST_ABOVE, "{heights:?} of {inside}");
            }
        }
        let scene = Scene { panes: [0.7, 0.15, 0.15].map(pane).to_vec(), ..Scene::default() };
        assert_eq!(pane_heights(&scene, 8), [6, 2]);
        assert_eq!(pane_heights(&scene, 40), [28, 6, 6]);
        // A line of the first pane is a step of the pointer there, whatever stands below.
        let (at, beside) = (price_at(&scene, 2, 9).unwrap(), price_beside(&scene, 3.0, true, 9).unwrap());
        assert_eq!((at, beside), (4.0, 2.0));
    }

    #[test]
    fn every_column_belongs_to_a_slot_and_slots_fill_the_width() {
        for count in [1usize, 2, 7, 60, 61, 119, 120, 300] {
            let scene = Scene { times: (0..count as i64).collect(), ..Scene::default() };
            let slots = ColumnSlots::of(&scene, 120 + LABELS);
            let shown = count.min(120);
            assert_eq!(slots.first, count - shown);
            assert_eq!(slots.slot_at(119), Some(count - 1), "{count}");
            let lefts: Vec<u16> = (slots.first..count).map(|s| slots.left(s)).collect();
            assert!(lefts.windows(2).all(|w| w[1] - w[0] >= slots.each()), "{count}: {lefts:?}");
            for slot in slots.first..count {
                assert_eq!(slots.slot_at(slots.middle(slot)), Some(slot));
            }
            assert!(count < 20 || lefts[0] == 0);
        }
    }
}
