//! The demo: raw files, a shelf, and the whole example with its proof.

use std::path::{Path, PathBuf};
use std::time::Instant;

use anyhow::{Context, Result};
use serde_json::Value;
use stavel_core::check::{self, FindingKind};
use stavel_core::job::Job;
use stavel_core::model::{SeriesName, Span, time};
use stavel_core::store::Shelf;
use stavel_feed::stand_in::{RunningStandIn, StandInWish, Switch, start};
use stavel_feed::{DemoSpans, Truth, demo::SEED, write_demo};
use stavel_work::{Recipe, Step, StepReport, add_feed, finding_in_words};

use crate::args::{Args, DemoArgs};
use crate::bench::options_of;
use crate::output::{Ending, print_lines};

/// Makes the demo and opens the bench on it, or runs the whole example.
pub fn run(args: &DemoArgs, typed: &Args) -> Result<Ending> {
    let folder = args.dir.clone().unwrap_or_else(|| std::env::temp_dir().join("stavel-demo"));
    let raw = raw_files(&folder, args.years)?;
    if args.headless {
        return headless(&folder, &raw, typed.json);
    }
    let shelf = folder.join(format!("shelf-{}", args.years));
    if Shelf::open(&shelf)?.series()?.is_empty() {
        take_everything_in(&shelf, &raw)?;
    }
    // The services run as long as the bench does.
    let _services = services(&folder.join(format!("feeds-{}", args.years)), &shelf, args.years)?;
    stavel_tui::run(&shelf, options_of(typed)?)?;
    Ok(Ending::Done)
}

/// Starts the made-up services, whose market goes on three weeks after the raw files end, and makes their feeds known to
/// the shelf.
fn services(folder: &Path, shelf: &Path, years: u32) -> Result<RunningStandIn> {
    let spans = DemoSpans::full(years);
    let switch = Switch { now: time::rfc3339(spans.noksek.to + 3 * time::WEEK), ..Switch::default() };
    let wish = StandInWish {
        port: 0,
        first_day: time::day_of(spans.noksek.from),
        folder: folder.to_owned(),
        switch,
    };
    let running = start(&wish).context("The made-up services cannot be started")?;
    let shelf = Shelf::open_to_write(shelf)?;
    for feed in &running.feeds {
        add_feed(&shelf, feed)?;
    }
    Ok(running)
}

/// The raw files below the demo folder, made where they are not there yet.
fn raw_files(folder: &Path, years: u32) -> Result<PathBuf> {
    let raw = folder.join(format!("raw-{years}"));
    // The recipe is written last: where it is, everything is.
    if !raw.join("orders.csv").exists() {
        eprintln!("Making {years} years of raw files in {} …", raw.display());
        write_demo(&raw, &DemoSpans::full(years), SEED)
            .with_context(|| format!("The demo cannot be written to {}", raw.display()))?;
    }
    Ok(raw)
}

/// The part of the example that brings everything in; what comes after is for the person at the bench.
fn take_everything_in(folder: &Path, raw: &Path) -> Result<()> {
    let recipe = Recipe::read(&raw.join("noksek.toml"))?;
    let mut shelf = Shelf::open_to_write(folder)?;
    let first_acts = recipe.step.iter().take_while(|s| matches!(s, Step::Compose(_) | Step::Intake(_)));
    for step in first_acts {
        let report = stavel_work::apply(&mut shelf, step, &Job::unwatched())?;
        report.lines.iter().for_each(|l| eprintln!("{}", stavel_core::error::printable(l)));
    }
    Ok(())
}

/// One thing the example must show, and whether it held.
struct Proof {
    what: String,
    holds: bool,
}

fn headless(folder: &Path, raw: &Path, as_json: bool) -> Result<Ending> {
    let begun = Instant::now();
    let shelf_folder = folder.join("shelf-headless");
    if shelf_folder.exists() {
        std::fs::remove_dir_all(&shelf_folder)
            .with_context(|| format!("Cannot clear {}", shelf_folder.display()))?;
    }
    let text =
        std::fs::read_to_string(raw.join("truth.json")).context("The demo's truth file cannot be read")?;
    let truth: Truth = serde_json::from_str(&text).context("The demo's truth file cannot be understood")?;
    let recipe = Recipe::read(&raw.join("noksek.toml"))?;
    let mut shelf = Shelf::open_to_write(&shelf_folder)?;
    let mut proofs = Vec::new();
    let mut lines = Vec::new();
    for step in &recipe.step {
        if matches!(step, Step::Check(_)) {
            proofs.extend(planted(&shelf, &truth)?);
        }
        let at = Instant::now();
        let report = stavel_work::apply(&mut shelf, step, &Job::unwatched())?;
        lines.push(format!(
            "{:<9}{:>6.2} s  {}",
            step.act(),
            at.elapsed().as_secs_f64(),
            report.lines.first().cloned().unwrap_or_default()
        ));
        lines.extend(report.lines.iter().skip(1).map(|l| format!("{:19}{l}", "")));
        proofs.extend(proofs_of(step, &report, &truth));
    }
    let held = proofs.iter().all(|p| p.holds);
    lines.push(String::new());
    lines.extend(proofs.iter().map(|p| format!("{} {}", if p.holds { "✓" } else { "✗" }, p.what)));
    lines.push(format!(
        "{} of {} proofs hold; {:.1} s",
        proofs.iter().filter(|p| p.holds).count(),
        proofs.len(),
        begun.elapsed().as_secs_f64()
    ));
    if as_json {
        let list: Vec<Value> =
            proofs.iter().map(|p| serde_json::json!({"proof": p.what, "holds": p.holds})).collect();
        println!("{}", serde_json::json!({ "proofs": list }));
    } else {
        print_lines(&lines)?;
    }
    anyhow::ensure!(held, "The demo did not hold; see the lines marked ✗");
    Ok(Ending::Done)
}

