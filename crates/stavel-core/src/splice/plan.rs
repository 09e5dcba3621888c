//! The plan of a splice: who serves when, in what form, and what comes of it.

use super::claims::{MonthGrades, claims};
use super::join::{Join, JoinedSpan};
use super::row_adapter::RowAdapter;
use super::seams::{JudgedSeam, SeamJudge};
use super::survey::Survey;
use super::{Seam, Source, SpliceRule, Spliced};
use crate::hour_spreads::HourSpreads;
use crate::job::Job;
use crate::model::time::MINUTE;
use crate::model::{Clock, Columns, Field, Micros, Scale, Session, Span};
use crate::{Error, Result};

/// Seams that are judged; a splice with more of them is a mosaic.
const JUDGED: usize = 100;

/// How sources are joined.
pub struct JoinSettings<'a> {
    /// Which source owns which time.
    pub rule: &'a SpliceRule,
    /// For [`SpliceRule::Grade`]: one for each source.
    pub grades: &'a [MonthGrades],
    /// When the market is open.
    pub session: &'a Session,
}

/// Sources, what each may serve, and the form their rows get.
///
/// A field that a source does not have is absent in its rows. Each row knows the place of its source, from 1 on, in
/// its origin. Where ticks and bars are joined, each row also knows what it covers.
pub struct SplicePlan {
    /// The sources, in order of precedence.
    pub sources: Vec<Source>,
    /// What gives the rows of each source the form of the result.
    pub adapters: Vec<RowAdapter>,
    /// Spreads for rows of later sources that do not know theirs, and the clock of their hours.
    pub spreads: Option<(HourSpreads, Clock)>,
    /// Decimals of the result.
    pub scale: Scale,
    claims: Vec<Vec<Span>>,
    cell: Micros,
    session: Session,
}

/// What a cut at a moment would give.
#[derive(Debug, Clone)]
pub struct CutTrial {
    /// Rows of each source.
    pub rows: Vec<u64>,
    /// None where nothing lies on one side of the cut.
    pub seam: Option<(Seam, JudgedSeam)>,
}

impl SplicePlan {
    /// Plans a splice of sources in order of precedence.
    ///
    /// # Errors
    /// Where there are fewer than two.
    pub fn new(sources: Vec<Source>, how: &JoinSettings<'_>) -> Result<SplicePlan> {
        if sources.len() < 2 {
            return Err(Error::arguments("A splice needs two series or more, in order of precedence."));
        }
        let scale = sources.iter().map(|s| s.scale).reduce(|a, b| a.finer(&b)).unwrap_or_default();
        let reaches: Vec<Span> = sources.iter().map(|s| s.span).collect();
        let mut plan = SplicePlan {
            claims: claims(how.rule, &reaches, how.grades, how.session),
            adapters: (0..sources.len()).map(|place| RowAdapter::plain(place, scale)).collect(),
            spreads: None,
            scale,
            cell: 0,
            session: how.session.clone(),
            sources,
        };
        plan.cell = match (how.rule, plan.has_ticks()) {
            // Ticks of two sources never come at the same moment: a hole is a bar, or a minute, without any.
            (_, true) if plan.is_layered() => plan.bar(),
            (SpliceRule::Holes, true) => MINUTE,
            (SpliceRule::Holes, false) => 1,
            _ => 0,
        };
        if plan.is_layered() {
            plan.adapters.iter_mut().zip(&plan.sources).for_each(|(d, s)| d.covers = s.length);
        }
        Ok(plan)
    }

    /// The session week whose hours and days count.
    pub fn session(&self) -> &Session {
        &self.session
    }

    fn has_ticks(&self) -> bool {
        self.sources.iter().any(Source::is_ticks)
    }

    /// True where ticks and bars are joined.
    pub fn is_layered(&self) -> bool {
        self.has_ticks() && !self.sources.iter().all(Source::is_ticks)
    }

    /// The length of a bar; 0 where there are only ticks.
    pub fn bar(&self) -> Micros {
        self.sources.iter().map(|s| s.length).max().unwrap_or_default()
    }

    /// All fields of the result, in the order columns are kept.
    pub fn fields(&self) -> Vec<Field> {
        let has = |f: &Field| match f {
            Field::Origin => true,
            Field::Covers => self.is_layered(),
            Field::Spread if self.spreads.is_some() => true,
            f => self.sources.iter().any(|s| s.fields.contains(f)),
        };
        Field::ALL.into_iter().filter(has).collect()
    }

