//! What an intake would do: which files become which series, read how.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::PathBuf;

use super::bring::{Member, members_of};
use super::decisions::ClockFrom;
use super::facts::FactsPlan;
use super::grid::frame_of;
use super::layout::{DateOrder, Layout, Use};
use super::naming::{self, Named, cleaned, read_name};
use super::parse::Parser;
use super::preview::{PreviewLine, preview};
use super::scan::{self, Scanned};
use super::sniff::{self, DateEvidence, Decided, Sniffed};
use super::{ClockHint, Hints, Stamp, decisions, later, stamp};
use crate::model::{
    Clock, Columns, Decision, Field, Frame, Micros, Scale, SeriesName, Shape, Side, columns, series, time,
};
use crate::store::Shelf;
use crate::{Error, Result};

/// Bytes looked at to understand a file.
const SAMPLE: u64 = 64 << 10;
/// The instrument of a plan whose rows name their own.
const EACH: &str = "each";

/// Files that become one series, or one series for each symbol in them.
#[derive(Debug, Clone)]
pub struct Plan {
    pub series: SeriesName,
    /// Where a column names the instrument: the symbols met so far.
    pub by_symbol: Option<Vec<String>>,
    /// The files in order of time, each with how it is read.
    pub files: Vec<(Member, Layout)>,
    /// The first and last time in each file, by its place.
    order: BTreeMap<String, (Micros, Micros)>,
    /// None for afloat.
    pub clock: Option<Clock>,
    /// Where the clock comes from.
    pub clock_from: ClockFrom,
    pub stamp: Stamp,
    /// How the stamp was found, in words; empty where nothing tells.
    pub stamp_from: String,
    /// Everything that was decided about the files, and how it is known.
    pub decisions: Vec<Decision>,
    pub replace: bool,
    pub prefer_new: bool,
    pub scale: Scale,
    /// True where the decimals of prices were said: finer prices are rounded to them.
    pub decimals_said: bool,
    pub preview: Preview,
}

/// The first file of a plan as it is and as understood.
#[derive(Debug, Clone)]
pub struct Preview {
    pub lines: Vec<PreviewLine>,
    /// The rows of the sample, with times as written.
    pub rows: Columns,
    /// Why each column is what it is.
    pub why: Vec<String>,
    /// Why the dates are read so.
    pub dates_from: String,
    /// All files together.
    pub scanned: Scanned,
}

/// What was understood of some files, and what was not.
#[derive(Debug, Clone, Default)]
pub struct Planned {
    pub plans: Vec<Plan>,
    pub facts: Vec<FactsPlan>,
    /// Files of folders and archives that are passed over, with the reason.
    pub left: Vec<(String, String)>,
}

/// Understands the files behind paths and groups them by series, in order of name.
///
/// # Errors
/// One sentence where a file cannot be understood, or leaves a question open
/// ([`Error::is_undecided`]). A file that was not named itself is passed over instead.
pub fn plan(shelf: &Shelf, paths: &[PathBuf], hints: &Hints) -> Result<Planned> {
    series::check_name("source", &hints.source)?;
    let known: Vec<String> = shelf.instruments()?.into_iter().map(|i| i.name).collect();
    let saved = shelf.layouts()?;
    let mut planned = Planned::default();
    let mut files: Vec<Seen> = Vec::new();
    for member in members_of(paths)? {
        match look_at(&member, hints, &known, &saved) {
            Ok(seen) => files.extend(seen),
            Err(e) if member.is_named || e.is_undecided() || e.is_arguments() => return Err(e),
            Err(e) => planned.left.push((member.place(), e.to_string())),
        }
    }
    if hints.instrument.is_none() {
        let open = files.iter_mut().filter(|s| !s.layout.columns.contains(&Use::Symbol));
        let mut named: Vec<_> = open.map(|s| (s.member.place(), &mut s.named)).collect();
        naming::settle(&mut named)?;
    }
    settle_dates(&mut files)?;
    for seen in files {
        match seen.layout.is_facts() {
            true => planned.facts.push(FactsPlan::of(
                seen.member,
                seen.layout,
                &hints.source,
                seen.named.instrument,
            )?),
            false => add(&mut planned.plans, shelf, seen, hints)?,
        }
    }
    if let (true, true, Some((place, why))) =
        (planned.plans.is_empty(), planned.facts.is_empty(), planned.left.first())
    {
        let more = planned.left.len() - 1;
        let others = if more == 0 { String::new() } else { format!(" The {more} others are no better.") };
        return Err(Error::input(format!("Nothing could be understood. {place}: {why}{others}")));
    }
    for plan in &mut planned.plans {
        // Monthly files are in order of time whatever their names are.
        let order = &plan.order;
        plan.files.sort_by_key(|(m, _)| order.get(&m.place()).copied().unwrap_or_default());
        find_stamp(shelf, plan, hints)?;
        let stamp = decisions::of_stamp(plan, hints);
        plan.decisions.extend(stamp);
    }
    planned.plans.sort_by(|a, b| a.series.cmp(&b.series));
    Ok(planned)
}

