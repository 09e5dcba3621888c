//! Putting words at places of a part of the screen, never outside it.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// A part of the screen with its own coordinates.
pub struct Canvas<'a> {
    pub buffer: &'a mut Buffer,
    pub area: Rect,
}

impl<'a> Canvas<'a> {
    pub fn new(buffer: &'a mut Buffer, area: Rect) -> Canvas<'a> {
        let area = area.intersection(buffer.area);
        Canvas { buffer, area }
    }

    pub fn width(&self) -> u16 {
        self.area.width
    }

    pub fn height(&self) -> u16 {
        self.area.height
    }

    /// Puts text at a place, made printable; words that do not fit are cut with a mark. Gives the column after it.
    pub fn put(&mut self, x: u16, y: u16, text: &str, style: Style) -> u16 {
        if x >= self.area.width || y >= self.area.height {
            return x;
        }
        // Strips and charts put thousands of these, and nothing of them is to be cleaned or cut.
        if is_one_mark(text) {
            let cell = &mut self.buffer[(self.area.x + x, self.area.y + y)];
            cell.set_symbol(text).set_style(style);
            return x + 1;
        }
        let room = (self.area.width - x) as usize;
        let mut clean = stavel_core::error::printable(text);
        if clean.trim_end().width() > room && clean.chars().any(char::is_alphanumeric) {
            clean = cut_to(&clean, room);
        }
        let (end, _) = self.buffer.set_stringn(self.area.x + x, self.area.y + y, clean, room, style);
        end - self.area.x
    }

    /// Puts pieces one after the other.
    pub fn pieces<S: AsRef<str>>(&mut self, x: u16, y: u16, pieces: &[(S, Style)]) -> u16 {
        pieces.iter().fold(x, |x, (text, style)| self.put(x, y, text.as_ref(), *style))
    }

    /// Puts text so that it ends before column `x`.
    pub fn put_right(&mut self, x: u16, y: u16, text: &str, style: Style) {
        self.put(x.saturating_sub(columns(text)), y, text, style);
    }

    /// Takes off everything that was put here, colours too.
    pub fn clear(&mut self) {
        for position in self.area.positions() {
            self.buffer[position].reset();
        }
    }

    /// A thin rule across.
    pub fn rule(&mut self, y: u16, style: Style) {
        let line = "─".repeat(self.area.width as usize);
        self.put(0, y, &line, style);
    }

    /// A part of this part.
    pub fn part(&mut self, x: u16, y: u16, width: u16, height: u16) -> Canvas<'_> {
        let x = x.min(self.area.width);
        let y = y.min(self.area.height);
        let area = Rect {
            x: self.area.x + x,
            y: self.area.y + y,
            width: width.min(self.area.width - x),
            height: height.min(self.area.height - y),
        };
        Canvas { buffer: self.buffer, area }
    }

    /// Several lines of words, broken at blanks; gives the line after them.
    pub fn paragraph(&mut self, y: u16, text: &str, style: Style) -> u16 {
        wrapped(text, self.area.width as usize).iter().fold(y, |y, line| {
            self.put(0, y, line, style);
            y + 1
        })
    }
}

/// True for one character of the bench's own that takes one column: a blank, a line, a block, a mark or braille.
fn is_one_mark(text: &str) -> bool {
    let mut chars = text.chars();
    let is_mark = |c| matches!(c, ' '..='~' | '·' | '\u{2500}'..='\u{25ff}' | '\u{2800}'..='\u{28ff}');
    chars.next().is_some_and(|c| is_mark(c) && c.width() == Some(1)) && chars.next().is_none()
}

/// Text cut to so many columns; what is cut is told by `…`.
pub fn cut_to(text: &str, columns: usize) -> String {
    if text.width() <= columns {
        return text.to_owned();
    }
    let mut out = String::new();
    for c in text.chars() {
        if out.width() + c.width().unwrap_or_default() + 1 > columns {
            break;
        }
        out.push(c);
    }
    if columns > 0 {
        out.push('…');
    }
    out
}

