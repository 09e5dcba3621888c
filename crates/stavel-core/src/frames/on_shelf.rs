//! Building frames on the shelf.

use rayon::prelude::*;

use super::tail::{self, SourceDifferences, StandingBars};
use crate::bars::{Builder, Built, filled, push_to_all};
use crate::job::Job;
use crate::model::frame::CountedBy;
use crate::model::provenance::{EmptyBars, Framing};
use crate::model::{
    Clock, Columns, Field, Frame, Input, Instrument, Made, Micros, Provenance, SeriesName, Session, Side,
    Span,
};
use crate::store::{Origin, SealedDraft, SeriesInfo, Shelf, ahead};
use crate::{Error, Result};

/// A series of bars that was built.
pub struct BuiltSeries {
    /// The series that was built.
    pub info: SeriesInfo,
    /// True where the rows begin within the first bar.
    pub partial_first: bool,
    /// True where the rows may end within the last bar.
    pub partial_last: bool,
    /// As in [`Built`].
    pub on_closed_days: u64,
    /// Sums and prices that were more than a column holds; they are absent.
    pub too_large: u64,
    /// Bars without rows that were filled.
    pub filled: u64,
}

/// What bars are made by.
pub struct FrameSettings<'a> {
    /// Of the session days; none means the one of the sheet.
    pub clock: Option<&'a Clock>,
    /// Which prices of ticks make bars: one of each frame for each.
    pub sides: &'a [Side],
    /// The rows that are wanted, by time.
    pub span: Span,
    /// What becomes of bars without rows.
    pub empty: EmptyBars,
}

impl Default for FrameSettings<'_> {
    fn default() -> Self {
        FrameSettings { clock: None, sides: &[Side::Bid], span: Span::ALL, empty: EmptyBars::Skip }
    }
}

/// Bars of one frame and of the first of the sides out of a series' rows, without writing them.
///
/// # Errors
/// As [`build_rows`].
pub fn build_bars(
    shelf: &Shelf,
    info: &SeriesInfo,
    frame: Frame,
    making: &FrameSettings<'_>,
    job: &Job,
) -> Result<Built> {
    let built = build_rows(shelf, info, &[frame], making, job)?.into_iter().next();
    built.ok_or_else(|| Error::arguments("Say which frame is to be built."))
}

/// Bars of frames out of a series' rows in a span, without writing them: of each side and frame, in the
/// order given, all out of one reading of the rows.
///
/// # Errors
/// Where the series is afloat or a frame cannot be made of it.
pub fn build_rows(
    shelf: &Shelf,
    info: &SeriesInfo,
    frames: &[Frame],
    making: &FrameSettings<'_>,
    job: &Job,
) -> Result<Vec<Built>> {
    let wishes = wishes(frames, making.sides);
    let builders = builders(shelf, info, &wishes, making)?;
    let session = session_of(shelf, info, making)?;
    let from_all = vec![Micros::MIN; wishes.len()];
    let built = run(shelf, info, builders, &from_all, making.span, job)?;
    let fill = |(mut built, (frame, _)): (Built, &(Frame, Side))| {
        if making.empty == EmptyBars::Fill {
            (built.bars, built.filled) = filled(built.bars, *frame, &session);
        }
        built
    };
    Ok(built.into_iter().zip(&wishes).map(fill).collect())
}

/// Each frame of each side.
fn wishes(frames: &[Frame], sides: &[Side]) -> Vec<(Frame, Side)> {
    sides.iter().flat_map(|side| frames.iter().map(move |frame| (*frame, *side))).collect()
}

/// The session of a series' instrument, by the clock that was said.
fn session_of(shelf: &Shelf, info: &SeriesInfo, making: &FrameSettings<'_>) -> Result<Session> {
    let mut session = shelf.instrument(&info.name.instrument)?.sheet.session;
    if let Some(clock) = making.clock {
        session.clock = clock.clone();
    }
    Ok(session)
}

