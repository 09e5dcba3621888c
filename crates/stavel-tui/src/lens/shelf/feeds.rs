//! What feeds have, piece by piece on one time axis, and what of it is here.

use ratatui::style::Color;
use stavel_core::model::time::{HOUR, date, day_of, length_in_words, wall};
use stavel_core::model::{SeriesName, Span};
use stavel_work::{FedSeries, FeedSight, PieceSight, counted};

use super::super::FactLine;
use crate::canvas::{Canvas, scroll, thousands};
use crate::spine;
use crate::theme;
use crate::view::View;

/// The series of all feeds, in the order they are shown.
pub fn series_of(feeds: &[FeedSight]) -> Vec<(&FeedSight, &FedSeries)> {
    let of_feed = |seen: &'_ FeedSight| seen.series.as_ref().map_or(0, Vec::len);
    let mut out = Vec::with_capacity(feeds.iter().map(of_feed).sum());
    for seen in feeds {
        out.extend(seen.series.iter().flatten().map(|series| (seen, series)));
    }
    out
}

/// Draws the feeds; `at` is the series that is chosen.
pub fn draw(view: &View<'_>, feeds: &[FeedSight], at: usize, mut canvas: Canvas<'_>) {
    if feeds.is_empty() {
        let told = "No feed yet: stavel feeds --add FILE adds one, stavel stand-in runs a made-up service to try (docs/feeds.md).";
        canvas.paragraph(1, told, theme::words());
        return;
    }
    let spans = series_of(feeds).into_iter().filter_map(|(_, series)| span_of(series));
    let whole = spans.reduce(|a, b| Span::new(a.from.min(b.from), a.to.max(b.to)));
    let is_wide = canvas.width() >= 100;
    let (left, right) = (24u16, if is_wide { 44 } else { 16 });
    let columns = canvas.width().saturating_sub(left + right + 2).max(8);
    canvas.put(1, 0, "▇ here ◐ open · empty ▁ to fetch", theme::faint());
    if let Some(whole) = whole.filter(|_| is_wide) {
        for (column, label) in spine::labels(whole, columns).into_iter().filter(|(c, _)| left + c > 34) {
            canvas.put(left + column, 0, &label, theme::faint());
        }
    }
    let after = left + columns + 1;
    canvas.put_right(after + 14, 0, "to fetch", theme::faint());
    if is_wide {
        canvas.put(after + 17, 0, "here until", theme::faint());
    }
    let bottom = canvas.height().saturating_sub(1);
    let x = canvas.put(1, bottom, "n", theme::strong());
    let x = canvas.put(x + 1, bottom, "fetch what is new of it", theme::faint());
    let x = canvas.put(x + 3, bottom, "w", theme::strong());
    let x = canvas.put(x + 1, bottom, "what lies in the window", theme::faint());
    let x = canvas.put(x + 3, bottom, "f", theme::strong());
    canvas.put(x + 1, bottom, "the list again", theme::faint());
    let rows = usize::from(canvas.height()).saturating_sub(3);
    let lines = lines_of(feeds);
    let place =
        lines.iter().position(|line| matches!(line, FeedLine::Series(i, ..) if *i == at)).unwrap_or(0);
    let from = scroll(place, rows, lines.len());
    for (y, line) in lines.iter().skip(from).take(rows).enumerate() {
        let y = y as u16 + 1;
        match line {
            FeedLine::Feed(seen) => {
                let x = canvas.put(1, y, &seen.feed.name, theme::strong());
                let due: usize = seen.series.iter().flatten().map(|series| series.due().len()).sum();
                let told = match due {
                    0 => seen.feed.address.clone(),
                    due => format!(
                        "{}  all that is missing takes {} at least",
                        seen.feed.address,
                        time_of(seen, due)
                    ),
                };
                canvas.put(x + 2, y, &told, theme::faint());
            }
            FeedLine::Trouble(why) => {
                canvas.put(2, y, &format!("▲ {why}"), theme::words().fg(theme::WRONG));
            }
            FeedLine::Series(i, feed, series) => {
                let colour = colour_of(view, &series.listed.name, *feed);
                let width = canvas.width();
                draw_series(series, (*i == at, colour), (whole, columns), canvas.part(0, y, width, 1));
                let due = series.due().len();
                let told = if due == 0 { "–".to_owned() } else { counted(due as u64, "piece") };
                canvas.put_right(
                    after + 14,
                    y,
                    &told,
                    if due == 0 { theme::faint() } else { theme::words() },
                );
                if is_wide {
                    let until = series.here_last.map_or("nothing here".to_owned(), wall);
                    canvas.put(after + 17, y, &until, theme::faint());
                }
            }
        }
    }
}

