//! Staleness: whether what an edition was made from is what the shelf holds now.

use std::collections::HashMap;
use std::fmt;

use super::{EditionInfo, Shelf, editions, records};
use crate::Result;
use crate::model::{Input, SeriesName, SeriesPattern};

/// Why an edition is stale.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StaleBecause {
    /// A source has another edition now, or is off the shelf.
    Source {
        /// The source.
        series: SeriesName,
        /// False where it is off the shelf.
        is_there: bool,
        /// True where sources are of several instruments, so that its own is told too.
        is_of_many: bool,
    },
    /// A source is itself stale.
    StaleSource {
        /// The source.
        series: SeriesName,
    },
    /// A value of the spec sheet is another now.
    Sheet {
        /// The instrument.
        instrument: String,
        /// The key of its spec sheet.
        key: String,
    },
    /// A pattern names other contracts now.
    Contracts {
        /// The pattern.
        pattern: SeriesPattern,
    },
    /// Something was learnt of an instrument on a date.
    Facts {
        /// The instrument.
        instrument: String,
    },
    /// This program would make other rows of the same sources.
    Method,
}

impl fmt::Display for StaleBecause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            StaleBecause::Source { series, is_there, is_of_many } => {
                let name = if *is_of_many { series.to_string() } else { series.short() };
                write!(f, "{name} {}", if *is_there { "has changed" } else { "is off the shelf" })
            }
            StaleBecause::StaleSource { series } => write!(f, "{} is stale", series.short()),
            StaleBecause::Sheet { instrument, key } => write!(f, "{key} of {instrument} changed"),
            StaleBecause::Contracts { pattern } => write!(f, "{pattern} names other contracts now"),
            StaleBecause::Facts { instrument } => write!(f, "the dated facts of {instrument} changed"),
            StaleBecause::Method => write!(f, "Stavel builds it in another way now"),
        }
    }
}

impl Shelf {
    /// What has changed of all that went into an edition; nothing where it is up to date. An edition that was
    /// mended or otherwise made from one before it is as stale as that one.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn staleness(&self, edition: &EditionInfo) -> Result<Vec<StaleBecause>> {
        StalenessSearch { shelf: self, seen: HashMap::new() }.at(edition)
    }

    /// The stale ones among the current editions, by edition.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn stale_editions(&self) -> Result<HashMap<i64, Vec<StaleBecause>>> {
        let mut looking = StalenessSearch { shelf: self, seen: HashMap::new() };
        let mut stale = HashMap::new();
        for info in self.series()? {
            let changes = looking.at(&info.edition)?;
            if !changes.is_empty() {
                stale.insert(info.edition.id, changes);
            }
        }
        Ok(stale)
    }
}

/// What was looked at so far.
struct StalenessSearch<'a> {
    shelf: &'a Shelf,
    seen: HashMap<i64, Vec<StaleBecause>>,
}

impl StalenessSearch<'_> {
    fn at(&mut self, edition: &EditionInfo) -> Result<Vec<StaleBecause>> {
        if let Some(known) = self.seen.get(&edition.id) {
            return Ok(known.clone());
        }
        // Set before the look at the sources: editions cannot go in a circle, but a damaged catalog may.
        self.seen.insert(edition.id, Vec::new());
        let made = &edition.provenance.made;
        let mut changes = Vec::new();
        if made.is_derived() {
            let mut instruments: Vec<&str> =
                edition.provenance.parents().map(|(_, series)| series.instrument.as_str()).collect();
            instruments.sort_unstable();
            instruments.dedup();
            for input in &edition.provenance.inputs {
                let mut change = self.change_of(input)?;
                if let Some(StaleBecause::Source { is_of_many, .. }) = &mut change {
                    *is_of_many = instruments.len() > 1;
                }
                changes.extend(change);
            }
            if edition.provenance.method != made.method() {
                changes.push(StaleBecause::Method);
            }
        } else if let Some((_, before)) =
            edition.before.map(|id| editions::edition(&self.shelf.db, id)).transpose()?.flatten()
        {
            changes = self.at(&before)?;
        }
        self.seen.insert(edition.id, changes.clone());
        Ok(changes)
    }

    fn change_of(&mut self, input: &Input) -> Result<Option<StaleBecause>> {
        match input {
            Input::Sheet { instrument, key, value } => {
                let now = records::instrument(&self.shelf.db, instrument)?;
                let now = now.as_ref().and_then(|i| i.values.get(key));
                let change = || StaleBecause::Sheet { instrument: instrument.clone(), key: key.clone() };
                Ok((now != value.as_ref()).then(change))
            }
            Input::Edition { id, series } => self.change_of_source(*id, series),
            Input::Contracts { pattern, found } => {
                let now = self.shelf.contracts(pattern)?;
                let is_same = now.iter().map(|info| &info.name).eq(found.iter());
                Ok((!is_same).then(|| StaleBecause::Contracts { pattern: pattern.clone() }))
            }
            Input::Facts { instrument, hash } => {
                let is_same = self.shelf.facts_hash(instrument)? == *hash;
                Ok((!is_same).then(|| StaleBecause::Facts { instrument: instrument.clone() }))
            }
        }
    }

    fn change_of_source(&mut self, id: i64, series: &SeriesName) -> Result<Option<StaleBecause>> {
        let db = &self.shelf.db;
        let Some((owner, edition)) = editions::edition(db, id)? else {
            // It was tidied away, so it is not the current one.
            let is_there = self.shelf.current(series)?.is_some();
            return Ok(Some(StaleBecause::Source { series: series.clone(), is_there, is_of_many: false }));
        };
        let current: Option<i64> =
            db.query_row("SELECT current FROM series WHERE id = ?1", [owner], |r| r.get(0))?;
        let name = self.shelf.short_name(owner)?.unwrap_or_else(|| series.clone());
        if current != Some(id) {
            let is_there = current.is_some();
            return Ok(Some(StaleBecause::Source { series: name, is_there, is_of_many: false }));
        }
        let stale = !self.at(&edition)?.is_empty();
        Ok(stale.then_some(StaleBecause::StaleSource { series: name }))
    }
}
