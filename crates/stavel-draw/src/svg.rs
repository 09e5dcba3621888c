//! Pictures as SVG.

use plotters::prelude::{IntoDrawingArea, SVGBackend};
use stavel_core::Result;

use crate::picture::{FINE, Picture, draw_on};

/// A picture as SVG. The same picture gives the same bytes.
///
/// # Errors
/// Where it cannot be drawn.
pub fn to_svg(picture: &impl Picture) -> Result<String> {
    let (width, height) = picture.size();
    let fine = (width * FINE as u32, height * FINE as u32);
    let mut out = String::new();
    draw_on(&SVGBackend::with_string(&mut out, fine).into_drawing_area(), picture)?;
    // Its size on a screen is in points.
    let own = format!("width=\"{}\" height=\"{}\"", fine.0, fine.1);
    Ok(out.replacen(&own, &format!("width=\"{width}\" height=\"{height}\""), 1))
}
