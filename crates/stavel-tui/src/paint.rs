//! From what was drawn to what the terminal is sent: the colours of a theme, and full cells painted.
//!
//! The bench draws in the colours of [`theme`] and with block characters. Most fonts leave a gap between two such
//! characters, which cuts strips and candles into bricks, so blocks that fill a cell become its background here.
//! Without colours the characters stay, and what only a colour told apart is told by shape.

use std::time::Duration;

use ratatui::buffer::{Buffer, Cell};
use ratatui::style::{Color, Modifier};

use crate::theme;

/// The colours of the bench.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, strum::EnumString, serde::Deserialize)]
#[strum(serialize_all = "lowercase")]
#[serde(rename_all = "lowercase")]
pub enum Theme {
    /// Light words on a dark ground.
    #[default]
    Dark,
    /// Dark words on a light ground.
    Light,
    /// No colours at all.
    None,
}

/// How the bench looks: its colours, and how many of them the terminal knows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Look {
    pub theme: Theme,
    /// True where the terminal knows no more than 256 colours.
    pub is_coarse: bool,
}

impl Look {
    /// The look of this terminal: as a person says or has settled, without colours where `NO_COLOR` is set, else what
    /// the terminal tells of its ground.
    pub fn found(said: Option<Theme>, settled: Option<Theme>) -> Look {
        let variable = |name: &str| std::env::var(name).unwrap_or_default();
        let plain = (!variable("NO_COLOR").is_empty() || variable("TERM") == "dumb").then_some(Theme::None);
        let is_coarse = !matches!(variable("COLORTERM").as_str(), "truecolor" | "24bit");
        Look { theme: said.or(plain).or(settled).unwrap_or_else(ground_of_terminal), is_coarse }
    }
}

/// Dark or light, as the terminal says when it is asked; dark where it does not answer.
fn ground_of_terminal() -> Theme {
    let mut options = terminal_colorsaurus::QueryOptions::default();
    options.timeout = Duration::from_millis(200);
    match terminal_colorsaurus::theme_mode(options) {
        Ok(terminal_colorsaurus::ThemeMode::Light) => Theme::Light,
        _ => Theme::Dark,
    }
}

/// Red, green and blue.
type Rgb = (u8, u8, u8);

/// Each colour of the dark theme with that of the light one.
const LIGHT: [(Color, Rgb); 13] = [
    (theme::WORDS, (0x2a, 0x2c, 0x33)),
    (theme::FAINT, (0x72, 0x74, 0x7e)),
    (theme::RULE, (0xcf, 0xcb, 0xc0)),
    (theme::RISING, (0xb0, 0x7d, 0x12)),
    (theme::FALLING, (0x35, 0x5f, 0xae)),
    (theme::CHOSEN, (0x1c, 0x1e, 0x26)),
    (theme::GOOD, (0x47, 0x7d, 0x1e)),
    (theme::WRONG, (0xb8, 0x26, 0x3a)),
    (theme::SOURCES[0], (0x0f, 0x7d, 0x74)),
    (theme::SOURCES[1], (0x8f, 0x66, 0x12)),
    (theme::SOURCES[2], (0x77, 0x45, 0x98)),
    (theme::SOURCES[3], (0x52, 0x70, 0x2c)),
    (theme::SOURCES[4], (0x9c, 0x4b, 0x33)),
];
const LIGHT_GROUND: Rgb = (0xfa, 0xf7, 0xf0);
const LIGHT_CURSOR: Rgb = (0xe4, 0xdf, 0xd0);

/// Makes what was drawn ready for the terminal.
pub fn finish(buffer: &mut Buffer, look: Look) {
    match look.theme {
        Theme::None => buffer.content.iter_mut().for_each(without_colour),
        theme => {
            for cell in &mut buffer.content {
                in_colour(cell, theme == Theme::Light);
                if look.is_coarse {
                    (cell.fg, cell.bg) = (coarse(cell.fg), coarse(cell.bg));
                }
            }
        }
    }
}

