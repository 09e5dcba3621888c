//! Pictures as PDF: a page that plotters draws on, with the standard font Courier, so that text can be selected.

use pdf_writer::types::{LineCapStyle, LineJoinStyle};
use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref, Str};
use plotters::prelude::{DrawingBackend, IntoDrawingArea};
use plotters_backend::text_anchor::{HPos, VPos};
use plotters_backend::{BackendColor, BackendCoord, BackendStyle, BackendTextStyle, DrawingErrorKind};
use stavel_core::Result;

use crate::picture::{FINE, Picture, draw_on};

/// A letter of Courier is this much of its size wide.
const LETTER: f32 = 0.6;
/// Capital letters reach this much of the size above the line on which they stand.
const CAPITALS: f32 = 0.57;
const FONT: Name<'static> = Name(b"F");

/// A picture on a page of its size.
///
/// # Errors
/// Where it cannot be drawn.
pub fn to_pdf(picture: &impl Picture) -> Result<Vec<u8>> {
    pages_to_pdf(std::slice::from_ref(picture))
}

/// Pictures on pages of their sizes, one behind the other.
///
/// # Errors
/// Where one cannot be drawn.
pub fn pages_to_pdf(pictures: &[impl Picture]) -> Result<Vec<u8>> {
    let (catalog, pages, font) = (Ref::new(1), Ref::new(2), Ref::new(3));
    let leaf = |i: usize| Ref::new(4 + 2 * i as i32);
    let content = |i: usize| Ref::new(5 + 2 * i as i32);
    let mut pdf = Pdf::new();
    pdf.catalog(catalog).pages(pages);
    pdf.pages(pages).kids((0..pictures.len()).map(leaf)).count(pictures.len() as i32);
    for (i, picture) in pictures.iter().enumerate() {
        let size = picture.size();
        let mut page = PdfPage { size, content: Content::new(), paper: [255; 3] };
        page.content.set_line_cap(LineCapStyle::ButtCap).set_line_join(LineJoinStyle::MiterJoin);
        draw_on(&(&mut page).into_drawing_area(), picture)?;
        let mut sheet = pdf.page(leaf(i));
        sheet.media_box(Rect::new(0.0, 0.0, size.0 as f32, size.1 as f32)).parent(pages).contents(content(i));
        sheet.resources().fonts().pair(FONT, font);
        sheet.finish();
        pdf.stream(content(i), &page.content.finish());
    }
    pdf.type1_font(font).base_font(Name(b"Courier")).encoding_predefined(Name(b"WinAnsiEncoding"));
    Ok(pdf.finish())
}

/// A page that is drawn on. Positions count in [`FINE`] units from the upper left corner.
struct PdfPage {
    size: (u32, u32),
    content: Content,
    /// What was painted over the whole page: see-through colours are mixed with it.
    paper: [u8; 3],
}

/// Drawing on a page in memory cannot fail.
#[derive(Debug)]
struct Infallible;

impl std::fmt::Display for Infallible {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a page cannot be drawn on")
    }
}

impl std::error::Error for Infallible {}

type PdfResult = std::result::Result<(), DrawingErrorKind<Infallible>>;

/// A length in [`FINE`] units as points.
fn to_points(length: i32) -> f32 {
    length as f32 / FINE as f32
}

impl PdfPage {
    fn y(&self, y: i32) -> f32 {
        self.size.1 as f32 - y as f32 / FINE as f32
    }

    /// A colour as it looks on the paper, each part from 0 to 1.
    fn mixed(&self, colour: BackendColor) -> [f32; 3] {
        let (r, g, b) = colour.rgb;
        let part = |(own, paper): (u8, u8)| {
            let share = colour.alpha as f32;
            (own as f32 * share + paper as f32 * (1.0 - share)) / 255.0
        };
        [(r, self.paper[0]), (g, self.paper[1]), (b, self.paper[2])].map(part)
    }

    fn fill_colour(&mut self, colour: BackendColor) {
        let [r, g, b] = self.mixed(colour);
        self.content.set_fill_rgb(r, g, b);
    }

    fn stroke_style(&mut self, style: &impl BackendStyle) {
        let [r, g, b] = self.mixed(style.color());
        self.content.set_stroke_rgb(r, g, b);
        self.content.set_line_width(style.stroke_width() as f32 / FINE as f32);
    }

    /// Goes along some points; false where there are none.
    fn follow(&mut self, path: impl IntoIterator<Item = BackendCoord>) -> bool {
        let mut points = path.into_iter();
        let Some((x, y)) = points.next() else { return false };
        let (x, y) = (to_points(x), self.y(y));
        self.content.move_to(x, y);
        for (x, y) in points {
            let (x, y) = (to_points(x), self.y(y));
            self.content.line_to(x, y);
        }
        true
    }
}

