//! Splicing on the shelf.

use super::ask::SpliceWishes;
use super::level::measure;
use super::level_gap::LevelGap;
use super::plan::{JoinSettings, SplicePlan};
use super::refresh::{KeptPart, basis};
use super::survey::Survey;
use super::{Level, MonthGrades, Overlap, Source, SpliceRule, Spliced};
use crate::check::{Severity, check_series};
use crate::hour_spreads::{HourSpreads, SpreadCounter};
use crate::job::Job;
use crate::model::columns::shape_of;
use crate::model::price::unit;
use crate::model::provenance::Joining;
use crate::model::time::civil_from_days;
use crate::model::{
    Clock, Field, Frame, Input, Instrument, Made, Micros, Provenance, Scale, SeriesName, Session, Shape,
    Side, Span,
};
use crate::store::{Origin, SeriesInfo, Shelf, ahead};
use crate::{Advice, Error, Result, Setting};

/// Ratios this close move no price.
const SAME_RATIO: f64 = 1e-7;

/// A splice that is ready to be read.
pub struct Prepared {
    /// What is joined, and how.
    pub plan: SplicePlan,
    /// The first source's name at the frame of the result.
    pub like: SeriesName,
    /// Between the first two sources, levels mended; all 0 where they share no time.
    pub overlap: Overlap,
    /// Each later source against the first, before anything was done; none without an overlap.
    pub gaps: Vec<Option<LevelGap>>,
    /// True where levels and spreads are those that were measured when the series was joined before, though they
    /// would be others now.
    pub keeps_older: bool,
    /// What the edition says of itself.
    provenance: Provenance,
}

/// A joined series and how it came about.
pub struct SplicedSeries {
    /// The joined series.
    pub info: SeriesInfo,
    /// What the join gave.
    pub spliced: Spliced,
    /// As in [`Prepared`].
    pub overlap: Overlap,
    /// How far each later source lies from the first; none where they share no time.
    pub gaps: Vec<Option<LevelGap>>,
    /// True where levels and spreads are those of the edition before, though they would be others now.
    pub keeps_older: bool,
    /// True where nothing had changed, so that no edition was made.
    pub is_unchanged: bool,
    /// Rows taken over, unread, from the edition before.
    pub kept: u64,
    /// The first row that was written; none where none was.
    pub rebuilt_from: Option<Micros>,
    /// The stage that made the edition before, where that was no splice: what it did is not in this one.
    pub put_aside: Option<String>,
}

/// Looks at series of the shelf and plans their splice into source `into`. Without layers, ticks beside bars are framed
/// on the way. Levels and spreads are those measured when it was joined in this way before, so that no row of
/// the past changes.
///
/// # Errors
/// Where a series is afloat, of another instrument, or at a frame that does not fit; where a level is wanted
/// of series that share no time, or spreads of one that knows none.
pub fn prepare(
    shelf: &Shelf,
    names: &[SeriesName],
    into: &str,
    ask: &SpliceWishes,
    job: &Job,
) -> Result<Prepared> {
    let infos = fitting(shelf, names)?;
    let frame = frame_of(names, ask)?;
    let like = names[0].with_frame(if ask.layered { Frame::Ticks } else { frame });
    let instrument = shelf.instrument(&names[0].instrument)?;
    let session = instrument.sheet.session.clone();
    let grades = match ask.rule {
        SpliceRule::Grade => {
            names.iter().map(|n| grades_of(shelf, n, &session.clock, job)).collect::<Result<_>>()?
        }
        _ => Vec::new(),
    };
    job.begin("splice", infos.iter().map(|i| i.edition.rows).sum());
    let sources: Vec<Source> = infos
        .iter()
        .map(|info| {
            let framed = (info.name.frame.is_ticks() && !ask.layered && !frame.is_ticks()).then_some(frame);
            Source::stored(shelf, info, framed, &session)
        })
        .collect::<Result<_>>()?;
    let mut plan =
        SplicePlan::new(sources, &JoinSettings { rule: &ask.rule, grades: &grades, session: &session })?;
    let before = shelf.current_own(&like.with_source(into))?;
    let older = before.as_ref().filter(|_| !ask.anew).and_then(|b| Measured::of(b, names, ask, plan.scale));
    let (overlap, gaps) = bring_to_level(&mut plan, names, ask.level, older.as_ref())?;
    if ask.carry_spread {
        plan.spreads = Some(spreads_of(&plan, names, &session)?);
    }
    let now = Measured::now(&gaps, &plan, ask);
    let keeps_older = older.as_ref().is_some_and(|older| older.moves_rows_unlike(&now, ask.level));
    let measured = older.unwrap_or(now);
    if let (Some(spreads), Some((hours, _))) = (&measured.spreads, &mut plan.spreads) {
        hours.0.clone_from(spreads);
    }
    let joining = Joining {
        rule: ask.rule.to_string(),
        level: ask.level.to_string(),
        carry_spread: ask.carry_spread,
        layered: ask.layered,
        gaps: measured.gaps,
        spreads: measured.spreads,
        ..Joining::default()
    };
    let mut inputs: Vec<Input> =
        infos.iter().map(|i| Input::Edition { id: i.edition.id, series: i.name.clone() }).collect();
    if uses_session(ask, &infos, frame) {
        inputs.extend(instrument.inputs(&Instrument::SESSION));
    }
    let provenance = Provenance::of(Made::Splice(joining)).reading(inputs);
    Ok(Prepared { plan, like, overlap, gaps, keeps_older, provenance })
}

