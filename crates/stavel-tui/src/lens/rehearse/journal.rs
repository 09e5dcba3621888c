//! The journal over the whole lens: what it adds up to, the equity curve, and its lines.

use rust_decimal::prelude::ToPrimitive;
use stavel_core::model::time::length_in_words;
use stavel_core::rehearse::{Figures, TradeSum, figures_of, money_to};
use stavel_work::entry_in_words;

use super::play::Play;
use crate::braille::DotLine;
use crate::canvas::{Canvas, scroll};
use crate::theme;

/// Columns of the figures.
const FIGURES: u16 = 44;

/// The lines of the journal with their places in it, oldest first.
pub fn lines(play: &Play) -> Vec<(usize, String)> {
    let desk = play.replay.desk();
    let words = |entry| entry_in_words(desk, entry, &play.currency, play.money_decimals);
    desk.journal().iter().enumerate().filter_map(|(i, entry)| Some((i, words(entry)?))).collect()
}

/// Draws it; one line, counted from the newest, is chosen.
pub fn draw(play: &Play, chosen: usize, mut canvas: Canvas<'_>) {
    let desk = play.replay.desk();
    let figures = figures_of(desk, play.began);
    let (width, height) = (canvas.width(), canvas.height());
    let top = (height / 2).max(8);
    draw_figures(play, &figures, canvas.part(0, 0, FIGURES.min(width), top));
    if width > FIGURES + 20 {
        draw_curve(play, &figures, canvas.part(FIGURES, 0, width - FIGURES, top));
    }
    canvas.rule(top, theme::rule());
    canvas.put(
        1,
        top,
        " journal, newest first: ↑ ↓, Enter writes the picture of that moment ",
        theme::faint(),
    );
    let lines = lines(play);
    if lines.is_empty() {
        canvas.put(1, top + 1, "nothing was done yet", theme::faint());
    }
    let rows = usize::from(height.saturating_sub(top + 1));
    let chosen = chosen.min(lines.len().saturating_sub(1));
    let first = scroll(chosen, rows, lines.len());
    for (i, (_, line)) in lines.iter().rev().enumerate().skip(first).take(rows) {
        let (mark, style) = if i == chosen { ("▸ ", theme::strong()) } else { ("  ", theme::words()) };
        canvas.put(0, top + 1 + (i - first) as u16, &format!("{mark}{line}"), style);
    }
}

/// What it adds up to as lines: a name and a value.
fn lines_of(play: &Play, figures: &Figures) -> Vec<(String, String)> {
    let money = |amount| format!("{} {}", money_to(amount, play.money_decimals), play.currency);
    let share = |part: u64, all: u64| {
        (part * 100).checked_div(all).map_or(String::new(), |share| format!(" ({share}%)"))
    };
    let all = &figures.all;
    let mut lines = vec![
        ("trades".to_owned(), format!("{}, won {}{}", all.trades, all.won, share(all.won, all.trades))),
        ("net".to_owned(), money(all.net)),
        (
            "gains / losses".to_owned(),
            format!("{} / {}", money_to(figures.gains, 2), money_to(figures.losses, 2)),
        ),
        ("costs".to_owned(), money(figures.costs)),
        ("a trade in the mean".to_owned(), figures.expectancy.map_or("not known".to_owned(), money)),
        ("drawdown, closed".to_owned(), money(figures.drawdown)),
        ("with what was open".to_owned(), money(figures.deepest)),
        (
            "in the market".to_owned(),
            format!("{} of {}", length_in_words(figures.in_market), length_in_words(figures.played.max(0))),
        ),
    ];
    if figures.doubtful > 0 {
        lines.push(("▲ in doubt".to_owned(), format!("{} trades", figures.doubtful)));
    }
    let best = |of: Vec<(String, &TradeSum)>| {
        let mut of = of;
        of.sort_by_key(|(_, sum)| std::cmp::Reverse(sum.net));
        of.into_iter()
            .map(|(name, sum)| format!("{name} {}", money_to(sum.net, 0)))
            .collect::<Vec<_>>()
            .join(" · ")
    };
    let hours = best(figures.by_hour.iter().map(|(hour, sum)| (format!("{hour:02}h"), sum)).collect());
    if !hours.is_empty() {
        lines.push(("by hour, UTC".to_owned(), hours));
    }
    let tags = figures.by_tag.iter().filter(|(tag, _)| !tag.is_empty());
    let tags = best(tags.map(|(tag, sum)| (format!("#{tag}"), sum)).collect());
    if !tags.is_empty() {
        lines.push(("by word".to_owned(), tags));
    }
    lines
}

fn draw_figures(play: &Play, figures: &Figures, mut canvas: Canvas<'_>) {
    for (y, (name, value)) in lines_of(play, figures).iter().enumerate() {
        canvas.put(1, y as u16, name, theme::faint());
        canvas.put(21, y as u16, value, theme::words());
    }
}

/// The sum of what was closed and paid, from deal to deal.
fn draw_curve(play: &Play, figures: &Figures, mut canvas: Canvas<'_>) {
    canvas.put(1, 0, "what was closed and paid", theme::faint());
    let values: Vec<f64> =
        std::iter::once(0.0).chain(figures.curve.iter().filter_map(|(_, sum)| sum.to_f64())).collect();
    let (width, height) = (canvas.width().saturating_sub(14), canvas.height().saturating_sub(2));
    if values.len() < 2 || width < 10 || height < 3 {
        canvas.put(1, 2, "no deal yet", theme::faint());
        return;
    }
    let low = values.iter().copied().fold(f64::MAX, f64::min);
    let high = values.iter().copied().fold(f64::MIN, f64::max);
    let room = (high - low).max(f64::MIN_POSITIVE);
    let rows = f64::from(height) * 4.0 - 1.0;
    let y_of = |value: f64| ((1.0 - (value - low) / room) * rows).round() as i64;
    let mut dots = DotLine::new(width, height, 1);
    for (i, value) in values.iter().enumerate() {
        let x = i as f64 / (values.len() - 1) as f64 * (f64::from(width) * 2.0 - 1.0);
        dots.to(Some((x.round() as i64, y_of(*value))));
    }
    let zero = (y_of(0.0) / 4) as u16 + 1;
    for x in (0..width).step_by(2) {
        canvas.put(x + 1, zero, "·", theme::rule());
    }
    let ends = if values.last().is_some_and(|last| *last < 0.0) { theme::WRONG } else { theme::GOOD };
    dots.draw(theme::words().fg(ends), &mut canvas.part(1, 1, width, height));
    for (value, y) in [(high, 1), (low, height)] {
        canvas.put(width + 2, y, &format!("{value:.0} {}", play.currency), theme::faint());
    }
}
