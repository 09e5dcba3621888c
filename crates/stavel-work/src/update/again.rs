//! How a history that was made is made again.

use std::collections::BTreeSet;

use stavel_core::model::{Made, SeriesName};
use stavel_core::splice::{SpliceWishes, ask_of};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use crate::step::{ComposeStep, FramesStep, FramesWanted, SpliceStep, Step};

/// The step that makes a series again as it was made before.
///
/// # Errors
/// Where it cannot be told how it was made.
pub fn step_again(shelf: &Shelf, info: &SeriesInfo) -> Result<Step> {
    let made = derived(shelf, info)?;
    let provenance = &made.edition.provenance;
    let name = &info.name;
    Ok(match &provenance.made {
        Made::Splice(_) => {
            let (series, wishes) = ask_of(&made)?;
            let SpliceWishes { rule, level, carry_spread, layered, .. } = wishes;
            let into = name.source.clone();
            Step::Splice(SpliceStep { series, into, rule, level, carry_spread, layered, anew: false })
        }
        Made::Frames(_) | Made::Rebuild(_) => {
            let base = provenance.parents().map(|(_, series)| series.clone()).next();
            let base = base.ok_or_else(|| unknown(name))?;
            let is_rebuild = matches!(provenance.made, Made::Rebuild(_));
            let frames = vec![FramesWanted::One(name.frame)];
            Step::Frames(FramesStep { again: !is_rebuild, ..FramesStep::of(base, frames) })
        }
        Made::Compose(_) | Made::Formula(_) | Made::Chain(_) => {
            let name = name.instrument.clone();
            Step::Compose(Box::new(ComposeStep { name, again: true, ..ComposeStep::default() }))
        }
        _ => return Err(unknown(name)),
    })
}

fn unknown(name: &SeriesName) -> Error {
    Error::input(format!("Nothing tells how {name} was made; make it again by hand."))
}

/// The series as it was made of others, before it was mended.
fn derived(shelf: &Shelf, info: &SeriesInfo) -> Result<SeriesInfo> {
    let all = shelf.editions(&info.name)?;
    let mut edition = info.edition.clone();
    while !edition.provenance.made.is_derived() {
        let before = edition.before.and_then(|id| all.iter().find(|e| e.id == id));
        edition = before.ok_or_else(|| unknown(&info.name))?.clone();
    }
    Ok(SeriesInfo { edition, ..info.clone() })
}

/// True for a series of the instruments, or one that is made of them; of all where none are named.
pub fn is_meant(shelf: &Shelf, info: &SeriesInfo, instruments: &[String]) -> bool {
    if instruments.is_empty() {
        return true;
    }
    let mut seen = BTreeSet::new();
    let mut next = vec![info.name.clone()];
    while let Some(name) = next.pop() {
        if instruments.contains(&name.instrument) {
            return true;
        }
        if seen.insert(name.to_string())
            && let Ok(Some(found)) = shelf.current(&name)
        {
            next.extend(found.edition.provenance.parents().map(|(_, series)| series.clone()));
        }
    }
    false
}
