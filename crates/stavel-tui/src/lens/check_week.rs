//! The hours of the week: how busy each is, and how wide the spread.

use stavel_core::check::{CheckReport, HourStats};
use stavel_core::model::Micros;
use stavel_core::model::time::{self, DAY, HOUR};

use crate::canvas::Canvas;
use crate::theme;
use crate::view::View;

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// Two weeks side by side, days down and hours across: rows (or movement) and spread.
/// `at` is the hour of the week looked at.
pub fn draw(report: &CheckReport, at: usize, mut canvas: Canvas<'_>) {
    let each = 2u16;
    let wide = 24 * each + 6;
    let both = canvas.width() >= wide * 2 + 4;
    let busy: Vec<f64> = report.hours.iter().map(HourStats::movement).collect();
    draw_one("points moved an hour", &busy, at, canvas.part(1, 0, wide, 10), each);
    let spreads: Vec<f64> = report.hours.iter().map(|h| h.spread.unwrap_or(0) as f64).collect();
    let second = if both { canvas.part(wide + 4, 0, wide, 10) } else { canvas.part(1, 10, wide, 10) };
    if spreads.iter().any(|s| *s > 0.0) {
        draw_one("median spread in points", &spreads, at, second, each);
    } else {
        let mut second = second;
        second.put(0, 0, "no spread is known of this series", theme::faint());
    }
    let y = if both { 10 } else { 20 };
    draw_hour(report, at, y, &mut canvas);
    let y = y + 2;
    let (width, height) = (canvas.width(), canvas.height().saturating_sub(y));
    draw_months(report, canvas.part(1, y, width, height));
}

/// How full each month is: years down, months across.
fn draw_months(report: &CheckReport, mut canvas: Canvas<'_>) {
    canvas.put(0, 0, "covered by month, %", theme::words());
    let months = report.months();
    let (Some(first), Some(last)) = (months.first(), months.last()) else {
        canvas.put(0, 1, "not known while it is afloat", theme::faint());
        return;
    };
    let lines = canvas.height().saturating_sub(2) as i64;
    let first = first.year.max(last.year - lines + 1);
    for month in 1..=12u16 {
        canvas.put_right(5 + month * 7, 1, &format!("{month:02}"), theme::faint());
    }
    for m in months.iter().filter(|m| m.year >= first) {
        let y = (m.year - first) as u16 + 2;
        let share = m.present as f64 * 100.0 / m.expected.max(1) as f64;
        let colour = if share < 97.0 { theme::RISING } else { theme::WORDS };
        canvas.put(0, y, &m.year.to_string(), theme::faint());
        canvas.put_right(5 + m.month as u16 * 7, y, &format!("{share:.1}"), theme::words().fg(colour));
    }
}

/// The hour looked at, in numbers.
fn draw_hour(report: &CheckReport, at: usize, y: u16, canvas: &mut Canvas<'_>) {
    let Some(hour) = report.hours.get(at) else { return };
    let spread = hour.spread.map_or(String::new(), |s| format!(", median spread {s} points"));
    let told = format!(
        "{} {:02}:00  {:.0} points moved, {:.0} rows{spread}   ↑↓ day, , . hour, Enter: on the chart",
        DAYS[at / 24 % 7],
        at % 24,
        hour.movement(),
        hour.activity()
    );
    canvas.put(1, y, &told, theme::words());
}

/// The middle of the last time that an hour of the week came, in or before the window.
pub fn last_time_of(hour: usize, report: &CheckReport, view: &View<'_>) -> Option<Micros> {
    let clock = &view.instrument()?.sheet.session.clock;
    let end = report.last.min(view.window.to);
    let wall = clock.to_wall(end);
    let monday = time::monday_of(time::day_of(wall)) * DAY;
    let here = |week: i64| monday + week * 7 * DAY + hour as i64 * HOUR;
    let written = if here(0) + HOUR <= wall { here(0) } else { here(-1) };
    Some(clock.from_wall(written).settle() + HOUR / 2)
}

fn draw_one(title: &str, hours: &[f64], at: usize, mut canvas: Canvas<'_>, each: u16) {
    let most = hours.iter().copied().fold(0.0, f64::max).max(1.0);
    let busiest = hours.iter().position(|h| *h == most).unwrap_or(0);
    canvas.put(0, 0, &format!("{title}: up to {most:.0}"), theme::words());
    for hour in (0..24u16).step_by(3) {
        canvas.put(5 + hour * each, 1, &format!("{hour:02}"), theme::faint());
    }
    for (day, name) in DAYS.iter().enumerate() {
        let y = day as u16 + 2;
        canvas.put(0, y, name, theme::faint());
        for hour in 0..24usize {
            let value = hours.get(day * 24 + hour).copied().unwrap_or(0.0);
            let x = 5 + hour as u16 * each;
            let here = day * 24 + hour == busiest;
            let style = if here { theme::strong() } else { theme::words().fg(theme::source(1)) };
            // The square root keeps quiet hours apart from closed ones.
            let mark = if value == 0.0 { "·" } else { theme::shade((value / most).sqrt()) };
            let style = if value == 0.0 { theme::words().fg(theme::RULE) } else { style };
            let style = if day * 24 + hour == at { theme::chosen() } else { style };
            canvas.put(x, y, &mark.repeat(each as usize), style);
        }
    }
}
