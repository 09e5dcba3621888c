//! Files whose decisions agree become one series.

use super::IntakePlan;
use super::decisions;
use super::file::FilePlan;
use crate::intake::{Hints, later, stamp};
use crate::model::Stamp;
use crate::model::{Clock, Decision, SeriesName};
use crate::store::Shelf;
use crate::{Advice, Error, Result, Setting};

/// Puts the files of each series together, in order of time.
///
/// # Errors
/// A question, where files of one series do not agree on how they are to be read.
pub(super) fn group(shelf: &Shelf, files: Vec<FilePlan>, hints: &Hints) -> Result<Vec<IntakePlan>> {
    let mut groups: Vec<Vec<FilePlan>> = Vec::new();
    for file in files {
        let is_like =
            |g: &&mut Vec<FilePlan>| (&g[0].series, g[0].by_symbol) == (&file.series, file.by_symbol);
        match groups.iter_mut().find(is_like) {
            Some(group) => group.push(file),
            None => groups.push(vec![file]),
        }
    }
    for group in &groups {
        let (first, others) = group.split_at(1);
        others.iter().try_for_each(|other| agree(&first[0], other))?;
    }
    groups.into_iter().map(|group| together(shelf, group, hints)).collect()
}

/// Asks where two files of one series are written differently.
fn agree(a: &FilePlan, b: &FilePlan) -> Result<()> {
    let (one, other) = (a.member.place(), b.member.place());
    if a.clock != b.clock {
        let words = |clock: &Option<Clock>| clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
        return Err(Error::undecided(format!(
            "{one} and {other} would go into one series, {}, but the times of the first are {} and those of the other {}; take them one by one and say the clock of each.",
            a.series,
            words(&a.clock),
            words(&b.clock)
        )).advise(Advice::Say(Setting::Clock)));
    }
    if let (Some((x, why_x)), Some((y, why_y))) = (&a.stamp, &b.stamp)
        && x != y
    {
        return Err(Error::undecided(format!(
            "Bars of {one} look stamped at the {} ({why_x}), those of {other} at the {} ({why_y}); take them one by one and say the stamp of each.",
            x.word(),
            y.word()
        )).advise(Advice::Say(Setting::Stamp)));
    }
    if a.by_symbol && a.layout.spreads != b.layout.spreads {
        return Err(Error::undecided(format!(
            "The spreads of {one} are in {} and those of {other} in {}; take them one by one.",
            a.layout.spreads.word(),
            b.layout.spreads.word()
        )));
    }
    Ok(())
}

/// Files that agree, as one plan.
fn together(shelf: &Shelf, mut group: Vec<FilePlan>, hints: &Hints) -> Result<IntakePlan> {
    // The first file that was named is the one that is shown.
    let mut preview = group[0].preview.clone();
    for other in &group[1..] {
        preview.scanned.add(&other.preview.scanned);
    }
    let stamp = stamp_of(shelf, &group, &preview.scanned.gaps, hints)?;
    let mut decisions = weakest(&group);
    decisions.extend(decisions::of_stamp(&group[0].series, stamp.as_ref(), hints));
    let (stamp, stamp_from) = stamp.unwrap_or_default();
    let FilePlan { series, by_symbol, clock, clock_from, .. } = &group[0];
    let (series, clock, clock_from) = (series.clone(), clock.clone(), *clock_from);
    let by_symbol = by_symbol.then(|| preview.scanned.symbols.clone());
    let scale = group.iter().map(|f| f.scale).reduce(|a, b| a.finer(&b)).unwrap_or_default();
    // Monthly files are in order of time whatever their names are.
    group.sort_by_key(|f| f.preview.scanned.ends.unwrap_or_default());
    let ends = |f: &FilePlan| (f.member.place(), f.preview.scanned.ends.unwrap_or_default());
    Ok(IntakePlan {
        series,
        by_symbol,
        order: group.iter().map(ends).collect(),
        files: group.into_iter().map(|f| (f.member, f.layout)).collect(),
        clock,
        clock_from,
        stamp,
        stamp_from,
        decisions,
        replace: hints.replace,
        prefer_new: hints.prefer_new,
        scale,
        decimals_said: hints.decimals.is_some(),
        preview,
    })
}

/// The stamp of the bars of some files: what is known of their series, else what one of them tells, else what the
/// edges of all their sessions tell together.
fn stamp_of(
    shelf: &Shelf,
    group: &[FilePlan],
    gaps: &[(i64, i64)],
    hints: &Hints,
) -> Result<Option<(Stamp, String)>> {
    let series: &SeriesName = &group[0].series;
    if !series.frame.is_bars() {
        return Ok(None);
    }
    let told = group.iter().find_map(|f| Some((f, f.stamp.clone()?)));
    let known = if hints.stamp.is_none() { later::known_stamp(shelf, series)? } else { None };
    match (known, told) {
        (Some(known), Some((file, (found, why)))) if known != found => Err(Error::undecided(format!(
            "Bars of {series} are known to be stamped at the {}, but {} looks stamped at the {} ({why}); say the stamp.",
            known.word(),
            file.member.place(),
            found.word()
        )).advise(Advice::Say(Setting::Stamp))),
        (Some(known), _) => Ok(Some((known, "as known of the series".to_owned()))),
        (None, Some((_, found))) => Ok(Some(found)),
        (None, None) => Ok(stamp::by_session(series.frame, gaps)),
    }
}

/// What was decided of all files; where they know it differently, as the one that knows least.
fn weakest(group: &[FilePlan]) -> Vec<Decision> {
    let mut out: Vec<Decision> = Vec::new();
    for decision in group.iter().flat_map(|f| &f.decisions) {
        match out.iter_mut().find(|d| d.what == decision.what) {
            // Of decimals each file has its own; the most count.
            Some(known) if known.what == "decimals" && more(&decision.value, &known.value) => {
                *known = decision.clone();
            }
            Some(known) if known.what != "decimals" && decision.standing > known.standing => {
                *known = decision.clone();
            }
            Some(_) => {}
            None => out.push(decision.clone()),
        }
    }
    out
}

fn more(a: &str, b: &str) -> bool {
    a.parse::<u8>().ok() > b.parse::<u8>().ok()
}
