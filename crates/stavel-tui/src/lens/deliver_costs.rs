//! What trading the instrument costs: spreads by hour of the week, a round turn by hour of the day, nights.

use stavel_work::{CostSheet, RoundTurn};

use super::check_week::draw_one;
use crate::canvas::{Canvas, cut_to};
use crate::theme;

/// Columns of the heat of a week.
const WEEK: u16 = 54;

/// The cost sheet: the heat of spreads at the left, a round turn by hour at the right, the sheet's values below.
pub fn draw(sheet: &CostSheet, mut canvas: Canvas<'_>) {
    let (width, height) = (canvas.width(), canvas.height());
    let y = match &sheet.spreads {
        None => canvas.paragraph(0, "No series of this instrument knows its spread.", theme::words()),
        Some(spreads) => {
            let hours: Vec<f64> =
                spreads.profile.by_hour.iter().map(|h| h.map_or(0.0, |s| s.median as f64)).collect();
            draw_one("median spread in points", &hours, usize::MAX, canvas.part(1, 0, WEEK, 10), 2);
            draw_numbers(sheet, canvas.part(1, 10, WEEK, 5))
        }
    };
    draw_values(sheet, canvas.part(1, y.max(1), WEEK, height.saturating_sub(y)));
    if width > WEEK + 30 {
        draw_hours(sheet, canvas.part(WEEK + 4, 0, width - WEEK - 4, height));
    }
}

/// Medians and quantiles in numbers; gives the row below them.
fn draw_numbers(sheet: &CostSheet, mut canvas: Canvas<'_>) -> u16 {
    let Some(spreads) = &sheet.spreads else { return 0 };
    let profile = &spreads.profile;
    canvas.put(17, 0, "median  9 of 10  99 of 100", theme::faint());
    let lines = [
        ("all rows", profile.all),
        ("at the roll", profile.at_roll),
        ("around events", profile.around_events),
    ];
    let mut y = 1;
    for (name, stats) in lines {
        let Some(stats) = stats else { continue };
        canvas.put(0, y, name, theme::words());
        for (x, points) in [(22, stats.median), (31, stats.p90), (43, stats.p99)] {
            canvas.put_right(x, y, &points.to_string(), theme::words());
        }
        y += 1;
    }
    if let Some(proposed) = profile.proposed() {
        canvas.put(
            0,
            y,
            &format!("for tests that know one spread: {proposed}"),
            theme::words().fg(theme::source(1)),
        );
        y += 1;
    }
    y + 11
}

fn draw_values(sheet: &CostSheet, mut canvas: Canvas<'_>) {
    let rows = canvas.height();
    for (y, value) in sheet.values.iter().filter(|v| v.applies).take(rows as usize).enumerate() {
        let mark = if value.is_known() { value.standing.mark() } else { " " };
        let shown = if value.value.is_empty() { "–" } else { &value.value };
        canvas.put(0, y as u16, &format!("{mark} {:<14} {}", value.key, cut_to(shown, 30)), theme::words());
    }
}

fn draw_hours(sheet: &CostSheet, mut canvas: Canvas<'_>) {
    let money = &sheet.money;
    let without = if money.commission.is_none() { ", without commission" } else { "" };
    canvas.put(0, 0, &format!("a round turn of a lot by hour{without}"), theme::words());
    let most = money.by_hour.iter().flatten().map(|t| t.points).max().unwrap_or_default();
    for (hour, turn) in money.by_hour.iter().enumerate() {
        let y = hour as u16 + 1;
        canvas.put(0, y, &format!("{hour:02}"), theme::faint());
        let Some(turn) = turn else { continue };
        canvas.put_right(9, y, &turn.points.to_string(), theme::words());
        canvas.put(11, y, &in_money(turn, &money.currency), theme::words());
        // Half of the dearest hour is where the bar begins: hours differ little.
        let share = if most.is_zero() { Default::default() } else { turn.points / most };
        let cells =
            share.to_string().parse::<f64>().map_or(0, |s| ((s - 0.5).max(0.0) * 24.0).round() as usize);
        canvas.put(27, y, &"▪".repeat(cells), theme::words().fg(theme::source(1)));
    }
    let mut y = money.by_hour.len() as u16 + 2;
    for (name, night) in [("a night long", money.nights[0]), ("a night short", money.nights[1])] {
        let Some(night) = night else { continue };
        canvas.put(0, y, &format!("{name:<14} {} {}", night.money, money.currency), theme::words());
        y += 1;
    }
}

fn in_money(turn: &RoundTurn, currency: &str) -> String {
    turn.money.map_or_else(String::new, |m| format!("{} {currency}", m.round_dp(2)))
}