/// Median distance in points, and ratio, of a later source; none where it shares no time with the first.
type MeasuredLevel = Option<(i64, f64)>;

/// Levels and spreads that were measured for a splice, in points of its result.
#[derive(Debug, Clone, PartialEq)]
struct Measured {
    gaps: Option<Vec<MeasuredLevel>>,
    spreads: Option<Vec<Option<i64>>>,
}

impl Measured {
    fn now(gaps: &[Option<LevelGap>], plan: &SplicePlan, ask: &SpliceWishes) -> Measured {
        let mended = |gap: &Option<LevelGap>| gap.as_ref().map(|g| (g.median, g.ratio));
        Measured {
            gaps: (ask.level != Level::None).then(|| gaps.iter().map(mended).collect()),
            spreads: plan.spreads.as_ref().map(|s| s.0.0.clone()),
        }
    }

    /// What an edition was joined with, if it was joined of these series in this way; finer prices have finer
    /// points.
    fn of(before: &SeriesInfo, names: &[SeriesName], ask: &SpliceWishes, scale: Scale) -> Option<Measured> {
        let Made::Splice(joining) = &before.edition.provenance.made else { return None };
        let is_same = joining.rule == ask.rule.to_string()
            && joining.level == ask.level.to_string()
            && (joining.carry_spread, joining.layered) == (ask.carry_spread, ask.layered)
            && before.edition.provenance.parents().map(|p| p.1).eq(names);
        let finer = unit(scale.price.checked_sub(before.edition.scale.price).filter(|_| is_same)?);
        let gap = |gap: &MeasuredLevel| gap.map(|(median, ratio)| (median * finer, ratio));
        let spread = |spread: &Option<i64>| spread.map(|s| s * finer);
        Some(Measured {
            gaps: joining.gaps.as_ref().map(|all| all.iter().map(gap).collect()),
            spreads: joining.spreads.as_ref().map(|all| all.iter().map(spread).collect()),
        })
    }

    /// True where by another measure rows of the past would be others.
    fn moves_rows_unlike(&self, other: &Measured, level: Level) -> bool {
        let (own, theirs) = (self.gaps.iter().flatten(), other.gaps.iter().flatten());
        let differs = |(a, b): (&MeasuredLevel, &MeasuredLevel)| match (a, b, level) {
            (Some(a), Some(b), Level::Ratio) => (a.1 / b.1 - 1.0).abs() > SAME_RATIO,
            (a, b, _) => a.map(|g| g.0) != b.map(|g| g.0),
        };
        own.zip(theirs).any(differs) || self.spreads != other.spreads
    }

    /// What was measured of a later source, by its place among those.
    fn gap(&self, place: usize) -> MeasuredLevel {
        self.gaps.as_ref()?.get(place).copied().flatten()
    }
}

/// True where the rows of the result hang on the session week of the instrument.
fn uses_session(ask: &SpliceWishes, infos: &[SeriesInfo], frame: Frame) -> bool {
    let frames_ticks = !ask.layered && !frame.is_ticks() && infos.iter().any(|i| i.name.frame.is_ticks());
    frames_ticks || ask.carry_spread || !matches!(ask.rule, SpliceRule::Span | SpliceRule::Cut(_))
}

impl Prepared {
    /// Reads through the splice without writing it.
    ///
    /// # Errors
    /// As [`SplicePlan::told`].
    pub fn survey(&self, job: &Job) -> Result<Spliced> {
        let survey = self.plan.survey(job, |_| Ok(()))?;
        self.plan.told(survey)
    }
}

