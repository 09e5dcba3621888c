//! Showing and verifying the shelf.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use anyhow::Result;
use serde_json::{Value, json};
use stavel_core::job::Job;
use stavel_core::model::time::{SECOND, rfc3339, wall};
use stavel_core::model::{Clock, Made, SeriesName};
use stavel_core::store::{EditionInfo, FactFilter, SeriesInfo, Shelf, StaleBecause};
use stavel_work::{AccountWish, bytes_in_words};

use crate::args::ShelfArgs;
use crate::output::{Ending, print_json, print_lines, quietly, tell};
use crate::progress::ProgressLine;

/// Shows what the arguments ask for.
pub fn show(folder: &Path, args: &ShelfArgs, as_json: bool) -> Result<Ending> {
    if args.rebuild {
        return rebuild_catalog(folder, as_json);
    }
    let shelf = Shelf::open(folder)?;
    match (&args.step.series, &args.facts) {
        _ if args.sql.is_some() => show_sql(&shelf, args),
        _ if args.verify => verify(&shelf, args.step.series.as_ref(), as_json),
        (_, Some(name)) => {
            let filter = FactFilter {
                kinds: args.kind.iter().cloned().collect(),
                weight: args.weight,
                ..FactFilter::default()
            };
            show_facts(&shelf, name, &filter, as_json)
        }
        (Some(name), None) if args.editions => {
            let info = shelf.find(name)?;
            show_editions(&info, &shelf.editions(name)?, as_json)
        }
        (Some(name), None) if args.compare.is_some() => {
            compare(&shelf, name, args.compare.unwrap_or_default(), as_json)
        }
        (series, None) => show_series(&shelf, series.as_ref(), as_json),
    }
}

/// Prints the views of an engine.
fn show_sql(shelf: &Shelf, args: &ShelfArgs) -> Result<Ending> {
    let dialect =
        args.sql.as_deref().unwrap_or_default().parse().map_err(|_| {
            stavel_core::Error::arguments("Views are written for duckdb, spark or datafusion.")
        })?;
    let text = stavel_work::shelf_sql(shelf, dialect, args.root.as_deref())?;
    quietly(std::io::stdout().lock().write_all(text.as_bytes()))?;
    Ok(Ending::Done)
}

/// Shows the spec sheet of an instrument.
pub fn show_sheet(
    folder: &Path,
    name: &str,
    account: Option<&AccountWish>,
    as_csv: bool,
    as_json: bool,
) -> Result<Ending> {
    let shelf = Shelf::open(folder)?;
    if as_csv {
        let text = stavel_work::sheet_csv(&shelf, name)?;
        quietly(std::io::stdout().lock().write_all(text.as_bytes()))?;
        return Ok(Ending::Done);
    }
    let report = stavel_work::sheet_report(&shelf, name, account)?;
    tell(&report, as_json)?;
    Ok(if report.wants_person { Ending::WantsPerson } else { Ending::Done })
}

fn clock_text(info: &SeriesInfo) -> String {
    info.edition.clock.as_ref().map_or("afloat".into(), Clock::to_string)
}

fn show_series(shelf: &Shelf, series: Option<&SeriesName>, as_json: bool) -> Result<Ending> {
    let all = match series {
        Some(name) => vec![shelf.find(name)?],
        None => shelf.series()?,
    };
    let stale = shelf.stale_editions()?;
    let mut lines = Vec::new();
    let mut instruments = Vec::new();
    for instrument in shelf.instruments()? {
        let own: Vec<&SeriesInfo> = all.iter().filter(|s| s.name.instrument == instrument.name).collect();
        if series.is_some() && own.is_empty() {
            continue;
        }
        lines.push(format!("{}  {}", instrument.name, instrument.values["kind"]));
        let made_up =
            own.iter().map(|s| shelf.is_made_up(&s.edition)).collect::<stavel_core::Result<Vec<bool>>>()?;
        let changes = |s: &SeriesInfo| stale.get(&s.edition.id).map_or(&[][..], Vec::as_slice);
        lines.extend(own.iter().zip(&made_up).map(|(s, made_up)| line_of(s, changes(s), *made_up)));
        instruments.push(json!({
            "name": instrument.name, "kind": instrument.values["kind"], "decimals": instrument.sheet.decimals,
            "series": own.iter().zip(&made_up).map(|(s, made_up)| series_json(s, stale.get(&s.edition.id), *made_up)).collect::<Vec<_>>(),
        }));
    }
    if lines.is_empty() {
        let folder = shelf.root().display();
        lines.push(format!("The shelf {folder} is empty; take files in with stavel intake."));
    } else if series.is_none() {
        let bytes = all.iter().map(|s| s.edition.bytes).sum();
        lines.push(format!("{} series, {}", all.len(), bytes_in_words(bytes)));
    }
    if as_json {
        print_json(&json!({ "instruments": instruments }))?;
    } else {
        print_lines(&lines)?;
    }
    Ok(Ending::Done)
}

