//! How overlays look: palette and key list.

use crate::act::{Act, Lens, TABLE};
use crate::app::App;
use crate::canvas::Canvas;
use crate::lens;
use crate::overlay::Palette;
use crate::theme;

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

pub fn palette(palette: &Palette, mut canvas: Canvas<'_>) {
    let rows = canvas.height().min(20);
    let mut sheet = sheet(&mut canvas, rows);
    let x = sheet.put(1, 0, ": ", theme::strong());
    let x = sheet.put(x, 0, &palette.typed, theme::strong());
    sheet.put(x, 0, "▏", theme::strong());
    let found = palette.found();
    let room = rows.saturating_sub(3) as usize;
    let first = lens::scroll(palette.at, room, found.len());
    for (i, line) in found.iter().enumerate().skip(first).take(room) {
        let y = (i - first) as u16 + 2;
        let style = if i == palette.at { theme::chosen() } else { theme::words() };
        let keys: Vec<&str> = line.keys.iter().map(|k| arrow(k)).collect();
        sheet.put(1, y, &format!("{:<7}", keys.join(" ")), theme::strong());
        sheet.put(9, y, line.lens.map_or("", Lens::word), theme::faint());
        sheet.put(19, y, line.about, style);
        // Beside the act, the command that does the same; undo and redo are everywhere, so they have no lens.
        let command = line.command().or(match line.act {
            Act::Undo => Some("stavel undo SERIES"),
            Act::Redo => Some("stavel redo SERIES"),
            Act::UndoAct => Some("stavel undo"),
            Act::RedoAct => Some("stavel redo"),
            _ => None,
        });
        if let Some(command) = command.filter(|_| sheet.width() >= 110) {
            let width = sheet.width();
            sheet.put_right(width - 1, y, command, theme::faint());
        }
    }
    if found.is_empty() {
        sheet.put(1, 2, "no act has these words", theme::faint());
    }
}

pub fn key_list(app: &App, scrolled: u16, mut canvas: Canvas<'_>) {
    let rows = canvas.height();
    let mut sheet = sheet(&mut canvas, rows);
    let own = TABLE.iter().filter(|l| l.lens == Some(app.lens));
    let everywhere = TABLE.iter().filter(|l| l.lens.is_none());
    let others = TABLE.iter().filter(|l| l.lens.is_some_and(|lens| lens != app.lens));
    let room = rows.saturating_sub(1) as usize;
    for (y, line) in own.chain(everywhere).chain(others).skip(scrolled as usize).take(room).enumerate() {
        let keys: Vec<&str> = line.keys.iter().map(|k| arrow(k)).collect();
        sheet.put(1, y as u16, &keys.join(" "), theme::strong());
        sheet.put(9, y as u16, line.lens.map_or("", Lens::word), theme::faint());
        sheet.put(19, y as u16, line.about, theme::words());
    }
}
