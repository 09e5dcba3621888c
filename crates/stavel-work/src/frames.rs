//! Building frames.

use stavel_core::frames::rebuild::rebuild_series;
use stavel_core::frames::{BuiltSeries, FrameSettings, build_series};
use stavel_core::job::Job;
use stavel_core::model::provenance::EmptyBars;
use stavel_core::model::{Clock, Frame, Made, SeriesName, Side};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

use crate::frames_compared::compare_frames;
use crate::frames_told::FramesTold;
use crate::patterns::bases;
use crate::report::StepReport;
use crate::step::{FramesStep, SidesWanted};

/// Builds frames of a series, or of each that a pattern names, by the settings of the step, or again by those each frame
/// was built with.
pub fn build_frames(shelf: &mut Shelf, step: &FramesStep, job: &Job) -> Result<StepReport> {
    if step.compare {
        return compare_frames(shelf, &step.series, job);
    }
    let mut told = FramesTold::default();
    for base in bases(shelf, &step.series)? {
        let mut frames: Vec<Frame> = Vec::new();
        for wanted in &step.frames {
            for frame in wanted.built_from(base.frame, shelf)? {
                if !frames.contains(&frame) {
                    frames.push(frame);
                }
            }
        }
        let of_bars = !base.frame.is_ticks();
        let wants_ticks = of_bars && frames.contains(&Frame::Ticks);
        refuse_mixed(step, wants_ticks)?;
        if wants_ticks {
            frames.retain(|f| !f.is_ticks());
            let seed = step.seed.unwrap_or(1);
            told.rebuilt(&base, seed, &rebuild_series(shelf, &base, step.like.as_ref(), seed, job)?);
        }
        if step.series.exact().is_none() {
            told.leave_out(&base, &mut frames);
        }
        if frames.is_empty() {
            continue;
        }
        for base in bases_of_sides(shelf, &base, step.side)? {
            let built = build_of(shelf, step, &base, &frames, job)?;
            told.built(shelf, &base, &frames, step.clock.as_ref(), &built)?;
        }
    }
    Ok(told.report())
}

/// # Errors
/// Where settings of ticks that are rebuilt and of bars that are built are mixed: one of them would be passed over.
fn refuse_mixed(step: &FramesStep, wants_ticks: bool) -> Result<()> {
    let of_ticks = step.seed.is_some() || step.like.is_some();
    let of_bars = step.clock.is_some() || step.side.is_some() || step.empty.is_some();
    match (wants_ticks, of_ticks, of_bars) {
        (false, true, _) => Err(Error::arguments(
            "A seed and ticks to learn from are for ticks that are rebuilt: name the frame ticks, of a series of bars.",
        )),
        (true, _, true) => Err(Error::arguments(
            "Ticks that are rebuilt have no clock, side or filling of their own; build bars with those in a step by itself.",
        )),
        _ => Ok(()),
    }
}

/// The series that give the sides: ticks have all of them, a series of bars is of one.
///
/// # Errors
/// Where bars are of another side than is wanted.
fn bases_of_sides(shelf: &Shelf, base: &SeriesName, sides: Option<SidesWanted>) -> Result<Vec<SeriesName>> {
    let Some(sides) = sides.filter(|_| !base.frame.is_ticks()) else { return Ok(vec![base.clone()]) };
    let of = |side: &Side| -> Result<SeriesName> {
        let name = SeriesName { side: *side, ..base.clone() };
        let is_it = *side == base.side || *side == Side::Last && base.side == Side::Bid;
        if is_it {
            return Ok(base.clone());
        }
        shelf.find(&name).map(|info| info.name).map_err(|_| {
            Error::input(format!(
                "{base} are bars of the {}, and there is no {name} to build those of the {side} from; build them from ticks.",
                base.side
            ))
        })
    };
    sides.sides().iter().map(of).collect()
}

/// Builds the frames of one series.
fn build_of(
    shelf: &mut Shelf,
    step: &FramesStep,
    base: &SeriesName,
    frames: &[Frame],
    job: &Job,
) -> Result<Vec<BuiltSeries>> {
    let mut all = Vec::new();
    for (settings, frames) in by_settings(shelf, step, base, frames)? {
        let (clock, empty) = (settings.clock.as_ref(), settings.empty);
        let making = FrameSettings { clock, empty, sides: &settings.sides, ..FrameSettings::default() };
        all.extend(build_series(shelf, base, &frames, &making, job)?);
    }
    Ok(all)
}

/// What a frame is built by.
#[derive(Clone, PartialEq)]
struct BuiltBy {
    clock: Option<Clock>,
    sides: Vec<Side>,
    empty: EmptyBars,
}

/// The frames grouped by what they are built by: what the step says, or what each was built by before, where it is to be
/// built again.
fn by_settings(
    shelf: &Shelf,
    step: &FramesStep,
    base: &SeriesName,
    frames: &[Frame],
) -> Result<Vec<(BuiltBy, Vec<Frame>)>> {
    let sides = step.side.filter(|_| base.frame.is_ticks());
    let said = BuiltBy {
        clock: step.clock.clone(),
        sides: sides.map_or_else(|| vec![base.side], |sides| sides.sides().to_vec()),
        empty: step.empty.unwrap_or_default(),
    };
    if !step.again {
        return Ok(vec![(said, frames.to_vec())]);
    }
    let mut out: Vec<(BuiltBy, Vec<Frame>)> = Vec::new();
    for frame in frames {
        let name = base.with_frame(*frame).with_built(true);
        let before = shelf.find(&name).or_else(|_| shelf.find(&base.with_frame(*frame)));
        let by = match before.map(|info| info.edition.provenance.made) {
            Ok(Made::Frames(f)) => BuiltBy {
                clock: f.clock.as_deref().map(str::parse).transpose()?,
                sides: vec![f.side],
                empty: f.empty,
            },
            _ => said.clone(),
        };
        match out.iter_mut().find(|(other, _)| *other == by) {
            Some((_, frames)) => frames.push(*frame),
            None => out.push((by, vec![*frame])),
        }
    }
    Ok(out)
}
