//! Completions for shells, and man pages.

use std::io::Write;
use std::path::Path;

use anyhow::{Context, Result};
use clap::CommandFactory;
use clap_complete::Shell;

use crate::args::Args;
use crate::output::{Ending, quietly};

/// Prints the completions for a shell.
pub fn completions(shell: Shell) -> Result<Ending> {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Args::command(), "stavel", &mut text);
    quietly(std::io::stdout().lock().write_all(&text))?;
    Ok(Ending::Done)
}

/// Prints the man page, or writes one for each command into a folder.
pub fn man(folder: Option<&Path>) -> Result<Ending> {
    match folder {
        Some(folder) => {
            std::fs::create_dir_all(folder).with_context(|| format!("Cannot make {}", folder.display()))?;
            clap_mangen::generate_to(Args::command(), folder)
                .with_context(|| format!("Cannot write to {}", folder.display()))?;
        }
        None => {
            let mut text = Vec::new();
            clap_mangen::Man::new(Args::command()).render(&mut text)?;
            quietly(std::io::stdout().lock().write_all(&text))?;
        }
    }
    Ok(Ending::Done)
}