/// A builder for each frame and side.
fn builders(
    shelf: &Shelf,
    info: &SeriesInfo,
    wishes: &[(Frame, Side)],
    making: &FrameSettings<'_>,
) -> Result<Vec<Builder>> {
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{} is afloat: without a clock its days are not known; align it first.",
            info.name
        )));
    }
    let sheet = shelf.instrument(&info.name.instrument)?.sheet;
    let session = session_of(shelf, info, making)?;
    let (edition, from, fields) = (&info.edition, info.name.frame, &info.edition.fields);
    let builder = |(frame, side): &(Frame, Side)| -> Result<Builder> {
        let builder = Builder::new(from, *frame, *side, fields, edition.scale, &session)?;
        match frame {
            Frame::Counted { by: CountedBy::Range, .. } => {
                let points = sheet.tick_points(edition.scale.price).map_err(|e| {
                    Error::input(format!("Bars of {frame} of {} cannot be made: {e}", info.name))
                })?;
                Ok(builder.with_tick(points, &session))
            }
            _ => Ok(builder),
        }
    };
    wishes.iter().map(builder).collect()
}

/// Gives each builder the rows of a span from a moment of its own on, all out of one reading.
fn run(
    shelf: &Shelf,
    info: &SeriesInfo,
    mut builders: Vec<Builder>,
    from: &[Micros],
    span: Span,
    job: &Job,
) -> Result<Vec<Built>> {
    let first = from.iter().copied().min().unwrap_or(Micros::MIN);
    let span = Span::new(span.from.max(first), span.to);
    let reads = |field: &Field| builders.iter().any(|builder| builder.reads(*field));
    let fields: Vec<Field> = info.edition.fields.iter().copied().filter(reads).collect();
    // Those of one core share what neighbouring rows come to.
    let together = builders.len().div_ceil(rayon::current_num_threads()).max(1);
    for rows in ahead(shelf.scan(&info.edition, span, Some(&fields))?) {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        let begins: Vec<usize> = from.iter().map(|from| rows.time.partition_point(|t| t < from)).collect();
        builders
            .par_chunks_mut(together)
            .zip(begins.par_chunks(together))
            .for_each(|(builders, begins)| push_to_all(builders, &rows, begins));
    }
    Ok(builders.into_iter().map(Builder::finish).collect())
}

/// Builds bars of frames and sides out of all rows of a series, each into a series of its own, all out of one reading. They
/// say all that the rows know: tick counts, both volumes, the ends of spreads.
///
/// # Errors
/// As [`build_rows`]. Of a frame that was built before in the same way, the bars before the first row that differs are
/// taken over unread.
pub fn build_series(
    shelf: &mut Shelf,
    name: &SeriesName,
    frames: &[Frame],
    making: &FrameSettings<'_>,
    job: &Job,
) -> Result<Vec<BuiltSeries>> {
    let info = shelf.find(name)?;
    let words: Vec<String> = frames.iter().map(Frame::to_string).collect();
    let wishes = wishes(frames, making.sides);
    let builders = builders(shelf, &info, &wishes, making)?;
    let fields = &info.edition.fields;
    let builders: Vec<Builder> = builders.into_iter().map(|b| b.with_details(fields)).collect();
    let session = session_of(shelf, &info, making)?;
    let (mut plans, mut differences) = (Vec::new(), SourceDifferences::default());
    for (wish, builder) in wishes.iter().zip(&builders) {
        let mut plan = FramePlan::of(shelf, &info, *wish, making)?;
        let (now, like) = (plan.provenance(), builder.shape());
        plan.standing = tail::standing(shelf, &plan.target, &now, like, &session, &mut differences)?;
        plans.push(plan);
    }
    let from: Vec<Micros> =
        plans.iter().map(|p| p.standing.as_ref().map_or(Micros::MIN, |s| s.from)).collect();
    let first = from.iter().copied().min().unwrap_or(Micros::MIN);
    let reader = shelf.reader(&info.edition)?;
    job.begin(format!("frames {} of {name}", words.join(" ")), reader.count(Span::new(first, Micros::MAX))?);
    let built = run(shelf, &info, builders, &from, Span::ALL, job)?;
    // All are on their way to the disk before the first of them is waited for.
    let mut sealed = Vec::new();
    for (plan, built) in plans.into_iter().zip(built) {
        sealed.push(plan.seal(shelf, &info, built, &session)?);
    }
    sealed.into_iter().map(|bars| bars.commit(shelf)).collect()
}

