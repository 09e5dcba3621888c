//! What an intake would do: which files become which series, read how.
//!
//! A file is looked at ([`seen`]), decided about on its own ([`file`]), and put together with files whose decisions
//! agree ([`group`]). Only two things are settled among files before: what their names differ in, and the order
//! of day and month of a file whose own days cannot tell it.

mod decisions;
mod file;
mod group;
mod seen;

pub use decisions::ClockFrom;

use std::collections::BTreeMap;
use std::path::PathBuf;

use self::file::FilePlan;
use self::group::group;
pub(super) use self::seen::Seen;
use self::seen::{look_at, settle_dates};
use super::Hints;
use super::bring::{Member, members_of};
use super::facts::FactsPlan;
use super::naming::{self, cleaned};
use super::preview::PreviewLine;
use super::scan::Scanned;
use crate::model::Stamp;
use crate::model::layout::{Layout, Use};
use crate::model::{Clock, Columns, Decision, Field, Micros, Scale, SeriesName, series, time};
use crate::store::Shelf;
use crate::{Error, Result};

/// The instrument of a plan whose rows name their own.
const EACH: &str = "each";

/// Files that become one series, or one series for each symbol in them.
#[derive(Debug, Clone)]
pub struct IntakePlan {
    /// The series the rows go to.
    pub series: SeriesName,
    /// Where a column names the instrument: the symbols met so far.
    pub by_symbol: Option<Vec<String>>,
    /// The files in order of time, each with how it is read.
    pub files: Vec<(Member, Layout)>,
    /// The first and last time in each file, by its place.
    order: BTreeMap<String, (Micros, Micros)>,
    /// None for afloat.
    pub clock: Option<Clock>,
    /// Where the clock comes from.
    pub clock_from: ClockFrom,
    /// Which end of a bar its time names.
    pub stamp: Stamp,
    /// How the stamp was found, in words; empty where nothing tells.
    pub stamp_from: String,
    /// Everything that was decided about the files, and how it is known.
    pub decisions: Vec<Decision>,
    /// The new rows replace the span they cover.
    pub replace: bool,
    /// Of two bars at one time the new one is kept.
    pub prefer_new: bool,
    /// Decimals of prices and volumes.
    pub scale: Scale,
    /// True where the decimals of prices were said: finer prices are rounded to them.
    pub decimals_said: bool,
    /// The first rows, as they are and as understood.
    pub preview: IntakePreview,
}

/// The first file of a plan as it is and as understood.
#[derive(Debug, Clone)]
pub struct IntakePreview {
    /// The first lines.
    pub lines: Vec<PreviewLine>,
    /// The rows of the sample, with times as written.
    pub rows: Columns,
    /// Why each column is what it is.
    pub why: Vec<String>,
    /// Why the dates are read so.
    pub dates_from: String,
    /// All files together.
    pub scanned: Scanned,
}

/// What was understood of some files, and what was not.
#[derive(Debug, Clone, Default)]
pub struct Planned {
    /// One for each series, in order of name.
    pub plans: Vec<IntakePlan>,
    /// Files of dated facts.
    pub facts: Vec<FactsPlan>,
    /// Files of folders and archives that are passed over, with the reason.
    pub left: Vec<(String, String)>,
}

