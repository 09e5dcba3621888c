//! Doing a deliver step.

mod behind;
mod beside;
mod events;
mod manifest;
pub(crate) mod room;
mod shape;
mod sides;
mod table;
mod verify;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use serde_json::{Value, json};

use crate::assumptions::of_rows;
use crate::costs::{cost_sheet, costs_csv};
use crate::patterns::delivered;
use crate::report::{StepReport, counted};
use crate::span::span_between;
use crate::step::{DeliverStep, Step};
use manifest::{FileState, Manifest, ManifestFile};
use shape::{DeliveryShape, shapes};
use sides::with_sides;
use stavel_core::deliver::{
    Compress, Delivery, DeliveryOrder, FileFormat, PriceSides, ReadyDelivery, WeighedEvents, is_folder,
};
use stavel_core::job::Job;
use stavel_core::model::layout::{decimals_of, general};
use stavel_core::model::time::rfc3339;
use stavel_core::model::{Clock, Layout, SeriesName, Side, Weight};
use stavel_core::store::{EditionInfo, Shelf};
use stavel_core::{Error, Result};
use table::write_table;

/// One file or more of one series in one shape, ready to be written.
struct PlannedFiles {
    order: DeliveryOrder,
    prepared: ReadyDelivery,
    paths: Vec<PathBuf>,
}

/// Writes each series to its files and proves them, or compares files with a manifest.
///
/// # Errors
/// Where a series is stale and nobody said that this is meant, where anything that is asked for cannot be written as
/// it is, and where there is no room: nothing is delivered then.
pub fn deliver_all(shelf: &Shelf, step: &DeliverStep, job: &Job) -> Result<StepReport> {
    if let Some(path) = &step.verify {
        return verify::verify(shelf, path);
    }
    let shapes = shapes(shelf, step)?;
    // A dataset is a folder, however its path is written.
    let out = match shapes.iter().all(|s| s.format == FileFormat::Dataset) {
        true => step.out.join(""),
        false => step.out.clone(),
    };
    let DeliveryPlan { files: planned, alone } = plan(shelf, step, &shapes, &out, job)?;
    let manifest_path = Manifest::path_for(&out);
    let mut manifest = Manifest::read(&manifest_path)?.unwrap_or_default();
    let folder = manifest_path.parent().unwrap_or(Path::new("")).to_path_buf();
    room::refuse_without(&folder, planned.iter().map(|p| p.prepared.bytes()).sum())?;
    // Whether all is written anew or only what changed, the files are the same.
    let same = DeliverStep { changed: false, ..step.clone() };
    let command = Step::Deliver(Box::new(same)).command_line();
    let mut report = StepReport::new(json!({}), Vec::new());
    let (mut documents, mut unchanged) = (Vec::new(), Vec::new());
    for plan in &planned {
        let entry = |path: &Path| manifest.file(&from_folder(path, &folder)).cloned();
        if step.changed && is_there(shelf, plan, &command, &folder, &entry)? {
            unchanged.extend(plan.paths.iter().cloned());
            continue;
        }
        let mut kept = Vec::new();
        let mut begun = BTreeMap::new();
        for path in plan.paths.iter().filter(|_| step.changed) {
            let Some(entry) = entry(path) else { continue };
            let found = behind::begun(shelf, plan, &entry, (&out, &folder, &command))?;
            begun.extend(found.map(|found| (path.clone(), found)));
        }
        let done = plan.prepared.write(&out, job, &|path| begun.get(path).cloned(), &mut |path| {
            let aside = room::set_aside(path, entry(path).as_ref(), &folder)?;
            kept.extend(aside.map(|aside| (path.to_owned(), aside)));
            Ok(())
        })?;
        let mut entries = Vec::new();
        for delivery in done {
            documents.push(told(shelf, &delivery, &plan.order.series, &mut report)?);
            entries.push(entry_of(shelf, plan, &delivery, &folder, &command)?);
            report.files.push(delivery.path);
        }
        report.lines.extend(kept.iter().map(|(path, aside)| {
            format!(
                "▲ {} was there and is no delivery of this shelf as it was left; it is kept as {}",
                path.display(),
                aside.display()
            )
        }));
        manifest.put(entries);
        // After each series: a job that is stopped leaves a manifest of what there is.
        manifest.write(&manifest_path)?;
    }
    let costs = if step.costs { write_costs(shelf, &out, &planned, job)? } else { Vec::new() };
    report
        .lines
        .extend(alone.iter().map(|name| format!("{name} has one price side only; its file has that")));
    report.lines.extend(costs.iter().map(|path| format!("{}: what trading it costs", path.display())));
    if !unchanged.is_empty() {
        report
            .lines
            .push(format!("{} files are there as they would be now; they were left", unchanged.len()));
    }
    if report.lines.is_empty() {
        report.lines.push("nothing to deliver".into());
    }
    report.json = json!({ "files": documents, "manifest": manifest_path });
    if let Some(least) = step.events {
        tell_whole_days(shelf, least, &planned, &mut report)?;
    }
    if step.facts {
        deliver_facts(shelf, step, &out, &planned, &mut report)?;
    }
    if step.costs {
        report.json["costs"] = json!(costs);
        report.files.extend(costs);
    }
    if step.changed {
        report.json["unchanged"] = json!(unchanged);
    }
    Ok(report)
}

