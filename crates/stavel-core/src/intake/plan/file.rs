//! What is decided about one file, by what was seen of it and what was said.

use super::decisions::{self, ClockFrom};
use super::seen::Seen;
use super::{EACH, IntakePreview};
use crate::intake::bring::Member;
use crate::intake::preview::preview;
use crate::intake::{ClockHint, Hints, grid, later, stamp};
use crate::model::Stamp;
use crate::model::layout::{Layout, Use};
use crate::model::{Clock, Decision, Frame, Scale, SeriesName, Shape, Side, columns, series};
use crate::store::Shelf;
use crate::{Advice, Error, Result, Setting};

/// One file, and all that is decided about it.
pub(super) struct FilePlan {
    pub member: Member,
    pub layout: Layout,
    pub series: SeriesName,
    /// True where a column names the instrument of each row.
    pub by_symbol: bool,
    pub scale: Scale,
    /// None for afloat.
    pub clock: Option<Clock>,
    pub clock_from: ClockFrom,
    /// The end of a bar that its time names, and how it was found; none where this file does not tell.
    pub stamp: Option<(Stamp, String)>,
    pub decisions: Vec<Decision>,
    pub preview: IntakePreview,
}

impl FilePlan {
    /// Decides about a file.
    ///
    /// # Errors
    /// A question, where the file leaves something open; one sentence, where what was said does not fit it.
    pub fn decide(shelf: &Shelf, seen: Seen, hints: &Hints) -> Result<FilePlan> {
        let by_symbol = seen.layout.columns.contains(&Use::Symbol) && hints.instrument.is_none();
        let series = name_of(&seen, hints, by_symbol)?;
        let price = hints.decimals.unwrap_or(seen.layout.price_decimals);
        let scale = Scale { price, volume: seen.layout.volume_decimals };
        let (clock, clock_from) = clock_of(shelf, &series, &seen, hints)?;
        let stamp = match (series.frame.is_bars(), hints.stamp) {
            (false, _) => None,
            (true, Some(stamp)) => Some((stamp, "it was said so".to_owned())),
            (true, None) if seen.layout.writing.stamp.is_some() => {
                seen.layout.writing.stamp.map(|stamp| (stamp, "the layout says so".to_owned()))
            }
            (true, None) if seen.has_hour_24() => {
                Some((Stamp::Close, "midnights are written as 24:00".to_owned()))
            }
            (true, None) => stamp::find(shelf, &series, clock.as_ref(), &seen.rows, &seen.scanned)?,
        };
        let decided = [
            Some(decisions::of_clock(clock.as_ref(), clock_from)),
            Some(decisions::of_frame(&series, &seen, hints)),
            Some(decisions::of_decimals(price, hints)),
            decisions::of_side(&series, &seen, hints),
            decisions::of_spreads(&seen),
        ];
        Ok(FilePlan {
            series,
            by_symbol,
            scale,
            clock,
            clock_from,
            stamp,
            decisions: decided.into_iter().flatten().collect(),
            preview: IntakePreview {
                lines: preview(&seen.sample, &seen.layout, scale),
                rows: seen.rows,
                why: seen.why,
                dates_from: seen.dates.map(|d| d.why).unwrap_or_default(),
                scanned: seen.scanned,
            },
            member: seen.member,
            layout: seen.layout,
        })
    }
}

fn name_of(seen: &Seen, hints: &Hints, by_symbol: bool) -> Result<SeriesName> {
    let place = seen.member.place();
    let instrument = match (&hints.instrument, by_symbol) {
        (Some(name), _) => name.clone(),
        (None, true) => EACH.to_owned(),
        (None, false) => seen.named.instrument.clone().ok_or_else(|| {
            Error::undecided(format!("The instrument of {place} cannot be told from its name; say it."))
                .advise(Advice::Say(Setting::Instrument))
        })?,
    };
    series::check_name("instrument", &instrument)?;
    let shape = columns::shape_of(&seen.layout.fields());
    let frame = frame_of(seen, hints, shape)?;
    let side = match hints.side.or(seen.side) {
        Some(side @ (Side::Ask | Side::Mid)) if shape == Shape::Bars => side,
        _ => Side::Bid,
    };
    Ok(SeriesName { instrument, source: hints.source.clone(), frame, side, built: false })
}

fn frame_of(seen: &Seen, hints: &Hints, shape: Shape) -> Result<Frame> {
    let place = seen.member.place();
    let kind = match shape {
        Shape::Bars => "bars",
        Shape::Depth => "rows of the order book",
        Shape::Quotes | Shape::Trades | Shape::Layered => "ticks",
    };
    match (hints.frame.or(seen.named.frame), shape) {
        (Some(frame), Shape::Bars) if frame.is_bars() => Ok(frame),
        (Some(Frame::Ticks) | None, Shape::Quotes | Shape::Trades) => Ok(Frame::Ticks),
        (Some(Frame::Depth) | None, Shape::Depth) => Ok(Frame::Depth),
        (Some(frame), _) => Err(Error::arguments(format!("{place} holds {kind}, so it cannot be {frame}."))),
        (None, Shape::Layered) => Err(Error::input(format!("{place} holds layers, which are not taken in."))),
        (None, Shape::Bars) => grid::frame_of(&seen.rows.time).filter(|f| f.length() > 0).ok_or_else(|| {
            Error::undecided(format!("The frame of {place} cannot be told from its times; say it."))
                .advise(Advice::Say(Setting::Frame))
        }),
    }
}

fn clock_of(
    shelf: &Shelf,
    name: &SeriesName,
    seen: &Seen,
    hints: &Hints,
) -> Result<(Option<Clock>, ClockFrom)> {
    let layout = &seen.layout;
    let there = shelf.current_own(name)?;
    if let (true, Some(ClockHint::Known(said))) = (layout.is_zoned, &hints.clock)
        && *said != Clock::utc()
    {
        return Err(Error::arguments(format!(
            "The times for {name} name their own zones, so they are no times of {said}; say no clock."
        ))
        .advise(Advice::Say(Setting::Clock)));
    }
    let (clock, from) = match (&hints.clock, &there) {
        (Some(ClockHint::Known(clock)), _) => (Some(clock.clone()), ClockFrom::Said),
        (Some(ClockHint::Afloat), _) => (None, ClockFrom::Said),
        (None, _) if layout.says_utc => (Some(Clock::utc()), ClockFrom::File),
        (None, _) if layout.clock.is_some() => (layout.clock.clone(), ClockFrom::Layout),
        (None, Some(info)) => {
            later::may_go_on(shelf, info, &seen.scanned, &seen.member.place())?;
            (info.edition.clock.clone(), ClockFrom::Series)
        }
        (None, None) => (None, ClockFrom::Nothing),
    };
    match there {
        Some(info) if info.is_afloat() != clock.is_none() && !hints.replace => {
            Err(Error::arguments(format!(
                "{name} is {} and these rows would be {}; {}.",
                if info.is_afloat() { "afloat" } else { "anchored" },
                if clock.is_none() { "afloat" } else { "in UTC" },
                if info.is_afloat() {
                    "align the series first, or take them in afloat"
                } else {
                    "say their clock"
                }
            ))
            .advise(Advice::Say(Setting::Clock)))
        }
        Some(info) if hints.replace => {
            later::may_replace(&info, clock.as_ref(), seen.scanned.ends)?;
            Ok((clock, from))
        }
        _ => Ok((clock, from)),
    }
}