impl DrawingBackend for &mut PdfPage {
    type ErrorType = Infallible;

    fn get_size(&self) -> (u32, u32) {
        (self.size.0 * FINE as u32, self.size.1 * FINE as u32)
    }

    fn ensure_prepared(&mut self) -> PdfResult {
        Ok(())
    }

    fn present(&mut self) -> PdfResult {
        Ok(())
    }

    fn draw_pixel(&mut self, (x, y): BackendCoord, colour: BackendColor) -> PdfResult {
        self.draw_rect((x, y), (x + 1, y + 1), &colour, true)
    }

    fn draw_line<S: BackendStyle>(&mut self, from: BackendCoord, to: BackendCoord, style: &S) -> PdfResult {
        self.draw_path([from, to], style)
    }

    fn draw_rect<S: BackendStyle>(
        &mut self,
        (left, top): BackendCoord,
        (right, bottom): BackendCoord,
        style: &S,
        fill: bool,
    ) -> PdfResult {
        if style.color().alpha == 0.0 {
            return Ok(());
        }
        let (width, height) = self.get_size();
        let is_whole = left <= 0 && top <= 0 && right >= width as i32 && bottom >= height as i32;
        if fill && is_whole {
            let (r, g, b) = style.color().rgb;
            self.paper = [r, g, b];
        }
        let (x, y) = (to_points(left), self.y(bottom));
        let (wide, high) = ((right - left) as f32 / FINE as f32, (bottom - top) as f32 / FINE as f32);
        if fill {
            self.fill_colour(style.color());
            self.content.rect(x, y, wide, high).fill_nonzero();
        } else {
            self.stroke_style(style);
            self.content.rect(x, y, wide, high).stroke();
        }
        Ok(())
    }

    fn draw_path<S: BackendStyle, I: IntoIterator<Item = BackendCoord>>(
        &mut self,
        path: I,
        style: &S,
    ) -> PdfResult {
        if style.color().alpha > 0.0 {
            self.stroke_style(style);
            if self.follow(path) {
                self.content.stroke();
            }
        }
        Ok(())
    }

    fn fill_polygon<S: BackendStyle, I: IntoIterator<Item = BackendCoord>>(
        &mut self,
        path: I,
        style: &S,
    ) -> PdfResult {
        self.fill_colour(style.color());
        if self.follow(path) {
            self.content.fill_nonzero();
        }
        Ok(())
    }

    fn draw_text<S: BackendTextStyle>(&mut self, text: &str, style: &S, (x, y): BackendCoord) -> PdfResult {
        let letters = win_ansi(text);
        let size = style.size() as f32 / FINE as f32;
        let width = letters.len() as f32 * size * LETTER;
        let left = match style.anchor().h_pos {
            HPos::Left => 0.0,
            HPos::Center => width / 2.0,
            HPos::Right => width,
        };
        // Down from the anchor to the line on which letters stand.
        let down = match style.anchor().v_pos {
            VPos::Top => size * 0.76,
            VPos::Center => size * CAPITALS / 2.0,
            VPos::Bottom => 0.0,
        };
        self.fill_colour(style.color());
        let (x, y) = (to_points(x) - left, self.y(y) - down);
        self.content.begin_text().set_font(FONT, size).next_line(x, y).show(Str(&letters)).end_text();
        Ok(())
    }

    fn estimate_text_size<S: BackendTextStyle>(
        &self,
        text: &str,
        style: &S,
    ) -> std::result::Result<(u32, u32), DrawingErrorKind<Infallible>> {
        let width = text.chars().count() as f64 * style.size() * LETTER as f64;
        Ok((width as u32, style.size() as u32))
    }
}

/// Text in the encoding of the standard fonts; what it does not have is a question mark.
fn win_ansi(text: &str) -> Vec<u8> {
    let letter = |c: char| match c {
        ' '..='~' | '\u{a0}'..='ÿ' => u32::from(c) as u8,
        '€' => 0x80,
        '…' => 0x85,
        '‘' => 0x91,
        '’' => 0x92,
        '“' => 0x93,
        '”' => 0x94,
        '•' => 0x95,
        '–' => 0x96,
        '—' | '―' => 0x97,
        _ => b'?',
    };
    text.chars().map(letter).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_of_the_standard_fonts() {
        assert_eq!(win_ansi("a … – ø →"), [b'a', b' ', 0x85, b' ', 0x96, b' ', 0xf8, b' ', b'?']);
    }
}