/// What a frame is to become on the shelf.
struct FramePlan {
    frame: Frame,
    target: SeriesName,
    framing: Framing,
    inputs: Vec<Input>,
    /// What of the edition before stands.
    standing: Option<StandingBars>,
}

impl FramePlan {
    fn of(
        shelf: &Shelf,
        info: &SeriesInfo,
        (frame, side): (Frame, Side),
        making: &FrameSettings<'_>,
    ) -> Result<FramePlan> {
        let (clock, empty, name) = (making.clock, making.empty, &info.name);
        // A tick series has both sides; a bar series has the side it has.
        let side = if name.frame.is_ticks() && side != Side::Last { side } else { name.side };
        let target = SeriesName { frame, side, built: true, ..name.clone() };
        let clock_said = clock.map(Clock::to_string);
        let framing = Framing {
            frame,
            side,
            clock: clock_said,
            partial_first: false,
            partial_last: false,
            empty,
            too_large: 0,
        };
        let mut inputs = vec![Input::Edition { id: info.edition.id, series: name.clone() }];
        // A clock that was said is a setting of its own.
        let keys = Instrument::DAYS.into_iter().filter(|key| clock.is_none() || *key != "clock");
        let tick_size = matches!(frame, Frame::Counted { by: CountedBy::Range, .. }).then_some("tick_size");
        inputs.extend(shelf.instrument(&name.instrument)?.inputs(&keys.chain(tick_size).collect::<Vec<_>>()));
        Ok(FramePlan { frame, target, framing, inputs, standing: None })
    }

    fn provenance(&self) -> Provenance {
        Provenance::of(Made::Frames(self.framing.clone())).reading(self.inputs.clone())
    }

    /// Writes built bars after those that stand.
    fn seal(
        mut self,
        shelf: &mut Shelf,
        info: &SeriesInfo,
        mut built: Built,
        session: &Session,
    ) -> Result<SealedBars> {
        let mut filled_bars = 0;
        if self.framing.empty == EmptyBars::Fill {
            (built.bars, filled_bars) = filled(built.bars, self.frame, session);
        }
        let mut kept = Vec::new();
        let mut on_closed_days = built.on_closed_days;
        let mut before = Columns::default();
        if let Some(standing) = &self.standing {
            (kept, before) = shelf.rows_before(&standing.edition, standing.from)?;
            on_closed_days += standing.on_closed_days(shelf, self.frame, session)?;
            built.partial_first = standing.partial_first;
        }
        let (partial_first, partial_last, too_large) =
            (built.partial_first, built.partial_last, built.too_large);
        self.framing = Framing { partial_first, partial_last, too_large, ..self.framing };
        let origin = Origin {
            provenance: self.provenance(),
            clock: info.edition.clock.clone(),
            fields: built.bars.fields.clone(),
            scale: built.bars.scale,
        };
        let mut draft = shelf.draft(&self.target, origin)?;
        kept.into_iter().for_each(|file| draft.keep(file));
        for rows in [before, built.bars] {
            if !rows.is_empty() {
                draft.push(rows)?;
            }
        }
        let draft = draft.seal()?;
        let filled = filled_bars;
        Ok(SealedBars { draft, partial_first, partial_last, on_closed_days, too_large, filled })
    }
}

/// Bars that are on their way to the disk, and what is told of them.
struct SealedBars {
    draft: SealedDraft,
    partial_first: bool,
    partial_last: bool,
    on_closed_days: u64,
    too_large: u64,
    filled: u64,
}

impl SealedBars {
    fn commit(self, shelf: &mut Shelf) -> Result<BuiltSeries> {
        let SealedBars { draft, partial_first, partial_last, on_closed_days, too_large, filled } = self;
        let info = draft.commit(shelf)?;
        Ok(BuiltSeries { info, partial_first, partial_last, on_closed_days, too_large, filled })
    }
}