/// A file as it was seen.
pub(super) struct Seen {
    member: Member,
    pub layout: Layout,
    pub named: Named,
    pub side: Option<Side>,
    /// The order of dates, where the file decides it; else what a person is to be asked.
    dates: std::result::Result<Decided, DateEvidence>,
    why: Vec<String>,
    sample: Vec<u8>,
    rows: Columns,
    scanned: Scanned,
}

/// Looks at a file; gives it once for each side whose prices it holds.
fn look_at(member: &Member, hints: &Hints, known: &[String], saved: &[Layout]) -> Result<Vec<Seen>> {
    let mut sample = Vec::new();
    member
        .open()?
        .take(SAMPLE)
        .read_to_end(&mut sample)
        .map_err(|e| Error::input(format!("{} cannot be read: {e}.", member.place())))?;
    if sample.trim_ascii().is_empty() {
        return Err(Error::input(format!("{} is empty; there is nothing to take in.", member.place())));
    }
    if sample.len() as u64 == SAMPLE
        && let Some(end) = memchr::memrchr(b'\n', &sample)
    {
        sample.truncate(end + 1);
    }
    let named = read_name(member, hints, known)?;
    let first = understand(member, &sample, hints, saved, hints.side.or(named.side))?;
    if let Some(question) = &first.question {
        return Err(Error::undecided(format!("{} leaves a question open. {question}", member.place())));
    }
    let both = first.sides.len() > 1 && hints.side.is_none();
    let mut out = Vec::new();
    for side in if both { first.sides.clone() } else { vec![] } {
        let sniffed = understand(member, &sample, hints, saved, Some(side))?;
        out.push(seen_as(member, sniffed, Some(side), &named, &sample, hints)?);
    }
    if !both {
        let side = first.sides.first().copied();
        out.push(seen_as(member, first, side, &named, &sample, hints)?);
    }
    Ok(out)
}

/// The layout of a file: the one that was said, else a saved one that fits, else what is found.
fn understand(
    member: &Member,
    sample: &[u8],
    hints: &Hints,
    saved: &[Layout],
    side: Option<Side>,
) -> Result<Sniffed> {
    let name = member.name();
    if let Some(layout) = &hints.layout {
        let fitted = sniff::fit(layout, sample, &name);
        let first = sample.split(|c| *c == b'\n').next().unwrap_or_default();
        sniff::require_prices(&fitted.layout, &member.place(), first)?;
        return Ok(fitted);
    }
    let found = match saved.iter().find(|layout| fits(layout, sample, &name)) {
        Some(layout) => sniff::fit(layout, sample, &name),
        None => sniff::sniff(sample, &member.place(), &name, side)?,
    };
    match &hints.corrected {
        Some((before, corrected)) if before.is_like(&found.layout) => {
            Ok(sniff::fit(corrected, sample, &name))
        }
        _ => Ok(found),
    }
}

/// True where a saved layout is that of a file: its header is the same and it reads most of the sample, or,
/// where it has none, every line of the sample is a row.
fn fits(layout: &Layout, sample: &[u8], name: &str) -> bool {
    let fitted = sniff::fit(layout, sample, name).layout;
    let parse = || Parser::new(&fitted, scale_of(&fitted)).block(&body_of(&fitted, sample));
    match &layout.header {
        Some(header) if *header == sniff::header_under(layout, sample) => {
            let parsed = parse();
            layout.is_facts() || parsed.rows.len() > parsed.rejects.len()
        }
        Some(_) => false,
        None => {
            let parsed = parse();
            let widths =
                || body_lines(&fitted, sample).map(|l| super::cells::of(l, layout.delimiter).count());
            parsed.rejects.is_empty()
                && !parsed.rows.is_empty()
                && widths().all(|w| w == layout.columns.len())
        }
    }
}

