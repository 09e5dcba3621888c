//! The calendar of a check: days shaded by completeness, with the worst finding of each place.

use stavel_core::check::{CheckReport, Finding, FindingKind};
use stavel_core::model::Span;
use stavel_core::model::time::{DAY, civil_from_days, date, day_of, days_from_civil, monday_of, weekday};

use crate::canvas::Canvas;
use crate::theme;

/// Windows longer than this many weeks are shown as years in rows.
const WEEKS_IN_ROWS: i64 = 80;

/// The calendar of the window; gives the lines used.
pub fn draw(window: Span, report: &CheckReport, canvas: Canvas<'_>) -> u16 {
    if window.length() > WEEKS_IN_ROWS * 7 * DAY {
        draw_years(window, report, canvas)
    } else {
        draw_weeks(window, report, canvas)
    }
}

/// From so many lines on the calendar has room to spare.
const ROOMY: i64 = 11;

/// The colour and the mark of a day or of several, by the emptiest.
fn shade(share: f64) -> (&'static str, ratatui::style::Color) {
    let colour = if share < 0.5 {
        theme::WRONG
    } else if share < 0.97 {
        theme::RISING
    } else {
        theme::source(0)
    };
    (if share < 0.2 { "·" } else { theme::shade(share) }, colour)
}

/// A year a line: its days from left to right, several to a column. Where something was found, its mark stands
/// in the place of the shade.
fn draw_years(window: Span, report: &CheckReport, mut canvas: Canvas<'_>) -> u16 {
    let left = 6u16;
    let columns = (canvas.width().saturating_sub(left + 1) as i64).max(12);
    let year_of = |day: i64| civil_from_days(day).0;
    let (first, last) = (year_of(day_of(window.from)), year_of(day_of(window.to - 1)));
    let lines = canvas.height().saturating_sub(1) as i64;
    // A line apart where there is room, the latest years where there is not even room for all.
    let step = if (last - first + 1) * 2 - 1 <= lines && lines >= ROOMY { 2 } else { 1 };
    let first = first.max(last - lines + 1);
    for month in 1..=12 {
        let x = left + ((month - 1) * columns / 12) as u16;
        let name = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
        canvas.put(x, 0, name[(month - 1) as usize], theme::faint());
    }
    for year in first..=last {
        let y = ((year - first) * step) as u16 + 1;
        let (start, end) = (days_from_civil(year, 1, 1), days_from_civil(year + 1, 1, 1));
        canvas.put(1, y, &year.to_string(), theme::faint());
        for column in 0..columns {
            let day = |c: i64| start + (c * (end - start)) / columns;
            let (from, to) = (day(column), day(column + 1).max(day(column) + 1));
            let at = report.days.partition_point(|d| d.day < from);
            let days = report.days[at..].iter().take_while(|d| d.day < to);
            let Some(least) = days.map(stavel_core::check::DayCoverage::share).min_by(f64::total_cmp) else {
                continue;
            };
            let span = Span::new(from * DAY, to * DAY);
            let (mark, colour) = match worst(report, span) {
                Some(finding) => theme::severity(finding.kind.severity()),
                None => shade(least),
            };
            canvas.put(left + column as u16, y, mark, theme::words().fg(colour));
        }
    }
    ((last - first) * step + 2) as u16
}

/// The worst finding that touches a span.
fn worst(report: &CheckReport, span: Span) -> Option<&Finding> {
    let told = |f: &&Finding| {
        !matches!(f.kind, FindingKind::ClosedMarket | FindingKind::StubDay) && f.span.overlap(&span).is_some()
    };
    report.findings.iter().filter(told).max_by_key(|f| f.kind.severity())
}

/// Weeks across, weekdays down; several weeks share a column where the window is long. Gives the lines used.
fn draw_weeks(window: Span, report: &CheckReport, mut canvas: Canvas<'_>) -> u16 {
    let left = 5u16;
    let columns = (canvas.width().saturating_sub(left + 1) as i64).max(1);
    let (first, last) = (monday_of(day_of(window.from)), day_of(window.to - 1));
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
        let (mark, colour) = shade(share);
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
fn mark_findings(report: &CheckReport, span: Span, x: u16, canvas: &mut Canvas<'_>) {
    if let Some(worst) = worst(report, span) {
        let (mark, colour) = theme::severity(worst.kind.severity());
        // The label stands at the left; marks begin where it ends.
        if x > 9 {
            canvas.put(x, 8, mark, theme::words().fg(colour));
        }
    }
}
