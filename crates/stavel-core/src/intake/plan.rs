//! What an intake would do: which files become which series, read how.

use std::io::Read;
use std::path::PathBuf;

use super::bring::{Blocks, Member, members_of};
use super::layout::{DateOrder, Layout, Use};
use super::parse::{Parser, bare};
use super::sniff::{DateEvidence, sniff};
use super::{ClockHint, Hints, Stamp};
use crate::model::time::{self, DAY};
use crate::model::{Clock, Columns, Frame, Micros, Scale, SeriesName, Shape, Side, columns, series};
use crate::store::Shelf;
use crate::{Error, Result};

/// Bytes looked at to understand a file.
const SAMPLE: u64 = 64 << 10;

/// Files that become one series.
#[derive(Debug, Clone)]
pub struct Plan {
    pub series: SeriesName,
    /// The files in order, each with how it is read.
    pub files: Vec<(Member, Layout)>,
    /// None for afloat.
    pub clock: Option<Clock>,
    /// Where the clock comes from, in words.
    pub clock_from: &'static str,
    pub stamp: Stamp,
    pub replace: bool,
    pub scale: Scale,
    pub preview: Preview,
}

/// The first lines of a file as they are and as understood.
#[derive(Debug, Clone)]
pub struct Preview {
    pub raw: Vec<String>,
    /// Times as written.
    pub rows: Columns,
}

/// Understands the files behind paths and groups them by series, in order of name.
///
/// # Errors
/// One sentence where a file cannot be understood, or leaves a question open
/// ([`Error::is_undecided`]).
pub fn plan(shelf: &Shelf, paths: &[PathBuf], hints: &Hints) -> Result<Vec<Plan>> {
    series::check_name("source", &hints.source)?;
    let mut files: Vec<(SeriesName, Member, Seen)> = Vec::new();
    for member in members_of(paths)? {
        let seen = look_at(&member, hints)?;
        let name = name_for(shelf, &member, &seen, hints)?;
        files.push((name, member, seen));
    }
    settle_dates(&mut files)?;
    let mut plans: Vec<Plan> = Vec::new();
    for (name, member, seen) in files {
        let price = hints.decimals.unwrap_or(seen.layout.price_decimals);
        let scale = Scale { price, volume: seen.layout.volume_decimals };
        match plans.iter_mut().find(|p| p.series == name) {
            Some(plan) => {
                plan.scale = plan.scale.finer(&scale);
                plan.files.push((member, seen.layout));
            }
            None => {
                let (clock, clock_from) = clock_for(shelf, &name, &seen.layout, hints)?;
                let preview = Preview { raw: seen.raw, rows: rows_of(&seen.layout, &seen.body) };
                plans.push(Plan {
                    series: name,
                    files: vec![(member, seen.layout)],
                    clock,
                    clock_from,
                    stamp: hints.stamp,
                    replace: hints.replace,
                    scale,
                    preview,
                });
            }
        }
    }
    Ok(plans)
}

/// A file whose own days cannot tell the order of day and month takes that of another file of its series.
fn settle_dates(files: &mut [(SeriesName, Member, Seen)]) -> Result<()> {
    for i in 0..files.len() {
        let (name, member, seen) = &files[i];
        if seen.dates.is_some() {
            continue;
        }
        let sibling =
            files.iter().find(|(n, _, s)| n == name && s.dates.is_some()).and_then(|(_, _, s)| s.dates);
        let order = sibling.ok_or_else(|| {
            Error::undecided(format!(
                "{} has no day above 12, so day and month cannot be told apart; say --dates day-first or --dates month-first.",
                member.place()
            ))
        })?;
        files[i].2.layout.dates = order;
    }
    Ok(())
}

/// What the first part of a file says.
struct Seen {
    layout: Layout,
    /// The order of dates, where the file decides it.
    dates: Option<DateOrder>,
    raw: Vec<String>,
    /// The lines of the sample after the header.
    body: Vec<u8>,
}

fn look_at(member: &Member, hints: &Hints) -> Result<Seen> {
    let mut sample = Vec::new();
    member.open(|text| {
        text.take(SAMPLE)
            .read_to_end(&mut sample)
            .map_err(|e| Error::input(format!("{} cannot be read: {e}; fetch it again.", member.place())))
    })?;
    if sample.is_empty() {
        return Err(Error::input(format!("{} is empty; there is nothing to take in.", member.place())));
    }
    if sample.len() as u64 == SAMPLE
        && let Some(end) = memchr::memrchr(b'\n', &sample)
    {
        sample.truncate(end + 1);
    }
    let (mut layout, order) = sniff(&sample, &member.place())?;
    let dates = match hints.dates.or(order) {
        Some(order) => Some(order),
        None => order_from_whole_file(member, &layout)?,
    };
    layout.dates = dates.unwrap_or(layout.dates);
    let lines: Vec<&[u8]> = sample.split_inclusive(|&c| c == b'\n').collect();
    let body = lines[usize::from(layout.header).min(lines.len())..].concat();
    refuse_without_rows(member, &layout, &body)?;
    let raw = lines
        .iter()
        .take(20)
        .map(|l| crate::error::printable(String::from_utf8_lossy(l).trim_end()))
        .collect();
    Ok(Seen { layout, dates, raw, body })
}

/// A sample in which not one line is a row is told with what is wrong with the first.
fn refuse_without_rows(member: &Member, layout: &Layout, body: &[u8]) -> Result<()> {
    let scale = Scale { price: layout.price_decimals, volume: layout.volume_decimals };
    let parsed = Parser::new(layout, scale).block(body);
    match parsed.rejects.first() {
        Some(first) if parsed.rows.is_empty() => Err(Error::input(format!(
            "No row of {} can be understood; the first is line {}: {}.",
            member.place(),
            first.line + 1 + u64::from(layout.header),
            first.fault.words()
        ))),
        _ => Ok(()),
    }
}