/// A series as the document has it; `stale` and `why_stale` only where it is.
fn series_json(s: &SeriesInfo, stale: Option<&Vec<StaleBecause>>, is_made_up: bool) -> Value {
    let e = &s.edition;
    let mut json = json!({
        "series": s.name, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
        "clock": clock_text(s), "edition": e.number, "bytes": e.bytes, "updated": rfc3339(e.made),
        "built": e.provenance.made.is_framed(),
    });
    if matches!(e.provenance.made, Made::Rebuild(_)) {
        json["rebuilt"] = json!(true);
    }
    if is_made_up {
        json["made_up"] = json!(true);
    }
    if let Some(changes) = stale {
        json["stale"] = json!(true);
        json["why_stale"] = changes.iter().map(StaleBecause::to_string).collect();
    }
    json
}

fn line_of(s: &SeriesInfo, stale: &[StaleBecause], is_made_up: bool) -> String {
    let e = &s.edition;
    let why: Vec<String> = stale.iter().map(StaleBecause::to_string).collect();
    let stale = if why.is_empty() { String::new() } else { format!("  ▲ stale: {}", why.join(", ")) };
    let rebuilt = if matches!(e.provenance.made, Made::Rebuild(_)) { "  rebuilt from bars" } else { "" };
    let made_up = if is_made_up { "  made up for a stress test" } else { "" };
    format!(
        "  {:<18} {:>10} rows  {} … {}  {:<20} edition {:<3} {:>8} kB{rebuilt}{made_up}{stale}",
        s.name.short(),
        e.rows,
        wall(e.first),
        wall(e.last),
        clock_text(s),
        e.number,
        e.bytes / 1024
    )
}

fn show_editions(info: &SeriesInfo, editions: &[EditionInfo], as_json: bool) -> Result<Ending> {
    if as_json {
        let list: Vec<Value> = editions
            .iter()
            .map(|e| {
                json!({
                    "edition": e.number, "current": e.id == info.edition.id, "act": e.provenance.made.act(), "made": rfc3339(e.made),
                    "rows": e.rows, "fingerprint": e.provenance.fingerprint(), "provenance": e.provenance,
                })
            })
            .collect();
        print_json(&json!({"series": info.name, "editions": list}))?;
        return Ok(Ending::Done);
    }
    let mut lines = Vec::new();
    for e in editions {
        let here = if e.id == info.edition.id { "▸" } else { " " };
        let made = wall(e.made / SECOND * SECOND);
        lines.push(format!(
            "{here} edition {:<3} {:<8} {:>10} rows  made {made}",
            e.number,
            e.provenance.made.act(),
            e.rows
        ));
        lines.extend(made_from(e));
    }
    print_lines(&lines)?;
    Ok(Ending::Done)
}

/// What an intake says of an edition: its files with their fingerprints, and what became of the rows.
fn made_from(edition: &EditionInfo) -> Vec<String> {
    let mut lines = Vec::new();
    let Made::Intake(taken) = &edition.provenance.made else {
        lines.extend(edition.provenance.parents().map(|(_, series)| format!("      from {series}")));
        return lines;
    };
    for file in &taken.files {
        let hash = match (&file.blake3, &file.sha256) {
            (Some(hash), _) => format!("blake3 {hash}"),
            (None, Some(hash)) => format!("sha256 {hash}"),
            (None, None) => "no fingerprint".to_owned(),
        };
        lines.push(format!("      {}  {} bytes  {hash}", file.name, file.bytes));
    }
    lines.push(format!(
        "      {} rows read = {} kept + {} rejected + {} already there, in {} s; layout {}",
        taken.rows_read,
        taken.rows_kept,
        taken.rows_rejected,
        taken.rows_already_there,
        taken.seconds,
        taken.layout
    ));
    for d in &taken.decisions {
        lines.push(format!("      {} {} {}: {}, {}", d.standing.mark(), d.what, d.value, d.standing, d.why));
    }
    lines
}

