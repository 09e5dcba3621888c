//! Rows of a short time as upright strokes: what a place looks like, without a whole chart.

use ratatui::style::Color;
use stavel_core::model::columns::is_filled;
use stavel_core::model::{BarView, Columns, Field, Span};

use crate::canvas::Canvas;
use crate::theme;

/// The highest and lowest price of each row; none of rows without a price.
fn prices(rows: &Columns) -> Vec<Option<(i64, i64)>> {
    let bars = BarView::new(rows);
    let (ask, bid, last) = (rows.cells(Field::Ask), rows.cells(Field::Bid), rows.cells(Field::Last));
    let of_tick = |i: usize| {
        let (a, b) = (ask.get(i).or(bid.get(i)), bid.get(i).or(ask.get(i)));
        a.zip(b).or_else(|| last.get(i).map(|p| (p, p)))
    };
    (0..rows.len()).map(|i| bars.bar(i).map(|b| (b.high, b.low)).or_else(|| of_tick(i))).collect()
}

/// The lowest and highest price in two sets of rows, in points; the first is above the second where there is none.
pub fn scale_of(before: &Columns, after: &Columns) -> (i64, i64) {
    let both = [before, after].into_iter().flat_map(prices).flatten();
    both.fold((i64::MAX, i64::MIN), |(a, b), (high, low)| (a.min(low), b.max(high)))
}

/// Prices as upright strokes from low to high, one a column of time; filled bars are faint.
pub fn draw_rows(
    rows: &Columns,
    window: Span,
    (bottom, top): (i64, i64),
    colour: Color,
    mut canvas: Canvas<'_>,
) {
    let prices = prices(rows);
    if prices.iter().all(Option::is_none) || top < bottom {
        canvas.put(0, 0, "no rows", theme::faint());
        return;
    }
    let (width, height) = (canvas.width() as i64, canvas.height() as i64);
    if width < 2 || height < 2 {
        return;
    }
    let line = |price: i64| {
        ((top - price) as f64 / (top - bottom).max(1) as f64 * (height - 1) as f64).round() as u16
    };
    let origin = rows.column(Field::Origin);
    for column in 0..width {
        let time = |c: i64| window.from + window.length() / width * c;
        let range = rows.range_of(Span::new(time(column), time(column + 1)));
        let here = || prices[range.clone()].iter().flatten();
        let (Some(up), Some(down)) = (here().map(|p| p.0).max(), here().map(|p| p.1).min()) else {
            continue;
        };
        let made_up = origin.get(range.start).is_some_and(|o| is_filled(*o));
        let style = theme::words().fg(if made_up { theme::FAINT } else { colour });
        for y in line(up)..=line(down) {
            canvas.put(column as u16, y, if made_up { "╌" } else { "│" }, style);
        }
    }
}
