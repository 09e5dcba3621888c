//! Splicing on the shelf.

use serde_json::json;

use super::level::{LevelGap, carry_spread, measure, set_level};
use super::{How, Level, MonthGrades, Rule, Spliced, splice};
use crate::check::check_series;
use crate::frames;
use crate::job::Job;
use crate::model::time::civil_from_days;
use crate::model::{Clock, Columns, SeriesName, Side, Span};
use crate::store::{Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// How series are to be joined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ask {
    pub rule: Rule,
    pub level: Level,
    /// Put the first source's spread by hour of the week on rows that do not know theirs.
    pub carry_spread: bool,
}

impl Ask {
    /// By a rule, prices and spreads as they are.
    pub fn by(rule: Rule) -> Ask {
        Ask { rule, level: Level::None, carry_spread: false }
    }
}

/// A joined series and how it came about.
pub struct SplicedSeries {
    pub info: SeriesInfo,
    pub spliced: Spliced,
    pub levels: Levels,
}

/// What was found and done about levels and spreads.
pub struct Levels {
    /// Each later source against the first, before anything was done; none without an overlap.
    pub gaps: Vec<Option<LevelGap>>,
    /// Rows that were given a spread.
    pub carried: u64,
}

/// Joins series of the shelf without writing them. Ticks beside bars are framed first.
///
/// # Errors
/// Where a series is afloat, of another instrument, or at a frame that does not fit; where a level is wanted
/// of series that share no time.
pub fn splice_rows(
    shelf: &Shelf,
    names: &[SeriesName],
    ask: &Ask,
    job: &Job,
) -> Result<(SeriesName, Spliced, Levels)> {
    let infos = fitting(shelf, names)?;
    let first = &infos[0];
    let frame = names.iter().map(|n| n.frame).find(|f| !f.is_ticks()).unwrap_or(first.name.frame);
    if let Some(odd) = names.iter().find(|n| !n.frame.is_ticks() && n.frame != frame) {
        return Err(Error::arguments(format!(
            "{odd} has another frame than {frame}; build {frame} of it first (stavel frames)."
        )));
    }
    let session = shelf.instrument(&names[0].instrument)?.sheet.session;
    let grades = match ask.rule {
        Rule::Grade => {
            names.iter().map(|n| grades_of(shelf, n, &session.clock, job)).collect::<Result<_>>()?
        }
        _ => Vec::new(),
    };
    job.begin("splice", infos.iter().map(|i| i.edition.rows).sum());
    let scale = infos.iter().map(|i| i.edition.scale).reduce(|a, b| a.finer(&b)).unwrap_or_default();
    let mut sources: Vec<Columns> = Vec::new();
    for info in &infos {
        let rows = if info.name.frame == frame {
            let rows = shelf.read(&info.edition, Span::ALL)?;
            job.advance(rows.len() as u64)?;
            rows
        } else {
            frames::build_rows(shelf, info, frame, None, Side::Bid, Span::ALL, job)?.bars
        };
        sources.push(rows.rescaled(scale));
    }
    let levels = bring_to_level(&mut sources, names, ask, &session.clock)?;
    let how = How { rule: &ask.rule, grades: &grades, session: &session, bar: frame.length() };
    Ok((first.name.with_frame(frame), splice(sources, &how)?, levels))
}

/// The series, if they can be joined at all.
fn fitting(shelf: &Shelf, names: &[SeriesName]) -> Result<Vec<SeriesInfo>> {
    if names.len() < 2 {
        return Err(Error::arguments("A splice needs two series or more, in order of precedence."));
    }
    let infos: Vec<SeriesInfo> = names.iter().map(|n| shelf.find(n)).collect::<Result<_>>()?;
    if let Some(other) = names.iter().find(|n| n.instrument != names[0].instrument) {
        return Err(Error::arguments(format!(
            "{} and {other} are different instruments; splice one at a time.",
            names[0]
        )));
    }
    if let Some(twice) = names.iter().enumerate().find(|(i, n)| names[..*i].contains(n)) {
        return Err(Error::arguments(format!("{} is named twice; each source is joined once.", twice.1)));
    }
    if let Some(afloat) = infos.iter().find(|i| i.is_afloat()) {
        return Err(Error::input(format!(
            "{0} is afloat; find its clock first: stavel align {0} --to an anchored series --anchor.",
            afloat.name
        )));
    }
    Ok(infos)
}