/// The series, if they can be joined at all.
fn fitting(shelf: &Shelf, names: &[SeriesName]) -> Result<Vec<SeriesInfo>> {
    if names.len() < 2 {
        return Err(Error::arguments("A splice needs two series or more, in order of precedence."));
    }
    let infos: Vec<SeriesInfo> = names.iter().map(|n| shelf.find(n)).collect::<Result<_>>()?;
    infos.iter().try_for_each(|info| info.refuse_counted("joined"))?;
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
        return Err(Error::input(format!("{0} is afloat; find its clock first.", afloat.name))
            .advise(Advice::Align(afloat.name.to_string())));
    }
    // Quotes have the side that bars of them get: the bid.
    let side = |n: &SeriesName| if n.frame.is_ticks() { Side::Bid } else { n.side };
    if let Some(other) = names.iter().find(|n| side(n) != side(&names[0])) {
        return Err(Error::arguments(format!(
            "{} has {} prices and {other} {} prices; they are not one history. Join series of one side.",
            names[0],
            side(&names[0]).word(),
            side(other).word()
        )));
    }
    let of = |shape: Shape| infos.iter().find(|i| shape_of(&i.edition.fields) == shape);
    if let (Some(quotes), Some(trades)) = (of(Shape::Quotes), of(Shape::Trades)) {
        return Err(Error::arguments(format!(
            "{} has quotes and {} trades; they are not one history. Join quotes with quotes, trades with trades.",
            quotes.name, trades.name
        )));
    }
    for info in &infos {
        match shape_of(&info.edition.fields) {
            Shape::Depth => {
                return Err(Error::input(format!("{} holds depth rows, which are not joined.", info.name)));
            }
            Shape::Layered => {
                return Err(Error::input(format!(
                    "{} has layers itself; join the series it was made of.",
                    info.name
                )));
            }
            Shape::Bars | Shape::Quotes | Shape::Trades => {}
        }
    }
    Ok(infos)
}

/// The frame of the bars among the series; ticks where there are no bars.
fn frame_of(names: &[SeriesName], ask: &SpliceWishes) -> Result<Frame> {
    let frame = names.iter().map(|n| n.frame).find(|f| !f.is_ticks()).unwrap_or(names[0].frame);
    if let Some(odd) = names.iter().find(|n| !n.frame.is_ticks() && n.frame != frame) {
        return Err(Error::arguments(format!(
            "{odd} has another frame than {frame}; build {frame} of it first."
        ))
        .advise(Advice::BuildFrames));
    }
    let has_ticks = names.iter().any(|n| n.frame.is_ticks());
    if ask.layered && !(has_ticks && frame == Frame::M1) {
        return Err(Error::arguments(
            "Layers are ticks and minutes: name a series of ticks and one of 1m, or do not join them as layers.",
        ).advise(Advice::Say(Setting::Layered)));
    }
    Ok(frame)
}

/// Measures each later source against the first and mends its level, if that is wanted.
fn bring_to_level(
    plan: &mut SplicePlan,
    names: &[SeriesName],
    level: Level,
    older: Option<&Measured>,
) -> Result<(Overlap, Vec<Option<LevelGap>>)> {
    let mut gaps = Vec::new();
    let mut overlap = Overlap::default();
    for s in 1..plan.sources.len() {
        let against = |plan: &SplicePlan| {
            measure((&plan.sources[0], &plan.adapters[0]), (&plan.sources[s], &plan.adapters[s]))
        };
        let mut measured = against(plan)?;
        let gap = measured.as_ref().map(|m| m.1.clone());
        if level != Level::None {
            let gap = gap.clone().ok_or_else(|| {
                Error::input(format!(
                    "{} and {} share no time, so their levels cannot be compared; join them with their prices as they are.",
                    names[0], names[s]
                )).advise(Advice::Say(Setting::Level))
            })?;
            let (median, ratio) = older.and_then(|o| o.gap(s - 1)).unwrap_or((gap.median, gap.ratio));
            plan.adapters[s].level = Some((level, LevelGap { median, ratio, ..gap }));
            measured = if s == 1 { against(plan)? } else { None };
        }
        if s == 1 {
            overlap = measured.map(|m| m.0).unwrap_or_default();
        }
        gaps.push(gap);
    }
    Ok((overlap, gaps))
}