    /// Begins to join these fields of the rows within a span.
    ///
    /// # Errors
    /// Where a source cannot be read.
    pub fn join(&self, fields: &[Field], span: Span) -> Result<Join> {
        let wanted = JoinedSpan { fields, scale: self.scale, span, cell: self.cell };
        let join = Join::begin(&self.sources, &self.claims, &self.adapters, &wanted)?;
        Ok(join.carrying(self.spreads.clone()))
    }

    /// The fields of the result that a survey looks at.
    pub fn surveyed(&self) -> Vec<Field> {
        let all = self.fields();
        let carried = |f: &Field| *f == Field::Spread && self.spreads.is_some();
        all.into_iter().filter(|f| Survey::FIELDS.contains(f) || carried(f)).collect()
    }

    /// Reads through all rows and tells what they are; each block goes to `each` as well.
    ///
    /// # Errors
    /// Where a source cannot be read.
    pub fn survey(&self, job: &Job, mut each: impl FnMut(&Columns) -> Result<()>) -> Result<Survey> {
        let mut survey = Survey::default();
        for block in self.join(&self.surveyed(), Span::ALL)? {
            let block = block?;
            job.advance(block.rows.len() as u64)?;
            survey.push(&block);
            each(&block.rows)?;
        }
        Ok(survey)
    }

    /// Joins all rows in memory.
    ///
    /// # Errors
    /// As [`SplicePlan::told`].
    pub fn rows(&self) -> Result<(Columns, Spliced)> {
        let mut survey = Survey::default();
        let fields = self.fields();
        let mut rows = Columns::empty(&fields, self.scale);
        for block in self.join(&fields, Span::ALL)? {
            let block = block?;
            survey.push(&block);
            rows.append(&block.rows);
        }
        Ok((rows, self.told(survey)?))
    }

    /// What is to be told of the rows that were surveyed.
    ///
    /// # Errors
    /// Where the rule left no row.
    pub fn told(&self, survey: Survey) -> Result<Spliced> {
        if survey.rows == 0 {
            return Err(Error::input("By this rule no row of any source is left; choose another."));
        }
        let (usual_step, usual_hour) = (survey.usual_step(), survey.usual_hour(self.bar()));
        let mut judge = self.judge(usual_step, usual_hour);
        let judged = survey
            .seams
            .iter()
            .zip(&survey.pieces)
            .take(JUDGED)
            .map(|(seam, before)| judge.judge(seam, before.to))
            .collect::<Result<_>>()?;
        let Survey { rows, pieces, seams, carried, .. } = survey;
        Ok(Spliced { rows, pieces, seams, judged, usual_step, usual_hour, carried })
    }

    fn judge(&self, usual_step: i64, usual_hour: f64) -> SeamJudge<'_> {
        SeamJudge::new((&self.sources, &self.adapters), (&self.session, self.bar()), (usual_step, usual_hour))
    }

    /// What a cut at a moment would give; `usual` are the step and the hour that are usual, in points. Only
    /// what lies around the moment is read.
    ///
    /// # Errors
    /// Where a source cannot be read.
    pub fn try_cut(&self, at: Micros, usual: (i64, f64)) -> Result<CutTrial> {
        let reaches: Vec<Span> = self.sources.iter().map(|s| s.span).collect();
        let claims = claims(&SpliceRule::Cut(at), &reaches, &[], &self.session);
        let count = |(source, spans): (&Source, &Vec<Span>)| -> Result<u64> {
            spans.iter().try_fold(0, |n, span| Ok(n + source.count(*span)?))
        };
        let rows = self.sources.iter().zip(&claims).map(count).collect::<Result<_>>()?;
        let mut judge = self.judge(usual.0, usual.1);
        let [_, after] = judge.bars_around(0, at)?;
        let mut before: Option<(usize, Micros, i64)> = None;
        for (s, spans) in claims.iter().enumerate().skip(1) {
            if spans.last().is_some_and(|span| span.to == at)
                && let [Some((t, _, close)), _] = judge.bars_around(s, at)?
                && before.is_none_or(|b| b.1 < t)
            {
                before = Some((s, t, close));
            }
        }
        let (Some((t, open, _)), Some((source, last, close))) = (after, before) else {
            return Ok(CutTrial { rows, seam: None });
        };
        let seam = Seam { at: t, before: source, after: 0, step: open - close };
        Ok(CutTrial { rows, seam: Some((seam, judge.judge(&seam, last)?)) })
    }
}