fn in_colour(cell: &mut Cell, light: bool) {
    let themed = |colour: Color, none: Rgb| match colour {
        Color::Rgb(..) if light => match colour {
            theme::CURSOR => LIGHT_CURSOR,
            theme::GROUND => LIGHT_GROUND,
            _ => LIGHT.iter().find(|(dark, _)| *dark == colour).map_or(LIGHT[0].1, |(_, rgb)| *rgb),
        },
        Color::Rgb(r, g, b) => (r, g, b),
        _ => none,
    };
    let ground = if light { LIGHT_GROUND } else { rgb(theme::GROUND) };
    let fg = themed(cell.fg, themed(theme::WORDS, ground));
    let bg = themed(cell.bg, ground);
    let painted = match cell.symbol() {
        "█" => Some(fg),
        "▓" => Some(mixed(fg, bg, 0.72)),
        "▒" => Some(mixed(fg, bg, 0.45)),
        "░" => Some(mixed(fg, bg, 0.22)),
        _ => None,
    };
    let colour = |(r, g, b): Rgb| Color::Rgb(r, g, b);
    let (fg, bg) = match painted {
        Some(painted) => {
            cell.set_symbol(" ");
            (fg, painted)
        }
        // The lower half of a cell is painted, since the character for it leaves a gap to the cell below.
        None if cell.symbol() == "▄" => {
            cell.set_symbol("▀");
            (bg, fg)
        }
        None => (fg, bg),
    };
    (cell.fg, cell.bg) = (colour(fg), colour(bg));
}

/// Rising bars are grey and falling ones full; what is chosen is reversed.
fn without_colour(cell: &mut Cell) {
    if cell.fg == theme::RISING && matches!(cell.symbol(), "█" | "▀" | "▄") {
        cell.set_symbol("▒");
    }
    if cell.bg == theme::CURSOR && cell.symbol() == " " {
        cell.set_symbol("┊");
    }
    let is_chosen = cell.bg == theme::CHOSEN;
    (cell.fg, cell.bg) = (Color::Reset, Color::Reset);
    if is_chosen {
        cell.modifier.insert(Modifier::REVERSED);
    }
}

fn rgb(colour: Color) -> Rgb {
    match colour {
        Color::Rgb(r, g, b) => (r, g, b),
        _ => (0, 0, 0),
    }
}

fn mixed(over: Rgb, under: Rgb, share: f64) -> Rgb {
    let mix = |a: u8, b: u8| (f64::from(a) * share + f64::from(b) * (1.0 - share)).round() as u8;
    (mix(over.0, under.0), mix(over.1, under.1), mix(over.2, under.2))
}

/// The nearest colour among those of the 6x6x6 cube and the greys that terminals of 256 colours have.
fn coarse(colour: Color) -> Color {
    let Color::Rgb(r, g, b) = colour else { return colour };
    let step = |v: u8| (0..6u8).min_by_key(|i| level(*i).abs_diff(v)).unwrap_or_default();
    let (i, j, k) = (step(r), step(g), step(b));
    let grey_step = (0..24u8)
        .min_by_key(|i| (8 + 10 * i).abs_diff(((u16::from(r) + u16::from(g) + u16::from(b)) / 3) as u8));
    let grey_step = grey_step.unwrap_or_default();
    let grey = 8 + 10 * grey_step;
    let off = |(x, y, z): Rgb| {
        let square = |a: u8, b: u8| u32::from(a.abs_diff(b)).pow(2);
        square(x, r) + square(y, g) + square(z, b)
    };
    if off((grey, grey, grey)) < off((level(i), level(j), level(k))) {
        Color::Indexed(232 + grey_step)
    } else {
        Color::Indexed(16 + 36 * i + 6 * j + k)
    }
}

