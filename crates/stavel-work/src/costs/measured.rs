//! The spreads of an instrument, measured on one of its series.

use stavel_core::Result;
use stavel_core::job::Job;
use stavel_core::measures::{SpreadMeasurer, SpreadProfile};
use stavel_core::model::{Clock, Field, Instrument, SeriesName, Side, Span, Weight};
use stavel_core::store::{FactFilter, InstrumentFact, SeriesInfo, Shelf, fact_kind};

/// The spreads of a series.
#[derive(Debug, Clone)]
pub struct MeasuredSpreads {
    /// The series they were measured on.
    pub series: SeriesName,
    /// Other series that know spreads.
    pub others: Vec<SeriesName>,
    /// In points of the last decimal of the series.
    pub profile: SpreadProfile,
    /// Decimals of the series, and so of a point.
    pub decimals: u8,
    /// The clock of its hours.
    pub clock: Clock,
    /// True where hours are as written: the clock of the series is not known.
    pub is_afloat: bool,
}

/// Measures the spreads of a series; around events of at least `weight`, where one is said.
///
/// # Errors
/// Where it cannot be read, or the person stops it.
pub fn measure(
    shelf: &Shelf,
    instrument: &Instrument,
    info: &SeriesInfo,
    weight: Option<Weight>,
    job: &Job,
) -> Result<MeasuredSpreads> {
    let is_afloat = info.is_afloat();
    let clock = if is_afloat { Clock::utc() } else { instrument.sheet.session.clock.clone() };
    let events = FactFilter { weight, ..FactFilter::of_kind(fact_kind::EVENT) };
    // Where times are as written, nothing tells which rows lie about an event.
    let events = match is_afloat {
        true => Vec::new(),
        false => {
            let events = shelf.facts_about(&instrument.name, &events)?;
            events.into_iter().filter(InstrumentFact::has_moment).map(|event| event.time).collect()
        }
    };
    let mut measurer = SpreadMeasurer::new(&clock, events);
    job.begin(format!("spreads of {}", info.name), info.edition.rows);
    for piece in shelf.scan(&info.edition, Span::ALL, Some(&SpreadMeasurer::FIELDS))? {
        let piece = piece?;
        job.advance(piece.len() as u64)?;
        measurer.push(&piece);
    }
    let profile = measurer.finish();
    Ok(MeasuredSpreads {
        series: info.name.clone(),
        others: Vec::new(),
        profile,
        decimals: info.edition.scale.price,
        clock,
        is_afloat,
    })
}

/// Measures the series of an instrument that tells most of its spreads: ticks before bars, short bars before long
/// ones, then the one with most rows. None where none knows any.
///
/// # Errors
/// Where a series cannot be read, or the person stops it.
pub fn measured_series(
    shelf: &Shelf,
    instrument: &Instrument,
    weight: Option<Weight>,
    job: &Job,
) -> Result<Option<MeasuredSpreads>> {
    let mut there: Vec<SeriesInfo> =
        shelf.series_of(&instrument.name)?.into_iter().filter(may_know_spreads).collect();
    there.sort_by_key(|info| {
        (info.is_afloat(), info.name.frame.length(), std::cmp::Reverse(info.edition.rows))
    });
    for (i, info) in there.iter().enumerate() {
        let measured = measure(shelf, instrument, info, weight, job)?;
        if measured.profile.all.is_some() {
            let others = there[i + 1..].iter().map(|info| info.name.clone()).collect();
            return Ok(Some(MeasuredSpreads { others, ..measured }));
        }
    }
    Ok(None)
}

/// True for a series of its source's own rows with spreads or both sides of quotes. Bars that were built of others have
/// the spreads of those.
fn may_know_spreads(info: &SeriesInfo) -> bool {
    let fields = &info.edition.fields;
    let knows =
        fields.contains(&Field::Spread) || fields.contains(&Field::Bid) && fields.contains(&Field::Ask);
    let is_own = !info.edition.provenance.made.is_framed() && info.name.side == Side::Bid;
    knows && is_own && !info.name.frame.is_counted()
}
