//! Refresh: a joined series whose sources have changed is built anew from where it begins to differ.

use super::plan::SplicePlan;
use super::survey::Survey;
use crate::Result;
use crate::job::Job;
use crate::model::provenance::Joining;
use crate::model::{Columns, Field, Made, Micros, Provenance, Span};
use crate::store::{Cursor, EditionInfo, ReadAhead, SegmentInfo, SeriesInfo, Shelf, ahead};

/// What of a joined edition stays when it is joined anew.
pub struct KeptPart {
    /// Its files whose rows are all the same still.
    pub kept: Vec<SegmentInfo>,
    /// The first row that is not in them or differs; none where nothing differs.
    pub from: Option<Micros>,
    pub survey: Survey,
}

/// Finds what of the edition before can stay: up to where a source first differs from what it was, or another
/// row is served than was. None where the edition was joined in another way.
///
/// `now` is what the new edition will say of itself.
pub fn basis(
    shelf: &Shelf,
    before: &SeriesInfo,
    plan: &SplicePlan,
    now: &Provenance,
    job: &Job,
) -> Result<Option<KeptPart>> {
    let edition = &before.edition;
    let then = &edition.provenance;
    // Spread and level may have been measured otherwise; the rest of what is told is the outcome.
    let asked = |p: &Provenance| match &p.made {
        Made::Splice(j) => Some(Joining { seams: Vec::new(), carried: 0, kept_rows: 0, ..j.clone() }),
        _ => None,
    };
    let is_same = asked(then).is_some()
        && asked(then) == asked(now)
        && then.parents().map(|p| p.1).eq(now.parents().map(|p| p.1))
        && then.sheet_inputs().eq(now.sheet_inputs())
        && then.method == now.method;
    if !is_same || edition.fields != plan.fields() || edition.scale != plan.scale {
        return Ok(None);
    }
    let mut from: Option<Micros> = None;
    for ((then, _), (now, _)) in then.parents().zip(now.parents()) {
        let (Some(then), Some(now)) = (shelf.edition(then)?, shelf.edition(now)?) else { return Ok(None) };
        let differs = shelf.first_difference(&then, &now)?;
        from = from.into_iter().chain(differs).min();
    }
    let mut old = OldRows::begin(shelf, edition)?;
    let survey = plan.survey(job, |rows| old.follow(rows))?;
    let from = from.into_iter().chain(old.end()?).min();
    let kept = shelf.segments(edition)?.into_iter().take_while(|f| from.is_none_or(|t| f.last < t)).collect();
    Ok(Some(KeptPart { kept, from, survey }))
}

/// Times and origins of an edition, held against those that are joined now.
struct OldRows {
    rows: Cursor<ReadAhead>,
    differs: Option<Micros>,
}

impl OldRows {
    fn begin(shelf: &Shelf, edition: &EditionInfo) -> Result<OldRows> {
        let pieces = ahead(shelf.scan(edition, Span::ALL, Some(&[Field::Origin]))?);
        Ok(OldRows { rows: Cursor::new(pieces), differs: None })
    }

    fn follow(&mut self, now: &Columns) -> Result<()> {
        let origin = now.column(Field::Origin);
        let mut row = 0;
        while row < now.len() && self.differs.is_none() {
            if !self.rows.load()? {
                self.differs = Some(now.time[row]);
                break;
            }
            let (old, at) = (self.rows.rows(), self.rows.at());
            let n = (now.len() - row).min(self.rows.left().len());
            let same =
                |i: usize| now.time[row + i] == old.time[at + i] && origin[row + i] == old.data[0][at + i];
            if let Some(odd) = (0..n).find(|i| !same(*i)) {
                self.differs = Some(now.time[row + odd].min(old.time[at + odd]));
            }
            row += n;
            self.rows.pass(n);
        }
        Ok(())
    }

    /// Where the two first differ, now that all is joined.
    fn end(mut self) -> Result<Option<Micros>> {
        match self.differs {
            None => self.rows.time(),
            differs => Ok(differs),
        }
    }
}
