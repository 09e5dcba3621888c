//! What feeds have, piece by piece on one time axis, and what of it is here.

use std::collections::BTreeSet;

use ratatui::style::Color;
use stavel_core::model::time::{HOUR, date, day_of, length_in_words, wall};
use stavel_core::model::{SeriesName, Span};
use stavel_work::{FedSeries, FeedSight, PieceSight, counted};

use super::super::FactLine;
use super::queue::{self, QueueSight};
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

/// The feeds on a screen: where the axis lies, and what is known of a fetch that runs.
struct FeedsPage<'p> {
    view: &'p View<'p>,
    marked: &'p BTreeSet<SeriesName>,
    queue: Option<QueueSight>,
    whole: Option<Span>,
    /// Columns of the axis.
    columns: u16,
    is_wide: bool,
}

/// Columns left of the axis.
const LEFT: u16 = 24;

/// Draws the feeds; `at` is the series that is chosen.
pub fn draw(
    view: &View<'_>,
    feeds: &[FeedSight],
    (at, marked): (usize, &BTreeSet<SeriesName>),
    mut canvas: Canvas<'_>,
) {
    if feeds.is_empty() {
        let told = "No feed yet: stavel feeds --add FILE adds one, stavel stand-in runs a made-up service to try (docs/feeds.md).";
        canvas.paragraph(1, told, theme::words());
        return;
    }
    let spans = series_of(feeds).into_iter().filter_map(|(_, series)| span_of(series));
    let is_wide = canvas.width() >= 100;
    let right = if is_wide { 44 } else { 16 };
    let page = FeedsPage {
        view,
        marked,
        queue: view.job.and_then(|(job, begun)| QueueSight::of(job, begun)),
        whole: spans.reduce(|a, b| Span::new(a.from.min(b.from), a.to.max(b.to))),
        columns: canvas.width().saturating_sub(LEFT + right + 2).max(8),
        is_wide,
    };
    page.draw_head(&mut canvas);
    page.draw_keys(&mut canvas);
    let bottom = canvas.height().saturating_sub(1);
    let mut rows = usize::from(canvas.height()).saturating_sub(3);
    if let Some(queue) = &page.queue {
        rows = rows.saturating_sub(2);
        queue.draw(canvas.part(0, bottom.saturating_sub(2), canvas.width(), 2));
    }
    let lines = lines_of(feeds);
    let place =
        lines.iter().position(|line| matches!(line, FeedLine::Series(i, ..) if *i == at)).unwrap_or(0);
    let from = scroll(place, rows, lines.len());
    for (y, line) in lines.iter().skip(from).take(rows).enumerate() {
        let canvas = canvas.part(0, y as u16 + 1, canvas.width(), 1);
        page.draw_line(line, at, canvas);
    }
}

impl FeedsPage<'_> {
    /// The column behind the axis.
    fn after(&self) -> u16 {
        LEFT + self.columns + 1
    }

    fn draw_head(&self, canvas: &mut Canvas<'_>) {
        canvas.put(1, 0, "▇ here ▒ of files ◐ open · empty ▁ to fetch", theme::faint());
        if let Some(whole) = self.whole.filter(|_| self.is_wide) {
            for (column, label) in
                spine::labels(whole, self.columns).into_iter().filter(|(c, _)| LEFT + c > 45)
            {
                canvas.put(LEFT + column, 0, &label, theme::faint());
            }
        }
        let (pieces, until) =
            if self.queue.is_some() { ("come", "the queue") } else { ("to fetch", "here until") };
        canvas.put_right(self.after() + 14, 0, pieces, theme::faint());
        if self.is_wide {
            canvas.put(self.after() + 17, 0, until, theme::faint());
        }
    }

    fn draw_keys(&self, canvas: &mut Canvas<'_>) {
        let of_marked = if self.marked.is_empty() {
            "fetch what is new of it"
        } else {
            "fetch what is new of the marked"
        };
        let keys: &[(&str, &str)] = match self.queue {
            Some(_) => &[
                ("v", "hold, go on"),
                ("b", "this one first"),
                ("d", "leave its rest away"),
                ("Esc", "stop"),
            ],
            None => &[
                ("n", of_marked),
                ("w", "what lies in the window"),
                ("m", "mark"),
                ("e", "dates and specs"),
                ("f", "the list again"),
            ],
        };
        let (bottom, mut x) = (canvas.height().saturating_sub(1), 1);
        for (key, words) in keys {
            x = canvas.put(x, bottom, key, theme::strong());
            x = canvas.put(x + 1, bottom, words, theme::faint()) + 3;
        }
    }

    fn draw_line(&self, line: &FeedLine<'_>, at: usize, mut canvas: Canvas<'_>) {
        match line {
            FeedLine::Feed(seen) => {
                let x = canvas.put(1, 0, &seen.feed.name, theme::strong());
                let due: usize = seen.series.iter().flatten().map(|series| series.due().len()).sum();
                let told = match due {
                    0 if seen.feed.series.is_empty() => format!("{}  {}", seen.feed.address, says_of(seen)),
                    0 => seen.feed.address.clone(),
                    due => {
                        let time = time_of(seen, due);
                        format!("{}  all that is missing takes {time} at least", seen.feed.address)
                    }
                };
                canvas.put(x + 2, 0, &told, theme::faint());
            }
            FeedLine::Trouble(why) => {
                canvas.put(2, 0, &format!("▲ {why}"), theme::words().fg(theme::WRONG));
            }
            FeedLine::Series(i, feed, series) => self.draw_series_line((*i == at, *feed), series, canvas),
        }
    }

    fn draw_series_line(&self, (is_chosen, feed): (bool, usize), series: &FedSeries, mut canvas: Canvas<'_>) {
        let name = &series.listed.name;
        let colour = colour_of(self.view, name, feed);
        let width = canvas.width();
        draw_series(series, (is_chosen, colour), (self.whole, self.columns), canvas.part(0, 0, width, 1));
        if self.marked.contains(name) {
            canvas.put(1, 0, "+", theme::strong());
        }
        let due = series.due().len();
        let waiting = self.queue.as_ref().and_then(|queue| queue.line(name));
        let told = match (waiting, due) {
            (Some((_, line)), _) => format!("{} of {}", line.done, line.total),
            (None, 0) => "–".to_owned(),
            (None, due) => counted(due as u64, "piece"),
        };
        canvas.put_right(self.after() + 14, 0, &told, if due == 0 { theme::faint() } else { theme::words() });
        if !self.is_wide {
            return;
        }
        let until = || (series.here_last.map_or("nothing here".to_owned(), wall), theme::faint());
        let (told, style) = waiting.map_or_else(until, |(place, line)| queue::state_of(place, line));
        canvas.put(self.after() + 17, 0, &told, style);
    }
}

/// A line of the list.
enum FeedLine<'a> {
    Feed(&'a FeedSight),
    Trouble(&'a str),
    /// Its place among all, the place of its feed.
    Series(usize, usize, &'a FedSeries),
}

/// What a feed says beside histories.
fn says_of(seen: &FeedSight) -> String {
    let mut says: Vec<String> = seen.feed.dates.iter().map(|dates| dates.tells.to_string()).collect();
    says.extend(seen.feed.specs.iter().map(|_| "specs".to_owned()));
    says.join(", ")
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
        PieceSight::FromFiles => 2,
        PieceSight::Here => 3,
        PieceSight::Empty => 4,
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
            Some(PieceSight::FromFiles) => ("▒", theme::words().fg(colour)),
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
    for (name, sight) in
        [("of files", PieceSight::FromFiles), ("open", PieceSight::Open), ("empty", PieceSight::Empty)]
    {
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
