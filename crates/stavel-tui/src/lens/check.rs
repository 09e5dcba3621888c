//! Check: a calendar of days shaded by completeness, and what was found.

use stavel_core::check::{Finding, Kind, Mend, Report, check_series};
use stavel_core::model::price::scaled;
use stavel_core::model::time::{DAY, HOUR, civil_from_days, date, day_of, monday_of, wall, weekday};
use stavel_core::model::{SeriesName, Span, time};
use stavel_core::recipe::{CheckStep, Step};

use super::{Fact, scroll, step};
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::{Canvas, thousands};
use crate::jobs::Slot;
use crate::overlay::{Overlay, Prompt};
use crate::theme;

#[derive(Default)]
pub struct State {
    pub report: Slot<Report>,
    at: usize,
}

impl State {
    /// What was found in a series, if that is what was checked last.
    pub fn found_in(&self, app: &App, series: &SeriesName) -> Option<&Report> {
        let edition = app.snapshot.find(series)?.edition.id;
        self.report.get().filter(|_| self.report.is_for(&edition.to_string())).map(|r| r.as_ref())
    }
}

pub fn want(app: &mut App) {
    let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)) else { return };
    let (name, key) = (info.name.clone(), format!("{}", info.edition.id));
    app.check.report.want(
        key,
        &app.threads,
        |app| Some(&mut app.check.report),
        move |shelf, job| check_series(shelf, &name, Span::ALL, job).map(|(_, report)| report),
    );
}

/// More findings of one kind than this in the window are told by their first alone.
const TOGETHER: usize = 12;

/// The findings in the window: each, or the first of a kind that has very many.
fn seen<'a>(app: &App, report: &'a Report) -> Vec<&'a Finding> {
    let inside: Vec<&Finding> =
        report.findings.iter().filter(|f| f.span.overlap(&app.window).is_some()).collect();
    let of_kind = inside.chunk_by(|a, b| a.kind == b.kind);
    of_kind.flat_map(|run| if run.len() > TOGETHER { &run[..1] } else { run }).copied().collect()
}

/// How many findings of a kind are in the window.
fn count_in_window(app: &App, report: &Report, kind: Kind) -> usize {
    report.findings.iter().filter(|f| f.kind == kind && f.span.overlap(&app.window).is_some()).count()
}

pub fn act(app: &mut App, act: Act) {
    let Some(report) = app.check.report.get().cloned() else { return };
    let seen = seen(app, &report);
    let chosen = seen.get(app.check.at).copied();
    match act {
        Act::Up | Act::Down => app.check.at = step(app.check.at, seen.len(), act == Act::Down),
        Act::Enter => {
            if let Some(f) = chosen {
                app.show_place(f.span.from, (f.span.length() * 2).clamp(HOUR, 60 * DAY));
            }
        }
        Act::Mend => match (chosen, app.selected.clone()) {
            (Some(f), Some(series)) => match f.kind.mend_in_words() {
                Some(words) => {
                    let (kind, (n, rows)) = (f.kind, report.count(f.kind));
                    let label = format!("mend {n} findings of {} ({rows} rows): {words}? y/n", kind.word());
                    app.overlay = Some(Overlay::Prompt(Prompt::new(label, "y", move |app, answer| {
                        if answer.starts_with('y') {
                            let mend = vec![Mend::Kind(kind)];
                            app.start(Step::Check(CheckStep { mend, ..CheckStep::of(series) }));
                        }
                    })));
                }
                None => app.say(format!("{} has no mend here", f.kind.word()), Tone::Plain),
            },
            _ => app.say("no finding is chosen", Tone::Plain),
        },
        Act::MendAll => {
            let due = |k: &&Kind| k.is_mended_by_default() && report.count(**k).0 > 0;
            let kinds: Vec<Kind> = Kind::ALL.iter().filter(due).copied().collect();
            match (app.selected.clone(), kinds.is_empty()) {
                (Some(series), false) => {
                    let words: Vec<String> =
                        kinds.iter().map(|k| format!("{} {}", k.word(), report.count(*k).1)).collect();
                    let label = format!("mend {} rows? y/n", words.join(", "));
                    app.overlay = Some(Overlay::Prompt(Prompt::new(label, "y", move |app, answer| {
                        if answer.starts_with('y') {
                            let mend = kinds.into_iter().map(Mend::Kind).collect();
                            app.start(Step::Check(CheckStep { mend, ..CheckStep::of(series) }));
                        }
                    })));
                }
                _ => app.say("nothing found here has a mend", Tone::Plain),
            }
        }
        _ => {}
    }
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let report = match &app.check.report.value {
        Some(Ok(report)) => report,
        Some(Err(err)) => {
            canvas.paragraph(1, &err.to_string(), theme::words().fg(theme::WRONG));
            return;
        }
        None => {
            canvas.put(2, 1, "checking …", theme::faint());
            return;
        }
    };
    let width = canvas.width();
    let calendar = draw_calendar(app, report, canvas.part(0, 0, width, 9));
    let height = canvas.height().saturating_sub(calendar);
    let mut below = canvas.part(0, calendar, width, height);
    below.rule(0, theme::rule());
    let kinds = draw_kinds(report, &mut below);
    draw_findings(app, report, below.part(kinds, 1, width.saturating_sub(kinds), height.saturating_sub(1)));
}

