//! What a person has settled for the bench, in a TOML file: theme, keys, decimals of money, clock of display.

use std::collections::BTreeMap;
use std::path::Path;

use serde::Deserialize;
use stavel_core::model::Clock;
use stavel_core::{Error, Result};

use crate::act::ActTable;
use crate::paint::Theme;

/// Decimals of money where a person says nothing.
const MONEY_DECIMALS: u32 = 2;

/// What the file may say; docs/settings.md tells of each.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// The colours; found out from the terminal where it is not said.
    pub theme: Option<Theme>,
    /// The clock that charts are labelled in; that of the instrument's session where it is not said.
    pub clock: Option<Clock>,
    money_decimals: Option<u32>,
    /// By lens, or `everywhere`: the key as docs/keys.md has it, and the key that is wanted for it.
    #[serde(default)]
    keys: BTreeMap<String, BTreeMap<String, String>>,
}

impl Settings {
    /// Reads a file for a bench with a table of acts; where there is none, nothing is settled.
    ///
    /// # Errors
    /// Where it cannot be read or says something that is not understood.
    pub fn read(path: &Path, table: &mut ActTable) -> Result<Settings> {
        let text = match std::fs::read_to_string(path) {
            Ok(text) => text,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Settings::default()),
            Err(e) => return Err(Error::io("Cannot read", path, &e)),
        };
        Settings::of(&text, table)
            .map_err(|what| Error::input(format!("The settings {}: {what}.", path.display())))
    }

    /// The settings of a text, or what is wrong with it.
    pub fn of(text: &str, table: &mut ActTable) -> std::result::Result<Settings, String> {
        let settings: Settings = toml::from_str(text).map_err(|e| {
            let line = e.span().map_or(1, |s| text[..s.start.min(text.len())].matches('\n').count() + 1);
            format!("line {line}: {}", stavel_core::error::printable(e.message()))
        })?;
        if settings.money_decimals.is_some_and(|n| n > 8) {
            return Err("money_decimals reaches from 0 to 8".into());
        }
        settings.bind(table)?;
        Ok(settings)
    }

    /// Decimals of money on the screen.
    pub fn money_decimals(&self) -> u32 {
        self.money_decimals.unwrap_or(MONEY_DECIMALS)
    }

    /// Gives acts the keys that are wanted for them, or says which cannot be.
    pub fn bind(&self, table: &mut ActTable) -> std::result::Result<(), String> {
        for (place, keys) in &self.keys {
            let word = if place == "everywhere" { "" } else { place.as_str() };
            if !word.is_empty() && !table.lines.iter().any(|l| l.lens_word() == word) {
                return Err(format!("there is no lens '{}'", stavel_core::error::printable(place)));
            }
            table.rebind(word, keys)?;
        }
        Ok(())
    }
}
