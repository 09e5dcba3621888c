//! The bench: the full-screen terminal interface.
//!
//! Key → [`act::Act`] → [`app::App::act`] → state → [`view::draw`]. What takes long is read or done on
//! other threads ([`jobs`]) and comes back as a reply; the screen never waits for it.

pub mod act;
pub mod app;
mod browser;
mod canvas;
mod data;
mod intake;
mod intake_view;
mod jobs;
mod lens;
mod over;
mod overlay;
mod scene_view;
mod spine;
mod terminal;
mod theme;
pub mod view;

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
    app.selected = Some(info.name);
    app.lens = act::Lens::Rehearse;
    app.open_at(from.map(stavel_core::model::time::parse).transpose()?);
    terminal::run(app)
}

#[cfg(test)]
mod tests;
