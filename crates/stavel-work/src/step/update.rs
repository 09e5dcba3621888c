//! The settings of update.

use std::path::PathBuf;

use clap::Args;
use serde::{Deserialize, Serialize};

/// What to bring up to date.
#[derive(Debug, Clone, Default, PartialEq, Args, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct UpdateStep {
    /// The instruments, with all that is made of them; else all that are on the shelf.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub instruments: Vec<String>,
    /// Then also do the steps of a recipe that have to be done again, deliveries among them.
    #[arg(long, value_name = "RECIPE")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recipe: Option<PathBuf>,
    /// Say what would be fetched and built, and do nothing.
    #[arg(long)]
    #[serde(skip)]
    pub dry_run: bool,
}