/// The brightness of a step of the cube.
fn level(step: u8) -> u8 {
    if step == 0 { 0 } else { 55 + 40 * step }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::layout::Rect;
    use ratatui::style::Style;

    fn cell(symbol: &str, style: Style, look: Look) -> Cell {
        let mut buffer = Buffer::empty(Rect { x: 0, y: 0, width: 1, height: 1 });
        buffer.set_string(0, 0, symbol, style);
        finish(&mut buffer, look);
        buffer.content[0].clone()
    }

    const DARK: Look = Look { theme: Theme::Dark, is_coarse: false };
    const LIGHT_LOOK: Look = Look { theme: Theme::Light, is_coarse: false };
    const PLAIN: Look = Look { theme: Theme::None, is_coarse: false };

    #[test]
    fn a_full_cell_is_painted_and_an_edge_stays_a_character() {
        let rising = Style::new().fg(theme::RISING);
        let full = cell("█", rising, DARK);
        assert_eq!((full.symbol(), full.bg), (" ", theme::RISING));
        let upper = cell("▀", rising, DARK);
        assert_eq!((upper.symbol(), upper.fg, upper.bg), ("▀", theme::RISING, theme::GROUND));
        let lower = cell("▄", rising, DARK);
        assert_eq!((lower.symbol(), lower.fg, lower.bg), ("▀", theme::GROUND, theme::RISING));
        // Shades are steps between the ground and the colour, in order.
        let brightness = |symbol| rgb(cell(symbol, rising, DARK).bg).0;
        let steps = [" ", "░", "▒", "▓", "█"].map(brightness);
        assert!(steps.is_sorted() && steps.windows(2).all(|w| w[0] < w[1]), "{steps:?}");
    }

    #[test]
    fn each_colour_has_one_of_its_own_on_a_light_ground_that_can_be_read() {
        let light: Vec<Color> =
            LIGHT.iter().map(|(dark, _)| cell("x", Style::new().fg(*dark), LIGHT_LOOK).fg).collect();
        for (i, colour) in light.iter().enumerate() {
            assert!(!light[..i].contains(colour), "{colour:?}");
            // The rule may be pale; words may not.
            let (r, g, b) = rgb(*colour);
            let sum = u32::from(r) + u32::from(g) + u32::from(b);
            assert!(sum < 450 || LIGHT[i].0 == theme::RULE, "{colour:?}");
        }
        assert_eq!(cell(" ", Style::new(), LIGHT_LOOK).bg, Color::Rgb(0xfa, 0xf7, 0xf0));
        let chosen = cell("x", theme::chosen(), LIGHT_LOOK);
        assert_eq!(
            chosen.fg,
            Color::Rgb(0xfa, 0xf7, 0xf0),
            "words on what is chosen are those of the ground"
        );
    }

    #[test]
    fn without_colours_shapes_tell_what_colours_told() {
        let rising = cell("█", Style::new().fg(theme::RISING), PLAIN);
        let falling = cell("█", Style::new().fg(theme::FALLING), PLAIN);
        assert_ne!(rising.symbol(), falling.symbol());
        let chosen = cell("x", theme::chosen(), PLAIN);
        assert!(chosen.modifier.contains(Modifier::REVERSED));
        assert_eq!(cell(" ", Style::new().bg(theme::CURSOR), PLAIN).symbol(), "┊");
        for c in [rising, falling, chosen] {
            assert_eq!((c.fg, c.bg), (Color::Reset, Color::Reset));
        }
    }

    #[test]
    fn with_256_colours_the_nearest_is_taken() {
        assert_eq!(coarse(Color::Rgb(0, 0, 0)), Color::Indexed(16));
        assert_eq!(coarse(Color::Rgb(255, 255, 255)), Color::Indexed(231));
        assert_eq!(coarse(Color::Rgb(0x5f, 0x87, 0xaf)), Color::Indexed(16 + 36 + 12 + 3));
        assert_eq!(coarse(Color::Rgb(0x12, 0x12, 0x12)), Color::Indexed(233));
        let look = Look { theme: Theme::Dark, is_coarse: true };
        assert!(matches!(cell("█", Style::new().fg(theme::GOOD), look).bg, Color::Indexed(_)));
    }
}
