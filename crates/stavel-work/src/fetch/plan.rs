//! Which pieces of which series are to be fetched, and which are here.

use std::collections::{BTreeMap, BTreeSet};

use stavel_core::model::time::{DAY, Micros, day_of, parse};
use stavel_core::model::{Clock, SeriesPattern, Span};
use stavel_core::store::{FeedPiece, PieceState, Shelf};
use stavel_core::{Error, Result};
use stavel_feed::client::{Feed, ListedSeries, Piece, PieceLength, QueuedPiece, Service, listing, pieces};

use super::feeds::feeds;
use crate::step::FetchStep;

/// How long after its end a piece of which a feed had nothing is looked at again, once a day: a day may come late. Time
/// is that of the feed, which is the end of what it has.
const LATE: Micros = 14 * DAY;

/// What is to be fetched from one feed.
pub struct FeedPlan {
    pub feed: Feed,
    pub service: Service,
    pub series: Vec<SeriesPlan>,
    /// What is here gives way to what is fetched.
    pub again: bool,
}

/// What is to be fetched of one series.
pub struct SeriesPlan {
    pub listed: ListedSeries,
    pub queue: Vec<QueuedPiece>,
    /// Pieces of the span that are here, or that the feed does not have.
    pub here: usize,
    /// The end of what the feed has, on its wall: a piece that reaches beyond it is not finished.
    pub end: Micros,
    /// The id of the edition that is here; 0 for none.
    pub edition: i64,
    /// Where more was asked for than the feed has: since when it has it, on its wall.
    pub since: Option<Micros>,
    /// Where only what the feed does not have yet was asked for: until when it has it, on its wall.
    pub until: Option<Micros>,
}

/// Asks the feeds of the series what they have, and plans what to fetch.
///
/// # Errors
/// Where no feed has a series, or one cannot be asked.
pub fn plan(
    shelf: &Shelf,
    step: &FetchStep,
    now: Micros,
    is_cancelled: &dyn Fn() -> bool,
) -> Result<Vec<FeedPlan>> {
    let all = feeds(shelf)?;
    let (from, to) =
        (step.from.as_deref().map(parse).transpose()?, step.to.as_deref().map(parse).transpose()?);
    if from.zip(to).is_some_and(|(from, to)| from >= to) {
        return Err(Error::arguments("--from lies at or after --to, so nothing lies between them."));
    }
    if step.again && from.is_none() && to.is_none() && step.last.is_none() {
        return Err(Error::arguments(
            "--again asks for everything anew; say from when on: --from, --to or --last.",
        ));
    }
    if let Some(pattern) = step.series.iter().find(|pattern| !pattern.has_frame()) {
        return Err(Error::arguments(format!(
            "{pattern} says no frame, and ticks are many times more than minutes; write {pattern}:ticks, {pattern}:1m or {pattern}:*."
        )));
    }
    let mut plans = Vec::new();
    let mut is_found = vec![false; step.series.len()];
    for feed in all.iter().filter(|feed| step.series.iter().any(|s| is_of_feed(s, feed))) {
        let service = Service::of(feed)?;
        let listed = listing(&service, is_cancelled)?;
        let mut series = Vec::new();
        for one in listed.iter().flat_map(|listed| &listed.series) {
            let mut wanted = false;
            for (pattern, found) in step.series.iter().zip(&mut is_found) {
                let matches = pattern.matches(&one.name);
                (wanted, *found) = (wanted | matches, *found | matches);
            }
            if wanted {
                series.push(series_plan(shelf, feed, one, step, now)?);
            }
        }
        plans.push(FeedPlan { feed: feed.clone(), service, series, again: step.again });
    }
    match is_found.iter().position(|found| !found) {
        Some(at) => Err(missing(&step.series[at], &all)),
        None => Ok(plans),
    }
}

fn is_of_feed(pattern: &SeriesPattern, feed: &Feed) -> bool {
    // Which instruments it has is not known yet.
    let text = pattern.to_string();
    let rest = text.split_once('@').map_or("", |(_, rest)| rest);
    let of_any = format!("*@{rest}").parse::<SeriesPattern>();
    of_any.is_ok_and(|p| feed.series.iter().any(|kind| p.matches(&feed.series_name("X", kind))))
}

fn missing(pattern: &SeriesPattern, feeds: &[Feed]) -> Error {
    if feeds.is_empty() {
        return Error::input("The shelf knows no feed; stavel feeds --add FILE adds one.");
    }
    let names: Vec<&str> = feeds.iter().map(|feed| feed.name.as_str()).collect();
    Error::input(format!(
        "No feed has {pattern}; stavel feeds lists what {} {}.",
        names.join(", "),
        if names.len() == 1 { "has" } else { "have" }
    ))
}