/// What is to be written.
struct DeliveryPlan {
    files: Vec<PlannedFiles>,
    /// Series with one price side, where two were asked for.
    alone: Vec<SeriesName>,
}

/// Looks everything through before anything is written.
fn plan(
    shelf: &Shelf,
    step: &DeliverStep,
    shapes: &[DeliveryShape],
    out: &Path,
    job: &Job,
) -> Result<DeliveryPlan> {
    let (series, alone) = with_sides(shelf, delivered(shelf, &step.series, &step.frames)?, step.sides)?;
    if series.len() * shapes.len() > 1 && !is_folder(out) {
        return Err(Error::arguments(format!(
            "{} files need a folder to go to; write --out DIR/.",
            series.len() * shapes.len()
        )));
    }
    if step.out.as_os_str().is_empty() {
        return Err(Error::arguments("Nothing says where to write to; say --out FILE or --out DIR/."));
    }
    if !step.stale_ok {
        series.iter().try_for_each(|(series, sides)| refuse_stale(shelf, series, *sides))?;
    }
    let mut planned: Vec<PlannedFiles> = Vec::new();
    for series in &series {
        for shape in shapes {
            let mut order = order_of(step, series, shape, shapes.len() > 1)?;
            order.beside = beside::beside(shelf, &order, job)?;
            order.events = events_for(shelf, step, &order.series)?;
            let prepared = ReadyDelivery::of(shelf, &order)?;
            let paths = prepared.paths(out)?;
            let is_taken = |path: &PathBuf| planned.iter().any(|p| p.paths.contains(path));
            if let Some(twice) = paths.iter().find(|path| is_taken(path)) {
                return Err(Error::arguments(format!(
                    "Two deliveries would go to {}; say --names with {{instrument}}, {{source}}, {{frame}} and {{layout}} in it.",
                    twice.display()
                )));
            }
            planned.push(PlannedFiles { order, prepared, paths });
        }
    }
    Ok(DeliveryPlan { files: planned, alone })
}

/// The deliveries that a step asks for, one for each series and shape.
///
/// # Errors
/// Where a series or a layout is not known, or something does not go with a format.
pub fn delivery_orders(shelf: &Shelf, step: &DeliverStep) -> Result<Vec<DeliveryOrder>> {
    let shapes = shapes(shelf, step)?;
    let mut out = Vec::new();
    for series in with_sides(shelf, delivered(shelf, &step.series, &step.frames)?, step.sides)?.0 {
        for shape in &shapes {
            let mut order = order_of(step, &series, shape, shapes.len() > 1)?;
            order.events = events_for(shelf, step, &order.series)?;
            out.push(order);
        }
    }
    Ok(out)
}

/// The layout by which a step writes lines, to be saved under a name.
///
/// # Errors
/// Where it writes none, or its layout is not known.
pub fn delivery_layout(shelf: &Shelf, step: &DeliverStep) -> Result<Layout> {
    let usual = || Layout { name: None, ..general("rfc3339").unwrap_or_else(|| Layout::plain(&[])) };
    let shape = shapes(shelf, step)?.into_iter().find(|s| s.format == FileFormat::Csv);
    let shape = shape.ok_or_else(|| Error::arguments("Only lines of CSV have a layout."))?;
    Ok(Layout { name: None, ..shape.layout.unwrap_or_else(usual) })
}

