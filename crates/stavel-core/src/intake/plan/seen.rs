//! What there is to see of a file: its layout, its first rows, and a quick look over the rest.

use std::io::Read;

use crate::intake::Hints;
use crate::intake::blocks::{LineBlock, skip_head};
use crate::intake::bring::Member;
use crate::intake::cells;
use crate::intake::naming::{Named, read_name};
use crate::intake::parse::Parser;
use crate::intake::scan::{self, Scanned};
use crate::intake::sniff::{self, DateEvidence, Decided, Sniffed};
use crate::model::DateOrder;
use crate::model::layout::{Delimiter, Layout, Use};
use crate::model::time::wall;
use crate::model::{Columns, Field, Scale, Side};
use crate::{Advice, Error, Result, Setting};

/// Bytes looked at to understand a file.
const SAMPLE: u64 = 64 << 10;

/// A file as it was seen.
pub(in crate::intake) struct Seen {
    pub member: Member,
    pub layout: Layout,
    pub named: Named,
    pub side: Option<Side>,
    /// The order of dates, where the file decides it; else what a person is to be asked.
    pub dates: std::result::Result<Decided, DateEvidence>,
    /// Why each column is what it is.
    pub why: Vec<String>,
    /// The first bytes, up to the end of a line.
    pub sample: Vec<u8>,
    /// The rows of the sample, with times as written.
    pub rows: Columns,
    pub scanned: Scanned,
}

impl Seen {
    /// True where midnight is written as the end of its day, as only the close of a bar can be.
    pub fn has_hour_24(&self) -> bool {
        let is_24 = |(used, cell): (&Use, &[u8])| match used {
            Use::Time => cell.starts_with(b"24"),
            Use::Moment => cell.windows(6).any(|part| part == b" 24:00" || part == b"T24:00"),
            _ => false,
        };
        let layout = &self.layout;
        body_lines(layout, &self.sample)
            .any(|line| layout.columns.iter().zip(cells::of(line, layout.delimiter)).any(is_24))
    }
}

/// Looks at a file; gives it once for each side whose prices it holds.
pub(super) fn look_at(
    member: &Member,
    hints: &Hints,
    known: &[String],
    saved: &[Layout],
) -> Result<Vec<Seen>> {
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
        // Which columns a file has, a general layout leaves to the file.
        let with_columns = match layout.columns.contains(&Use::Values) {
            true => columns_under(layout, sample, &member.place(), &name, side)?,
            false => layout.clone(),
        };
        let fitted = sniff::fit(&with_columns, sample, &name);
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

/// A general layout with the columns of a file: by their names, or, where no line has any, by what stands in the
/// rows behind the time.
fn columns_under(
    layout: &Layout,
    sample: &[u8],
    place: &str,
    name: &str,
    side: Option<Side>,
) -> Result<Layout> {
    if layout.header.is_some() {
        return Ok(layout.with_columns_of(&sniff::sniff(sample, place, name, side)?.layout));
    }
    let times: Vec<Use> = layout.columns.iter().take_while(|used| used.is_time()).cloned().collect();
    if times.len() + 1 != layout.columns.len() {
        return Err(Error::arguments(format!(
            "{place} has no names of columns, and the layout{} has others beside the time: say all of them in a layout.",
            layout.name.as_ref().map_or(String::new(), |n| format!(" {n}"))
        )));
    }
    // The times are read by the layout; in their place stand times that everyone knows.
    let only_times = Layout { columns: times.clone(), ..layout.clone() };
    let parser = Parser::new(&only_times, Scale::default());
    let mark = match layout.delimiter {
        Delimiter::Mark(mark) => mark,
        Delimiter::Blanks => b' ',
    };
    let mut plain = Vec::new();
    for line in sample.split(|c| *c == b'\n') {
        let parsed = parser.block(line);
        let Some(time) = parsed.rows.time.first() else { continue };
        plain.extend(wall(*time).replace(' ', "T").bytes());
        for cell in cells::of(line.trim_ascii_end(), layout.delimiter).skip(times.len()) {
            plain.push(mark);
            plain.extend_from_slice(cell);
        }
        plain.push(b'\n');
    }
    if plain.is_empty() {
        return Err(Error::input(format!("No row of {place} can be read{}.", layout.told())));
    }
    let found = sniff::sniff(&plain, place, name, side)?.layout;
    let values = found.columns.iter().filter(|used| !used.is_time()).cloned();
    Ok(Layout { columns: times.into_iter().chain(values).collect(), ..layout.clone() })
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
            let widths = || body_lines(&fitted, sample).map(|l| cells::of(l, layout.delimiter).count());
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
    let mut block = LineBlock { text: sample.to_vec(), byte: 0 };
    skip_head(&mut block, layout);
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
pub(super) fn settle_dates(files: &mut [Seen]) -> Result<()> {
    for i in 0..files.len() {
        let Err(evidence) = &files[i].dates else { continue };
        let question = format!(
            "Day and month cannot be told apart in {}: {}. Say which: {}.",
            files[i].member.place(),
            evidence.in_words(),
            evidence.choices().join(" or ")
        );
        let advice = Advice::Choose(Setting::Dates, evidence.choices());
        let like = |s: &&Seen| {
            s.named.instrument == files[i].named.instrument && s.layout.columns == files[i].layout.columns
        };
        let sibling =
            files.iter().filter(like).find_map(|s| s.dates.as_ref().ok().map(|d| (d.order, s.member.name())));
        let (order, from) = sibling.ok_or_else(|| Error::undecided(question).advise(advice))?;
        files[i].layout.dates = order;
        files[i].dates = Ok(Decided { order, why: format!("as in {from}") });
    }
    Ok(())
}