fn scale_of(layout: &Layout) -> Scale {
    Scale { price: layout.price_decimals, volume: layout.volume_decimals }
}

/// The lines of a sample after the header.
fn body_of(layout: &Layout, sample: &[u8]) -> Vec<u8> {
    let mut block = super::blocks::Block { text: sample.to_vec(), byte: 0 };
    super::read::skip_head(&mut block, layout);
    block.text
}

fn body_lines<'a>(layout: &Layout, sample: &'a [u8]) -> impl Iterator<Item = &'a [u8]> {
    let lead = layout.skip + usize::from(layout.header.is_some());
    sample.split(|&c| c == b'\n').skip(lead).map(<[u8]>::trim_ascii_end).filter(|l| !l.is_empty())
}

fn seen_as(
    member: &Member,
    sniffed: Sniffed,
    side: Option<Side>,
    named: &Named,
    sample: &[u8],
    hints: &Hints,
) -> Result<Seen> {
    let Sniffed { mut layout, dates, why, .. } = sniffed;
    let pieces = scan::pieces(member, &layout)?;
    let said = hints.dates.map(|order| Decided { order, why: "it was said so".into() });
    let dates = match said.or(dates) {
        Some(decided) => Ok(decided),
        None => scan::order_of_dates(member, &layout, &pieces)?,
    };
    // Where nobody knows yet, either order reads the rows well enough to look at them.
    layout.dates = dates.as_ref().map_or(DateOrder::DayFirst, |decided| decided.order);
    let body = body_of(&layout, sample);
    let parsed = Parser::new(&layout, scale_of(&layout)).block(&body);
    if let (true, false, Some(first)) = (parsed.rows.is_empty(), layout.is_facts(), parsed.rejects.first()) {
        return Err(Error::input(format!(
            "No row of {}{} can be understood; the first is line {}: {}.",
            member.place(),
            layout.told(),
            first.line + 1 + (layout.skip + usize::from(layout.header.is_some())) as u64,
            first.fault.words()
        )));
    }
    let scanned = scan::scan(member, &layout, &pieces);
    let mut rows = parsed.rows;
    let mut why = why;
    // Beside a count of ticks, a traded volume of zeros only says that there is none.
    if let (Some(at), Some(_), false) = (
        layout.place_of(&Use::Field(Field::Volume)),
        layout.place_of(&Use::Field(Field::TickCount)),
        scanned.has_volume,
    ) {
        layout.columns[at] = Use::Skip;
        why[at] = "zeros only: no traded volume is told".into();
        rows = rows.with_fields(&layout.fields());
    }
    let side = side.or(named.side);
    let (member, named, sample) = (member.clone(), named.clone(), sample.to_vec());
    Ok(Seen { member, layout, named, side, dates, why, sample, rows, scanned })
}

/// A file whose own days cannot tell the order of day and month takes that of another file of its
/// instrument.
fn settle_dates(files: &mut [Seen]) -> Result<()> {
    for i in 0..files.len() {
        let Err(evidence) = &files[i].dates else { continue };
        let question = format!(
            "Day and month cannot be told apart in {}: {}. Say {}.",
            files[i].member.place(),
            evidence.in_words(),
            evidence.choices()
        );
        let like = |s: &&Seen| {
            s.named.instrument == files[i].named.instrument && s.layout.columns == files[i].layout.columns
        };
        let sibling =
            files.iter().filter(like).find_map(|s| s.dates.as_ref().ok().map(|d| (d.order, s.member.name())));
        let (order, from) = sibling.ok_or_else(|| Error::undecided(question))?;
        files[i].layout.dates = order;
        files[i].dates = Ok(Decided { order, why: format!("as in {from}") });
    }
    Ok(())
}