/// Weeks across, weekdays down; several weeks share a column where the window is long. Gives the lines used.
fn draw_calendar(app: &App, report: &Report, mut canvas: Canvas<'_>) -> u16 {
    let left = 5u16;
    let columns = (canvas.width().saturating_sub(left + 1) as i64).max(1);
    let (first, last) = (monday_of(day_of(app.window.from)), day_of(app.window.to - 1));
    let weeks = ((last - first) / 7 + 1).max(1);
    // A week has its part of the width: several columns, or one together with its neighbours.
    let column_of = |week: i64| (week * columns / weeks).min(columns - 1);
    for (i, name) in ["mon", "tue", "wed", "thu", "fri", "sat", "sun"].iter().enumerate() {
        canvas.put(1, i as u16 + 1, name, theme::faint());
    }
    let mut free = 0;
    for week in 0..weeks {
        let (year, month, day) = civil_from_days(first + week * 7 + 6);
        let is_new = if weeks > 80 { month == 1 && day <= 7 } else { day <= 7 };
        if is_new && column_of(week) >= free {
            let label =
                if month == 1 { year.to_string() } else { date(first + week * 7 + 6)[..7].to_owned() };
            canvas.put(left + column_of(week) as u16, 0, &label, theme::faint());
            free = column_of(week) + 9;
        }
    }
    let from = report.days.partition_point(|d| d.day < first);
    for d in report.days[from..].iter().take_while(|d| d.day <= last) {
        let week = (d.day - first) / 7;
        let share = d.share();
        let colour = if share < 0.5 {
            theme::WRONG
        } else if share < 0.97 {
            theme::RISING
        } else {
            theme::source(0)
        };
        let mark = if share < 0.2 { "·" } else { theme::shade(share) };
        for column in column_of(week)..column_of(week + 1).max(column_of(week) + 1) {
            let (x, y) = (left + column as u16, weekday(d.day) as u16 + 1);
            // Of days that share a cell, the emptiest is seen.
            let taken =
                canvas.buffer.cell((canvas.area.x + x, canvas.area.y + y)).is_some_and(|c| c.symbol() != " ");
            if !taken || share < 0.97 {
                canvas.put(x, y, mark, theme::words().fg(colour));
            }
        }
    }
    for column in 0..columns {
        let day = |c: i64| (first + c * weeks * 7 / columns) * DAY;
        mark_findings(
            report,
            Span::new(day(column), day(column + 1).max(day(column) + 1)),
            left + column as u16,
            &mut canvas,
        );
    }
    canvas.put(1, 8, "findings", theme::faint());
    9
}

/// The worst finding of a column's weeks, below it.
fn mark_findings(report: &Report, span: Span, x: u16, canvas: &mut Canvas<'_>) {
    let inside =
        report.findings.iter().filter(|f| f.kind != Kind::ClosedMarket && f.span.overlap(&span).is_some());
    if let Some(worst) = inside.map(|f| f.kind.severity()).max() {
        let (mark, colour) = theme::severity(worst);
        // The label stands at the left; marks begin where it ends.
        if x > 9 {
            canvas.put(x, 8, mark, theme::words().fg(colour));
        }
    }
}

