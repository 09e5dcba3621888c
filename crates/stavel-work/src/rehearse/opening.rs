//! Opening a replay of series on the shelf.

use stavel_core::model::columns::shape_of;
use stavel_core::model::time::rfc3339;
use stavel_core::model::{Field, Instrument, Micros, SeriesName, Shape, Side, Span};
use stavel_core::rehearse::{
    BarEnds, DeskRules, PriceFactor, Replay, Rescaled, RowSource, ShelfRows, SpreadRule, Tape, Traded,
    WithAsk, money_sheet,
};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use super::ask_beside::ask_beside;
use super::depth::{DepthBeside, depth_beside};
use super::rates::{PricedIn, currency_of, rule_for};

/// What is to be played.
pub struct Opening<'a> {
    /// The series; of several of one instrument only the first is dealt in.
    pub series: &'a [SeriesName],
    /// From when to when rows may be played.
    pub span: Span,
    /// The moment to begin with; else the first row there is.
    pub begin: Option<Micros>,
    /// How orders are filled and money is kept.
    pub rules: DeskRules,
    /// The currency of the account, where it was said.
    pub account: Option<&'a str>,
    /// What all prices are multiplied with, in practice of which nothing is to be known.
    pub factor: Option<PriceFactor>,
    /// True where nothing is shown: only prices are read.
    pub prices_only: bool,
    /// The series whose spreads are measured for rows that have none, if the user asked for it.
    pub spread_of: Option<&'a SeriesName>,
}

/// A replay and what it is made of.
pub struct Opened {
    /// The replay.
    pub replay: Replay,
    /// What is played, in the order of the replay's instruments.
    pub played: Vec<PlayedSeries>,
    /// The currency of the account, or `points`.
    pub currency: String,
    /// What all prices are multiplied with.
    pub factor: Option<PriceFactor>,
    /// The moment at which it begins.
    pub began: Micros,
    /// What a careful person would look at.
    pub doubts: Vec<String>,
}

/// A series that is played.
pub struct PlayedSeries {
    /// The series, as it is on the shelf.
    pub info: SeriesInfo,
    /// Its instrument.
    pub instrument: Instrument,
    /// True where nobody has said what a step of the price is worth: profit is in points then.
    pub in_points: bool,
    /// The bars of the ask that are played beside those of the bid.
    pub ask: Option<SeriesInfo>,
    /// The recorded order book that is played beside it.
    pub depth: Option<DepthBeside>,
}

impl Opened {
    /// The bars of the ask and the order books that are played beside the series, with the numbers of their editions.
    pub fn beside(&self) -> Vec<(SeriesName, i64)> {
        let of = |one: &PlayedSeries| [one.ask.clone(), one.depth.as_ref().map(|depth| depth.info.clone())];
        let beside = self.played.iter().flat_map(of).flatten();
        beside.map(|info| (info.name, info.edition.number)).collect()
    }
}

impl PlayedSeries {
    /// What the quotes of it are made of, where they are not all recorded; it stands on the screen all the time.
    pub fn rebuilt(&self) -> Option<&'static str> {
        match shape_of(&self.info.edition.fields) {
            Shape::Quotes | Shape::Trades => None,
            Shape::Layered => {
                Some("layers: recorded ticks where there are some, elsewhere bars rebuilt to ticks")
            }
            Shape::Bars | Shape::Depth => {
                Some("bars rebuilt to ticks: only open and close have a known time")
            }
        }
    }
}

