//! The bench: the full-screen terminal interface.
//!
//! Key → act of a lens → [`Lens::act`](lens::Lens::act), which answers with [`effect::Effect`]s → the bench
//! ([`app::App`]) does them → [`screen::draw`]. What takes long is read or done on other threads ([`jobs`]) and comes
//! back as a message; the screen never waits for it.

mod act;
mod app;
mod braille;
mod browser;
mod canvas;
mod choice;
mod choice_view;
mod data;
mod dates;
mod effect;
mod intake;
mod intake_view;
mod jobs;
mod lens;
mod mask;
pub mod measure;
mod messages;
mod next;
mod outcome;
mod overlay;
mod overlay_view;
mod paint;
mod scene_view;
mod screen;
mod settings;
mod spine;
mod terminal;
mod theme;
mod typing;
mod view;

use std::path::Path;

use anyhow::Result;
use stavel_core::store::Shelf;
use stavel_work::{PlayPace, RehearseStep};

pub use paint::Theme;
pub use settings::Settings;

/// What a person has settled for the bench in a file; nothing where there is none.
///
/// # Errors
/// Where it cannot be read or says something that is not understood.
pub fn read_settings(path: &Path) -> stavel_core::Result<Settings> {
    Settings::read(path, &mut lens::table(&lens::all()))
}

/// How the bench is opened.
#[derive(Debug, Default)]
pub struct BenchOptions {
    /// The colours that were asked for.
    pub theme: Option<Theme>,
    /// What a person has settled.
    pub settings: Settings,
}

/// Opens the bench on the shelf in a folder.
///
/// # Errors
/// Where the shelf cannot be opened or there is no terminal.
pub fn run(folder: &Path, options: BenchOptions) -> Result<()> {
    Shelf::open(folder)?;
    terminal::run(app::App::new(folder.to_owned()), options)
}

/// Opens the bench on a rehearsal.
///
/// # Errors
/// As [`run`]; also where there is no such series, or a setting makes no sense.
pub fn rehearse(
    folder: &Path,
    begin: &RehearseStep,
    pace: Option<PlayPace>,
    options: BenchOptions,
) -> Result<()> {
    let shelf = Shelf::open(folder)?;
    let mut begin = begin.clone();
    for name in &mut begin.series {
        *name = shelf.find(name)?.name;
    }
    begin.rules()?;
    begin.from.as_deref().map(stavel_core::model::time::parse).transpose()?;
    let mut app = app::App::new(folder.to_owned());
    app.open_rehearsal(begin, pace);
    terminal::run(app, options)
}

/// The key list as a Markdown table, for the docs.
pub fn key_list() -> String {
    lens::table(&lens::all()).key_list()
}

#[cfg(test)]
mod tests;

#[cfg(test)]
mod any_keys_tests;
#[cfg(test)]
mod first_minutes_tests;
#[cfg(test)]
mod lens_tests;
#[cfg(test)]
mod picture_tests;
#[cfg(test)]
mod rehearse_depth_tests;
#[cfg(test)]
mod rehearse_tests;
#[cfg(test)]
mod sizes_tests;
#[cfg(test)]
mod table_tests;

#[cfg(test)]
mod screen_tests;