/// Adds a file to the plan of its series.
fn add(plans: &mut Vec<Plan>, shelf: &Shelf, seen: Seen, hints: &Hints) -> Result<()> {
    let by_symbol = seen.layout.columns.contains(&Use::Symbol) && hints.instrument.is_none();
    let name = name_for(&seen, hints, by_symbol)?;
    let price = hints.decimals.unwrap_or(seen.layout.price_decimals);
    let scale = Scale { price, volume: seen.layout.volume_decimals };
    let (place, ends) = (seen.member.place(), seen.scanned.ends.unwrap_or_default());
    let (clock, clock_from) = clock_for(shelf, &name, &seen, hints)?;
    if let Some(plan) = plans.iter_mut().find(|p| p.series == name && p.by_symbol.is_some() == by_symbol) {
        if plan.clock != clock {
            let words = |clock: &Option<Clock>| clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
            return Err(Error::undecided(format!(
                "{} and {place} would go into one series, {name}, but the times of the first are {} and those of the other {}; take them one by one and say the --clock of each.",
                plan.files[0].0.place(),
                words(&plan.clock),
                words(&clock)
            )));
        }
        if by_symbol && plan.files[0].1.spreads != seen.layout.spreads {
            return Err(Error::undecided(format!(
                "The spreads of {} are in {} and those of {place} in {}; take them one by one.",
                plan.files[0].0.place(),
                plan.files[0].1.spreads.word(),
                seen.layout.spreads.word()
            )));
        }
        plan.scale = plan.scale.finer(&scale);
        plan.preview.scanned.add(&seen.scanned);
        if let Some(symbols) = &mut plan.by_symbol {
            symbols.extend(
                seen.scanned.symbols.into_iter().filter(|s| !symbols.contains(s)).collect::<Vec<_>>(),
            );
        }
        plan.files.push((seen.member, seen.layout));
        plan.order.insert(place, ends);
        return Ok(());
    }
    let decisions = vec![
        decisions::of_clock(clock.as_ref(), clock_from),
        decisions::of_frame(&name, &seen, hints),
        decisions::of_decimals(price, hints),
    ];
    let others = [decisions::of_side(&name, &seen, hints), decisions::of_spreads(&seen)];
    plans.push(Plan {
        decisions: decisions.into_iter().chain(others.into_iter().flatten()).collect(),
        series: name,
        by_symbol: by_symbol.then(|| seen.scanned.symbols.clone()),
        preview: Preview {
            lines: preview(&seen.sample, &seen.layout, scale),
            rows: seen.rows,
            why: seen.why,
            dates_from: seen.dates.map(|d| d.why).unwrap_or_default(),
            scanned: seen.scanned,
        },
        files: vec![(seen.member, seen.layout)],
        order: [(place, ends)].into(),
        clock,
        clock_from,
        stamp: Stamp::Open,
        stamp_from: String::new(),
        replace: hints.replace,
        prefer_new: hints.prefer_new,
        scale,
        decimals_said: hints.decimals.is_some(),
    });
    Ok(())
}

fn name_for(seen: &Seen, hints: &Hints, by_symbol: bool) -> Result<SeriesName> {
    let place = seen.member.place();
    let instrument = match (&hints.instrument, by_symbol) {
        (Some(name), _) => name.clone(),
        (None, true) => EACH.to_owned(),
        (None, false) => seen.named.instrument.clone().ok_or_else(|| {
            Error::undecided(format!(
                "The instrument of {place} cannot be told from its name; say --instrument."
            ))
        })?,
    };
    series::check_name("instrument", &instrument)?;
    let shape = columns::shape_of(&seen.layout.fields());
    let frame = frame_for(seen, hints, shape)?;
    let side = match hints.side.or(seen.side) {
        Some(side @ (Side::Ask | Side::Mid)) if shape == Shape::Bars => side,
        _ => Side::Bid,
    };
    Ok(SeriesName { instrument, source: hints.source.clone(), frame, side, built: false })
}

fn frame_for(seen: &Seen, hints: &Hints, shape: Shape) -> Result<Frame> {
    let place = seen.member.place();
    let kind = match shape {
        Shape::Bars => "bars",
        Shape::Depth => "rows of the order book",
        Shape::Quotes | Shape::Trades | Shape::Layered => "ticks",
    };
    match (hints.frame.or(seen.named.frame), shape) {
        (Some(frame), Shape::Bars) if frame.is_bars() => Ok(frame),
        (Some(Frame::Ticks), Shape::Quotes | Shape::Trades) | (None, Shape::Quotes | Shape::Trades) => {
            Ok(Frame::Ticks)
        }
        (Some(Frame::Depth) | None, Shape::Depth) => Ok(Frame::Depth),
        (Some(frame), _) => Err(Error::arguments(format!("{place} holds {kind}, so it cannot be {frame}."))),
        (None, Shape::Layered) => Err(Error::input(format!("{place} holds layers, which are not taken in."))),
        (None, Shape::Bars) => frame_of(&seen.rows.time).filter(|f| f.length() > 0).ok_or_else(|| {
            Error::undecided(format!("The frame of {place} cannot be told from its times; say --frame."))
        }),
    }
}

