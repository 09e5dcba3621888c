//! What `--version` tells beside the version: the commit it was built from, and how.

use std::process::Command;

fn main() {
    let variable = |name: &str| std::env::var(name).unwrap_or_default();
    let git = Command::new("git").args(["rev-parse", "--short=10", "HEAD"]).output();
    let commit =
        git.ok().filter(|out| out.status.success()).and_then(|out| String::from_utf8(out.stdout).ok());
    let commit = commit.map_or_else(|| "no commit".to_owned(), |text| text.trim().to_owned());
    let build = format!(
        "{} ({commit}, {}, {})",
        variable("CARGO_PKG_VERSION"),
        variable("PROFILE"),
        variable("TARGET")
    );
    println!("cargo::rustc-env=STAVEL_BUILD={build}");
    println!("cargo::rerun-if-changed=../../.git/HEAD");
    println!("cargo::rerun-if-changed=../../.git/refs/heads");
}