/// A line of the list.
enum FeedLine<'a> {
    Feed(&'a FeedSight),
    Trouble(&'a str),
    /// Its place among all, the place of its feed.
    Series(usize, usize, &'a FedSeries),
}

/// The colour of a series: that of its strip on the spine, else one of its feed.
fn colour_of(view: &View<'_>, name: &SeriesName, feed: usize) -> Color {
    match view.snapshot.series.iter().any(|info| info.name == *name) {
        true => view.snapshot.colour_of(name),
        false => theme::source(feed),
    }
}

/// How long so many pieces of a feed take at the pace that it permits.
fn time_of(seen: &FeedSight, pieces: usize) -> String {
    let seconds = (pieces as f64 / seen.feed.limits.per_second).ceil();
    length_in_words((seconds.max(1.0) * 1e6) as i64)
}

fn lines_of(feeds: &[FeedSight]) -> Vec<FeedLine<'_>> {
    let (mut lines, mut at) = (Vec::new(), 0);
    for (feed, seen) in feeds.iter().enumerate() {
        lines.push(FeedLine::Feed(seen));
        match &seen.series {
            Err(why) => lines.push(FeedLine::Trouble(why)),
            Ok(series) => {
                for one in series {
                    lines.push(FeedLine::Series(at, feed, one));
                    at += 1;
                }
            }
        }
    }
    lines
}

fn span_of(series: &FedSeries) -> Option<Span> {
    let (first, last) = (series.listed.first?, series.listed.last?);
    Some(Span::new(first, last.max(first + HOUR)))
}

/// The name and the pieces of a series: a column shows the least of its pieces.
fn draw_series(
    series: &FedSeries,
    (is_chosen, colour): (bool, Color),
    (whole, columns): (Option<Span>, u16),
    mut canvas: Canvas<'_>,
) {
    let name: &SeriesName = &series.listed.name;
    let style = if is_chosen { theme::chosen() } else { theme::words().fg(colour) };
    let label = format!("{} {}", name.instrument, name.frame_and_side());
    canvas.put(2, 0, &format!(" {label:<19} "), style);
    let Some(whole) = whole else { return };
    let column_of = |t: i64| {
        let share = (t - whole.from) as f64 / whole.length().max(1) as f64;
        (share.clamp(0.0, 1.0) * f64::from(columns)) as u16
    };
    let rank = |sight: PieceSight| match sight {
        PieceSight::Missing => 0,
        PieceSight::Open => 1,
        PieceSight::Here => 2,
        PieceSight::Empty => 3,
    };
    let mut shown: Vec<Option<PieceSight>> = vec![None; usize::from(columns)];
    for (piece, sight, _) in &series.pieces {
        let (from, to) =
            (column_of(piece.span.from), column_of(piece.span.to).max(column_of(piece.span.from) + 1));
        for cell in shown.iter_mut().take(usize::from(to)).skip(usize::from(from)) {
            if cell.is_none_or(|before| rank(*sight) < rank(before)) {
                *cell = Some(*sight);
            }
        }
    }
    for (column, sight) in shown.into_iter().enumerate() {
        let (mark, style) = match sight {
            None => continue,
            Some(PieceSight::Here) => ("▇", theme::words().fg(colour)),
            Some(PieceSight::Open) => ("◐", theme::words().fg(colour)),
            Some(PieceSight::Empty) => ("·", theme::faint()),
            Some(PieceSight::Missing) => ("▁", theme::faint()),
        };
        canvas.put(24 + column as u16, 0, mark, style);
    }
}

/// What is under the cursor, in words.
pub fn facts(feeds: &[FeedSight], at: usize) -> Vec<FactLine> {
    let all = series_of(feeds);
    let Some((seen, series)) = all.get(at) else { return Vec::new() };
    let count = |wanted: PieceSight| series.pieces.iter().filter(|(_, sight, _)| *sight == wanted).count();
    let number = |n: usize| thousands(n as u64);
    let mut out = vec![FactLine::heading(series.listed.name.to_string())];
    if let (Some(first), Some(last)) = (series.listed.first, series.listed.last) {
        out.push(FactLine::words(format!("the feed has it from {} to {}", date(day_of(first)), wall(last))));
    }
    out.push(FactLine::Pair(series.unit(), number(series.pieces.len())));
    out.push(FactLine::Pair("here", number(count(PieceSight::Here))));
    for (name, sight) in [("open", PieceSight::Open), ("empty", PieceSight::Empty)] {
        if count(sight) > 0 {
            out.push(FactLine::Pair(name, number(count(sight))));
        }
    }
    let due = series.due();
    out.push(FactLine::Pair("to fetch", number(due.len())));
    if let (Some(first), Some(last)) = (due.first(), due.last()) {
        let time = time_of(seen, due.len());
        out.push(FactLine::words(format!("{first} … {last}, {time} at least")));
    }
    out.push(FactLine::Gap);
    out.push(FactLine::heading("what to do"));
    out.push(FactLine::words("n fetches what follows what is here, w what lies in the window of the spine, p brings everything up to date"));
    out
}
