//! Rebuilding the ticks of a series of bars on the shelf.

use super::path::USUAL_TICKS;
use super::{PathError, PathMeasure, PathShape, Rebuilder};
use crate::job::Job;
use crate::model::instrument::InstrumentKind;
use crate::model::provenance::Rebuilding;
use crate::model::{
    Columns, Field, Frame, Input, Instrument, Made, Micros, Provenance, SeriesName, Session, Shape, Side,
    Span,
};
use crate::store::{Origin, SeriesInfo, Shelf, ahead};
use crate::{Error, Result};

/// Bars whose ticks are made at once.
const BARS_AT_ONCE: usize = 2_000;

/// Ticks that were rebuilt.
pub struct RebuiltSeries {
    /// The series of ticks.
    pub info: SeriesInfo,
    /// What was measured, on which ticks.
    pub measured: Option<MeasuredOn>,
    /// What says how many ticks a bar has.
    pub ticks_from: TicksFrom,
    /// Bars that know no spread, though others do: their ticks have no ask.
    pub no_spread: u64,
}

/// What says how many ticks a bar has, where the bar itself says enough; else it is the next of these.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TicksFrom {
    /// A count of ticks of its own.
    Counted,
    /// Its volume, which counts ticks in most bars of currencies, metals and indices. Nobody has said so.
    Volume,
    /// The mean of the real ones that were measured.
    Mean(u64),
    /// Nothing: a usual number.
    Usual(u64),
}

/// What ticks of the same instrument said.
#[derive(Clone)]
pub struct MeasuredOn {
    /// The ticks.
    pub on: SeriesName,
    /// Bars they make.
    pub bars: u64,
    /// How far ticks that are rebuilt by them are from them.
    pub error: Option<PathError>,
}

/// Makes ticks of a series of bars. The order of high and low is measured on `like`, or on the ticks of the same instrument
/// that the shelf has most of; without any it is that of a random walk.
///
/// # Errors
/// Where the bars are afloat, of the ask or the mid, or bars that were counted; where `like` has no ticks of its own.
pub fn rebuild_series(
    shelf: &mut Shelf,
    name: &SeriesName,
    like: Option<&SeriesName>,
    seed: u64,
    job: &Job,
) -> Result<RebuiltSeries> {
    let info = shelf.find(name)?;
    refuse(&info)?;
    let instrument = shelf.instrument(&name.instrument)?;
    let session = &instrument.sheet.session;
    let like = match like {
        Some(like) => Some(ticks_to_learn_from(shelf, like)?),
        None => found_ticks(shelf, name)?,
    };
    let step = |info: &SeriesInfo| instrument.sheet.tick_points(info.edition.scale.price).unwrap_or(1);
    let (shape, measured) = match &like {
        Some(like) => {
            let (shape, error) = measure(shelf, like, name.frame, session, (step(like), seed), job)?;
            let measured = MeasuredOn { on: like.name.clone(), bars: shape.bars(), error };
            (shape, Some(measured))
        }
        None => (PathShape::default(), None),
    };
    let fields = &info.edition.fields;
    let ticks_from = match shape.ticks_of_a_bar() {
        _ if fields.contains(&Field::TickCount) => TicksFrom::Counted,
        _ if counts_ticks(&instrument, &info) => TicksFrom::Volume,
        Some(mean) => TicksFrom::Mean(mean),
        None => TicksFrom::Usual(USUAL_TICKS),
    };
    let mut rebuilder = Rebuilder::new(name.frame, fields, session, shape, step(&info), seed);
    if ticks_from == TicksFrom::Volume {
        rebuilder = rebuilder.with_volume_as_ticks(name.frame);
    }
    let made = Rebuilding {
        seed,
        like: like.as_ref().map(|like| like.name.clone()),
        bars: measured.as_ref().map_or(0, |m| m.bars),
        error: measured.as_ref().and_then(|m| m.error),
    };
    let mut inputs = vec![Input::Edition { id: info.edition.id, series: info.name.clone() }];
    inputs.extend(like.map(|like| Input::Edition { id: like.edition.id, series: like.name }));
    inputs.extend(instrument.inputs(&[&Instrument::SESSION[..], &["tick_size", "kind"]].concat()));
    let origin = Origin {
        provenance: Provenance::of(Made::Rebuild(Box::new(made))).reading(inputs),
        clock: info.edition.clock.clone(),
        fields: rebuilder.fields().to_vec(),
        scale: info.edition.scale,
    };
    let info = write(shelf, &info, &mut rebuilder, origin, job)?;
    Ok(RebuiltSeries { info, measured, ticks_from, no_spread: rebuilder.no_spread() })
}