/// The rows of a sample.
fn rows_of(layout: &Layout, body: &[u8]) -> Columns {
    let scale = Scale { price: layout.price_decimals, volume: layout.volume_decimals };
    Parser::new(layout, scale).block(body).rows
}

/// Reads the dates of a whole file until they decide between day-first and month-first, if they do.
fn order_from_whole_file(member: &Member, layout: &Layout) -> Result<Option<DateOrder>> {
    let column = layout.columns.iter().position(|u| matches!(u, Use::Moment | Use::Date)).unwrap_or(0);
    let mut evidence = DateEvidence::default();
    member.open(|text| {
        let mut blocks = Blocks::new(text, member);
        while let Some(block) = blocks.next()? {
            for line in block.text.split(|&c| c == b'\n') {
                if let Some(cell) = line.split(|&c| c == layout.delimiter).nth(column) {
                    evidence.see(bare(cell));
                }
            }
            if evidence.order().is_some() {
                break;
            }
        }
        Ok(())
    })?;
    Ok(evidence.order())
}

fn name_for(shelf: &Shelf, member: &Member, seen: &Seen, hints: &Hints) -> Result<SeriesName> {
    let instrument = match &hints.instrument {
        Some(name) => name.clone(),
        None => instrument_in_name(shelf, &member.name())?,
    };
    series::check_name("instrument", &instrument)?;
    let bars = columns::shape_of(&seen.layout.fields()) == Shape::Bars;
    let frame = match hints.frame {
        Some(frame) if frame.is_ticks() == bars => {
            let kind = if bars { "bars" } else { "ticks" };
            return Err(Error::arguments(format!(
                "{} holds {kind}, so it cannot be {frame}.",
                member.place()
            )));
        }
        Some(frame) => frame,
        None if !bars => Frame::Ticks,
        None => usual_step(&rows_of(&seen.layout, &seen.body).time).and_then(Frame::of_length).ok_or_else(
            || {
                Error::undecided(format!(
                    "The frame of {} cannot be told from its times; say --frame.",
                    member.place()
                ))
            },
        )?,
    };
    let side = match hints.side {
        Some(side @ (Side::Ask | Side::Mid)) if bars => side,
        _ => Side::Bid,
    };
    Ok(SeriesName { instrument, source: hints.source.clone(), frame, side })
}

/// The part of a file's name that names an instrument on the shelf, else its first part.
fn instrument_in_name(shelf: &Shelf, name: &str) -> Result<String> {
    let stem = name.split_once(".csv").or_else(|| name.split_once(".txt")).map_or(name, |(s, _)| s);
    let known = shelf.instruments()?;
    let parts: Vec<&str> = stem.split(['_', ' ']).filter(|p| !p.is_empty()).collect();
    let found = parts.iter().find(|p| known.iter().any(|i| i.name == **p)).or(parts.first());
    found.map(|p| (*p).to_owned()).ok_or_else(|| {
        Error::undecided(format!("The instrument of {name} cannot be told from its name; say --instrument."))
    })
}

/// The step between neighbouring times that is seen most often.
fn usual_step(times: &[Micros]) -> Option<Micros> {
    let mut steps: Vec<Micros> = times.windows(2).map(|w| w[1] - w[0]).filter(|&s| s > 0).collect();
    steps.sort_unstable();
    let most = steps.chunk_by(|a, b| a == b).max_by_key(|run| run.len())?;
    // Days apart is daily even over weekends, whatever the sample begins with.
    if most[0] > DAY && steps.contains(&DAY) { Some(DAY) } else { Some(most[0]) }
}

fn clock_for(
    shelf: &Shelf,
    name: &SeriesName,
    layout: &Layout,
    hints: &Hints,
) -> Result<(Option<Clock>, &'static str)> {
    let there = shelf.current(name)?;
    let (clock, from) = match (&hints.clock, &there) {
        (Some(ClockHint::Known(clock)), _) => (Some(clock.clone()), "as said"),
        (Some(ClockHint::Afloat), _) => (None, "as said"),
        (None, _) if layout.says_utc => (Some(Clock::utc()), "the file says so"),
        (None, Some(info)) => (info.edition.clock.clone(), "as the series has it"),
        (None, None) => (None, "the file names no zone"),
    };
    match there {
        Some(info) if info.is_afloat() != clock.is_none() && !hints.replace => {
            Err(Error::arguments(format!(
                "{name} is {} and these rows would be {}; {}.",
                if info.is_afloat() { "afloat" } else { "anchored" },
                if clock.is_none() { "afloat" } else { "in UTC" },
                if info.is_afloat() {
                    "align the series first, or take them with --clock afloat"
                } else {
                    "say their --clock"
                }
            )))
        }
        _ => Ok((clock, from)),
    }
}

impl Plan {
    /// One line for people: the series, its files, its clock.
    pub fn in_words(&self) -> String {
        let clock = self.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
        let first =
            self.preview.rows.time.first().map_or(String::new(), |&t| format!(", from {}", time::wall(t)));
        format!(
            "{}: {} file{}{first}; clock {clock} ({}); {} decimals; {}",
            self.series,
            self.files.len(),
            if self.files.len() == 1 { "" } else { "s" },
            self.clock_from,
            self.scale.price,
            self.files[0].1.in_words()
        )
    }
}
