//! Refresh: a joined series whose sources have changed is built anew from where it begins to differ.

use super::on_shelf::Ask;
use super::plan::Plan;
use super::survey::Survey;
use crate::job::Job;
use crate::model::{Columns, Field, Micros, SeriesName, Span};
use crate::store::{EditionInfo, SegmentInfo, SeriesInfo, Shelf};
use crate::{Error, Result};

/// The sources of a joined series that have changed since it was joined, of all series there are.
pub fn stale_sources(joined: &EditionInfo, all: &[SeriesInfo]) -> Vec<SeriesName> {
    let fresh =
        |(name, edition): &(SeriesName, i64)| all.iter().any(|s| s.name == *name && s.edition.id == *edition);
    parents(joined).into_iter().filter(|p| !fresh(p)).map(|p| p.0).collect()
}

/// The sources of a joined edition in order, and the editions they had.
fn parents(joined: &EditionInfo) -> Vec<(SeriesName, i64)> {
    if joined.act != "splice" {
        return Vec::new();
    }
    let parent = |p: &serde_json::Value| Some((p["series"].as_str()?.parse().ok()?, p["edition"].as_i64()?));
    joined.detail["from"].as_array().into_iter().flatten().filter_map(parent).collect()
}

/// How a series was joined, to do it again.
///
/// # Errors
/// Where it was not joined, or was changed since.
pub fn ask_of(info: &SeriesInfo) -> Result<(Vec<SeriesName>, Ask)> {
    let edition = &info.edition;
    let sources: Vec<SeriesName> = parents(edition).into_iter().map(|p| p.0).collect();
    let text = |key: &str| edition.detail[key].as_str();
    let ask = || -> Option<Ask> {
        Some(Ask {
            rule: text("rule")?.parse().ok()?,
            level: text("level")?.parse().ok()?,
            carry_spread: edition.detail["carry_spread"].as_bool().unwrap_or_default(),
            layered: text("layer").is_some(),
        })
    };
    match ask() {
        Some(ask) if sources.len() >= 2 => Ok((sources, ask)),
        _ => Err(Error::input(format!(
            "{} was last made by {}, not by a splice; name its sources and --into {}.",
            info.name, edition.act, info.name.source
        ))),
    }
}

/// What of a joined edition stays when it is joined anew.
pub struct Basis {
    /// Its files whose rows are all the same still.
    pub kept: Vec<SegmentInfo>,
    /// The first row that is not in them or differs; none where nothing differs.
    pub from: Option<Micros>,
    pub survey: Survey,
}

/// Finds what of the edition before can stay: up to where a source first differs from what it was, or another
/// row is served than was. None where the edition was joined in another way.
///
/// `detail` is what the new edition will say of itself.
pub fn basis(
    shelf: &Shelf,
    before: &SeriesInfo,
    plan: &Plan,
    detail: &serde_json::Value,
    job: &Job,
) -> Result<Option<Basis>> {
    let edition = &before.edition;
    let names = |d: &serde_json::Value| -> Vec<serde_json::Value> {
        d["from"].as_array().into_iter().flatten().map(|p| p["series"].clone()).collect()
    };
    let same = ["rule", "level", "carry_spread", "layer", "gaps", "spreads"]
        .iter()
        .all(|key| edition.detail[key] == detail[key]);
    if edition.act != "splice"
        || !same
        || names(&edition.detail) != names(detail)
        || edition.fields != plan.fields()
        || edition.scale != plan.scale
    {
        return Ok(None);
    }
    let mut from: Option<Micros> = None;
    for (name, then) in parents(edition) {
        let Some(then) = shelf.editions(&name)?.into_iter().find(|e| e.id == then) else { return Ok(None) };
        let differs = shelf.first_difference(&then, &shelf.find(&name)?.edition)?;
        from = from.into_iter().chain(differs).min();
    }
    let mut old = Old::begin(shelf, edition)?;
    let survey = plan.survey(job, |rows| old.follow(rows))?;
    let from = from.into_iter().chain(old.end()?).min();
    let kept = shelf.segments(edition)?.into_iter().take_while(|f| from.is_none_or(|t| f.last < t)).collect();
    Ok(Some(Basis { kept, from, survey }))
}

/// Times and origins of an edition, held against those that are joined now.
struct Old {
    pieces: Box<dyn Iterator<Item = Result<Columns>>>,
    rows: Columns,
    at: usize,
    differs: Option<Micros>,
}

impl Old {
    fn begin(shelf: &Shelf, edition: &EditionInfo) -> Result<Old> {
        let pieces = crate::store::ahead(shelf.scan(edition, Span::ALL, Some(&[Field::Origin]))?);
        Ok(Old { pieces: Box::new(pieces), rows: Columns::default(), at: 0, differs: None })
    }

    /// Goes on to the next row; false at the end.
    fn has_row(&mut self) -> Result<bool> {
        while self.at == self.rows.len() {
            let Some(piece) = self.pieces.next() else { return Ok(false) };
            (self.rows, self.at) = (piece?, 0);
        }
        Ok(true)
    }

    fn follow(&mut self, now: &Columns) -> Result<()> {
        let origin = now.column(Field::Origin);
        let mut row = 0;
        while row < now.len() && self.differs.is_none() {
            if !self.has_row()? {
                self.differs = Some(now.time[row]);
                break;
            }
            let n = (now.len() - row).min(self.rows.len() - self.at);
            let same = |i: usize| {
                now.time[row + i] == self.rows.time[self.at + i]
                    && origin[row + i] == self.rows.data[0][self.at + i]
            };
            if let Some(odd) = (0..n).find(|i| !same(*i)) {
                self.differs = Some(now.time[row + odd].min(self.rows.time[self.at + odd]));
            }
            row += n;
            self.at += n;
        }
        Ok(())
    }

    /// Where the two first differ, now that all is joined.
    fn end(mut self) -> Result<Option<Micros>> {
        if self.differs.is_none() && self.has_row()? {
            return Ok(Some(self.rows.time[self.at]));
        }
        Ok(self.differs)
    }
}