fn bring_to_level(sources: &mut [Columns], names: &[SeriesName], ask: &Ask, wall: &Clock) -> Result<Levels> {
    let mut levels = Levels { gaps: Vec::new(), carried: 0 };
    let Some((first, later)) = sources.split_first_mut() else { return Ok(levels) };
    for (rows, name) in later.iter_mut().zip(&names[1..]) {
        let gap = measure(first, rows);
        match (&gap, ask.level) {
            (_, Level::None) => {}
            (Some(gap), level) => set_level(rows, gap, level),
            (None, level) => {
                return Err(Error::input(format!(
                    "{} and {name} share no time, so their levels cannot be compared; join them without --level {level}.",
                    names[0]
                )));
            }
        }
        if ask.carry_spread {
            levels.carried += carry_spread(first, rows, wall);
        }
        levels.gaps.push(gap);
    }
    if ask.carry_spread && levels.carried == 0 {
        return Err(Error::input(format!(
            "{} knows no spread that others lack; join them without --carry-spread.",
            names[0]
        )));
    }
    Ok(levels)
}

/// How clean a series is in each month: its coverage in per cent, less what findings cost.
fn grades_of(shelf: &Shelf, name: &SeriesName, wall: &Clock, job: &Job) -> Result<MonthGrades> {
    let (_, report) = check_series(shelf, name, Span::ALL, job)?;
    let mut grades: MonthGrades = report
        .months()
        .iter()
        .map(|m| ((m.year, m.month), m.present as f64 * 100.0 / m.expected.max(1) as f64))
        .collect();
    for finding in &report.findings {
        let (year, month, _) = civil_from_days(wall.day_of(finding.span.from));
        let cost = match finding.kind.severity() {
            crate::check::Severity::Fault => 2.0,
            crate::check::Severity::Doubt => 0.5,
            crate::check::Severity::Note => 0.0,
        };
        if let Some(grade) = grades.get_mut(&(year, month)) {
            *grade -= cost;
        }
    }
    Ok(grades)
}

/// Joins series of the shelf into source `into`.
///
/// # Errors
/// As [`splice_rows`]; also where the result would overwrite one of its sources.
pub fn splice_series(
    shelf: &mut Shelf,
    names: &[SeriesName],
    into: &str,
    ask: &Ask,
    job: &Job,
) -> Result<SplicedSeries> {
    crate::model::series::check_name("source", into)?;
    if let Some(own) = names.iter().find(|n| n.source == into) {
        return Err(Error::arguments(format!(
            "The result may not overwrite {own}; choose another name than {into}."
        )));
    }
    let (like, mut spliced, levels) = splice_rows(shelf, names, ask, job)?;
    let target = like.with_source(into);
    let parents: Vec<serde_json::Value> = names
        .iter()
        .map(|n| shelf.find(n).map(|i| json!({"series": n.to_string(), "edition": i.edition.id})))
        .collect::<Result<_>>()?;
    let origin = Origin {
        act: "splice",
        detail: json!({
            "from": parents, "rule": ask.rule.to_string(), "level": ask.level.to_string(),
            "carry_spread": ask.carry_spread, "carried": levels.carried,
            "seams": spliced.seams.iter().take(1000).map(|s| s.at).collect::<Vec<_>>(),
        }),
        clock: Some(Clock::utc()),
        fields: spliced.rows.fields.clone(),
        scale: spliced.rows.scale,
    };
    let mut draft = shelf.draft(&target, origin)?;
    draft.push(std::mem::take(&mut spliced.rows))?;
    Ok(SplicedSeries { info: draft.commit()?, spliced, levels })
}