/// # Errors
/// Where ticks cannot be made of a series.
fn refuse(info: &SeriesInfo) -> Result<()> {
    let name = &info.name;
    let why = if !name.frame.is_bars() {
        format!("{name} has no bars; ticks are rebuilt from bars")
    } else if name.frame.is_counted() {
        format!("bars of {} know no time of their own; rebuild from bars of minutes", name.frame)
    } else if matches!(name.side, Side::Ask | Side::Mid) {
        format!(
            "{name} are bars of the {}; rebuild from those of the bid, which know their spread",
            name.side
        )
    } else if info.is_afloat() {
        format!("{name} is afloat; align it first")
    } else {
        return Ok(());
    };
    Err(Error::input(format!("No ticks were rebuilt: {why}.")))
}

fn is_real(info: &SeriesInfo) -> bool {
    let is_ticks = info.name.frame.is_ticks() && !info.is_afloat();
    let is_whole =
        matches!(crate::model::columns::shape_of(&info.edition.fields), Shape::Quotes | Shape::Trades);
    is_ticks && is_whole && !matches!(info.edition.provenance.made, Made::Rebuild(_))
}

fn ticks_to_learn_from(shelf: &Shelf, like: &SeriesName) -> Result<SeriesInfo> {
    let info = shelf.find(like)?;
    if is_real(&info) {
        return Ok(info);
    }
    Err(Error::input(format!(
        "{like} has no real ticks with a known clock to learn from; name a series of ticks, or leave --like away."
    )))
}

/// The real ticks of an instrument that the shelf has most of; those of the same source come first.
fn found_ticks(shelf: &Shelf, name: &SeriesName) -> Result<Option<SeriesInfo>> {
    let all = shelf.series_of(&name.instrument)?.into_iter().filter(is_real);
    Ok(all.max_by_key(|s| (s.name.source == name.source, s.edition.rows)))
}

fn measure(
    shelf: &Shelf,
    like: &SeriesInfo,
    frame: Frame,
    session: &Session,
    (step, seed): (i64, u64),
    job: &Job,
) -> Result<(PathShape, Option<PathError>)> {
    job.begin(format!("measure {} in bars of {frame}", like.name), like.edition.rows);
    let field = if like.edition.fields.contains(&Field::Bid) { Field::Bid } else { Field::Last };
    let mut measure = PathMeasure::new(frame, session);
    for rows in ahead(shelf.scan(&like.edition, Span::ALL, Some(&[field]))?) {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        measure.push(&rows);
    }
    Ok(measure.finish(step, seed))
}

/// True where the volume of bars may count their ticks, as it does in most of the trade's bars of currencies, metals and
/// indices: it is there, and whole.
fn counts_ticks(instrument: &Instrument, info: &SeriesInfo) -> bool {
    let counts = [InstrumentKind::Forex, InstrumentKind::Metal, InstrumentKind::Index];
    counts.contains(&instrument.sheet.kind)
        && info.edition.scale.volume == 0
        && info.edition.fields.contains(&Field::Volume)
}

fn write(
    shelf: &mut Shelf,
    info: &SeriesInfo,
    rebuilder: &mut Rebuilder,
    origin: Origin,
    job: &Job,
) -> Result<SeriesInfo> {
    job.begin(format!("ticks of {}", info.name), info.edition.rows);
    let pieces = ahead(shelf.scan(&info.edition, Span::ALL, None)?);
    let target = info.name.with_frame(Frame::Ticks);
    let mut draft = shelf.draft(&target, origin)?;
    let mut waiting: Option<Columns> = None;
    let mut put = |rows: &Columns, next: Option<Micros>| -> Result<()> {
        for from in (0..rows.len()).step_by(BARS_AT_ONCE) {
            let to = (from + BARS_AT_ONCE).min(rows.len());
            let after = rows.time.get(to).copied().or(next);
            let ticks = rebuilder.ticks(&rows.rows(from..to), after);
            job.advance((to - from) as u64)?;
            if !ticks.is_empty() {
                draft.push(ticks)?;
            }
        }
        Ok(())
    };
    for piece in pieces {
        let piece = piece?;
        if let Some(rows) = waiting.replace(piece) {
            put(&rows, waiting.as_ref().and_then(|w| w.time.first().copied()))?;
        }
    }
    if let Some(rows) = waiting {
        put(&rows, None)?;
    }
    draft.commit()
}
