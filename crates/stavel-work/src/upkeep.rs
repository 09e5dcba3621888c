//! Renaming, removing and tidying series.

use serde_json::json;
use stavel_core::job::Job;
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

use crate::report::{StepReport, bytes_in_words};
use crate::step::ShelfStep;

pub fn upkeep(shelf: &mut Shelf, step: &ShelfStep, job: &Job) -> Result<StepReport> {
    let named = || step.series.as_ref().ok_or_else(|| Error::arguments("Say which series is meant."));
    match (&step.rename, step.remove, step.tidy) {
        (Some(to), false, false) => {
            let name = named()?;
            shelf.rename(name, to)?;
            let line = format!("{name} is {to} now, with all its editions");
            Ok(StepReport {
                changed: vec![to.clone()],
                ..StepReport::new(json!({"renamed": name, "to": to}), vec![line])
            })
        }
        (None, true, false) => {
            let name = named()?;
            shelf.remove(name)?;
            let line = format!(
                "{name} is off the shelf; stavel undo {name} brings it back until the shelf is tidied"
            );
            Ok(StepReport {
                changed: vec![name.clone()],
                ..StepReport::new(json!({"removed": name}), vec![line])
            })
        }
        (None, false, true) => {
            let tidied = shelf.tidy(step.series.as_ref(), job)?;
            let mut line = format!(
                "{} older editions are gone, and {} files with {}",
                tidied.editions,
                tidied.files,
                bytes_in_words(tidied.bytes)
            );
            if tidied.joined > 0 {
                line += &format!("; {} small files were joined into others", tidied.joined);
            }
            let json = json!({
                "editions": tidied.editions, "files": tidied.files, "bytes": tidied.bytes, "joined": tidied.joined,
            });
            Ok(StepReport::new(json, vec![line]))
        }
        _ => Err(Error::arguments("Say one of rename, remove and tidy; the shelf is as it was.")),
    }
}