/// Opens a replay.
///
/// # Errors
/// Where a series cannot be played; a question, where the money of the account or a spread is not known.
pub fn open_replay(shelf: &Shelf, opening: &Opening<'_>) -> Result<Opened> {
    let mut played: Vec<PlayedSeries> = Vec::new();
    let (all, mut doubts) = (shelf.series()?, Vec::new());
    for name in opening.series {
        let info = shelf.find(name)?;
        refuse(&info, name)?;
        if played.iter().any(|other| other.info.name.instrument == name.instrument) {
            return Err(Error::arguments(format!(
                "{} is named twice; only one of its series can be dealt in.",
                name.instrument
            )));
        }
        let instrument = shelf.instrument(&name.instrument)?;
        let (_, in_points) = money_sheet(&instrument, info.edition.scale.price);
        let depth = depth_beside(&all, &info, &instrument, opening.rules.depth, &mut doubts);
        let ask = ask_beside(&all, &info, &mut doubts);
        played.push(PlayedSeries { info, instrument, in_points, ask, depth });
    }
    let priced: Vec<PricedIn> = played.iter().map(priced_in).collect();
    // A single instrument needs no name for its money; money of several, or of an account, does.
    if let Some(one) =
        priced.iter().find(|one| one.quote.is_empty() && (priced.len() > 1 || opening.account.is_some()))
    {
        let name = &one.name;
        return Err(Error::undecided(format!(
            "Nobody has said in which currency {name} is priced: stavel compose {name} --set quote=…"
        )));
    }
    let currency = currency_of(opening.account, &priced)?;
    let is_points = |one: &&PlayedSeries| one.in_points && currency != "points";
    if let Some(one) = played.iter().find(is_points) {
        let name = &one.instrument.name;
        return Err(Error::undecided(format!(
            "Nobody has said what a step of the price of {name} is worth, so it has no money in {currency}: stavel compose {name} --set tick_size=… --set tick_value=…"
        )));
    }
    let span = bounded(&played, opening.span)?;
    let from = opening.begin.unwrap_or(opening.span.from);
    let (mut tapes, mut traded, mut books) = (Vec::new(), Vec::new(), Vec::new());
    for (of, one) in played.iter().enumerate() {
        let info = &one.info;
        let spreads = spreads_for(shelf, one, opening, &mut doubts)?;
        let source = source_of(shelf, one, opening)?;
        let ends = BarEnds::new(info.name.frame, &one.instrument.sheet.session);
        let tape = Tape::new(source, ends, spreads, Span::new(from, opening.span.to))?;
        let decimals = info.edition.scale.price;
        let (sheet, _) = money_sheet(&one.instrument, decimals);
        let rate = rule_for(shelf, of, &priced, &currency, span, &mut doubts)?;
        let book = |depth: &DepthBeside| depth.tape(shelf, decimals, &one.instrument, opening.factor);
        books.push(one.depth.as_ref().map(book).transpose()?);
        let patience = tape.patience();
        traded.push(Traded { name: one.instrument.name.clone(), sheet, decimals, rate, patience });
        tapes.push(tape);
    }
    let replay = Replay::new(tapes, traded, opening.rules.clone())?.with_books(books)?;
    let began = replay.desk().now();
    Ok(Opened { replay, played, currency, factor: opening.factor, began, doubts })
}

/// The spreads of a series that is replayed: its own, or those measured on the series that was named for it.
fn spreads_for(
    shelf: &Shelf,
    one: &PlayedSeries,
    opening: &Opening<'_>,
    doubts: &mut Vec<String>,
) -> Result<SpreadRule> {
    let (info, sheet) = (&one.info, &one.instrument.sheet);
    let own = SpreadRule::of(shelf, info, one.ask.as_ref(), sheet, begin_of(opening))?;
    let Some(other) = opening.spread_of.filter(|_| own.is_unknown()) else { return Ok(own) };
    if other.instrument != info.name.instrument {
        return Ok(own);
    }
    let other = shelf.find(other)?;
    let measured = SpreadRule::measured_on(shelf, &other, info, sheet, begin_of(opening))?;
    if measured.is_unknown() {
        return Err(Error::input(format!("No row of {} has a spread. Name another series.", other.name)));
    }
    let ahead = if measured.looks_ahead() { ", over all its rows" } else { "" };
    doubts.push(format!(
        "spread assumed: the median of its hour of the week, measured on {}{ahead}",
        other.name.short()
    ));
    Ok(measured)
}

