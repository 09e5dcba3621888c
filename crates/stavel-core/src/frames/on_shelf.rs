//! Building frames on the shelf.

use super::{Builder, Built};
use crate::job::Job;
use crate::model::provenance::Framing;
use crate::model::{Clock, Field, Frame, Input, Instrument, Made, Provenance, SeriesName, Side, Span};
use crate::store::{Origin, SeriesInfo, Shelf, ahead};
use crate::{Error, Result};

/// A series of bars that was built.
pub struct BuiltSeries {
    pub info: SeriesInfo,
    pub partial_first: bool,
    pub partial_last: bool,
}

/// Bars of a frame out of a series' rows in a span, without writing them.
///
/// # Errors
/// Where the series is afloat or the frame cannot be made of it.
pub fn build_rows(
    shelf: &Shelf,
    info: &SeriesInfo,
    frame: Frame,
    clock: Option<&Clock>,
    side: Side,
    span: Span,
    job: &Job,
) -> Result<Built> {
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{} is afloat: without a clock its days are not known; align it first.",
            info.name
        )));
    }
    let mut session = shelf.instrument(&info.name.instrument)?.sheet.session;
    if let Some(clock) = clock {
        session.clock = clock.clone();
    }
    let edition = &info.edition;
    let mut builder = Builder::new(info.name.frame, frame, side, &edition.fields, edition.scale, &session)?;
    let other_volume = if side == Side::Ask { Field::BidVolume } else { Field::AskVolume };
    let fields: Vec<Field> = edition.fields.iter().copied().filter(|f| *f != other_volume).collect();
    for rows in ahead(shelf.scan(edition, span, Some(&fields))?) {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        builder.push(&rows);
    }
    Ok(builder.finish())
}

/// Builds bars of a frame out of a series into a series of their own.
///
/// # Errors
/// As [`build_rows`].
pub fn build_series(
    shelf: &mut Shelf,
    name: &SeriesName,
    frame: Frame,
    clock: Option<&Clock>,
    side: Side,
    job: &Job,
) -> Result<BuiltSeries> {
    let info = shelf.find(name)?;
    job.begin(format!("frames {frame} of {name}"), info.edition.rows);
    let built = build_rows(shelf, &info, frame, clock, side, Span::ALL, job)?;
    // A tick series has both sides; a bar series has the side it has.
    let side = if name.frame.is_ticks() && side != Side::Last { side } else { name.side };
    let target = SeriesName { frame, side, built: true, ..name.clone() };
    let framing = Framing {
        frame,
        side,
        clock: clock.map(Clock::to_string),
        partial_first: built.partial_first,
        partial_last: built.partial_last,
    };
    let mut inputs = vec![Input::Edition { id: info.edition.id, series: info.name.clone() }];
    let sheet = shelf.instrument(&info.name.instrument)?;
    // A clock that was said is a setting of its own.
    let keys = Instrument::SESSION.into_iter().filter(|key| clock.is_none() || *key != "clock");
    inputs.extend(sheet.inputs(&keys.collect::<Vec<_>>()));
    let origin = Origin {
        provenance: Provenance::of(Made::Frames(framing)).reading(inputs),
        clock: info.edition.clock.clone(),
        fields: built.bars.fields.clone(),
        scale: built.bars.scale,
    };
    let mut draft = shelf.draft(&target, origin)?;
    draft.push(built.bars.clone())?;
    let made = draft.commit()?;
    Ok(BuiltSeries { info: made, partial_first: built.partial_first, partial_last: built.partial_last })
}
