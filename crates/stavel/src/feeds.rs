//! Feeds, and the stand-ins of services.

use std::io::Write;
use std::path::Path;

use anyhow::{Context, Result};
use serde_json::json;
use stavel_core::job::Job;
use stavel_core::model::time::{day_of, parse, rfc3339};
use stavel_core::store::Shelf;
use stavel_feed::stand_in::{StandInWish, Switch, start};
use stavel_work::{add_feed, feeds_report};

use crate::args::StandInArgs;
use crate::output::{Ending, print_json, print_lines, tell};

/// Adds a feed, or tells what the feeds of the shelf have.
pub fn run(folder: &Path, add: Option<&Path>, as_json: bool) -> Result<Ending> {
    if let Some(path) = add {
        let shelf = Shelf::open_to_write(folder)?;
        let (feed, before) = add_feed(&shelf, path)?;
        let mut frames: Vec<String> = feed.series.iter().map(|s| s.frame.to_string()).collect();
        let more = feed.dates.iter().map(|dates| dates.tells.to_string());
        let has = [(feed.specs.is_some(), "specs"), (feed.live.is_some(), "a stream")];
        let says: Vec<String> =
            more.chain(has.into_iter().filter(|(is, _)| *is).map(|(_, what)| what.to_owned())).collect();
        if as_json {
            print_json(
                &json!({ "added": feed.name, "address": feed.address, "frames": frames, "says": says }),
            )?;
        } else {
            frames.extend(says);
            let was = if before.is_some() { "said anew" } else { "added" };
            print_lines(&[format!(
                "the feed {} is {was}: {} from {}",
                feed.name,
                frames.join(", "),
                feed.address
            )])?;
        }
        return Ok(Ending::Done);
    }
    let report = feeds_report(&Shelf::open(folder)?, &Job::unwatched())?;
    tell(&report, as_json)?;
    Ok(if report.wants_person { Ending::WantsPerson } else { Ending::Done })
}

/// Runs the stand-ins until the program is ended; says first where they are.
pub fn stand_in(args: &StandInArgs) -> Result<Ending> {
    let kept;
    let folder = match &args.dir {
        Some(dir) => dir.clone(),
        None => {
            kept = tempfile::Builder::new().prefix("stavel-stand-in-").tempdir()?.keep();
            kept
        }
    };
    let wish = StandInWish {
        port: args.port,
        first_day: day_of(parse(&args.first)?),
        folder,
        switch: Switch {
            now: rfc3339(parse(&args.now)?),
            faults: args.faults,
            per_second: args.per_second,
            ..Switch::default()
        },
    };
    let running = start(&wish)
        .with_context(|| format!("The stand-ins cannot be started on port {} of this machine", args.port))?;
    let told = json!({ "address": format!("http://{}", running.address), "feeds": running.feeds });
    let mut out = std::io::stdout().lock();
    writeln!(out, "{told}")?;
    out.flush()?;
    drop(out);
    running.wait();
    Ok(Ending::Done)
}
