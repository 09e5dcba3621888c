//! Doing an undo or redo step, and telling what it did.

use serde_json::{Value, json};

use crate::report::StepReport;
use stavel_core::Result;
use stavel_core::model::SeriesName;
use stavel_core::store::{Shelf, Stepped, SteppedAct};

/// Steps a series back or forth, or without one the last whole act.
pub fn step_over(shelf: &mut Shelf, series: Option<&SeriesName>, back: bool) -> Result<StepReport> {
    let act = match (series, back) {
        (Some(series), true) => shelf.undo(series),
        (Some(series), false) => shelf.redo(series),
        (None, true) => shelf.undo_act(),
        (None, false) => shelf.redo_act(),
    }?;
    let mut lines: Vec<String> = act.changes.iter().map(|c| line_of(c, back)).collect();
    let (word, way) = if back { ("undone", "back over") } else { ("redone", "forth over") };
    if series.is_none() && !act.text.is_empty() {
        lines.insert(0, format!("stepped {way}: {}", act.text));
    }
    let text = lines.first().cloned().unwrap_or_default();
    let json = json_of(&act, word);
    let changed: Vec<SeriesName> = act.changes.iter().filter_map(named).collect();
    shelf.note(&changed.first().map(SeriesName::to_string).unwrap_or_default(), "", &text)?;
    Ok(StepReport { changed, ..StepReport::new(json, lines) })
}

fn named(change: &Stepped) -> Option<SeriesName> {
    match change {
        Stepped::Series { name, .. } => Some(name.clone()),
        _ => None,
    }
}

fn line_of(change: &Stepped, back: bool) -> String {
    match change {
        Stepped::Series { was, name, .. } if was != name => format!("{was} is called {name} again"),
        Stepped::Series { name, edition: Some(e), .. } => format!(
            "{name} is {} at edition {} ({} rows, from {})",
            if back { "back" } else { "again" },
            e.number,
            e.rows,
            e.provenance.made.act()
        ),
        Stepped::Series { name, edition: None, .. } if back => {
            format!("{name} is off the shelf: its first edition was undone")
        }
        Stepped::Series { name, edition: None, .. } => format!("{name} is off the shelf again"),
        Stepped::Instrument { name, is_there: true } => format!("the spec sheet of {name} is as it was"),
        Stepped::Instrument { name, is_there: false } => {
            format!("{name} is off the shelf: it came with what was undone")
        }
        Stepped::Layout { name, is_there: true } => format!("the layout {name} is as it was"),
        Stepped::Layout { name, is_there: false } => format!("the layout {name} is gone"),
        Stepped::Facts { instrument, count, are_there, are_drawings } => {
            let now = if *are_there { "there again" } else { "gone" };
            let (what, are) = match (are_drawings, *count) {
                (true, 1) => ("drawing", "is"),
                (true, _) => ("drawings", "are"),
                (false, 1) => ("dated fact", "is"),
                (false, _) => ("dated facts", "are"),
            };
            format!("{count} {what} of {instrument} {are} {now}")
        }
    }
}

/// The document: the series that was meant on top, as it is known to other programs, and every change.
fn json_of(act: &SteppedAct, word: &str) -> Value {
    let changes: Vec<Value> = act
        .changes
        .iter()
        .map(|c| match c {
            Stepped::Series { was, name, edition } => {
                json!({"series": name, "was": was, "edition": edition.as_ref().map(|e| e.number)})
            }
            Stepped::Instrument { name, is_there } => json!({"instrument": name, "there": is_there}),
            Stepped::Layout { name, is_there } => json!({"layout": name, "there": is_there}),
            Stepped::Facts { instrument, count, are_there, .. } => {
                json!({"facts": instrument, "count": count, "there": are_there})
            }
        })
        .collect();
    let mut json = json!({ word: act.text, "changes": changes });
    if let Some(Stepped::Series { name, edition, .. }) =
        act.changes.iter().find(|c| matches!(c, Stepped::Series { .. }))
    {
        json["series"] = json!(name);
        json["edition"] = json!(edition.as_ref().map(|e| e.number));
    }
    json
}