fn order_of(
    step: &DeliverStep,
    (series, sides): &(SeriesName, PriceSides),
    shape: &DeliveryShape,
    is_one_of_many: bool,
) -> Result<DeliveryOrder> {
    let by_name = if shape.format.is_text() { Compress::of_name(&step.out) } else { Compress::None };
    let layout = shape.layout.clone().map(|layout| Layout {
        // What is said for one delivery comes before what a layout always means.
        clock: step.clock.clone().or(layout.clock.clone()),
        ..layout
    });
    Ok(DeliveryOrder {
        sides: *sides,
        layout,
        decimals: (decimals_of(step.decimals)?, decimals_of(step.volume_decimals)?),
        only: shape.only.clone(),
        clock: step.clock.clone().unwrap_or_else(Clock::utc),
        span: span_between(step.from.as_deref(), step.to.as_deref())?,
        last: step.last.as_ref().and_then(|limits| limits.of(series.frame)),
        origin: step.origin,
        details: step.details,
        complete_only: step.complete_only,
        compress: step.compress.unwrap_or(by_name),
        split: step.split,
        names: step.names.clone(),
        is_one_of_many,
        ..DeliveryOrder::of(series.clone(), shape.format)
    })
}

/// Writes what is known on dates of each instrument beside the files.
fn deliver_facts(
    shelf: &Shelf,
    step: &DeliverStep,
    out: &Path,
    planned: &[PlannedFiles],
    report: &mut StepReport,
) -> Result<()> {
    let names = planned.iter().map(|p| p.order.series.instrument.as_str()).collect();
    let clock = step.clock.clone().unwrap_or_else(Clock::utc);
    let facts = events::write_facts(shelf, out, &names, &clock)?;
    report.lines.extend(facts.iter().map(|path| format!("{}: what is known on dates", path.display())));
    report.json["facts"] = json!(facts);
    report.files.extend(facts);
    Ok(())
}

/// The events that stand beside the bars of a series, where they are wanted.
fn events_for(shelf: &Shelf, step: &DeliverStep, series: &SeriesName) -> Result<Option<WeighedEvents>> {
    step.events.map(|least| events::events_of(shelf, &series.instrument, least)).transpose()
}

/// Tells of events that could not stand beside any bar.
fn tell_whole_days(
    shelf: &Shelf,
    least: Weight,
    planned: &[PlannedFiles],
    report: &mut StepReport,
) -> Result<()> {
    let names: BTreeSet<&str> = planned.iter().map(|p| p.order.series.instrument.as_str()).collect();
    for name in names {
        let days = events::whole_days_of(shelf, name, least)?;
        if days > 0 {
            let told = counted(days as u64, "event");
            report
                .lines
                .push(format!("  {told} of {name} without a time of day in no bar; --facts writes them"));
        }
    }
    Ok(())
}

/// Writes the cost sheet of each instrument beside the files.
fn write_costs(shelf: &Shelf, to: &Path, planned: &[PlannedFiles], job: &Job) -> Result<Vec<PathBuf>> {
    let names: BTreeSet<&str> = planned.iter().map(|p| p.order.series.instrument.as_str()).collect();
    let mut out = Vec::new();
    for name in names {
        let text = costs_csv(&cost_sheet(shelf, name, None, None, job)?)?;
        out.push(write_table(to, name, "costs", &text)?);
    }
    Ok(out)
}

/// True where all files of a plan are there as they would be written now.
fn is_there(
    shelf: &Shelf,
    plan: &PlannedFiles,
    command: &str,
    folder: &Path,
    entry: &impl Fn(&Path) -> Option<ManifestFile>,
) -> Result<bool> {
    let key = edition_key(shelf, &plan.order, &plan.prepared.info().edition)?;
    for path in &plan.paths {
        let Some(entry) = entry(path) else { return Ok(false) };
        // A layout may say something else by now under the same name.
        let layout = plan.order.layout.as_ref().map(Layout::to_toml);
        let is_same =
            entry.edition_key == key && entry.command == command && entry.layout == layout && entry.proved;
        let is_as_it_was = is_same && (entry.is_untouched(folder) || entry.state(folder)? == FileState::Same);
        if !is_as_it_was {
            return Ok(false);
        }
    }
    Ok(!plan.paths.is_empty())
}

/// What tells an edition from every other, here and on other shelves, with the spec sheet that goes into files.
fn edition_key(shelf: &Shelf, order: &DeliveryOrder, edition: &EditionInfo) -> Result<String> {
    let mut hash = blake3::Hasher::new();
    hash.update(format!("{} {} {} {}", shelf.id()?, edition.id, edition.made, edition.rows).as_bytes());
    if order.sides == PriceSides::Together {
        let ask = shelf.current(&SeriesName { side: Side::Ask, ..order.series.clone() })?;
        hash.update(&ask.map_or(0, |ask| ask.edition.id).to_le_bytes());
    }
    if let Some(events) = &order.events {
        events.iter().for_each(|(time, weight)| {
            hash.update(&time.to_le_bytes());
            hash.update(&weight.to_le_bytes());
        });
    }
    if matches!(order.format, FileFormat::Xlsx | FileFormat::Html) {
        let sheet = shelf.instrument(&order.series.instrument)?.values;
        hash.update(serde_json::to_string(&sheet).unwrap_or_default().as_bytes());
        // The costs beside the rows may be measured on any series of the instrument.
        for other in shelf.series_of(&order.series.instrument)? {
            hash.update(&other.edition.id.to_le_bytes());
        }
    }
    Ok(hash.finalize().to_hex()[..24].to_owned())
}