/// What a step's own report proves.
fn proofs_of(step: &Step, report: &StepReport, truth: &Truth) -> Vec<Proof> {
    let json = &report.document();
    let number = |v: &Value, key: &str| v[key].as_u64().unwrap_or(u64::MAX);
    let list = |key: &str| json[key].as_array().cloned().unwrap_or_default();
    match step {
        Step::Intake(_) => list("series")
            .iter()
            .map(|t| {
                let (read, kept) = (number(t, "rows_read"), number(t, "rows_kept"));
                let (rejected, there) = (number(t, "rows_rejected"), number(t, "rows_already_there"));
                Proof {
                    what: format!(
                        "{}: {read} rows in = {kept} kept + {rejected} rejected + {there} there",
                        t["series"]
                    ),
                    holds: read > 0
                        && Some(read) == kept.checked_add(rejected).and_then(|n| n.checked_add(there)),
                }
            })
            .collect(),
        Step::Align(_) => vec![Proof {
            what: format!("clock found {} = {} planted", json["clock"], truth.broker_clock),
            holds: json["clock"] == truth.broker_clock.as_str() && json["anchored"] == true,
        }],
        Step::Splice(_) => {
            let pieces: u64 = list("pieces").iter().map(|p| number(p, "rows")).sum();
            let rows = number(json, "rows");
            vec![Proof {
                what: format!("{pieces} rows in pieces = {rows} rows joined"),
                holds: pieces == rows,
            }]
        }
        Step::Deliver(_) => list("files")
            .iter()
            .map(|f| Proof {
                what: format!("{} holds its {} rows exactly", f["path"], f["rows"]),
                holds: f["proved"] == true,
            })
            .collect(),
        Step::Chart(s) => {
            vec![Proof {
                what: format!("{} is drawn", s.out.display()),
                holds: number(json, "bytes") > 1000 && s.out.exists(),
            }]
        }
        Step::Draw(_) | Step::Dossier(_) => Vec::new(),
        Step::Rehearse(_) => vec![Proof {
            what: format!("{} orders filled, position {}", list("fills").len(), json["position"]),
            holds: json["unfilled"] == 0 && json["position"] == "0.00" && !list("fills").is_empty(),
        }],
        Step::Auto(_)
        | Step::Fetch(_)
        | Step::Update(_)
        | Step::Check(_)
        | Step::Frames(_)
        | Step::Compose(_)
        | Step::Undo(_)
        | Step::Redo(_)
        | Step::Shelf(_) => Vec::new(),
    }
}

/// Each planted defect must be among the findings of its kind, and no finding of those kinds may be
/// anything but planted.
fn planted(shelf: &Shelf, truth: &Truth) -> Result<Vec<Proof>> {
    let series: SeriesName = "NOKSEK@quill:1m".parse()?;
    let (_, found) = check::check_series(shelf, &series, Span::ALL, &Job::unwatched())?;
    let mut proofs = Vec::new();
    let mut spans: Vec<(FindingKind, Span)> = Vec::new();
    for defect in &truth.defects {
        let kind: FindingKind = defect.kind.parse()?;
        let span = Span::new(time::parse(&defect.from)?, time::parse(&defect.to)?);
        spans.push((kind, span));
        let hit = found.findings.iter().any(|f| f.kind == kind && f.span.overlap(&span).is_some());
        proofs.push(Proof { what: format!("planted {} {}: found", defect.kind, defect.from), holds: hit });
    }
    let stray: Vec<String> = found
        .findings
        .iter()
        .filter(|f| f.kind != FindingKind::ClosedMarket)
        .filter(|f| !spans.iter().any(|(k, s)| *k == f.kind && s.overlap(&f.span).is_some()))
        .map(|f| format!("{} {} {}", f.kind.word(), time::wall(f.span.from), finding_in_words(f)))
        .collect();
    let what = if stray.is_empty() {
        "nothing found that was not planted".to_owned()
    } else {
        format!("found but not planted: {}", stray.join("; "))
    };
    proofs.push(Proof { what, holds: stray.is_empty() });
    Ok(proofs)
}
