//! Pictures that can be drawn anywhere: as SVG, or on a PDF page.

use plotters::coord::Shift;
use plotters::prelude::{DrawingArea, DrawingAreaErrorKind, DrawingBackend};
use plotters::style::{Color, IntoFont, RGBColor, TextStyle};
use stavel_core::{Error, Result};

/// Units of a picture in a point of the page: positions are whole numbers, and a candle may be narrower than a point.
pub const FINE: i32 = 4;

/// The error of drawing on some backend.
pub type DrawResult<B> = std::result::Result<(), DrawingAreaErrorKind<<B as DrawingBackend>::ErrorType>>;

/// Something that can be drawn.
pub trait Picture {
    /// Width and height in points.
    fn size(&self) -> (u32, u32);

    /// Draws it on an area of that size, in [`FINE`] units a point.
    ///
    /// # Errors
    /// Where the backend cannot draw.
    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> DrawResult<B>;
}

/// A text style of the one font that pictures have; `size` is in points.
pub(crate) fn words(size: i32, colour: RGBColor) -> TextStyle<'static> {
    let style = TextStyle::from(("monospace", size * FINE).into_font());
    TextStyle { color: colour.to_backend_color(), ..style }
}

/// A colour out of `0xrrggbb`.
pub(crate) const fn colour(rgb: u32) -> RGBColor {
    RGBColor((rgb >> 16) as u8, (rgb >> 8) as u8, rgb as u8)
}

/// What went wrong with a picture, as one sentence.
pub(crate) fn failed(err: &impl std::fmt::Display) -> Error {
    Error::storage(format!("The picture cannot be drawn: {err}."))
}

/// The area of a whole backend, drawn on and ended.
pub(crate) fn draw_on<B: DrawingBackend>(area: &DrawingArea<B, Shift>, picture: &impl Picture) -> Result<()> {
    picture.draw(area).map_err(|e| failed(&e))?;
    area.present().map_err(|e| failed(&e))
}
