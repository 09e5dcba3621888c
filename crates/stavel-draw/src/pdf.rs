//! SVG as PDF, with the font embedded.

use std::sync::Arc;

use stavel_core::{Error, Result};
use svg2pdf::usvg;

/// Turns a picture drawn by [`crate::svg`] into a page.
///
/// # Errors
/// Where the picture cannot be converted.
pub fn from_svg(svg: &str) -> Result<Vec<u8>> {
    let mut fonts = usvg::fontdb::Database::new();
    fonts.load_font_data(epaint_default_fonts::HACK_REGULAR.to_vec());
    fonts.set_monospace_family("Hack");
    let options = usvg::Options { fontdb: Arc::new(fonts), font_family: "Hack".into(), ..Default::default() };
    let failed =
        |e: &dyn std::fmt::Display| Error::storage(format!("The picture cannot be made a PDF: {e}."));
    let tree = usvg::Tree::from_str(svg, &options).map_err(|e| failed(&e))?;
    svg2pdf::to_pdf(&tree, svg2pdf::ConversionOptions::default(), svg2pdf::PageOptions::default())
        .map_err(|e| failed(&e))
}