/// Understands the files behind paths and groups them by series, in order of name.
///
/// # Errors
/// One sentence where a file cannot be understood, or leaves a question open
/// ([`Error::is_undecided`]). A file that was not named itself is passed over instead.
pub fn plan(shelf: &Shelf, paths: &[PathBuf], hints: &Hints) -> Result<Planned> {
    series::check_name("source", &hints.source)?;
    let known: Vec<String> = shelf.instruments()?.into_iter().map(|i| i.name).collect();
    let saved = shelf.layouts()?;
    let mut planned = Planned::default();
    let mut files: Vec<Seen> = Vec::new();
    for member in members_of(paths)? {
        match look_at(&member, hints, &known, &saved) {
            Ok(seen) => files.extend(seen),
            Err(e) if member.is_named || e.is_undecided() || e.is_arguments() => return Err(e),
            Err(e) => planned.left.push((member.place(), e.to_string())),
        }
    }
    if hints.instrument.is_none() {
        let open = files.iter_mut().filter(|s| !s.layout.columns.contains(&Use::Symbol));
        let mut named: Vec<_> = open.map(|s| (s.member.place(), &mut s.named)).collect();
        naming::settle(&mut named)?;
    }
    settle_dates(&mut files)?;
    let (facts, rows): (Vec<Seen>, Vec<Seen>) = files.into_iter().partition(|s| s.layout.is_facts());
    for seen in facts {
        let instrument = hints.instrument.clone().or(seen.named.instrument);
        planned.facts.push(FactsPlan::of(seen.member, seen.layout, &hints.source, instrument)?);
    }
    let decided: Vec<FilePlan> =
        rows.into_iter().map(|seen| FilePlan::decide(shelf, seen, hints)).collect::<Result<_>>()?;
    planned.plans = group(shelf, decided, hints)?;
    if let (true, true, Some((place, why))) =
        (planned.plans.is_empty(), planned.facts.is_empty(), planned.left.first())
    {
        let more = planned.left.len() - 1;
        let others = if more == 0 { String::new() } else { format!(" The {more} others are no better.") };
        return Err(Error::input(format!("Nothing could be understood. {place}: {why}{others}")));
    }
    planned.plans.sort_by(|a, b| a.series.cmp(&b.series));
    planned.tell_log();
    Ok(planned)
}

impl Planned {
    /// Tells the log what was decided, and why.
    fn tell_log(&self) {
        for (plan, d) in self.plans.iter().flat_map(|p| p.decisions.iter().map(move |d| (p, d))) {
            let Decision { what, value, standing, why } = d;
            tracing::debug!(series = %plan.series, what, value, %standing, why, "decided");
        }
        for (place, why) in &self.left {
            tracing::debug!(place, why, "passed over");
        }
    }
}

impl IntakePlan {
    /// Bytes to read.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|(m, _)| m.bytes).sum()
    }

    /// The plan in parts whose files, in their order, follow each other in time.
    pub fn without_overlap(&self) -> Vec<IntakePlan> {
        let mut parts: Vec<IntakePlan> = Vec::new();
        let mut latest = Micros::MIN;
        for file in &self.files {
            let (first, last) = self.order.get(&file.0.place()).copied().unwrap_or_default();
            match parts.last_mut() {
                // Ticks of one moment may be the end of one file and the beginning of the next.
                Some(part) if first > latest || first == latest && !self.series.frame.is_bars() => {
                    part.files.push(file.clone());
                }
                _ => parts.push(IntakePlan { files: vec![file.clone()], ..self.clone() }),
            }
            latest = latest.max(last);
        }
        parts
    }

    /// The fields of all files together, in the order columns are kept.
    pub fn fields(&self) -> Vec<Field> {
        let has = |f: &Field| self.files.iter().any(|(_, l)| l.fields().contains(f));
        Field::ALL.into_iter().filter(has).collect()
    }

    /// The series that the rows of a symbol go into.
    ///
    /// # Errors
    /// Where the symbol makes no name of an instrument.
    pub fn series_of_symbol(&self, symbol: &str) -> Result<SeriesName> {
        if self.by_symbol.is_none() {
            return Ok(self.series.clone());
        }
        let instrument = cleaned(symbol);
        series::check_name("instrument", &instrument)?;
        Ok(SeriesName { instrument, ..self.series.clone() })
    }

    /// One line for people: the series, its files, its clock.
    pub fn in_words(&self) -> String {
        let clock = self.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
        let first =
            self.preview.rows.time.first().map_or(String::new(), |&t| format!(", from {}", time::wall(t)));
        let symbols =
            self.by_symbol.as_ref().map_or(String::new(), |s| format!(" symbol ({})", s.join(", ")));
        let stamp = match (self.stamp, self.stamp_from.as_str()) {
            (_, "") => String::new(),
            (Stamp::Open, why) => format!("; stamped at the open ({why})"),
            (Stamp::Close, why) => format!("; stamped at the close ({why})"),
        };
        format!(
            "{}{symbols}: {} file{}{first}; clock {clock} ({}); {} decimals{stamp}; {}",
            self.series,
            self.files.len(),
            if self.files.len() == 1 { "" } else { "s" },
            self.clock_from.in_words(),
            self.scale.price,
            self.files[0].1.in_words()
        )
    }
}