fn show_facts(shelf: &Shelf, instrument: &str, filter: &FactFilter, as_json: bool) -> Result<Ending> {
    // A currency has facts, and is no instrument.
    let facts =
        match shelf.has_instrument(instrument)? || !shelf.fact_names()?.iter().any(|n| n == instrument) {
            true => shelf.facts_about(instrument, filter)?,
            false => shelf.facts(instrument)?.into_iter().filter(|fact| filter.holds(fact)).collect(),
        };
    if as_json {
        let list: Vec<Value> = facts
            .iter()
            .map(|f| json!({"time": rfc3339(f.time), "kind": f.kind, "source": f.source, "values": f.values}))
            .collect();
        print_json(&json!({"instrument": instrument, "facts": list}))?;
        return Ok(Ending::Done);
    }
    let mut lines: Vec<String> = facts
        .iter()
        .map(|f| {
            let values: Vec<String> = f.values.iter().map(|(k, v)| format!("{k} {v}")).collect();
            format!("{}  {:<9} {:<10} {}", wall(f.time), f.kind, f.source, values.join(", "))
        })
        .collect();
    if lines.is_empty() {
        let such = if *filter == FactFilter::default() { "" } else { " such" };
        lines.push(format!(
            "{instrument} has no{such} dated facts; stavel intake takes tables and calendars of them."
        ));
    }
    print_lines(&lines)?;
    Ok(Ending::Done)
}

fn compare(shelf: &Shelf, name: &SeriesName, number: i64, as_json: bool) -> Result<Ending> {
    let info = shelf.find(name)?;
    let older = shelf.editions(name)?.into_iter().find(|e| e.number == number).ok_or_else(|| {
        stavel_core::Error::input(format!(
            "{name} has no edition {number}; stavel shelf {name} --editions lists them."
        ))
    })?;
    let job = Arc::new(Job::unwatched());
    let line = ProgressLine::watch(job.clone());
    let found = shelf.compare(&older, &info.edition, &job)?;
    drop(line);
    let now = info.edition.number;
    if as_json {
        print_json(&json!({
            "series": name, "edition": number, "current": now, "same": found.same, "changed": found.changed,
            "only_in_edition": found.only_first, "only_in_current": found.only_second,
            "from": found.differs.map(|d| rfc3339(d.0)), "to": found.differs.map(|d| rfc3339(d.1)),
        }))?;
    } else {
        let span = found
            .differs
            .map_or(String::new(), |d| format!("; differences from {} to {}", wall(d.0), wall(d.1)));
        print_lines(&[format!(
            "edition {number} beside {now}: {} rows the same, {} changed, {} only in {number}, {} only in {now}{span}",
            found.same, found.changed, found.only_first, found.only_second
        )])?;
    }
    Ok(Ending::Done)
}

fn verify(shelf: &Shelf, only: Option<&SeriesName>, as_json: bool) -> Result<Ending> {
    if let Some(name) = only {
        shelf.find(name)?;
    }
    let job = Arc::new(Job::unwatched());
    let line = ProgressLine::watch(job.clone());
    let found = shelf.verify(only, &job)?;
    drop(line);
    if as_json {
        print_json(&json!({
            "files": found.files, "rows": found.rows, "bytes": found.bytes, "faults": found.faults,
            "lost": found.lost, "strangers": found.strangers,
        }))?;
    } else {
        let sum = format!("{} files, {} rows, {}", found.files, found.rows, bytes_in_words(found.bytes));
        let mut lines = found.faults.clone();
        lines.extend(
            found.lost.iter().map(|p| format!("{p}: no edition holds it; it is kept for you to look at")),
        );
        lines.extend(
            found.strangers.iter().map(|p| format!("{p}: not one of Stavel's files; it is left alone")),
        );
        lines.push(match found.faults.len() {
            0 => format!("{sum}: every file is as the catalog has it"),
            n => format!(
                "{sum}: {n} files are not as the catalog has them; take their sources in again with --replace"
            ),
        });
        print_lines(&lines)?;
    }
    let is_good = found.faults.is_empty() && found.lost.is_empty();
    Ok(if is_good { Ending::Done } else { Ending::WantsPerson })
}

fn rebuild_catalog(folder: &Path, as_json: bool) -> Result<Ending> {
    let job = Arc::new(Job::unwatched());
    let line = ProgressLine::watch(job.clone());
    let done = stavel_core::store::rebuild(folder, &job)?;
    drop(line);
    if as_json {
        print_json(&json!({
            "series": done.series, "files": done.files, "rows": done.rows, "old_catalog": done.old_catalog,
            "set_aside": done.set_aside, "notes": done.notes,
        }))?;
    } else {
        let mut lines = vec![format!(
            "the catalog was made anew: {} series, {} files, {} rows",
            done.series, done.files, done.rows
        )];
        lines.extend(done.old_catalog.iter().map(|p| format!("  the catalog that was there is {p} now")));
        if done.set_aside > 0 {
            lines.push(format!("  {} files of older editions were set aside in lost/", done.set_aside));
        }
        lines.extend(done.notes.iter().map(|note| format!("  {note}")));
        print_lines(&lines)?;
    }
    Ok(if done.notes.is_empty() { Ending::Done } else { Ending::WantsPerson })
}
