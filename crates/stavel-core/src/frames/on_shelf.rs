//! Building frames on the shelf.

use rayon::prelude::*;

use super::fill::filled;
use super::{Builder, Built};
use crate::job::Job;
use crate::model::provenance::{EmptyBars, Framing};
use crate::model::{Clock, Field, Frame, Input, Instrument, Made, Provenance, SeriesName, Side, Span};
use crate::store::{Origin, SeriesInfo, Shelf, ahead};
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
    /// Which price of ticks makes the bars.
    pub side: Side,
    /// The rows that are wanted, by time.
    pub span: Span,
    /// What becomes of bars without rows.
    pub empty: EmptyBars,
}

impl Default for FrameSettings<'_> {
    fn default() -> Self {
        FrameSettings { clock: None, side: Side::Bid, span: Span::ALL, empty: EmptyBars::Skip }
    }
}

/// Bars of one frame out of a series' rows, without writing them.
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
    let built = build_rows(shelf, info, &[frame], making, job)?.pop();
    built.ok_or_else(|| Error::arguments("Say which frame is to be built."))
}

/// Bars of frames out of a series' rows in a span, without writing them: of each frame, in the order given,
/// all out of one reading of the rows.
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
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{} is afloat: without a clock its days are not known; align it first.",
            info.name
        )));
    }
    let mut session = shelf.instrument(&info.name.instrument)?.sheet.session;
    if let Some(clock) = making.clock {
        session.clock = clock.clone();
    }
    let (edition, from, side) = (&info.edition, info.name.frame, making.side);
    let builder = |frame: &Frame| Builder::new(from, *frame, side, &edition.fields, edition.scale, &session);
    let mut builders: Vec<Builder> = frames.iter().map(builder).collect::<Result<_>>()?;
    let other_volume = if side == Side::Ask { Field::BidVolume } else { Field::AskVolume };
    let fields: Vec<Field> = edition.fields.iter().copied().filter(|f| *f != other_volume).collect();
    for rows in ahead(shelf.scan(edition, making.span, Some(&fields))?) {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        builders.par_iter_mut().for_each(|builder| builder.push(&rows));
    }
    let finish = |(builder, frame): (Builder, &Frame)| {
        let mut built = builder.finish();
        if making.empty == EmptyBars::Fill {
            (built.bars, built.filled) = filled(built.bars, *frame, &session);
        }
        built
    };
    Ok(builders.into_iter().zip(frames).map(finish).collect())
}

/// Builds bars of frames out of all rows of a series, each into a series of its own.
///
/// # Errors
/// As [`build_rows`].
pub fn build_series(
    shelf: &mut Shelf,
    name: &SeriesName,
    frames: &[Frame],
    making: &FrameSettings<'_>,
    job: &Job,
) -> Result<Vec<BuiltSeries>> {
    let info = shelf.find(name)?;
    let words: Vec<String> = frames.iter().map(Frame::to_string).collect();
    job.begin(format!("frames {} of {name}", words.join(" ")), info.edition.rows);
    let built = build_rows(shelf, &info, frames, making, job)?;
    frames.iter().zip(built).map(|(frame, built)| store(shelf, &info, *frame, making, built)).collect()
}

/// Puts built bars on the shelf.
fn store(
    shelf: &mut Shelf,
    info: &SeriesInfo,
    frame: Frame,
    making: &FrameSettings<'_>,
    built: Built,
) -> Result<BuiltSeries> {
    let (clock, side, empty) = (making.clock, making.side, making.empty);
    // A tick series has both sides; a bar series has the side it has.
    let name = &info.name;
    let side = if name.frame.is_ticks() && side != Side::Last { side } else { name.side };
    let target = SeriesName { frame, side, built: true, ..name.clone() };
    let (partial_first, partial_last) = (built.partial_first, built.partial_last);
    let framing =
        Framing { frame, side, clock: clock.map(Clock::to_string), partial_first, partial_last, empty };
    let mut inputs = vec![Input::Edition { id: info.edition.id, series: name.clone() }];
    let sheet = shelf.instrument(&name.instrument)?;
    // A clock that was said is a setting of its own.
    let keys = Instrument::DAYS.into_iter().filter(|key| clock.is_none() || *key != "clock");
    inputs.extend(sheet.inputs(&keys.collect::<Vec<_>>()));
    let origin = Origin {
        provenance: Provenance::of(Made::Frames(framing)).reading(inputs),
        clock: info.edition.clock.clone(),
        fields: built.bars.fields.clone(),
        scale: built.bars.scale,
    };
    let mut draft = shelf.draft(&target, origin)?;
    draft.push(built.bars)?;
    let (on_closed_days, too_large, filled) = (built.on_closed_days, built.too_large, built.filled);
    Ok(BuiltSeries { info: draft.commit()?, partial_first, partial_last, on_closed_days, too_large, filled })
}
