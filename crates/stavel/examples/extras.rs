//! Writes the man pages and the completions of shells into a folder: `cargo run --example extras -- FOLDER`.

#[allow(dead_code)]
#[path = "../src/args.rs"]
mod args;

use std::path::PathBuf;

use anyhow::{Context, Result};
use clap::CommandFactory;
use clap_complete::Shell;

fn main() -> Result<()> {
    let folder = PathBuf::from(std::env::args_os().nth(1).context("say the folder to write to")?);
    std::fs::create_dir_all(&folder)?;
    let mut command = args::Args::command();
    for shell in [Shell::Bash, Shell::Zsh, Shell::Fish] {
        clap_complete::generate_to(shell, &mut command, "stavel", &folder)?;
    }
    clap_mangen::generate_to(command, &folder)?;
    Ok(())
}