fn spreads_of(plan: &SplicePlan, names: &[SeriesName], session: &Session) -> Result<(HourSpreads, Clock)> {
    let mut counter = SpreadCounter::new(&session.clock);
    for rows in ahead(plan.sources[0].bars(&[Field::Spread], Span::ALL)?) {
        counter.add(&rows?.rescaled(plan.scale));
    }
    let spreads = counter.finish();
    if spreads.is_empty() {
        return Err(Error::input(format!(
            "{} knows no spread that others lack; join them without carrying spreads.",
            names[0]
        )));
    }
    Ok((spreads, session.clock.clone()))
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
            Severity::Fault => 2.0,
            Severity::Doubt => 0.5,
            Severity::Note => 0.0,
        };
        if let Some(grade) = grades.get_mut(&(year, month)) {
            *grade -= cost;
        }
    }
    Ok(grades)
}

/// Joins series of the shelf into source `into`. Where that was joined before in the same way, what is the same
/// still is taken over and only the rest is written; where nothing has changed, nothing is.
///
/// # Errors
/// As [`prepare`]; also where the result would overwrite one of its sources, or no row would be left.
pub fn splice_series(
    shelf: &mut Shelf,
    names: &[SeriesName],
    into: &str,
    ask: &SpliceWishes,
    job: &Job,
) -> Result<SplicedSeries> {
    crate::model::series::check_name("source", into)?;
    if let Some(own) = names.iter().find(|n| n.source == into) {
        return Err(Error::arguments(format!(
            "The result may not overwrite {own}; choose another name than {into}."
        )));
    }
    let prepared = prepare(shelf, names, into, ask, job)?;
    let target = prepared.like.with_source(into);
    let mut put_aside = None;
    let found = match shelf.current_own(&target)? {
        Some(before) => {
            let made = &before.edition.provenance.made;
            put_aside = (!matches!(made, Made::Splice(_))).then(|| made.act().to_owned());
            basis(shelf, &before, &prepared.plan, &prepared.provenance, job)?.map(|basis| (before, basis))
        }
        None => None,
    };
    match found {
        Some((before, KeptPart { from: None, survey, .. }))
            if before.edition.provenance.inputs == prepared.provenance.inputs =>
        {
            let kept = before.edition.rows;
            let Prepared { plan, overlap, gaps, keeps_older, .. } = prepared;
            let spliced = plan.told(survey)?;
            Ok(SplicedSeries {
                info: before,
                spliced,
                overlap,
                gaps,
                keeps_older,
                is_unchanged: true,
                kept,
                rebuilt_from: None,
                put_aside: None,
            })
        }
        found => {
            let made = write(shelf, &target, prepared, found.map(|f| f.1), job)?;
            Ok(SplicedSeries { put_aside, ..made })
        }
    }
}

/// Writes the rows that cannot be taken over.
fn write(
    shelf: &mut Shelf,
    target: &SeriesName,
    prepared: Prepared,
    basis: Option<KeptPart>,
    job: &Job,
) -> Result<SplicedSeries> {
    let Prepared { plan, overlap, gaps, keeps_older, provenance, .. } = prepared;
    let made = provenance.made.clone();
    let origin = Origin { provenance, clock: Some(Clock::utc()), fields: plan.fields(), scale: plan.scale };
    let mut draft = shelf.draft(target, origin)?;
    let (kept, surveyed) = match basis {
        Some(basis) => (basis.kept, Some(basis.survey)),
        None => (Vec::new(), None),
    };
    let kept_rows: u64 = kept.iter().map(|f| f.rows).sum();
    if let Some(survey) = &surveyed {
        job.begin("write what is new", survey.rows - kept_rows);
    }
    let from = kept.iter().map(|f| f.last + 1).max().unwrap_or(Micros::MIN);
    kept.into_iter().for_each(|file| draft.keep(file));
    // What was surveyed to find the basis need not be surveyed again.
    let mut survey = Survey::default();
    let mut rebuilt_from = None;
    for block in plan.join(&plan.fields(), Span::new(from, Micros::MAX))? {
        let block = block?;
        job.advance(block.rows.len() as u64)?;
        rebuilt_from = rebuilt_from.or(block.rows.time.first().copied());
        if surveyed.is_none() {
            survey.push(&block);
        }
        draft.push(block.rows)?;
    }
    let spliced = plan.told(surveyed.unwrap_or(survey))?;
    if let Made::Splice(joining) = made {
        draft.set_made(Made::Splice(Joining {
            seams: spliced.seams.iter().take(1000).map(|s| s.at).collect(),
            carried: spliced.carried,
            kept_rows,
            ..joining
        }));
    }
    let info = draft.commit()?;
    Ok(SplicedSeries {
        info,
        spliced,
        overlap,
        gaps,
        keeps_older,
        is_unchanged: false,
        kept: kept_rows,
        rebuilt_from,
        put_aside: None,
    })
}