/// Kinds with their counts at the left; gives the columns used.
fn draw_kinds(report: &Report, canvas: &mut Canvas<'_>) -> u16 {
    let wide = if canvas.width() >= 90 { 36 } else { 0 };
    if wide == 0 {
        return 0;
    }
    canvas.put(1, 1, "kind", theme::faint());
    canvas.put_right(24, 1, "found", theme::faint());
    canvas.put_right(34, 1, "rows", theme::faint());
    for (i, kind) in Kind::ALL.iter().enumerate() {
        let (n, rows) = report.count(*kind);
        let (mark, colour) = theme::severity(kind.severity());
        let style = if n > 0 { theme::words() } else { theme::rule().fg(theme::FAINT) };
        let y = i as u16 + 2;
        canvas.put(1, y, mark, theme::words().fg(if n > 0 { colour } else { theme::RULE }));
        canvas.put(3, y, kind.word(), style);
        canvas.put_right(24, y, &if n > 0 { n.to_string() } else { "–".into() }, style);
        if rows > 0 {
            canvas.put_right(34, y, &thousands(rows), theme::faint());
        }
    }
    wide
}

fn draw_findings(app: &App, report: &Report, mut canvas: Canvas<'_>) {
    let seen = seen(app, report);
    let all: usize = Kind::ALL.iter().map(|k| count_in_window(app, report, *k)).sum();
    let head = match all {
        0 => "nothing found in this window".to_owned(),
        n => format!("{n} findings in this window"),
    };
    canvas.put(1, 0, &head, theme::faint());
    let rows = canvas.height().saturating_sub(1) as usize;
    let at = app.check.at.min(seen.len().saturating_sub(1));
    let first = scroll(at, rows, seen.len());
    for (i, f) in seen.iter().enumerate().skip(first).take(rows) {
        let y = (i - first) as u16 + 1;
        let (mark, colour) = theme::severity(f.kind.severity());
        let style = if i == at { theme::chosen() } else { theme::words() };
        canvas.put(1, y, mark, theme::words().fg(colour));
        let n = count_in_window(app, report, f.kind);
        let many = if n > TOGETHER { format!("{n} times, the first: ") } else { String::new() };
        canvas.put(
            3,
            y,
            &format!("{:<16} {:<16} {many}{}", wall(f.span.from), f.kind.word(), f.detail),
            style,
        );
    }
}

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(report) = app.check.report.get() else { return Vec::new() };
    let decimals =
        app.selected.as_ref().and_then(|s| app.snapshot.find(s)).map_or(0, |s| s.edition.scale.price);
    let price = |e: stavel_core::check::Extreme| scaled(e.points, decimals);
    let missing: Vec<String> = report.missing_days().map(date).collect();
    let mut out = vec![
        Fact::heading("completeness"),
        Fact::Pair("rows", thousands(report.rows)),
        Fact::Pair("covered", format!("{:.2} %", report.coverage * 100.0)),
        Fact::Pair("days", report.days.len().to_string()),
        Fact::Pair("empty days", if missing.is_empty() { "none".into() } else { missing.len().to_string() }),
        Fact::Pair("gaps", report.gaps.len().to_string()),
        Fact::Pair("filler", format!("{} closed", thousands(report.filler_closed))),
        Fact::Pair("quiet", format!("{} open, kept", thousands(report.filler_open))),
        Fact::Gap,
        Fact::heading("largest"),
        Fact::Pair("high-low", price(report.max_range)),
        Fact::words(format!("  {}", wall(report.max_range.at))),
        Fact::Pair("jump", price(report.max_gap)),
        Fact::words(format!("  {}", wall(report.max_gap.at))),
    ];
    if let Some(s) = report.spread {
        out.push(Fact::Gap);
        out.push(Fact::heading("spread in points"));
        for (label, value) in [("median", s.median), ("p90", s.p90), ("p99", s.p99), ("max", s.max)] {
            out.push(Fact::Pair(label, value.to_string()));
        }
    }
    if let Some(f) = seen(app, report).get(app.check.at) {
        out.push(Fact::Gap);
        out.push(Fact::heading(f.kind.word()));
        out.push(Fact::words(format!("{} … {}", wall(f.span.from), wall(f.span.to))));
        out.push(Fact::words(time::length_in_words(f.span.length())));
        out.push(Fact::words(match f.kind.mend_in_words() {
            Some(words) => format!("m: {words}"),
            None => "Enter: see it on the chart".into(),
        }));
    }
    out
}
