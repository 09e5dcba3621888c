//! The spine: the whole history on one axis, a strip a series, a bracket for the window.

use std::ops::Range;

use stavel_core::model::time::{DAY, civil_from_days, date, day_of, days_from_civil};
use stavel_core::model::{Micros, Span};
use stavel_core::store::{FactFilter, SeriesInfo};

use crate::canvas::{self, Canvas, thousands};
use crate::data::Snapshot;
use crate::dates;
use crate::theme;
use crate::view::View;

/// Columns left of the axis, for names.
const NAMES: u16 = 13;
/// Columns right of it, for words about the series.
const WORDS: u16 = 38;

/// The series shown, at most `most`, the chosen one always among them.
fn shown<'a>(view: &View<'a>, most: usize) -> Vec<&'a SeriesInfo> {
    let mut rows: Vec<&SeriesInfo> = view.snapshot.roots_of(view.instrument_name()).collect();
    let chosen = view.series();
    rows.truncate(most);
    if let Some(chosen) = chosen.filter(|c| !rows.iter().any(|r| r.name == c.name))
        && let Some(last) = rows.last_mut()
    {
        *last = chosen;
    }
    rows
}

/// Lines the spine needs: axis, strips, window.
pub fn height(view: &View<'_>, most: usize) -> u16 {
    shown(view, most).len().max(1) as u16 + 2
}

/// Where the axis lies in so many columns.
pub fn axis(width: u16) -> (u16, u16) {
    let words = if width >= 120 { WORDS } else { 0 };
    (NAMES, width.saturating_sub(NAMES + words + 1).max(1))
}

/// The time at a column of the axis.
pub fn time_at(whole: Span, columns: u16, column: u16) -> Micros {
    whole.from + (whole.length() as f64 * column as f64 / columns.max(1) as f64) as Micros
}

fn column_of(whole: Span, columns: u16, t: Micros) -> u16 {
    let share = (t - whole.from) as f64 / whole.length().max(1) as f64;
    (share.clamp(0.0, 1.0) * columns.saturating_sub(1) as f64).round() as u16
}

/// Draws the spine.
pub fn draw(view: &View<'_>, mut canvas: Canvas<'_>, most: usize) {
    let rows = shown(view, most);
    if rows.is_empty() {
        let text = if view.is_read && !view.snapshot.feeds.is_empty() {
            "nothing on the shelf yet: press f to see what feeds have, or i to take files in"
        } else if view.is_read {
            "nothing on the shelf yet: press i to take files in"
        } else {
            "reading the shelf …"
        };
        canvas.put(1, 1, text, theme::faint());
        return;
    }
    let whole = view.whole();
    let (left, columns) = axis(canvas.width());
    for (column, label) in labels(whole, columns) {
        canvas.put(left + column, 0, &label, theme::faint());
    }
    for (i, info) in rows.iter().enumerate() {
        let y = i as u16 + 1;
        let colour = view.snapshot.colour_of(&info.name);
        let chosen = view.selected == Some(&info.name);
        let name_style = if chosen { theme::strong().fg(colour) } else { theme::words().fg(colour) };
        canvas.put(0, y, if chosen { "▸" } else { " " }, name_style);
        canvas.put(1, y, &info.name.short(), name_style);
        strip(view.snapshot, info, whole, columns, |column, mark| {
            canvas.put(left + column, y, mark, theme::words().fg(colour));
        });
        canvas.put(left + columns + 1, y, &about(info), theme::faint());
    }
    let y = rows.len() as u16 + 1;
    let taken = window(view.window, &mut canvas, whole, y);
    // On a clock that is not known nothing tells where dates lie.
    if !view.series().is_some_and(SeriesInfo::is_afloat) {
        let filter = FactFilter { span: Some(whole), ..FactFilter::default() };
        let facts = view.snapshot.facts_about(view.instrument_name(), &filter);
        for (column, shape, colour) in dates::on_axis(&facts, columns, |t| column_of(whole, columns, t)) {
            if !taken.iter().any(|taken| taken.contains(&column)) {
                canvas.put(left + column, y, shape, theme::words().fg(colour));
            }
        }
    }
}

