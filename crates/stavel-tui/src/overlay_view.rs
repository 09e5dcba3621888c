//! How overlays look: palette and key list.

use tui_input::Input;

use crate::act::ActTable;
use crate::canvas::{Canvas, scroll};
use crate::overlay::Palette;
use crate::theme;

/// A line that is typed in, with its cursor; gives the column after it.
pub fn typed(line: &Input, x: u16, y: u16, canvas: &mut Canvas<'_>) -> u16 {
    let (value, at) = (line.value(), line.cursor());
    let before: String = value.chars().take(at).collect();
    let after: String = value.chars().skip(at).collect();
    let x = canvas.put(x, y, &before, theme::strong());
    let x = canvas.put(x, y, "▏", theme::strong());
    canvas.put(x, y, &after, theme::strong())
}

/// A key's name as it is shown.
pub fn arrow(key: &str) -> &str {
    match key {
        "Left" => "←",
        "Right" => "→",
        "Up" => "↑",
        "Down" => "↓",
        other => other,
    }
}

/// Clears the upper part of the lens and ends it with a rule.
fn sheet<'a>(canvas: &'a mut Canvas<'_>, height: u16) -> Canvas<'a> {
    let width = canvas.width();
    let mut part = canvas.part(0, 0, width, height);
    part.clear();
    let last = part.height().saturating_sub(1);
    part.rule(last, theme::rule());
    part
}

pub fn palette(palette: &Palette, table: &ActTable, mut canvas: Canvas<'_>) {
    let rows = canvas.height().min(20);
    let mut sheet = sheet(&mut canvas, rows);
    let x = sheet.put(1, 0, ": ", theme::strong());
    typed(&palette.typed, x, 0, &mut sheet);
    let found = palette.found(table);
    let room = rows.saturating_sub(3) as usize;
    let first = scroll(palette.at, room, found.len());
    for (i, line) in found.iter().enumerate().skip(first).take(room) {
        let y = (i - first) as u16 + 2;
        let style = if i == palette.at { theme::chosen() } else { theme::words() };
        sheet.put(1, y, arrow(&line.key), theme::strong());
        sheet.put(9, y, line.lens_word(), theme::faint());
        sheet.put(19, y, &line.about, style);
        // Beside the act, the command that does the same.
        if let Some(command) = line.command.filter(|_| sheet.width() >= 110) {
            let width = sheet.width();
            sheet.put_right(width - 1, y, command, theme::faint());
        }
    }
    if found.is_empty() {
        sheet.put(1, 2, "no act has these words", theme::faint());
    }
}

/// The keys of the lens that is open, then those of everywhere, then those of other lenses.
pub fn key_list(table: &ActTable, open: usize, scrolled: u16, mut canvas: Canvas<'_>) {
    let rows = canvas.height();
    let mut sheet = sheet(&mut canvas, rows);
    let others = table.lines.iter().filter(|l| l.lens.is_some_and(|(place, _)| place != open));
    let room = rows.saturating_sub(1) as usize;
    for (y, line) in table.lines_for(open).chain(others).skip(scrolled as usize).take(room).enumerate() {
        sheet.put(1, y as u16, arrow(&line.key), theme::strong());
        sheet.put(9, y as u16, line.lens_word(), theme::faint());
        sheet.put(19, y as u16, &line.about, theme::words());
    }
}
