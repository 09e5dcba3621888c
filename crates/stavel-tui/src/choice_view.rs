//! How a question with answers looks, and the list of warnings.

use crate::canvas::{Canvas, scroll, wrapped};
use crate::choice::Choice;
use crate::messages::Warnings;
use crate::theme;

/// Draws a question over the lens.
pub fn draw(choice: &Choice, mut canvas: Canvas<'_>) {
    canvas.clear();
    let width = canvas.width().saturating_sub(4);
    let mut y = 1;
    for line in wrapped(&choice.question, usize::from(width)) {
        canvas.put(2, y, &line, theme::strong().fg(theme::RISING));
        y += 1;
    }
    y += 1;
    for (i, answer) in choice.answers.iter().enumerate() {
        let style = if i == choice.at { theme::chosen() } else { theme::words() };
        canvas.put(2, y, &format!(" {} ", i + 1), theme::strong());
        for line in wrapped(&answer.evidence, usize::from(width.saturating_sub(5))) {
            canvas.put(6, y, &line, style);
            y += 1;
        }
        for line in wrapped(&answer.command, usize::from(width.saturating_sub(5))) {
            canvas.put(6, y, &line, theme::faint());
            y += 1;
        }
        y += 1;
    }
}

/// Draws the warnings of this session over the lens, newest first.
pub fn draw_warnings(warnings: &Warnings, scrolled: u16, mut canvas: Canvas<'_>) {
    canvas.clear();
    canvas.put(1, 0, &format!("warnings of this session, newest first: {}", warnings.len()), theme::strong());
    let width = usize::from(canvas.width().saturating_sub(5));
    let mut lines = Vec::new();
    for text in warnings.newest_first() {
        for (i, line) in wrapped(text, width).into_iter().enumerate() {
            lines.push((if i == 0 { "▲" } else { " " }, line));
        }
    }
    let room = usize::from(canvas.height().saturating_sub(2));
    let from = scroll(usize::from(scrolled), 1, lines.len()).min(lines.len().saturating_sub(room));
    for (y, (mark, line)) in lines.iter().skip(from).take(room).enumerate() {
        canvas.put(1, y as u16 + 2, mark, theme::words().fg(theme::RISING));
        canvas.put(3, y as u16 + 2, line, theme::words());
    }
}
