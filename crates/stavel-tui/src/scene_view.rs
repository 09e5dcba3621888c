//! A scene drawn with characters: candles in half cells, columns in eighths, lines in dots.

use stavel_draw::{Candle, Layer, Pane, Scene};

use crate::canvas::Canvas;
use crate::theme;

/// Columns for the price labels.
pub const LABELS: u16 = 11;

/// Where the slots of a scene lie: each as many columns wide as there is room for.
pub struct ColumnSlots {
    pub first: usize,
    each: u16,
}

impl ColumnSlots {
    pub fn of(scene: &Scene, width: u16) -> ColumnSlots {
        let columns = width.saturating_sub(LABELS).max(1) as usize;
        let count = scene.times.len();
        ColumnSlots {
            first: count.saturating_sub(columns),
            each: (columns / count.clamp(1, columns)).clamp(1, 5) as u16,
        }
    }

    /// First column of a slot.
    fn left(&self, slot: usize) -> u16 {
        (slot - self.first) as u16 * self.each
    }

    /// The column its wick stands in.
    pub fn middle(&self, slot: usize) -> u16 {
        self.left(slot) + (self.each - 1) / 2
    }

    /// Columns its body fills; wide slots leave a gap to the next.
    fn body(&self) -> u16 {
        if self.each > 2 { self.each - 1 } else { 1 }
    }
}

/// Draws a scene with a slot for each bar, the newest at the right; the last line is the time axis.
pub fn draw_scene(scene: &Scene, cursor: Option<usize>, mut canvas: Canvas<'_>) {
    let slots = ColumnSlots::of(scene, canvas.width());
    if canvas.height() < 5 || canvas.width() < LABELS + 8 {
        return;
    }
    let inside = canvas.height() - 1;
    let mut free = 0;
    for tick in scene.ticks.iter().filter(|t| t.slot >= slots.first) {
        let x = slots.middle(tick.slot);
        if x < free {
            continue;
        }
        (0..inside).for_each(|y| {
            canvas.put(x, y, "╎", theme::rule());
        });
        free = canvas.put(x, inside, &tick.label, theme::faint()) + 1;
    }
    let mut top = 0;
    for (i, pane) in scene.panes.iter().enumerate() {
        let is_last = i + 1 == scene.panes.len();
        let height = if is_last {
            inside - top
        } else {
            ((inside as f64 * pane.share).round() as u16).clamp(2, inside - top)
        };
        let width = canvas.width();
        draw_pane(pane, &slots, canvas.part(0, top, width, height));
        top += height;
    }
    if let Some(at) = cursor.filter(|c| *c >= slots.first) {
        let x = slots.middle(at);
        for y in 0..inside {
            let place = (canvas.area.x + x, canvas.area.y + y);
            canvas.buffer[place].set_bg(ratatui::style::Color::Rgb(0x2c, 0x33, 0x42));
        }
    }
}

fn draw_pane(pane: &Pane, slots: &ColumnSlots, mut canvas: Canvas<'_>) {
    let right = canvas.width() - LABELS;
    let height = canvas.height();
    // Half a cell is the finest step of a candle.
    let halves = height as f64 * 2.0;
    let half_of = |value: f64| {
        let share = (pane.high - value) / (pane.high - pane.low);
        ((share * (halves - 1.0)).round() as i64).clamp(0, halves as i64 - 1)
    };
    let mut line = 0;
    for layer in &pane.layers {
        match layer {
            Layer::Candles(candles) => {
                for label in pane.labels() {
                    let y = (half_of(label) / 2) as u16;
                    canvas.put(right + 1, y, &format!("{label:.*}", pane.decimals), theme::faint());
                    for x in (0..right).step_by(4) {
                        canvas.put(x, y, "·", theme::rule());
                    }
                }
                for (slot, candle) in candles.iter().enumerate().skip(slots.first) {
                    draw_candle(
                        candle,
                        (slots.left(slot), slots.middle(slot), slots.body()),
                        &half_of,
                        &mut canvas,
                    );
                }
            }
            Layer::Columns(values) => {
                let eighths = height as f64 * 8.0;
                for (slot, value) in values.iter().enumerate().skip(slots.first) {
                    let Some(value) = value else { continue };
                    let filled = (value / pane.high.max(f64::MIN_POSITIVE) * eighths).round();
                    for y in 0..height {
                        let here = filled / 8.0 - (height - 1 - y) as f64;
                        if here > 0.0 {
                            let mark = theme::eighths(here).repeat(slots.body() as usize);
                            canvas.put(slots.left(slot), y, &mark, theme::faint());
                        }
                    }
                }
                canvas.put(right + 1, 0, &pane.name, theme::faint());
                if height > 1 {
                    canvas.put(
                        right + 1,
                        height - 1,
                        &format!("max {:.0}", pane.high),
                        theme::rule().fg(theme::FAINT),
                    );
                }
            }
            Layer::Line { values, .. } => {
                let style = theme::words().fg(line_colour(line));
                line += 1;
                for (slot, value) in values.iter().enumerate().skip(slots.first) {
                    if let Some(v) = value.filter(|v| (pane.low..=pane.high).contains(v)) {
                        canvas.put(slots.middle(slot), (half_of(v) / 2) as u16, "•", style);
                    }
                }
            }
        }
    }
}

fn draw_candle(
    candle: &Candle,
    (left, middle, wide): (u16, u16, u16),
    half_of: &impl Fn(f64) -> i64,
    canvas: &mut Canvas<'_>,
) {
    let (high, low) = (half_of(candle.high), half_of(candle.low));
    let (top, bottom) = (half_of(candle.open.max(candle.close)), half_of(candle.open.min(candle.close)));
    let colour = if candle.rises() { theme::RISING } else { theme::FALLING };
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

/// The colour of a scene's line.
pub fn line_colour(i: usize) -> ratatui::style::Color {
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
            layers: vec![Layer::Candles(candles)],
        };
        let scene = Scene { title: String::new(), times, panes: vec![pane], ticks: vec![] };
        let area = Rect { x: 0, y: 0, width: width + LABELS, height: 5 };
        let mut buffer = Buffer::empty(area);
        draw_scene(&scene, None, Canvas::new(&mut buffer, area));
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
        let row = &drawn((0..20).map(|i| flat(if i < 16 { 0.0 } else { 7.0 })).collect(), 8)[0];
        assert_eq!(row, "    ▀▀▀▀");
    }
}
