//! What stands about the bars of the chart: title, scale marks, findings, seams and events.

use stavel_core::check::FindingKind;
use stavel_core::model::price::{as_float, scaled};
use stavel_core::model::time::wall;
use stavel_core::model::{BarView, Clock, Columns, Field, Frame, Made, Micros, SeriesName, Side};
use stavel_core::store::InstrumentFact;
use stavel_draw::{EdgeKind, Layer, Scene};

use crate::canvas::Canvas;
use crate::scene_view::{ColumnSlots, PriceLevel, SceneMarks, line_colour};
use crate::theme;
use crate::view::View;

/// Bars to draw, and the scene made of them.
pub struct ChartScene {
    pub frame: Frame,
    /// The bars that are drawn.
    pub bars: Columns,
    pub scene: Scene,
    pub series: SeriesName,
    /// True where the times are as written.
    pub is_afloat: bool,
}

/// The series, its frame, and what the lines are.
/// Gives the column behind them.
pub fn title(drawn: &ChartScene, shows_gaps: bool, canvas: &mut Canvas<'_>) -> u16 {
    let mut x = canvas.put(1, 0, &drawn.scene.title, theme::words());
    x = canvas.put(x, 0, &format!("  bars of {}", drawn.frame), theme::strong());
    if shows_gaps {
        x = canvas.put(x, 0, "  time without rows shown", theme::faint());
    } else if drawn.scene.edges.iter().any(|e| e.kind == EdgeKind::Break) {
        x = canvas.put(x, 0, "  ┃ time left out", theme::faint());
    }
    let lines = drawn.scene.panes.iter().flat_map(|p| &p.layers).filter_map(|l| match l {
        Layer::Line { name, .. } => Some(name),
        _ => None,
    });
    for (i, name) in lines.enumerate() {
        let mark = if i == 0 { "⠒⠒" } else { "⠂⠂" };
        x = canvas.put(x + 2, 0, &format!("{mark} {name}"), theme::words().fg(line_colour(i)));
    }
    x
}

/// The bar under the cursor in one line, where there is no room for facts.
pub fn bar_line(drawn: &ChartScene, at: usize, clock: &Clock, canvas: &mut Canvas<'_>) {
    let decimals = drawn.bars.scale.price;
    let value = |f: Field| drawn.bars.cells(f).get(at).map_or("–".to_owned(), |v| scaled(v, decimals));
    let mut x = canvas.put(1, 0, &format!("{} ", drawn.frame), theme::strong());
    x = canvas.put(x, 0, &time_in_words(drawn, drawn.bars.time[at], clock), theme::words());
    for (name, field) in [("O", Field::Open), ("H", Field::High), ("L", Field::Low), ("C", Field::Close)] {
        x = canvas.put(x, 0, &format!(" {name} "), theme::faint());
        x = canvas.put(x, 0, &value(field), theme::words());
    }
    if let Some(spread) = drawn.bars.cells(Field::Spread).get(at) {
        canvas.put(x, 0, &format!(" spread {spread}"), theme::faint());
    }
}

/// A time on the clock of display; as written where that is not known.
pub fn time_in_words(drawn: &ChartScene, time: Micros, clock: &Clock) -> String {
    if drawn.is_afloat {
        return format!("{} written", wall(time));
    }
    wall(clock.to_wall(time))
}

/// Cursor, last price, and bid and ask, on the scales.
pub fn marks_of(
    drawn: &ChartScene,
    cursor: Option<usize>,
    pressed_price: Option<f64>,
    clock: &Clock,
) -> SceneMarks {
    let bars = BarView::new(&drawn.bars);
    let decimals = drawn.bars.scale.price;
    let slot = cursor.and_then(|at| {
        let time = *drawn.bars.time.get(at)?;
        let slot = drawn.scene.times.binary_search(&time).ok()?;
        Some((slot, time_in_words(drawn, time, clock)))
    });
    let at_cursor = cursor.and_then(|at| Some(as_float(bars.bar(at)?.close, decimals)));
    let last = (0..bars.len()).rev().find_map(|i| Some((i, bars.bar(i)?)));
    let levels = last.map_or_else(Vec::new, |(i, bar)| {
        let spread = drawn.bars.cells(Field::Spread).get(i);
        levels_of(drawn.series.side, as_float(bar.close, decimals), spread.map(|s| as_float(s, decimals)))
    });
    // The newest bar has its price marked already.
    let is_newest = last.is_some_and(|(i, _)| cursor == Some(i));
    let cursor_price = pressed_price.or(at_cursor.filter(|_| !is_newest));
    SceneMarks { cursor: slot, cursor_price, levels, ..SceneMarks::default() }
}

/// The last price of a series that follows a side, and the other side where its spread is known.
fn levels_of(side: Side, close: f64, spread: Option<f64>) -> Vec<PriceLevel> {
    let level = |price, name, colour| PriceLevel { price, name, colour };
    let (bid, ask) = match (side, spread) {
        // Trades have neither.
        (Side::Last, _) | (_, None) => return vec![level(close, "", theme::WORDS)],
        (Side::Bid, Some(spread)) => (close, close + spread),
        (Side::Ask, Some(spread)) => (close - spread, close),
        (Side::Mid, Some(spread)) => (close - spread / 2.0, close + spread / 2.0),
    };
    vec![level(ask, "ask", theme::RISING), level(bid, "bid", theme::FALLING)]
}

/// What check found in this series, where its sources meet, and dated facts, above the bars.
pub fn above(view: &View<'_>, drawn: &ChartScene, dates: &[&InstrumentFact], mut canvas: Canvas<'_>) {
    let slots = ColumnSlots::of(&drawn.scene, canvas.width());
    let times = &drawn.scene.times;
    let (Some(&first), Some(&last)) = (times.get(slots.first), times.last()) else { return };
    let end = last + drawn.frame.length();
    let mut mark = |from: Micros, to: Micros, mark: &str, colour| {
        if to > first && from < end {
            let slot = times.partition_point(|t| *t <= from).saturating_sub(1).max(slots.first);
            canvas.put(slots.middle(slot), 0, mark, theme::words().fg(colour));
        }
    };
    for (fact, (shape, colour)) in dates.iter().filter_map(|fact| Some((fact, crate::dates::mark(fact)?))) {
        mark(fact.time, fact.time + 1, shape, colour);
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bid_and_ask_lie_about_the_price_as_its_side_says() {
        let told = |side, spread| -> Vec<(&str, f64)> {
            let levels = levels_of(side, 10.0, spread);
            levels.into_iter().map(|level| (level.name, level.price)).collect()
        };
        assert_eq!(told(Side::Bid, Some(2.0)), [("ask", 12.0), ("bid", 10.0)]);
        assert_eq!(told(Side::Ask, Some(2.0)), [("ask", 10.0), ("bid", 8.0)]);
        assert_eq!(told(Side::Mid, Some(2.0)), [("ask", 11.0), ("bid", 9.0)]);
        // Where no spread is known, the price is only the last one.
        assert_eq!(told(Side::Bid, None), [("", 10.0)]);
        assert_eq!(told(Side::Last, Some(2.0)), [("", 10.0)]);
    }
}
