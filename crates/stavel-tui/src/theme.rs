//! Colours and marks. Colour carries source and direction, shape carries severity.

use ratatui::style::{Color, Modifier, Style};
use stavel_core::check::Severity;
use stavel_core::model::DrawingColour;

/// Ordinary words.
pub const WORDS: Color = Color::Rgb(0xc8, 0xc2, 0xb0);
/// Labels and what is of less weight.
pub const FAINT: Color = Color::Rgb(0x72, 0x78, 0x86);
/// Rules and grids.
pub const RULE: Color = Color::Rgb(0x36, 0x3c, 0x4a);
/// Rising bars.
pub const RISING: Color = Color::Rgb(0xe6, 0xc3, 0x84);
/// Falling bars.
pub const FALLING: Color = Color::Rgb(0x7e, 0x9c, 0xd8);
/// What is chosen, and keys.
pub const CHOSEN: Color = Color::Rgb(0xff, 0xf3, 0xd0);
/// What went well.
pub const GOOD: Color = Color::Rgb(0x98, 0xbb, 0x6c);
/// What is wrong.
pub const WRONG: Color = Color::Rgb(0xe4, 0x68, 0x76);

/// What everything is drawn on.
pub const GROUND: Color = Color::Rgb(0x10, 0x14, 0x1b);
/// The column or row of a cursor.
pub const CURSOR: Color = Color::Rgb(0x2c, 0x33, 0x42);

/// Teal, brass, lilac and more, for sources.
pub const SOURCES: [Color; 5] = [
    Color::Rgb(0x6a, 0xc0, 0xb8),
    Color::Rgb(0xc9, 0xa2, 0x5a),
    Color::Rgb(0xb3, 0x92, 0xc8),
    Color::Rgb(0x9c, 0xb8, 0x7e),
    Color::Rgb(0xd0, 0x8c, 0x7a),
];

/// The colour of the source at a place in the list of an instrument's sources.
pub fn source(place: usize) -> Color {
    SOURCES[place % SOURCES.len()]
}

pub fn words() -> Style {
    Style::new().fg(WORDS)
}

pub fn faint() -> Style {
    Style::new().fg(FAINT)
}

pub fn rule() -> Style {
    Style::new().fg(RULE)
}

pub fn strong() -> Style {
    Style::new().fg(CHOSEN).add_modifier(Modifier::BOLD)
}

/// A row or tab that is chosen.
pub fn chosen() -> Style {
    Style::new().fg(GROUND).bg(CHOSEN)
}

/// The shape and colour of a severity.
pub fn severity(severity: Severity) -> (&'static str, Color) {
    match severity {
        Severity::Fault => ("◆", WRONG),
        Severity::Doubt => ("▲", RISING),
        Severity::Note => ("○", FAINT),
    }
}

/// The colour of a drawing.
pub fn drawn(colour: DrawingColour) -> Color {
    match colour {
        DrawingColour::Violet => source(2),
        DrawingColour::Green => GOOD,
        DrawingColour::Red => WRONG,
        DrawingColour::Grey => WORDS,
    }
}

/// A shade for a share from 0 to 1: none, light, medium, dark, full.
pub fn shade(share: f64) -> &'static str {
    match share {
        s if s <= 0.0 => " ",
        s if s < 0.35 => "░",
        s if s < 0.75 => "▒",
        s if s < 0.97 => "▓",
        _ => "█",
    }
}