/// Calls `mark` for every column of a strip with its shade.
pub fn strip(
    snapshot: &Snapshot,
    info: &SeriesInfo,
    whole: Span,
    columns: u16,
    mut mark: impl FnMut(u16, &'static str),
) {
    let Some(coverage) = snapshot.coverage.get(&info.edition.id) else {
        return;
    };
    for column in 0..columns {
        let span = Span::new(time_at(whole, columns, column), time_at(whole, columns, column + 1).max(1));
        let share = coverage.share(span);
        mark(column, if share > 0.0 { theme::shade(share.max(0.05)) } else { " " });
    }
}

fn about(info: &SeriesInfo) -> String {
    let clock = if info.is_afloat() { "afloat".to_owned() } else { years(info) };
    format!("{:>12} rows  {clock}", thousands(info.edition.rows))
}

fn years(info: &SeriesInfo) -> String {
    let days = (info.edition.last - info.edition.first) / DAY;
    match days {
        d if d >= 600 => format!("{:.1} years", d as f64 / 365.25),
        d if d >= 60 => format!("{} months", (d as f64 / 30.44).round()),
        d => format!("{d} days"),
    }
}

/// Years, months or days along the axis, as many as there is room for.
pub fn labels(whole: Span, columns: u16) -> Vec<(u16, String)> {
    let days = whole.length() / DAY;
    let mut out: Vec<(u16, String)> = Vec::new();
    let mut push = |day: i64, label: String| {
        let t = day * DAY;
        if t >= whole.from && t < whole.to {
            let column = column_of(whole, columns, t);
            let free = out.last().is_none_or(|(c, l)| column > c + canvas::columns(l) + 1);
            if free && column + canvas::columns(&label) < columns {
                out.push((column, label));
            }
        }
    };
    let (first, last) = (day_of(whole.from), day_of(whole.to));
    let (from_year, _, _) = civil_from_days(first);
    let (to_year, _, _) = civil_from_days(last);
    if days > 400 {
        (from_year..=to_year).for_each(|y| push(days_from_civil(y, 1, 1), format!("╷{y}")));
    } else if days > 40 {
        for month in from_year * 12..(to_year + 1) * 12 {
            let day = days_from_civil(month.div_euclid(12), month.rem_euclid(12) + 1, 1);
            push(day, format!("╷{}", &date(day)[..7]));
        }
    } else {
        (first..=last).for_each(|d| push(d, format!("╷{}", &date(d)[5..])));
    }
    out
}

/// Draws the bracket of the window on the line of dates; gives the columns of the axis that its ends and its word take.
fn window(window: Span, canvas: &mut Canvas<'_>, whole: Span, y: u16) -> [Range<u16>; 3] {
    let (left, columns) = axis(canvas.width());
    let (a, b) = (column_of(whole, columns, window.from), column_of(whole, columns, window.to));
    let style = theme::words();
    if b > a + 1 {
        let inside = (b - a - 1) as usize;
        let name = if inside >= 8 { " window " } else { "" };
        let line: String = "─".repeat((inside - name.len()) / 2);
        let rest = "─".repeat(inside - name.len() - canvas::columns(&line) as usize);
        canvas.put(left + a, y, &format!("╰{line}{name}{rest}╯"), style);
        let word = a + 1 + canvas::columns(&line);
        [a..a + 1, word..word + name.len() as u16, b..b + 1]
    } else {
        canvas.put(left + a, y, "▲", style);
        [a..a + 1, 0..0, 0..0]
    }
}

/// The window in words.
pub fn window_in_words(window: Span) -> String {
    let (from, to) = (day_of(window.from), day_of(window.to - 1));
    if window.length() <= 3 * DAY {
        let wall = stavel_core::model::time::wall;
        return format!("{} … {}", &wall(window.from)[..16], &wall(window.to)[..16]);
    }
    format!("{} … {}", date(from), date(to))
}
