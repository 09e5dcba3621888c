//! `stavel rehearse --serve`: replays for programs.

use std::path::Path;

use anyhow::Result;
use serde_json::json;
use stavel_core::store::Shelf;
use stavel_work::{PlayPace, RehearseStep, Served, listen, opener, serve, serve_lines};

use crate::output::Ending;

/// Where a token is looked for.
const TOKEN: &str = "STAVEL_SERVE_TOKEN";

/// Serves until the process is ended, or, by standard input, until that ends.
pub fn run(
    folder: &Path,
    step: &RehearseStep,
    address: &str,
    pace: PlayPace,
    is_json: bool,
) -> Result<Ending> {
    Shelf::open(folder)?;
    let open = opener(folder, step)?;
    if address == "-" {
        if pace != PlayPace::Acknowledged {
            anyhow::bail!(
                "By standard input a replay goes as fast as it is acknowledged; leave --pace away."
            );
        }
        serve_lines(open()?, std::io::stdin().lock(), std::io::stdout().lock())?;
        return Ok(Ending::Done);
    }
    let address = address.parse().map_err(|_| {
        stavel_core::Error::arguments(format!(
            "'{address}' is no address and port; write 127.0.0.1:8790, or - for standard input."
        ))
    })?;
    let token = std::env::var(TOKEN).ok().filter(|token| !token.is_empty());
    let served = Served { address, token, pace };
    let listener = listen(&served)?;
    let here = listener.local_addr()?;
    let url = format!("ws://{here}");
    // The first line tells a program where to go.
    match is_json {
        true => println!("{}", json!({"address": url, "pace": pace.to_string()})),
        false => println!("serves at {url}, pace {pace}; docs/serve.md has the messages, Ctrl+C ends it"),
    }
    std::io::Write::flush(&mut std::io::stdout())?;
    serve(&listener, &served, &open, None)?;
    Ok(Ending::Done)
}
