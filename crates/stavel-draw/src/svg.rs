//! A scene as SVG.

use svg::Document;
use svg::node::Text as Words;
use svg::node::element::{Group, Line, Path, Rectangle, Text, path::Data};

use crate::scene::{Layer, Pane, Scene};

/// Size of the picture.
pub const WIDTH: f64 = 1200.0;
/// See [`WIDTH`].
pub const HEIGHT: f64 = 720.0;
const LEFT: f64 = 16.0;
const RIGHT: f64 = 92.0;
const TOP: f64 = 48.0;
const BOTTOM: f64 = 34.0;

const INK: &str = "#0d1117";
const WORDS: &str = "#c8c2b0";
const RULE: &str = "#2a303c";
const RISING: &str = "#e6c384";
const FALLING: &str = "#7e9cd8";
const LINES: [&str; 3] = ["#7fb4ca", "#c0a36e", "#b48ead"];

/// Draws a scene. The same scene gives the same bytes.
pub fn draw(scene: &Scene) -> String {
    let mut document = Document::new()
        .set("viewBox", (0, 0, WIDTH as i64, HEIGHT as i64))
        .set("font-family", "Hack, monospace")
        .add(Rectangle::new().set("width", WIDTH).set("height", HEIGHT).set("fill", INK))
        .add(words(LEFT, 28.0, &scene.title, 15).set("fill", WORDS));
    let across = Across { slots: scene.times.len().max(1) };
    let mut top = TOP;
    let inside = HEIGHT - TOP - BOTTOM;
    for tick in &scene.ticks {
        let x = across.middle(tick.slot);
        document = document
            .add(rule(x, TOP, x, HEIGHT - BOTTOM))
            .add(words(x, HEIGHT - 12.0, &tick.label, 11).set("fill", WORDS).set("text-anchor", "middle"));
    }
    for pane in &scene.panes {
        let height = inside * pane.share;
        document = document.add(draw_pane(pane, &across, top + 6.0, height - 12.0));
        top += height;
        document = document.add(rule(LEFT, top, WIDTH - RIGHT, top));
    }
    document.to_string()
}

/// Where slots lie.
struct Across {
    slots: usize,
}

impl Across {
    fn step(&self) -> f64 {
        (WIDTH - LEFT - RIGHT) / self.slots as f64
    }
    fn middle(&self, slot: usize) -> f64 {
        LEFT + (slot as f64 + 0.5) * self.step()
    }
}

fn draw_pane(pane: &Pane, across: &Across, top: f64, height: f64) -> Group {
    let y = |value: f64| top + height * (pane.high - value) / (pane.high - pane.low);
    let mut group = Group::new();
    for label in labels(pane) {
        let at = y(label);
        group = group.add(rule(LEFT, at, WIDTH - RIGHT, at)).add(
            words(WIDTH - RIGHT + 8.0, at + 4.0, &format!("{label:.*}", pane.decimals), 11)
                .set("fill", WORDS),
        );
    }
    group = group.add(words(LEFT + 4.0, top + 12.0, &pane.name, 11).set("fill", "#6b7280"));
    let mut line = 0;
    for layer in &pane.layers {
        group = match layer {
            Layer::Candles(candles) => candles.iter().enumerate().fold(group, |group, (i, c)| {
                let colour = if c.rises() { RISING } else { FALLING };
                let (x, half) = (across.middle(i), (across.step() * 0.36).max(0.3));
                let (upper, lower) = (y(c.open.max(c.close)), y(c.open.min(c.close)));
                let wick = Line::new()
                    .set("x1", n(x))
                    .set("x2", n(x))
                    .set("y1", n(y(c.high)))
                    .set("y2", n(y(c.low)));
                let body = Rectangle::new()
                    .set("x", n(x - half))
                    .set("y", n(upper))
                    .set("width", n(half * 2.0))
                    .set("height", n((lower - upper).max(0.8)))
                    .set("fill", colour);
                group.add(wick.set("stroke", colour).set("stroke-width", 0.8)).add(body)
            }),
            Layer::Columns(values) => values.iter().enumerate().fold(group, |group, (i, v)| {
                let Some(v) = v else { return group };
                let half = (across.step() * 0.36).max(0.3);
                let at = y(*v);
                group.add(
                    Rectangle::new()
                        .set("x", n(across.middle(i) - half))
                        .set("y", n(at))
                        .set("width", n(half * 2.0))
                        .set("height", n((top + height - at).max(0.0)))
                        .set("fill", "#54546d"),
                )
            }),
            Layer::Line { name, values } => {
                let colour = LINES[line % LINES.len()];
                line += 1;
                let legend = words(LEFT + 60.0 + 150.0 * line as f64, top + 12.0, &format!("― {name}"), 11);
                group.add(polyline(values, across, y, colour)).add(legend.set("fill", colour))
            }
        };
    }
    group
}

fn polyline(values: &[Option<f64>], across: &Across, y: impl Fn(f64) -> f64, colour: &str) -> Path {
    let mut data = Data::new();
    let mut drawing = false;
    for (i, value) in values.iter().enumerate() {
        match value {
            Some(v) => {
                let point = (n(across.middle(i)), n(y(*v)));
                data = if drawing { data.line_to(point) } else { data.move_to(point) };
                drawing = true;
            }
            None => drawing = false,
        }
    }
    Path::new().set("d", data).set("fill", "none").set("stroke", colour).set("stroke-width", 1.2)
}

/// Round values within a pane, four or so.
pub fn labels(pane: &Pane) -> Vec<f64> {
    let span = pane.high - pane.low;
    let want = if pane.share > 0.4 { 6.0 } else { 2.0 };
    let rough = span / want;
    let power = 10f64.powf(rough.log10().floor());
    let step =
        [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= rough).unwrap_or(power * 10.0);
    let first = (pane.low / step).ceil();
    (0..20).map(|i| (first + i as f64) * step).take_while(|v| *v <= pane.high).collect()
}

/// Hundredths of a unit are finer than any screen and keep the file small.
fn n(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

fn rule(x1: f64, y1: f64, x2: f64, y2: f64) -> Line {
    Line::new()
        .set("x1", n(x1))
        .set("y1", n(y1))
        .set("x2", n(x2))
        .set("y2", n(y2))
        .set("stroke", RULE)
        .set("stroke-width", 0.6)
}

fn words(x: f64, y: f64, text: &str, size: u32) -> Text {
    Text::new("").add(Words::new(text)).set("x", n(x)).set("y", n(y)).set("font-size", size)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::{SceneRequest, scene, tests::bars};
    use stavel_core::model::Clock;

    #[test]
    fn a_picture_is_drawn_twice_alike_with_every_bar_and_harmless_words() {
        let rows = bars(50);
        let request = SceneRequest {
            title: "NOKSEK <script>".into(),
            bars: &rows,
            with: None,
            average: Some(5),
            clock: &Clock::utc(),
        };
        let picture = draw(&scene(&request));
        assert_eq!(picture, draw(&scene(&request)));
        // The background, a body a bar, and a column a bar for volume and for spread.
        assert_eq!(picture.matches("<rect").count(), 1 + 50 * 3);
        assert!(picture.contains("&lt;script&gt;") && picture.contains("mean of 5"));
        let pdf = crate::pdf::from_svg(&picture).unwrap();
        assert!(pdf.starts_with(b"%PDF") && pdf.len() > 5000);
    }
}
