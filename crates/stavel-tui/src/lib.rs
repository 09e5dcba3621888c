//! The bench: the full-screen terminal interface.
//!
//! Key → act of a lens → [`Lens::act`](lens::Lens::act), which answers with [`effect::Effect`]s → the bench
//! ([`app::App`]) does them → [`screen::draw`]. What takes long is read or done on other threads ([`jobs`]) and comes
//! back as a message; the screen never waits for it.

mod act;
mod app;
mod browser;
mod canvas;
mod data;
mod effect;
mod intake;
mod intake_view;
mod jobs;
mod lens;
mod outcome;
mod overlay;
mod overlay_view;
mod scene_view;
mod screen;
mod spine;
mod terminal;
mod theme;
mod typing;
mod view;

use std::path::Path;

use anyhow::Result;
use stavel_core::model::SeriesName;
use stavel_core::store::Shelf;

/// Opens the bench on the shelf in a folder.
///
/// # Errors
/// Where the shelf cannot be opened or there is no terminal.
pub fn run(folder: &Path) -> Result<()> {
    Shelf::open(folder)?;
    terminal::run(app::App::new(folder.to_owned()))
}

/// Opens the bench on a rehearsal of a series, from a time on.
///
/// # Errors
/// As [`run`]; also where there is no such series.
pub fn rehearse(folder: &Path, series: &SeriesName, from: Option<&str>) -> Result<()> {
    let info = Shelf::open(folder)?.find(series)?;
    let mut app = app::App::new(folder.to_owned());
    app.open_rehearsal(info.name, from.map(stavel_core::model::time::parse).transpose()?);
    terminal::run(app)
}

/// The key list as a Markdown table, for the docs.
pub fn key_list() -> String {
    lens::table(&lens::all()).key_list()
}

#[cfg(test)]
mod tests;

#[cfg(test)]
mod lens_tests;
#[cfg(test)]
mod table_tests;

#[cfg(test)]
mod screen_tests;