/// How many columns of the screen a text takes.
pub fn columns(text: &str) -> u16 {
    text.width().try_into().unwrap_or(u16::MAX)
}

/// Text in lines of at most `width` columns, broken at blanks; a longer word is cut where it must be.
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    // A clock or a path is not to be broken at a hyphen of its own.
    let options = textwrap::Options::new(width)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .wrap_algorithm(textwrap::WrapAlgorithm::FirstFit);
    let lines = textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned);
    lines.filter(|line| !line.is_empty()).collect()
}

/// The first line of a list to show in so many rows, so that `at` is among them.
pub fn scroll(at: usize, rows: usize, count: usize) -> usize {
    at.saturating_sub(rows.saturating_sub(1) / 2).min(count.saturating_sub(rows))
}

/// `1 234 567`.
pub fn thousands(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(c);
    }
    out
}

/// `4.1 MB`.
pub fn bytes(n: u64) -> String {
    match n {
        n if n >= 1_000_000_000 => format!("{:.1} GB", n as f64 / 1e9),
        n if n >= 1_000_000 => format!("{:.1} MB", n as f64 / 1e6),
        n => format!("{:.0} kB", (n as f64 / 1e3).ceil()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_wrapped_within_the_width_and_none_is_lost() {
        assert_eq!(wrapped("one two three", 7), ["one two", "three"]);
        assert_eq!(wrapped("abcdefgh ij", 3), ["abc", "def", "gh", "ij"]);
        assert!(wrapped("", 5).is_empty());
        let text = "the quick brown fox jumps over a lazy dog";
        for width in 1..50 {
            let lines = wrapped(text, width);
            assert!(lines.iter().all(|l| l.width() <= width), "{width}: {lines:?}");
            assert_eq!(lines.concat().replace(' ', ""), text.replace(' ', ""));
        }
    }

    #[test]
    fn nothing_is_drawn_outside_and_control_characters_are_harmless() {
        let area = Rect { x: 2, y: 1, width: 5, height: 2 };
        let mut buffer = Buffer::empty(Rect { x: 0, y: 0, width: 10, height: 4 });
        let mut canvas = Canvas::new(&mut buffer, area);
        canvas.put(3, 0, "abc\u{1b}def", Style::new());
        canvas.put(0, 5, "below", Style::new());
        canvas.put(9, 0, "right", Style::new());
        canvas.part(4, 1, 30, 30).put(0, 0, "xyz", Style::new());
        canvas.put_right(2, 1, "long words", Style::new());
        let row = |y: u16| (0..10).map(|x| buffer[(x, y)].symbol()).collect::<String>();
        assert_eq!((row(0).trim(), row(1).as_str(), row(3).trim()), ("", "     a…   ", ""));
        assert!(!row(2).contains('\u{1b}') && row(2).starts_with("  ") && row(2).ends_with("   "));
    }

    #[test]
    fn what_is_cut_is_marked_and_takes_no_more_room_than_there_is() {
        assert_eq!(cut_to("check quill:1m", 20), "check quill:1m");
        assert_eq!(cut_to("check quill:1m", 8), "check q…");
        for columns in 0..12 {
            let cut = cut_to("日本語 wide", columns);
            assert!(cut.width() <= columns, "{cut:?}");
            assert_eq!(cut.ends_with('…'), columns > 0 && columns < 11, "{cut:?} {columns}");
        }
    }

    #[test]
    fn numbers_for_people() {
        assert_eq!([0, 999, 1000, 1_234_567].map(thousands), ["0", "999", "1 000", "1 234 567"]);
        assert_eq!([1, 2500, 4_100_000, 7_000_000_000].map(bytes), ["1 kB", "3 kB", "4.1 MB", "7.0 GB"]);
    }
}
