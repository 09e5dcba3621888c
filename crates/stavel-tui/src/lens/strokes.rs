//! Rows of a short time as a little chart: what a place looks like, with the candles of the large one.

use ratatui::style::Color;
use stavel_core::model::columns::is_filled;
use stavel_core::model::{Bar, BarView, Columns, Field, Span};
use stavel_draw::Candle;

use crate::canvas::Canvas;
use crate::scene_view::draw_candle;
use crate::theme;

/// Each row as a bar, in points: a tick from its bid to its ask. None of rows without a price.
fn bars_of(rows: &Columns) -> Vec<Option<Bar>> {
    let bars = BarView::new(rows);
    let (ask, bid, last) = (rows.cells(Field::Ask), rows.cells(Field::Bid), rows.cells(Field::Last));
    let of_tick = |i: usize| {
        let (a, b) = (ask.get(i).or(bid.get(i)), bid.get(i).or(ask.get(i)));
        let (high, low) = a.zip(b).or_else(|| last.get(i).map(|p| (p, p)))?;
        Some(Bar { high, low, ..Bar::flat(low) })
    };
    (0..rows.len()).map(|i| bars.bar(i).or_else(|| of_tick(i))).collect()
}

/// The lowest and highest price in two sets of rows, in points; the first is above the second where there is none.
pub fn scale_of(before: &Columns, after: &Columns) -> (i64, i64) {
    let both = [before, after].into_iter().flat_map(bars_of).flatten();
    both.fold((i64::MAX, i64::MIN), |(a, b), bar| (a.min(bar.low), b.max(bar.high)))
}

/// The narrowest bar with the gap beside it, in columns.
const NARROW: i64 = 2;

/// Rows as candles of equal time that fill the width, each two to six columns; those that were filled in are faint.
pub fn draw_rows(
    rows: &Columns,
    window: Span,
    (bottom, top): (i64, i64),
    colour: Color,
    mut canvas: Canvas<'_>,
) {
    let bars = bars_of(rows);
    if bars.iter().all(Option::is_none) || top < bottom {
        canvas.put(0, 0, "no rows", theme::faint());
        return;
    }
    let (width, height) = (i64::from(canvas.width()), i64::from(canvas.height()));
    if width < NARROW || height < 2 {
        return;
    }
    let slots = (width / NARROW).min(rows.len().max(4) as i64).max(1);
    let halves = height * 2;
    let half_of = |price: f64| {
        let share = (top as f64 - price) / (top - bottom).max(1) as f64;
        ((share * (halves - 1) as f64).round() as i64).clamp(0, halves - 1)
    };
    let origin = rows.column(Field::Origin);
    for slot in 0..slots {
        let time = |s: i64| window.from + (window.length() as f64 * s as f64 / slots as f64) as i64;
        let range = rows.range_of(Span::new(time(slot), time(slot + 1)));
        let Some(bar) = bars[range.clone()].iter().flatten().copied().reduce(joined) else { continue };
        let made_up = origin.get(range.start).is_some_and(|o| is_filled(*o));
        let [open, high, low, close] = [bar.open, bar.high, bar.low, bar.close].map(|p| p as f64);
        let left = slot * width / slots;
        let body = (width / slots - 1).clamp(1, 5);
        let place = (left as u16, (left + (body - 1) / 2) as u16, body as u16);
        let colour = if made_up { theme::RULE } else { colour };
        draw_candle(&Candle { open, high, low, close }, place, colour, &half_of, &mut canvas);
    }
}

/// Two bars as one.
fn joined(first: Bar, next: Bar) -> Bar {
    Bar { open: first.open, high: first.high.max(next.high), low: first.low.min(next.low), close: next.close }
}