fn series_plan(
    shelf: &Shelf,
    feed: &Feed,
    listed: &ListedSeries,
    step: &FetchStep,
    now: Micros,
) -> Result<SeriesPlan> {
    let clock = feed.known_clock()?.unwrap_or_else(Clock::utc);
    let known = shelf.feed_pieces(&listed.name)?;
    let shelved = Shelved::of(shelf, listed, &clock)?;
    let end = listed.last.unwrap_or(Micros::MAX).min(clock.to_wall(now));
    // Who says a span wants it looked at again.
    let is_asked_for = step.from.is_some() || step.to.is_some() || step.last.is_some();
    let span = wanted_span(listed, step, (&clock, end), &shelved, &known)?;
    let (mut queue, mut here) = (Vec::new(), 0);
    let asked = step.from.as_ref().map(|text| parse(text).map(|t| clock.to_wall(t))).transpose()?;
    let since = listed.first.filter(|first| asked.is_some_and(|asked| asked < *first));
    let until = asked.is_some_and(|asked| asked >= end).then_some(end);
    let edition = shelved.editions.first().copied().unwrap_or(0);
    for piece in pieces(span, &listed.kind) {
        let noted = known.get(&piece.label);
        if !step.again && is_here(&piece, noted, (&shelved, end, is_asked_for)) {
            here += 1;
            continue;
        }
        // What is to be brought anew is asked for whatever it was.
        let etag = noted
            .filter(|n| !step.again && n.state == PieceState::Open && shelved.has(n.edition))
            .and_then(|n| n.etag.clone());
        let (series, symbol, kind) = (listed.name.clone(), listed.symbol.clone(), listed.kind.clone());
        queue.push(QueuedPiece { series, symbol, kind, piece, etag });
    }
    Ok(SeriesPlan { listed: listed.clone(), queue, here, end, edition, since, until })
}

/// The span that is meant, on the wall of the feed.
fn wanted_span(
    listed: &ListedSeries,
    step: &FetchStep,
    (clock, end): (&Clock, Micros),
    shelved: &Shelved,
    known: &BTreeMap<String, FeedPiece>,
) -> Result<Span> {
    let wall = |text: &String| parse(text).map(|t| clock.to_wall(t));
    let from = step.from.as_ref().map(wall).transpose()?;
    let to = step.to.as_ref().map(wall).transpose()?.unwrap_or(end).min(end);
    if from.is_some_and(|from| from >= end) {
        return Ok(Span::new(end, end));
    }
    let first = || {
        listed.first.ok_or_else(|| {
            Error::arguments(format!(
                "The feed does not say since when it has {}; say --from, or --last DAYS.",
                listed.name
            ))
        })
    };
    let from = match (from, step.last) {
        (Some(from), _) => listed.first.map_or(from, |first| from.max(first)),
        (None, Some(days)) => {
            let from = (day_of(end - 1) + 1 - i64::from(days)) * DAY;
            listed.first.map_or(from, |first| from.max(first))
        }
        // What follows the rows that are here, and before them what was not finished or may have come since.
        (None, None) if step.new => match shelved.last() {
            Some(last) => {
                let may_come = |(label, piece): (&String, &FeedPiece)| {
                    let from = begins(label)?;
                    let is_due = match piece.state {
                        PieceState::Whole => false,
                        PieceState::Failed => true,
                        PieceState::Open | PieceState::Empty => piece.asked <= from + LATE,
                    };
                    is_due.then_some(from)
                };
                known.iter().filter_map(may_come).min().map_or(last, |from| from.min(last))
            }
            None => first()?,
        },
        (None, None) => first()?,
    };
    Ok(Span::new(from, to.max(from)))
}

/// The beginning of a piece by its label.
fn begins(label: &str) -> Option<Micros> {
    let padded = match label.len() {
        0..=4 => format!("{label}-01-01"),
        5..=7 => format!("{label}-01"),
        _ => label.to_owned(),
    };
    parse(&padded).ok()
}

/// True where there is nothing to fetch of a piece; `end` is that of what the feed has.
fn is_here(
    piece: &Piece,
    noted: Option<&FeedPiece>,
    (shelved, end, is_asked_for): (&Shelved, Micros, bool),
) -> bool {
    let Some(noted) = noted else { return false };
    match noted.state {
        // What was stepped back over is not here any more.
        PieceState::Whole => shelved.has(noted.edition),
        PieceState::Failed => false,
        // Where the feed has nothing since, there is no more of it.
        PieceState::Open => noted.asked >= end && !is_asked_for && shelved.has(noted.edition),
        PieceState::Empty => {
            let is_settled = noted.asked > piece.span.to + LATE;
            is_settled || !is_asked_for && end - noted.asked < DAY
        }
    }
}

/// What of a series is here.
struct Shelved {
    /// The ids of the editions that its rows come from, the newest first.
    editions: Vec<i64>,
    /// The last row, UTC or as written.
    last: Option<Micros>,
    /// The clock between the wall of the feed and the times of the rows.
    clock: Clock,
}