/// The series of the same instrument on which a spread can be measured: ticks first, then the shortest bars; `None` if no
/// other series has spreads.
///
/// # Errors
/// If the catalog cannot be read.
pub fn spread_source(shelf: &Shelf, name: &SeriesName) -> Result<Option<SeriesName>> {
    let has_spreads = |info: &SeriesInfo| {
        let has = |field| info.edition.fields.contains(&field);
        has(Field::Spread) || has(Field::Bid) && has(Field::Ask)
    };
    let mut all = shelf.series_of(&name.instrument)?;
    all.retain(|info| {
        let is_usable = !info.is_afloat() && !info.name.frame.is_counted() && info.name.side == Side::Bid;
        info.name != *name && is_usable && has_spreads(info)
    });
    Ok(all.into_iter().min_by_key(|info| info.name.frame.length()).map(|info| info.name))
}

/// The rows that are played of a series.
fn source_of(shelf: &Shelf, one: &PlayedSeries, opening: &Opening<'_>) -> Result<Box<dyn RowSource>> {
    // A bar that is open at the beginning began before it.
    let readable = Span::new(Micros::MIN, opening.span.to);
    let reader = shelf.reader(&one.info.edition)?;
    let rows = match opening.prices_only {
        true => ShelfRows::prices_only(reader, readable),
        false => ShelfRows::new(reader, readable),
    };
    let scale = one.info.edition.scale;
    let source: Box<dyn RowSource> = match &one.ask {
        Some(ask) => {
            let asks = ShelfRows::prices_only(shelf.reader(&ask.edition)?, readable);
            Box::new(WithAsk::new((rows, scale), (asks, ask.edition.scale))?)
        }
        None => Box::new(rows),
    };
    Ok(match opening.factor {
        Some(factor) => Box::new(Rescaled::new(source, factor)),
        None => source,
    })
}

/// The moment at which playing begins, where it was said.
fn begin_of(opening: &Opening<'_>) -> Option<Micros> {
    opening.begin.or(Some(opening.span.from).filter(|from| *from > Micros::MIN))
}

fn refuse(info: &SeriesInfo, name: &SeriesName) -> Result<()> {
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{name} is afloat: its session days are not known; align it first."
        )));
    }
    if shape_of(&info.edition.fields) == Shape::Depth {
        return Err(Error::input(
            "Depth rows alone cannot be played; name the ticks or bars of the instrument.",
        ));
    }
    Ok(())
}

fn priced_in(one: &PlayedSeries) -> PricedIn {
    let decimals = one.info.edition.scale.price;
    let (sheet, in_points) = money_sheet(&one.instrument, decimals);
    PricedIn {
        name: one.instrument.name.clone(),
        base: sheet.base.clone(),
        quote: sheet.quote.clone(),
        decimals,
        is_pair: !in_points && one.instrument.values.get("kind").is_some_and(|kind| kind == "forex"),
    }
}

/// The part of a span in which one of the series has rows.
///
/// # Errors
/// Where none has: the nearest time that has some is named.
fn bounded(played: &[PlayedSeries], span: Span) -> Result<Span> {
    let whole = |one: &PlayedSeries| {
        let edition = &one.info.edition;
        Span::new(edition.first, edition.last + one.info.name.frame.length().max(1))
    };
    let parts: Vec<Span> = played.iter().filter_map(|one| whole(one).overlap(&span)).collect();
    let ends = parts.iter().map(|p| p.from).min().zip(parts.iter().map(|p| p.to).max());
    ends.map(|(from, to)| Span::new(from, to)).ok_or_else(|| nothing_in(played, span))
}

/// Says that there is nothing to play in a span, and where the nearest data are.
fn nothing_in(played: &[PlayedSeries], span: Span) -> Error {
    let nearest = |one: &PlayedSeries| {
        let edition = &one.info.edition;
        if span.to <= edition.first { edition.first } else { edition.last }
    };
    let distance =
        |t: &Micros| if *t >= span.to { t.saturating_sub(span.to) } else { span.from.saturating_sub(*t) };
    let times = played.iter().map(nearest).min_by_key(distance);
    let names: Vec<String> = played.iter().map(|one| one.info.name.to_string()).collect();
    Error::input(format!(
        "{} has nothing to play in that span; the nearest data are at {}.",
        names.join(", "),
        times.map(rfc3339).unwrap_or_default()
    ))
}
