//! Rows of a short time as upright strokes: what a place looks like, without a whole chart.

use ratatui::style::Color;
use stavel_core::model::columns::FILLED;
use stavel_core::model::{Columns, Field, Span};

use crate::canvas::Canvas;
use crate::theme;

fn prices(rows: &Columns) -> Option<(&[i64], &[i64])> {
    [(Field::High, Field::Low), (Field::Ask, Field::Bid), (Field::Last, Field::Last)]
        .into_iter()
        .map(|(high, low)| (rows.column(high), rows.column(low)))
        .find(|(high, _)| !high.is_empty())
}

/// The lowest and highest price of both.
pub fn scale_of(before: &Columns, after: &Columns) -> (i64, i64) {
    let both = [before, after].into_iter().filter_map(prices);
    let ends = both.map(|(high, low)| (low.iter().min().copied(), high.iter().max().copied()));
    ends.fold((i64::MAX, i64::MIN), |(a, b), (low, high)| {
        (a.min(low.unwrap_or(i64::MAX)), b.max(high.unwrap_or(i64::MIN)))
    })
}

/// Prices as upright strokes from low to high, one a column of time; filled bars are faint.
pub fn draw_rows(
    rows: &Columns,
    window: Span,
    (bottom, top): (i64, i64),
    colour: Color,
    mut canvas: Canvas<'_>,
) {
    let (Some((high, low)), true) = (prices(rows), top >= bottom) else {
        canvas.put(0, 0, "no rows", theme::faint());
        return;
    };
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
        let (Some(up), Some(down)) = (high[range.clone()].iter().max(), low[range.clone()].iter().min())
        else {
            continue;
        };
        let made_up = origin.get(range.start) == Some(&FILLED);
        let style = theme::words().fg(if made_up { theme::FAINT } else { colour });
        for y in line(*up)..=line(*down) {
            canvas.put(column as u16, y, if made_up { "╌" } else { "│" }, style);
        }
    }
}
