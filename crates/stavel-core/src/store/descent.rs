//! Which series come from which.

use super::{EditionInfo, Shelf};
use crate::model::{Made, SeriesName};
use crate::{Error, Result};

impl Shelf {
    /// The way from a series to one that it was made from, both included, by as few steps as lead there; none where it does
    /// not come from it.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn descent(&self, from: &SeriesName, to: &SeriesName) -> Result<Option<Vec<SeriesName>>> {
        let mut ways = vec![vec![from.clone()]];
        let mut next = 0;
        while let Some(way) = ways.get(next).cloned() {
            next += 1;
            let Some(last) = way.last() else { break };
            if last == to {
                return Ok(Some(way));
            }
            for parent in self.parents_of(last)? {
                if !ways.iter().flatten().any(|seen| *seen == parent) {
                    ways.push(way.iter().cloned().chain([parent]).collect());
                }
            }
        }
        Ok(None)
    }

    /// # Errors
    /// Where a series would be made from what comes from it, with the way named.
    pub fn refuse_circle(&self, target: &SeriesName, source: &SeriesName) -> Result<()> {
        let Some(way) = self.descent(source, target)? else { return Ok(()) };
        let told = way.iter().map(ToString::to_string).collect::<Vec<_>>().join(" comes from ");
        Err(Error::input(match way.len() {
            1 => format!("{target} cannot be made from itself; give what is made another name."),
            _ => format!("{target} cannot be made from {source}: {told}; that would go in a circle."),
        }))
    }

    /// True for rows that no market made: those of a stress variant, and all that was made of them.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn is_made_up(&self, edition: &EditionInfo) -> Result<bool> {
        let (mut todo, mut seen) = (vec![edition.clone()], Vec::new());
        while let Some(edition) = todo.pop() {
            if matches!(&edition.provenance.made, Made::Compose(made) if made.variation.stress.is_some()) {
                return Ok(true);
            }
            if seen.contains(&edition.id) {
                continue;
            }
            seen.push(edition.id);
            let before = edition.before.filter(|_| !edition.provenance.made.is_derived());
            for id in edition.provenance.parents().map(|p| p.0).chain(before) {
                todo.extend(self.edition(id)?);
            }
        }
        Ok(false)
    }

    /// The series that one was made from last, through what was mended or aligned since.
    fn parents_of(&self, name: &SeriesName) -> Result<Vec<SeriesName>> {
        let mut at = self.current(name)?.map(|s| s.edition);
        while let Some(edition) = at {
            if edition.provenance.made.is_derived() {
                return Ok(edition.provenance.parents().map(|(_, series)| series.clone()).collect());
            }
            at = edition.before.map(|id| self.edition(id)).transpose()?.flatten();
        }
        Ok(Vec::new())
    }
}