impl Shelved {
    fn of(shelf: &Shelf, listed: &ListedSeries, clock: &Clock) -> Result<Shelved> {
        let Some(info) = shelf.current(&listed.name)? else {
            return Ok(Shelved { editions: Vec::new(), last: None, clock: clock.clone() });
        };
        let all = shelf.editions(&listed.name)?;
        let mut editions = vec![info.edition.id];
        let mut before = info.edition.before;
        while let Some(edition) = before.and_then(|id| all.iter().find(|e| e.id == id)) {
            editions.push(edition.id);
            before = edition.before;
        }
        let clock =
            if info.is_afloat() { Clock::utc() } else { info.edition.clock.unwrap_or_else(Clock::utc) };
        Ok(Shelved { editions, last: Some(info.edition.last), clock })
    }

    /// True where rows that came with an edition are here: it was not stepped back over. Editions before the oldest that
    /// is known were tidied away, and their rows are in it.
    fn has(&self, edition: i64) -> bool {
        self.editions.contains(&edition) || self.editions.last().is_some_and(|oldest| edition < *oldest)
    }

    /// The last row, on the wall of the feed.
    fn last(&self) -> Option<Micros> {
        self.last.map(|last| self.clock.to_wall(last))
    }
}

/// The days on which a series has rows, UTC or as written.
fn days_with_rows(shelf: &Shelf, listed: &ListedSeries) -> Result<BTreeSet<i64>> {
    let Some(info) = shelf.current(&listed.name)? else { return Ok(BTreeSet::new()) };
    let segments = shelf.segments(&info.edition)?;
    Ok(segments.iter().flat_map(|file| file.days.iter().map(|(day, _)| day)).collect())
}

/// What of a piece is here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PieceSight {
    /// It is here as a whole.
    Here,
    /// It is here, and more of it may come.
    Open,
    /// Rows of it are here that came from files.
    FromFiles,
    /// The feed has nothing there.
    Empty,
    /// It is not here.
    Missing,
}

/// A series that a feed has, piece by piece.
#[derive(Debug, Clone)]
pub struct FedSeries {
    pub listed: ListedSeries,
    /// Each piece, what of it is here, and whether the next fetch asks for it. None where the feed does not say since when
    /// it has the series.
    pub pieces: Vec<(Piece, PieceSight, bool)>,
    /// The last row that is here, UTC or as written.
    pub here_last: Option<Micros>,
    /// True where what is here is as it was written: its clock is not known.
    pub is_afloat: bool,
    /// The clock of the feed; none where it is not known.
    pub clock: Option<Clock>,
}

impl FedSeries {
    /// Looks at what is here of a series.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn of(shelf: &Shelf, feed: &Feed, listed: &ListedSeries) -> Result<FedSeries> {
        let clock = feed.known_clock()?;
        let known = shelf.feed_pieces(&listed.name)?;
        let shelved = Shelved::of(shelf, listed, &clock.clone().unwrap_or_else(Clock::utc))?;
        let mut out = FedSeries {
            listed: listed.clone(),
            pieces: Vec::new(),
            here_last: shelved.last,
            is_afloat: shelf.current(&listed.name)?.is_some_and(|info| info.is_afloat()),
            clock,
        };
        let (Some(first), Some(end)) = (listed.first, listed.last) else { return Ok(out) };
        let days = days_with_rows(shelf, listed)?;
        for piece in pieces(Span::new(first, end.max(first)), &listed.kind) {
            let noted = known.get(&piece.label);
            let within = day_of(piece.span.from)..day_of(piece.span.to - 1) + 1;
            // What lies behind the last row is not here, wherever the rows before it came from.
            let has_rows =
                days.range(within).next().is_some() && shelved.last().is_some_and(|l| l >= piece.span.to);
            let is_from_files = noted.is_none() && has_rows;
            let is_due = !is_from_files && !is_here(&piece, noted, (&shelved, end, false));
            let sight = match noted {
                None if is_from_files => PieceSight::FromFiles,
                Some(noted) if noted.state == PieceState::Empty => PieceSight::Empty,
                Some(noted) if noted.state == PieceState::Failed => PieceSight::Missing,
                Some(noted) if !shelved.has(noted.edition) => PieceSight::Missing,
                Some(noted) if noted.state == PieceState::Open => PieceSight::Open,
                Some(_) => PieceSight::Here,
                None => PieceSight::Missing,
            };
            out.pieces.push((piece, sight, is_due));
        }
        Ok(out)
    }

    /// What its pieces are, in a word.
    pub fn unit(&self) -> &'static str {
        match self.listed.kind.by {
            PieceLength::Day => "days",
            PieceLength::Month => "months",
            PieceLength::Year => "years",
            PieceLength::Rows => "pieces",
        }
    }

    /// The labels of the pieces that the next fetch asks for.
    pub fn due(&self) -> Vec<&str> {
        self.pieces.iter().filter(|(_, _, is_due)| *is_due).map(|(piece, ..)| piece.label.as_str()).collect()
    }
}
