//! Frame sets.

use std::path::Path;

use anyhow::Result;
use serde_json::json;
use stavel_core::model::Frame;
use stavel_core::store::Shelf;

use crate::args::FrameSetAct;
use crate::output::{Ending, print_json, print_lines};

/// Does an act on frame sets.
pub fn run(folder: &Path, act: &FrameSetAct, as_json: bool) -> Result<Ending> {
    let (json, lines) = match act {
        FrameSetAct::List => {
            let sets = Shelf::open(folder)?.frame_sets()?;
            let list: Vec<_> =
                sets.iter().map(|(name, frames)| json!({"name": name, "frames": frames})).collect();
            let mut lines: Vec<String> =
                sets.iter().map(|(name, frames)| format!("{name}: {}", words(frames))).collect();
            if lines.is_empty() {
                lines.push("No frame set is saved; stavel frame-set save NAME FRAME... saves one.".into());
            }
            (json!({ "frame_sets": list }), lines)
        }
        FrameSetAct::Save { name, frames } => {
            let before = Shelf::open_to_write(folder)?.save_frame_set(name, frames)?;
            let was = before
                .as_ref()
                .filter(|b| *b != frames)
                .map_or(String::new(), |b| format!(" (it was {})", words(b)));
            (
                json!({"saved": name, "frames": frames, "before": before}),
                vec![format!("saved the frame set {name}: {}{was}", words(frames))],
            )
        }
        FrameSetAct::Remove { name } => {
            let frames = Shelf::open_to_write(folder)?.remove_frame_set(name)?;
            let line = format!("the frame set {name} is no longer saved; it was {}", words(&frames));
            (json!({"removed": name, "frames": frames}), vec![line])
        }
    };
    if as_json {
        print_json(&json)?;
    } else {
        print_lines(&lines)?;
    }
    Ok(Ending::Done)
}

fn words(frames: &[Frame]) -> String {
    frames.iter().map(Frame::to_string).collect::<Vec<_>>().join(" ")
}
