//! What trading the instrument costs: spreads by hour of the week, a round turn by hour of the day, nights.

use stavel_core::measures::SpreadProfile;
use stavel_work::{CostSheet, RoundTurn};

use crate::canvas::{Canvas, cut_to};
use crate::theme;

/// Columns of the week.
const WEEK: u16 = 77;

/// Where the months stand, beside the values.
const MONTHS: u16 = 49;

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// The cost sheet: spreads by hour of the week at the left, a round turn by hour of the day at the right, the sheet's
/// values below.
pub fn draw(sheet: &CostSheet, mut canvas: Canvas<'_>) {
    let (width, height) = (canvas.width(), canvas.height());
    let y = match &sheet.spreads {
        None => canvas.paragraph(0, "No series of this instrument knows its spread.", theme::words()),
        Some(spreads) => {
            draw_week(&spreads.profile, canvas.part(1, 0, WEEK, 9));
            draw_months(
                &spreads.profile,
                canvas.part(MONTHS, 9, WEEK - MONTHS + 1, height.saturating_sub(9)),
            );
            9 + draw_numbers(&spreads.profile, canvas.part(1, 9, WEEK, height.saturating_sub(9))) + 1
        }
    };
    draw_values(sheet, canvas.part(1, y, MONTHS - 2, height.saturating_sub(y)));
    if width > WEEK + 30 {
        draw_hours(sheet, canvas.part(WEEK + 4, 0, width - WEEK - 4, height));
    }
}

/// The median spread of each hour of the week in numbers; wide ones stand out.
fn draw_week(profile: &SpreadProfile, mut canvas: Canvas<'_>) {
    let known: Vec<i64> = profile.by_hour.iter().flatten().map(|s| s.median).collect();
    let usual = profile.all.map_or(0, |all| all.median);
    let widest = known.iter().copied().max().unwrap_or(0);
    canvas.put(0, 0, "median spread in points by hour of the week", theme::words());
    for hour in 0..24u16 {
        canvas.put_right(6 + hour * 3, 1, &format!("{hour:02}"), theme::faint());
    }
    for (day, name) in DAYS.iter().enumerate() {
        let y = day as u16 + 2;
        canvas.put(0, y, name, theme::faint());
        for hour in 0..24 {
            let stats = profile.by_hour.get(day * 24 + hour).copied().flatten();
            let (text, style) = match stats.map(|s| s.median) {
                None => ("·".to_owned(), theme::words().fg(theme::RULE)),
                // Half way to the widest hour and beyond.
                Some(m) if m > usual && 2 * (m - usual) >= widest - usual => (m.to_string(), theme::strong()),
                Some(m) if m > usual => (m.to_string(), theme::words().fg(theme::source(1))),
                Some(m) => (m.to_string(), theme::words()),
            };
            canvas.put_right(6 + hour as u16 * 3, y, &text, style);
        }
    }
}

/// Medians and quantiles in numbers; gives the lines taken.
fn draw_numbers(profile: &SpreadProfile, mut canvas: Canvas<'_>) -> u16 {
    canvas.put(15, 0, "median   9 of 10   99 of 100", theme::faint());
    let lines = [
        ("all rows", profile.all),
        ("at the roll", profile.at_roll),
        ("around events", profile.around_events),
    ];
    let mut y = 1;
    for (name, stats) in lines {
        let Some(stats) = stats else { continue };
        canvas.put(0, y, name, theme::words());
        for (x, points) in [(20, stats.median), (30, stats.p90), (41, stats.p99)] {
            canvas.put_right(x, y, &points.to_string(), theme::words());
        }
        y += 1;
    }
    if let Some(proposed) = profile.proposed() {
        let told = format!("for tests that know one spread: {proposed}");
        canvas.put(0, y, &told, theme::words().fg(theme::source(1)));
        y += 1;
    }
    y
}

/// Spreads by month: the last ones there is room for.
fn draw_months(profile: &SpreadProfile, mut canvas: Canvas<'_>) {
    canvas.put(0, 0, "by month  median  9 of 10", theme::faint());
    let rows = usize::from(canvas.height()).saturating_sub(1);
    let from = profile.by_month.len().saturating_sub(rows);
    for (y, ((year, month), stats)) in profile.by_month[from..].iter().enumerate() {
        let y = y as u16 + 1;
        canvas.put(0, y, &format!("{year:04}-{month:02}"), theme::faint());
        canvas.put_right(15, y, &stats.median.to_string(), theme::words());
        canvas.put_right(24, y, &stats.p90.to_string(), theme::words());
    }
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
