//! Carrying out a plan: read, order, merge, store.

use rayon::prelude::*;
use serde_json::json;

use super::bring::{Block, Blocks, Member};
use super::layout::Layout;
use super::merge::merge;
use super::parse::{Fault, Parsed, Parser};
use super::plan::Plan;
use super::rejects::{self, Rejected};
use super::{Stamp, Taken};
use crate::job::Job;
use crate::model::time::rfc3339;
use crate::model::{Clock, Columns, Field, Frame, Micros, Scale, Span};
use crate::store::{Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// Blocks parsed side by side.
const TOGETHER: usize = 8;
/// Blocks out of order that are described one by one.
const DISORDER_SHOWN: usize = 1000;

/// Reads the files of a plan into its series.
///
/// # Errors
/// Where a file cannot be read to its end, no row or hardly any row can be understood, or the person
/// stops it: the shelf is then as it was.
pub fn take(shelf: &mut Shelf, plan: &Plan, job: &Job) -> Result<Taken> {
    let there = shelf.current(&plan.series)?;
    let bytes: u64 = plan.files.iter().map(|(m, _)| m.bytes).sum();
    let mut scale = there.as_ref().map_or(plan.scale, |s| s.edition.scale.finer(&plan.scale));
    let mut read = loop {
        job.begin(format!("intake {}", plan.series), bytes);
        match read_all(plan, scale, job)? {
            Attempt::Read(read) => break read,
            Attempt::Finer(finer) => scale = finer,
        }
    };
    read.refuse_if_hardly_any(plan)?;
    let doubtful = anchor(&mut read.rows, plan);
    read.rows.sort();
    store(shelf, plan, there, read, doubtful)
}

/// Everything the files hold.
struct Read {
    rows: Columns,
    rejected: Vec<Rejected>,
    lines: u64,
    disorder: Vec<Disorder>,
}

/// Rows of a file whose times lie before a row above them.
#[derive(serde::Serialize)]
struct Disorder {
    file: String,
    line: u64,
    /// Times as written, microseconds.
    from: Micros,
    to: Micros,
    rows: u64,
}

enum Attempt {
    Read(Read),
    /// A number did not fit the scale; this one fits it.
    Finer(Scale),
}

fn read_all(plan: &Plan, scale: Scale, job: &Job) -> Result<Attempt> {
    let fields = plan.files[0].1.fields();
    let mut read =
        Read { rows: Columns::empty(&fields, scale), rejected: vec![], lines: 0, disorder: vec![] };
    for (member, layout) in &plan.files {
        if let Some(finer) = read_member(member, layout, scale, &mut read, job)? {
            return Ok(Attempt::Finer(finer));
        }
    }
    Ok(Attempt::Read(read))
}

/// Reads one text; gives a finer scale where a number does not fit this one.
fn read_member(
    member: &Member,
    layout: &Layout,
    scale: Scale,
    read: &mut Read,
    job: &Job,
) -> Result<Option<Scale>> {
    let parser = Parser::new(layout, scale);
    let mut line = 1u64;
    let mut latest = Micros::MIN;
    member.open(|text| {
        let mut blocks = Blocks::new(text, member);
        let mut first = true;
        loop {
            let mut batch: Vec<Block> = Vec::with_capacity(TOGETHER);
            while batch.len() < TOGETHER
                && let Some(block) = blocks.next()?
            {
                batch.push(block);
            }
            if batch.is_empty() {
                return Ok(None);
            }
            if std::mem::take(&mut first) {
                line += skip_head(&mut batch[0], layout);
            }
            let parsed: Vec<Parsed> = batch.par_iter().map(|b| parser.block(&b.text)).collect();
            for (block, parsed) in batch.iter().zip(parsed) {
                if let Some(finer) = finer_scale(&parsed, scale)? {
                    return Ok(Some(finer));
                }
                read.lines += parsed.rows.len() as u64 + parsed.rejects.len() as u64;
                note_rejects(read, member, block, &parsed, line);
                note_disorder(read, member, &parsed, line, &mut latest);
                let lines = parsed.lines;
                read.rows.append(&parsed.rows.with_fields(&read.rows.fields.clone()));
                line += lines;
                job.advance(block.text.len() as u64)?;
            }
        }
    })
}

/// Takes a byte order mark and the header off the first block; gives the lines taken off.
fn skip_head(block: &mut Block, layout: &Layout) -> u64 {
    let mark = if block.text.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
    let mut head = mark;
    let mut lines = 0;
    while layout.header && head < block.text.len() {
        let end = memchr::memchr(b'\n', &block.text[head..]).map_or(block.text.len(), |n| head + n + 1);
        let blank = block.text[head..end].trim_ascii().is_empty();
        head = end;
        lines += 1;
        if !blank {
            break;
        }
    }
    block.text.drain(..head);
    block.byte += head as u64;
    lines
}

fn finer_scale(parsed: &Parsed, scale: Scale) -> Result<Option<Scale>> {
    let mut finer = scale;
    for reject in &parsed.rejects {
        if let Fault::TooFine { field, decimals } = reject.fault {
            if decimals > crate::model::price::MAX_DECIMALS {
                continue;
            }
            let place = if field.is_price() { &mut finer.price } else { &mut finer.volume };
            *place = (*place).max(decimals);
        }
    }
    Ok((finer != scale).then_some(finer))
}

fn note_rejects(read: &mut Read, member: &Member, block: &Block, parsed: &Parsed, line: u64) {
    for r in &parsed.rejects {
        let rest = &block.text[r.byte..];
        let raw = &rest[..memchr::memchr(b'\n', rest).unwrap_or(rest.len())];
        let place = (line + r.line, block.byte + r.byte as u64);
        read.rejected.push(Rejected::new(member.place(), place.0, place.1, r.fault.words(), raw));
    }
}

fn note_disorder(read: &mut Read, member: &Member, parsed: &Parsed, line: u64, latest: &mut Micros) {
    // Lines and rows run side by side but for rejects and blank lines; near enough to find the place.
    let mut running = false;
    for (i, &t) in parsed.rows.time.iter().enumerate() {
        if t >= *latest {
            *latest = t;
            running = false;
            continue;
        }
        let room = read.disorder.len() < DISORDER_SHOWN;
        match read.disorder.last_mut() {
            Some(d) if running => {
                d.from = d.from.min(t);
                d.to = d.to.max(t);
                d.rows += 1;
            }
            _ if room => {
                let at = line + i as u64;
                read.disorder.push(Disorder { file: member.name(), line: at, from: t, to: t, rows: 1 });
            }
            _ => {}
        }
        running = true;
    }
}

impl Read {
    /// A file of which most rows are rejected is not what the layout says: none of it is taken.
    fn refuse_if_hardly_any(&self, plan: &Plan) -> Result<()> {
        let place = plan.files[0].0.place();
        match self.rejected.first() {
            _ if self.lines == 0 => {
                Err(Error::input(format!("{place} has a header but no rows; there is nothing to take in.")))
            }
            Some(first) if self.rejected.len() as u64 * 2 > self.lines => Err(Error::input(format!(
                "{} of {} rows of {place} cannot be understood; the first is line {}: {}. Nothing was taken.",
                self.rejected.len(),
                self.lines,
                first.line,
                first.reason
            ))),
            _ => Ok(()),
        }
    }
}

/// Moves written times to UTC by the plan's clock and bars stamped at their close to their open;
/// gives the number of wall times that were doubtful.
fn anchor(rows: &mut Columns, plan: &Plan) -> u64 {
    let back = match (plan.stamp, plan.series.frame) {
        (Stamp::Close, frame @ Frame::Bars { .. }) => frame.length(),
        _ => 0,
    };
    let mut doubtful = 0;
    match &plan.clock {
        Some(clock) if *clock != Clock::utc() => {
            for t in &mut rows.time {
                let wall = clock.from_wall(*t);
                doubtful += u64::from(wall.is_doubtful());
                *t = wall.settle() - back;
            }
        }
        _ if back != 0 => rows.time.iter_mut().for_each(|t| *t -= back),
        _ => {}
    }
    doubtful
}

fn store(
    shelf: &mut Shelf,
    plan: &Plan,
    there: Option<SeriesInfo>,
    read: Read,
    doubtful: u64,
) -> Result<Taken> {
    let Read { mut rows, mut rejected, lines, disorder } = read;
    let ticks = plan.series.frame.is_ticks();
    if let Some(info) = &there {
        let fields = union(&info.edition.fields, &rows.fields);
        rows = rows.with_fields(&fields);
    }
    let Some((first, last)) = rows.ends() else {
        return Err(Error::input(format!("{} has no rows to take in.", plan.files[0].0.place())));
    };
    describe_instrument(shelf, plan, rows.scale)?;
    let stem = format!(
        "{}-{}",
        plan.series.to_string().replace([':', '@'], "-"),
        shelf.editions(&plan.series)?.len() + 1
    );
    let origin = Origin {
        act: "intake",
        detail: json!({}),
        clock: plan.clock.clone(),
        fields: rows.fields.clone(),
        scale: rows.scale,
    };
    // Files of the series that the new rows do not touch are carried over unread, unless the columns change.
    let same =
        there.as_ref().is_none_or(|s| s.edition.fields == rows.fields && s.edition.scale == rows.scale);
    let old = match &there {
        Some(info) => old_rows(shelf, info, &rows, same, first, last)?,
        None => Columns::empty(&rows.fields, rows.scale),
    };
    let (old, dropped) = if plan.replace { without_span(old, first, last) } else { (old, 0) };
    let new_rows = rows.len() as u64;
    let merged = merge(&old, &rows, ticks);
    for &i in &merged.conflicts {
        let reason = "another row at this time is there, with other values".into();
        let raw =
            format!("{} {:?}", rfc3339(rows.time[i]), rows.data.iter().map(|c| c[i]).collect::<Vec<_>>());
        rejected.push(Rejected::new(plan.series.to_string(), 0, 0, reason, raw.as_bytes()));
    }
    debug_assert_eq!(merged.kept + merged.already + merged.conflicts.len() as u64, new_rows);
    let rejects = match rejected.is_empty() {
        true => None,
        false => Some(rejects::write(shelf.root(), &stem, &rejected)?.display().to_string()),
    };
    let mut taken = Taken {
        series: plan.series.to_string(),
        edition: there.as_ref().map_or(0, |s| s.edition.number),
        rows_read: lines,
        rows_kept: merged.kept,
        rows_rejected: rejected.len() as u64,
        rows_already_there: merged.already,
        first: rfc3339(first),
        last: rfc3339(last),
        clock: plan.clock.as_ref().map_or("afloat".into(), Clock::to_string),
        layout: plan.files[0].1.in_words(),
        rejects,
    };
    if merged.kept == 0 && dropped == 0 {
        return Ok(taken);
    }
    let mut draft = shelf.draft(&plan.series, origin)?;
    if same {
        draft.keep_files(|f, l| l < first || f > last)?;
    }
    draft.set_detail(json!({
        "files": plan.files.iter().map(|(m, _)| m.place()).collect::<Vec<_>>(),
        "rows_read": taken.rows_read, "rows_kept": taken.rows_kept, "rows_rejected": taken.rows_rejected,
        "rows_already_there": taken.rows_already_there, "rows_replaced": dropped, "layout": taken.layout,
        "doubtful_times": doubtful, "rejects": taken.rejects, "disorder": anchored(disorder, &plan.clock),
    }));
    draft.push(&merged.rows)?;
    taken.edition = draft.commit()?.edition.number;
    Ok(taken)
}

/// The places of disorder with their times in UTC, as the rows are stored.
fn anchored(mut disorder: Vec<Disorder>, clock: &Option<Clock>) -> Vec<Disorder> {
    if let Some(clock) = clock {
        for d in &mut disorder {
            (d.from, d.to) = (clock.from_wall(d.from).settle(), clock.from_wall(d.to).settle());
        }
    }
    disorder
}

/// A new instrument learns its decimals from its first file.
fn describe_instrument(shelf: &mut Shelf, plan: &Plan, scale: Scale) -> Result<()> {
    let name = &plan.series.instrument;
    if !shelf.instruments()?.iter().any(|i| i.name == *name) {
        let own = [("decimals".to_owned(), scale.price.to_string())].into();
        shelf.put_instrument(name, None, &own)?;
    }
    Ok(())
}

fn union(old: &[Field], new: &[Field]) -> Vec<Field> {
    Field::ALL.into_iter().filter(|f| old.contains(f) || new.contains(f)).collect()
}

/// The rows on the shelf that live in files which the new rows touch (in all files, where columns change).
fn old_rows(
    shelf: &Shelf,
    info: &SeriesInfo,
    new: &Columns,
    same: bool,
    first: Micros,
    last: Micros,
) -> Result<Columns> {
    let span = if same {
        shelf.span_of_files(&info.edition, |f, l| l >= first && f <= last)?
    } else {
        Some(Span::ALL)
    };
    let old = match span {
        Some(span) => shelf.read(&info.edition, span)?,
        None => Columns::empty(&info.edition.fields, info.edition.scale),
    };
    Ok(old.with_fields(&new.fields).rescaled(new.scale))
}

fn without_span(mut old: Columns, first: Micros, last: Micros) -> (Columns, u64) {
    let before = old.len();
    let times = old.time.clone();
    old.retain(|i| times[i] < first || times[i] > last);
    let dropped = (before - old.len()) as u64;
    (old, dropped)
}