fn clock_for(
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
            "The times for {name} name their own zones, so they are no times of {said}; leave --clock away."
        )));
    }
    let (clock, from) = match (&hints.clock, &there) {
        (Some(ClockHint::Known(clock)), _) => (Some(clock.clone()), ClockFrom::Said),
        (Some(ClockHint::Afloat), _) => (None, ClockFrom::Said),
        (None, _) if layout.says_utc => (Some(Clock::utc()), ClockFrom::File),
        (None, _) if layout.clock.is_some() => (layout.clock.clone(), ClockFrom::Layout),
        (None, Some(info)) => {
            later::may_go_on(shelf, info, seen.scanned.ends, &seen.member.place())?;
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
                    "align the series first, or take them with --clock afloat"
                } else {
                    "say their --clock"
                }
            )))
        }
        Some(info) if hints.replace => {
            later::may_replace(&info, clock.as_ref(), seen.scanned.ends)?;
            Ok((clock, from))
        }
        _ => Ok((clock, from)),
    }
}

fn find_stamp(shelf: &Shelf, plan: &mut Plan, hints: &Hints) -> Result<()> {
    if !plan.series.frame.is_bars() {
        return Ok(());
    }
    let found = match hints.stamp {
        Some(stamp) => Some((stamp, "it was said so".to_owned())),
        None => {
            let (rows, scanned) = (&plan.preview.rows, &plan.preview.scanned);
            let found = stamp::find(shelf, &plan.series, plan.clock.as_ref(), rows, scanned)?;
            match (later::known_stamp(shelf, &plan.series)?, found) {
                (Some(known), Some((found, why))) if known != found => {
                    return Err(Error::undecided(format!(
                        "Bars of {} are known to be stamped at the {}, but {} looks stamped at the {} ({why}); say --stamp.",
                        plan.series,
                        known.word(),
                        plan.files[0].0.place(),
                        found.word()
                    )));
                }
                (Some(known), _) => Some((known, "as known of the series".to_owned())),
                (None, found) => found,
            }
        }
    };
    (plan.stamp, plan.stamp_from) = found.unwrap_or_default();
    Ok(())
}

impl Plan {
    /// Bytes to read.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|(m, _)| m.bytes).sum()
    }

    /// The plan in parts whose files, in their order, follow each other in time.
    pub fn without_overlap(&self) -> Vec<Plan> {
        let mut parts: Vec<Plan> = Vec::new();
        let mut latest = Micros::MIN;
        for file in &self.files {
            let (first, last) = self.order.get(&file.0.place()).copied().unwrap_or_default();
            match parts.last_mut() {
                // Ticks of one moment may be the end of one file and the beginning of the next.
                Some(part) if first > latest || first == latest && !self.series.frame.is_bars() => {
                    part.files.push(file.clone());
                }
                _ => parts.push(Plan { files: vec![file.clone()], ..self.clone() }),
            }
            latest = latest.max(last);
        }
        parts
    }

    /// The fields of all files together, in the order columns are kept.
    pub fn fields(&self) -> Vec<Field> {
        let has = |f: &Field| self.files.iter().any(|(_, l)| l.fields().contains(f));
        Field::ALL.into_iter().filter(has).collect()
    }

    /// The series that the rows of a symbol go into.
    pub fn series_of_symbol(&self, symbol: &str) -> Result<SeriesName> {
        if self.by_symbol.is_none() {
            return Ok(self.series.clone());
        }
        let instrument = cleaned(symbol);
        series::check_name("instrument", &instrument)?;
        Ok(SeriesName { instrument, ..self.series.clone() })
    }

    /// One line for people: the series, its files, its clock.
    pub fn in_words(&self) -> String {
        let clock = self.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
        let first =
            self.preview.rows.time.first().map_or(String::new(), |&t| format!(", from {}", time::wall(t)));
        let symbols =
            self.by_symbol.as_ref().map_or(String::new(), |s| format!(" symbol ({})", s.join(", ")));
        let stamp = match (self.stamp, self.stamp_from.as_str()) {
            (_, "") => String::new(),
            (Stamp::Open, why) => format!("; stamped at the open ({why})"),
            (Stamp::Close, why) => format!("; stamped at the close ({why})"),
        };
        format!(
            "{}{symbols}: {} file{}{first}; clock {clock} ({}); {} decimals{stamp}; {}",
            self.series,
            self.files.len(),
            if self.files.len() == 1 { "" } else { "s" },
            self.clock_from.in_words(),
            self.scale.price,
            self.files[0].1.in_words()
        )
    }
}
