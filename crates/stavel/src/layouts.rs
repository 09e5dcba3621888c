//! What would be taken in, what was rejected, and layouts.

use std::path::Path;

use anyhow::Result;
use serde_json::{Value, json};
use stavel_core::Error;
use stavel_core::intake::{self, Hints, IntakePlan, Planned, Understood};
use stavel_core::model::Clock;
use stavel_core::model::Layout;
use stavel_core::model::time::wall;
use stavel_core::store::Shelf;
use stavel_work::{IntakeStep, layout_named, plan_of};

use crate::args::LayoutAct;
use crate::output::{Ending, print_json, print_lines};

/// Says what an intake would do.
pub fn preview(folder: &Path, step: &IntakeStep, as_json: bool) -> Result<Ending> {
    let shelf = Shelf::open(folder)?;
    let room = tempfile::tempdir()?;
    let planned = plan_of(&shelf, step, room.path())?;
    if as_json {
        print_json(&json!({ "would_take": planned.plans.iter().map(plan_json).collect::<Vec<_>>() }))?;
    } else {
        print_lines(&plan_lines(&planned))?;
    }
    Ok(Ending::Done)
}

fn plan_json(p: &IntakePlan) -> Value {
    let scanned = &p.preview.scanned;
    let row = |r: &Understood| match r {
        Understood::Row { time, values } => Some(json!({ "time": time, "values": values })),
        _ => None,
    };
    json!({
        "series": p.series, "files": p.files.iter().map(|(m, _)| m.place()).collect::<Vec<_>>(),
        "clock": p.clock.as_ref().map_or("afloat".into(), Clock::to_string), "decimals": p.scale.price,
        "layout": p.files[0].1.in_words(), "stamp": p.stamp, "symbols": p.by_symbol,
        "rows": scanned.rows, "rows_rejected": scanned.rejected, "is_estimate": scanned.is_estimate,
        "decisions": p.decisions,
        "fields": p.fields().iter().map(|f| f.name()).collect::<Vec<_>>(),
        "first_rows": p.preview.lines.iter().filter_map(|l| row(&l.is)).take(5).collect::<Vec<_>>(),
    })
}

fn plan_lines(planned: &Planned) -> Vec<String> {
    let mut lines = Vec::new();
    for plan in &planned.plans {
        let scanned = &plan.preview.scanned;
        lines.push(plan.in_words());
        let about = if scanned.is_estimate { "about " } else { "" };
        let ends = scanned.ends.map_or(String::new(), |(a, b)| format!(", {} … {}", wall(a), wall(b)));
        lines.push(format!(
            "  {about}{} rows{ends}, {about}{} would be rejected",
            scanned.rows, scanned.rejected
        ));
        for d in plan.decisions.iter().filter(|d| d.is_assumed()) {
            lines.push(format!("  {} assumed: {} {} ({})", d.standing.mark(), d.what, d.value, d.why));
        }
        if !plan.preview.dates_from.is_empty() {
            lines.push(format!("  dates: {}", plan.preview.dates_from));
        }
        let names: String = plan.files[0].1.fields().iter().map(|f| format!("{:>14}", f.name())).collect();
        lines.push(format!("  {:<24}{names}", "time"));
        for line in plan.preview.lines.iter().filter(|l| l.is != Understood::Head).take(5) {
            lines.push(match &line.is {
                Understood::Row { time, values } => {
                    format!("  {time:<24}{}", values.iter().map(|v| format!("{v:>14}")).collect::<String>())
                }
                Understood::Not(why) => format!("  would be rejected: {why}"),
                Understood::Head => String::new(),
            });
        }
    }
    lines.extend(planned.facts.iter().map(intake::FactsPlan::in_words));
    lines.extend(planned.left.iter().map(|(place, why)| format!("passed over {place}: {why}")));
    lines
}