/// A path as a manifest in a folder has it.
fn from_folder(path: &Path, folder: &Path) -> String {
    path.strip_prefix(folder).unwrap_or(path).to_string_lossy().into_owned()
}

fn entry_of(
    shelf: &Shelf,
    plan: &PlannedFiles,
    done: &Delivery,
    folder: &Path,
    command: &str,
) -> Result<ManifestFile> {
    let assumed = of_rows(shelf, &plan.order.series)?;
    let layout = plan.order.layout.as_ref();
    Ok(ManifestFile {
        path: from_folder(&done.path, folder),
        series: plan.order.series.to_string(),
        edition: plan.prepared.info().edition.number,
        edition_key: edition_key(shelf, &plan.order, &plan.prepared.info().edition)?,
        rows: done.rows,
        first: rfc3339(done.ends.0),
        last: rfc3339(done.ends.1),
        bytes: done.bytes,
        sha256: done.sha256.clone(),
        written: manifest::modified(&done.path),
        proved: done.proved,
        format: plan.order.format.word().to_owned(),
        layout: layout.map(Layout::to_toml),
        clock: layout.and_then(|l| l.clock.clone()).unwrap_or_else(|| plan.order.clock.clone()).to_string(),
        rounded: done.rounded,
        assumed: assumed.iter().map(|d| format!("{} {} ({})", d.what, d.value, d.why)).collect(),
        command: command.to_owned(),
    })
}

/// Tells of a file in a line of the report, and gives its document.
fn told(shelf: &Shelf, done: &Delivery, series: &SeriesName, report: &mut StepReport) -> Result<Value> {
    let is_stale = !shelf.staleness(&shelf.find(series)?.edition)?.is_empty();
    let mut told = json!({
        "path": done.path, "series": series, "rows": done.rows, "bytes": done.bytes, "sha256": done.sha256,
        "proved": done.proved, "first": rfc3339(done.ends.0), "last": rfc3339(done.ends.1),
    });
    let flags =
        [("stale", is_stale), ("partial_first", done.partial_first), ("partial_last", done.partial_last)];
    for (key, _) in flags.into_iter().filter(|(_, holds)| *holds) {
        told[key] = json!(true);
    }
    let proof = match done.proved {
        true => "read back, equal",
        false => "READ BACK, NOT EQUAL: it is kept under this name, and what was there before stays",
    };
    let rounded = match done.rounded {
        0 => String::new(),
        n => {
            told["rounded"] = json!(n);
            format!("; {n} values rounded to fewer decimals")
        }
    };
    let partial = match (done.partial_first, done.partial_last) {
        (false, false) => "",
        (true, false) => "; the first bar is partial",
        (false, true) => "; the last bar is partial",
        (true, true) => "; the first and the last bar are partial",
    };
    let note = if is_stale { "; its sources have changed since (stale)" } else { "" };
    let (path, rows, bytes) = (done.path.display(), done.rows, done.bytes);
    let behind = match done.kept {
        0 => String::new(),
        kept => {
            told["kept"] = json!(kept);
            format!(" ({} written behind {kept} that stay)", rows - kept)
        }
    };
    report.lines.push(format!("{path}: {rows} rows{behind}, {bytes} bytes, {proof}{rounded}{partial}{note}"));
    report.wants_person |= !done.proved;
    Ok(told)
}

fn refuse_stale(shelf: &Shelf, series: &SeriesName, sides: PriceSides) -> Result<()> {
    let ask = SeriesName { side: Side::Ask, ..series.clone() };
    if sides == PriceSides::Together && shelf.current(&ask)?.is_some() {
        refuse_stale(shelf, &ask, PriceSides::Own)?;
    }
    let changes = shelf.staleness(&shelf.find(series)?.edition)?;
    if changes.is_empty() {
        return Ok(());
    }
    let words: Vec<String> = changes.iter().map(ToString::to_string).collect();
    Err(Error::undecided(format!(
        "{series} is stale: {}. Nothing was delivered; build it again, or say --stale-ok to deliver it as it is.",
        words.join(", ")
    )))
}
