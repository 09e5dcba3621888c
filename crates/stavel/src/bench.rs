//! How the bench is to be opened.

use anyhow::Result;
use stavel_tui::{BenchOptions, Settings, read_settings};

use crate::args::Args;

/// What was typed for the bench and what is settled.
pub fn options_of(args: &Args) -> Result<BenchOptions> {
    let own = || directories::BaseDirs::new().map(|b| b.config_dir().join("stavel").join("settings.toml"));
    let settings = match args.settings.clone().or_else(own) {
        Some(path) => read_settings(&path)?,
        None => Settings::default(),
    };
    Ok(BenchOptions { theme: args.theme.as_deref().and_then(|t| t.parse().ok()), settings })
}