/// Shows the rows an intake rejected.
pub fn show_rejects(folder: &Path, id: &str, as_json: bool) -> Result<Ending> {
    let shelf = Shelf::open(folder)?;
    let rows = intake::read_rejects(shelf.root(), id)?;
    if as_json {
        let list: Vec<Value> = rows
            .iter()
            .map(|r| {
                let raw = String::from_utf8_lossy(&r.raw);
                json!({"file": r.file, "line": r.line, "byte": r.byte, "reason": r.reason, "raw": raw})
            })
            .collect();
        print_json(&json!({"rejects": id, "rows": list}))?;
        return Ok(Ending::Done);
    }
    let mut by_reason: std::collections::BTreeMap<&str, usize> = Default::default();
    rows.iter().for_each(|r| *by_reason.entry(&r.reason).or_default() += 1);
    let mut lines: Vec<String> = by_reason.iter().map(|(reason, n)| format!("{n} rows: {reason}")).collect();
    lines.extend(rows.iter().map(|r| {
        let raw = String::from_utf8_lossy(&r.raw);
        format!("  {} line {}: {}  {}", r.file, r.line, r.reason, raw.trim_end())
    }));
    lines.push(format!("take them again with stavel intake --rejects {id} --retake --layout NAME"));
    print_lines(&lines)?;
    Ok(Ending::Done)
}

/// Does an act on layouts.
pub fn run(folder: &Path, act: &LayoutAct, as_json: bool) -> Result<Ending> {
    match act {
        LayoutAct::List => {
            let all = Shelf::open(folder)?.layouts()?;
            if as_json {
                let list: Vec<Value> =
                    all.iter().map(|l| json!({"name": l.name, "layout": l.to_toml()})).collect();
                print_json(&json!({ "layouts": list }))?;
            } else if all.is_empty() {
                print_lines(&["No layout is saved; stavel layout save NAME FILE saves one.".into()])?;
            } else {
                print_lines(&all.iter().map(Layout::in_words).collect::<Vec<_>>())?;
            }
        }
        LayoutAct::Show { name } => {
            let layout = layout_named(&Shelf::open(folder)?, name)?;
            match as_json {
                true => print_json(&json!({"name": name, "layout": layout.to_toml()}))?,
                false => print_lines(&layout.to_toml().lines().map(str::to_owned).collect::<Vec<_>>())?,
            }
        }
        LayoutAct::Save { name, file } => {
            let mut shelf = Shelf::open_to_write(folder)?;
            let layout = layout_in(&shelf, file)?;
            shelf.save_layout(name, &layout)?;
            let words = Layout { name: Some(name.clone()), ..layout.clone() }.in_words();
            match as_json {
                true => print_json(&json!({"saved": name, "layout": layout.to_toml()}))?,
                false => print_lines(&[format!("saved {words}")])?,
            }
        }
        LayoutAct::Remove { name } => {
            Shelf::open_to_write(folder)?.remove_layout(name)?;
            match as_json {
                true => print_json(&json!({"removed": name}))?,
                false => print_lines(&[format!(
                    "the layout {name} is no longer saved; stavel undo brings it back"
                )])?,
            }
        }
        LayoutAct::Test { file, layout } => {
            let step = IntakeStep {
                paths: vec![file.clone()],
                source: "test".into(),
                instrument: Some("TEST".into()),
                layout: layout.clone(),
                ..IntakeStep::default()
            };
            return preview(folder, &step, as_json);
        }
    }
    Ok(Ending::Done)
}

/// The layout in a layout file, or the one found in a file of prices.
fn layout_in(shelf: &Shelf, file: &Path) -> Result<Layout> {
    if file.extension().is_some_and(|e| e == "toml") {
        return Ok(layout_named(shelf, &file.to_string_lossy())?);
    }
    let hints = Hints { source: "test".into(), instrument: Some("TEST".into()), ..Hints::default() };
    let planned = intake::plan(shelf, &[file.to_owned()], &hints)?;
    match planned.plans.into_iter().next() {
        Some(plan) => Ok(plan.files[0].1.clone()),
        None => {
            Err(Error::input(format!("{} holds no prices; there is no layout in it.", file.display())).into())
        }
    }
}
